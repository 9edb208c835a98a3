package search

import (
	"context"
	"hash/maphash"
	"slices"
	"sync"

	"vergekeep/archive"
	"vergekeep/core/find"
)

// ever knows of every configuration which lines it ever had, each distinct line
// once. It says where a search of all history has to look: whatever it rules out
// has no hit. It is built when it is first needed and kept in step from then on.
type ever struct {
	archive *archive.Archive

	mu    sync.Mutex
	tick  uint64 // of the archive's clock, up to which it is in step
	full  bool
	pasts map[archive.Key]*past

	body  find.Body
	known map[uint64]int32 // hash of a line: its place
	seed  maphash.Seed
}

// past is a configuration.
type past struct {
	key   archive.Key
	upTo  int // the number of the revision that arrived last
	lines []int32
	has   map[int32]bool // while it is filled
	text  string         // that was taken in last, while it is filled
}

func newEver(a *archive.Archive) *ever {
	return &ever{archive: a, pasts: map[archive.Key]*past{}, known: map[uint64]int32{}, seed: maphash.MakeSeed()}
}

// refresh brings it in step with the archive.
func (x *ever) refresh(ctx context.Context) error {
	devices, tick := x.archive.TouchedSince(x.tick)
	if x.full && len(devices) == 0 {
		return nil
	}
	if !x.full {
		var p *past
		if err := x.archive.Each(ctx, func(r archive.Revision, text func() (string, error)) error {
			if p == nil || p.key != r.Key {
				p.filled()
				p = x.past(r.Key)
			}
			p.upTo = max(p.upTo, r.Number)
			if r.Thinned {
				return nil
			}
			said, err := text()
			if err == nil {
				x.add(p, said)
			}
			return err
		}); err != nil {
			return err
		}
		p.filled()
		x.tick, x.full = tick, true
		return nil
	}
	ends, err := x.archive.Ends(ctx)
	if err != nil {
		return err
	}
	contents := x.archive.Contents()
	for _, e := range ends {
		if !slices.Contains(devices, e.Device) {
			continue
		}
		p := x.past(e.Key)
		if p.upTo >= e.Last {
			continue
		}
		revisions, err := x.archive.After(ctx, e.ID, p.upTo)
		if err != nil {
			return err
		}
		for _, r := range revisions {
			if !r.Thinned {
				text, err := contents.Text(ctx, r)
				if err != nil {
					return err
				}
				x.add(p, text)
			}
			p.upTo = r.Number
		}
		p.filled()
	}
	x.tick = tick
	return nil
}

func (x *ever) past(k archive.Key) *past {
	p := x.pasts[k]
	if p == nil {
		p = &past{key: k}
		x.pasts[k] = p
	}
	p.has = make(map[int32]bool, len(p.lines))
	for _, id := range p.lines {
		p.has[id] = true
	}
	return p
}

// filled lets go of what only filling needs.
func (p *past) filled() {
	if p != nil {
		p.lines, p.has, p.text = slices.Clip(p.lines), nil, ""
	}
}

// add takes the lines of a text in; those that it begins and ends with as the one
// before it are known.
func (x *ever) add(p *past, text string) {
	n := 0
	for n < min(len(text), len(p.text)) && text[n] == p.text[n] {
		n++
	}
	for n > 0 && text[n-1] != '\n' {
		n--
	}
	middle, before := text[n:], p.text[n:]
	m := 0
	for m < min(len(middle), len(before)) && middle[len(middle)-1-m] == before[len(before)-1-m] {
		m++
	}
	// The end that both have begins with a line of either.
	begins := func(s string) bool { return m == len(s) || s[len(s)-m-1] == '\n' }
	for m > 0 && !(begins(middle) && begins(before)) {
		m--
	}
	p.text = text
	for _, line := range splitLines(middle[:len(middle)-m]) {
		id := x.line(line)
		if !p.has[id] {
			p.has[id] = true
			p.lines = append(p.lines, id)
		}
	}
}

func (x *ever) line(line string) int32 {
	for h := maphash.String(x.seed, line); ; h++ {
		id, ok := x.known[h]
		if !ok {
			id = int32(x.body.Add(line))
			x.known[h] = id
			return id
		}
		if x.body.Is(int(id), line) {
			return id
		}
	}
}

// candidates are the configurations that ever had a line which can have a hit.
func (x *ever) candidates(ctx context.Context, m *find.Matcher) (map[archive.Key]bool, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if err := x.refresh(ctx); err != nil {
		// What was taken in by half is begun anew.
		x.full, x.tick, x.pasts = false, 0, map[archive.Key]*past{}
		return nil, err
	}
	lines := make(bitset, x.body.Len()/64+1)
	any := false
	m.Candidates(&x.body, func(i int) {
		lines.set(int32(i))
		any = true
	})
	found := map[archive.Key]bool{}
	for _, p := range x.pasts {
		if any && slices.ContainsFunc(p.lines, lines.has) {
			found[p.key] = true
		}
	}
	return found, nil
}

// memory is about how many bytes it takes.
func (x *ever) memory() int {
	x.mu.Lock()
	defer x.mu.Unlock()
	n := x.body.Memory() + 24*len(x.known)
	for _, p := range x.pasts {
		n += 4*len(p.lines) + 100
	}
	return n
}
