// Package search finds lines and sections in the configurations of the archive:
// in the newest ones, in those of a time, and in all there ever were. Whoever
// may not see secrets searches masked text, so that searching is no oracle.
package search

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math/bits"
	"slices"
	"sort"
	"strings"
	"time"

	"vergekeep/archive"
	"vergekeep/core/config"
	"vergekeep/core/dialect"
	"vergekeep/core/diff"
	"vergekeep/core/find"
	"vergekeep/core/pattern"
	"vergekeep/core/selector"
	"vergekeep/service/fleet"
)

// ErrQuestion is wrapped where a question cannot be answered as it is asked.
var ErrQuestion = errors.New("it cannot be searched for like this")

// Scope says which revisions are searched.
type Scope string

// The scopes.
const (
	Now     Scope = "now"     // the newest of each configuration
	At      Scope = "at"      // those that were in force at a time
	History Scope = "history" // all there ever were, or those of a span of time
)

// Question is what is looked for, and where.
type Question struct {
	Text    string `json:"text,omitempty"`
	Regexp  bool   `json:"regexp,omitempty"`
	AnyCase bool   `json:"anyCase,omitempty"`

	// In is a section pattern, or a neutral name such as interface. With it
	// sections are found, those that have all of Have and none of Lack.
	In   string   `json:"in,omitempty"`
	Have []string `json:"have,omitempty"`
	Lack []string `json:"lack,omitempty"`

	Selector  string    `json:"selector,omitempty"`
	Datastore string    `json:"datastore,omitempty"`
	Scope     Scope     `json:"scope,omitempty"`
	At        time.Time `json:"at,omitzero"`
	From      time.Time `json:"from,omitzero"` // of History
	To        time.Time `json:"to,omitzero"`
	Without   bool      `json:"without,omitempty"` // the devices that do not have it are what is asked for
}

// Hit is a line that has what was looked for, or the heading of such a section.
type Hit struct {
	Device    string
	Key       archive.Key
	Number    int // of the revision
	Line      int // from 1; of History the line in no particular text is not known: 0
	Text      string
	Path      []string
	Spans     [][2]int
	Since     int // the revision since which it stands; 0 where that was not asked
	SinceTime time.Time
	Last      int // of History: the last revision that has it; 0 while it stands
	LastTime  time.Time
}

// Count is how many hits something has.
type Count struct {
	Name  string
	Path  []string
	Count int
}

// Answer is what was found.
type Answer struct {
	Total    int // hits, exactly, where Complete
	Complete bool
	Hits     []Hit   // the first of them
	Devices  []Count // those that have it, by name
	Sections []Count // the most first
	Without  []string
	Searched int // configurations
	Masked   bool

	found map[int64]int
	all   map[int64]string
}

// Picked is the devices that have it, or those that do not.
func (a *Answer) Picked(without bool) map[int64]bool {
	picked := map[int64]bool{}
	for id := range a.all {
		if (a.found[id] == 0) == without {
			picked[id] = true
		}
	}
	return picked
}

// Service answers questions.
type Service struct {
	archive  *archive.Archive
	fleet    *fleet.Fleet
	dialects dialect.Set
	index    *index
	ever     *ever
	now      func() time.Time
}

// New makes a Service.
func New(a *archive.Archive, f *fleet.Fleet, d dialect.Set, now func() time.Time) *Service {
	return &Service{archive: a, fleet: f, dialects: d, index: newIndex(a, d), ever: newEver(a), now: now}
}

// Ready builds what a search of the newest configurations needs, and says how
// many bytes of memory that takes.
func (s *Service) Ready(ctx context.Context) (int, error) {
	err := s.index.refresh(ctx)
	return s.index.memory(), err
}

// ReadyForHistory builds what a search of all history needs, and says how many
// bytes of memory that takes.
func (s *Service) ReadyForHistory(ctx context.Context) (int, error) {
	s.ever.mu.Lock()
	err := s.ever.refresh(ctx)
	s.ever.mu.Unlock()
	return s.ever.memory(), err
}

const (
	maxHits     = 1000
	maxSections = 50
)

// Ask answers a question with at most so many hits.
func (s *Service) Ask(ctx context.Context, q Question, limit int, seeSecrets bool) (*Answer, error) {
	sel, err := selector.Parse(q.Selector)
	if err != nil {
		return nil, err
	}
	w := &wanted{datastore: q.Datastore, limit: min(max(limit, 0), maxHits), seeSecrets: seeSecrets}
	if w.names, err = s.fleet.Names(ctx, sel); err != nil {
		return nil, err
	}
	now := s.now()
	switch {
	case q.In == "" && len(q.Have)+len(q.Lack) > 0:
		return nil, fmt.Errorf("%w: what a section has or lacks takes a section; write for example --in interface", ErrQuestion)
	case q.In == "" && q.Text == "":
		return nil, fmt.Errorf("%w: say what to look for", ErrQuestion)
	case q.In != "" && q.Text != "":
		return nil, fmt.Errorf("%w: take either a text or a section with what it has and lacks", ErrQuestion)
	case len(q.Have)+len(q.Lack) > 20:
		return nil, fmt.Errorf("%w: more than 20 patterns", ErrQuestion)
	case q.Scope == At && q.At.After(now):
		return nil, fmt.Errorf("%w: %s is in the future", ErrQuestion, q.At.Format("2006-01-02 15:04"))
	case !q.To.IsZero() && q.To.Before(q.From):
		return nil, fmt.Errorf("%w: the span ends before it begins", ErrQuestion)
	}
	out := &Answer{Complete: true, Masked: !seeSecrets}
	if q.In != "" {
		if q.Scope == History {
			return nil, fmt.Errorf("%w: sections are looked for in the newest configurations or in those of a time", ErrQuestion)
		}
		if err = s.sections(ctx, q, w, out); err == nil {
			err = s.since(ctx, out.Hits)
		}
	} else {
		var m *find.Matcher
		if m, err = find.Compile(find.Query{Text: q.Text, Regexp: q.Regexp, AnyCase: q.AnyCase}); err != nil {
			return nil, err
		}
		switch q.Scope {
		case History:
			err = s.history(ctx, m, q, w, out)
		case At:
			if err = s.at(ctx, m, q.At, w, out); err == nil {
				err = s.since(ctx, out.Hits)
			}
		default:
			err = s.newest(ctx, m, w, out)
		}
	}
	if err != nil {
		return nil, err
	}
	s.sum(w, out)
	return out, nil
}

// wanted is where is searched, and what has been counted.
type wanted struct {
	names      map[int64]string
	datastore  string
	limit      int
	seeSecrets bool

	byDevice  map[int64]int
	bySection map[string]*Count
}

func (w *wanted) has(k archive.Key) bool {
	_, ok := w.names[k.Device]
	return ok && (w.datastore == "" || w.datastore == k.Datastore)
}

func (w *wanted) start() { w.byDevice, w.bySection = map[int64]int{}, map[string]*Count{} }

func (w *wanted) count(k archive.Key, path []string, n int) {
	if w.byDevice == nil {
		w.start()
	}
	w.byDevice[k.Device] += n
	w.inSection(path, n)
}

func (w *wanted) inSection(path []string, n int) {
	key := strings.Join(path, "\x00")
	c := w.bySection[key]
	if c == nil {
		c = &Count{Path: path}
		w.bySection[key] = c
	}
	c.Count += n
}

// sum makes lists of what was counted.
func (s *Service) sum(w *wanted, out *Answer) {
	out.found, out.all = w.byDevice, w.names
	for id, name := range w.names {
		if n := w.byDevice[id]; n > 0 {
			out.Devices = append(out.Devices, Count{Name: name, Count: n})
		} else {
			out.Without = append(out.Without, name)
		}
	}
	sort.Slice(out.Devices, func(i, j int) bool { return out.Devices[i].Name < out.Devices[j].Name })
	sort.Strings(out.Without)
	for _, c := range w.bySection {
		out.Sections = append(out.Sections, *c)
	}
	slices.SortFunc(out.Sections, func(a, b Count) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), slices.Compare(a.Path, b.Path))
	})
	out.Sections = out.Sections[:min(len(out.Sections), maxSections)]
}

// newest searches the newest configurations, in memory.
func (s *Service) newest(ctx context.Context, m *find.Matcher, w *wanted, out *Answer) error {
	x := s.index
	if err := x.refresh(ctx); err != nil {
		return err
	}
	x.mu.RLock()
	found, blocks := x.hits(m, w.seeSecrets)
	docs := x.sorted(w)
	out.Searched = len(docs)
	counts := make([]int32, len(x.places.line)) // hits by place
	w.start()
	for _, d := range docs {
		if !d.blocks.meets(blocks) {
			continue
		}
		n := 0
		for i, id := range d.lines {
			if !found.has(id) {
				continue
			}
			n++
			counts[id]++
			if len(out.Hits) < w.limit {
				line := x.places.line[id]
				text, hidden := x.hidden[line]
				if !hidden || w.seeSecrets {
					text = x.body.Line(int(line))
				}
				out.Hits = append(out.Hits, Hit{Key: d.revision.Key, Device: w.names[d.revision.Device], Number: d.revision.Number, Line: i + 1, Text: text, Path: x.paths[x.places.path[id]], Spans: m.Spans(text)})
			}
		}
		w.byDevice[d.revision.Device] += n
		out.Total += n
	}
	under := make([]int, len(x.paths)) // hits by path
	for i, word := range found {
		for ; word != 0; word &= word - 1 {
			id := i*64 + bits.TrailingZeros64(word)
			under[x.places.path[id]] += int(counts[id])
		}
	}
	for path, n := range under {
		if n > 0 {
			w.inSection(x.paths[path], n)
		}
	}
	x.mu.RUnlock()
	return s.since(ctx, out.Hits)
}

func (w *wanted) compare(a, b archive.Revision) int {
	if c := strings.Compare(w.names[a.Device], w.names[b.Device]); c != 0 {
		return c
	}
	if c := strings.Compare(a.Datastore, b.Datastore); c != 0 {
		return c
	}
	return strings.Compare(a.Part, b.Part)
}

// at searches what was in force at a time.
func (s *Service) at(ctx context.Context, m *find.Matcher, at time.Time, w *wanted, out *Answer) error {
	return s.each(ctx, at, w, out, func(r archive.Revision, text string) error {
		if !m.MayBeIn(text) {
			return nil
		}
		p := parse(s.dialects, r, text)
		for i, line := range p.lines {
			if shown, hidden := p.shown[i]; hidden && !w.seeSecrets {
				line = shown
			}
			if !m.In(line) {
				continue
			}
			out.Total++
			w.count(r.Key, p.paths[i], 1)
			if len(out.Hits) < w.limit {
				out.Hits = append(out.Hits, Hit{Key: r.Key, Device: w.names[r.Device], Number: r.Number, Line: i + 1, Text: line, Path: p.paths[i], Spans: m.Spans(line)})
			}
		}
		return nil
	})
}

// each reads the configurations of a time, the newest ones for the zero time.
func (s *Service) each(ctx context.Context, at time.Time, w *wanted, out *Answer, f func(archive.Revision, string) error) error {
	revisions, err := s.archive.AllNewest(ctx)
	if !at.IsZero() {
		revisions, err = s.archive.AllAt(ctx, at)
	}
	if err != nil {
		return err
	}
	revisions = slices.DeleteFunc(revisions, func(r archive.Revision) bool { return !w.has(r.Key) })
	slices.SortFunc(revisions, w.compare)
	contents := s.archive.Contents()
	for _, r := range revisions {
		text, err := contents.Text(ctx, r)
		if errors.Is(err, archive.ErrThinned) {
			out.Complete = false
			continue
		}
		if err != nil {
			return err
		}
		out.Searched++
		if err := f(r, text); err != nil {
			return err
		}
	}
	return nil
}

// since fills in since when the lines of hits stand. What was found out of the
// newest texts is remembered.
func (s *Service) since(ctx context.Context, hits []Hit) error {
	for from := 0; from < len(hits); {
		to := from
		for to < len(hits) && hits[to].Key == hits[from].Key {
			to++
		}
		x, err := s.index.stands(ctx, hits[from].Key, hits[from].Number)
		if err != nil {
			return err
		}
		for i := from; i < to; i++ {
			if line := hits[i].Line - 1; line < len(x.since) {
				hits[i].Since = int(x.since[line])
				hits[i].SinceTime = x.times[hits[i].Since]
			}
		}
		from = to
	}
	return nil
}

// lineage follows the lines of a configuration, as the caller may see them, up
// to a revision (0 for the newest). Revisions come newest first.
func (s *Service) lineage(ctx context.Context, revisions []archive.Revision, upTo int, seeSecrets bool) (*diff.Lineage, error) {
	return archive.Lineage(ctx, s.archive.Contents(), revisions, upTo, func(r archive.Revision, text string) (string, func(int) []string) {
		dl := s.dialects[r.Platform()]
		if dl == nil {
			if !seeSecrets {
				text = ""
			}
			return text, nil
		}
		view := dl.View(text)
		tree := view.Tree
		if !seeSecrets && len(view.Secret) > 0 {
			text = view.Masked()
			tree = dl.Tree(text)
		}
		return text, tree.PathAt
	})
}

// history searches all revisions of the configurations that ever had a line that
// can be meant. It stops where there are more hits than it may return.
func (s *Service) history(ctx context.Context, m *find.Matcher, q Question, w *wanted, out *Answer) error {
	candidates, err := s.ever.candidates(ctx, m)
	if err != nil {
		return err
	}
	// What is shown of a secret stands in no text.
	everywhere := !w.seeSecrets && strings.ContainsAny(m.Query().Text, dialect.Mask)
	ends, err := s.archive.Ends(ctx)
	if err != nil {
		return err
	}
	ends = slices.DeleteFunc(ends, func(e archive.End) bool { return !w.has(e.Key) })
	out.Searched = len(ends)
	slices.SortFunc(ends, func(a, b archive.End) int {
		return cmp.Or(strings.Compare(w.names[a.Device], w.names[b.Device]), strings.Compare(a.Datastore, b.Datastore), strings.Compare(a.Part, b.Part))
	})
	for _, e := range ends {
		if !everywhere && !candidates[e.Key] {
			continue
		}
		if err := s.past(ctx, e.Key, m, q, w, out); err != nil || !out.Complete {
			return err
		}
	}
	return nil
}

// past searches all revisions of a configuration.
func (s *Service) past(ctx context.Context, k archive.Key, m *find.Matcher, q Question, w *wanted, out *Answer) error {
	revisions, err := s.archive.List(ctx, k)
	if err != nil {
		return err
	}
	l, err := s.lineage(ctx, revisions, 0, w.seeSecrets)
	if err != nil {
		return err
	}
	by := make(map[int]*archive.Revision, len(revisions))
	for i := range revisions {
		by[revisions[i].Number] = &revisions[i]
	}
	for _, life := range l.Lives {
		if !m.In(life.Text) {
			continue
		}
		first, last := by[life.From], by[life.Last]
		if !q.To.IsZero() && first.FirstSeen.After(q.To) || last != nil && !q.From.IsZero() && last.LastSeen.Before(q.From) {
			continue
		}
		if len(out.Hits) >= w.limit {
			out.Complete = false
			return nil
		}
		out.Total++
		w.count(k, life.Path, 1)
		h := Hit{Key: k, Device: w.names[k.Device], Number: life.From, Text: life.Text, Path: life.Path, Spans: m.Spans(life.Text), Since: life.From, SinceTime: first.FirstSeen, Last: life.Last}
		if last != nil {
			h.LastTime = last.LastSeen
		}
		out.Hits = append(out.Hits, h)
	}
	return nil
}

// sections finds sections by what they have and lack.
func (s *Service) sections(ctx context.Context, q Question, w *wanted, out *Answer) error {
	in, err := pattern.Compile(q.In)
	if err != nil {
		return err
	}
	inside := func(sources []string) (list []*pattern.Pattern, err error) {
		for _, source := range sources {
			if !strings.HasPrefix(source, "... ") {
				source = "... > " + source
			}
			p, err := pattern.Compile(source)
			if err != nil {
				return nil, err
			}
			list = append(list, p)
		}
		return list, nil
	}
	have, err := inside(q.Have)
	if err != nil {
		return err
	}
	lack, err := inside(q.Lack)
	if err != nil {
		return err
	}
	at := time.Time{}
	if q.Scope == At {
		at = q.At
	}
	return s.each(ctx, at, w, out, func(r archive.Revision, text string) error {
		dl := s.dialects[r.Platform()]
		if dl == nil {
			out.Complete = false
			return nil
		}
		p := in
		if name := dl.Names[strings.ToLower(q.In)]; name != nil {
			p = name
		}
		view := dl.View(text)
		tree := view.Tree
		if !w.seeSecrets && len(view.Secret) > 0 {
			tree = dl.Tree(view.Masked())
		}
		seen := map[*config.Node]bool{}
		pattern.NewSet(p).Find(tree, func(_ int, m pattern.Match) {
			section := m.Node
			if up := section.Parent; up != nil && up.Kind == config.Group { // a flat section is all its lines
				section = up
			}
			below := func(p *pattern.Pattern) bool { return p.Below(tree, section) }
			if seen[section] || slices.ContainsFunc(lack, below) || !every(have, below) {
				return
			}
			seen[section] = true
			out.Total++
			path := section.Path()
			w.count(r.Key, append(slices.Clone(path), section.Text), 1)
			if len(out.Hits) < w.limit {
				out.Hits = append(out.Hits, Hit{Key: r.Key, Device: w.names[r.Device], Number: r.Number, Line: int(section.Line), Text: tree.LineAt(int(section.Line)), Path: path})
			}
		})
		return nil
	})
}

func every[T any](list []T, holds func(T) bool) bool {
	return !slices.ContainsFunc(list, func(v T) bool { return !holds(v) })
}
