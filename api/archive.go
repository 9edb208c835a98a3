package api

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"net/http"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"vergekeep/api/gen"
	"vergekeep/archive"
	"vergekeep/core/diff"
	"vergekeep/core/ref"
	"vergekeep/core/report"
	"vergekeep/core/selector"
	"vergekeep/service/notes"
	"vergekeep/service/search"
	"vergekeep/service/texts"
)

// Compare implements compare.
func (s *server) Compare(c *gin.Context, params gen.CompareParams) {
	s.compare(c, texts.Request{Left: texts.Source{Ref: params.Left}, Right: texts.Source{Ref: params.Right}, Expected: value(params.Expected), ByLines: string(value(params.By)) == "lines", Strict: value(params.Strict)}, params.Context, params.Zone)
}

// CompareTexts implements compareTexts.
func (s *server) CompareTexts(c *gin.Context) {
	in, ok := body[gen.ComparisonRequest](s, c)
	if !ok {
		return
	}
	q, ok := asked(c, in)
	if !ok {
		return
	}
	s.compare(c, q, in.Context, in.Zone)
}

// asked is the request of a comparison; where it is not clear, that is answered.
func asked(c *gin.Context, in gen.ComparisonRequest) (texts.Request, bool) {
	source := func(x gen.Source) (out texts.Source) {
		out = texts.Source{Ref: value(x.Ref), Name: value(x.Name)}
		if x.Text != nil {
			text := string(*x.Text)
			out.Text = &text
		}
		return out
	}
	q := texts.Request{Left: source(in.Left), Right: source(in.Right), Expected: value(in.Expected), ByLines: string(value(in.By)) == "lines", Strict: value(in.Strict), Platform: value(in.Platform)}
	for side, x := range map[string]texts.Source{"left": q.Left, "right": q.Right} {
		if (x.Ref == "") == (x.Text == nil) {
			problem(c, http.StatusBadRequest, "The "+side+" side is not clear.", "It takes a ref or a text, one of them.")
			return q, false
		}
	}
	return q, true
}

func (s *server) compare(c *gin.Context, q texts.Request, context *int, zone *string) {
	who, ok := s.reader(c, zone)
	if !ok {
		return
	}
	around := 3
	if context != nil {
		around = *context
	}
	cmp, err := s.Texts.Compare(c, q, who)
	if err != nil {
		s.fail(c, err)
		return
	}
	rows := cmp.Rows(around)
	unified, hidden := cmp.Unified(max(around, 0))
	c.JSON(http.StatusOK, gen.Comparison{
		Left: apiSide(cmp.Left), Right: apiSide(cmp.Right), Identical: cmp.Result.Identical(), Stats: apiStats(cmp.Result.Stats),
		Sections: each(diff.Sections(plainRows(rows)), func(x diff.SectionStats) gen.SectionStats {
			if x.Path == nil {
				x.Path = []string{}
			}
			return gen.SectionStats{Path: x.Path, Stats: apiStats(x.Stats)}
		}),
		Rows: each(rows, apiRow), Unified: unified, HiddenSecrets: hidden,
	})
}

func plainRows(rows []texts.Row) []diff.Row {
	return each(rows, func(r texts.Row) diff.Row { return r.Row })
}

// documents are the forms of a comparison that is saved, with their media types.
var documents = map[gen.CompareAsDocumentParamsAs]struct {
	media, ending string
	write         func(*report.Comparison, *bytes.Buffer) error
}{
	"html": {"text/html; charset=utf-8", "html", func(r *report.Comparison, b *bytes.Buffer) error { return r.HTML(b) }},
	"pdf":  {"application/pdf", "pdf", func(r *report.Comparison, b *bytes.Buffer) error { return r.PDF(b) }},
	"csv":  {"text/csv; charset=utf-8", "csv", func(r *report.Comparison, b *bytes.Buffer) error { return r.CSV(b) }},
	"text": {"text/plain; charset=utf-8", "txt", func(r *report.Comparison, b *bytes.Buffer) error { return r.Text(b) }},
}

// CompareAsDocument implements compareAsDocument.
func (s *server) CompareAsDocument(c *gin.Context, params gen.CompareAsDocumentParams) {
	who, ok := s.reader(c, params.Zone)
	if !ok {
		return
	}
	around := 3
	if params.Context != nil {
		around = *params.Context
	}
	cmp, err := s.Texts.Compare(c, texts.Request{Left: texts.Source{Ref: params.Left}, Right: texts.Source{Ref: params.Right}, Expected: value(params.Expected), ByLines: string(value(params.By)) == "lines", Strict: value(params.Strict)}, who)
	if err != nil {
		s.fail(c, err)
		return
	}
	var b bytes.Buffer
	d, known := documents[params.As]
	if !known {
		d.media, d.ending = "text/x-diff; charset=utf-8", "diff"
		unified, _ := cmp.Unified(max(around, 0))
		b.WriteString(unified)
	} else if err := d.write(apiReport(cmp, cmp.Rows(around), who), &b); err != nil {
		s.fail(c, err)
		return
	}
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", fileName(cmp)+"."+d.ending))
	c.Data(http.StatusOK, d.media, b.Bytes())
}

// fileName is what a comparison is called as a file, without an ending.
func fileName(cmp *texts.Comparison) string {
	return strings.Map(func(r rune) rune {
		if strings.ContainsRune(`"/\:*?<>|@ `, r) || r < ' ' {
			return '-'
		}
		return r
	}, cmp.Left.Name()+"-against-"+cmp.Right.Name())
}

func apiReport(cmp *texts.Comparison, rows []texts.Row, who texts.Caller) *report.Comparison {
	side := func(x *texts.Configuration) report.Side {
		r := x.Revision
		return report.Side{Name: x.Name(), Since: r.FirstSeen, Seen: r.LastSeen, Hash: hex.EncodeToString(r.Hash[:]), Lines: r.Lines}
	}
	return &report.Comparison{Left: side(cmp.Left), Right: side(cmp.Right), Made: time.Now(), By: who.Account, Identical: cmp.Result.Identical(), Stats: cmp.Result.Stats,
		Rows: plainRows(rows), Masked: cmp.Left.Masked || cmp.Right.Masked, Zone: who.Location}
}

// FindNearest implements findNearest.
func (s *server) FindNearest(c *gin.Context) {
	in, ok := body[gen.StrayText](s, c)
	if !ok {
		return
	}
	who, _ := s.reader(c, nil)
	list, err := s.Texts.Nearest(c, string(in.Text), value(in.Selector), who)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, each(list, func(n texts.Near) gen.Nearest {
		return gen.Nearest{Device: n.Device.Name, Revision: apiRevision(n.Device.Name, n.Revision), Alike: float32(n.Alike), Identical: n.Identical}
	}))
}

// GetLines implements getLines.
func (s *server) GetLines(c *gin.Context, params gen.GetLinesParams) {
	who, ok := s.reader(c, params.Zone)
	if !ok {
		return
	}
	h, err := s.Texts.Lines(c, params.Ref, who)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := gen.LineHistory{Device: h.Device.Name, Revision: apiRevision(h.Device.Name, h.Revision), Lines: make([]gen.LineLife, len(h.Lineage.Now))}
	named := map[int]bool{}
	for i, at := range h.Lineage.Now {
		life := h.Lineage.Lives[at]
		named[life.From] = true
		line := gen.LineLife{Text: strings.ToValidUTF8(h.Tree.LineAt(i+1), "\uFFFD"), Since: life.From, Was: some(strings.ToValidUTF8(strings.TrimSpace(h.Was(i+1)), "\uFFFD"))}
		if stories := h.Stories(at); len(stories) > 0 {
			before := each(stories, func(x diff.Life) gen.Life {
				named[x.From], named[x.Last] = true, true
				return gen.Life{From: x.From, Last: x.Last}
			})
			line.Before = &before
		}
		out.Lines[i] = line
	}
	out.Revisions = []gen.Revision{}
	for n := range named {
		if r, ok := h.Revisions[n]; ok {
			out.Revisions = append(out.Revisions, apiRevision(h.Device.Name, r))
		}
	}
	sort.Slice(out.Revisions, func(i, j int) bool { return out.Revisions[i].Number < out.Revisions[j].Number })
	c.JSON(http.StatusOK, out)
}

// ListFleetAt implements listFleetAt.
func (s *server) ListFleetAt(c *gin.Context, params gen.ListFleetAtParams) {
	who, ok := s.reader(c, params.Zone)
	if !ok {
		return
	}
	at, err := s.Texts.Time(c, value(params.At), who.Location)
	if err != nil {
		s.fail(c, err)
		return
	}
	list, without, err := s.Texts.FleetAt(c, value(params.Selector), at)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := gen.FleetAt{At: at, Without: []string{}, Configurations: each(list, func(x texts.InForce) gen.ConfigurationAt {
		return gen.ConfigurationAt{Device: x.Device.Name, Site: x.Device.Site, Platform: x.Device.Platform, Revision: apiRevision(x.Device.Name, x.Revision)}
	})}
	for _, d := range without {
		out.Without = append(out.Without, d.Name)
	}
	c.JSON(http.StatusOK, out)
}

// CompareFleet implements compareFleet.
func (s *server) CompareFleet(c *gin.Context, params gen.CompareFleetParams) {
	who, ok := s.reader(c, params.Zone)
	if !ok {
		return
	}
	from, err := s.Texts.Time(c, params.From, who.Location)
	if err != nil {
		s.fail(c, err)
		return
	}
	to, err := s.Texts.Time(c, value(params.To), who.Location)
	if err != nil {
		s.fail(c, err)
		return
	}
	list, same, err := s.Texts.CompareFleet(c, value(params.Selector), from, to)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, gen.FleetComparison{From: from, To: to, Same: same, Items: each(list, func(x texts.Difference) gen.FleetDifference {
		out := gen.FleetDifference{Device: x.Device.Name, Site: x.Device.Site, Stats: some(apiStats(x.Stats)), Revisions: some(x.Between)}
		if x.Left != nil {
			out.Left = some(apiRevision(x.Device.Name, *x.Left))
		}
		if x.Right != nil {
			out.Right = some(apiRevision(x.Device.Name, *x.Right))
		}
		return out
	})})
}

// ListMoments implements listMoments.
func (s *server) ListMoments(c *gin.Context) {
	list, err := s.Notes.Moments(c)
	answer(s, c, http.StatusOK, each(list, apiMoment), err)
}

func apiMoment(m notes.Moment) gen.Moment {
	return gen.Moment{Name: m.Name, At: m.At, Remark: m.Remark, Account: m.Account, Noted: m.Noted}
}

// SetMoment implements setMoment.
func (s *server) SetMoment(c *gin.Context, name gen.Name) {
	in, ok := body[gen.MomentEdit](s, c)
	if !ok {
		return
	}
	who, ok := s.reader(c, in.Zone)
	if !ok {
		return
	}
	at, err := s.Texts.Time(c, value(in.At), who.Location)
	if err == nil {
		var m notes.Moment
		if m, err = s.Notes.SetMoment(c, notes.Moment{Name: name, At: at, Remark: value(in.Remark), Account: who.Account}); err == nil {
			c.JSON(http.StatusOK, apiMoment(m))
			return
		}
	}
	s.fail(c, err)
}

// DeleteMoment implements deleteMoment.
func (s *server) DeleteMoment(c *gin.Context, name gen.Name) {
	s.done(c, s.Notes.DeleteMoment(c, name, caller(c).Name))
}

// SetNote implements setNote.
func (s *server) SetNote(c *gin.Context, params gen.SetNoteParams) {
	in, ok := body[gen.Note](s, c)
	if !ok {
		return
	}
	who, ok := s.reader(c, params.Zone)
	if !ok {
		return
	}
	t, err := s.Texts.Get(c, params.Ref, who)
	if err == nil {
		err = s.Notes.Set(c, t.Revision, t.Name(), archive.Note{Pinned: value(in.Pinned), Name: value(in.Name), Remark: value(in.Remark)}, who.Account)
	}
	if err == nil {
		t, err = s.Texts.Get(c, t.Name(), who)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, apiRevision(t.Device.Name, t.Revision))
}

// question reads a question of a request.
func (s *server) question(c *gin.Context, in gen.Question) (q search.Question, who texts.Caller, ok bool) {
	if who, ok = s.reader(c, in.Zone); !ok {
		return q, who, false
	}
	q = search.Question{Text: value(in.Text), Regexp: value(in.Regexp), AnyCase: value(in.AnyCase), In: value(in.In), Have: value(in.Have), Lack: value(in.Lack),
		Selector: value(in.Selector), Datastore: value(in.Datastore), Scope: search.Scope(value(in.Scope)), Without: value(in.Without)}
	for _, t := range []struct {
		from *string
		to   *time.Time
	}{{in.At, &q.At}, {in.From, &q.From}, {in.To, &q.To}} {
		if value(t.from) == "" {
			continue
		}
		at, err := s.Texts.Time(c, *t.from, who.Location)
		if err != nil {
			s.fail(c, err)
			return q, who, false
		}
		*t.to = at
	}
	if q.Scope == search.At && q.At.IsZero() {
		problem(c, http.StatusBadRequest, "The time is missing.", "A search as of a time takes \"at\".")
		return q, who, false
	}
	return q, who, true
}

// Search implements search.
func (s *server) Search(c *gin.Context) {
	in, ok := body[gen.Question](s, c)
	if !ok {
		return
	}
	q, who, ok := s.question(c, in)
	if !ok {
		return
	}
	limit := 100
	if in.Limit != nil {
		limit = *in.Limit
	}
	a, err := s.Finder.Ask(c, q, limit, who.SeeSecrets)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, apiFound(a, q.Without))
}

func apiFound(a *search.Answer, without bool) gen.Found {
	out := gen.Found{Total: a.Total, Complete: a.Complete, Searched: a.Searched, Masked: a.Masked, Without: append([]string{}, a.Without...),
		Hits: each(a.Hits, func(h search.Hit) gen.Hit {
			x := gen.Hit{Device: h.Device, Line: h.Line, Text: strings.ToValidUTF8(h.Text, "\uFFFD"), Path: append([]string{}, h.Path...),
				Ref:  ref.Ref{Device: h.Device, Datastore: h.Key.Datastore, Part: h.Key.Part, Point: ref.Point{Kind: ref.Number, Number: h.Number}}.String(),
				Last: some(h.Last), Since: some(h.Since), SinceTime: moment(h.SinceTime), LastTime: moment(h.LastTime)}
			x.Spans = apiSpans(h.Text, each(h.Spans, func(s [2]int) diff.Span { return diff.Span{From: s[0], To: s[1]} }))
			return x
		}),
		Devices: each(a.Devices, func(x search.Count) gen.DeviceHits { return gen.DeviceHits{Device: x.Name, Count: x.Count} }),
		Sections: each(a.Sections, func(x search.Count) gen.SectionHits {
			return gen.SectionHits{Path: append([]string{}, x.Path...), Count: x.Count}
		}),
	}
	names := a.Without
	if !without {
		names = each(a.Devices, func(x search.Count) string { return x.Name })
	}
	if sel := selector.Of(slices.Clone(names)); len(sel) <= selector.MaxLength {
		out.Selector = sel
	}
	return out
}

// ListSearches implements listSearches.
func (s *server) ListSearches(c *gin.Context) {
	list, err := s.Notes.Searches(c)
	answer(s, c, http.StatusOK, each(list, apiSearch), err)
}

func apiSearch(x notes.Search) gen.SavedSearch {
	q := x.Question
	stamp := func(t time.Time) *string {
		if t.IsZero() {
			return nil
		}
		return some(t.UTC().Format(time.RFC3339))
	}
	out := gen.SavedSearch{Name: x.Name, Account: x.Account, At: x.At, Question: gen.Question{Text: some(q.Text), Regexp: some(q.Regexp), AnyCase: some(q.AnyCase), In: some(q.In),
		Selector: some(q.Selector), Datastore: some(q.Datastore), Without: some(q.Without), At: stamp(q.At), From: stamp(q.From), To: stamp(q.To)}}
	if len(q.Have) > 0 {
		out.Question.Have = &q.Have
	}
	if len(q.Lack) > 0 {
		out.Question.Lack = &q.Lack
	}
	if q.Scope != "" {
		out.Question.Scope = some(gen.QuestionScope(q.Scope))
	}
	return out
}

// SaveSearch implements saveSearch.
func (s *server) SaveSearch(c *gin.Context, name gen.Name) {
	in, ok := body[gen.Question](s, c)
	if !ok {
		return
	}
	q, who, ok := s.question(c, in)
	if !ok {
		return
	}
	// A question that cannot be answered is not worth a name.
	if _, err := s.Finder.Ask(c, q, 0, who.SeeSecrets); err != nil {
		s.fail(c, err)
		return
	}
	saved, err := s.Notes.SaveSearch(c, name, q, who.Account)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, apiSearch(saved))
}

// DeleteSearch implements deleteSearch.
func (s *server) DeleteSearch(c *gin.Context, name gen.Name) {
	s.done(c, s.Notes.DeleteSearch(c, name, caller(c).Name))
}
