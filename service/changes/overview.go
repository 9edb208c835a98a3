package changes

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"vergekeep/core/selector"
	"vergekeep/core/window"
	"vergekeep/store"
)

// Count is how many changes there were of one kind.
type Count struct {
	Name    string
	Changes int
	Outside int // of them outside agreed hours, or in a freeze
}

// Mark is a change on a strip of time.
type Mark struct {
	ID       int64
	At       time.Time
	Device   string
	Place    window.Where
	Verdict  Verdict
	Severity Severity
}

// Overview is what happened in a stretch of time.
type Overview struct {
	From, To                       time.Time
	Changes, Devices               int
	Open, Outside                  int
	Marks                          []Mark // the last of them, in order of time
	Openings                       []Opening
	ByDevice, ByAccount, BySection []Count    // the most first
	ByHour                         [7][24]int // Monday first, by the clock of the zone
	Unknown                        int        // changes of which no account is known
	Flapping                       []Flap
}

// Flap is a device on which what was made was undone, again and again.
type Flap struct {
	Device string
	Undone int // changes that undid another
	Last   time.Time
}

const (
	maxMarks = 800
	maxTop   = 50
)

// Overview tells what happened in a stretch of time on the devices of a selector.
func (s *Service) Overview(ctx context.Context, f Filter, zone *time.Location) (*Overview, error) {
	sel, err := selector.Parse(f.Selector)
	if err != nil {
		return nil, err
	}
	names, err := s.Fleet.Names(ctx, sel)
	if err != nil {
		return nil, err
	}
	list, err := s.brief(ctx, f, names)
	if err != nil {
		return nil, err
	}
	o := &Overview{From: f.From, To: f.To, Changes: len(list)}
	if o.Openings, err = s.Openings(ctx, f.From, f.To); err != nil {
		return nil, err
	}
	devices, accounts, sections, flaps := map[string]*Count{}, map[string]*Count{}, map[string]*Count{}, map[string]*Flap{}
	count := func(in map[string]*Count, name string, outside bool) {
		c := in[name]
		if c == nil {
			c = &Count{Name: name}
			in[name] = c
		}
		c.Changes++
		if outside {
			c.Outside++
		}
	}
	for i := range list {
		c := &list[i]
		outside := c.Place == window.Outside || c.Place == window.Frozen
		if outside {
			o.Outside++
		}
		if c.Verdict == Open {
			o.Open++
		}
		count(devices, c.Device, outside)
		for _, a := range c.Accounts {
			count(accounts, a, outside)
		}
		if len(c.Accounts) == 0 {
			o.Unknown++
		}
		for _, x := range c.Sections {
			count(sections, x, outside)
		}
		at := c.Last
		local := at.In(zone)
		o.ByHour[(local.Weekday()+6)%7][local.Hour()]++
		if c.Undoes != 0 {
			fl := flaps[c.Device]
			if fl == nil {
				fl = &Flap{Device: c.Device, Last: c.Found}
				flaps[c.Device] = fl
			}
			fl.Undone++
		}
		o.Marks = append(o.Marks, Mark{c.ID, at, c.Device, c.Place, c.Verdict, c.Severity})
	}
	if len(o.Marks) > maxMarks { // what needs somebody is seen all the same
		slices.SortStableFunc(o.Marks, func(a, b Mark) int { return urgency(&b) - urgency(&a) })
		o.Marks = o.Marks[:maxMarks]
	}
	slices.SortStableFunc(o.Marks, func(a, b Mark) int { return a.At.Compare(b.At) })
	o.Devices = len(devices)
	o.ByDevice, o.ByAccount, o.BySection = top(devices), top(accounts), top(sections)
	for _, f := range flaps {
		o.Flapping = append(o.Flapping, *f)
	}
	slices.SortFunc(o.Flapping, func(a, b Flap) int { return cmp.Or(b.Undone-a.Undone, cmp.Compare(a.Device, b.Device)) })
	o.Flapping = o.Flapping[:min(len(o.Flapping), maxTop)]
	return o, nil
}

func urgency(m *Mark) int {
	switch {
	case m.Verdict == Authorised:
		return 0
	case m.Place == window.Outside || m.Place == window.Frozen:
		return 2
	}
	return 1
}

// brief is the changes that a filter names, with what an overview needs of them.
func (s *Service) brief(ctx context.Context, f Filter, names map[int64]string) ([]Change, error) {
	where, args := f.where(names)
	rows, err := s.DB.Query(ctx, `SELECT id, device_id, found_at, `+happened+`, accounts, sections, place, severity, verdict, undoes FROM changes WHERE `+where+` ORDER BY found_at DESC`, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Change
	for rows.Next() {
		var c Change
		var found, at int64
		var accounts, sections string
		if err := rows.Scan(&c.ID, &c.DeviceID, &found, &at, &accounts, &sections, &c.Place, &c.Severity, &c.Verdict, &c.Undoes); err != nil {
			return nil, err
		}
		c.Device, c.Found, c.Last, c.Accounts, c.Sections = names[c.DeviceID], store.Time(found), store.Time(at), lines(accounts), lines(sections)
		list = append(list, c)
	}
	return list, rows.Err()
}

func top(in map[string]*Count) []Count {
	out := make([]Count, 0, len(in))
	for _, c := range in {
		out = append(out, *c)
	}
	slices.SortFunc(out, func(a, b Count) int { return cmp.Or(b.Changes-a.Changes, cmp.Compare(a.Name, b.Name)) })
	return out[:min(len(out), maxTop)]
}

// Since is when the newest round over several devices began ("last-round"), or the
// newest opening of a window ("last-window").
func (s *Service) Since(ctx context.Context, what string) (time.Time, error) {
	if what == "last-round" {
		var at int64
		err := s.DB.QueryRow(ctx, `SELECT coalesce(max(started_at), 0) FROM rounds WHERE ended_at > 0 AND planned > 1 AND origin <> 'signal'`).Scan(&at)
		if err == nil && at == 0 {
			err = fmt.Errorf("%w: no round has ended yet", ErrFilter)
		}
		return store.Time(at), err
	}
	now := s.Now()
	openings, err := s.Openings(ctx, now.AddDate(0, -2, 0), now)
	if err != nil {
		return now, err
	}
	var last time.Time
	for _, o := range openings {
		if !o.Freeze && o.From.After(last) {
			last = o.From
		}
	}
	if last.IsZero() {
		return now, fmt.Errorf("%w: no window has opened within two months", ErrFilter)
	}
	return last, nil
}
