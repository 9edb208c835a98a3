package cli

import (
	"bufio"
	"fmt"
	"io"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/urfave/cli/v3"

	"vergekeep/client/gen"
	"vergekeep/core/diff"
)

func (a *app) printComparison(cmd *cli.Command, c *comparison) error {
	if cmd.Bool("unified") {
		if c.hidden > 0 {
			fmt.Fprintf(a.Err, "%s changed and cannot be shown without the right see-secrets.\n", plural(c.hidden, "secret"))
		}
		_, err := io.WriteString(a.Out, c.unified())
		return err
	}
	if format := cmd.Root().String("format"); format != "table" {
		t := &table{head: []string{"kind", "section", "left line", "left", "right line", "right"}}
		for _, r := range c.rows {
			if r.Kind != diff.Skipped && r.Kind != diff.Equal && r.Aside == diff.Counts {
				t.add(string(r.Kind), strings.Join(r.Path, " > "), number(r.Left), r.LeftText, number(r.Right), r.RightText)
			}
		}
		return a.print(cmd, c.wire(), t)
	}
	w := bufio.NewWriter(a.Out)
	a.writeComparison(w, c)
	return w.Flush()
}

// PrintComparison writes a comparison of the service as the diff command does.
func PrintComparison(c Console, w *gen.Comparison) {
	a := &app{Console: c}
	a.writeComparison(c.Out, fromWire(w))
}

func number(n int) string {
	if n == 0 {
		return ""
	}
	return strconv.Itoa(n)
}

// sentence says what differs.
func (c *comparison) sentence() string {
	s := c.stats
	if c.identical {
		return "Identical, byte for byte."
	}
	said := "Nothing that counts differs"
	if n := s.Total(); n > 0 {
		said = plural(n, "difference") + " in " + plural(c.counting(), "section")
		if s.Moved > 0 {
			said += fmt.Sprintf("; %s moved", plural(s.Moved, "line"))
		}
	}
	if s.Volatile > 0 {
		said += fmt.Sprintf("; %s set aside that %s by %s", plural(s.Volatile, "line"), either(s.Volatile, "changes", "change"), either(s.Volatile, "itself", "themselves"))
	}
	if s.Undecidable > 0 {
		said += fmt.Sprintf("; whether %s changed is not decidable (written anew at each show)", plural(s.Undecidable, "secret"))
	}
	return said + "."
}

func either(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// counting is how many sections hold a difference that counts.
func (c *comparison) counting() int {
	var rows []diff.Row
	for _, r := range c.rows {
		if r.Aside == diff.Counts {
			rows = append(rows, r.Row)
		}
	}
	return len(diff.Sections(rows))
}

func (a *app) writeComparison(w io.Writer, c *comparison) {
	fmt.Fprintf(w, "%s  against  %s\n%s\n", a.tint(bold, c.left), a.tint(bold, c.right), c.sentence())
	digits := 1
	for _, r := range c.rows {
		digits = max(digits, len(number(r.Left)), len(number(r.Right)))
	}
	var b strings.Builder
	line := func(left, right int, mark, colour, text string) {
		b.Reset()
		b.WriteString(a.tint(faint, pad(number(left), digits)))
		b.WriteByte(' ')
		b.WriteString(a.tint(faint, pad(number(right), digits)))
		b.WriteString("  ")
		b.WriteString(a.tint(colour, mark+" "+text))
		b.WriteByte('\n')
		_, _ = io.WriteString(w, b.String())
	}
	section := "\x00"
	for _, r := range c.rows {
		if r.Kind == diff.Skipped || r.Aside != diff.Counts {
			continue
		}
		if path := strings.Join(r.Path, " > "); path != section {
			section = path
			fmt.Fprintf(w, "\n%s\n", a.tint(bold, heading(r.Path)))
		}
		switch r.Kind {
		case diff.Equal:
			line(r.Left, r.Right, " ", "", r.LeftText)
		case diff.Removed:
			line(r.Left, 0, "−", removedTint, r.LeftText)
		case diff.Added:
			line(0, r.Right, "+", addedTint, r.RightText)
		case diff.Moved:
			if r.Right > 0 {
				line(0, r.Right, "↕", movedTint, fmt.Sprintf("%s   (was line %d)", r.RightText, r.Other))
			} else {
				line(r.Left, 0, "↕", movedTint, fmt.Sprintf("%s   (now line %d)", r.LeftText, r.Other))
			}
		case diff.Changed:
			if r.secret {
				line(r.Left, r.Right, "~", attention, r.RightText+"   (the secret changed)")
				continue
			}
			line(r.Left, 0, "−", removedTint, a.emphasise(r.LeftText, r.LeftWords))
			line(0, r.Right, "+", addedTint, a.emphasise(r.RightText, r.RightWords))
		}
	}
}

func heading(path []string) string {
	if len(path) == 0 {
		return "(top)"
	}
	return strings.Join(path, " > ")
}

func pad(s string, width int) string {
	return strings.Repeat(" ", width-utf8.RuneCountInString(s)) + s
}

// emphasise underlines words where the output is a terminal.
func (a *app) emphasise(line string, words []diff.Span) string {
	if !a.colours() || len(words) == 0 {
		return line
	}
	var b strings.Builder
	at := 0
	for _, s := range words {
		b.WriteString(line[at:s.From] + underline + line[s.From:s.To] + noUnderline)
		at = s.To
	}
	return b.String() + line[at:]
}
