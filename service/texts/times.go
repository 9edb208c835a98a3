package texts

import (
	"context"
	"errors"
	"fmt"
	"time"

	"vergekeep/archive"
	"vergekeep/core/diff"
	"vergekeep/core/ref"
	"vergekeep/core/selector"
	"vergekeep/service/fleet"
)

// ErrTime says that something is no time.
var ErrTime = errors.New("not a time")

// Moments knows the times that have a name.
type Moments interface {
	Moment(ctx context.Context, name string) (time.Time, error)
}

// Time is what a point of a ref means that is a time: "" is now.
func (t *Texts) Time(ctx context.Context, source string, loc *time.Location) (time.Time, error) {
	now := t.now()
	if source == "" {
		return now, nil
	}
	p, err := ref.ParsePoint(source, loc)
	if err != nil {
		return now, fmt.Errorf("%w: %w", ErrTime, err)
	}
	at := p.Time
	switch p.Kind {
	case ref.Time:
	case ref.Ago:
		at = now.Add(-p.Ago)
	case ref.Moment:
		if at, err = t.moments.Moment(ctx, p.Name); err != nil {
			return now, err
		}
	default:
		return now, fmt.Errorf("%w: %q; write for example 2026-11-20T02:00, 36h, or the name of a moment", ErrTime, source)
	}
	if at.After(now) {
		return now, fmt.Errorf("%w: %s is in the future", ErrTime, at.In(loc).Format("2006-01-02 15:04"))
	}
	return at, nil
}

// InForce is a configuration as it was at a time.
type InForce struct {
	Device   fleet.Device
	Revision archive.Revision
}

// FleetAt is the configurations that were in force at a time, in order of
// device, and the devices of which nothing had been captured.
func (t *Texts) FleetAt(ctx context.Context, expression string, at time.Time) (list []InForce, without []fleet.Device, err error) {
	sel, err := selector.Parse(expression)
	if err != nil {
		return nil, nil, err
	}
	devices, err := t.fleet.List(ctx, sel)
	if err != nil {
		return nil, nil, err
	}
	revisions, err := t.archive.AllAt(ctx, at)
	if err != nil {
		return nil, nil, err
	}
	by := map[int64][]archive.Revision{}
	for _, r := range revisions {
		by[r.Device] = append(by[r.Device], r)
	}
	for _, d := range devices {
		if len(by[d.ID]) == 0 {
			without = append(without, d)
		}
		for _, r := range by[d.ID] {
			list = append(list, InForce{d, r})
		}
	}
	return list, without, nil
}

// Difference is a configuration that is not the same at two times. A side is
// nil where there was nothing yet.
type Difference struct {
	Device      fleet.Device
	Left, Right *archive.Revision
	Stats       diff.Stats
	Between     int // revisions that came after Left, up to Right
}

// CompareFleet compares what was in force at two times.
func (t *Texts) CompareFleet(ctx context.Context, expression string, from, to time.Time) (list []Difference, same int, err error) {
	if to.Before(from) {
		return nil, 0, fmt.Errorf("%w: the span ends before it begins", ErrTime)
	}
	before, _, err := t.FleetAt(ctx, expression, from)
	if err != nil {
		return nil, 0, err
	}
	after, _, err := t.FleetAt(ctx, expression, to)
	if err != nil {
		return nil, 0, err
	}
	was := map[archive.Key]*archive.Revision{}
	for i := range before {
		was[before[i].Revision.Key] = &before[i].Revision
	}
	for i := range after {
		d := Difference{Device: after[i].Device, Left: was[after[i].Revision.Key], Right: &after[i].Revision}
		if d.Left != nil {
			if d.Left.Number == d.Right.Number || d.Left.SameForm(d.Right) {
				same++
				continue
			}
			if d.Stats, err = t.between(ctx, &d.Device, d.Left, d.Right); err != nil {
				return nil, 0, err
			}
			d.Between = d.Right.Number - d.Left.Number
		} else {
			d.Between = d.Right.Number
		}
		list = append(list, d)
	}
	return list, same, nil
}

// between counts what differs between two revisions of one configuration.
func (t *Texts) between(ctx context.Context, d *fleet.Device, l, r *archive.Revision) (diff.Stats, error) {
	if r.Number == l.Number+1 && r.Origin == archive.Captured && l.Origin == archive.Captured {
		return r.Stats, nil
	}
	var texts [2]string
	for i, x := range []*archive.Revision{l, r} {
		var err error
		if texts[i], err = t.archive.Text(ctx, *x); err != nil {
			if errors.Is(err, archive.ErrThinned) {
				return diff.Stats{}, nil
			}
			return diff.Stats{}, err
		}
	}
	dl, err := t.dialectOf(ctx, d, r.Platform())
	if err != nil {
		return diff.Stats{}, err
	}
	if dl == nil {
		return diff.Compare(diff.Side{Text: texts[0]}, diff.Side{Text: texts[1]}).Stats, nil
	}
	stats, _ := dl.View(texts[1]).Compare(dl.View(texts[0]))
	return stats, nil
}

// History is the lines of a configuration with their stories.
type History struct {
	*Configuration
	Lineage   *diff.Lineage
	Revisions map[int]archive.Revision // by number

	conceal func(string) string
}

// Lines follows the lines of a configuration back to where they came from.
func (t *Texts) Lines(ctx context.Context, source string, c Caller) (*History, error) {
	conf, err := t.Get(ctx, source, c)
	if err != nil {
		return nil, err
	}
	list, err := t.archive.List(ctx, conf.Revision.Key)
	if err != nil {
		return nil, err
	}
	h := &History{Configuration: conf, Revisions: map[int]archive.Revision{}}
	for _, r := range list {
		h.Revisions[r.Number] = r
	}
	if dl := t.dialects[conf.platform]; dl != nil {
		h.conceal = dl.Conceal
	}
	// True texts are followed, so that a secret that changed is a line of its own;
	// what changes by itself, or cannot be decided, is no change.
	h.Lineage, err = archive.Lineage(ctx, t.archive.Contents(), list, conf.Revision.Number, func(r archive.Revision, text string) (string, func(int) []string) {
		dl, err := t.dialectOf(ctx, &conf.Device, r.Platform())
		if err != nil || dl == nil {
			return text, nil
		}
		view := dl.View(text)
		return view.Steady(), view.Tree.PathAt
	})
	return h, err
}

// Stories are the earlier lives of a line, the latest first.
func (h *History) Stories(life int) []diff.Life {
	var list []diff.Life
	for at := h.Lineage.Lives[life].Before; at != 0 && len(list) < 50; at = h.Lineage.Lives[at-1].Before {
		list = append(list, h.Lineage.Lives[at-1])
	}
	return list
}

// Was is the line, as the caller may see it, whose value a line (from 1) changed.
func (h *History) Was(line int) string {
	life := h.Lineage.Lives[h.Lineage.Now[line-1]]
	if life.Was == 0 || h.hides(line) {
		return ""
	}
	was := h.Lineage.Lives[life.Was-1]
	if h.Masked { // what stood there may have been a secret
		return h.conceal(was.Text)
	}
	return was.Text
}
