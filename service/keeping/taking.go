package keeping

import (
	"context"
	"errors"
	"fmt"
	"time"

	"vergekeep/archive"
	"vergekeep/core/diff"
	"vergekeep/service/journal"
	"vergekeep/store"
)

// ErrText is wrapped where a text cannot be taken into the archive.
var ErrText = errors.New("it cannot be taken in")

// Old is a configuration that somebody kept elsewhere.
type Old struct {
	Device, Datastore, Part string
	At                      time.Time // when it was in force
	Author                  string
	Text                    string
	DryRun                  bool
}

// Fate is what became of an old configuration.
type Fate string

// The fates.
const (
	Added Fate = "added"
	There Fate = "there" // it had been taken in before
	Same  Fate = "same"  // it is what was in force then anyway
)

// maxOld is how large an old configuration may be.
const maxOld = 64 << 20

// Take takes an old configuration into the archive as an imported revision. It
// is numbered and chained as it arrives; its time says when it was in force.
// Whoever takes the same one again adds nothing.
func (s *Service) Take(ctx context.Context, o Old, by string) (Fate, archive.Revision, error) {
	none := archive.Revision{}
	bad := func(format string, args ...any) (Fate, archive.Revision, error) {
		return "", none, fmt.Errorf("%w: %s", ErrText, fmt.Sprintf(format, args...))
	}
	d, err := s.fleet.Get(ctx, o.Device)
	if err != nil {
		return "", none, err
	}
	now := s.now()
	switch {
	case o.At.IsZero():
		return bad("it has no time")
	case o.At.After(now):
		return bad("%s is in the future", o.At.Format(time.RFC3339))
	case len(o.Text) > maxOld:
		return bad("it is larger than %d MiB", maxOld>>20)
	case len(o.Author) > 200:
		return bad("its author's name is longer than 200 bytes")
	}
	dl, err := s.fleet.Dialect(ctx, &d)
	if err != nil {
		return "", none, err
	}
	if dl == nil {
		return bad("the dialect %s of %s is not loaded", d.Platform, d.Name)
	}
	text := dl.CleanText(o.Text)
	if err := dl.CheckComplete(dl.Tree(text)); err != nil {
		return "", none, fmt.Errorf("%w: it is no whole %s configuration: %w", ErrText, dl.Name, err)
	}
	if o.Datastore == "" {
		o.Datastore = "running"
	}
	key := archive.Key{Device: d.ID, Datastore: o.Datastore, Part: o.Part}
	at := o.At.UTC().Truncate(time.Microsecond)
	list, err := s.archive.List(ctx, key)
	if err != nil {
		return "", none, err
	}
	var before *archive.Revision // the one in force at that time
	for i, r := range list {
		if r.Origin == archive.Imported && r.FirstSeen.Equal(at) {
			return There, r, nil
		}
		if before == nil && r.Origin != archive.Drafted && !r.FirstSeen.After(at) {
			before = &list[i]
		}
	}
	view := dl.View(text)
	p, err := s.archive.Prepare(ctx, archive.Capture{
		Key: key, Text: text, Form: view.ComparisonForm(), Dialect: dl.Name + " " + dl.Version, Origin: archive.Imported, Author: o.Author, At: at, Arrived: now, Before: before,
		Compare: func(before string) (diff.Stats, bool) { return view.Compare(dl.View(before)) },
	})
	if err != nil {
		return "", none, err
	}
	fate := Added
	if !p.Changed() {
		fate = Same
	}
	for _, r := range list {
		// Times that were kept elsewhere are often of whole seconds.
		if p.Is(&r) && r.FirstSeen.Truncate(time.Second).Equal(at.Truncate(time.Second)) {
			return Same, r, nil
		}
	}
	if o.DryRun {
		return fate, none, nil
	}
	var r archive.Revision
	err = s.db.Write(ctx, func(tx *store.Tx) (err error) {
		if r, _, err = s.archive.Record(tx, p); err != nil || fate == Same {
			return err
		}
		return journal.Append(tx, journal.Entry{At: now, Account: by, Action: "revision import", Object: d.Name, Detail: fmt.Sprintf("@%d, in force since %s", r.Number, at.Format(time.RFC3339))})
	})
	s.archive.Touched(d.ID)
	return fate, r, err
}
