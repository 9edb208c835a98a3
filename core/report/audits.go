package report

import (
	"encoding/csv"
	"fmt"
	"html/template"
	"io"
	"strings"
	"sync"
	"time"

	"vergekeep/core/audit"
)

// Audit is a report of what audits found; nothing in it is a secret.
type Audit struct {
	Sentence string // what there is to say first
	About    []string
	Tables   []Scores
	Rules    []AuditRule // the most severe first
	Made     time.Time
	By       string
	Zone     *time.Location
}

// Scores is a table of how much of what was asked holds.
type Scores struct {
	By   string // site, policy, control
	Rows []Score
}

// Score is one line of it.
type Score struct {
	Name                        string
	Passed, Failed, Undecidable int
	Share                       float64 // 0 to 1
	Before                      float64 // a while ago; negative where that is not known
}

// AuditRule is a rule, or a section of a standard, that does not hold somewhere.
type AuditRule struct {
	Name, Title, Severity string
	Rationale, Controls   string
	Fixes                 []Fix
	Places                []AuditPlace
}

// Fix is what to do on a platform ("" for all), in words or as commands.
type Fix struct{ Platform, Text string }

// AuditPlace is one device on which it does not hold.
type AuditPlace struct {
	Device, Site, Ref string
	Since             time.Time
	Came              string // by which change and whom
	Owner, Waiver     string
	Proofs            []audit.Proof
	More              int
}

func (a *Audit) footer() string {
	return (&Comparison{Made: a.Made, By: a.By, Masked: true, Zone: a.Zone}).footer()
}

func (a *Audit) day(t time.Time) string { return moment(t, a.Zone, minute) }

// about is the lines about a place.
func (a *Audit) about(p *AuditPlace) string {
	said := []string{p.Site, "since " + a.day(p.Since)}
	for _, more := range []string{p.Came, p.Owner, p.Waiver, p.Ref} {
		if more != "" {
			said = append(said, more)
		}
	}
	return strings.TrimPrefix(strings.Join(said, "; "), "; ")
}

// place is a proof in a line: where, what is there, what is wrong.
func place(p audit.Proof) string {
	where := ""
	if p.Line > 0 {
		where = fmt.Sprintf("line %d", p.Line)
	}
	if len(p.Path) > 0 {
		where = strings.TrimSpace(where + " in " + strings.Join(p.Path, " > "))
	}
	if where != "" {
		where += ": "
	}
	if p.Text != "" {
		where += p.Text + "  — "
	}
	return where + p.Says
}

// Percent never says 100 of what is not all.
func Percent(share float64) string {
	p := fmt.Sprintf("%.0f %%", share*100)
	if share < 1 && p == "100 %" {
		return "99 %"
	}
	return p
}

var auditPage = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("audit").Funcs(template.FuncMap{"percent": Percent, "place": place}).Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<title>{{.Sentence}}</title>
<style>
` + style + `
.item{background:#FDFCF9;border:1px solid #DED9CC;border-radius:10px;padding:12px 16px;margin:0 0 16px}
.item h2{margin:0 0 6px;font-size:15px}.item h3{font-size:13.5px;margin:10px 0 2px}
pre{font:12px/1.6 "JetBrains Mono",ui-monospace,monospace;background:#F6F4EE;border-radius:5px;padding:6px 10px;white-space:pre-wrap;margin:4px 0}
ul{margin:2px 0 0;padding-left:18px;font:12px/1.6 "JetBrains Mono",ui-monospace,monospace}li{white-space:pre-wrap;overflow-wrap:anywhere}
table.scores{font:13.5px/1.6 Inter,system-ui,sans-serif;width:auto;min-width:420px;margin-bottom:12px}table.scores td{text-align:right}table.scores td:first-child,table.scores th:first-child{text-align:left}table.scores th{text-align:right;font-size:11.5px;color:#55626E}
.tables{display:flex;flex-wrap:wrap;gap:0 24px;align-items:flex-start}
.high{color:#9B2226;font-weight:600}.medium{color:#7A4E00;font-weight:600}
</style></head><body>
<h1>{{.Sentence}}</h1>
{{range .About}}<p class="second">{{.}}</p>{{end}}
<div class="tables">{{range .Tables}}<div><h2>By {{.By}}</h2>
<table class="scores"><tr><th>{{.By}}</th><th>holds</th><th>does not</th><th>undecidable</th><th>share</th><th>before</th></tr>
{{range .Rows}}<tr><td>{{.Name}}</td><td>{{.Passed}}</td><td>{{.Failed}}</td><td>{{.Undecidable}}</td><td>{{percent .Share}}</td><td>{{if ge .Before 0.0}}{{percent .Before}}{{else}}–{{end}}</td></tr>
{{end}}</table></div>
{{end}}</div>{{range .Rules}}<div class="item"><h2>{{.Title}}</h2>
<p class="second">{{.Name}}; severity <span class="{{.Severity}}">{{.Severity}}</span>{{if .Controls}}; {{.Controls}}{{end}}</p>
{{if .Rationale}}<p>{{.Rationale}}</p>{{end}}
{{range .Fixes}}<p><b>{{if .Platform}}What to type on {{.Platform}}{{else}}What to do{{end}}:</b>{{if not .Platform}} {{.Text}}{{end}}</p>{{if .Platform}}<pre>{{.Text}}</pre>{{end}}{{end}}
{{range .Places}}<h3>{{.Device}}</h3><p class="second">{{.About}}</p><ul>{{range .Proofs}}<li>{{place .}}</li>{{end}}{{if .More}}<li>and {{.More}} more</li>{{end}}</ul>
{{end}}</div>
{{end}}<p class="second">{{.Footer}}</p>
</body></html>
`))
})

// HTML writes the report as a page that needs nothing else.
func (a *Audit) HTML(w io.Writer) error {
	type placed struct {
		AuditPlace
		About string
	}
	type ruled struct {
		AuditRule
		Places []placed
	}
	data := struct {
		Sentence, Footer string
		About            []string
		Tables           []Scores
		Rules            []ruled
	}{Sentence: a.Sentence, About: a.About, Footer: a.footer(), Tables: a.Tables}
	for _, r := range a.Rules {
		x := ruled{AuditRule: r}
		for i := range r.Places {
			x.Places = append(x.Places, placed{r.Places[i], a.about(&r.Places[i])})
		}
		data.Rules = append(data.Rules, x)
	}
	return auditPage().Execute(w, data)
}

// PDF writes the report on pages of A3 in landscape.
func (a *Audit) PDF(w io.Writer) error {
	p := newPaper(a.Sentence, a.footer(), a.Made)
	p.text("B", 12, a.Sentence)
	for _, line := range a.About {
		p.text("", 8, line)
	}
	for _, t := range a.Tables {
		p.Ln(3)
		p.text("B", 10, "By "+t.By)
		p.text("", size, fmt.Sprintf("%-40s %8s %8s %12s %8s %8s", t.By, "holds", "does not", "undecidable", "share", "before"))
		for _, s := range t.Rows {
			before := "–"
			if s.Before >= 0 {
				before = Percent(s.Before)
			}
			p.text("", size, fmt.Sprintf("%-40s %8d %8d %12d %8s %8s", s.Name, s.Passed, s.Failed, s.Undecidable, Percent(s.Share), before))
		}
	}
	for _, r := range a.Rules {
		p.Ln(3)
		p.text("B", 10, r.Title)
		head := r.Name + "; severity " + r.Severity
		if r.Controls != "" {
			head += "; " + r.Controls
		}
		p.text("", 7, head)
		if r.Rationale != "" {
			p.text("", size, r.Rationale)
		}
		for _, f := range r.Fixes {
			if f.Platform == "" {
				p.text("", size, "What to do: "+f.Text)
				continue
			}
			p.text("", size, "What to type on "+f.Platform+":")
			for _, line := range strings.Split(strings.TrimSpace(f.Text), "\n") {
				p.text("", size, "    "+line)
			}
		}
		for i := range r.Places {
			x := &r.Places[i]
			p.Ln(1)
			p.text("B", size, x.Device)
			p.text("", 7, a.about(x))
			for _, proof := range x.Proofs {
				for _, line := range strings.Split(place(proof), "\n") {
					p.text("", size, "    "+line)
				}
			}
			if x.More > 0 {
				p.text("", 7, fmt.Sprintf("    and %d more", x.More))
			}
		}
	}
	return p.Output(w)
}

// CSV writes a line for each place.
func (a *Audit) CSV(w io.Writer) error {
	out := csv.NewWriter(w)
	rows := [][]string{{"rule", "title", "severity", "controls", "device", "site", "revision", "since", "came by", "owner", "waiver", "line", "section", "text", "what is wrong"}}
	for _, r := range a.Rules {
		for _, p := range r.Places {
			proofs := p.Proofs
			if len(proofs) == 0 {
				proofs = []audit.Proof{{}}
			}
			for _, x := range proofs {
				line := ""
				if x.Line > 0 {
					line = fmt.Sprint(x.Line)
				}
				rows = append(rows, []string{safe(r.Name), safe(r.Title), r.Severity, safe(r.Controls), safe(p.Device), safe(p.Site), safe(p.Ref), p.Since.UTC().Format(time.RFC3339), safe(p.Came), safe(p.Owner), safe(p.Waiver), line, safe(strings.Join(x.Path, " > ")), safe(x.Text), safe(x.Says)})
			}
		}
	}
	return out.WriteAll(rows)
}
