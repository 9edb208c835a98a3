// Package pattern is the one language for places inside a configuration: what
// does not count, what is secret, and later what is searched for and audited.
//
// A pattern is a path of headings and a line, separated by " > ". Each of them
// is matched word by word:
//
//	interface * > counters **
//	account ** > password {secret}
//	... > serial-number *
//
//	word      that word
//	*         any one word
//	pre*      one word that starts with pre (a * may stand anywhere in a word)
//	**        any number of words, only at the end
//	{name}    any one word, captured
//	{name..}  all words that follow, captured; only at the end
//	...       any number of headings, only at the start
//
// Words are separated by blanks; quotes hold a word together. Sections that
// only a reader sees (the groups of flat configurations) are not part of the
// path, so a pattern for a flat platform is one line long.
package pattern

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"vergekeep/core/config"
	"vergekeep/core/glob"
)

// Pattern is a compiled section pattern.
type Pattern struct {
	source  string
	anyHead bool
	steps   []step
	head    int // within a set: the number of its steps above the last one
}

type step struct{ words []word }

type wordKind uint8

const (
	literal wordKind = iota
	anyWord
	globWord
	restWords
	capture
	captureRest
)

type word struct {
	kind wordKind
	text string
}

// ErrSyntax is wrapped by every error of [Compile].
var ErrSyntax = errors.New("not a section pattern")

// Compile reads a pattern.
func Compile(source string) (*Pattern, error) {
	bad := func(format string, args ...any) (*Pattern, error) {
		return nil, fmt.Errorf("%w: %q: %s", ErrSyntax, source, fmt.Sprintf(format, args...))
	}
	p := &Pattern{source: source}
	for i, part := range strings.Split(source, " > ") {
		part = strings.TrimSpace(part)
		if part == "..." {
			if i > 0 {
				return bad(`"..." can only stand at the start`)
			}
			p.anyHead = true
			continue
		}
		fields := strings.Fields(part)
		if len(fields) == 0 {
			return bad("a step of the path is empty")
		}
		s := step{}
		for j, f := range fields {
			w := word{literal, f}
			switch {
			case f == "*":
				w.kind = anyWord
			case f == "**":
				w.kind = restWords
			case strings.HasPrefix(f, "{") && strings.HasSuffix(f, "..}"):
				w = word{captureRest, f[1 : len(f)-3]}
			case strings.HasPrefix(f, "{") && strings.HasSuffix(f, "}"):
				w = word{capture, f[1 : len(f)-1]}
			case strings.Contains(f, "*"):
				w.kind = globWord
			}
			if (w.kind == capture || w.kind == captureRest) && w.text == "" {
				return bad("a capture has no name: write {name}")
			}
			if (w.kind == restWords || w.kind == captureRest) && j != len(fields)-1 {
				return bad("%q can only stand at the end of a step", f)
			}
			s.words = append(s.words, w)
		}
		p.steps = append(p.steps, s)
	}
	if len(p.steps) == 0 {
		return bad(`"..." needs a line after it`)
	}
	return p, nil
}

// String is the pattern as written.
func (p *Pattern) String() string { return p.source }

// Captures names what the pattern captures.
func (p *Pattern) Captures() []string {
	var names []string
	for _, s := range p.steps {
		for _, w := range s.words {
			if w.kind == capture || w.kind == captureRest {
				names = append(names, w.text)
			}
		}
	}
	return names
}

// Match is one place that a pattern found.
type Match struct {
	Node     *config.Node
	Captured []Capture
}

// Capture is a word, or several, that a pattern captured.
type Capture struct {
	Name string
	config.Word
}

// Get is what was captured under a name; it is false where nothing was.
func (m *Match) Get(name string) (config.Word, bool) {
	for i := range m.Captured {
		if m.Captured[i].Name == name {
			return m.Captured[i].Word, true
		}
	}
	return config.Word{}, false
}

func (p *Pattern) match(t *config.Tree, n *config.Node, known []heading) (Match, bool) {
	if n.Kind == config.Blank || n.Kind == config.Group {
		return Match{}, false
	}
	// Most tries come to nothing: what they capture is kept on the stack.
	var room [4]Capture
	got, ok := p.steps[len(p.steps)-1].match(t, n, room[:0])
	if !ok {
		return Match{}, false
	}
	up := above(n)
	if len(p.steps) == 1 || known == nil {
		if got, ok = p.under(t, up, got); !ok {
			return Match{}, false
		}
		return Match{n, slices.Clone(got)}, true
	}
	// The lines of a section come one after the other: its headings are matched once.
	h := &known[p.head]
	if !h.asked || h.node != up {
		h.node, h.asked = up, true
		h.captured, h.ok = p.under(t, up, h.captured[:0])
	}
	if !h.ok {
		return Match{}, false
	}
	for _, c := range h.captured {
		got = with(got, c.Name, c.Word)
	}
	return Match{n, slices.Clone(got)}, true
}

// heading is what is known of the headings of patterns that have the same ones.
type heading struct {
	node      *config.Node
	asked, ok bool
	captured  []Capture
}

// above is the heading above a node; nil for none. Sections that only a reader sees
// are none.
func above(n *config.Node) *config.Node {
	at := n.Parent
	for at != nil && at.Kind == config.Group {
		at = at.Parent
	}
	return at
}

// under matches the steps above the last one.
func (p *Pattern) under(t *config.Tree, at *config.Node, got []Capture) ([]Capture, bool) {
	for i := len(p.steps) - 2; i >= 0; i-- {
		ok := false
		if at != nil {
			got, ok = p.steps[i].match(t, at, got)
		}
		if !ok {
			return got, false
		}
		at = above(at)
	}
	return got, p.anyHead || at == nil
}

// match holds a step against a node, and adds what it captures.
func (s step) match(t *config.Tree, n *config.Node, got []Capture) ([]Capture, bool) {
	// Most nodes fail on their first word: look at it before splitting the rest.
	if first := s.words[0]; first.kind == literal && !strings.HasPrefix(n.Text, first.text) {
		return got, false
	}
	if s.words[0].kind == restWords {
		return got, true
	}
	// Words are cut off one by one, as most nodes fail at the first or second; the
	// syntaxes without words of their own give all of them.
	all, at := []config.Word(nil), int32(0)
	whole := t.Syntax.Reader == config.XML || t.Syntax.Reader == config.JSON
	if whole {
		all = t.Words(n)
	}
	next := func() (w config.Word, ok bool) {
		if !whole {
			w, ok = t.NextWord(n, at)
			at = w.At.To
		} else if len(all) > 0 {
			w, ok, all = all[0], true, all[1:]
		}
		return w, ok
	}
	for _, w := range s.words {
		if w.kind == restWords {
			return got, true
		}
		word, ok := next()
		if !ok {
			return got, false
		}
		switch w.kind {
		case literal:
			if word.Text != w.text {
				return got, false
			}
		case globWord:
			if !glob.Match(w.text, word.Text) {
				return got, false
			}
		case capture:
			got = with(got, w.text, word)
		case captureRest:
			for last, more := next(); more; last, more = next() {
				word.At.To = last.At.To
			}
			got = with(got, w.text, config.Word{Text: t.Source[word.At.From:word.At.To], At: word.At})
			return got, true
		}
	}
	_, more := next()
	return got, !more
}

// with adds a capture; of two with the same name the last counts.
func with(got []Capture, name string, w config.Word) []Capture {
	for i := range got {
		if got[i].Name == name {
			got[i].Word = w
			return got
		}
	}
	return append(got, Capture{name, w})
}

// Set looks for many patterns in one walk over a tree.
type Set struct {
	patterns []*Pattern
	byWord   map[string][]int // those whose line starts with a word of its own
	others   []int
	initials [256]bool // bytes that the words of byWord start with
	heads    int       // how many different headings its patterns have
}

// NewSet makes a set. Its patterns are known by their place in the list.
func NewSet(patterns ...*Pattern) *Set {
	s := &Set{patterns: make([]*Pattern, len(patterns)), byWord: map[string][]int{}}
	heads := map[string]int{}
	for i, p := range patterns {
		own := *p // as it is known in this set
		key := ""
		if at := strings.LastIndex(p.source, " > "); at >= 0 && len(p.steps) > 1 {
			key = p.source[:at]
		}
		if _, known := heads[key]; !known {
			heads[key] = len(heads)
		}
		own.head = heads[key]
		s.patterns[i] = &own
		if first := p.steps[len(p.steps)-1].words[0]; first.kind == literal {
			s.byWord[first.text] = append(s.byWord[first.text], i)
			s.initials[first.text[0]] = true
		} else {
			s.others = append(s.others, i)
		}
	}
	s.heads = len(heads)
	return s
}

// Find calls found for each match of each pattern, in the order of the text.
// Children of a match are looked at too.
func (s *Set) Find(t *config.Tree, found func(pattern int, m Match)) {
	known := make([]heading, s.heads)
	t.Walk(func(n *config.Node) bool {
		s.findAt(t, n, known, found)
		return true
	})
}

// FindAt is Find for a single node.
func (s *Set) FindAt(t *config.Tree, n *config.Node, found func(pattern int, m Match)) {
	s.findAt(t, n, nil, found)
}

func (s *Set) findAt(t *config.Tree, n *config.Node, known []heading, found func(pattern int, m Match)) {
	if n.Text != "" && s.initials[n.Text[0]] {
		end := 0
		for end < len(n.Text) && n.Text[end] != ' ' && n.Text[end] != '\t' {
			end++
		}
		s.try(s.byWord[n.Text[:end]], t, n, known, found)
	}
	s.try(s.others, t, n, known, found)
}

func (s *Set) try(list []int, t *config.Tree, n *config.Node, known []heading, found func(pattern int, m Match)) {
	for _, i := range list {
		if m, ok := s.patterns[i].match(t, n, known); ok {
			found(i, m)
		}
	}
}

// Line is the pattern of the last step alone, under any headings.
func (p *Pattern) Line() *Pattern {
	return &Pattern{source: p.source, anyHead: true, steps: p.steps[len(p.steps)-1:]}
}

// Below reports whether the pattern finds something inside a section: among
// what is below the node, or, for a section of one line, in the line itself.
func (p *Pattern) Below(t *config.Tree, n *config.Node) bool {
	if len(n.Children) == 0 {
		_, ok := p.match(t, n, nil)
		return ok
	}
	var look func(list []*config.Node) bool
	look = func(list []*config.Node) bool {
		for _, c := range list {
			if _, ok := p.match(t, c, nil); ok || look(c.Children) {
				return true
			}
		}
		return false
	}
	return look(n.Children)
}
