package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/urfave/cli/v3"
	"go.yaml.in/yaml/v3"
	"golang.org/x/term"
)

var formats = []string{"table", "json", "yaml", "csv"}

// table is a list for people, or for a spreadsheet.
type table struct {
	head []string
	rows [][]string
	none string // what is said where there is no row
}

func (t *table) add(cells ...string) { t.rows = append(t.rows, cells) }

// print writes a value in the format that was asked for: t for people and for
// csv, v for json and yaml.
func (a *app) print(cmd *cli.Command, v any, t *table) error {
	switch cmd.Root().String("format") {
	case "json":
		e := json.NewEncoder(a.Out)
		e.SetIndent("", "  ")
		e.SetEscapeHTML(false)
		return e.Encode(v)
	case "yaml":
		data, err := json.Marshal(v)
		if err != nil {
			return err
		}
		var plain any
		if err := yaml.Unmarshal(data, &plain); err != nil { // JSON is YAML
			return err
		}
		e := yaml.NewEncoder(a.Out)
		e.SetIndent(2)
		return e.Encode(plain)
	case "csv":
		w := csv.NewWriter(a.Out)
		rows := append([][]string{t.head}, t.rows...)
		for _, row := range rows {
			for i, cell := range row {
				row[i] = uncolour(cell)
			}
		}
		return w.WriteAll(rows)
	}
	if len(t.rows) == 0 && t.none != "" {
		fmt.Fprintln(a.Err, t.none)
		return nil
	}
	return t.write(a.Out)
}

func (t *table) write(w io.Writer) error {
	widths := make([]int, len(t.head))
	for _, row := range append([][]string{t.head}, t.rows...) {
		for i, cell := range row {
			widths[i] = max(widths[i], utf8.RuneCountInString(uncolour(cell)))
		}
	}
	var b strings.Builder
	for n, row := range append([][]string{t.head}, t.rows...) {
		var line strings.Builder
		for i, cell := range row {
			if n == 0 {
				cell = strings.ToUpper(cell)
			}
			line.WriteString(cell)
			if i < len(row)-1 {
				line.WriteString(strings.Repeat(" ", widths[i]-utf8.RuneCountInString(uncolour(cell))+2))
			}
		}
		b.WriteString(strings.TrimRight(line.String(), " ") + "\n")
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// Colours of the terminal. Meaning never hangs on them alone.
const (
	plainColour = "\x1b[0m"
	bold        = "\x1b[1m"
	faint       = "\x1b[2m"
	underline   = "\x1b[4m"
	noUnderline = "\x1b[24m"
	alarm       = "\x1b[31m"
	attention   = "\x1b[33m"
	addedTint   = "\x1b[34m"
	removedTint = "\x1b[38;5;166m"
	movedTint   = "\x1b[35m"
)

// isTerminal reports whether w is a terminal.
func isTerminal(w io.Writer) bool {
	if _, ok := w.(*screen); ok {
		return true
	}
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

func (a *app) colours() bool {
	if a.coloured == nil {
		yes := isTerminal(a.Out) && a.Env("NO_COLOR") == ""
		a.coloured = &yes
	}
	return *a.coloured
}

// tint colours text where the output is a terminal.
func (a *app) tint(colour, text string) string {
	if text == "" || colour == "" || !a.colours() {
		return text
	}
	return colour + text + plainColour
}

func uncolour(s string) string {
	if !strings.Contains(s, "\x1b[") {
		return s
	}
	var b strings.Builder
	for {
		before, rest, ok := strings.Cut(s, "\x1b[")
		b.WriteString(before)
		if !ok {
			return b.String()
		}
		_, s, _ = strings.Cut(rest, "m")
	}
}

// when writes a time as people say it; the exact one is in json and csv.
func when(t *time.Time, now time.Time) string {
	if t == nil || t.IsZero() {
		return "-"
	}
	local := t.Local()
	switch y, m, d := now.Date(); {
	case local.After(time.Date(y, m, d, 0, 0, 0, 0, now.Location())):
		return "today " + local.Format("15:04")
	case local.After(time.Date(y, m, d-1, 0, 0, 0, 0, now.Location())):
		return "yesterday " + local.Format("15:04")
	case local.Year() == y:
		return local.Format("2 Jan 15:04")
	}
	return local.Format("2 Jan 2006")
}

// since writes a length of time as people say it.
func since(d time.Duration) string {
	switch {
	case d < time.Minute:
		return "a moment"
	case d < time.Hour:
		return plural(int(d/time.Minute), "minute")
	case d < 48*time.Hour:
		return plural(int(d/time.Hour), "hour")
	}
	return plural(int(d/(24*time.Hour)), "day")
}

func plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

func deref[T any](p *T) T {
	var zero T
	if p == nil {
		return zero
	}
	return *p
}

func orDash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}
