package config

import (
	"regexp"
	"strings"
)

// rawLine is one line of the source: its bytes with line end, and its text
// without indentation, trailing blanks and line end.
type rawLine struct {
	all    Span
	text   Span
	indent int // columns; a tab goes to the next multiple of eight
}

func (t *Tree) rawLine(i int) rawLine {
	from, to := t.starts[i], len(t.Source)
	if i+1 < len(t.starts) {
		to = t.starts[i+1]
	}
	l := rawLine{all: span(from, to)}
	for from < to {
		c := t.Source[from]
		if c == ' ' {
			l.indent++
		} else if c == '\t' {
			l.indent += 8 - l.indent%8
		} else {
			break
		}
		from++
	}
	for to > from && isBlank(t.Source[to-1]) {
		to--
	}
	l.text = span(from, to)
	return l
}

func isBlank(c byte) bool { return c == ' ' || c == '\t' || c == '\r' || c == '\n' }

func (t *Tree) isComment(text string) bool {
	for _, prefix := range t.Syntax.Comment {
		if strings.HasPrefix(text, prefix) {
			return true
		}
	}
	return false
}

// verbatimEnd looks whether a verbatim block starts at line i and returns the
// index of its last line. A block without an end is no block: taking the rest
// of a configuration for a banner would hide it.
func (t *Tree) verbatimEnd(i int, text string) (last int, ok bool) {
	for k, rule := range t.Syntax.Verbatim {
		if !strings.HasPrefix(text, t.verbatimStarts[k]) {
			continue
		}
		m := rule.Start.FindStringSubmatch(text)
		if m == nil {
			continue
		}
		end := rule.End
		if len(m) > 1 {
			if m[1] == "" {
				continue
			}
			end = strings.ReplaceAll(end, "${1}", m[1])
		}
		for j := i + 1; j < min(len(t.starts), i+10_000); j++ {
			if strings.Contains(t.LineAt(j+1), end) {
				return j, true
			}
		}
		t.Unclosed++
	}
	return 0, false
}

// literalStart is what every match of an expression of the form "^word …"
// starts with, as far as that is easily seen; most lines are ruled out by it.
func literalStart(re *regexp.Regexp) string {
	expr, anchored := strings.CutPrefix(re.String(), "^")
	if !anchored || strings.Contains(expr, "|") {
		return ""
	}
	n := 0
	for n < len(expr) && ('a' <= expr[n] && expr[n] <= 'z' || 'A' <= expr[n] && expr[n] <= 'Z' || expr[n] == ' ') {
		n++
	}
	if n > 0 && n < len(expr) && strings.IndexByte("?*+{", expr[n]) >= 0 {
		n-- // the last one may be missing
	}
	return expr[:n]
}

// leaf makes the node of line i: a line, blank, comment, or verbatim block. It
// returns the index of the last line that the node takes.
func (t *Tree) leaf(i int, l rawLine) (Node, int) {
	text := t.Source[l.text.From:l.text.To]
	n := Node{Kind: Line, Text: text, At: l.text, Head: l.all}
	switch {
	case text == "":
		n.Kind = Blank
	case t.isComment(text):
		n.Kind = Comment
	case len(t.Syntax.Verbatim) > 0:
		if last, ok := t.verbatimEnd(i, text); ok {
			n.Kind = Verbatim
			n.Head.To = t.rawLine(last).all.To
			return n, last
		}
	}
	return n, i
}

func parseIndent(t *Tree) {
	b := newBuilder(t)
	indents := []int{} // of the open sections' headings
	var prev *Node     // the last line that could be a heading
	prevIndent := 0
	at := 0
	for i := 0; i < len(t.starts); i++ {
		l := t.rawLine(i)
		n, last := t.leaf(i, l)
		if n.Kind != Blank {
			if prev != nil && l.indent > prevIndent {
				b.open(prev)
				indents = append(indents, prevIndent)
			}
			for len(indents) > 0 && l.indent <= indents[len(indents)-1] {
				b.close(span(at, at))
				indents = indents[:len(indents)-1]
			}
		}
		at = int(n.Head.To)
		added := b.add(n)
		switch n.Kind {
		case Line:
			prev, prevIndent = added, l.indent
		case Blank: // a heading may be followed by a blank line
		default:
			prev = nil
		}
		i = last
	}
	for len(b.stack) > 0 { // a section ends with its indentation: none is left open
		b.close(span(at, at))
	}
	b.finish(at)
}

func parseFlat(t *Tree) {
	b := newBuilder(t)
	at := 0
	for i := 0; i < len(t.starts); i++ {
		n, last := t.leaf(i, t.rawLine(i))
		heading := ""
		if n.Kind == Line || n.Kind == Verbatim {
			heading = t.group(n)
		}
		if len(b.stack) > 0 && n.Kind != Blank && heading != b.stack[0].Text {
			b.close(span(at, at))
		}
		if heading != "" && len(b.stack) == 0 {
			g := b.add(Node{Text: heading, Head: span(at, at)})
			b.open(g)
			g.Kind = Group
		}
		at = int(n.Head.To)
		b.add(n)
		i = last
	}
	if len(b.stack) > 0 {
		b.close(span(at, at))
	}
	b.finish(at)
}

// group is the section that a flat line belongs to: its leading words as far as
// the longest of the syntax's groups reaches, without the first (the word for setting).
func (t *Tree) group(n Node) string {
	words := splitWords(t.Source, n.At)
	best := 0
	for _, g := range t.Syntax.Groups {
		if len(g) > best && len(words) > len(g) && matchWords(g, words) {
			best = len(g)
		}
	}
	if best < 2 {
		return ""
	}
	return t.Source[words[1].At.From:words[best-1].At.To]
}

func matchWords(pattern []string, words []Word) bool {
	for i, p := range pattern {
		if p != "*" && p != words[i].Text {
			return false
		}
	}
	return true
}
