package cli

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"path/filepath"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/urfave/cli/v3"

	"vergekeep/client/gen"
	"vergekeep/core/diff"
	"vergekeep/core/report"
)

func (a *app) printComparison(cmd *cli.Command, c *comparison) error {
	if path := cmd.String("output"); path != "" {
		var b bytes.Buffer
		if err := a.document(&b, c, strings.ToLower(filepath.Ext(path))); err != nil {
			return err
		}
		return a.deliver(cmd, b.Bytes())
	}
	if cmd.Bool("unified") {
		if c.hidden > 0 {
			fmt.Fprintf(a.Err, "%s changed and cannot be shown without the right see-secrets.\n", plural(c.hidden, "secret"))
		}
		_, err := io.WriteString(a.Out, c.unified())
		return err
	}
	t := &table{head: []string{"section", "parameter", "left", "right"}, none: c.sentence()}
	for _, cell := range report.Cells(c.plain()) {
		t.add(heading(cell.Path), cell.Parameter, orDash(cell.Left), orDash(cell.Right))
	}
	switch format := cmd.Root().String("format"); {
	case cmd.Bool("sections"):
		t = &table{head: []string{"section", "differs"}, none: c.sentence()}
		for _, s := range diff.Sections(c.plain()) {
			if s.Total() > 0 {
				t.add(heading(s.Path), marks(gen.Stats{Added: s.Added, Removed: s.Removed, Changed: s.Changed, Moved: s.Moved}))
			}
		}
		return a.print(cmd, c.wire(), t)
	case format == "csv":
		return a.document(a.Out, c, ".csv")
	case cmd.Bool("parameters") || format != "table":
		return a.print(cmd, c.wire(), t)
	}
	w := bufio.NewWriter(a.Out)
	a.writeComparison(w, c)
	return w.Flush()
}

// plain are the rows without what only the client knows.
func (c *comparison) plain() []diff.Row {
	rows := make([]diff.Row, len(c.rows))
	for i, r := range c.rows {
		rows[i] = r.Row
	}
	return rows
}

// document writes the comparison in the form that a file's ending names.
func (a *app) document(w io.Writer, c *comparison, ending string) error {
	r := &report.Comparison{Left: c.sides[0], Right: c.sides[1], Made: time.Now(), Identical: c.identical, Stats: c.stats, Rows: c.plain(), Masked: c.masked, Zone: time.Local}
	switch ending {
	case ".html", ".htm":
		return r.HTML(w)
	case ".pdf":
		return r.PDF(w)
	case ".csv":
		return r.CSV(w)
	case ".txt", ".text":
		return r.Text(w)
	case ".diff", ".patch":
		_, err := io.WriteString(w, c.unified())
		return err
	case ".json":
		e := json.NewEncoder(w)
		e.SetIndent("", "  ")
		return e.Encode(c.wire())
	}
	return fmt.Errorf("%q names no kind of document; end the file's name with .html, .pdf, .csv, .txt, .diff or .json", ending)
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
	if aside := report.Asides(s); aside != "" {
		said += "; set aside: " + aside
	}
	return said + "."
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
