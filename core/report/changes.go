package report

import (
	"encoding/csv"
	"fmt"
	"html/template"
	"io"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"vergekeep/core/diff"
)

// Change is a change as a report tells it; nothing in it is a secret.
type Change struct {
	ID                                    int64
	Device, Site                          string
	When                                  string // "2026-11-20 02:10", or "between … and …"
	By, From, Method                      string
	Hours                                 string // how it lies to agreed hours
	Alarm                                 bool   // it lies outside them
	Severity, Verdict, Differences, Where string
	Found                                 time.Time
	Link                                  string // "" for none
	Texts                                 []ChangeText
}

// ChangeText is what differs in one of the configurations of a change.
type ChangeText struct {
	Name string // "np-acc-2@1 against np-acc-2@2"
	Rows []diff.Row
	More int // rows that are left out
}

// Said is something else that happened, in a line.
type Said struct {
	At     time.Time
	Text   string
	Detail string
}

// Changes is a report of changes, and of what else happened.
type Changes struct {
	Sentence string // what there is to say first
	About    []string
	Said     []Said
	Items    []Change
	Made     time.Time
	By       string
	Zone     *time.Location
}

func (c *Changes) footer() string {
	return (&Comparison{Made: c.Made, By: c.By, Masked: true, Zone: c.Zone}).footer()
}

func (c *Changes) at(t time.Time) string { return moment(t, c.Zone, minute) }

// facts are the lines about a change.
func (x *Change) facts() [][2]string {
	var out [][2]string
	add := func(name, value string) {
		if value != "" {
			out = append(out, [2]string{name, value})
		}
	}
	by := x.By
	if by == "" {
		by = "nobody knows: no message of the device says so;"
		if x.From == "" && x.Method == "" {
			by = strings.TrimSuffix(by, ";")
		}
	}
	for _, more := range []struct{ lead, value string }{{" from ", x.From}, {" over ", x.Method}} {
		if more.value != "" {
			by += more.lead + more.value
		}
	}
	add("happened", x.When)
	add("by", by)
	add("agreed hours", x.Hours)
	add("severity", x.Severity)
	add("verdict", x.Verdict)
	add("where", x.Where)
	return out
}

// heading names a change.
func (x *Change) heading() string {
	return fmt.Sprintf("%s, change #%d: %s", x.Device, x.ID, x.Differences)
}

var changesPage = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("changes").Funcs(functions).Parse(rowsTemplate + `<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<title>{{.Sentence}}</title>
<style>
` + style + `
.item{background:#FDFCF9;border:1px solid #DED9CC;border-radius:10px;padding:12px 16px;margin:0 0 16px}
.item h2{margin:0 0 8px;font-size:15px}.item table{border:0;border-radius:0;margin-top:8px}
table.facts{font:13.5px/1.5 Inter,system-ui,sans-serif;width:auto;padding:0}table.facts td{padding:0 12px 0 0}table.facts td:first-child{color:#55626E;white-space:nowrap}
.alarm{color:#9B2226;font-weight:600}a{color:#0B6B61}
</style></head><body>
<h1>{{.Sentence}}</h1>
{{range .About}}<p class="second">{{.}}</p>{{end}}
{{range .Said}}<p>{{.When}} {{.Text}}{{if .Detail}}<br><span class="second">{{.Detail}}</span>{{end}}</p>
{{end}}{{range .Items}}<div class="item"><h2>{{if .Link}}<a href="{{.Link}}">{{.Heading}}</a>{{else}}{{.Heading}}{{end}}</h2>
<table class="facts">{{$alarm := .Alarm}}{{range .Facts}}<tr><td>{{index . 0}}</td>{{if and $alarm (eq (index . 0) "agreed hours")}}<td class="alarm">▲ {{index . 1}}</td>{{else}}<td>{{index . 1}}</td>{{end}}</tr>{{end}}</table>
{{range .Texts}}<p class="second">{{.Name}}</p>{{template "rows" .Rows}}{{if .More}}<p class="second">… {{.More}} more lines; the console shows them all.</p>{{end}}{{end}}
</div>
{{end}}<p class="second">{{.Footer}}</p>
</body></html>
`))
})

type htmlChange struct {
	Change
	Heading string
	Facts   [][2]string
	Texts   []htmlText
}

type htmlText struct {
	Name string
	Rows []htmlRow
	More int
}

type htmlSaid struct{ When, Text, Detail string }

// HTML writes the report as a page that needs nothing else.
func (c *Changes) HTML(w io.Writer) error {
	data := struct {
		Sentence, Footer string
		About            []string
		Said             []htmlSaid
		Items            []htmlChange
	}{Sentence: c.Sentence, About: c.About, Footer: c.footer()}
	for _, s := range c.Said {
		data.Said = append(data.Said, htmlSaid{c.at(s.At), s.Text, s.Detail})
	}
	for i := range c.Items {
		x := htmlChange{Change: c.Items[i], Heading: c.Items[i].heading(), Facts: c.Items[i].facts()}
		for _, t := range c.Items[i].Texts {
			x.Texts = append(x.Texts, htmlText{t.Name, htmlRows(t.Rows), t.More})
		}
		data.Items = append(data.Items, x)
	}
	return changesPage().Execute(w, data)
}

// PDF writes the report on pages of A3 in landscape.
func (c *Changes) PDF(w io.Writer) error {
	p := newPaper(c.Sentence, c.footer(), c.Made)
	p.text("B", 12, c.Sentence)
	for _, a := range c.About {
		p.text("", 8, a)
	}
	p.Ln(2)
	for _, s := range c.Said {
		p.text("", 8, c.at(s.At)+"  "+s.Text)
		if s.Detail != "" {
			p.text("", 7, "    "+s.Detail)
		}
	}
	for i := range c.Items {
		x := &c.Items[i]
		p.Ln(2.5)
		p.text("B", 10, x.heading())
		for _, f := range x.facts() {
			if f[0] == "agreed hours" && x.Alarm {
				p.SetFont("mono", "B", size)
				p.SetTextColor(0x9B, 0x22, 0x26)
				p.CellFormat(0, row, fmt.Sprintf("%-14s%s", f[0], printable(f[1])), "", 1, "L", false, 0, "")
				continue
			}
			p.text("", size, fmt.Sprintf("%-14s%s", f[0], f[1]))
		}
		for _, t := range x.Texts {
			p.Ln(1)
			p.text("", 7, t.Name)
			p.rows(t.Rows)
			if t.More > 0 {
				p.text("", 7, fmt.Sprintf("… %d more lines; the console shows them all.", t.More))
			}
		}
	}
	return p.Output(w)
}

// CSV writes one line a change.
func (c *Changes) CSV(w io.Writer) error {
	out := csv.NewWriter(w)
	rows := [][]string{{"change", "device", "site", "found", "when", "account", "from", "method", "agreed hours", "severity", "verdict", "differences", "where"}}
	for i := range c.Items {
		x := &c.Items[i]
		rows = append(rows, []string{fmt.Sprint(x.ID), safe(x.Device), safe(x.Site), x.Found.UTC().Format(time.RFC3339), x.When, safe(x.By), safe(x.From), safe(x.Method), x.Hours, x.Severity, safe(x.Verdict), x.Differences, safe(x.Where)})
	}
	return out.WriteAll(rows)
}

// Text writes the report as plain text.
func (c *Changes) Text(w io.Writer) error {
	var b strings.Builder
	b.WriteString(c.Sentence + "\n")
	for _, a := range c.About {
		b.WriteString(a + "\n")
	}
	for _, s := range c.Said {
		b.WriteString("\n" + c.at(s.At) + "  " + s.Text + "\n")
		if s.Detail != "" {
			b.WriteString("    " + s.Detail + "\n")
		}
	}
	for i := range c.Items {
		x := &c.Items[i]
		heading := x.heading()
		b.WriteString("\n" + heading + "\n" + strings.Repeat("-", min(utf8.RuneCountInString(heading), 100)) + "\n")
		for _, f := range x.facts() {
			fmt.Fprintf(&b, "%-14s%s\n", f[0], printable(f[1]))
		}
		if x.Link != "" {
			fmt.Fprintf(&b, "%-14s%s\n", "see", x.Link)
		}
		for _, t := range x.Texts {
			b.WriteString("\n" + t.Name + "\n")
			writeRows(&b, t.Rows)
			if t.More > 0 {
				fmt.Fprintf(&b, "… %d more lines; the console shows them all.\n", t.More)
			}
		}
	}
	b.WriteString("\n" + c.footer() + "\n")
	_, err := io.WriteString(w, b.String())
	return err
}
