package rounds

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/robfig/cron/v3"

	"vergekeep/core/selector"
	"vergekeep/service/fleet"
	"vergekeep/service/journal"
	"vergekeep/store"
)

// ErrSchedule is wrapped where a schedule cannot be understood.
var ErrSchedule = errors.New("not a schedule")

// Schedule says when a round happens by itself.
type Schedule struct {
	Expression string // cron, five fields; "" for no schedule
	Zone       string // of the IANA time zone database
	Selector   string
	ChangedBy  string
	Changed    time.Time
	Next       time.Time // zero without a schedule

	plan cron.Schedule
}

// ParseSchedule checks a schedule.
func ParseSchedule(expression, zone, sel string) (Schedule, error) {
	s := Schedule{Expression: expression, Zone: zone, Selector: sel}
	if zone == "" {
		s.Zone = "UTC"
	}
	loc, err := time.LoadLocation(s.Zone)
	if err != nil {
		return s, fmt.Errorf("%w: %q is no time zone; write for example Europe/Oslo", ErrSchedule, zone)
	}
	if _, err := selector.Parse(sel); err != nil {
		return s, fmt.Errorf("%w: %w", ErrSchedule, err)
	}
	if expression == "" {
		return s, nil
	}
	plan, err := cron.ParseStandard(expression)
	if err != nil {
		return s, fmt.Errorf("%w: %q: %w; write five fields, for example 0 2 * * * for two o'clock each night", ErrSchedule, expression, err)
	}
	if spec, ok := plan.(*cron.SpecSchedule); ok {
		spec.Location = loc
	}
	s.plan = plan
	return s, nil
}

// promised is how many due times freshness looks at.
const promised = 4

// due is the newest times up to a moment when the schedule was due, newest
// first. Before it was set, a capture a day is what was promised.
func (s Schedule) due(until time.Time) []time.Time {
	var all []time.Time
	// Cron looks forward only: start far enough back, further if need be.
	for span := 24 * time.Hour; s.plan != nil && len(all) < promised && span < 5*366*24*time.Hour; span *= 4 {
		from := until.Add(-span)
		if from.Before(s.Changed) {
			from, span = s.Changed, 5*366*24*time.Hour
		}
		all = all[:0]
		for t := s.plan.Next(from); !t.IsZero() && !t.After(until); t = s.plan.Next(t) {
			if all = append(all, t); len(all) > promised {
				all = all[1:]
			}
		}
	}
	slices.Reverse(all)
	if s.plan == nil || s.Changed.After(until) {
		return fleet.Daily(until)
	}
	for oldest := s.Changed; len(all) < promised; {
		oldest = oldest.Add(-24 * time.Hour)
		all = append(all, oldest)
	}
	return all
}

// Schedule is the present schedule.
func (s *Service) Schedule(ctx context.Context) (Schedule, error) {
	var expression, zone, sel, by string
	var changed int64
	err := s.db.QueryRow(ctx, `SELECT expression, zone, selector, changed_by, changed_at FROM schedule WHERE id = 1`).Scan(&expression, &zone, &sel, &by, &changed)
	if errors.Is(err, sql.ErrNoRows) {
		return Schedule{Zone: "UTC"}, nil
	}
	if err != nil {
		return Schedule{}, err
	}
	out, err := ParseSchedule(expression, zone, sel)
	out.ChangedBy, out.Changed = by, store.Time(changed)
	if out.plan != nil {
		out.Next = out.plan.Next(s.now())
	}
	return out, err
}

// SetSchedule replaces the schedule.
func (s *Service) SetSchedule(ctx context.Context, sc Schedule, by string) (Schedule, error) {
	sc, err := ParseSchedule(sc.Expression, sc.Zone, sc.Selector)
	if err != nil {
		return sc, err
	}
	now := s.now()
	err = s.db.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`INSERT INTO schedule (id, expression, zone, selector, changed_by, changed_at, last_due) VALUES (1, ?, ?, ?, ?, ?, ?)
			ON CONFLICT (id) DO UPDATE SET expression = excluded.expression, zone = excluded.zone, selector = excluded.selector,
			changed_by = excluded.changed_by, changed_at = excluded.changed_at, last_due = excluded.last_due`,
			sc.Expression, sc.Zone, sc.Selector, by, store.Stamp(now), store.Stamp(now)); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: now, Account: by, Action: "schedule set", Object: "schedule", Detail: sc.Expression + " " + sc.Zone})
	})
	if err != nil {
		return sc, err
	}
	return s.Schedule(ctx)
}

// Promise is when captures were due by the schedule.
func (s *Service) Promise(until time.Time) []time.Time {
	sc, err := s.Schedule(s.ctx)
	if err != nil {
		return fleet.Daily(until)
	}
	return sc.due(until)
}

// RunSchedule starts rounds when they are due, until ctx ends. One that fell due
// while the service was down is made up for once.
func (s *Service) RunSchedule(ctx context.Context) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		if err := s.checkSchedule(ctx); err != nil && ctx.Err() == nil {
			s.log.Error("the scheduled round could not start", "error", err)
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

func (s *Service) checkSchedule(ctx context.Context) error {
	sc, err := s.Schedule(ctx)
	if err != nil || sc.plan == nil {
		return err
	}
	var last int64
	if err := s.db.QueryRow(ctx, `SELECT last_due FROM schedule WHERE id = 1`).Scan(&last); err != nil {
		return err
	}
	now := s.now()
	if next := sc.plan.Next(store.Time(last)); next.IsZero() || next.After(now) {
		return nil
	}
	// Marked after it has started: a crash in between means a second round, not
	// a night without one.
	_, err = s.Start(ctx, sc.Selector, "schedule", journal.System)
	return errors.Join(err, s.db.Write(ctx, func(tx *store.Tx) error {
		_, err := tx.Exec(`UPDATE schedule SET last_due = ? WHERE id = 1`, store.Stamp(now))
		return err
	}))
}
