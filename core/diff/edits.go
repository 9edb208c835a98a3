package diff

import (
	"hash/maphash"
	"strings"
)

// Edit replaces lines A0 up to A1 of the left text by lines B0 up to B1 of the
// right one. Lines are counted from 0 and the ends are not included.
type Edit struct{ A0, A1, B0, B1 int }

// SplitLines cuts a text into lines. Each keeps its line end, so that joining
// them gives the text again.
func SplitLines(s string) []string {
	lines := make([]string, 0, len(s)/20+1) // a guess; counting would read the text twice
	for len(s) > 0 {
		n := strings.IndexByte(s, '\n') + 1
		if n == 0 {
			n = len(s)
		}
		lines = append(lines, s[:n])
		s = s[n:]
	}
	return lines
}

// Edits finds what turns the lines of a into those of b, in ascending order
// and with at least one equal line between any two.
func Edits(a, b []string) []Edit {
	// What is equal at both ends needs no further look.
	start := 0
	for start < len(a) && start < len(b) && a[start] == b[start] {
		start++
	}
	endA, endB := len(a), len(b)
	for endA > start && endB > start && a[endA-1] == b[endB-1] {
		endA--
		endB--
	}
	if start == endA && start == endB {
		return nil
	}
	idsA, idsB, kinds := intern(a[start:endA], b[start:endB])
	d := differ{a: idsA, b: idsB, offset: start}
	edits := d.all(kinds)
	slide(a, b, edits)
	return edits
}

// all finds the edits between a and b, whose numbers are below kinds.
func (d *differ) all(kinds int) []Edit {
	i, j := 0, 0
	for _, anchor := range d.anchors(kinds) {
		if anchor.a < i || anchor.b < j {
			continue // an earlier anchor has grown over it
		}
		a0, b0 := anchor.a, anchor.b
		for a0 > i && b0 > j && d.a[a0-1] == d.b[b0-1] {
			a0--
			b0--
		}
		d.gap(i, a0, j, b0)
		i, j = anchor.a+1, anchor.b+1
		for i < len(d.a) && j < len(d.b) && d.a[i] == d.b[j] {
			i++
			j++
		}
	}
	d.gap(i, len(d.a), j, len(d.b))
	return d.edits
}

// slide moves each pure insertion or deletion to where a person would see it.
// A block whose first line equals the line after it could as well stand one
// line lower; of all such places the one that starts least indented reads
// best, and of those the lowest.
func slide(a, b []string, edits []Edit) {
	for k := range edits {
		e := &edits[k]
		insertion := e.A0 == e.A1
		if !insertion && e.B0 != e.B1 {
			continue
		}
		lines, from, to := a, e.A0, e.A1
		low, high := 0, len(a)
		if insertion {
			lines, from, to = b, e.B0, e.B1
			high = len(b)
		}
		// One equal line stays between neighbours.
		if k > 0 {
			low = edits[k-1].A1 + 1
			if insertion {
				low = edits[k-1].B1 + 1
			}
		}
		if k+1 < len(edits) {
			high = edits[k+1].A0 - 1
			if insertion {
				high = edits[k+1].B0 - 1
			}
		}
		first, last := 0, 0
		for from+first > low && lines[from+first-1] == lines[to+first-1] {
			first--
		}
		for to+last < high && lines[from+last] == lines[to+last] {
			last++
		}
		best, least := 0, indentation(lines[from])
		for shift := first; shift <= last; shift++ {
			if in := indentation(lines[from+shift]); in < least || in == least && shift > best {
				best, least = shift, in
			}
		}
		e.A0, e.A1, e.B0, e.B1 = e.A0+best, e.A1+best, e.B0+best, e.B1+best
	}
}

// indentation counts leading blanks; a line of nothing else, or of only
// closing marks, is no good start and counts as deep.
func indentation(line string) int {
	for i := range len(line) {
		switch line[i] {
		case ' ', '\t':
			continue
		case '\r', '\n', '}', ']':
			return 1 << 20
		}
		return i
	}
	return 1 << 20
}

type differ struct {
	a, b   []int32
	offset int
	edits  []Edit
}

type pair struct{ a, b int }

// intern gives equal lines equal numbers. It is an open-addressing table with
// the run-time's own string hash; the table holds numbers only, so that it stays
// in the processor's cache (a map costs twice the time of everything else).
func intern(a, b []string) (idsA, idsB []int32, kinds int) {
	seed := maphash.MakeSeed()
	size := 16
	for size < 3*(len(a)+len(b))/2 {
		size *= 2
	}
	table := make([]int32, size) // number of a line from 1; 0 is an empty slot
	type known struct {
		hash uint32
		at   int32 // in a, or in b from len(a) on
	}
	seen := make([]known, 0, max(len(a), len(b))+64)
	ids := make([]int32, len(a)+len(b))
	text := func(k known) string {
		if int(k.at) < len(a) {
			return a[k.at]
		}
		return b[int(k.at)-len(a)]
	}
	hashes := make([]uint64, len(a)+len(b))
	hash := func(lines []string, hashes []uint64) {
		for i, line := range lines {
			hashes[i] = maphash.String(seed, line)
		}
	}
	both(len(hashes) > 2000, func() { hash(a, hashes[:len(a)]) }, func() { hash(b, hashes[len(a):]) })
	number := func(lines []string, first int, ids []int32) {
		for i, line := range lines {
			h := hashes[first+i]
			at, short := int(h>>32)&(size-1), uint32(h)
			for {
				id := table[at]
				if id == 0 {
					seen = append(seen, known{short, int32(first + i)})
					id = int32(len(seen))
					table[at] = id
				} else if k := seen[id-1]; k.hash != short || text(k) != line {
					at = (at + 1) & (size - 1)
					continue
				}
				ids[i] = id - 1
				break
			}
		}
	}
	idsA, idsB = ids[:len(a):len(a)], ids[len(a):]
	number(a, 0, idsA)
	number(b, len(a), idsB)
	return idsA, idsB, len(seen)
}

// anchors are the lines that occur once on each side, thinned to the longest
// run that is in order on both.
func (d *differ) anchors(kinds int) []pair {
	type count struct{ inA, inB, atB int32 }
	counts := make([]count, kinds)
	for _, id := range d.a {
		counts[id].inA++
	}
	for j, id := range d.b {
		counts[id].inB++
		counts[id].atB = int32(j)
	}
	var unique []pair
	for i, id := range d.a {
		if c := counts[id]; c.inA == 1 && c.inB == 1 {
			unique = append(unique, pair{i, int(c.atB)})
		}
	}
	return increasing(unique)
}

// increasing is a longest run of pairs that ascend in b as they do in a.
func increasing(unique []pair) []pair {
	// tails[k] is the index of the smallest last element of a run of length k+1.
	tails := make([]int32, 0, len(unique))
	before := make([]int32, len(unique))
	for i, p := range unique {
		lo, hi := 0, len(tails)
		if hi > 0 && unique[tails[hi-1]].b < p.b {
			lo = hi // the usual case: in order
		}
		for lo < hi {
			mid := (lo + hi) / 2
			if unique[tails[mid]].b < p.b {
				lo = mid + 1
			} else {
				hi = mid
			}
		}
		before[i] = -1
		if lo > 0 {
			before[i] = tails[lo-1]
		}
		if lo == len(tails) {
			tails = append(tails, int32(i))
		} else {
			tails[lo] = int32(i)
		}
	}
	run := make([]pair, len(tails))
	if len(tails) > 0 {
		at := tails[len(tails)-1]
		for k := len(tails) - 1; k >= 0; k-- {
			run[k] = unique[at]
			at = before[at]
		}
	}
	return run
}

func (d *differ) emit(a0, a1, b0, b1 int) {
	if a0 == a1 && b0 == b1 {
		return
	}
	e := Edit{a0 + d.offset, a1 + d.offset, b0 + d.offset, b1 + d.offset}
	if n := len(d.edits); n > 0 && d.edits[n-1].A1 == e.A0 && d.edits[n-1].B1 == e.B0 {
		d.edits[n-1].A1, d.edits[n-1].B1 = e.A1, e.B1
		return
	}
	d.edits = append(d.edits, e)
}

// maxEdits bounds the work inside one gap: beyond it the gap is taken as
// replaced as a whole.
const maxEdits = 400

// gap compares the lines between two anchors (Myers, "An O(ND) Difference
// Algorithm and Its Variations", 1986, the greedy form with a trace).
func (d *differ) gap(a0, a1, b0, b1 int) {
	for a0 < a1 && b0 < b1 && d.a[a0] == d.b[b0] {
		a0++
		b0++
	}
	for a1 > a0 && b1 > b0 && d.a[a1-1] == d.b[b1-1] {
		a1--
		b1--
	}
	n, m := a1-a0, b1-b0
	if n == 0 || m == 0 {
		d.emit(a0, a1, b0, b1)
		return
	}
	limit := min(n+m, maxEdits)
	v := make([]int, 2*limit+3)
	var trace [][]int
	at := func(k int) int { return k + limit + 1 }
	for e := 0; e <= limit; e++ {
		trace = append(trace, append([]int(nil), v[at(-e-1):at(e+1)+1]...))
		for k := -e; k <= e; k += 2 {
			var x int
			if k == -e || k != e && v[at(k-1)] < v[at(k+1)] {
				x = v[at(k+1)]
			} else {
				x = v[at(k-1)] + 1
			}
			y := x - k
			for x < n && y < m && d.a[a0+x] == d.b[b0+y] {
				x++
				y++
			}
			v[at(k)] = x
			if x >= n && y >= m {
				d.backtrack(trace, a0, a1, b0, b1)
				return
			}
		}
	}
	d.emit(a0, a1, b0, b1)
}

// backtrack turns the trace of gap into edits.
func (d *differ) backtrack(trace [][]int, a0, a1, b0, b1 int) {
	x, y := a1-a0, b1-b0
	var matches []pair // runs of equal lines, from the back; b holds the length
	var starts []pair
	for e := len(trace) - 1; e >= 0; e-- {
		v := trace[e]
		at := func(k int) int { return v[k+e+1] }
		k := x - y
		prev := k - 1
		if k == -e || k != e && at(k-1) < at(k+1) {
			prev = k + 1
		}
		px := at(prev)
		if e == 0 {
			px = 0
		}
		py := px - prev
		// The diagonal starts right after the single edit.
		sx, sy := px, py
		switch {
		case e == 0:
			sx, sy = 0, 0
		case prev == k+1:
			sy++
		default:
			sx++
		}
		if x > sx {
			starts = append(starts, pair{sx, sy})
			matches = append(matches, pair{x - sx, 0})
		}
		x, y = px, py
	}
	i, j := 0, 0
	for k := len(starts) - 1; k >= 0; k-- {
		d.emit(a0+i, a0+starts[k].a, b0+j, b0+starts[k].b)
		i, j = starts[k].a+matches[k].a, starts[k].b+matches[k].a
	}
	d.emit(a0+i, a1, b0+j, b1)
}
