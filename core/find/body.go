package find

import (
	"bytes"
	"slices"
)

// Body is many lines to look through. Its zero value has none.
type Body struct {
	text   []byte // all lines, each with a line end
	small  []byte // the same in small ASCII letters
	starts []int  // where each line starts

	counts, smallCounts [256]int // how often each byte stands in text and in small
}

// Add adds a line, which has no line end, and returns its place.
func (b *Body) Add(line string) int {
	b.starts = append(b.starts, len(b.text))
	b.text = append(append(b.text, line...), '\n')
	for _, c := range b.text[len(b.small):] {
		b.counts[c]++
		if 'A' <= c && c <= 'Z' {
			c += 'a' - 'A'
		}
		b.smallCounts[c]++
		b.small = append(b.small, c)
	}
	return len(b.starts) - 1
}

// Len is how many lines there are.
func (b *Body) Len() int { return len(b.starts) }

// Line is a line by its place.
func (b *Body) Line(i int) string { return string(b.line(i)) }

// Is reports whether that is a line.
func (b *Body) Is(i int, line string) bool { return string(b.line(i)) == line }

func (b *Body) line(i int) []byte {
	end := len(b.text)
	if i+1 < len(b.starts) {
		end = b.starts[i+1]
	}
	return b.text[b.starts[i] : end-1]
}

// Memory is about how many bytes it takes.
func (b *Body) Memory() int { return len(b.text) + len(b.small) + 8*len(b.starts) }

// Lines calls hit with the place of each line that has a hit.
func (m *Matcher) Lines(b *Body, hit func(line int)) {
	m.Candidates(b, func(line int) {
		if m.whole || m.pattern.Match(b.line(line)) {
			hit(line)
		}
	})
}

// Candidates calls f with the place of each line that can have a hit, in order.
func (m *Matcher) Candidates(b *Body, f func(line int)) {
	if len(m.needles) == 0 {
		for i := range b.starts {
			f(i)
		}
		return
	}
	scans := make([]scan, len(m.needles))
	next := make([]int, len(m.needles)) // by needle: the line of its next hit
	find := func(k, from int) {
		next[k] = len(b.starts)
		if from >= len(b.starts) {
			return
		}
		if i := scans[k].next(b.starts[from]); i >= 0 {
			next[k] = lineOf(b.starts, from, i)
		}
	}
	for k, n := range m.needles {
		scans[k] = b.scan(n)
		find(k, 0)
	}
	for {
		line := slices.Min(next)
		if line == len(b.starts) {
			return
		}
		f(line)
		for k := range next {
			if next[k] == line {
				find(k, line+1)
			}
		}
	}
}

// scan looks for a needle by the byte of it that stands in the text least often:
// memory is read for one byte many times faster than for a text whose start is
// common.
type scan struct {
	hay    []byte
	needle []byte
	rarest int
	common bool // even that byte is common
}

func (b *Body) scan(n needle) scan {
	s := scan{hay: b.text, needle: []byte(n.text)}
	counts := &b.counts
	if n.fold {
		s.hay, counts = b.small, &b.smallCounts
	}
	for i, c := range s.needle {
		if counts[c] < counts[s.needle[s.rarest]] {
			s.rarest = i
		}
	}
	const oftenEnough = 16
	s.common = counts[s.needle[s.rarest]] > len(s.hay)/oftenEnough
	return s
}

// next is where the needle stands next from an offset on; -1 for nowhere.
func (s *scan) next(from int) int {
	if s.common {
		if i := bytes.Index(s.hay[from:], s.needle); i >= 0 {
			return from + i
		}
		return -1
	}
	c := s.needle[s.rarest]
	for at := from + s.rarest; at < len(s.hay); at++ {
		i := bytes.IndexByte(s.hay[at:], c)
		if i < 0 {
			return -1
		}
		at += i
		start := at - s.rarest
		if end := start + len(s.needle); end <= len(s.hay) && s.hay[start] == s.needle[0] && bytes.Equal(s.hay[start:end], s.needle) {
			return start
		}
	}
	return -1
}

// lineOf is the last line from `from` on that starts at or before an offset. It
// looks near at first, as hits lie close together or far apart.
func lineOf(starts []int, from, offset int) int {
	step := 1
	low := from
	for low+step < len(starts) && starts[low+step] <= offset {
		low += step
		step *= 2
	}
	high := min(low+step, len(starts))
	for low+1 < high {
		mid := (low + high) / 2
		if starts[mid] <= offset {
			low = mid
		} else {
			high = mid
		}
	}
	return low
}
