package config

import (
	"slices"
	"strings"
)

// Guess picks a reader for a text of unknown origin, such as a file on disk, by
// its first character and by whether braces end its lines.
func Guess(text string) Syntax {
	switch start := strings.TrimLeft(text, " \t\r\n\ufeff"); {
	case strings.HasPrefix(start, "<"):
		return Syntax{Reader: XML}
	case strings.HasPrefix(start, "{"), strings.HasPrefix(start, "["):
		return Syntax{Reader: JSON}
	}
	opened, closed := false, false
	for line := range strings.Lines(text[:min(len(text), 64<<10)]) {
		line = strings.TrimSpace(line)
		opened = opened || strings.HasSuffix(line, "{")
		closed = closed || line == "}" || line == "};"
	}
	if opened && closed {
		return Syntax{Reader: Brace}
	}
	return Syntax{Reader: Indent}
}

// Paths is PathAt for callers that ask for few lines: it looks at no more of the
// text than it has to. For the indent reader without verbatim blocks that is the
// lines above the one asked for; the other readers parse at the first question.
// It is for one goroutine.
func Paths(text string, syntax Syntax) func(line int) []string {
	var tree *Tree
	if syntax.Reader != Indent && syntax.Reader != "" || len(syntax.Verbatim) > 0 {
		return func(line int) []string {
			if tree == nil {
				tree = Parse(text, syntax)
			}
			return tree.PathAt(line)
		}
	}
	return func(line int) []string {
		if tree == nil {
			tree = &Tree{Source: text, Syntax: syntax, starts: lineStarts(text)}
		}
		return tree.above(line)
	}
}

// above walks up from a line over ever smaller indentations.
func (t *Tree) above(line int) []string {
	if line < 1 || line > len(t.starts) {
		return nil
	}
	l := t.rawLine(line - 1)
	if l.text.From == l.text.To {
		return nil
	}
	var path []string
	for i, indent := line-2, l.indent; i >= 0 && indent > 0; i-- {
		up := t.rawLine(i)
		text := t.Source[up.text.From:up.text.To]
		if text == "" || up.indent >= indent || t.isComment(text) {
			continue
		}
		path = append(path, text)
		indent = up.indent
	}
	slices.Reverse(path)
	return path
}
