// Package report writes a finished comparison as a document that stands alone:
// HTML that prints well, PDF in landscape, CSV, and plain text. It shows what it
// is given: whoever calls it has masked what may not be seen.
package report

import (
	"encoding/csv"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"vergekeep/core/diff"
)

// Side is one of the two configurations.
type Side struct {
	Name  string    // its ref, or a file's name
	Since time.Time // since when it is in force; zero where that is not known
	Seen  time.Time // when it was seen last
	Hash  string    // SHA-256 of the text, in hexadecimal; "" where secrets are hidden in a file of one's own
	Lines int
}

// Comparison is what a report tells.
type Comparison struct {
	Left, Right Side
	Made        time.Time
	By          string // the account that asked
	Identical   bool   // byte for byte
	Stats       diff.Stats
	Rows        []diff.Row
	Masked      bool
	Zone        *time.Location
}

// Cell is a line of the table of what differs: in which section, which
// parameter, and what it is on either side.
type Cell struct {
	Kind                         diff.Kind
	Path                         []string
	Parameter, Left, Right       string
	LeftLine, RightLine, Another int
}

// Cells makes the table. The parameter of a changed line is what both sides
// begin with; of a line that is only on one side it is the line without its
// last word.
func Cells(rows []diff.Row) []Cell {
	var cells []Cell
	for _, r := range rows {
		if r.Aside != diff.Counts || r.Kind == diff.Equal || r.Kind == diff.Skipped || r.Kind == diff.Moved && r.Right == 0 {
			continue
		}
		c := Cell{Kind: r.Kind, Path: r.Path, LeftLine: r.Left, RightLine: r.Right, Another: r.Other}
		switch r.Kind {
		case diff.Changed:
			c.Parameter, c.Left, c.Right = parted(r)
		case diff.Removed:
			c.Parameter, c.Left = split(r.LeftText)
		case diff.Added:
			c.Parameter, c.Right = split(r.RightText)
		case diff.Moved:
			c.Parameter = strings.TrimSpace(r.RightText)
			c.Left, c.Right = "line "+strconv.Itoa(r.Other), "line "+strconv.Itoa(r.Right)
		}
		cells = append(cells, c)
	}
	return cells
}

// split takes the last word of a line for its value.
func split(line string) (parameter, value string) {
	line = strings.TrimSpace(line)
	i := strings.LastIndexAny(line, " \t")
	if i < 0 {
		return line, "(there)"
	}
	return strings.TrimSpace(line[:i]), line[i+1:]
}

func parted(r diff.Row) (parameter, left, right string) {
	if len(r.LeftWords) == 0 && len(r.RightWords) == 0 {
		if r.LeftText == r.RightText {
			return strings.TrimSpace(r.LeftText), "(hidden)", "(hidden, another one)"
		}
		return "", strings.TrimSpace(r.LeftText), strings.TrimSpace(r.RightText)
	}
	from := min(len(r.LeftText), len(r.RightText))
	if len(r.LeftWords) > 0 {
		from = min(from, r.LeftWords[0].From)
	}
	if len(r.RightWords) > 0 {
		from = min(from, r.RightWords[0].From)
	}
	from = strings.LastIndexAny(r.LeftText[:from], " \t>") + 1 // values stay whole
	parameter, left, right = strings.TrimSpace(r.LeftText[:from]), strings.TrimSpace(r.LeftText[from:]), strings.TrimSpace(r.RightText[from:])
	if name, ok := strings.CutPrefix(parameter, "<"); ok && strings.HasSuffix(name, ">") {
		// The marks of an element are no part of its name and value.
		name = strings.TrimSuffix(name, ">")
		parameter, left, right = name, strings.TrimSuffix(left, "</"+name+">"), strings.TrimSuffix(right, "</"+name+">")
	}
	return parameter, left, right
}

// Sentence says what differs.
func (c *Comparison) Sentence() string {
	if c.Identical {
		return "They are identical, byte for byte."
	}
	var said []string
	add := func(n int, one, many string) {
		if n > 0 {
			said = append(said, plural(n, one, many))
		}
	}
	add(c.Stats.Changed, "line changed", "lines changed")
	add(c.Stats.Removed, "removed", "removed")
	add(c.Stats.Added, "added", "added")
	add(c.Stats.Moved, "moved", "moved")
	text := strings.Join(said, ", ")
	if text == "" {
		text = "Nothing that counts differs"
	}
	if aside := Asides(c.Stats); aside != "" {
		text += "; set aside: " + aside
	}
	return text + "."
}

// Asides says what is set aside, and why.
func Asides(s diff.Stats) string {
	var said []string
	for _, a := range []struct {
		n         int
		one, many string
	}{
		{s.Expected, "line that is expected to differ", "lines that are expected to differ"},
		{s.Volatile, "line that changes by itself", "lines that change by themselves"},
		{s.Undecidable, "secret that is not decidable (written anew at each show)", "secrets that are not decidable (written anew at each show)"},
		{s.Order, "line in another place where order does not count", "lines in another place where order does not count"},
		{s.Layout, "line that differs in blanks alone", "lines that differ in blanks alone"},
	} {
		if a.n > 0 {
			said = append(said, plural(a.n, a.one, a.many))
		}
	}
	return strings.Join(said, ", ")
}

func plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return strconv.Itoa(n) + " " + many
}

func (c *Comparison) when(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return moment(t, c.Zone, "2006-01-02 15:04:05 MST")
}

// moment writes a time in a zone; in UTC where none is wanted.
func moment(t time.Time, zone *time.Location, layout string) string {
	if zone == nil {
		zone = time.UTC
	}
	return t.In(zone).Format(layout)
}

// minute is a time as it stands in a report about many.
const minute = "2006-01-02 15:04"

// about is the lines under a side's name.
func (c *Comparison) about(s Side) []string {
	var lines []string
	if !s.Since.IsZero() {
		lines = append(lines, "in force since "+c.when(s.Since)+", last seen "+c.when(s.Seen))
	}
	if s.Hash != "" {
		lines = append(lines, "SHA-256 "+s.Hash)
	}
	return append(lines, plural(s.Lines, "line", "lines"))
}

// footer says when a document was made and for whom.
func (c *Comparison) footer() string {
	said := "Made " + c.when(c.Made)
	if c.By != "" {
		said += " for " + c.By
	}
	if c.Masked {
		said += "; secrets are hidden"
	}
	return said + "."
}

// CSV writes the table of what differs.
func (c *Comparison) CSV(w io.Writer) error {
	out := csv.NewWriter(w)
	_ = out.Write([]string{"section", "parameter", "what", c.Left.Name, c.Right.Name, "line left", "line right"})
	for _, cell := range Cells(c.Rows) {
		number := func(n int) string {
			if n == 0 {
				return ""
			}
			return strconv.Itoa(n)
		}
		_ = out.Write([]string{safe(strings.Join(cell.Path, " > ")), safe(cell.Parameter), string(cell.Kind), safe(cell.Left), safe(cell.Right), number(cell.LeftLine), number(cell.RightLine)})
	}
	out.Flush()
	return out.Error()
}

// safe keeps a spreadsheet from taking text for a formula.
func safe(s string) string {
	if s != "" && strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return "'" + s
	}
	return s
}

// Text writes the comparison as plain text.
func (c *Comparison) Text(w io.Writer) error {
	var b strings.Builder
	for i, s := range []Side{c.Left, c.Right} {
		fmt.Fprintf(&b, "%-6s %s\n", []string{"left", "right"}[i], s.Name)
		for _, line := range c.about(s) {
			fmt.Fprintf(&b, "       %s\n", line)
		}
	}
	fmt.Fprintf(&b, "\n%s\n", c.Sentence())
	writeRows(&b, c.Rows)
	fmt.Fprintf(&b, "\n%s\n", c.footer())
	_, err := io.WriteString(w, b.String())
	return err
}

// writeRows writes the rows of a comparison, under the headings of their sections.
func writeRows(b *strings.Builder, rows []diff.Row) {
	section := "\x00"
	for _, r := range rows {
		if r.Kind == diff.Skipped {
			fmt.Fprintf(b, "\n… %s without a difference that counts\n", plural(r.Count, "line", "lines"))
			section = "\x00"
			continue
		}
		if path := strings.Join(r.Path, " > "); r.Kind != diff.Equal && path != section {
			section = path
			if path == "" {
				path = "(top)"
			}
			fmt.Fprintf(b, "\n%s\n", path)
		}
		for _, l := range Lines(r) {
			fmt.Fprintf(b, "%5s %5s %s %s\n", l.LeftNumber, l.RightNumber, l.Mark, l.Text)
		}
	}
}

// Line is one line of a row as it is written down: a changed row makes two.
type Line struct {
	LeftNumber, RightNumber string
	Mark                    string
	Kind                    diff.Kind
	Text                    string
	Words                   []diff.Span
	Aside                   diff.Aside
}

// Lines are the lines of a row.
func Lines(r diff.Row) []Line {
	number := func(n int) string {
		if n == 0 {
			return ""
		}
		return strconv.Itoa(n)
	}
	left, right := number(r.Left), number(r.Right)
	switch r.Kind {
	case diff.Equal:
		return []Line{{left, right, " ", r.Kind, r.LeftText, nil, r.Aside}}
	case diff.Removed:
		return []Line{{left, "", "−", r.Kind, r.LeftText, nil, r.Aside}}
	case diff.Added:
		return []Line{{"", right, "+", r.Kind, r.RightText, nil, r.Aside}}
	case diff.Moved:
		if r.Right == 0 {
			return []Line{{left, "", "↕", r.Kind, r.LeftText + "   (now line " + strconv.Itoa(r.Other) + ")", nil, r.Aside}}
		}
		if r.Left > 0 {
			return []Line{{left, right, "↕", r.Kind, r.RightText, nil, r.Aside}}
		}
		return []Line{{"", right, "↕", r.Kind, r.RightText + "   (was line " + strconv.Itoa(r.Other) + ")", nil, r.Aside}}
	case diff.Changed:
		if r.LeftText == r.RightText {
			return []Line{{left, right, "~", r.Kind, r.RightText + "   (the secret changed)", nil, r.Aside}}
		}
		return []Line{{left, "", "−", diff.Removed, r.LeftText, r.LeftWords, r.Aside}, {"", right, "+", diff.Added, r.RightText, r.RightWords, r.Aside}}
	}
	return nil
}

// printable is text that a font and a page can show: what is no text becomes a
// visible sign, and tabs become blanks.
func printable(s string) string {
	s = strings.ReplaceAll(strings.ToValidUTF8(s, "\uFFFD"), "\t", "        ")
	return strings.Map(func(c rune) rune {
		if c < ' ' || c == 0x7f {
			return '\uFFFD'
		}
		return c
	}, s)
}

// wrap cuts text into pieces of at most so many characters.
func wrap(s string, width int) []string {
	var out []string
	for utf8.RuneCountInString(s) > width {
		at := 0
		for range width {
			_, size := utf8.DecodeRuneInString(s[at:])
			at += size
		}
		out = append(out, s[:at])
		s = s[at:]
	}
	return append(out, s)
}
