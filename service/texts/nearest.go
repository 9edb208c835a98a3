package texts

import (
	"context"
	"errors"
	"hash/maphash"
	"slices"
	"strings"

	"vergekeep/archive"
	"vergekeep/core/selector"
	"vergekeep/service/fleet"
)

// Near is a revision and how much a text resembles it.
type Near struct {
	Device    fleet.Device
	Revision  archive.Revision
	Alike     float64 // from 0 to 1: distinct lines that both have, over those that either has
	Identical bool
}

// nearestDevices is how many configurations are looked into revision by
// revision; nearestAnswers is how many revisions are told.
const nearestDevices, nearestAnswers = 4, 5

// Nearest finds the revisions that a stray text is nearest to. For whoever may
// not see secrets masked texts are compared.
func (t *Texts) Nearest(ctx context.Context, text, expression string, c Caller) ([]Near, error) {
	sel, err := selector.Parse(expression)
	if err != nil {
		return nil, err
	}
	devices, err := t.fleet.List(ctx, sel)
	if err != nil {
		return nil, err
	}
	by := map[int64]fleet.Device{}
	for _, d := range devices {
		by[d.ID] = d
	}
	newest, err := t.archive.AllNewest(ctx)
	if err != nil {
		return nil, err
	}
	seed := maphash.MakeSeed()
	type stray struct {
		text  string
		lines map[uint64]bool
	}
	strays := map[string]stray{} // as each platform would show it
	seen := func(platform, text string) (string, bool) {
		dl := t.dialects[platform]
		switch {
		case c.SeeSecrets:
			return text, true
		case dl == nil:
			return "", false
		}
		return dl.Masked(text), true
	}
	distinct := func(text string) map[uint64]bool {
		set := map[uint64]bool{}
		for line := range strings.Lines(text) {
			if line = strings.TrimSpace(line); line != "" {
				set[maphash.String(seed, line)] = true
			}
		}
		return set
	}
	near := func(r archive.Revision, contents *archive.Contents) (Near, error) {
		platform := r.Platform()
		s, ok := strays[platform]
		if !ok {
			s.text, _ = seen(platform, text)
			s.lines = distinct(s.text)
			strays[platform] = s
		}
		n := Near{Device: by[r.Device], Revision: r}
		kept, err := contents.Text(ctx, r)
		if err != nil {
			if errors.Is(err, archive.ErrThinned) {
				err = nil
			}
			return n, err
		}
		shown, ok := seen(platform, kept)
		if !ok {
			return n, nil
		}
		n.Identical = shown == s.text
		lines := distinct(shown)
		common := 0
		for h := range lines {
			if s.lines[h] {
				common++
			}
		}
		if all := len(lines) + len(s.lines) - common; all > 0 {
			n.Alike = float64(common) / float64(all)
		}
		return n, nil
	}
	order := func(a, b Near) int {
		switch {
		case a.Identical != b.Identical:
			if a.Identical {
				return -1
			}
			return 1
		case a.Alike != b.Alike:
			if a.Alike > b.Alike {
				return -1
			}
			return 1
		}
		return b.Revision.Number - a.Revision.Number
	}
	contents := t.archive.Contents()
	var first, found []Near
	for _, r := range newest {
		if _, ok := by[r.Device]; !ok {
			continue
		}
		n, err := near(r, contents)
		if err != nil {
			return nil, err
		}
		if n.Alike > 0 {
			first = append(first, n)
		}
	}
	slices.SortFunc(first, order)
	for _, n := range first[:min(len(first), nearestDevices)] {
		list, err := t.archive.List(ctx, n.Revision.Key)
		if err != nil {
			return nil, err
		}
		slices.Reverse(list)
		for _, r := range list {
			x, err := near(r, contents)
			if err != nil {
				return nil, err
			}
			found = append(found, x)
		}
	}
	slices.SortFunc(found, order)
	return found[:min(len(found), nearestAnswers)], nil
}
