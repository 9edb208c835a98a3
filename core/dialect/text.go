package dialect

import (
	"cmp"
	"compress/gzip"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"unicode/utf16"

	"vergekeep/core/config"
	"vergekeep/core/diff"
	"vergekeep/core/pattern"
	"vergekeep/core/reason"
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

// ErrConvert is wrapped where bytes are not what the dialect says they are.
var ErrConvert = errors.New("it cannot be converted to text")

// maxConverted bounds what compressed bytes can become.
const maxConverted = 64 << 20

// Convert makes text of bytes in one of the ways that a capture can name; ""
// leaves them as they are.
func Convert(way, raw string) (string, error) {
	switch way {
	case "gunzip": // RFC 1952
		r, err := gzip.NewReader(strings.NewReader(raw))
		if err != nil {
			return "", fmt.Errorf("%w: %w", ErrConvert, err)
		}
		text, err := io.ReadAll(io.LimitReader(r, maxConverted+1))
		if err == nil && len(text) > maxConverted {
			err = fmt.Errorf("it has more than %d MiB", maxConverted>>20)
		}
		if err != nil {
			return "", fmt.Errorf("%w: %w", ErrConvert, err)
		}
		return string(text), nil
	case "utf-16": // RFC 2781; big-endian without a mark
		if len(raw)%2 != 0 {
			return "", fmt.Errorf("%w: an odd number of bytes is not UTF-16", ErrConvert)
		}
		order := binary.ByteOrder(binary.BigEndian)
		switch {
		case strings.HasPrefix(raw, "\xff\xfe"):
			order, raw = binary.LittleEndian, raw[2:]
		case strings.HasPrefix(raw, "\xfe\xff"):
			raw = raw[2:]
		}
		units := make([]uint16, len(raw)/2)
		for i := range units {
			units[i] = order.Uint16([]byte(raw[2*i : 2*i+2]))
		}
		return string(utf16.Decode(units)), nil
	case "latin-1": // ISO 8859-1
		runes := make([]rune, len(raw))
		for i := range len(raw) {
			runes[i] = rune(raw[i])
		}
		return string(runes), nil
	}
	return raw, nil
}

// IsOptional reports whether a visit is good without that configuration.
func (d *Dialect) IsOptional(datastore, part string) bool {
	for _, c := range d.Captures {
		if c.Datastore == datastore && c.Optional && (c.Part == part || strings.Contains(c.Part, "${item}")) {
			return true
		}
	}
	return false
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

// marks finds every secret of the tree, in the order of the text and without
// overlaps, the nodes that are volatile, and those that somebody set aside.
func (d *Dialect) marks(tree *config.Tree) (secrets []secretSpan, volatile, aside []*config.Node) {
	d.marked.Find(tree, func(i int, m pattern.Match) {
		switch i -= len(d.Secrets); {
		case i >= len(d.Volatile):
			aside = append(aside, m.Node)
			return
		case i >= 0:
			volatile = append(volatile, m.Node)
			return
		}
		i += len(d.Secrets)
		s := d.Secrets[i]
		if m.Node.Kind == config.Verbatim {
			// All of the block but its first line.
			head := m.Node.Head
			if body := strings.IndexByte(tree.Source[head.From:head.To], '\n'); body >= 0 {
				secrets = append(secrets, secretSpan{config.Span{From: head.From + int32(body) + 1, To: head.To}, s.Resalted})
			}
			return
		}
		if w, ok := m.Get("secret"); ok && w.At.To > w.At.From {
			secrets = append(secrets, secretSpan{w.At, s.Resalted})
		}
	})
	slices.SortStableFunc(secrets, func(a, b secretSpan) int { return cmp.Compare(a.at.From, b.at.From) })
	kept := secrets[:0]
	end := int32(0)
	for _, s := range secrets {
		if s.at.From >= end {
			kept = append(kept, s)
			end = s.at.To
		} else if s.at.To > end {
			kept[len(kept)-1].at.To = s.at.To
			end = s.at.To
		}
	}
	return kept, volatile, aside
}

// Mask stands where a secret is hidden.
const Mask = "●●●●●●●●"

// Dialect is the dialect that it was read by; nil where there was none.
func (v View) Dialect() *Dialect { return v.dialect }

// Masked is the text with every secret replaced by [Mask]; line numbers stay.
func (d *Dialect) Masked(text string) string { return d.View(text).Masked() }

// View is a configuration with everything a comparison needs to know of it.
type View struct {
	Tree *config.Tree
	// Forms are the lines (from 1) that do not count as they stand.
	Forms map[int]diff.Form
	// Secret are the lines (from 1) that hold a secret.
	Secret map[int]bool

	dialect *Dialect
	secrets []secretSpan
}

// Masked is the text with every secret replaced by [Mask]; line numbers stay.
func (v View) Masked() string {
	text := v.Tree.Source
	if len(v.secrets) == 0 {
		return text
	}
	var b strings.Builder
	b.Grow(len(text))
	at := int32(0)
	for _, s := range v.secrets {
		b.WriteString(text[at:s.at.From])
		hidden := text[s.at.From:s.at.To]
		for i, line := range strings.SplitAfter(hidden, "\n") {
			if body := chomp(line); body != "" || i == 0 && line == "" {
				b.WriteString(Mask)
				line = line[len(body):]
			}
			b.WriteString(line)
		}
		at = s.at.To
	}
	b.WriteString(text[at:])
	return b.String()
}

// Side is the configuration as it is compared by structure; own says that it is
// compared with another device, so that what each device has of its own is
// expected to differ, secrets among it.
func (v View) Side(own bool) diff.Side {
	s := &diff.Structure{Tree: v.Tree}
	d := v.dialect
	if d == nil {
		return diff.Side{Text: v.Tree.Source, PathAt: v.Tree.PathAt, Forms: v.Forms, Structure: s}
	}
	s.Look = d.Look(v.Tree)
	if own {
		named := within(v.Tree, d.own)
		s.Expected = func(line int) bool { return v.Secret[line] || named(line) }
	}
	return diff.Side{Text: v.Tree.Source, PathAt: v.Tree.PathAt, Forms: v.Forms, Structure: s}
}

// Look says of nodes of a tree by which of the dialect's rules, from 1, their order
// among others counts (0: it does not), and where in them a value stands: the other
// words say which line it is.
func (d *Dialect) Look(tree *config.Tree) func(*config.Node) (order int, value config.Span) {
	return func(n *config.Node) (order int, value config.Span) {
		d.shaped.FindAt(tree, n, func(i int, m pattern.Match) {
			if i < len(d.Order) {
				order = i + 1
			} else {
				w, _ := m.Get("value")
				value = w.At
			}
		})
		return order, value
	}
}

// Within says of a line (from 1) whether it, or a section that it is in, is
// found by one of the patterns.
func Within(tree *config.Tree, patterns []*pattern.Pattern) func(line int) bool {
	return within(tree, pattern.NewSet(patterns...))
}

func within(tree *config.Tree, set *pattern.Set) func(line int) bool {
	known := map[*config.Node]bool{}
	return func(line int) bool {
		found := false
		for n := tree.NodeAt(line); n != nil && !found; n = n.Parent {
			is, ok := known[n]
			if !ok {
				set.FindAt(tree, n, func(int, pattern.Match) { is = true })
				known[n] = is
			}
			found = is
		}
		return found
	}
}

// View parses text and finds what does not count and what is secret.
func (d *Dialect) View(text string) View {
	v := View{Tree: d.Tree(text), dialect: d}
	secrets, volatile, aside := d.marks(v.Tree)
	v.secrets = secrets
	if len(secrets) > 0 {
		v.Secret = make(map[int]bool, len(secrets))
	}
	for _, s := range slices.Backward(secrets) { // so that places to the left stay where they are
		first, last := v.Tree.LineOf(int(s.at.From)), v.Tree.LineOf(int(s.at.To)-1)
		for line := first; line <= last; line++ {
			v.Secret[line] = true
			if !s.resalted {
				continue
			}
			text, whole := v.Tree.LineAt(line), Mask
			if form, masked := v.Forms[line]; masked {
				text = form.Text
			}
			if start := int(s.at.From) - v.Tree.LineStart(first); line == first && start <= len(text) {
				end := len(text)
				if last == first {
					end = min(len(text), start+int(s.at.To-s.at.From))
				}
				whole = text[:start] + Mask + text[end:]
			}
			v.form(line, diff.Form{Text: whole})
		}
	}
	for _, n := range volatile {
		for line := n.Line; line <= n.LastLine; line++ {
			v.form(int(line), diff.Form{Volatile: true})
		}
	}
	for _, n := range aside {
		if v.secretAbove(n) {
			continue
		}
		for line := n.Line; line <= n.LastLine; line++ {
			if !v.Secret[int(line)] {
				v.form(int(line), diff.Form{Volatile: true})
			}
		}
	}
	return v
}

// secretAbove says whether a heading above a node holds a secret: a pattern that
// matches it would tell what the secret is.
func (v *View) secretAbove(n *config.Node) bool {
	for n = n.Parent; n != nil; n = n.Parent {
		if v.Secret[int(n.Line)] {
			return true
		}
	}
	return false
}

func (v *View) form(line int, f diff.Form) {
	if v.Forms == nil {
		v.Forms = map[int]diff.Form{}
	}
	v.Forms[line] = f
}

// Compare counts what differs from the view before, and says if nothing does
// that counts: then the comparison forms are the same.
func (v View) Compare(before View) (diff.Stats, bool) {
	if v.ComparisonForm() == before.ComparisonForm() {
		return diff.Stats{}, true
	}
	return diff.Compare(before.Side(false), v.Side(false)).Stats, false
}

// ComparisonForm is the text with volatile lines and re-salted secrets left
// out: two captures are the same when their comparison forms are.
func (v View) ComparisonForm() string { return v.formed(func(int) string { return "" }) }

// Steady is the text with the same number of lines, in which what changes by
// itself does not: of volatile lines the first word is left.
func (v View) Steady() string {
	return v.formed(func(line int) string {
		word, _, _ := strings.Cut(strings.TrimSpace(v.Tree.LineAt(line)), " ")
		return word + "\n"
	})
}

// formed is the text with the form of each line that has one; volatile says what
// is left of those that change by themselves.
func (v View) formed(volatile func(line int) string) string {
	if len(v.Forms) == 0 {
		return v.Tree.Source
	}
	var b strings.Builder
	b.Grow(len(v.Tree.Source))
	at := 0
	for _, line := range slices.Sorted(maps.Keys(v.Forms)) {
		b.WriteString(v.Tree.Source[at:v.Tree.LineStart(line)])
		if form := v.Forms[line]; form.Volatile {
			b.WriteString(volatile(line))
		} else {
			b.WriteString(form.Text)
			b.WriteByte('\n')
		}
		at = v.Tree.LineStart(line + 1)
	}
	b.WriteString(v.Tree.Source[at:])
	return b.String()
}

// Nameplate is what a device told about itself. A stack has several serial
// numbers and may have several models; uptime is as the device wrote it.
type Nameplate struct{ Name, Serial, Model, Version, Uptime string }

// Separator stands between the serial numbers of a stack.
const Separator = ", "

// ReadNameplate takes the facts out of the kept answers.
func (d *Dialect) ReadNameplate(kept map[string]string) Nameplate {
	return Nameplate{
		Name: d.fact("name", kept), Serial: strings.Join(d.facts("serial", kept), Separator),
		Model: strings.Join(d.facts("model", kept), Separator), Version: d.fact("version", kept), Uptime: d.fact("uptime", kept),
	}
}

// Moved reports whether something that has to stay the same while a
// configuration is read did not.
func (d *Dialect) Moved(kept map[string]string) bool {
	value := func(f Fact) string {
		if m := f.Match.FindStringSubmatch(kept[f.From]); m != nil {
			return m[1]
		}
		return ""
	}
	return slices.ContainsFunc(d.Steady, func(s Steady) bool { return value(s.Before) != value(s.After) })
}

func (d *Dialect) fact(field string, kept map[string]string) string {
	if all := d.facts(field, kept); len(all) > 0 {
		return all[0]
	}
	return ""
}

// maxMembers bounds how many boxes one device can be made of.
const maxMembers = 32

// facts is all distinct values of a field, in order.
func (d *Dialect) facts(field string, kept map[string]string) []string {
	f, ok := d.Nameplate[field]
	if !ok {
		return nil
	}
	var all []string
	for _, m := range f.Match.FindAllStringSubmatch(kept[f.From], maxMembers) {
		if v := strings.TrimSpace(m[1]); v != "" && !slices.Contains(all, v) {
			all = append(all, v)
		}
	}
	return all
}

// FirstError looks for an error answer in the first lines of an output.
func FirstError(errors []Sign, output string) (line string, means reason.Code, found bool) {
	for range 3 {
		line, rest, more := strings.Cut(output, "\n")
		line = chomp(line)
		for _, e := range errors {
			if e.See.MatchString(line) {
				return line, e.Means, true
			}
		}
		if !more {
			break
		}
		output = rest
	}
	return "", "", false
}
