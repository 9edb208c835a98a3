// Package keeping decides how long the archive keeps what, and proves to others
// that it kept it.
package keeping

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"vergekeep/archive"
	"vergekeep/core/proof"
	"vergekeep/core/ref"
	"vergekeep/core/selector"
	"vergekeep/service/fleet"
	"vergekeep/service/journal"
	"vergekeep/store"
)

// ErrHold is wrapped where a hold makes no sense.
var ErrHold = errors.New("it cannot be held like this")

// ErrNone says that there is no hold of a name.
var ErrNone = errors.New("there is no hold of that name")

// Hold keeps everything of some devices, whatever the policy says.
type Hold struct {
	Name, Selector, Reason, Account string
	At                              time.Time
	Devices                         int // that it picks now
}

// Service keeps.
type Service struct {
	db      *store.DB
	archive *archive.Archive
	fleet   *fleet.Fleet
	log     *slog.Logger
	now     func() time.Time

	// Pointed is the revisions that something still points at, by configuration and
	// number. It is set before use, or nil.
	Pointed func(context.Context) (map[[2]int64]bool, error)
}

// New makes a Service.
func New(db *store.DB, a *archive.Archive, f *fleet.Fleet, log *slog.Logger, now func() time.Time) *Service {
	return &Service{db: db, archive: a, fleet: f, log: log, now: now}
}

// SetPolicy puts a policy in force.
func (s *Service) SetPolicy(ctx context.Context, p archive.Policy, by string) error {
	p.Account, p.Changed = by, s.now()
	return s.db.Write(ctx, func(tx *store.Tx) error {
		if err := s.archive.SetPolicy(tx, p); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: s.now(), Account: by, Action: "retention set", Object: "archive", Detail: Said(p)})
	})
}

// Said is a policy in words.
func Said(p archive.Policy) string {
	days := func(d time.Duration) string { return fmt.Sprintf("%d days", int(d/(24*time.Hour))) }
	switch {
	case p.All == 0:
		return "everything is kept"
	case p.Daily == 0:
		return fmt.Sprintf("everything for %s, then one a month", days(p.All))
	}
	return fmt.Sprintf("everything for %s, one a day for %s, then one a month", days(p.All), days(p.Daily))
}

// Surplus is what the policy in force, or another one to try, lets go now.
func (s *Service) Surplus(ctx context.Context, try *archive.Policy) ([]archive.Revision, error) {
	p, err := s.archive.Policy(ctx)
	if err != nil {
		return nil, err
	}
	if try != nil {
		p = *try
	}
	held, err := s.held(ctx)
	if err != nil {
		return nil, err
	}
	var pointed map[[2]int64]bool
	if s.Pointed != nil {
		if pointed, err = s.Pointed(ctx); err != nil {
			return nil, err
		}
	}
	return s.archive.Surplus(ctx, p, held, pointed, s.now())
}

// Thin lets go what the policy in force says.
func (s *Service) Thin(ctx context.Context, by string) (revisions int, freed int64, err error) {
	list, err := s.Surplus(ctx, nil)
	if err != nil || len(list) == 0 {
		return 0, 0, err
	}
	freed, err = s.archive.Thin(ctx, list)
	for _, r := range list {
		s.archive.Touched(r.Device)
	}
	return len(list), freed, errors.Join(err, s.db.Write(ctx, func(tx *store.Tx) error {
		return journal.Append(tx, journal.Entry{At: s.now(), Account: by, Action: "archive thin", Object: "archive", Detail: fmt.Sprintf("%d revisions, %d bytes", len(list), freed)})
	}))
}

// Run thins once a day until ctx ends.
func (s *Service) Run(ctx context.Context) {
	tick := time.NewTicker(24 * time.Hour)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if n, freed, err := s.Thin(ctx, journal.System); err != nil {
				s.log.Error("thinning the archive", "error", err)
			} else if n > 0 {
				s.log.Info("archive thinned", "revisions", n, "bytes", freed)
			}
		}
	}
}

// Holds are all of them.
func (s *Service) Holds(ctx context.Context) ([]Hold, error) {
	rows, err := s.db.Query(ctx, `SELECT name, selector, reason, account, at FROM holds ORDER BY name`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Hold
	for rows.Next() {
		var h Hold
		var at int64
		if err := rows.Scan(&h.Name, &h.Selector, &h.Reason, &h.Account, &at); err != nil {
			return nil, err
		}
		h.At = store.Time(at)
		list = append(list, h)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	for i := range list {
		picked, err := s.picked(ctx, list[i].Selector)
		if err != nil {
			return nil, fmt.Errorf("the hold %s: %w", list[i].Name, err)
		}
		list[i].Devices = len(picked)
	}
	return list, nil
}

func (s *Service) picked(ctx context.Context, expression string) (map[int64]string, error) {
	sel, err := selector.Parse(expression)
	if err != nil {
		return nil, err
	}
	return s.fleet.Names(ctx, sel)
}

// held is the devices of all holds.
func (s *Service) held(ctx context.Context) (map[int64]bool, error) {
	holds, err := s.Holds(ctx)
	if err != nil {
		return nil, err
	}
	held := map[int64]bool{}
	for _, h := range holds {
		picked, err := s.picked(ctx, h.Selector)
		if err != nil {
			return nil, err
		}
		for id := range picked {
			held[id] = true
		}
	}
	return held, nil
}

// SetHold makes or changes a hold.
func (s *Service) SetHold(ctx context.Context, h Hold) error {
	if err := ref.CheckName(h.Name); err != nil {
		return fmt.Errorf("%w: the name %w", ErrHold, err)
	}
	if h.Reason == "" || len(h.Reason) > 1000 {
		return fmt.Errorf("%w: it needs a reason of at most 1000 bytes, for whoever wants to lift it one day", ErrHold)
	}
	if err := selector.CheckLasting(h.Selector); err != nil {
		return err
	}
	return s.db.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`INSERT INTO holds (name, selector, reason, account, at) VALUES (?, ?, ?, ?, ?)
			ON CONFLICT (name) DO UPDATE SET selector = excluded.selector, reason = excluded.reason, account = excluded.account, at = excluded.at`,
			h.Name, h.Selector, h.Reason, h.Account, store.Stamp(s.now())); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: s.now(), Account: h.Account, Action: "hold set", Object: h.Name, Detail: h.Selector + ": " + h.Reason})
	})
}

// DeleteHold lifts a hold.
func (s *Service) DeleteHold(ctx context.Context, name, by string) error {
	return s.db.Write(ctx, func(tx *store.Tx) error {
		res, err := tx.Exec(`DELETE FROM holds WHERE name = ?`, name)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, fmt.Errorf("%w: %q", ErrNone, name))
		}
		return journal.Append(tx, journal.Entry{At: s.now(), Account: by, Action: "hold lift", Object: name})
	})
}

// Heads are the ends of all chains, for signing.
func (s *Service) Heads(ctx context.Context) (proof.Heads, error) {
	names, err := s.picked(ctx, "")
	if err != nil {
		return proof.Heads{}, err
	}
	return s.archive.Heads(ctx, s.now(), func(id int64) string { return names[id] })
}

// Backup copies the whole database to a new file and says so in the journal
// first, so that the copy tells of itself.
func (s *Service) Backup(ctx context.Context, path, by string) error {
	if err := s.db.Write(ctx, func(tx *store.Tx) error {
		return journal.Append(tx, journal.Entry{At: s.now(), Account: by, Action: "archive backup", Object: "archive"})
	}); err != nil {
		return err
	}
	return s.db.Backup(ctx, path)
}
