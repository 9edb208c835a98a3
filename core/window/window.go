// Package window computes agreed hours: when a window for changes, or a freeze, is
// open. Windows come once or again and again by a recurrence rule (RFC 5545,
// 3.3.10), in a time zone; they are read and written as calendars (.ics).
package window

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/teambition/rrule-go"
)

// ErrWindow is wrapped where a window makes no sense.
var ErrWindow = errors.New("it is no window")

// Window is agreed hours. Each opening lasts as long as any other, to the second:
// in the night in which clocks are changed it closes an hour earlier or later by
// the clock (RFC 5545, 3.8.5.3).
type Window struct {
	Name     string
	Freeze   bool          // hours in which nothing may change
	Selector string        // of the devices that it is for; "" for all
	Start    time.Time     // of the first opening, in its time zone
	Length   time.Duration // of each opening
	Rule     string        // "FREQ=WEEKLY;BYDAY=TU,TH"; "" for once
	Except   []time.Time   // openings that do not come
	Remark   string
}

// Span is one opening.
type Span struct{ From, To time.Time }

// Overlaps reports whether two stretches of time have a moment in common.
func (s Span) Overlaps(from, to time.Time) bool { return !s.From.After(to) && s.To.After(from) }

// Holds reports whether all of a stretch of time lies within the opening.
func (s Span) Holds(from, to time.Time) bool { return !s.From.After(from) && !s.To.Before(to) }

const (
	maxLength = 366 * 24 * time.Hour
	maxSpans  = 20_000
	// horizon is how far ahead a rule must have an opening for it to be one.
	horizon = 10 * 366 * 24 * time.Hour
)

// Check says what is wrong with a window.
func (w *Window) Check() error {
	switch {
	case w.Start.IsZero():
		return fmt.Errorf("%w: it says no start; write for example 2026-11-24T22:00", ErrWindow)
	case w.Start.Year() < 1990 || w.Start.Year() > 2200:
		return fmt.Errorf("%w: it starts in the year %d", ErrWindow, w.Start.Year())
	case w.Length <= 0:
		return fmt.Errorf("%w: it is over before it begins; write for example 4h", ErrWindow)
	case w.Length > maxLength:
		return fmt.Errorf("%w: it lasts longer than a year", ErrWindow)
	case len(w.Rule) > 1000 || len(w.Except) > 1000:
		return fmt.Errorf("%w: its rule is too long", ErrWindow)
	}
	if w.Rule == "" {
		return nil
	}
	o, err := w.option()
	if err != nil {
		return err
	}
	if o.Freq == rrule.SECONDLY || o.Freq == rrule.MINUTELY {
		return fmt.Errorf("%w: it opens more than once an hour", ErrWindow)
	}
	spans, err := w.Spans(w.Start, w.Start.Add(horizon), 1)
	if err != nil {
		return err
	}
	if len(spans) == 0 {
		return fmt.Errorf("%w: by the rule %s it never opens", ErrWindow, w.Rule)
	}
	return nil
}

func (w *Window) option() (*rrule.ROption, error) {
	o, err := rrule.StrToROptionInLocation(strings.TrimPrefix(w.Rule, "RRULE:"), w.Start.Location())
	if err != nil {
		return nil, fmt.Errorf("%w: its rule %q cannot be read (%w); write for example FREQ=WEEKLY;BYDAY=TU,TH", ErrWindow, w.Rule, err)
	}
	if !o.Dtstart.IsZero() {
		return nil, fmt.Errorf("%w: its start does not belong in its rule", ErrWindow)
	}
	o.Dtstart = w.Start
	return o, nil
}

// Spans are the openings that overlap a stretch of time, in order; at most so many
// (0: as many as a page can need).
func (w *Window) Spans(from, to time.Time, most int) ([]Span, error) {
	if most <= 0 || most > maxSpans {
		most = maxSpans
	}
	if to.Before(w.Start) {
		return nil, nil
	}
	if w.Rule == "" {
		s := Span{w.Start, w.Start.Add(w.Length)}
		if !s.Overlaps(from, to) || w.excepted(s.From) {
			return nil, nil
		}
		return []Span{s}, nil
	}
	o, err := w.option()
	if err != nil {
		return nil, err
	}
	// A rule without an end, or without any opening, is looked through this far
	// and no farther.
	if o.Until.IsZero() || o.Until.After(to) {
		o.Until = to
	}
	// What lies long before is not gone through one by one, unless it is counted.
	if begin := from.Add(-w.Length); o.Count == 0 && begin.After(o.Dtstart) {
		o.Dtstart = leap(o, begin)
	}
	rule, err := rrule.NewRRule(*o)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrWindow, err)
	}
	var spans []Span
	next := rule.Iterator()
	for len(spans) < most {
		at, ok := next()
		if !ok || at.After(to) {
			break
		}
		if s := (Span{at, at.Add(w.Length)}); s.Overlaps(from, to) && !w.excepted(at) {
			spans = append(spans, s)
		}
	}
	return spans, nil
}

// leap moves the start of a daily or weekly rule forward by whole periods of it.
func leap(o *rrule.ROption, until time.Time) time.Time {
	days := 0
	switch o.Freq {
	case rrule.DAILY:
		days = 1
	case rrule.WEEKLY:
		days = 7
	default:
		return o.Dtstart
	}
	days *= max(o.Interval, 1)
	// Two periods less, so that a change of clocks or a week's first day matter not.
	n := int(until.Sub(o.Dtstart).Hours()/24)/days - 2
	if n <= 0 {
		return o.Dtstart
	}
	y, m, d := o.Dtstart.Date()
	h, min, s := o.Dtstart.Clock()
	return time.Date(y, m, d+n*days, h, min, s, 0, o.Dtstart.Location())
}

func (w *Window) excepted(at time.Time) bool { return slices.ContainsFunc(w.Except, at.Equal) }

// Where says how a stretch of time lies to openings.
type Where string

// The places.
const (
	Nowhere Where = "none"    // nothing is agreed
	Inside  Where = "inside"  // all of it
	Outside Where = "outside" // none of it
	Perhaps Where = "perhaps" // a part of it: it cannot be told
	Frozen  Where = "freeze"  // it lies in a freeze, wholly or in part
)

// Place says how a stretch of time lies to windows, which are those of one device,
// and names the one that decided.
func Place(windows []Window, from, to time.Time) (Where, string, error) {
	where, name := Nowhere, ""
	for i := range windows {
		w := &windows[i]
		spans, err := w.Spans(from, to, 0)
		if err != nil {
			return Nowhere, "", fmt.Errorf("the window %s: %w", w.Name, err)
		}
		if w.Freeze {
			if len(spans) > 0 {
				return Frozen, w.Name, nil
			}
			continue
		}
		switch {
		case slices.ContainsFunc(spans, func(s Span) bool { return s.Holds(from, to) }):
			where, name = Inside, w.Name
		case len(spans) > 0 && where != Inside:
			where, name = Perhaps, w.Name
		case where == Nowhere:
			where = Outside
		}
	}
	return where, name, nil
}
