package changes

import (
	"context"
	"fmt"
	"strings"
	"time"

	"vergekeep/core/ref"
	"vergekeep/core/selector"
	"vergekeep/core/window"
	"vergekeep/service/fleet"
	"vergekeep/service/journal"
	"vergekeep/store"
)

// Window is agreed hours with who set them.
type Window struct {
	window.Window
	Account string
	At      time.Time
}

// byClock is how a start is kept: by the clock of its zone, so that a change of the
// zone's rules moves nothing.
const byClock = "2006-01-02T15:04:05"

// Windows are the agreed hours, in order of name.
func (s *Service) Windows(ctx context.Context) ([]Window, error) {
	rows, err := s.DB.Query(ctx, `SELECT name, freeze, selector, zone, start, length, rule, excepted, remark, account, at FROM windows ORDER BY lower(name)`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Window
	for rows.Next() {
		var w Window
		var zone, start, except string
		var length, at int64
		if err := rows.Scan(&w.Name, &w.Freeze, &w.Selector, &zone, &start, &length, &w.Rule, &except, &w.Remark, &w.Account, &at); err != nil {
			return nil, err
		}
		loc, err := time.LoadLocation(zone)
		if err != nil {
			return nil, fmt.Errorf("the window %s: %w", w.Name, err)
		}
		if w.Start, err = time.ParseInLocation(byClock, start, loc); err != nil {
			return nil, fmt.Errorf("the window %s: %w", w.Name, err)
		}
		for _, e := range strings.Fields(except) {
			t, err := time.ParseInLocation(byClock, e, loc)
			if err != nil {
				return nil, fmt.Errorf("the window %s: %w", w.Name, err)
			}
			w.Except = append(w.Except, t)
		}
		w.Length, w.At = time.Duration(length)*time.Second, store.Time(at)
		list = append(list, w)
	}
	return list, rows.Err()
}

// hours is the windows with their selectors understood.
func (s *Service) hours(ctx context.Context) ([]hours, error) {
	list, err := s.Windows(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]hours, len(list))
	for i, w := range list {
		sel, err := selector.Parse(w.Selector)
		if err != nil {
			return nil, fmt.Errorf("the window %s: %w", w.Name, err)
		}
		out[i] = hours{w, func(d *fleet.Device) bool { return sel.Match(d) }}
	}
	return out, nil
}

// SetWindows makes or changes windows: all of them or none.
func (s *Service) SetWindows(ctx context.Context, list []window.Window, by string) error {
	for i := range list {
		w := &list[i]
		if err := ref.CheckName(w.Name); err != nil {
			return fmt.Errorf("%w: its name %w", window.ErrWindow, err)
		}
		if w.Start.Location() == time.Local {
			return fmt.Errorf("%w: %s names no time zone", window.ErrWindow, w.Name)
		}
		if err := w.Check(); err != nil {
			return err
		}
		if err := selector.CheckLasting(w.Selector); err != nil {
			return err
		}
	}
	return s.DB.Write(ctx, func(tx *store.Tx) error {
		for i := range list {
			w := &list[i]
			var except []string
			for _, e := range w.Except {
				except = append(except, e.In(w.Start.Location()).Format(byClock))
			}
			if _, err := tx.Exec(`INSERT OR REPLACE INTO windows (name, freeze, selector, zone, start, length, rule, excepted, remark, account, at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
				w.Name, w.Freeze, w.Selector, w.Start.Location().String(), w.Start.Format(byClock), int64(w.Length/time.Second), strings.TrimPrefix(w.Rule, "RRULE:"), strings.Join(except, " "), w.Remark, by, store.Stamp(s.Now())); err != nil {
				return err
			}
			if err := journal.Append(tx, journal.Entry{At: s.Now(), Account: by, Action: "window set", Object: w.Name, Detail: w.Said()}); err != nil {
				return err
			}
		}
		return nil
	})
}

// DeleteWindow takes agreed hours away. Changes keep what was said of them.
func (s *Service) DeleteWindow(ctx context.Context, name, by string) error {
	return s.remove(ctx, `DELETE FROM windows WHERE name = ?`, "window delete", name, by)
}

// Opening is one opening of a window.
type Opening struct {
	Name   string
	Freeze bool
	window.Span
}

// maxOpenings is how many openings a page can need.
const maxOpenings = 2000

// Openings are the openings of all windows within a stretch of time, in order of
// window.
func (s *Service) Openings(ctx context.Context, from, to time.Time) ([]Opening, error) {
	list, err := s.Windows(ctx)
	if err != nil {
		return nil, err
	}
	var out []Opening
	for i := range list {
		spans, err := list[i].Spans(from, to, maxOpenings-len(out))
		if err != nil {
			return nil, fmt.Errorf("the window %s: %w", list[i].Name, err)
		}
		for _, span := range spans {
			out = append(out, Opening{list[i].Name, list[i].Freeze, span})
		}
		if len(out) >= maxOpenings {
			break
		}
	}
	return out, nil
}
