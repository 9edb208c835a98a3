package report

import (
	"html/template"
	"io"
	"strings"
	"sync"

	"vergekeep/core/diff"
)

// style is how all documents look.
const style = `:root{color-scheme:light}
body{font:13.5px/1.45 Inter,system-ui,sans-serif;color:#1B2631;background:#F6F4EE;margin:24px auto;padding:0 24px;max-width:1480px}
h1{font-size:21px;font-weight:600;margin:0 0 12px}h2{font-size:13.5px;margin:20px 0 6px}
.sides{display:grid;grid-template-columns:1fr 1fr;gap:16px;margin-bottom:16px}
.sides div,table{background:#FDFCF9;border:1px solid #DED9CC;border-radius:10px}
.sides div{padding:12px 16px}.sides b{font:600 13px "JetBrains Mono",ui-monospace,monospace}
.second{color:#55626E;font-size:11.5px;overflow-wrap:anywhere}
table{border-collapse:separate;border-spacing:0;width:100%;font:12px/1.6 "JetBrains Mono",ui-monospace,monospace;padding:6px 0}
td{padding:0 8px;white-space:pre-wrap;overflow-wrap:anywhere;vertical-align:top}
td.n{width:1%;white-space:nowrap;text-align:right;color:#5F6973}td.m{width:1%}
th{text-align:left;padding:10px 8px 2px 8px}
tr.removed td.m,tr.removed td.t{background:#FCE8D8;color:#8A3B00}
tr.added td.m,tr.added td.t{background:#E1EDFB;color:#0A4A8C}
tr.moved td.m,tr.moved td.t{background:#EDE6FA;color:#55309A}
tr.changed td.m,tr.changed td.t{background:#FBEED2;color:#7A4E00}
tr.aside td{color:#5F6973!important;background:none!important}
tr.skipped td{color:#55626E;padding-top:4px;padding-bottom:4px}
u{text-decoration-thickness:1.5px;text-underline-offset:2px}
@page{size:A4 landscape;margin:12mm}
@media print{body{background:#fff;margin:0;padding:0;max-width:none}table,.sides div{border-color:#bbb}tr{break-inside:avoid}*{-webkit-print-color-adjust:exact;print-color-adjust:exact}}
`

// rowsTemplate writes the rows of a comparison as a table.
const rowsTemplate = `{{define "rows"}}<table>{{range .}}{{if .Heading}}<tr><th colspan="4">{{path .Path}}</th></tr>
{{else if .Skipped}}<tr class="skipped"><td colspan="4">… {{.Skipped}} without a difference that counts</td></tr>
{{else}}<tr class="{{.Kind}}{{if .Aside}} aside{{end}}"><td class="n">{{.LeftNumber}}</td><td class="n">{{.RightNumber}}</td><td class="m">{{.Mark}}</td><td class="t">{{range .Pieces}}{{if .Strong}}<u>{{.Text}}</u>{{else}}{{.Text}}{{end}}{{end}}</td></tr>
{{end}}{{end}}</table>{{end}}`

// functions are what the templates use.
var functions = template.FuncMap{
	"path": func(p []string) string {
		if len(p) == 0 {
			return "(top)"
		}
		return strings.Join(p, " › ")
	},
}

// page is a document with everything in it, light on a screen and on paper. It is
// only read where one is written: a client command has no time for it.
var page = sync.OnceValue(func() *template.Template {
	return template.Must(template.Must(template.New("page").Funcs(functions).Parse(rowsTemplate)).Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<title>{{.Left.Name}} against {{.Right.Name}}</title>
<style>
` + style + `</style></head><body>
<h1>{{.Sentence}}</h1>
<div class="sides">{{range .Sides}}<div><b>{{.Name}}</b>{{range .About}}<br><span class="second">{{.}}</span>{{end}}</div>{{end}}</div>
{{if .Rows}}{{template "rows" .Rows}}{{end}}
<p class="second">{{.Footer}}</p>
</body></html>
`))
})

type htmlSide struct {
	Name  string
	About []string
}

type htmlRow struct {
	Line
	Heading bool
	Path    []string
	Skipped string
	Pieces  []piece
}

type piece struct {
	Text   string
	Strong bool
}

// HTML writes the comparison as a page that needs nothing else.
func (c *Comparison) HTML(w io.Writer) error {
	data := struct {
		*Comparison
		Sides  []htmlSide
		Rows   []htmlRow
		Footer string
	}{Comparison: c, Footer: c.footer()}
	for _, s := range []Side{c.Left, c.Right} {
		data.Sides = append(data.Sides, htmlSide{s.Name, c.about(s)})
	}
	data.Rows = htmlRows(c.Rows)
	return page().Execute(w, data)
}

// htmlRows are the rows of a comparison, under the headings of their sections.
func htmlRows(rows []diff.Row) []htmlRow {
	var out []htmlRow
	section := "\x00"
	for _, r := range rows {
		if r.Kind == diff.Skipped {
			section = "\x00"
			out = append(out, htmlRow{Skipped: plural(r.Count, "line", "lines")})
			continue
		}
		if path := strings.Join(r.Path, "\x00"); r.Kind != diff.Equal && r.Aside == diff.Counts && path != section {
			section = path
			out = append(out, htmlRow{Heading: true, Path: r.Path})
		}
		for _, l := range Lines(r) {
			out = append(out, htmlRow{Line: l, Pieces: pieces(l)})
		}
	}
	return out
}

// pieces cuts a line at the words that changed.
func pieces(l Line) []piece {
	var out []piece
	at := 0
	for _, s := range l.Words {
		if s.From < at || s.To > len(l.Text) {
			continue
		}
		out = append(out, piece{printable(l.Text[at:s.From]), false}, piece{printable(l.Text[s.From:s.To]), true})
		at = s.To
	}
	return append(out, piece{printable(l.Text[at:]), false})
}
