package search

import (
	"context"
	"hash/maphash"
	"reflect"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"vergekeep/archive"
	"vergekeep/core/config"
	"vergekeep/core/dialect"
	"vergekeep/core/find"
)

// index holds the newest text of every configuration in memory, each distinct
// line once: a network's configurations are mostly made of the same lines. It
// is built at the first search and kept in step with the archive from then on.
type index struct {
	archive  *archive.Archive
	dialects dialect.Set

	mu   sync.RWMutex
	tick uint64 // of the archive's clock, up to which it is in step
	full bool
	docs map[archive.Key]*document

	body   find.Body        // all distinct lines
	known  map[uint64]int32 // hash of a line and of how it is shown: its place
	seed   maphash.Seed
	hidden map[int32]string // of lines with a secret: how they are shown

	paths   [][]string
	pathIDs map[string]int32
	places  places

	order atomic.Pointer[order]
}

// order is the documents of some devices in the order of their names.
type order struct {
	names     map[int64]string
	datastore string
	docs      []*document
}

// sorted is the documents that are searched, in order. The order is remembered
// for the next search of the same ones.
func (x *index) sorted(w *wanted) []*document {
	if o := x.order.Load(); o != nil && o.datastore == w.datastore && reflect.ValueOf(o.names).Pointer() == reflect.ValueOf(w.names).Pointer() {
		return o.docs
	}
	var docs []*document
	for key, d := range x.docs {
		if w.has(key) {
			docs = append(docs, d)
		}
	}
	slices.SortFunc(docs, func(a, b *document) int { return w.compare(a.revision, b.revision) })
	x.order.Store(&order{w.names, w.datastore, docs})
	return docs
}

// document is the newest text of a configuration.
type document struct {
	revision archive.Revision
	lines    []int32 // by line of the text: its place, see [places]
	blocks   bitset  // of which blocks of places it has lines
	stands   *stands // once it was asked for
}

// places are the distinct lines under the distinct paths of headings: one number
// says both, so that looking through a configuration reads one number a line.
type places struct {
	line, path []int32
	next       []int32 // another place of the same line; -1 for none
	first      []int32 // by line: a place of it
	known      map[uint64]int32
}

func (p *places) of(line, path int32) int32 {
	key := uint64(line)<<32 | uint64(path)
	id, ok := p.known[key]
	if !ok {
		id = int32(len(p.line))
		p.known[key] = id
		for int(line) >= len(p.first) {
			p.first = append(p.first, -1)
		}
		p.line, p.path, p.next = append(p.line, line), append(p.path, path), append(p.next, p.first[line])
		p.first[line] = id
	}
	return id
}

// blockSize is how many places, one after the other, make a block. The lines that a
// configuration alone has came into the index together, so that a rare line is
// looked for in few configurations.
const blockSize = 256

// bitset is a set of small numbers.
type bitset []uint64

func (s bitset) set(i int32)      { s[i/64] |= 1 << (i % 64) }
func (s bitset) has(i int32) bool { return s[i/64]&(1<<(i%64)) != 0 }

// meets reports whether two sets have something in common.
func (s bitset) meets(other bitset) bool {
	for i := range min(len(s), len(other)) {
		if s[i]&other[i] != 0 {
			return true
		}
	}
	return false
}

// stands says since when the lines of a text stand.
type stands struct {
	since []int32 // by line: the number of a revision
	times map[int]time.Time
}

// stands follows the lines of a configuration up to a revision.
func (x *index) stands(ctx context.Context, k archive.Key, number int) (*stands, error) {
	x.mu.RLock()
	d := x.docs[k]
	if d != nil && d.revision.Number == number && d.stands != nil {
		defer x.mu.RUnlock()
		return d.stands, nil
	}
	x.mu.RUnlock()
	list, err := x.archive.List(ctx, k)
	if err != nil {
		return nil, err
	}
	l, err := archive.Lineage(ctx, x.archive.Contents(), list, number, func(r archive.Revision, text string) (string, func(int) []string) {
		dl := x.dialects[r.Platform()]
		if dl == nil {
			return text, nil
		}
		view := dl.View(text)
		return view.Steady(), view.Tree.PathAt
	})
	if err != nil {
		return nil, err
	}
	s := &stands{since: make([]int32, len(l.Now)), times: map[int]time.Time{}}
	for i, life := range l.Now {
		s.since[i] = int32(l.Lives[life].From)
	}
	for _, r := range list {
		s.times[r.Number] = r.FirstSeen
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if d := x.docs[k]; d != nil && d.revision.Number == number {
		d.stands = s
	}
	return s, nil
}

func newIndex(a *archive.Archive, d dialect.Set) *index {
	return &index{archive: a, dialects: d, docs: map[archive.Key]*document{}, known: map[uint64]int32{}, seed: maphash.MakeSeed(), hidden: map[int32]string{}, pathIDs: map[string]int32{}, places: places{known: map[uint64]int32{}}}
}

// parsed is a text on its way into the index.
type parsed struct {
	revision archive.Revision
	lines    []string
	shown    map[int]string // by line, from 0
	paths    [][]string
	err      error
}

// refresh brings the index in step with the archive.
func (x *index) refresh(ctx context.Context) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	devices, tick := x.archive.TouchedSince(x.tick)
	var newer []archive.Revision
	switch {
	case !x.full:
		var err error
		if newer, err = x.archive.AllNewest(ctx); err != nil {
			return err
		}
	case len(devices) > 0:
		snapshot, err := x.archive.Snapshot(ctx, devices)
		if err != nil {
			return err
		}
		for _, id := range devices {
			newest, err := snapshot.Newest(ctx, id)
			if err != nil {
				return err
			}
			for _, r := range newest {
				if d := x.docs[r.Key]; d == nil || d.revision.Number != r.Number {
					newer = append(newer, r)
				} else {
					d.revision = r
				}
			}
		}
	}
	if err := x.take(ctx, newer); err != nil {
		return err
	}
	x.tick, x.full = tick, true
	return nil
}

// take reads and parses texts side by side and adds them one after the other.
func (x *index) take(ctx context.Context, revisions []archive.Revision) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	work := make(chan archive.Revision)
	done := make(chan parsed, 16)
	var wg sync.WaitGroup
	for range min(len(revisions), runtime.GOMAXPROCS(0)) {
		wg.Go(func() {
			contents := x.archive.Contents()
			for r := range work {
				p := parsed{revision: r}
				text, err := contents.Text(ctx, r)
				if err == nil {
					p = parse(x.dialects, r, text)
				}
				p.err = err
				done <- p
			}
		})
	}
	go func() {
		defer close(work)
		for _, r := range revisions {
			select {
			case work <- r:
			case <-ctx.Done():
				return
			}
		}
	}()
	go func() { wg.Wait(); close(done) }()
	var failed error
	for p := range done {
		if p.err != nil {
			if failed == nil {
				failed = p.err
				cancel()
			}
			continue
		}
		if failed == nil {
			x.add(p)
		}
	}
	if failed == nil {
		failed = ctx.Err()
	}
	return failed
}

// parse cuts a text into lines and finds what of them is hidden. Without its
// dialect nobody knows where secrets stand: such a text is hidden altogether.
func parse(dialects dialect.Set, r archive.Revision, text string) parsed {
	p := parsed{revision: r, lines: splitLines(text), shown: map[int]string{}}
	p.paths = make([][]string, len(p.lines))
	dl := dialects[r.Platform()]
	if dl == nil {
		for i := range p.lines {
			p.shown[i] = dialect.Mask
		}
		return p
	}
	view := dl.View(text)
	if len(view.Secret) > 0 {
		shown := splitLines(view.Masked())
		for line := range view.Secret {
			if line <= len(shown) {
				p.shown[line-1] = shown[line-1]
			}
		}
	}
	known := map[*config.Node][]string{}
	var below func(n *config.Node) []string
	below = func(n *config.Node) []string {
		if n == nil {
			return nil
		}
		path, ok := known[n]
		if !ok {
			heading := n.Text
			if shown, hidden := p.shown[int(n.Line)-1]; hidden && !strings.Contains(shown, heading) {
				heading = strings.TrimSpace(shown)
			}
			path = append(slices.Clip(below(n.Parent)), heading)
			known[n] = path
		}
		return path
	}
	for i := range p.lines {
		switch n := view.Tree.NodeAt(i + 1); {
		case n == nil:
		case int(n.Line) == i+1:
			p.paths[i] = below(n.Parent)
		case n.Kind == config.Verbatim, n.Kind == config.Section:
			p.paths[i] = below(n)
		default:
			p.paths[i] = below(n.Parent)
		}
	}
	return p
}

func splitLines(text string) []string {
	lines := strings.Split(text, "\n")
	if n := len(lines); lines[n-1] == "" {
		lines = lines[:n-1]
	}
	for i, l := range lines {
		lines[i] = strings.TrimRight(l, "\r")
	}
	return lines
}

func (x *index) add(p parsed) {
	d := &document{revision: p.revision, lines: make([]int32, len(p.lines))}
	var last []string
	var lastID int32 = -1
	for i, line := range p.lines {
		shown, hidden := p.shown[i]
		if lastID < 0 || !same(last, p.paths[i]) {
			last, lastID = p.paths[i], x.path(p.paths[i])
		}
		d.lines[i] = x.places.of(x.line(line, shown, hidden), lastID)
	}
	d.blocks = make(bitset, len(x.places.line)/blockSize/64+1)
	for _, id := range d.lines {
		d.blocks.set(id / blockSize)
	}
	x.docs[p.revision.Key] = d
	x.order.Store(nil)
}

// same reports whether two paths are one and the same list.
func same(a, b []string) bool {
	return len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0])
}

func (x *index) line(line, shown string, hidden bool) int32 {
	h := maphash.String(x.seed, line)
	if hidden {
		h ^= maphash.String(x.seed, "\x00"+shown)
	}
	for ; ; h++ {
		id, ok := x.known[h]
		if !ok {
			id = int32(x.body.Add(line))
			x.known[h] = id
			if hidden {
				x.hidden[id] = shown
			}
			return id
		}
		if was, is := x.hidden[id]; is == hidden && was == shown && x.body.Is(int(id), line) {
			return id
		}
	}
}

func (x *index) path(path []string) int32 {
	key := strings.Join(path, "\x00")
	id, ok := x.pathIDs[key]
	if !ok {
		id = int32(len(x.paths))
		x.pathIDs[key] = id
		x.paths = append(x.paths, path)
	}
	return id
}

// hits marks the places of the lines that a matcher finds, and their blocks. For
// whoever may not see secrets lines that hold one are matched as they are shown.
func (x *index) hits(m *find.Matcher, seeSecrets bool) (found, blocks bitset) {
	found, blocks = make(bitset, len(x.places.line)/64+1), make(bitset, len(x.places.line)/blockSize/64+1)
	mark := func(line int32) {
		for id := x.places.first[line]; id >= 0; id = x.places.next[id] {
			found.set(id)
			blocks.set(id / blockSize)
		}
	}
	m.Lines(&x.body, func(i int) {
		if _, hidden := x.hidden[int32(i)]; !hidden || seeSecrets {
			mark(int32(i))
		}
	})
	if !seeSecrets {
		for id, shown := range x.hidden {
			if m.In(shown) {
				mark(id)
			}
		}
	}
	return found, blocks
}

// Memory is about how many bytes the index takes.
func (x *index) memory() int {
	x.mu.RLock()
	defer x.mu.RUnlock()
	n := x.body.Memory() + 24*len(x.known) + 36*len(x.places.line) + 4*len(x.places.first)
	for _, d := range x.docs {
		n += 4*len(d.lines) + 8*len(d.blocks) + 400
	}
	return n
}
