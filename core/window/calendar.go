package window

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/emersion/go-ical"
	"github.com/teambition/rrule-go"
)

// MaxCalendar is how large a calendar may be, in bytes, and how many events it may
// have.
const (
	MaxCalendar = 1 << 20
	maxEvents   = 2000
)

// Properties of ours in a calendar (RFC 5545, 3.8.8.2).
const (
	propSelector = "X-VERGEKEEP-SELECTOR"
	propFreeze   = "X-VERGEKEEP-FREEZE"
)

// ReadCalendar reads the events of a calendar as windows. What is cancelled is left
// out. Where an event names no time zone, zone is its own.
func ReadCalendar(text string, zone *time.Location) (list []Window, err error) {
	defer func() {
		if p := recover(); p != nil {
			list, err = nil, fmt.Errorf("%w: the calendar cannot be read: %v", ErrWindow, p)
		}
	}()
	if len(text) > MaxCalendar {
		return nil, fmt.Errorf("%w: the calendar is larger than %d KiB", ErrWindow, MaxCalendar>>10)
	}
	dec := ical.NewDecoder(strings.NewReader(text))
	calendars := 0
	for {
		cal, err := dec.Decode()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("%w: the calendar cannot be read: %w", ErrWindow, err)
		}
		calendars++
		for _, e := range cal.Events() {
			if len(list) == maxEvents {
				return nil, fmt.Errorf("%w: the calendar has more than %d events", ErrWindow, maxEvents)
			}
			if status, _ := e.Props.Text(ical.PropStatus); strings.EqualFold(status, "CANCELLED") {
				continue
			}
			w, err := readEvent(&e, zone)
			if err != nil {
				return nil, fmt.Errorf("the event %q: %w", w.Name, err)
			}
			list = append(list, w)
		}
	}
	if calendars == 0 {
		return nil, fmt.Errorf("%w: it is no calendar (RFC 5545); it would begin with BEGIN:VCALENDAR", ErrWindow)
	}
	return list, nil
}

func readEvent(e *ical.Event, zone *time.Location) (Window, error) {
	var w Window
	w.Name, _ = e.Props.Text(ical.PropSummary)
	w.Name = asName(w.Name)
	w.Remark, _ = e.Props.Text(ical.PropDescription)
	w.Selector, _ = e.Props.Text(propSelector)
	freeze, _ := e.Props.Text(propFreeze)
	w.Freeze = strings.EqualFold(freeze, "TRUE")
	if e.Props.Get(ical.PropRecurrenceID) != nil || e.Props.Get(ical.PropRecurrenceDates) != nil {
		return w, fmt.Errorf("%w: single openings that are elsewhere (RECURRENCE-ID, RDATE) are not read; make a window of each", ErrWindow)
	}
	var err error
	if w.Start, err = e.DateTimeStart(zone); err != nil {
		return w, fmt.Errorf("%w: its start: %w", ErrWindow, err)
	}
	end, err := e.DateTimeEnd(zone)
	if err != nil {
		return w, fmt.Errorf("%w: its end: %w", ErrWindow, err)
	}
	w.Length = end.Sub(w.Start)
	if rule := e.Props.Get(ical.PropRecurrenceRule); rule != nil {
		w.Rule = rule.Value
	}
	for _, p := range e.Props.Values(ical.PropExceptionDates) {
		for _, value := range strings.Split(p.Value, ",") {
			one := p
			one.Value = value
			at, err := one.DateTime(w.Start.Location())
			if err != nil {
				return w, fmt.Errorf("%w: an exception: %w", ErrWindow, err)
			}
			w.Except = append(w.Except, at)
		}
	}
	return w, w.Check()
}

// asName leaves out of a title what no name of ours may hold.
func asName(title string) string {
	title = strings.Map(func(r rune) rune {
		if strings.ContainsRune(`:@/,=!"'`, r) || r < ' ' {
			return ' '
		}
		return r
	}, title)
	return strings.TrimLeft(strings.Join(strings.Fields(title), " "), ".-")
}

// WriteCalendar writes windows as a calendar.
func WriteCalendar(list []Window, now time.Time) (string, error) {
	cal := ical.NewCalendar()
	cal.Props.SetText(ical.PropVersion, "2.0")
	cal.Props.SetText(ical.PropProductID, "-//Verge Keep//windows//EN")
	for i := range list {
		w := &list[i]
		e := ical.NewEvent()
		e.Props.SetText(ical.PropUID, fmt.Sprintf("window-%x@vergekeep.invalid", w.Name))
		e.Props.SetDateTime(ical.PropDateTimeStamp, now.UTC())
		e.Props.SetText(ical.PropSummary, w.Name)
		e.Props.SetDateTime(ical.PropDateTimeStart, w.Start)
		e.Props.SetDateTime(ical.PropDateTimeEnd, w.Start.Add(w.Length))
		if w.Remark != "" {
			e.Props.SetText(ical.PropDescription, w.Remark)
		}
		if w.Selector != "" {
			e.Props.SetText(propSelector, w.Selector)
		}
		if w.Freeze {
			e.Props.SetText(propFreeze, "TRUE")
		}
		if w.Rule != "" {
			p := ical.NewProp(ical.PropRecurrenceRule)
			p.Value = strings.TrimPrefix(w.Rule, "RRULE:")
			e.Props.Set(p)
		}
		for _, at := range w.Except {
			p := ical.NewProp(ical.PropExceptionDates)
			p.SetDateTime(at)
			e.Props.Add(p)
		}
		cal.Children = append(cal.Children, e.Component)
	}
	if len(cal.Children) == 0 { // the library writes no calendar without anything in it
		return "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Verge Keep//windows//EN\r\nEND:VCALENDAR\r\n", nil
	}
	var b bytes.Buffer
	err := ical.NewEncoder(&b).Encode(cal)
	return b.String(), err
}

// Said tells when a window is open, for a person.
func (w *Window) Said() string {
	from := w.Start.Format("2006-01-02 15:04")
	if w.Rule == "" {
		return fmt.Sprintf("%s to %s, %s", from, w.Start.Add(w.Length).Format("2006-01-02 15:04"), w.Start.Location())
	}
	hours := w.Start.Format("15:04") + " to " + w.Start.Add(w.Length).Format("15:04")
	if w.Length >= 24*time.Hour {
		hours = w.Start.Format("15:04") + " for " + strings.TrimSuffix(strings.TrimSuffix(w.Length.String(), "0s"), "0m")
	}
	o, err := w.option()
	if err != nil {
		return w.Rule
	}
	said := strings.ToLower(o.Freq.String())
	if o.Interval > 1 {
		said = fmt.Sprintf("each %d. %s", o.Interval, map[rrule.Frequency]string{rrule.DAILY: "day", rrule.WEEKLY: "week", rrule.MONTHLY: "month", rrule.YEARLY: "year", rrule.HOURLY: "hour"}[o.Freq])
	}
	if len(o.Byweekday) > 0 {
		var days []string
		for _, d := range o.Byweekday {
			name := time.Weekday((d.Day() + 1) % 7).String()[:3]
			if n := d.N(); n != 0 {
				name = fmt.Sprintf("%d. %s", n, name)
			}
			days = append(days, name)
		}
		said += " on " + strings.Join(days, ", ")
	}
	if !o.Until.IsZero() {
		said += " until " + o.Until.In(w.Start.Location()).Format("2006-01-02")
	}
	return fmt.Sprintf("%s, %s, %s, since %s", said, hours, w.Start.Location(), w.Start.Format("2006-01-02"))
}
