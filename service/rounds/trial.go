package rounds

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"vergekeep/archive"
	"vergekeep/core/dialect"
	"vergekeep/core/reason"
	"vergekeep/service/fleet"
	"vergekeep/service/vault"
)

// Trial is what became of a visit with a dialect that is being written.
type Trial struct {
	Steps     []Step // what was sent and seen, without secrets
	Nameplate dialect.Nameplate
	Captures  []Tried
	Recording string // what was said, concealed, as the file of a recording; "" unless asked for
	Took      time.Duration
	Err       *reason.Error // why it failed
}

// Tried is one configuration that a trial brought.
type Tried struct {
	Datastore, Part            string
	Lines, Sections            int
	SecretLines, VolatileLines int
}

// Try visits a device with the text of a dialect and archives nothing.
func (s *Service) Try(ctx context.Context, d fleet.Device, text string, record bool) (Trial, error) {
	var t Trial
	dl, err := dialect.Parse("the dialect", text)
	if err != nil {
		return t, fmt.Errorf("%w: %w", fleet.ErrInvalid, err)
	}
	dl = patient(dl.For(d.Nameplate), &d)
	keys := keysOf(&d)
	if !s.limits.take(keys) {
		return t, reason.New(reason.AlreadyVisited, "It is being visited at this moment.")
	}
	defer s.limits.give(keys)
	ctx, story := listen(ctx)
	story.tape = record
	var b brought
	var texts map[archive.Key]dialect.View
	d.Platform = dl.Name
	_, err = s.withCredential(ctx, &d, nil, func(c vault.Credential) (err error) {
		texts, err = s.capture(ctx, d, dl, c, &b)
		return err
	})
	t.Took, t.Nameplate, t.Steps = time.Since(story.begun), b.plate, story.told()
	if story.recording != nil {
		t.Recording = story.recording.String()
	}
	if err != nil && !errors.As(err, &t.Err) {
		return t, err
	}
	for key, view := range texts {
		tried := Tried{Datastore: key.Datastore, Part: key.Part, Lines: view.Tree.Lines(), Sections: len(view.Tree.Children), SecretLines: len(view.Secret)}
		for _, f := range view.Forms {
			if f.Volatile {
				tried.VolatileLines++
			}
		}
		t.Captures = append(t.Captures, tried)
	}
	return t, nil
}

// Name is the configuration as people write it.
func (t Tried) Name() string { return strings.TrimSuffix(t.Datastore+"/"+t.Part, "/") }
