package vault

import (
	"context"
	"sync"
	"time"

	"vergekeep/core/reason"
	"vergekeep/store"
)

// Nobody gets locked out: a credential that has not been proven is tried on one
// device at a time; after a few refusals in a row it rests, longer each time;
// and it logs in no more often than it may.
const (
	maxRefusals = 3
	firstRest   = 15 * time.Minute
	longestRest = 24 * time.Hour
)

// Verdict is what a device made of a credential.
type Verdict int

// The verdicts.
const (
	Unjudged Verdict = iota // the device could not say, or was not asked
	Accepted
	Refused
)

type guard struct {
	vault *Vault
	mu    sync.Mutex
	known map[int64]*watch
}

// watch is what is known of one credential since the service started.
type watch struct {
	trial  chan struct{} // held by whoever tries an unproven credential
	proven bool
	loaded bool

	refusals int
	rests    time.Time
	logins   window
	commands window
}

func (g *guard) forget(id int64) {
	g.mu.Lock()
	defer g.mu.Unlock()
	delete(g.known, id)
}

// of is the watch of a credential. The lock is held.
func (g *guard) of(c Credential) *watch {
	if g.known == nil {
		g.known = map[int64]*watch{}
	}
	w := g.known[c.ID]
	if w == nil {
		w = &watch{trial: make(chan struct{}, 1)}
		g.known[c.ID] = w
	}
	if !w.loaded {
		w.loaded, w.proven, w.refusals, w.rests = true, !c.Proven.IsZero(), c.Refusals, c.RestsUntil
	}
	return w
}

// Use waits until the credential may be tried, and returns what to call with
// the verdict. Its error carries a reason.
func (v *Vault) Use(ctx context.Context, c Credential, now func() time.Time) (func(Verdict), error) {
	g := &v.guard
	g.mu.Lock()
	w := g.of(c)
	g.mu.Unlock()
	holds := false
	for {
		g.mu.Lock()
		if at := now(); at.Before(w.rests) {
			until := w.rests
			g.mu.Unlock()
			if holds {
				<-w.trial
			}
			return nil, reason.New(reason.CredentialRests, "The credential %s was refused %d times in a row and rests until %s.", c.Name, maxRefusals, until.UTC().Format("15:04 MST"))
		}
		proven := w.proven
		if proven && holds { // somebody else proved it: no need to be alone
			<-w.trial
			holds = false
		}
		wait := w.logins.wait(c.PerMinute, now())
		if (proven || holds) && wait <= 0 {
			if c.PerMinute > 0 {
				w.logins = append(w.logins, now())
			}
			g.mu.Unlock()
			break
		}
		g.mu.Unlock()
		switch {
		case !proven && !holds:
			select {
			case w.trial <- struct{}{}:
				holds = true
			case <-ctx.Done():
				return nil, cancelled(ctx)
			}
		default:
			select {
			case <-time.After(wait):
			case <-ctx.Done():
				if holds {
					<-w.trial
				}
				return nil, cancelled(ctx)
			}
		}
	}
	var once sync.Once
	return func(verdict Verdict) {
		once.Do(func() {
			v.judge(c, w, verdict, now())
			if holds {
				<-w.trial
			}
		})
	}, nil
}

func cancelled(ctx context.Context) error {
	if given, ok := context.Cause(ctx).(*reason.Error); ok {
		return given
	}
	return reason.New(reason.Cancelled, "The visit was cancelled.")
}

// window is what happened in the last minute, where there is a limit.
type window []time.Time

// wait is how long the next has to wait for its turn.
func (w *window) wait(perMinute int, now time.Time) time.Duration {
	if perMinute == 0 {
		return 0
	}
	for len(*w) > 0 && now.Sub((*w)[0]) >= time.Minute {
		*w = (*w)[1:]
	}
	if len(*w) < perMinute {
		return 0
	}
	return max(time.Minute-now.Sub((*w)[0]), time.Millisecond)
}

// Pace waits until a command may be sent with the credential.
func (v *Vault) Pace(ctx context.Context, c Credential, now func() time.Time) error {
	if c.CommandsPerMinute == 0 {
		return nil
	}
	for {
		v.guard.mu.Lock()
		w := v.guard.of(c)
		wait := w.commands.wait(c.CommandsPerMinute, now())
		if wait <= 0 {
			w.commands = append(w.commands, now())
		}
		v.guard.mu.Unlock()
		if wait <= 0 {
			return nil
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return cancelled(ctx)
		}
	}
}

func (v *Vault) judge(c Credential, w *watch, verdict Verdict, now time.Time) {
	g := &v.guard
	g.mu.Lock()
	changed := false
	switch verdict {
	case Accepted:
		changed = !w.proven || w.refusals > 0
		w.proven, w.refusals = true, 0
	case Refused:
		changed = true
		if w.refusals++; w.refusals%maxRefusals == 0 {
			rest := min(firstRest<<min(w.refusals/maxRefusals-1, 10), longestRest)
			w.rests = now.Add(rest)
		}
	}
	refusals, rests := w.refusals, w.rests
	g.mu.Unlock()
	if !changed || c.ID <= 0 { // one that is not stored has nothing to remember
		return
	}
	// Remembered across restarts; a failure to write it shows at the next visit.
	_ = v.db.WriteSoon(context.Background(), func(tx *store.Tx) error {
		if verdict == Accepted {
			_, err := tx.Exec(`UPDATE credentials SET refusals = 0, rests_until = 0, proven_at = ? WHERE id = ?`, store.Stamp(now), c.ID)
			return err
		}
		_, err := tx.Exec(`UPDATE credentials SET refusals = ?, rests_until = ? WHERE id = ?`, refusals, store.Stamp(rests), c.ID)
		return err
	})
}
