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
	"strings"

	"vergekeep/core/config"
	"vergekeep/core/glob"
)

// Pattern is a compiled section pattern.
type Pattern struct {
	source  string
	anyHead bool
	steps   []step
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
	Captured map[string]config.Word
}

// Find returns every node of the tree that the pattern matches, in the order of
// the text. Children of a match are looked at too.
func (p *Pattern) Find(t *config.Tree) []Match {
	var found []Match
	t.Walk(func(n *config.Node) bool {
		if m, ok := p.match(t, n); ok {
			found = append(found, m)
		}
		return true
	})
	return found
}

func (p *Pattern) match(t *config.Tree, n *config.Node) (Match, bool) {
	if n.Kind == config.Blank || n.Kind == config.Group {
		return Match{}, false
	}
	m := Match{Node: n}
	at := n
	for i := len(p.steps) - 1; i >= 0; i-- {
		if at == nil || !p.steps[i].match(t, at, &m) {
			return Match{}, false
		}
		at = at.Parent
		for at != nil && at.Kind == config.Group {
			at = at.Parent
		}
	}
	return m, p.anyHead || at == nil
}

func (s step) match(t *config.Tree, n *config.Node, m *Match) bool {
	// Most nodes fail on their first word: look at it before splitting the rest.
	if first := s.words[0]; first.kind == literal && !strings.HasPrefix(n.Text, first.text) {
		return false
	}
	words := t.Words(n)
	for i, w := range s.words {
		if w.kind == restWords {
			return true
		}
		if i >= len(words) {
			return false
		}
		switch w.kind {
		case literal:
			if words[i].Text != w.text {
				return false
			}
		case globWord:
			if !glob.Match(w.text, words[i].Text) {
				return false
			}
		case capture:
			m.set(w.text, words[i])
		case captureRest:
			last := words[len(words)-1]
			all := config.Span{From: words[i].At.From, To: last.At.To}
			m.set(w.text, config.Word{Text: t.Source[all.From:all.To], At: all})
			return true
		}
	}
	return len(words) == len(s.words)
}

func (m *Match) set(name string, w config.Word) {
	if m.Captured == nil {
		m.Captured = map[string]config.Word{}
	}
	m.Captured[name] = w
}
