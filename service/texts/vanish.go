package texts

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"vergekeep/archive"
	"vergekeep/core/dialect"
	"vergekeep/core/selector"
	"vergekeep/service/fleet"
)

// Vanished is a change that would not have been one.
type Vanished struct {
	Device   fleet.Device
	Revision archive.Revision // that would not be there
}

// Vanish says which changes since a time would not have been any if what is to be
// set aside had been so all the time, the latest first, and how many it looked at.
func (t *Texts) Vanish(ctx context.Context, try fleet.Volatile, since time.Time) (list []Vanished, looked int, err error) {
	if err := t.fleet.CheckVolatile(try); err != nil {
		return nil, 0, err
	}
	if since.After(t.now()) {
		return nil, 0, fmt.Errorf("%w: %s is in the future", ErrTime, since.Format("2006-01-02 15:04"))
	}
	sel, err := selector.Parse(try.Selector)
	if err != nil {
		return nil, 0, err
	}
	devices, err := t.fleet.List(ctx, sel)
	if err != nil {
		return nil, 0, err
	}
	by := make(map[int64]*fleet.Device, len(devices))
	for i := range devices {
		by[devices[i].ID] = &devices[i]
	}
	ends, err := t.archive.Ends(ctx)
	if err != nil {
		return nil, 0, err
	}
	contents := t.archive.Contents()
	for _, end := range ends {
		d := by[end.Device]
		if d == nil || try.Platform != "" && d.Platform != try.Platform {
			continue
		}
		with, err := t.fleet.DialectTrying(ctx, d, &try)
		if err != nil {
			return nil, 0, err
		}
		if with == nil {
			continue
		}
		revisions, err := t.archive.List(ctx, end.Key)
		if err != nil {
			return nil, 0, err
		}
		before := 0 // the view of the revision that was looked at last is used again
		var view dialect.View
		for i, r := range revisions {
			if r.FirstSeen.Before(since) || i+1 == len(revisions) {
				break
			}
			if r.Origin == archive.Drafted || revisions[i+1].Origin == archive.Drafted {
				continue
			}
			if before != r.Number {
				if view, err = viewOf(ctx, contents, with, r); errors.Is(err, archive.ErrThinned) {
					continue
				} else if err != nil {
					return nil, 0, err
				}
			}
			older, err := viewOf(ctx, contents, with, revisions[i+1])
			if errors.Is(err, archive.ErrThinned) {
				continue
			}
			if err != nil {
				return nil, 0, err
			}
			looked++
			if older.ComparisonForm() == view.ComparisonForm() {
				list = append(list, Vanished{*d, r})
			}
			view, before = older, revisions[i+1].Number
		}
	}
	slices.SortStableFunc(list, func(x, y Vanished) int { return y.Revision.FirstSeen.Compare(x.Revision.FirstSeen) })
	return list, looked, nil
}

func viewOf(ctx context.Context, contents *archive.Contents, dl *dialect.Dialect, r archive.Revision) (dialect.View, error) {
	text, err := contents.Text(ctx, r)
	if err != nil {
		return dialect.View{}, err
	}
	return dl.View(text), nil
}
