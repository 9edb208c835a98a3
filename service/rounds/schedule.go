package rounds

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/robfig/cron/v3"

	"vergekeep/core/nearest"
	"vergekeep/core/ref"
	"vergekeep/core/selector"
	"vergekeep/service/fleet"
	"vergekeep/service/journal"
	"vergekeep/store"
)

// Errors of schedules.
var (
	ErrSchedule        = errors.New("not a schedule")
	ErrUnknownSchedule = errors.New("no such schedule")
	ErrScheduleThere   = errors.New("a schedule of that name exists")
)

// Missed says what becomes of rounds that fell due while the service was down.
type Missed string

// What can become of them.
const (
	RunMissed  Missed = "run"  // one is made up for
	SkipMissed Missed = "skip" // they are passed over
)

// Schedule says when a round happens by itself.
type Schedule struct {
	ID          int64
	Name        string
	Description string
	Expression  string // cron, five fields
	Zone        string // of the IANA time zone database
	Selector    string
	Paused      bool
	Spread      time.Duration // over which the visits begin
	Tries       int           // visits to a device within a round
	Missed      Missed
	ChangedBy   string
	Changed     time.Time
	LastDue     time.Time

	plan     plan
	selector selector.Selector
}

// plan is a cron expression in a time zone.
type plan struct {
	spec cron.Schedule
	zone *time.Location
	// wall says that it names hours of the day. Such a time that daylight
	// saving leaves out is made up for, and one that comes twice counts once.
	// An expression for every hour follows the true hours instead.
	wall bool
}

func parsePlan(expression, zone string) (plan, error) {
	loc, err := time.LoadLocation(zone)
	if err != nil {
		return plan{}, fmt.Errorf("%w: %q is no time zone; write for example Europe/Oslo", ErrSchedule, zone)
	}
	fields := strings.Fields(expression)
	if len(fields) != 5 {
		return plan{}, fmt.Errorf("%w: %q has %d fields; write five: minute, hour, day of the month, month, day of the week; for example 0 2 * * * for two o'clock each night", ErrSchedule, expression, len(fields))
	}
	spec, err := cron.ParseStandard(expression)
	if err != nil {
		return plan{}, fmt.Errorf("%w: %q: %w; write for example 0 2 * * * for two o'clock each night", ErrSchedule, expression, err)
	}
	p := plan{spec: spec, zone: loc, wall: !strings.Contains(fields[1], "*")}
	if s, ok := spec.(*cron.SpecSchedule); ok {
		if s.Location = loc; p.wall {
			s.Location = time.UTC // stands for the wall's clock; see next
		}
	}
	if p.next(time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)).IsZero() {
		return plan{}, fmt.Errorf("%w: %q never comes", ErrSchedule, expression)
	}
	return p, nil
}

// next is the first due time after t.
func (p plan) next(t time.Time) time.Time {
	if !p.wall {
		return p.spec.Next(t.In(p.zone))
	}
	local := t.In(p.zone)
	clock := time.Date(local.Year(), local.Month(), local.Day(), local.Hour(), local.Minute(), local.Second(), local.Nanosecond(), time.UTC)
	// The clock may have been set back just now: start an hour or two earlier
	// and take what is really later.
	for clock = clock.Add(-3 * time.Hour); ; {
		clock = p.spec.Next(clock)
		if clock.IsZero() {
			return clock
		}
		due := time.Date(clock.Year(), clock.Month(), clock.Day(), clock.Hour(), clock.Minute(), clock.Second(), 0, p.zone)
		if first := due.Add(-time.Hour); first.Hour() == due.Hour() && first.Minute() == due.Minute() {
			due = first // it comes twice, as the clock is set back: the first counts
		}
		if due.After(t) {
			return due
		}
	}
}

func (s *Schedule) check() error {
	if err := ref.CheckName(s.Name); err != nil {
		return fmt.Errorf("%w: the name %w", ErrSchedule, err)
	}
	if s.Zone == "" {
		s.Zone = "UTC"
	}
	if s.Tries == 0 {
		s.Tries = 3
	}
	if s.Missed == "" {
		s.Missed = RunMissed
	}
	switch {
	case s.Tries < 1 || s.Tries > 10:
		return fmt.Errorf("%w: it tries 1 to 10 times", ErrSchedule)
	case s.Spread < 0 || s.Spread > 12*time.Hour:
		return fmt.Errorf("%w: visits are spread over at most 12 hours", ErrSchedule)
	case s.Missed != RunMissed && s.Missed != SkipMissed:
		return fmt.Errorf("%w: what was missed is run or skip, not %q", ErrSchedule, s.Missed)
	case len(s.Description) > 1000:
		return fmt.Errorf("%w: the description has more than 1000 bytes", ErrSchedule)
	}
	var err error
	if err := selector.CheckLasting(s.Selector); err != nil {
		return fmt.Errorf("%w: %w", ErrSchedule, err)
	}
	if s.selector, err = selector.Parse(s.Selector); err != nil {
		return fmt.Errorf("%w: %w", ErrSchedule, err)
	}
	s.plan, err = parsePlan(s.Expression, s.Zone)
	return err
}

// Next is the next due time after t; zero where the schedule is paused.
func (s *Schedule) Next(t time.Time) time.Time {
	if s.Paused {
		return time.Time{}
	}
	return s.plan.next(t)
}

// promised is how many due times freshness looks at.
const promised = 4

// due is the newest times up to a moment when the schedule was due, newest
// first. Before it was set, a capture a day is what was promised.
func (s *Schedule) due(until time.Time) []time.Time {
	var all []time.Time
	// Cron looks forward only: start far enough back, further if need be.
	for span := 24 * time.Hour; len(all) < promised && span < 5*366*24*time.Hour; span *= 4 {
		from := until.Add(-span)
		if from.Before(s.Changed) {
			from, span = s.Changed, 5*366*24*time.Hour
		}
		all = all[:0]
		for t := s.plan.next(from); !t.IsZero() && !t.After(until); t = s.plan.next(t) {
			if all = append(all, t); len(all) > promised {
				all = all[1:]
			}
		}
	}
	slices.Reverse(all)
	for oldest := s.Changed; len(all) < promised; {
		oldest = oldest.Add(-24 * time.Hour)
		all = append(all, oldest)
	}
	return all
}

// Schedules is all schedules, in order of name.
func (s *Service) Schedules(ctx context.Context) ([]Schedule, error) {
	rows, err := s.db.Query(ctx, `SELECT id, name, description, expression, zone, selector, state = 'paused', spread, tries, missed, changed_by, changed_at, last_due FROM schedules ORDER BY lower(name)`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Schedule
	for rows.Next() {
		var sc Schedule
		var spread, changed, last int64
		if err := rows.Scan(&sc.ID, &sc.Name, &sc.Description, &sc.Expression, &sc.Zone, &sc.Selector, &sc.Paused, &spread, &sc.Tries, &sc.Missed, &sc.ChangedBy, &changed, &last); err != nil {
			return nil, err
		}
		sc.Spread, sc.Changed, sc.LastDue = time.Duration(spread)*time.Second, store.Time(changed), store.Time(last)
		if err := sc.check(); err != nil {
			return nil, fmt.Errorf("the schedule %s: %w", sc.Name, err)
		}
		list = append(list, sc)
	}
	return list, rows.Err()
}

// Schedule is the schedule of that name.
func (s *Service) Schedule(ctx context.Context, name string) (Schedule, error) {
	list, err := s.Schedules(ctx)
	if err != nil {
		return Schedule{}, err
	}
	var names []string
	for _, sc := range list {
		if strings.EqualFold(sc.Name, name) {
			return sc, nil
		}
		names = append(names, sc.Name)
	}
	return Schedule{}, fmt.Errorf("%w: %q.%s", ErrUnknownSchedule, name, nearest.Hint(name, names))
}

// AddSchedule stores a new schedule. It falls due from now on.
func (s *Service) AddSchedule(ctx context.Context, sc Schedule, by string) (Schedule, error) {
	if err := sc.check(); err != nil {
		return sc, err
	}
	sc.ChangedBy, sc.Changed, sc.LastDue = by, s.now(), s.now()
	err := s.db.Write(ctx, func(tx *store.Tx) error {
		res, err := tx.Exec(`INSERT INTO schedules (name, description, expression, zone, selector, state, spread, tries, missed, changed_by, changed_at, last_due) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			sc.Name, sc.Description, sc.Expression, sc.Zone, sc.Selector, sc.state(), int64(sc.Spread.Seconds()), sc.Tries, sc.Missed, by, store.Stamp(sc.Changed), store.Stamp(sc.LastDue))
		if store.IsDuplicate(err) {
			return fmt.Errorf("%w: %s", ErrScheduleThere, sc.Name)
		}
		if err != nil {
			return err
		}
		if sc.ID, err = res.LastInsertId(); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: sc.Changed, Account: by, Action: "schedule add", Object: sc.Name, Detail: sc.words()})
	})
	return sc, err
}

func (s *Schedule) state() string {
	if s.Paused {
		return "paused"
	}
	return "active"
}

func (s *Schedule) words() string {
	said := s.Expression + " " + s.Zone + " over " + orAll(s.Selector)
	if s.Paused {
		said += ", paused"
	}
	return said
}

// EditSchedule replaces what the schedule of that name says. One whose times
// change falls due from now on.
func (s *Service) EditSchedule(ctx context.Context, name string, change func(*Schedule), by string) (Schedule, error) {
	old, err := s.Schedule(ctx, name)
	if err != nil {
		return old, err
	}
	sc := old
	change(&sc)
	sc.ID = old.ID
	if err := sc.check(); err != nil {
		return sc, err
	}
	sc.ChangedBy = by
	if sc.Expression != old.Expression || sc.Zone != old.Zone || sc.Selector != old.Selector || old.Paused && !sc.Paused {
		sc.Changed, sc.LastDue = s.now(), s.now()
	}
	err = s.db.Write(ctx, func(tx *store.Tx) error {
		_, err := tx.Exec(`UPDATE schedules SET name = ?, description = ?, expression = ?, zone = ?, selector = ?, state = ?, spread = ?, tries = ?, missed = ?, changed_by = ?, changed_at = ?, last_due = ? WHERE id = ?`,
			sc.Name, sc.Description, sc.Expression, sc.Zone, sc.Selector, sc.state(), int64(sc.Spread.Seconds()), sc.Tries, sc.Missed, by, store.Stamp(sc.Changed), store.Stamp(sc.LastDue), sc.ID)
		if store.IsDuplicate(err) {
			return fmt.Errorf("%w: %s", ErrScheduleThere, sc.Name)
		}
		if err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: s.now(), Account: by, Action: "schedule edit", Object: old.Name, Detail: sc.words()})
	})
	return sc, err
}

// DeleteSchedule takes a schedule away.
func (s *Service) DeleteSchedule(ctx context.Context, name, by string) error {
	sc, err := s.Schedule(ctx, name)
	if err != nil {
		return err
	}
	return s.db.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`DELETE FROM schedules WHERE id = ?`, sc.ID); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: s.now(), Account: by, Action: "schedule delete", Object: sc.Name, Detail: sc.words()})
	})
}

// Coming is a round that will happen by itself.
type Coming struct {
	Schedule string
	At       time.Time
	Devices  int
}

// Coming lists the next rounds, soonest first, and how many devices each meets
// as things stand.
func (s *Service) Coming(ctx context.Context, count int) ([]Coming, error) {
	schedules, err := s.Schedules(ctx)
	if err != nil {
		return nil, err
	}
	devices, err := s.fleet.List(ctx, selector.Selector{})
	if err != nil {
		return nil, err
	}
	var list []Coming
	for _, sc := range schedules {
		meets := 0
		for i := range devices {
			if devices[i].State == fleet.Active && sc.selector.Match(&devices[i]) {
				meets++
			}
		}
		at := s.now()
		for range count {
			if at = sc.Next(at); at.IsZero() {
				break
			}
			list = append(list, Coming{sc.Name, at, meets})
		}
	}
	slices.SortStableFunc(list, func(a, b Coming) int { return a.At.Compare(b.At) })
	return list[:min(len(list), count)], nil
}

// Reaching is the schedules that reach a device.
func (s *Service) Reaching(ctx context.Context, d *fleet.Device) ([]Schedule, error) {
	list, err := s.Schedules(ctx)
	return slices.DeleteFunc(list, func(sc Schedule) bool { return !sc.selector.Match(d) }), err
}

// Promise is when captures were due by the schedules that reach a device.
func (s *Service) Promise(until time.Time) func(*fleet.Device) []time.Time {
	list, err := s.Schedules(s.ctx)
	if err != nil {
		return fleet.Daily(until)
	}
	list = slices.DeleteFunc(list, func(sc Schedule) bool { return sc.Paused })
	dues := make([][]time.Time, len(list))
	for i := range list {
		if list[i].Changed.After(until) {
			dues[i] = fleet.Daily(until)(nil)
		} else {
			dues[i] = list[i].due(until)
		}
	}
	return func(d *fleet.Device) []time.Time {
		var all []time.Time
		for i := range list {
			if list[i].selector.Match(d) {
				all = append(all, dues[i]...)
			}
		}
		if len(list) > 1 {
			slices.SortFunc(all, func(a, b time.Time) int { return b.Compare(a) })
			all = slices.CompactFunc(all, time.Time.Equal)
			all = all[:min(len(all), promised)]
		}
		return all
	}
}

// RunSchedules starts rounds when they are due, until ctx ends.
func (s *Service) RunSchedules(ctx context.Context) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	first := true
	for {
		if err := s.checkSchedules(ctx, first); err != nil && ctx.Err() == nil {
			s.log.Error("a scheduled round could not start", "error", err)
		}
		first = false
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

func (s *Service) checkSchedules(ctx context.Context, first bool) error {
	list, err := s.Schedules(ctx)
	if err != nil {
		return err
	}
	now := s.now()
	var all error
	for i := range list {
		sc := &list[i]
		next := sc.Next(sc.LastDue)
		if next.IsZero() || next.After(now) {
			continue
		}
		late := first && now.Sub(next) > time.Minute
		if late {
			s.log.Warn("a round was missed while the service was down", "schedule", sc.Name, "due", next, "now", sc.Missed)
		}
		if late && sc.Missed == SkipMissed {
			all = errors.Join(all, s.db.Write(ctx, func(tx *store.Tx) error {
				return journal.Append(tx, journal.Entry{At: now, Account: journal.System, Action: "round missed", Object: sc.Name, Detail: "it was due " + next.UTC().Format("2006-01-02 15:04 MST") + ", while the service was down, and is passed over"})
			}))
		} else {
			_, err = s.start(ctx, Plan{Selector: sc.Selector, Origin: "schedule", Account: journal.System, Schedule: sc.Name, Spread: sc.Spread, Tries: sc.Tries})
			if errors.Is(err, fleet.ErrNobody) {
				err = nil // nothing to do yet
			}
			all = errors.Join(all, err)
		}
		// Marked after it has started: a crash in between means a second round,
		// not a night without one.
		all = errors.Join(all, s.db.Write(ctx, func(tx *store.Tx) error {
			_, err := tx.Exec(`UPDATE schedules SET last_due = ? WHERE id = ?`, store.Stamp(now), sc.ID)
			return err
		}))
	}
	return all
}

// NextDue is the first due time of a cron expression after t.
func NextDue(expression, zone string, t time.Time) (time.Time, error) {
	p, err := parsePlan(expression, zone)
	if err != nil {
		return time.Time{}, err
	}
	return p.next(t), nil
}
