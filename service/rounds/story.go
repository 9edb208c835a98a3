package rounds

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"vergekeep/core/dialect"
	"vergekeep/wire/conversation"
)

// Step is one step of a visit, without secrets.
type Step struct {
	After time.Duration // since the visit began
	What  string
}

// Story is what is known of a visit that has ended.
type Story struct {
	Visit
	Steps     []Step   // of a visit that failed, or of a round that records
	LastLines []string // what the device said last, concealed
	Session   bool     // all that was said is kept, for whoever may see secrets
}

const (
	maxSteps  = 2000 // that a visit may tell
	lastLines = 8    // that a story shows of a session
)

// teller hears the steps of one visit.
type teller struct {
	begun time.Time
	tape  bool // a recording is wanted

	mu        sync.Mutex
	heard     []heard
	recording *conversation.Recording
}

// heard is a step that is put into words only where somebody wants to read it:
// most visits go well and are never told.
type heard struct {
	after  time.Duration
	format string
	args   []any
}

type telling struct{}

// listen makes a context whose visit tells its steps.
func listen(ctx context.Context) (context.Context, *teller) {
	t := &teller{begun: time.Now(), heard: make([]heard, 0, 32)}
	return context.WithValue(ctx, telling{}, t), t
}

func tellerOf(ctx context.Context) *teller {
	t, _ := ctx.Value(telling{}).(*teller)
	return t
}

// tell adds a step; it may be called on nil. What args hold must not change.
func (t *teller) tell(format string, args ...any) {
	if t == nil {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.heard) < maxSteps {
		t.heard = append(t.heard, heard{time.Since(t.begun), format, args})
	}
}

// told is the steps so far.
func (t *teller) told() []Step {
	t.mu.Lock()
	defer t.mu.Unlock()
	steps := make([]Step, len(t.heard))
	for i, h := range t.heard {
		steps[i] = Step{h.after, fmt.Sprintf(h.format, h.args...)}
	}
	return steps
}

// encodeSteps is how steps are kept: pairs of milliseconds and words.
func encodeSteps(steps []Step) (string, error) {
	if len(steps) == 0 {
		return "", nil
	}
	list := make([][2]any, len(steps))
	for i, s := range steps {
		list[i] = [2]any{s.After.Milliseconds(), s.What}
	}
	text, err := json.Marshal(list)
	return string(text), err
}

func decodeSteps(text string) ([]Step, error) {
	if text == "" {
		return nil, nil
	}
	var list []json.RawMessage
	if err := json.Unmarshal([]byte(text), &list); err != nil {
		return nil, err
	}
	steps := make([]Step, len(list))
	for i, raw := range list {
		var ms int64
		if err := json.Unmarshal(raw, &[2]any{&ms, &steps[i].What}); err != nil {
			return nil, err
		}
		steps[i].After = time.Duration(ms) * time.Millisecond
	}
	return steps, nil
}

// Story tells a visit step by step.
func (s *Service) Story(ctx context.Context, round, device int64) (Story, error) {
	var st Story
	list, err := s.visits(ctx, round, device)
	if err != nil {
		return st, err
	}
	if len(list) == 0 {
		return st, fmt.Errorf("%w: round %d has not visited this device", ErrUnknown, round)
	}
	st.Visit = list[0]
	var story string
	err = s.db.QueryRow(ctx, `SELECT story, session IS NOT NULL FROM visit_notes WHERE round_id = ? AND device_id = ?`, round, device).Scan(&story, &st.Session)
	if errors.Is(err, sql.ErrNoRows) {
		return st, nil
	}
	if err != nil {
		return st, err
	}
	if st.Steps, err = decodeSteps(story); err != nil {
		return st, fmt.Errorf("the steps of a visit: %w", err)
	}
	if st.Session {
		session, err := s.Session(ctx, round, device)
		if err != nil {
			return st, err
		}
		st.LastLines, err = s.concealed(ctx, st.Platform, session)
		if err != nil {
			return st, err
		}
	}
	return st, nil
}

// concealed is the last lines of a session without anything that may be secret,
// the service's own credentials first of all.
func (s *Service) concealed(ctx context.Context, platform, session string) ([]string, error) {
	dl, known := s.dialects[platform]
	if !known {
		return nil, nil
	}
	list, err := s.credentials(ctx)
	if err != nil {
		return nil, err
	}
	var secrets []string
	for _, c := range list {
		resolved, err := s.vault.Resolve(ctx, c.Credential)
		if err != nil {
			return nil, nil // not knowing a secret, it could not be hidden
		}
		secrets = append(secrets, resolved.Password, resolved.Elevation, resolved.Token, resolved.Passphrase)
	}
	text := strings.TrimRight(dl.Conceal(dialect.Hider(secrets...).Replace(session)), " \n")
	if text == "" {
		return nil, nil
	}
	lines := strings.Split(text, "\n")
	return lines[max(0, len(lines)-lastLines):], nil
}

// DeviceVisits is the newest visits to a device, newest first, as far as the
// last rounds go.
func (s *Service) DeviceVisits(ctx context.Context, device int64, limit int) ([]RoundVisit, error) {
	rounds, err := s.query(ctx, `ORDER BY id DESC LIMIT 40`)
	if err != nil {
		return nil, err
	}
	var list []RoundVisit
	for _, r := range rounds {
		visits, err := s.visits(ctx, r.ID, device)
		if err != nil {
			return nil, err
		}
		for _, v := range visits {
			list = append(list, RoundVisit{r.ID, v})
		}
		if len(list) >= limit {
			break
		}
	}
	return list, nil
}

// RoundVisit is a visit with the round that it belongs to.
type RoundVisit struct {
	Round int64
	Visit
}
