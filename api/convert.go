package api

import (
	"encoding/hex"
	"time"

	"vergekeep/api/gen"
	"vergekeep/archive"
	"vergekeep/core/config"
	"vergekeep/core/diff"
	"vergekeep/core/ref"
	"vergekeep/service/accounts"
	"vergekeep/service/fleet"
	"vergekeep/service/rounds"
	"vergekeep/service/texts"
	"vergekeep/wire/ssh"
)

// some is a pointer to v, or nil for the zero value.
func some[T comparable](v T) *T {
	var zero T
	if v == zero {
		return nil
	}
	return &v
}

func moment(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

func apiRights(rights []accounts.Right) []gen.Right {
	out := make([]gen.Right, len(rights))
	for i, r := range rights {
		out[i] = gen.Right(r)
	}
	return out
}

func apiAccount(a accounts.Account) gen.Account {
	return gen.Account{Name: a.Name, Rights: apiRights(a.Rights), State: gen.AccountState(a.State), Created: a.Created}
}

func apiToken(t accounts.Token) gen.Token {
	return gen.Token{Id: t.ID, Name: t.Name, Account: t.Account, Created: t.Created, LastUsed: moment(t.LastUsed), Revoked: moment(t.Revoked)}
}

func apiDevice(d fleet.Device) gen.Device {
	out := gen.Device{
		Id: d.ID, Name: d.Name, Site: d.Site, Role: d.Role, Platform: d.Platform, Address: d.Address(), Labels: d.Labels,
		State: gen.DeviceState(d.State), Freshness: gen.Freshness(d.Freshness), Edition: d.Edition,
		Transport: (*gen.DeviceTransport)(some(string(d.Transport))), Via: some(d.Via), OldAlgorithms: some(d.OldAlgorithms), OldInUse: some(d.OldInUse),
		Pair: some(d.Pair), Zone: some(d.Zone), Source: some(d.Source), Unsaved: some(d.Unsaved), UnsavedSince: moment(d.UnsavedSince),
		Model: some(d.Nameplate.Model), Serial: some(d.Nameplate.Serial), Version: some(d.Nameplate.Version), Uptime: some(d.Nameplate.Uptime),
		LastGood: moment(d.LastGood), LastVisit: moment(d.LastVisit), LastChange: moment(d.LastChange), Suspect: some(d.Suspect),
	}
	if d.Patience > 1 {
		out.Patience = &d.Patience
	}
	if groups := d.Groups(); len(groups) > 0 {
		out.Groups = &groups
	}
	if out.Labels == nil {
		out.Labels = []string{}
	}
	if len(d.HostKeys) > 0 {
		keys := each(d.HostKeys, ssh.Fingerprint)
		out.HostKeys = &keys
	}
	if d.OfferedKey != "" {
		out.OfferedKey = some(ssh.Fingerprint(d.OfferedKey))
	}
	if d.Problem != "" {
		out.Problem = &gen.DeviceProblem{Reason: string(d.Problem), What: d.ProblemWhat, Advice: d.Problem.Advice(), Since: d.ProblemSince}
	}
	return out
}

func apiStats(s diff.Stats) gen.Stats {
	return gen.Stats{Added: s.Added, Removed: s.Removed, Changed: s.Changed, Moved: s.Moved, Volatile: s.Volatile, Undecidable: s.Undecidable,
		Order: some(s.Order), Layout: some(s.Layout), Expected: some(s.Expected)}
}

func apiRevision(device string, r archive.Revision) gen.Revision {
	name := ref.Ref{Device: device, Datastore: r.Datastore, Part: r.Part, Point: ref.Point{Kind: ref.Number, Number: r.Number}}
	out := gen.Revision{
		Author: some(r.Author), Thinned: some(r.Thinned),
		Ref: name.String(), Datastore: r.Datastore, Part: r.Part, Number: r.Number, Origin: gen.RevisionOrigin(r.Origin),
		Arrived: r.Arrived, FirstSeen: r.FirstSeen, LastSeen: r.LastSeen, SameAs: some(r.SameAs), Suspect: some(r.Suspect),
		Lines: r.Lines, Size: r.Size, Hash: hex.EncodeToString(r.Hash[:]), Stats: apiStats(r.Stats),
	}
	if n := r.Note; n != (archive.Note{}) {
		out.Note = &gen.Note{Pinned: some(n.Pinned), Name: some(n.Name), Remark: some(n.Remark), Account: some(n.Account)}
	}
	return out
}

func apiRevisions(device string, list []archive.Revision) []gen.Revision {
	out := make([]gen.Revision, len(list))
	for i, r := range list {
		out[i] = apiRevision(device, r)
	}
	return out
}

func apiRound(r rounds.Round) gen.Round {
	return gen.Round{
		Id: r.ID, Origin: gen.RoundOrigin(r.Origin), Schedule: some(r.Schedule), Account: r.Account, Selector: r.Selector, State: gen.RoundState(r.State),
		Started: r.Started, Ended: moment(r.Ended), Planned: r.Planned, New: r.New, Unchanged: r.Unchanged, Failed: r.Failed, PassedOver: r.PassedOver,
	}
}

func apiVisit(v rounds.Visit) gen.Visit {
	out := gen.Visit{Device: v.Device, Site: v.Site, Platform: v.Platform, Outcome: gen.VisitOutcome(v.Outcome), Started: moment(v.Started), Undecidable: some(v.Undecidable)}
	if v.Outcome == rounds.Waiting {
		out.Outcome = gen.VisitOutcomeWaiting
	} else {
		out.TookMs = some(float32(v.Took.Microseconds()) / 1000)
	}
	if v.Tries > 1 {
		out.Tries = &v.Tries
	}
	if v.Reason != "" {
		out.Reason, out.What, out.Advice = some(string(v.Reason)), some(v.What), some(v.Reason.Advice())
	}
	return out
}

// apiSections lists the sections of a tree, for folding.
func apiSections(t *config.Tree) []gen.Section {
	out := []gen.Section{}
	var walk func(nodes []*config.Node, depth int)
	walk = func(nodes []*config.Node, depth int) {
		for _, n := range nodes {
			if len(n.Children) > 0 && n.LastLine > n.Line || n.Kind == config.Verbatim {
				out = append(out, gen.Section{Heading: n.Text, Line: int(n.Line), LastLine: int(n.LastLine), Depth: depth})
			}
			walk(n.Children, depth+1)
		}
	}
	walk(t.Children, 0)
	return out
}

func apiSide(c *texts.Configuration) gen.Side {
	if c.IsFile() {
		return gen.Side{Name: c.Name(), Masked: c.Masked, Lines: c.Tree.Lines()}
	}
	r := apiRevision(c.Device.Name, c.Revision)
	return gen.Side{Name: c.Name(), Device: c.Device.Name, Masked: c.Masked, Lines: c.Revision.Lines, Revision: &r}
}

func apiRow(r texts.Row) gen.Row {
	out := gen.Row{Kind: gen.RowKind(r.Kind), Left: some(r.Left), Right: some(r.Right), Other: some(r.Other), Count: some(r.Count), SecretChanged: some(r.SecretChanged)}
	if r.Kind == diff.Skipped {
		return out
	}
	if r.Left > 0 {
		out.LeftText = &r.LeftText
	}
	if r.Right > 0 && r.Kind != diff.Equal {
		out.RightText = &r.RightText
	}
	out.LeftWords, out.RightWords = apiSpans(r.LeftText, r.LeftWords), apiSpans(r.RightText, r.RightWords)
	if len(r.Path) > 0 {
		out.Path = &r.Path
	}
	if r.Aside != diff.Counts {
		aside := gen.RowAside(r.Aside)
		out.Aside = &aside
	}
	return out
}

// apiSpans counts in UTF-16 code units, as the console's language does.
func apiSpans(line string, spans []diff.Span) *[]gen.Span {
	if len(spans) == 0 {
		return nil
	}
	out := make([]gen.Span, len(spans))
	for i, s := range spans {
		units := s.UTF16(line)
		out[i] = gen.Span{From: units.From, To: units.To}
	}
	return &out
}
