package api

import (
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"vergekeep/api/gen"
	"vergekeep/core/audit"
	"vergekeep/core/derive"
	"vergekeep/core/ref"
	"vergekeep/core/standard"
	"vergekeep/service/accounts"
	"vergekeep/service/audits"
	"vergekeep/service/notify"
)

func apiDocument(d audits.Document) gen.Document {
	return gen.Document{Kind: gen.DocumentKind(d.Kind), Name: d.Name, Title: d.Title, Applies: d.Applies, Items: d.Items, Hash: d.Hash, Source: d.Source, Revision: some(d.Revision), Account: d.Account, At: d.At}
}

// withText is a document with its text.
func withText(d audits.Document) gen.Document {
	out := apiDocument(d)
	out.Text = &d.Text
	return out
}

// ListDocuments implements listDocuments.
func (s *server) ListDocuments(c *gin.Context, p gen.ListDocumentsParams) {
	list, err := s.Audits.Documents(c, audits.Kind(value(p.Kind)))
	answer(s, c, http.StatusOK, each(list, apiDocument), err)
}

// GetDocument implements getDocument.
func (s *server) GetDocument(c *gin.Context, kind gen.DocumentKind, name gen.Name) {
	d, err := s.Audits.Document(c, audits.Kind(kind), name)
	answer(s, c, http.StatusOK, withText(d), err)
}

// SetDocument implements setDocument.
func (s *server) SetDocument(c *gin.Context, kind gen.DocumentKind) {
	in, ok := body[gen.DocumentEdit](s, c)
	if !ok {
		return
	}
	a := caller(c)
	d, err := s.Audits.SetDocument(c, audits.Kind(kind), value(in.File), in.Text, a.Name, a.May(accounts.SeeSecrets))
	answer(s, c, http.StatusOK, withText(d), err)
}

// DeleteDocument implements deleteDocument.
func (s *server) DeleteDocument(c *gin.Context, kind gen.DocumentKind, name gen.Name) {
	s.done(c, s.Audits.DeleteDocument(c, audits.Kind(kind), name, caller(c).Name))
}

// TryDocument implements tryDocument.
func (s *server) TryDocument(c *gin.Context, kind gen.DocumentKind) {
	in, ok := body[gen.DocumentTry](s, c)
	if !ok {
		return
	}
	t, err := s.Audits.Try(c, audits.Kind(kind), value(in.File), in.Text, value(in.Selector), caller(c).May(accounts.SeeSecrets))
	answer(s, c, http.StatusOK, gen.DocumentTrial{
		Name: t.Name, Devices: t.Devices, Pass: t.Counts[audit.Pass], Fail: t.Counts[audit.Fail], Undecidable: t.Counts[audit.Undecidable], NotApplicable: t.Counts[audit.NotApplicable],
		Changes: each(t.Changes, func(x audits.Tried) gen.TriedItem {
			return gen.TriedItem{Device: x.Device, Part: x.Part, Item: x.Item, Severity: some(gen.Severity(x.Severity)), Before: some(gen.AuditOutcome(x.Before)), After: some(gen.AuditOutcome(x.After)), Why: x.Why}
		}), More: t.More, Warnings: all(t.Warnings),
	}, err)
}

// SetSlotValues implements setSlotValues.
func (s *server) SetSlotValues(c *gin.Context, name gen.Name) {
	in, ok := body[gen.SlotValues](s, c)
	if !ok {
		return
	}
	s.done(c, s.Audits.SetSlotValues(c, name, in.Device, in.Values, caller(c).Name))
}

func apiDeviation(d standard.Deviation) gen.Deviation {
	return gen.Deviation{Kind: gen.DeviationKind(d.Kind), Path: all(d.Path), Want: some(d.Want), WantLine: some(d.WantLine), Have: some(d.Have), Line: some(d.Line)}
}

// DeriveStandard implements deriveStandard.
func (s *server) DeriveStandard(c *gin.Context) {
	in, ok := body[gen.DeriveRequest](s, c)
	if !ok {
		return
	}
	d, err := s.Audits.Derive(c, in.Selector, derive.Options{ID: value(in.Id), Title: value(in.Title), Share: float64(value(in.Share))})
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, apiDraft(d))
}

func apiDraft(d *derive.Draft) gen.Draft {
	return gen.Draft{Text: d.Text, Devices: d.Members, Common: d.Common,
		Slots: each(d.Slots, func(x derive.Slot) gen.DraftSlot {
			return gen.DraftSlot{Name: x.Name, Type: x.Type, Line: x.Line, Distinct: x.Distinct, Values: each(x.Values, func(v derive.Count) gen.ValueCount { return gen.ValueCount{Value: v.Value, Count: v.Count} })}
		}),
		Odd: each(d.Odd, func(o derive.Odd) gen.OddDevice {
			return gen.OddDevice{Device: o.Device, Weight: float32(o.Weight), Deviations: each(o.Deviations, func(x derive.Deviation) gen.OddLine {
				return gen.OddLine{Section: x.Section, Deviation: apiDeviation(x.Deviation), With: x.With, Unusual: float32(x.Unusual)}
			})}
		}),
	}
}

// DraftStandard implements draftStandard.
func (s *server) DraftStandard(c *gin.Context, p gen.DraftStandardParams) {
	in, ok := body[gen.DraftRequest](s, c)
	if !ok {
		return
	}
	who, ok := s.reader(c, p.Zone)
	if !ok {
		return
	}
	d, err := s.Audits.From(c, in.Ref, value(in.Only), derive.Options{ID: value(in.Id), Title: value(in.Title), Applies: value(in.Applies)}, who)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, apiDraft(d))
}

// CompareStandard implements compareStandard.
func (s *server) CompareStandard(c *gin.Context, p gen.CompareStandardParams) {
	x, err := s.Audits.CompareStandard(c, p.Device, value(p.Standard))
	agreed, lines := x.Result.Share()
	answer(s, c, http.StatusOK, gen.StandardComparison{Standard: x.Standard, Rendered: x.Rendered, Agreed: agreed, Lines: lines, Sections: each(x.Result.Sections, func(r standard.SectionResult) gen.SectionComparison {
		return gen.SectionComparison{Id: r.Section.ID, Title: r.Section.Title, Severity: gen.Severity(r.Section.Severity), Outcome: gen.AuditOutcome(r.Outcome), Why: r.Why, Agreed: r.Agreed, Lines: r.Lines, More: r.More, Deviations: each(r.Deviations, apiDeviation)}
	})}, err)
}

func apiFinding(f audits.Finding) gen.Finding {
	state := "closed"
	if f.Open {
		state = "open"
		if f.Waiver != nil {
			state = "waived"
		}
	}
	out := gen.Finding{
		Id: f.ID, Device: f.Device, Site: f.Site, Part: f.Part, Document: f.Document, Item: f.Item, Name: f.Name(), Severity: gen.Severity(f.Severity), Title: f.Title, Why: f.Why, More: f.More,
		Proofs: each(f.Proofs, func(p audit.Proof) gen.Proof {
			return gen.Proof{Line: some(p.Line), LastLine: some(p.LastLine), Path: all(p.Path), Text: some(p.Text), Says: p.Says}
		}),
		Ref: f.Ref(f.Number), Hash: some(f.Hash), State: gen.FindingState(state), First: f.First, Opened: f.Opened, OpenedBy: some(f.OpenedBy), Closed: moment(f.Closed), ClosedBy: some(f.ClosedBy), Times: f.Times,
		Owner: some(f.Owner), Reference: some(f.Reference), Remark: some(f.Remark),
	}
	if f.Number == 0 {
		out.Ref = ref.Ref{Device: f.Device, Datastore: "running"}.String()
	}
	if f.ClosedIn > 0 {
		out.ClosedIn = some(f.Ref(f.ClosedIn))
	}
	if f.Waiver != nil {
		w := apiWaiver(*f.Waiver)
		out.Waiver = &w
	}
	return out
}

// ListFindings implements listFindings.
func (s *server) ListFindings(c *gin.Context, p gen.ListFindingsParams) {
	after, n, ok := numbered(c, p.Cursor, p.Limit)
	if !ok {
		return
	}
	f := audits.Filter{Selector: value(p.Selector), Document: value(p.Document), Item: value(p.Item), Severity: audit.Severity(value(p.Severity)), State: string(value(p.State)), Control: value(p.Control), Owner: value(p.Owner), After: after, Limit: min(n, audits.MaxList-1) + 1}
	list, total, err := s.Audits.Findings(c, f)
	if err != nil {
		s.fail(c, err)
		return
	}
	list, next := upTo(list, f.Limit-1, func(x *audits.Finding) string { return strconv.FormatInt(x.ID, 10) })
	c.JSON(http.StatusOK, gen.FindingPage{Items: each(list, apiFinding), Total: total, Next: link(c, next)})
}

// GetFinding implements getFinding.
func (s *server) GetFinding(c *gin.Context, id int64) {
	f, err := s.Audits.Finding(c, id)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := apiFinding(f)
	if r := s.Audits.Rule(&f); r != nil {
		d, err := s.Fleet.Get(c, f.Device)
		if err != nil {
			s.fail(c, err)
			return
		}
		fix, commands := r.FixFor(d.Platform)
		out.Rationale, out.Fix, out.FixIsCommands = some(r.Rationale), some(fix), some(commands)
		if len(r.Controls) > 0 {
			out.Controls = &r.Controls
		}
	}
	if f.OpenedBy > 0 {
		if x, err := s.Changes.Get(c, f.OpenedBy); err == nil && len(x.Accounts) > 0 {
			out.Account = &x.Accounts[0]
		}
	}
	c.JSON(http.StatusOK, out)
}

// NoteFindings implements noteFindings.
func (s *server) NoteFindings(c *gin.Context) {
	in, ok := body[gen.FindingNote](s, c)
	if !ok {
		return
	}
	s.done(c, s.Audits.Note(c, in.Ids, in.Owner, in.Reference, in.Remark, caller(c).Name))
}

func apiWaiver(w audits.Waiver) gen.Waiver {
	state := gen.InForce
	switch {
	case !w.Ended.IsZero():
		state = gen.TakenBack
	case w.RunOut:
		state = gen.RunOut
	}
	return gen.Waiver{Id: w.ID, Finding: some(w.FindingID), Device: some(w.Device), Document: w.Document, Item: w.Item, Selector: w.Selector, Reason: w.Reason, Approved: w.Approved, Until: w.Until, State: state, Account: w.Account, At: w.At}
}

// ListWaivers implements listWaivers.
func (s *server) ListWaivers(c *gin.Context) {
	list, err := s.Audits.Waivers(c)
	answer(s, c, http.StatusOK, each(list, apiWaiver), err)
}

// GrantWaiver implements grantWaiver.
func (s *server) GrantWaiver(c *gin.Context) {
	in, ok := body[gen.WaiverEdit](s, c)
	if !ok {
		return
	}
	w, err := s.Audits.Grant(c, audits.Waiver{FindingID: value(in.Finding), Document: value(in.Document), Item: value(in.Item), Selector: value(in.Selector), Reason: in.Reason, Approved: in.Approved, Until: in.Until, Account: caller(c).Name})
	answer(s, c, http.StatusOK, apiWaiver(w), err)
}

// RevokeWaiver implements revokeWaiver.
func (s *server) RevokeWaiver(c *gin.Context, id int64) {
	s.done(c, s.Audits.Revoke(c, id, caller(c).Name))
}

// StartAudit implements startAudit.
func (s *server) StartAudit(c *gin.Context) {
	in, ok := body[gen.AuditRequest](s, c)
	if !ok {
		return
	}
	n, err := s.Audits.Audit(c, value(in.Selector))
	if err != nil {
		s.fail(c, err)
		return
	}
	_, total, err := s.Audits.Findings(c, audits.Filter{Selector: value(in.Selector), State: "open", Limit: 1})
	answer(s, c, http.StatusOK, gen.AuditRun{Devices: n, Findings: total}, err)
}

func apiScore(x audits.Score) gen.Score {
	return gen.Score{Name: x.Name, Site: some(x.Site), Passed: x.Passed, Failed: x.Failed, Undecidable: x.Undecidable, Share: float32(x.Share()), Agreed: some(x.Agreed), Lines: some(x.Lines)}
}

// ScoreAudits implements scoreAudits.
func (s *server) ScoreAudits(c *gin.Context, p gen.ScoreAuditsParams) {
	at, ok := s.pointInTime(c, p.At, p.Zone)
	if !ok {
		return
	}
	by := string(value(p.By))
	if by == "" {
		by = audits.BySite
	}
	list, all, err := s.Audits.Scores(c, value(p.Selector), by, at)
	if err != nil {
		s.fail(c, err)
		return
	}
	days := 30
	if p.Days != nil {
		days = *p.Days
	}
	trend, err := s.Audits.Trend(c, value(p.Selector), days)
	answer(s, c, http.StatusOK, gen.Scores{All: apiScore(all), By: each(list, apiScore), Trend: each(trend, func(x audits.Point) gen.Score {
		out := apiScore(x.Score)
		out.At = &x.At
		return out
	})}, err)
}

// pointInTime reads a time of a query; zero for none.
func (s *server) pointInTime(c *gin.Context, source, zone *string) (at time.Time, ok bool) {
	who, ok := s.reader(c, zone)
	if !ok || value(source) == "" {
		return at, ok
	}
	at, err := s.Texts.Time(c, *source, who.Location)
	if err != nil {
		s.fail(c, err)
		return at, false
	}
	return at, true
}

// ListResults implements listResults.
func (s *server) ListResults(c *gin.Context, p gen.ListResultsParams) {
	at, ok := s.pointInTime(c, p.At, p.Zone)
	if !ok {
		return
	}
	list, err := s.Audits.Results(c, p.Device, at)
	answer(s, c, http.StatusOK, each(list, func(h audits.Held) gen.AuditResult {
		return gen.AuditResult{Document: h.Document, Part: h.Part, Hash: h.Hash, Number: some(h.Number), Since: h.Since, Agreed: some(h.Agreed), Lines: some(h.Lines), Items: each(h.Outcomes, func(o audits.Outcome) gen.ItemOutcome {
			return gen.ItemOutcome{Item: o.Item, Outcome: gen.AuditOutcome(o.Outcome)}
		})}
	}), err)
}

// ListDrift implements listDrift.
func (s *server) ListDrift(c *gin.Context, p gen.ListDriftParams) {
	list, err := s.Audits.Drifts(c, value(p.Selector))
	answer(s, c, http.StatusOK, each(list, func(d audits.Drift) gen.Drift {
		return gen.Drift{Device: d.Device, Site: d.Site, Ref: ref.Ref{Device: d.Device, Datastore: d.Datastore, Part: d.Part}.String(), State: gen.DriftState(d.State), Baseline: some(d.Baseline), Newest: d.Newest,
			Far: d.Far, Lines: d.Lines, Since: moment(d.Since), Changes: all(d.Changes), Blessed: moment(d.Blessed), Account: some(d.Account), Remark: some(d.Remark)}
	}), err)
}

func apiSource(x audits.Source) gen.DocumentSource {
	return gen.DocumentSource{Name: x.Name, Remote: x.Remote, Path: x.Path, Revision: some(x.Revision), Read: moment(x.LastRun), Failed: x.Failed, Said: x.LastSaid, Account: x.Account, At: x.At}
}

// ListDocumentSources implements listDocumentSources.
func (s *server) ListDocumentSources(c *gin.Context) {
	list, err := s.Audits.Sources(c)
	answer(s, c, http.StatusOK, each(list, apiSource), err)
}

// SetDocumentSource implements setDocumentSource.
func (s *server) SetDocumentSource(c *gin.Context, name gen.Name) {
	in, ok := body[gen.DocumentSourceEdit](s, c)
	if !ok {
		return
	}
	x, err := s.Audits.SetSource(c, audits.Source{Name: name, Remote: in.Remote, Path: value(in.Path), Account: caller(c).Name})
	answer(s, c, http.StatusOK, apiSource(x), err)
}

// ReadDocumentSource implements readDocumentSource.
func (s *server) ReadDocumentSource(c *gin.Context, name gen.Name) {
	x, err := s.Audits.ReadSource(c, name)
	answer(s, c, http.StatusOK, apiSource(x), err)
}

// DeleteDocumentSource implements deleteDocumentSource.
func (s *server) DeleteDocumentSource(c *gin.Context, name gen.Name) {
	s.done(c, s.Audits.DeleteSource(c, name, caller(c).Name))
}

// ReportAudits implements reportAudits.
func (s *server) ReportAudits(c *gin.Context, p gen.ReportAuditsParams) {
	who, ok := s.reader(c, p.Zone)
	if !ok {
		return
	}
	f := audits.Filter{Selector: value(p.Selector), Document: value(p.Document), Severity: audit.Severity(value(p.Severity)), Control: value(p.Control)}
	form := string(value(p.Form))
	if form == "" {
		form = "html"
	}
	if form == "json" {
		list, total, err := s.Audits.Findings(c, f)
		answer(s, c, http.StatusOK, gen.FindingPage{Items: each(list, apiFinding), Total: total}, err)
		return
	}
	r, err := s.Audits.Report(c, f, who.Location, who.Account)
	var data []byte
	if err == nil {
		data, err = notify.Document(r, form)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Header("Content-Disposition", "attachment; filename=audit."+form)
	c.Data(http.StatusOK, notify.Media[form], data)
}
