package api

import (
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"vergekeep/api/gen"
	"vergekeep/core/ref"
	"vergekeep/core/window"
	"vergekeep/service/changes"
	"vergekeep/service/texts"
)

func apiChange(x changes.Change) gen.Change {
	out := gen.Change{
		Id: x.ID, Device: x.Device, Site: x.Site, Round: some(x.Round), Since: x.Since, Found: x.Found, First: moment(x.First), Last: moment(x.Last), Signals: x.Signals,
		Accounts: all(x.Accounts), Sources: all(x.Sources), Methods: all(x.Methods), Stats: apiStats(x.Stats), Suspect: some(x.Suspect), Severity: gen.Severity(x.Severity.String()),
		Sections: all(x.Sections), Place: gen.Place(x.Place), Window: some(x.Hours), Undoes: some(x.Undoes), Verdict: gen.Verdict(x.Verdict), Reference: some(x.Reference), Remark: some(x.Remark),
		Judge: some(x.Judge), Rule: some(x.Rule), Judged: moment(x.Judged), Taker: some(x.Taker), Taken: moment(x.Taken),
	}
	out.Texts = each(x.Texts, func(t changes.Text) gen.ChangeText {
		text := gen.ChangeText{Datastore: t.Datastore, Part: t.Part, Ref: x.Ref(t, t.Number)}
		if t.Before > 0 {
			text.Before = some(x.Ref(t, t.Before))
		}
		return text
	})
	return out
}

// all is a list that is not null.
func all[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// span reads the times of a filter.
func (s *server) span(c *gin.Context, f *changes.Filter, from, to *string, loc *time.Location) (err error) {
	switch value(from) {
	case "":
	case "last-round", "last-window":
		f.From, err = s.Changes.Since(c, *from)
	default:
		f.From, err = s.Texts.Time(c, *from, loc)
	}
	if err == nil && value(to) != "" {
		f.To, err = s.Texts.Time(c, *to, loc)
	}
	if err == nil && !f.To.IsZero() && f.To.Before(f.From) {
		err = fmt.Errorf("%w: it would end before it begins", changes.ErrFilter)
	}
	return err
}

func filter(p gen.ListChangesParams) changes.Filter {
	f := changes.Filter{Selector: value(p.Selector), Account: value(p.Account), Section: value(p.Section), Lines: value(p.Lines), Taken: p.Taken, Oldest: value(p.Order) == "oldest"}
	for _, x := range value(p.Place) {
		f.Places = append(f.Places, window.Where(x))
	}
	for _, x := range value(p.Verdict) {
		f.Verdicts = append(f.Verdicts, changes.Verdict(x))
	}
	if p.Severity != nil {
		f.Severity, _ = changes.ParseSeverity(string(*p.Severity)) // the contract has checked it
	}
	return f
}

// ListChanges implements listChanges.
func (s *server) ListChanges(c *gin.Context, params gen.ListChangesParams) {
	after, n, ok := numbered(c, params.Cursor, params.Limit)
	if !ok {
		return
	}
	who, ok := s.reader(c, params.Zone)
	if !ok {
		return
	}
	f := filter(params)
	f.After, f.Limit = after, min(n, changes.MaxList-1)+1
	if err := s.span(c, &f, params.From, params.To, who.Location); err != nil {
		s.fail(c, err)
		return
	}
	list, total, err := s.Changes.List(c, f)
	if err != nil {
		s.fail(c, err)
		return
	}
	list, next := upTo(list, f.Limit-1, func(x *changes.Change) string { return strconv.FormatInt(x.ID, 10) })
	c.JSON(http.StatusOK, gen.ChangePage{Items: each(list, apiChange), Total: total, Next: link(c, next)})
}

// OverviewChanges implements overviewChanges.
func (s *server) OverviewChanges(c *gin.Context, p gen.OverviewChangesParams) {
	who, ok := s.reader(c, p.Zone)
	if !ok {
		return
	}
	f := filter(gen.ListChangesParams{Selector: p.Selector, Account: p.Account, Section: p.Section, Place: p.Place, Verdict: p.Verdict, Severity: p.Severity, Lines: p.Lines, Taken: p.Taken})
	from := value(p.From)
	if from == "" {
		from = "30d"
	}
	if err := s.span(c, &f, &from, p.To, who.Location); err != nil {
		s.fail(c, err)
		return
	}
	if f.To.IsZero() {
		f.To, _ = s.Texts.Time(c, "", who.Location) // now always is one
	}
	o, err := s.Changes.Overview(c, f, who.Location)
	if err != nil {
		s.fail(c, err)
		return
	}
	count := func(x changes.Count) gen.Count {
		return gen.Count{Name: x.Name, Changes: x.Changes, Outside: x.Outside}
	}
	out := gen.ChangeOverview{From: o.From, To: o.To, Changes: o.Changes, Devices: o.Devices, Open: o.Open, Outside: o.Outside, Unknown: o.Unknown,
		ByDevice: each(o.ByDevice, count), ByAccount: each(o.ByAccount, count), BySection: each(o.BySection, count),
		Marks: each(o.Marks, func(m changes.Mark) gen.ChangeMark {
			return gen.ChangeMark{Id: m.ID, At: m.At, Device: m.Device, Place: gen.Place(m.Place), Verdict: gen.Verdict(m.Verdict), Severity: gen.Severity(m.Severity.String())}
		}),
		Openings: each(o.Openings, func(x changes.Opening) gen.Opening {
			return gen.Opening{Name: x.Name, Freeze: x.Freeze, From: x.From, To: x.To}
		}),
		Flapping: each(o.Flapping, func(x changes.Flap) gen.Flap { return gen.Flap{Device: x.Device, Undone: x.Undone, Last: x.Last} }),
	}
	for _, day := range o.ByHour {
		out.ByHour = append(out.ByHour, day[:])
	}
	c.JSON(http.StatusOK, out)
}

// GetChange implements getChange.
func (s *server) GetChange(c *gin.Context, id gen.ID) {
	x, err := s.Changes.Get(c, id)
	answer(s, c, http.StatusOK, apiChange(x), err)
}

// JudgeChanges implements judgeChanges.
func (s *server) JudgeChanges(c *gin.Context) {
	in, ok := body[gen.Judging](s, c)
	if !ok {
		return
	}
	list, err := s.Changes.Judge(c, in.Ids, changes.Verdict(in.Verdict), value(in.Reference), value(in.Remark), caller(c).Name)
	answer(s, c, http.StatusOK, each(list, apiChange), err)
}

// TakeChanges implements takeChanges.
func (s *server) TakeChanges(c *gin.Context) {
	in, ok := body[gen.Taking](s, c)
	if !ok {
		return
	}
	list, err := s.Changes.Take(c, in.Ids, in.On, caller(c).Name)
	answer(s, c, http.StatusOK, each(list, apiChange), err)
}

// ListVerdictRules implements listVerdictRules.
func (s *server) ListVerdictRules(c *gin.Context) {
	list, err := s.Changes.Judgements(c, false)
	answer(s, c, http.StatusOK, each(list, func(j changes.Judgement) gen.VerdictRule {
		return gen.VerdictRule{Name: j.Name, Selector: j.Selector, Accounts: all(j.Accounts), Sections: all(j.Sections), Inside: j.Inside, Most: j.Most,
			Verdict: gen.Verdict(j.Verdict), Reference: some(j.Reference), Remark: some(j.Remark), Account: j.Account, At: j.At}
	}), err)
}

// SetVerdictRule implements setVerdictRule.
func (s *server) SetVerdictRule(c *gin.Context, name gen.Name) {
	in, ok := body[gen.VerdictRuleEdit](s, c)
	if !ok {
		return
	}
	s.done(c, s.Changes.SetJudgement(c, changes.Judgement{Name: name, Selector: value(in.Selector), Accounts: value(in.Accounts), Sections: value(in.Sections), Inside: value(in.Inside), Most: value(in.Most),
		Verdict: changes.Verdict(in.Verdict), Reference: value(in.Reference), Remark: value(in.Remark), Account: caller(c).Name}))
}

// DeleteVerdictRule implements deleteVerdictRule.
func (s *server) DeleteVerdictRule(c *gin.Context, name gen.Name) {
	s.done(c, s.Changes.DeleteJudgement(c, name, false, caller(c).Name))
}

// ListAnnouncements implements listAnnouncements.
func (s *server) ListAnnouncements(c *gin.Context) {
	list, err := s.Changes.Judgements(c, true)
	answer(s, c, http.StatusOK, each(list, func(j changes.Judgement) gen.Announcement {
		return gen.Announcement{Name: j.Name, From: j.Begins, To: j.Ends, Reference: j.Reference, Selector: j.Selector, Accounts: all(j.Accounts), Sections: all(j.Sections), Most: j.Most, Remark: some(j.Remark), Account: j.Account, At: j.At}
	}), err)
}

// SetAnnouncement implements setAnnouncement.
func (s *server) SetAnnouncement(c *gin.Context, name gen.Name) {
	in, ok := body[gen.AnnouncementEdit](s, c)
	if !ok {
		return
	}
	who, ok := s.reader(c, in.Zone)
	if !ok {
		return
	}
	from, err := exactTime(in.From, who.Location)
	if err != nil {
		s.fail(c, err)
		return
	}
	to, err := exactTime(in.To, who.Location)
	if err != nil {
		s.fail(c, err)
		return
	}
	s.done(c, s.Changes.SetJudgement(c, changes.Judgement{Announced: true, Name: name, Begins: from, Ends: to, Selector: value(in.Selector), Accounts: value(in.Accounts), Sections: value(in.Sections), Most: value(in.Most),
		Verdict: changes.Authorised, Reference: in.Reference, Remark: value(in.Remark), Account: who.Account}))
}

// exactTime reads a time that may be in the future.
func exactTime(source string, loc *time.Location) (time.Time, error) {
	p, err := ref.ParsePoint(source, loc)
	if err == nil && p.Kind != ref.Time {
		err = fmt.Errorf("write for example 2026-11-24T22:00")
	}
	if err != nil {
		return time.Time{}, fmt.Errorf("%w: %q: %w", texts.ErrTime, source, err)
	}
	return p.Time, nil
}

// DeleteAnnouncement implements deleteAnnouncement.
func (s *server) DeleteAnnouncement(c *gin.Context, name gen.Name) {
	s.done(c, s.Changes.DeleteJudgement(c, name, true, caller(c).Name))
}

const byClock = "2006-01-02T15:04:05"

func (s *server) apiWindow(w changes.Window, now time.Time) gen.Window {
	out := gen.Window{Name: w.Name, Freeze: w.Freeze, Selector: w.Selector, Start: w.Start.Format(byClock), Zone: w.Start.Location().String(), Minutes: int(w.Length / time.Minute), Rule: w.Rule, Said: w.Said(), Remark: some(w.Remark), Account: w.Account, At: w.At}
	if spans, err := w.Spans(now, now.AddDate(2, 0, 0), 1); err == nil && len(spans) > 0 {
		open := !spans[0].From.After(now)
		out.Next, out.Open = &spans[0].From, &open
	}
	if len(w.Except) > 0 {
		except := each(w.Except, func(t time.Time) string { return t.Format(byClock) })
		out.Except = &except
	}
	return out
}

// ListWindows implements listWindows.
func (s *server) ListWindows(c *gin.Context) {
	list, err := s.Changes.Windows(c)
	now, timeErr := s.Texts.Time(c, "", time.UTC)
	if err == nil {
		err = timeErr
	}
	answer(s, c, http.StatusOK, each(list, func(w changes.Window) gen.Window { return s.apiWindow(w, now) }), err)
}

// SetWindow implements setWindow.
func (s *server) SetWindow(c *gin.Context, name gen.Name) {
	in, ok := body[gen.WindowEdit](s, c)
	if !ok {
		return
	}
	who, ok := s.reader(c, in.Zone)
	if !ok {
		return
	}
	w := window.Window{Name: name, Freeze: value(in.Freeze), Selector: value(in.Selector), Length: time.Duration(in.Minutes) * time.Minute, Rule: value(in.Rule), Remark: value(in.Remark)}
	var err error
	if w.Start, err = clockTime(in.Start, who.Location); err != nil {
		s.fail(c, err)
		return
	}
	for _, e := range value(in.Except) {
		at, err := clockTime(e, who.Location)
		if err != nil {
			s.fail(c, err)
			return
		}
		w.Except = append(w.Except, at)
	}
	s.done(c, s.Changes.SetWindows(c, []window.Window{w}, who.Account))
}

// clockTime reads a time by the clock of a zone.
func clockTime(source string, loc *time.Location) (time.Time, error) {
	for _, form := range []string{byClock, "2006-01-02T15:04", "2006-01-02 15:04"} {
		if t, err := time.ParseInLocation(form, source, loc); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%w: %q is no time; write for example 2026-11-24T22:00", window.ErrWindow, source)
}

// DeleteWindow implements deleteWindow.
func (s *server) DeleteWindow(c *gin.Context, name gen.Name) {
	s.done(c, s.Changes.DeleteWindow(c, name, caller(c).Name))
}

// ExportWindows implements exportWindows.
func (s *server) ExportWindows(c *gin.Context) {
	list, err := s.Changes.Windows(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	text, err := window.WriteCalendar(each(list, func(w changes.Window) window.Window { return w.Window }), time.Now())
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Header("Content-Disposition", `attachment; filename="windows.ics"`)
	c.Data(http.StatusOK, "text/calendar; charset=utf-8", []byte(text))
}

// ImportWindows implements importWindows.
func (s *server) ImportWindows(c *gin.Context) {
	in, ok := body[gen.Calendar](s, c)
	if !ok {
		return
	}
	who, ok := s.reader(c, in.Zone)
	if !ok {
		return
	}
	list, err := window.ReadCalendar(in.Text, who.Location)
	if err != nil {
		s.fail(c, err)
		return
	}
	for i := range list {
		if list[i].Selector == "" {
			list[i].Selector = value(in.Selector)
		}
		list[i].Freeze = list[i].Freeze || value(in.Freeze)
	}
	if !value(in.Try) {
		if err := s.Changes.SetWindows(c, list, who.Account); err != nil {
			s.fail(c, err)
			return
		}
	}
	now := time.Now()
	c.JSON(http.StatusOK, each(list, func(w window.Window) gen.Window {
		return s.apiWindow(changes.Window{Window: w, Account: who.Account, At: now}, now)
	}))
}
