package diff

import (
	"unicode"
	"unicode/utf16"
	"unicode/utf8"
)

func isWordRune(c rune) bool { return unicode.IsLetter(c) || unicode.IsDigit(c) }

// tokens cuts a line into words and single other characters; blanks are left
// out. What commonly stands inside a value (. - _ : /) belongs to the word,
// except that a "/" after "<" is the mark of a closing tag.
func tokens(line string) []Span {
	spans := make([]Span, 0, 8)
	for i := 0; i < len(line); {
		c, size := rune(line[i]), 1
		if c >= utf8.RuneSelf {
			c, size = utf8.DecodeRuneInString(line[i:])
		}
		if unicode.IsSpace(c) {
			i += size
			continue
		}
		from := i
		i += size
		if isWordRune(c) {
			for i < len(line) {
				c, size = rune(line[i]), 1
				if c >= utf8.RuneSelf {
					c, size = utf8.DecodeRuneInString(line[i:])
				}
				if !isWordRune(c) && c != '.' && c != '-' && c != '_' && c != ':' && c != '/' {
					break
				}
				i += size
			}
		}
		spans = append(spans, Span{from, i})
	}
	return spans
}

// alike is 0, or from 50 to 100 for two lines that share at least half of
// their tokens in order and agree in the first one.
func alike(a, b string) int {
	x, y := tokens(a), tokens(b)
	if len(x) == 0 || len(y) == 0 || a[x[0].From:x[0].To] != b[y[0].From:y[0].To] {
		return 0
	}
	common := 0
	for range commonTokens(a, b, x, y) {
		common++
	}
	if share := 100 * common / max(len(x), len(y)); share >= 50 {
		return share
	}
	return 0
}

// maxTokens bounds the work of comparing within one line.
const maxTokens = 200

// commonTokens yields the index pairs of a longest common subsequence of tokens.
func commonTokens(a, b string, x, y []Span) func(yield func(i, j int) bool) {
	return func(yield func(i, j int) bool) {
		n, m := min(len(x), maxTokens), min(len(y), maxTokens)
		same := func(i, j int) bool { return a[x[i].From:x[i].To] == b[y[j].From:y[j].To] }
		lo := 0
		for lo < n && lo < m && same(lo, lo) {
			if !yield(lo, lo) {
				return
			}
			lo++
		}
		w := m + 1
		best := make([]uint16, (n+1)*w)
		for i := n - 1; i >= lo; i-- {
			for j := m - 1; j >= lo; j-- {
				if same(i, j) {
					best[i*w+j] = best[(i+1)*w+j+1] + 1
				} else {
					best[i*w+j] = max(best[(i+1)*w+j], best[i*w+j+1])
				}
			}
		}
		for i, j := lo, lo; i < n && j < m; {
			switch {
			case same(i, j):
				if !yield(i, j) {
					return
				}
				i++
				j++
			case best[(i+1)*w+j] >= best[i*w+j+1]:
				i++
			default:
				j++
			}
		}
	}
}

// words finds what differs between two lines, as spans of bytes on each side.
func words(a, b string) (left, right []Span) {
	x, y := tokens(a), tokens(b)
	i, j := 0, 0
	for p, q := range commonTokens(a, b, x, y) {
		left, right = cover(left, x[i:p]), cover(right, y[j:q])
		i, j = p+1, q+1
	}
	return cover(left, x[i:]), cover(right, y[j:])
}

// cover adds one span over all of the tokens.
func cover(spans, tokens []Span) []Span {
	if len(tokens) == 0 {
		return spans
	}
	return append(spans, Span{tokens[0].From, tokens[len(tokens)-1].To})
}

// UTF16 is the span in UTF-16 code units, as JavaScript counts.
func (s Span) UTF16(line string) Span {
	units := func(s string) int { return len(utf16.Encode([]rune(s))) }
	from := units(line[:s.From])
	return Span{from, from + units(line[s.From:s.To])}
}

// FromUTF16 is the span in bytes of one given in UTF-16 code units. Ends
// outside of the line are moved into it.
func FromUTF16(line string, s Span) Span {
	out := Span{len(line), len(line)}
	unit := 0
	for i, c := range line {
		if unit <= s.From {
			out.From = i
		}
		if unit <= s.To {
			out.To = i
		}
		unit += max(utf16.RuneLen(c), 1)
	}
	if s.From >= unit {
		out.From = len(line)
	}
	if s.To >= unit {
		out.To = len(line)
	}
	return out
}
