package diff

import (
	"fmt"
	"slices"
	"strings"
)

// Kind says what became of a line.
type Kind string

// The kinds of row.
const (
	Equal   Kind = "equal"
	Removed Kind = "removed"
	Added   Kind = "added"
	Changed Kind = "changed"
	Moved   Kind = "moved"
	Skipped Kind = "skipped" // equal lines that are not shown; Left and Right are the first, Count how many
)

// Aside says why a difference does not count.
type Aside string

// The reasons to set a difference aside.
const (
	Counts      Aside = ""
	Volatile    Aside = "volatile"    // changes by itself
	Undecidable Aside = "undecidable" // a secret that is written anew at each show
	Order       Aside = "order"       // it stands elsewhere, where order does not count
	Layout      Aside = "layout"      // blanks at the ends of a line, and blank lines
	Expected    Aside = "expected"    // whoever compares has said that it differs
)

// Side is one of the two configurations.
type Side struct {
	Text string
	// PathAt gives the headings above a line (from 1). It may be nil.
	PathAt func(line int) []string
	// Forms says of lines (from 1) how they are compared. It may be nil.
	Forms map[int]Form
	// Structure makes it a comparison by structure where both sides have one.
	Structure *Structure
}

// Form is how a line that is not compared as it stands is compared.
type Form struct {
	Volatile bool
	Text     string // the line with what cannot be compared left out
}

// Span is a half-open range of bytes in a line.
type Span struct{ From, To int }

// Row is one line of a comparison.
type Row struct {
	Kind        Kind
	Left, Right int    // line numbers from 1; 0 where the line is not on that side
	LeftText    string // without line end
	RightText   string
	LeftWords   []Span // what changed within a Changed line
	RightWords  []Span
	Path        []string // the headings above it
	Aside       Aside
	Other       int // Moved: its line number on the other side
	Count       int // Skipped: how many lines
}

// Stats says how many lines differ, set-aside ones apart.
type Stats struct {
	Added, Removed, Changed, Moved int
	Volatile, Undecidable          int
	Order, Layout, Expected        int
}

// Total is how many lines differ and count.
func (s Stats) Total() int { return s.Added + s.Removed + s.Changed + s.Moved }

// Said is what differs in a few words.
func (s Stats) Said() string {
	var words []string
	for _, part := range []struct {
		count int
		word  string
	}{{s.Added, "added"}, {s.Removed, "removed"}, {s.Changed, "changed"}, {s.Moved, "moved"}} {
		if part.count > 0 {
			words = append(words, fmt.Sprintf("%d %s", part.count, part.word))
		}
	}
	if len(words) == 0 {
		return "nothing that counts differs"
	}
	return strings.Join(words, ", ")
}

// SectionStats is the count for one section.
type SectionStats struct {
	Path []string
	Stats
}

// Result is a finished comparison.
type Result struct {
	left, right []string
	edits       []Edit // by line; of a comparison by structure only once they are asked for
	rows        []Row  // all that differ, in order
	parts       []stretch
	Stats       Stats
}

// Identical reports whether the two texts are the same, byte for byte.
func (r *Result) Identical() bool { return len(r.rows) == 0 }

// stretch is a run of equal lines, or of rows that differ (rows is the first of them).
type stretch struct{ rows, left, right, count int }

// equal adds equal lines.
func (r *Result) equal(left, right, count int) {
	if count <= 0 {
		return
	}
	if n := len(r.parts); n > 0 {
		if p := &r.parts[n-1]; p.rows < 0 && p.left+p.count == left && p.right+p.count == right {
			p.count += count
			return
		}
	}
	r.parts = append(r.parts, stretch{-1, left, right, count})
}

// add adds a row that differs.
func (r *Result) add(row Row) {
	r.Stats.add(row)
	if n := len(r.parts); n > 0 && r.parts[n-1].rows >= 0 {
		r.parts[n-1].count++
	} else {
		r.parts = append(r.parts, stretch{len(r.rows), max(row.Left-1, 0), max(row.Right-1, 0), 1})
	}
	r.rows = append(r.rows, row)
}

// Compare compares two configurations.
func Compare(left, right Side) *Result {
	r := &Result{}
	large := len(left.Text)+len(right.Text) > 64<<10
	both(large, func() { r.left = SplitLines(left.Text) }, func() { r.right = SplitLines(right.Text) })
	if left.Structure != nil && right.Structure != nil {
		compareTrees(r, left, right)
		return r
	}
	r.edits = Edits(r.left, r.right)
	c := comparer{r: r, left: left, right: right}
	c.findMoves()
	i, j := 0, 0
	for _, e := range r.edits {
		r.equal(i, j, e.A0-i)
		i, j = e.A1, e.B1
		c.classify(e)
	}
	r.equal(i, j, len(r.left)-i)
	return r
}

// both runs f and g, side by side where that pays. Each side's PathAt is only
// ever called by one of them.
func both(large bool, f, g func()) {
	if !large {
		f()
		g()
		return
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		f()
	}()
	g()
	<-done
}

type comparer struct {
	r           *Result
	left, right Side
	movedTo     map[int]int // left line to right line, from 0
	movedFrom   map[int]int
}

func pathAt(s Side, line int) []string {
	if s.PathAt == nil {
		return nil
	}
	return s.PathAt(line)
}

// findMoves finds lines that were removed at one place and added at another
// under the same headings, where that pairing is the only one possible.
func (c *comparer) findMoves() {
	type places struct{ at, count int }
	collect := func(s Side, lines []string, from, to func(Edit) int) map[string]places {
		found := map[string]places{}
		for _, e := range c.r.edits {
			for i := from(e); i < to(e); i++ {
				text := strings.TrimSpace(lines[i])
				if !strings.ContainsFunc(text, isWordRune) {
					continue
				}
				key := strings.Join(append(pathAt(s, i+1), text), "\x00")
				found[key] = places{i, found[key].count + 1}
			}
		}
		return found
	}
	var removed, added map[string]places
	both(len(c.r.left)+len(c.r.right) > 2000,
		func() {
			removed = collect(c.left, c.r.left, func(e Edit) int { return e.A0 }, func(e Edit) int { return e.A1 })
		},
		func() {
			added = collect(c.right, c.r.right, func(e Edit) int { return e.B0 }, func(e Edit) int { return e.B1 })
		})
	c.movedTo, c.movedFrom = map[int]int{}, map[int]int{}
	for key, from := range removed {
		to, ok := added[key]
		if ok && from.count == 1 && to.count == 1 && c.r.left[from.at] == c.r.right[to.at] {
			c.movedTo[from.at], c.movedFrom[to.at] = to.at, from.at
		}
	}
	// A closing mark goes with the line before it.
	for _, e := range c.r.edits {
		for i := max(e.A0, 1); i < e.A1; i++ {
			j, ok := c.movedTo[i-1]
			if _, done := c.movedTo[i]; !ok || done || !c.inEdit(j+1) || c.r.left[i] != c.r.right[j+1] {
				continue
			}
			if _, taken := c.movedFrom[j+1]; !taken {
				c.movedTo[i], c.movedFrom[j+1] = j+1, i
			}
		}
	}
}

// inEdit reports whether line j (from 0) of the right side is an added one.
func (c *comparer) inEdit(j int) bool {
	lo, hi := 0, len(c.r.edits)
	for lo < hi {
		mid := (lo + hi) / 2
		if c.r.edits[mid].B1 <= j {
			lo = mid + 1
		} else {
			hi = mid
		}
	}
	return lo < len(c.r.edits) && c.r.edits[lo].B0 <= j
}

// classify makes the rows of one edit.
func (c *comparer) classify(e Edit) {
	partner := c.pairUp(e)
	i, j := e.A0, e.B0
	for i < e.A1 || j < e.B1 {
		switch {
		case i < e.A1 && j < e.B1 && partner[i-e.A0] == j:
			c.changed(i, j)
			i++
			j++
		case i < e.A1 && partner[i-e.A0] < 0:
			c.alone(i, -1)
			i++
		default:
			c.alone(-1, j)
			j++
		}
	}
}

func (c *comparer) alone(i, j int) {
	row := Row{}
	if i >= 0 {
		row = Row{Kind: Removed, Left: i + 1, LeftText: chomp(c.r.left[i]), Path: pathAt(c.left, i+1)}
		if to, ok := c.movedTo[i]; ok {
			row.Kind, row.Other = Moved, to+1
		}
		if c.left.Forms[i+1].Volatile {
			row.Aside = Volatile
		}
	} else {
		row = Row{Kind: Added, Right: j + 1, RightText: chomp(c.r.right[j]), Path: pathAt(c.right, j+1)}
		if from, ok := c.movedFrom[j]; ok {
			row.Kind, row.Other = Moved, from+1
		}
		if c.right.Forms[j+1].Volatile {
			row.Aside = Volatile
		}
	}
	c.r.add(row)
}

func (c *comparer) changed(i, j int) {
	row := Row{Kind: Changed, Left: i + 1, Right: j + 1, LeftText: chomp(c.r.left[i]), RightText: chomp(c.r.right[j]), Path: pathAt(c.right, j+1)}
	row.LeftWords, row.RightWords = words(row.LeftText, row.RightText)
	l, isL := c.left.Forms[i+1]
	r, isR := c.right.Forms[j+1]
	switch {
	case l.Volatile && r.Volatile:
		row.Aside = Volatile
	case isL && isR && l.Text == r.Text:
		row.Aside = Undecidable
	}
	c.r.add(row)
}

// maxPairing bounds the work of pairing within one edit.
const maxPairing = 20_000

// pairUp pairs the removed and added lines of an edit that are one line whose
// value changed: the in-order pairing with the highest likeness. The result
// gives, for each left line of the edit, its right line or -1.
func (c *comparer) pairUp(e Edit) []int {
	likeness := func(i, j int) int {
		_, isMovedL := c.movedTo[e.A0+i]
		_, isMovedR := c.movedFrom[e.B0+j]
		if isMovedL || isMovedR {
			return 0
		}
		if l, ok := c.left.Forms[e.A0+i+1]; ok {
			if r, ok := c.right.Forms[e.B0+j+1]; ok && (l.Volatile && r.Volatile || l.Text == r.Text) {
				return 100
			}
		}
		return alike(c.r.left[e.A0+i], c.r.right[e.B0+j])
	}
	partner := bestPairs(e.A1-e.A0, e.B1-e.B0, likeness)
	for i, j := range partner {
		if j >= 0 {
			partner[i] = e.B0 + j
		}
	}
	return partner
}

// bestPairs pairs n things with m others, in order, so that the likeness of the
// pairs adds up to the most; 0 is no likeness at all. The result gives the
// partner of each of the n, or -1. Beyond [maxPairing] nothing is paired.
func bestPairs(n, m int, likeness func(i, j int) int) []int {
	partner := make([]int, n)
	for i := range partner {
		partner[i] = -1
	}
	if n == 0 || m == 0 || n*m > maxPairing {
		return partner
	}
	best := make([]int, (n+1)*(m+1)) // of the things from i and j on
	score := make([]int, n*m)
	for i := n - 1; i >= 0; i-- {
		for j := m - 1; j >= 0; j-- {
			s := likeness(i, j)
			score[i*m+j] = s
			b := max(best[(i+1)*(m+1)+j], best[i*(m+1)+j+1])
			if s > 0 {
				b = max(b, best[(i+1)*(m+1)+j+1]+s)
			}
			best[i*(m+1)+j] = b
		}
	}
	for i, j := 0, 0; i < n && j < m; {
		s := score[i*m+j]
		switch {
		case s > 0 && best[i*(m+1)+j] == best[(i+1)*(m+1)+j+1]+s:
			partner[i] = j
			i++
			j++
		case best[i*(m+1)+j] == best[(i+1)*(m+1)+j]:
			i++
		default:
			j++
		}
	}
	return partner
}

// Sections counts rows by the headings above them, in the order of the text.
func Sections(rows []Row) []SectionStats {
	at := map[string]int{}
	var sections []SectionStats
	for _, row := range rows {
		if row.Kind == Equal || row.Kind == Skipped {
			continue
		}
		key := strings.Join(row.Path, "\x00")
		i, ok := at[key]
		if !ok {
			i = len(sections)
			at[key] = i
			sections = append(sections, SectionStats{Path: row.Path})
		}
		sections[i].add(row)
	}
	return sections
}

func (s *Stats) add(row Row) {
	switch {
	case row.Aside == Volatile:
		s.Volatile++
	case row.Aside == Undecidable:
		s.Undecidable++
	case row.Aside == Order:
		s.Order++
	case row.Aside == Layout:
		s.Layout++
	case row.Aside == Expected:
		s.Expected++
	case row.Kind == Added:
		s.Added++
	case row.Kind == Removed:
		s.Removed++
	case row.Kind == Changed:
		s.Changed++
	case row.Kind == Moved && row.Right > 0: // its other row counts no second time
		s.Moved++
	}
}

// Rows lists the comparison with so many rows around each difference that
// counts; what lies between, set-aside differences included, is one Skipped
// row. A negative context shows everything.
func (r *Result) Rows(context int) []Row {
	out := &rowWriter{result: r, context: context}
	for _, p := range r.parts {
		if p.rows >= 0 {
			rows := r.rows[p.rows : p.rows+p.count]
			if slices.ContainsFunc(rows, func(row Row) bool { return row.Aside == Counts }) {
				out.flush(false)
				out.rows = append(out.rows, rows...)
				out.begun = true
				continue
			}
		}
		out.between = append(out.between, p)
	}
	out.flush(true)
	return out.rows
}

// rowWriter gathers what lies between two differences that count.
type rowWriter struct {
	result  *Result
	context int
	between []stretch
	rows    []Row
	begun   bool // a difference that counts has been written
}

// flush writes what lies between: all of it, or its ends.
func (w *rowWriter) flush(last bool) {
	total := 0
	for _, s := range w.between {
		total += s.count
	}
	head, tail := w.context, w.context
	if !w.begun {
		head = 0
	}
	if last {
		tail = 0
	}
	all := w.context < 0 || total <= head+tail || w.context > 0 && total == head+tail+1
	at, skipped := 0, -1
	for _, s := range w.between {
		for i := 0; i < s.count; i++ {
			if !all && at+i >= head && at+i < total-tail {
				if skipped < 0 {
					skipped = len(w.rows)
					w.rows = append(w.rows, Row{Kind: Skipped, Left: s.left + i + 1, Right: s.right + i + 1, Count: total - head - tail})
				}
				i = min(s.count, total-tail-at) - 1
				continue
			}
			if s.rows >= 0 {
				w.rows = append(w.rows, w.result.rows[s.rows+i])
				continue
			}
			text := chomp(w.result.left[s.left+i])
			w.rows = append(w.rows, Row{Kind: Equal, Left: s.left + i + 1, Right: s.right + i + 1, LeftText: text, RightText: text})
		}
		at += s.count
	}
	w.between = w.between[:0]
}

func chomp(line string) string { return strings.TrimRight(line, "\r\n") }
