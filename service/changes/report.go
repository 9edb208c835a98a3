package changes

import (
	"context"
	"fmt"
	"strings"
	"time"

	"vergekeep/core/diff"
	"vergekeep/core/report"
	"vergekeep/core/window"
	"vergekeep/service/texts"
)

// maxRows is how many rows of a configuration's differences a report shows.
const maxRows = 60

// Report writes changes as a report, without secrets: nobody knows who will read it.
func (s *Service) Report(ctx context.Context, list []Change, zone *time.Location, by string) *report.Changes {
	r := &report.Changes{Made: s.Now(), By: by, Zone: zone}
	outside, open := 0, 0
	devices := map[string]bool{}
	for i := range list {
		c := &list[i]
		devices[c.Device] = true
		if c.Verdict == Open {
			open++
		}
		item := s.item(ctx, c, zone)
		if item.Alarm {
			outside++
		}
		r.Items = append(r.Items, item)
	}
	switch {
	case len(list) == 0:
		r.Sentence = "Nothing changed."
	case len(list) == 1:
		r.Sentence = Sentence(&list[0])
	default:
		r.Sentence = fmt.Sprintf("%s on %s: %d outside agreed hours, %d open.", counted(len(list), "change"), counted(len(devices), "device"), outside, open)
	}
	return r
}

func counted(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// Sentence says what changed, in a line.
func Sentence(c *Change) string {
	said := c.Device + " changed"
	switch c.Place {
	case window.Outside:
		said += " outside agreed hours"
	case window.Frozen:
		said += " in the freeze " + c.Hours
	}
	said += ": " + c.Stats.Said()
	if len(c.Accounts) > 0 {
		said += ", by " + strings.Join(c.Accounts, ", ")
	}
	return said
}

// Hours says how a change lies to agreed hours.
func hoursSaid(c *Change) string {
	switch c.Place {
	case window.Inside:
		return "inside " + c.Hours
	case window.Outside:
		return "outside agreed hours"
	case window.Perhaps:
		return "perhaps outside " + c.Hours + ": nobody knows when it was"
	case window.Frozen:
		return "in the freeze " + c.Hours
	}
	return ""
}

func (s *Service) item(ctx context.Context, c *Change, zone *time.Location) report.Change {
	at := func(t time.Time) string { return t.In(zone).Format("2006-01-02 15:04:05") }
	x := report.Change{ID: c.ID, Device: c.Device, Site: c.Site, Found: c.Found, By: strings.Join(c.Accounts, ", "), From: strings.Join(c.Sources, ", "), Method: strings.Join(c.Methods, ", "),
		Hours: hoursSaid(c), Alarm: c.Place == window.Outside || c.Place == window.Frozen, Severity: c.Severity.String(), Differences: c.Stats.Said()}
	from, to := c.When()
	switch {
	case c.First.IsZero():
		x.When = "between " + at(from) + " and " + at(to)
	case to.Sub(from) < time.Second:
		x.When = at(from)
	default:
		x.When = at(from) + " to " + at(to)
	}
	x.When += " " + from.In(zone).Format("MST")
	x.Verdict = string(c.Verdict)
	if c.Reference != "" {
		x.Verdict += ", " + c.Reference
	}
	if c.Judge != "" {
		x.Verdict += ", by " + c.Judge
	}
	if c.Taker != "" {
		x.Verdict += "; " + c.Taker + " is on it"
	}
	x.Where = strings.Join(c.Sections, "; ")
	if s.URL != nil {
		x.Link = fmt.Sprintf("%s/changes?change=%d", s.URL(), c.ID)
	}
	for _, t := range c.Texts {
		if t.Before == 0 {
			continue
		}
		if t.Datastore == "startup" && len(c.Texts) > 1 {
			continue // it was saved as well
		}
		cmp, err := s.Compare(ctx, c, t, texts.Caller{Location: zone})
		if err != nil {
			x.Texts = append(x.Texts, report.ChangeText{Name: "What differs cannot be shown: " + err.Error()})
			continue
		}
		var rows []diff.Row
		for _, row := range cmp.Rows(1) {
			if row.Aside == diff.Counts {
				rows = append(rows, row.Row)
			}
		}
		text := report.ChangeText{Name: c.Ref(t, t.Before) + " against " + c.Ref(t, t.Number), Rows: rows}
		if len(rows) > maxRows {
			text.Rows, text.More = rows[:maxRows], len(rows)-maxRows
		}
		x.Texts = append(x.Texts, text)
	}
	return x
}
