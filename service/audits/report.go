package audits

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"vergekeep/core/audit"
	"vergekeep/core/report"
)

// trendSpan is what a report compares scores with.
const trendSpan = 30

// Report writes what is open as a report, without secrets: for the engineer what to
// type where, for the manager the shares by site and document, for the auditor those
// by control.
func (s *Service) Report(ctx context.Context, f Filter, zone *time.Location, by string) (*report.Audit, error) {
	f.Limit = MaxList
	list, total, err := s.Findings(ctx, f)
	if err != nil {
		return nil, err
	}
	r := &report.Audit{Made: s.Now(), By: by, Zone: zone}
	before := s.Now().AddDate(0, 0, -trendSpan)
	var all Score
	for _, sum := range []string{BySite, ByDocument, ByControl} {
		now, whole, err := s.Scores(ctx, f.Selector, sum, time.Time{})
		if err != nil {
			return nil, err
		}
		then, _, err := s.Scores(ctx, f.Selector, sum, before)
		if err != nil {
			return nil, err
		}
		all = whole
		was := map[string]float64{}
		for i := range then {
			was[then[i].Name] = then[i].Share()
		}
		t := report.Scores{By: sum}
		for i := range now {
			x := report.Score{Name: now[i].Name, Passed: now[i].Passed, Failed: now[i].Failed, Undecidable: now[i].Undecidable, Share: now[i].Share(), Before: -1}
			if share, known := was[now[i].Name]; known {
				x.Before = share
			}
			t.Rows = append(t.Rows, x)
		}
		r.Tables = append(r.Tables, t)
	}
	devices := map[string]bool{}
	at := map[string]int{}
	for i := range list {
		x := &list[i]
		devices[x.Device] = true
		n, known := at[x.Document+"/"+x.Item]
		if !known {
			n = len(r.Rules)
			at[x.Document+"/"+x.Item] = n
			r.Rules = append(r.Rules, s.ruleOf(x))
		}
		r.Rules[n].Places = append(r.Rules[n].Places, s.placeOf(ctx, x))
	}
	r.Sentence = fmt.Sprintf("%s of what was asked holds; %s on %s.", report.Percent(all.Share()), plural(total, "finding"), plural(len(devices), "device"))
	if f.Selector != "" {
		r.About = append(r.About, "On "+f.Selector+".")
	}
	r.About = append(r.About, fmt.Sprintf("Before is %d days ago.", trendSpan))
	if total > len(list) {
		r.About = append(r.About, fmt.Sprintf("Only the first %d findings are told.", len(list)))
	}
	return r, nil
}

func plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

func (s *Service) ruleOf(f *Finding) report.AuditRule {
	out := report.AuditRule{Name: f.Name(), Title: f.Title, Severity: string(f.Severity)}
	r := s.Rule(f)
	if r == nil {
		return out
	}
	out.Rationale = r.Rationale
	var controls []string
	for _, scheme := range slices.Sorted(maps.Keys(r.Controls)) {
		controls = append(controls, scheme+" "+strings.Join(r.Controls[scheme], ", "))
	}
	out.Controls = strings.Join(controls, "; ")
	for _, platform := range slices.Sorted(maps.Keys(r.Fix)) {
		if r.Fix[platform] != "" {
			out.Fixes = append(out.Fixes, report.Fix{Platform: platform, Text: r.Fix[platform]})
		}
	}
	return out
}

func (s *Service) placeOf(ctx context.Context, f *Finding) report.AuditPlace {
	p := report.AuditPlace{Device: f.Device, Site: f.Site, Since: f.Opened, Proofs: f.Proofs, More: f.More}
	if f.Part != "" {
		p.Device += " " + f.Part
	}
	if f.Number > 0 {
		p.Ref = f.Ref(f.Number)
	}
	if f.OpenedBy > 0 && s.Changes != nil {
		p.Came = fmt.Sprintf("by change #%d", f.OpenedBy)
		if c, err := s.Changes.Get(ctx, f.OpenedBy); err == nil && len(c.Accounts) > 0 {
			p.Came += " of " + strings.Join(c.Accounts, ", ")
		}
	}
	if f.Owner != "" {
		p.Owner = f.Owner + " is on it"
	}
	if w := f.Waiver; w != nil {
		p.Waiver = fmt.Sprintf("waived until %s by %s: %s", w.Until.UTC().Format("2006-01-02"), w.Approved, w.Reason)
	}
	if len(p.Proofs) == 0 {
		p.Proofs = []audit.Proof{{Says: f.Why}}
	}
	return p
}

// Ref names one of the revisions of a finding's configuration.
func (f *Finding) Ref(number int) string {
	datastore, drift := strings.CutPrefix(f.Document, "baseline:")
	if !drift {
		datastore = "running"
	}
	return refTo(f.Device, datastore, f.Part, number)
}
