// Package find looks for a text or a regular expression in the lines of
// configurations. What it is asked for is compiled once into a [Matcher], which
// knows a piece of text that every hit must contain: with it most lines, and
// whole configurations, are ruled out at the speed at which memory is read.
package find

import (
	"errors"
	"fmt"
	"regexp"
	"regexp/syntax"
	"strings"
	"unicode"
	"unicode/utf8"
)

// ErrQuery is wrapped by every error of [Compile].
var ErrQuery = errors.New("it cannot be searched for")

// MaxQuery is how long a query may be, in bytes.
const MaxQuery = 1000

// Query is what is looked for within single lines.
type Query struct {
	Text    string
	Regexp  bool // Text is a regular expression (RE2) and not plain text
	AnyCase bool // capital and small letters are the same
}

// Matcher finds a query in lines. It is safe for concurrent use.
type Matcher struct {
	query   Query
	needles []needle // every hit contains one of them; none if nothing is known
	whole   bool     // containing the needle is all there is to it
	pattern *regexp.Regexp
}

// needle is a piece of text; with fold it is in small letters and compared
// without regard to case.
type needle struct {
	text string
	fold bool
}

// Compile makes a matcher.
func Compile(q Query) (*Matcher, error) {
	switch {
	case q.Text == "":
		return nil, fmt.Errorf("%w: it is empty", ErrQuery)
	case len(q.Text) > MaxQuery:
		return nil, fmt.Errorf("%w: it is longer than %d bytes", ErrQuery, MaxQuery)
	case !utf8.ValidString(q.Text):
		return nil, fmt.Errorf("%w: it is not UTF-8 text", ErrQuery)
	case strings.ContainsAny(q.Text, "\r\n"):
		return nil, fmt.Errorf("%w: lines are searched one by one, and it has a line end", ErrQuery)
	}
	m := &Matcher{query: q}
	if !q.Regexp {
		if !q.AnyCase {
			m.needles, m.whole = []needle{{q.Text, false}}, true
			return m, nil
		}
		if isASCII(q.Text) {
			m.needles, m.whole = []needle{{strings.ToLower(q.Text), true}}, true
		} // folding other letters is the expression's business
		m.pattern = regexp.MustCompile("(?i)" + regexp.QuoteMeta(q.Text))
		if strings.ContainsAny(strings.ToLower(q.Text), "ks") { // two letters outside of ASCII fold to them
			m.needles, m.whole = plainNeedles(q.Text), false
		}
		return m, nil
	}
	source := q.Text
	if q.AnyCase {
		source = "(?i)" + source
	}
	re, err := regexp.Compile(source)
	if err != nil {
		return nil, fmt.Errorf("%w: not a regular expression (RE2): %s", ErrQuery, strings.TrimPrefix(err.Error(), "error parsing regexp: "))
	}
	if re.MatchString("") {
		return nil, fmt.Errorf("%w: the expression matches every line, even an empty one", ErrQuery)
	}
	m.pattern = re
	if parsed, err := syntax.Parse(source, syntax.Perl); err == nil {
		m.needles = required(parsed.Simplify())
	}
	return m, nil
}

// maxNeedles is how many alternatives are looked for one by one.
const maxNeedles = 8

// required are texts of which every match contains one; nil where nothing is
// known.
func required(re *syntax.Regexp) []needle {
	switch re.Op {
	case syntax.OpLiteral:
		text := string(re.Rune)
		if re.Flags&syntax.FoldCase == 0 {
			return []needle{{text, false}}
		}
		return plainNeedles(text)
	case syntax.OpCapture, syntax.OpPlus:
		return required(re.Sub[0])
	case syntax.OpRepeat:
		if re.Min > 0 {
			return required(re.Sub[0])
		}
	case syntax.OpAlternate:
		var all []needle
		for _, sub := range re.Sub {
			n := required(sub)
			if n == nil || len(all)+len(n) > maxNeedles {
				return nil
			}
			all = append(all, n...)
		}
		return all
	case syntax.OpConcat:
		var best, run []needle // run is what the pieces so far, one after the other, spell
		take := func(list []needle) {
			if shortest(list) > shortest(best) {
				best = list
			}
		}
		for _, sub := range re.Sub {
			spelt, more := spells(sub)
			if spelt == nil {
				take(run)
				run = nil
				take(required(sub))
				continue
			}
			if run = joined(run, spelt); run == nil {
				run = spelt
			}
			take(run)
			if more {
				run = nil // it may go on in another way
			}
		}
		return best
	}
	return nil
}

// spells is the few texts that an expression can be, if it can be few; more says
// that each may be followed by more of the same.
func spells(re *syntax.Regexp) (list []needle, more bool) {
	switch re.Op {
	case syntax.OpLiteral:
		if re.Flags&syntax.FoldCase == 0 {
			return []needle{{string(re.Rune), false}}, false
		}
	case syntax.OpCapture:
		return spells(re.Sub[0])
	case syntax.OpPlus:
		list, _ = spells(re.Sub[0])
		return list, true
	case syntax.OpCharClass:
		for i := 0; i+1 < len(re.Rune); i += 2 {
			for c := re.Rune[i]; c <= re.Rune[i+1]; c++ {
				if list = append(list, needle{string(c), false}); len(list) > maxNeedles {
					return nil, false
				}
			}
		}
		return list, false
	case syntax.OpAlternate:
		for _, sub := range re.Sub {
			one, more := spells(sub)
			if one == nil || more || len(list)+len(one) > maxNeedles {
				return nil, false
			}
			list = append(list, one...)
		}
		return list, false
	}
	return nil, false
}

// joined is every text of a followed by every one of b; nil where that is too many.
func joined(a, b []needle) []needle {
	if len(a) == 0 {
		return b
	}
	if len(a)*len(b) > maxNeedles {
		return nil
	}
	var list []needle
	for _, x := range a {
		for _, y := range b {
			list = append(list, needle{x.text + y.text, false})
		}
	}
	return list
}

func shortest(list []needle) int {
	if len(list) == 0 {
		return 0
	}
	n := len(list[0].text)
	for _, x := range list {
		n = min(n, len(x.text))
	}
	return n
}

// plainNeedles is what of a text, whose case is open, ASCII alone decides.
func plainNeedles(text string) []needle {
	if plain := longestPlain(text); plain != "" {
		return []needle{{plain, true}}
	}
	return nil
}

// longestPlain is the longest run of a text, in small letters, without k, s and
// what is outside of ASCII.
func longestPlain(text string) string {
	best := ""
	for _, piece := range strings.FieldsFunc(strings.ToLower(text), func(c rune) bool { return c == 'k' || c == 's' || c >= utf8.RuneSelf }) {
		if len(piece) > len(best) {
			best = piece
		}
	}
	return best
}

func isASCII(s string) bool {
	return !strings.ContainsFunc(s, func(c rune) bool { return c >= utf8.RuneSelf })
}

// Query is what was compiled.
func (m *Matcher) Query() Query { return m.query }

// MayBeIn reports whether a text of many lines can have a hit; false is certain.
func (m *Matcher) MayBeIn(text string) bool {
	for _, n := range m.needles {
		if n.fold && containsFold(text, n.text) || !n.fold && strings.Contains(text, n.text) {
			return true
		}
	}
	return len(m.needles) == 0
}

// containsFold looks for a needle in small ASCII letters.
func containsFold(text, needle string) bool {
	first := needle[0]
	upper := byte(unicode.ToUpper(rune(first)))
	for at := 0; at+len(needle) <= len(text); {
		rest := text[at:]
		i := strings.IndexByte(rest, first)
		if upper != first {
			if j := strings.IndexByte(rest[:max(i, 0)], upper); i < 0 || j >= 0 {
				if i < 0 {
					j = strings.IndexByte(rest, upper)
				}
				i = j
			}
		}
		if i < 0 || at+i+len(needle) > len(text) {
			return false
		}
		if at += i; equalFold(text[at:at+len(needle)], needle) {
			return true
		}
		at++
	}
	return false
}

func equalFold(text, small string) bool {
	for i := range len(small) {
		c := text[i]
		if 'A' <= c && c <= 'Z' {
			c += 'a' - 'A'
		}
		if c != small[i] {
			return false
		}
	}
	return true
}

// In reports whether a line has a hit.
func (m *Matcher) In(line string) bool {
	if !m.MayBeIn(line) {
		return false
	}
	return m.whole || m.pattern.MatchString(line)
}

// Spans are where the hits are in a line, in bytes.
func (m *Matcher) Spans(line string) [][2]int {
	if m.pattern != nil {
		var spans [][2]int
		for _, s := range m.pattern.FindAllStringIndex(line, 20) {
			if s[1] > s[0] {
				spans = append(spans, [2]int{s[0], s[1]})
			}
		}
		return spans
	}
	var spans [][2]int
	for at := 0; len(spans) < 20; {
		i := strings.Index(line[at:], m.needles[0].text)
		if i < 0 {
			break
		}
		spans = append(spans, [2]int{at + i, at + i + len(m.needles[0].text)})
		at += i + len(m.needles[0].text)
	}
	return spans
}
