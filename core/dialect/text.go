package dialect

import (
	"errors"
	"fmt"
	"regexp"
	"sort"
	"strings"

	"vergekeep/core/config"
	"vergekeep/core/diff"
)

// ErrIncomplete is wrapped where a capture lacks a sign of completeness.
var ErrIncomplete = errors.New("it is not complete")

// Tree parses a configuration of this platform.
func (d *Dialect) Tree(text string) *config.Tree { return config.Parse(text, d.Syntax) }

// CleanText takes the session out of an answer: line ends become "\n", the
// transforms are applied in order, and blank lines at both ends go.
func (d *Dialect) CleanText(raw string) string {
	text := raw
	if strings.Contains(text, "\r\n") {
		text = strings.ReplaceAll(text, "\r\n", "\n")
	}
	if len(d.Clean) > 0 {
		lines := diff.SplitLines(text)
		for _, t := range d.Clean {
			lines = t.apply(lines)
		}
		text = strings.Join(lines, "")
	}
	text = strings.TrimRight(trimBlankLines(text), " \t\r\n")
	if text != "" {
		text += "\n"
	}
	return text
}

func trimBlankLines(text string) string {
	for {
		line, rest, ok := strings.Cut(text, "\n")
		if !ok || strings.TrimSpace(line) != "" {
			return text
		}
		text = rest
	}
}

func chomp(line string) string { return strings.TrimRight(line, "\r\n") }

func (t Transform) apply(lines []string) []string {
	switch {
	case t.Drop != nil:
		kept := lines[:0]
		for _, l := range lines {
			if !t.Drop.MatchString(chomp(l)) {
				kept = append(kept, l)
			}
		}
		return kept
	case t.DropFirst != nil:
		for len(lines) > 0 && (chomp(lines[0]) == "" || t.DropFirst.MatchString(chomp(lines[0]))) {
			lines = lines[1:]
		}
	case t.DropLast != nil:
		for n := len(lines); n > 0 && (chomp(lines[n-1]) == "" || t.DropLast.MatchString(chomp(lines[n-1]))); n-- {
			lines = lines[:n-1]
		}
	case t.Join != nil:
		return t.Join.apply(lines)
	}
	return lines
}

func (j *Join) apply(lines []string) []string {
	var joined []string
	for i := 0; i < len(lines); i++ {
		line := chomp(lines[i])
		end := lines[i][len(line):]
		var b strings.Builder
		for i+1 < len(lines) {
			at := j.Mark.FindStringIndex(line)
			next := chomp(lines[i+1])
			in := j.Indent.FindStringIndex(next)
			if at == nil || in == nil || in[0] != 0 {
				break
			}
			b.WriteString(line[:at[0]])
			line, end = next[in[1]:], lines[i+1][len(next):]
			i++
		}
		b.WriteString(line)
		b.WriteString(end)
		joined = append(joined, b.String())
	}
	return joined
}

// CheckComplete says which sign of completeness a cleaned capture lacks. The
// error quotes nothing: any line can hold a secret.
func (d *Dialect) CheckComplete(tree *config.Tree) error {
	fail := func(format string, args ...any) error {
		return fmt.Errorf("%w: %s", ErrIncomplete, fmt.Sprintf(format, args...))
	}
	if tree.Source == "" {
		return fail("it is empty")
	}
	c := d.Complete
	if n := tree.Lines(); n < c.MinLines {
		return fail("it has %d lines; a whole one has at least %d", n, c.MinLines)
	}
	if c.First != nil {
		if !c.First.MatchString(tree.LineAt(1)) {
			return fail("it does not start as a configuration does")
		}
	}
	if c.Last != nil {
		n := tree.Lines()
		if !c.Last.MatchString(tree.LineAt(n)) {
			return fail("it breaks off after %d lines, without the end of a configuration", n)
		}
		if node := tree.NodeAt(n); node != nil && node.Kind == config.Verbatim {
			return fail("its end sign stands inside a verbatim block")
		}
	}
	if c.Closed {
		if tree.Unclosed > 0 {
			return fail("%d sections are not closed", tree.Unclosed)
		}
		if tree.Stray > 0 {
			return fail("%d closing marks have nothing to close", tree.Stray)
		}
	}
	return nil
}

// secretSpan is where a secret stands in a text.
type secretSpan struct {
	at       config.Span
	resalted bool
}

// secrets finds every secret of the tree, in the order of the text, without
// overlaps.
func (d *Dialect) secrets(tree *config.Tree) []secretSpan {
	var spans []secretSpan
	for _, s := range d.Secrets {
		for _, m := range s.Pattern.Find(tree) {
			if m.Node.Kind == config.Verbatim {
				// All of the block but its first line.
				body := strings.IndexByte(tree.Source[m.Node.Head.From:m.Node.Head.To], '\n')
				if body >= 0 {
					spans = append(spans, secretSpan{config.Span{From: m.Node.Head.From + body + 1, To: m.Node.Head.To}, s.Resalted})
				}
				continue
			}
			if w, ok := m.Captured["secret"]; ok && w.At.To > w.At.From {
				spans = append(spans, secretSpan{w.At, s.Resalted})
			}
		}
	}
	sort.Slice(spans, func(i, j int) bool { return spans[i].at.From < spans[j].at.From })
	kept := spans[:0]
	end := 0
	for _, s := range spans {
		if s.at.From >= end {
			kept = append(kept, s)
			end = s.at.To
		} else if s.at.To > end {
			kept[len(kept)-1].at.To = s.at.To
			end = s.at.To
		}
	}
	return kept
}

// Mask stands where a secret is hidden.
const Mask = "●●●●●●●●"

// Masked is the text with every secret replaced by [Mask]; line numbers stay.
func (d *Dialect) Masked(text string) string {
	return d.replaceSecrets(text, d.secrets(d.Tree(text)), Mask)
}

func (d *Dialect) replaceSecrets(text string, spans []secretSpan, with string) string {
	if len(spans) == 0 {
		return text
	}
	var b strings.Builder
	b.Grow(len(text))
	at := 0
	for _, s := range spans {
		b.WriteString(text[at:s.at.From])
		hidden := text[s.at.From:s.at.To]
		for i, line := range strings.SplitAfter(hidden, "\n") {
			if body := chomp(line); body != "" || i == 0 && line == "" {
				b.WriteString(with)
				line = line[len(body):]
			}
			b.WriteString(line)
		}
		at = s.at.To
	}
	b.WriteString(text[at:])
	return b.String()
}

// View is a configuration with everything a comparison needs to know of it.
type View struct {
	Tree *config.Tree
	// Forms are the lines (from 1) that do not count as they stand.
	Forms map[int]diff.Form
	// Secret are the lines (from 1) that hold a secret.
	Secret map[int]bool
}

// View parses text and finds what does not count and what is secret.
func (d *Dialect) View(text string) View {
	v := View{Tree: d.Tree(text), Forms: map[int]diff.Form{}, Secret: map[int]bool{}}
	for _, s := range d.secrets(v.Tree) {
		first, last := v.Tree.LineOf(s.at.From), v.Tree.LineOf(s.at.To-1)
		for line := first; line <= last; line++ {
			v.Secret[line] = true
			if s.resalted {
				start := s.at.From - v.lineStart(first)
				text := v.Tree.LineAt(line)
				if line == first && start <= len(text) {
					end := len(text)
					if last == first {
						end = min(len(text), start+s.at.To-s.at.From)
					}
					text = text[:start] + Mask + text[end:]
				} else {
					text = Mask
				}
				v.Forms[line] = diff.Form{Text: text}
			}
		}
	}
	for _, p := range d.Volatile {
		for _, m := range p.Find(v.Tree) {
			for line := m.Node.Line; line <= m.Node.LastLine; line++ {
				v.Forms[line] = diff.Form{Volatile: true}
			}
		}
	}
	return v
}

func (v View) lineStart(line int) int {
	at := 0
	for range line - 1 {
		at += strings.IndexByte(v.Tree.Source[at:], '\n') + 1
	}
	return at
}

// ComparisonForm is the text with volatile lines and re-salted secrets left
// out: two captures are the same when their comparison forms are.
func (v View) ComparisonForm() string {
	text := v.Tree.Source
	if len(v.Forms) == 0 {
		return text
	}
	var b strings.Builder
	b.Grow(len(text))
	for i, line := range diff.SplitLines(text) {
		switch form, special := v.Forms[i+1]; {
		case !special:
			b.WriteString(line)
		case !form.Volatile:
			b.WriteString(form.Text)
			b.WriteByte('\n')
		}
	}
	return b.String()
}

// Nameplate is what a device told about itself.
type Nameplate struct{ Name, Serial, Model, Version string }

// ReadNameplate takes the facts out of the kept answers.
func (d *Dialect) ReadNameplate(kept map[string]string) Nameplate {
	return Nameplate{
		Name: d.fact("name", kept), Serial: d.fact("serial", kept),
		Model: d.fact("model", kept), Version: d.fact("version", kept),
	}
}

func (d *Dialect) fact(field string, kept map[string]string) string {
	f, ok := d.Nameplate[field]
	if !ok {
		return ""
	}
	m := f.Match.FindStringSubmatch(kept[f.From])
	if m == nil {
		return ""
	}
	return strings.TrimSpace(m[1])
}

// FirstError looks for an error answer in the first lines of an output.
func FirstError(errors []*regexp.Regexp, output string) (line string, found bool) {
	for range 3 {
		line, rest, more := strings.Cut(output, "\n")
		line = chomp(line)
		for _, e := range errors {
			if e.MatchString(line) {
				return line, true
			}
		}
		if !more {
			break
		}
		output = rest
	}
	return "", false
}
