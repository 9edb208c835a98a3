package audits

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"vergekeep/archive"
	"vergekeep/core/audit"
	"vergekeep/core/derive"
	"vergekeep/core/dialect"
	"vergekeep/core/pattern"
	"vergekeep/core/ref"
	"vergekeep/core/selector"
	"vergekeep/core/standard"
	"vergekeep/service/fleet"
	"vergekeep/service/texts"
	"vergekeep/store"
)

// Tried is what a document would say of one device that it does not say now.
type Tried struct {
	Device, Part, Item string
	Severity           audit.Severity
	Before             audit.Outcome // "" where it says nothing now
	After              audit.Outcome
	Why                string
}

// Trial is what would become of a document.
type Trial struct {
	Name    string
	Devices int // that it would be for
	// Counts are how many items would have each outcome.
	Counts map[audit.Outcome]int
	// Changes are those whose state would be another one than now.
	Changes  []Tried
	More     int      // beyond those
	Warnings []string // standards that say something else of the same devices
}

const maxTried = 2000

// Try says what a document would find, before it counts.
func (s *Service) Try(ctx context.Context, kind Kind, file, text, expression string, seesSecrets bool) (Trial, error) {
	var t Trial
	d, err := s.understand(kind, strings.TrimSuffix(file, ".yaml"), text)
	if err == nil {
		// What counts already tells nothing new.
		if now, known := s.Document(ctx, kind, d.name); known != nil || now.Hash != d.hash {
			err = d.allowed(seesSecrets)
		}
	}
	if err != nil {
		return t, err
	}
	devices, err := s.Fleet.Pick(ctx, expression)
	if err != nil {
		return t, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.load(ctx); err != nil {
		return t, err
	}
	t.Name, t.Counts = d.name, map[audit.Outcome]int{}
	g, err := s.ground(ctx, devices)
	if err != nil {
		return t, err
	}
	// With programs and offers of its own.
	aside := &Service{Config: s.Config, library: &library{list: []*document{d}}, across: newIndex(), programs: map[programKey]*audit.Program{}}
	var jobs []job
	var verdicts []verdict
	for i := range devices {
		counted := false
		for n, rev := range g.revisions(devices[i].ID) {
			if !d.isFor(&devices[i], rev) {
				continue
			}
			j := job{device: devices[i], revision: rev, main: n == 0, documents: []*document{d}}
			if rev != nil {
				j.part = rev.Part
			}
			out, err := aside.one(ctx, &j, g)
			if err != nil {
				return t, err
			}
			if !counted {
				t.Devices++
				counted = true
			}
			if d.across {
				aside.across.put(d, whose{j.device.ID, j.part}, j.device.Name, out[0].offers)
			}
			jobs, verdicts = append(jobs, j), append(verdicts, out[0])
		}
	}
	for i := range jobs {
		v, j := &verdicts[i], &jobs[i]
		if d.across {
			aside.across.addTo(v, whose{j.device.ID, j.part})
		}
		before := map[string]audit.Outcome{}
		if x := g.held[stateKey{j.device.ID, j.part, d.key()}]; x != nil {
			for _, r := range parsed(x.outcomes) {
				before[r.item] = r.outcome
			}
		}
		for _, r := range v.results {
			t.Counts[r.outcome]++
			was, known := before[r.item]
			delete(before, r.item)
			if known && was == r.outcome || !known && r.outcome != audit.Fail && r.outcome != audit.Undecidable {
				continue
			}
			t.add(Tried{j.device.Name, j.part, r.item, r.severity, was, r.outcome, r.why})
		}
		for item, was := range before {
			if was == audit.Fail {
				t.add(Tried{j.device.Name, j.part, item, "", was, "", "it would be asked no more"})
			}
		}
	}
	if d.standard != nil {
		t.Warnings = s.contradictions(ctx, d, jobs)
	}
	return t, nil
}

func (t *Trial) add(x Tried) {
	if len(t.Changes) >= maxTried {
		t.More++
		return
	}
	t.Changes = append(t.Changes, x)
}

// contradictions names standards that claim the same devices and want something else
// in the same sections: what one renders the other does not accept.
func (s *Service) contradictions(ctx context.Context, d *document, jobs []job) []string {
	var list []string
	for _, other := range s.library.list {
		if other.standard == nil || other.name == d.name || other.standard.Platform != d.standard.Platform {
			continue
		}
		for i := range jobs {
			j := &jobs[i]
			if j.revision == nil || !other.isFor(&j.device, j.revision) {
				continue
			}
			dl := s.Dialects[d.standard.Platform]
			has, err := s.Archive.Text(ctx, *j.revision)
			if err != nil {
				continue
			}
			mine := d.standard.Render(standard.Input{Subject: &j.device, View: dl.View(has)})
			r := other.standard.Compare(standard.Input{Subject: &j.device, View: dl.View(mine)})
			for _, sec := range r.Sections {
				for _, dev := range sec.Deviations {
					if dev.Kind == standard.Lacking && dev.Line == 0 || strings.Contains(dev.Have, "${") {
						continue // it says nothing of that
					}
					list = append(list, fmt.Sprintf("the standard %s/%s claims %s too, and would not accept what this one wants: %s", other.name, sec.Section.ID, j.device.Name, dev.Said()))
					break
				}
			}
			break // one device shows it
		}
	}
	return list
}

// Score is how much of what was asked holds.
type Score struct {
	Name                        string // of the device, site, document, rule or control
	Site                        string // of a grid
	Passed, Failed, Undecidable int
	Agreed, Lines               int // of standards
}

// Share is from 0 to 1; 1 where nothing was asked. What could not be decided does not
// hold.
func (x *Score) Share() float64 {
	all := x.Passed + x.Failed + x.Undecidable
	if all == 0 {
		return 1
	}
	return float64(x.Passed) / float64(all)
}

func (x *Score) add(y Score) {
	x.Passed, x.Failed, x.Undecidable = x.Passed+y.Passed, x.Failed+y.Failed, x.Undecidable+y.Undecidable
	x.Agreed, x.Lines = x.Agreed+y.Agreed, x.Lines+y.Lines
}

// Ways to sum up scores.
const (
	ByDevice   = "device"
	BySite     = "site"
	ByDocument = "document"
	ByItem     = "item"
	ByControl  = "control"
	ByGrid     = "grid" // by site and document
)

// Scores are what held at a time (zero: now), summed up in one way, the lowest share
// first.
func (s *Service) Scores(ctx context.Context, expression, by string, at time.Time) ([]Score, Score, error) {
	all := Score{Name: "all"}
	sel, err := selector.Parse(expression)
	if err != nil {
		return nil, all, err
	}
	devices, err := s.Fleet.List(ctx, sel)
	if err != nil {
		return nil, all, err
	}
	known := map[int64]*fleet.Device{}
	for i := range devices {
		known[devices[i].ID] = &devices[i]
	}
	controls := map[string][]string{}
	if by == ByControl {
		list, err := s.Documents(ctx, Policy)
		if err != nil {
			return nil, all, err
		}
		for _, d := range list {
			x, err := s.understand(d.Kind, d.Name, d.Text)
			if err != nil {
				continue
			}
			for _, r := range x.policy.Rules {
				for scheme, names := range r.Controls {
					for _, c := range names {
						controls[x.key()+" "+r.ID] = append(controls[x.key()+" "+r.ID], scheme+":"+c)
					}
				}
			}
		}
	}
	where, args := `until = 0`, []any(nil)
	if !at.IsZero() {
		where, args = `since <= ?1 AND (until = 0 OR until > ?1)`, []any{store.Stamp(at)}
	}
	rows, err := s.DB.Query(ctx, `SELECT device_id, document, outcomes, passed, failed, undecidable, agreed, lines FROM audit_states WHERE `+where, args...)
	if err != nil {
		return nil, all, err
	}
	defer rows.Close()
	sums := map[string]*Score{}
	add := func(name string, x Score) {
		sum := sums[name]
		if sum == nil {
			sum = &Score{Name: name}
			sums[name] = sum
		}
		sum.add(x)
	}
	for rows.Next() {
		var id int64
		var document, outcomes string
		var x Score
		if err := rows.Scan(&id, &document, &outcomes, &x.Passed, &x.Failed, &x.Undecidable, &x.Agreed, &x.Lines); err != nil {
			return nil, all, err
		}
		d := known[id]
		if d == nil {
			continue
		}
		all.add(x)
		switch by {
		case ByDevice:
			add(d.Name, x)
		case BySite:
			add(d.Site, x)
		case ByGrid:
			add(document+"\t"+d.Site, x)
			sums[document+"\t"+d.Site].Site = d.Site
		case ByDocument:
			add(document, x)
		default:
			_, name, _ := strings.Cut(document, ":")
			for _, r := range parsed(outcomes) {
				one := Score{}
				switch r.outcome {
				case audit.Pass:
					one.Passed = 1
				case audit.Fail:
					one.Failed = 1
				case audit.Undecidable:
					one.Undecidable = 1
				default:
					continue
				}
				if by == ByItem {
					add(name+"/"+r.item, one)
				} else {
					for _, c := range controls[document+" "+r.item] {
						add(c, one)
					}
				}
			}
		}
	}
	list := make([]Score, 0, len(sums))
	for _, name := range slices.Sorted(maps.Keys(sums)) {
		x := *sums[name]
		x.Name, _, _ = strings.Cut(x.Name, "\t")
		list = append(list, x)
	}
	slices.SortStableFunc(list, func(a, b Score) int {
		return cmp.Or(cmp.Compare(a.Share(), b.Share()), strings.Compare(a.Name, b.Name))
	})
	return list, all, rows.Err()
}

// Point is the score of all at a time.
type Point struct {
	At time.Time
	Score
}

// Trend is the score of all day by day, oldest first.
func (s *Service) Trend(ctx context.Context, expression string, days int) ([]Point, error) {
	sel, err := selector.Parse(expression)
	if err != nil {
		return nil, err
	}
	names, err := s.Fleet.Names(ctx, sel)
	if err != nil {
		return nil, err
	}
	now := s.Now()
	from := now.AddDate(0, 0, -days)
	rows, err := s.DB.Query(ctx, `SELECT device_id, since, until, passed, failed, undecidable FROM audit_states WHERE until = 0 OR until > ?`, store.Stamp(from))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	points := make([]Point, days+1)
	for i := range points {
		points[i].At = now.AddDate(0, 0, i-days)
	}
	for rows.Next() {
		var id, since, until int64
		var x Score
		if err := rows.Scan(&id, &since, &until, &x.Passed, &x.Failed, &x.Undecidable); err != nil {
			return nil, err
		}
		if _, ok := names[id]; !ok {
			continue
		}
		for i := range points {
			at := store.Stamp(points[i].At)
			if since <= at && (until == 0 || until > at) {
				points[i].add(x)
			}
		}
	}
	return points, rows.Err()
}

// Held is what a document said of a device at a time.
type Held struct {
	Document, Part string
	Hash           string
	Number         int
	Since          time.Time
	Outcomes       []Outcome
	Agreed, Lines  int
}

// Outcome is one item with what became of it.
type Outcome struct {
	Item    string
	Outcome audit.Outcome
}

// Results are what all documents said of a device at a time (zero: now).
func (s *Service) Results(ctx context.Context, device string, at time.Time) ([]Held, error) {
	d, err := s.Fleet.Get(ctx, device)
	if err != nil {
		return nil, err
	}
	where, args := `until = 0`, []any{d.ID}
	if !at.IsZero() {
		where, args = `since <= ?2 AND (until = 0 OR until > ?2)`, append(args, store.Stamp(at))
	}
	rows, err := s.DB.Query(ctx, `SELECT document, part, hash, number, since, outcomes, agreed, lines FROM audit_states WHERE device_id = ?1 AND `+where+` ORDER BY document, part`, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Held
	for rows.Next() {
		var h Held
		var since int64
		var outcomes string
		if err := rows.Scan(&h.Document, &h.Part, &h.Hash, &h.Number, &since, &outcomes, &h.Agreed, &h.Lines); err != nil {
			return nil, err
		}
		h.Since = store.Time(since)
		for _, r := range parsed(outcomes) {
			h.Outcomes = append(h.Outcomes, Outcome{r.item, r.outcome})
		}
		list = append(list, h)
	}
	return list, rows.Err()
}

// Drift is how a device's configuration lies to its baseline.
type Drift struct {
	Device, Site    string
	Datastore, Part string
	State           string // holds, drifted, no baseline, unknown
	Baseline        int    // number of the blessed revision; 0 for none
	Newest          int
	Far             string // how far, in words
	Lines           int
	Since           time.Time // of the first revision that differs
	Changes         []int64   // through which it came
	Blessed         time.Time
	Account, Remark string
}

// The states of drift.
const (
	Holds      = "holds"
	Drifted    = "drifted"
	NoBaseline = "no baseline"
	Unknown    = "unknown" // the text of the baseline cannot be read
)

// Drifts are all configurations that a selector means with how they lie to their
// baselines, those that drifted first.
func (s *Service) Drifts(ctx context.Context, expression string) ([]Drift, error) {
	sel, err := selector.Parse(expression)
	if err != nil {
		return nil, err
	}
	devices, err := s.Fleet.List(ctx, sel)
	if err != nil {
		return nil, err
	}
	blessed, err := s.Archive.Baselines(ctx)
	if err != nil {
		return nil, err
	}
	byConfiguration := map[int64]archive.Blessing{}
	for _, b := range blessed {
		byConfiguration[b.Revision.Configuration()] = b
	}
	all, err := s.Archive.AllNewest(ctx)
	if err != nil {
		return nil, err
	}
	newest := map[int64][]archive.Revision{}
	for _, r := range all {
		newest[r.Device] = append(newest[r.Device], r)
	}
	var list []Drift
	for i := range devices {
		d := &devices[i]
		if d.State == fleet.Retired {
			continue
		}
		for _, r := range newest[d.ID] {
			b, ok := byConfiguration[r.Configuration()]
			if !ok && r.Datastore != "running" {
				continue
			}
			x := Drift{Device: d.Name, Site: d.Site, Datastore: r.Datastore, Part: r.Part, Newest: r.Number, State: NoBaseline}
			if ok {
				x.State, x.Baseline, x.Blessed, x.Account, x.Remark = Holds, b.Revision.Number, b.At, b.Account, b.Remark
				v, err := s.drift(ctx, d, base{d.ID, r.Configuration(), r.Datastore, r.Part, b.Revision.Number, r.Number, r.SameForm(&b.Revision)})
				if err != nil {
					return nil, err
				}
				switch one := v.results[0]; one.outcome {
				case audit.Fail:
					_, x.Far, _ = strings.Cut(one.why, ": ")
					x.State, x.Lines = Drifted, len(one.proofs)+one.more
					if err := s.since(ctx, &x, r, b.Revision); err != nil {
						return nil, err
					}
				case audit.Undecidable:
					x.State, x.Far = Unknown, one.why
				}
			}
			list = append(list, x)
		}
	}
	rank := map[string]int{Drifted: 0, Unknown: 1, NoBaseline: 2, Holds: 3}
	slices.SortStableFunc(list, func(a, b Drift) int {
		// What one round found is of one time.
		return cmp.Or(rank[a.State]-rank[b.State], a.Since.Truncate(time.Minute).Compare(b.Since.Truncate(time.Minute)), strings.Compare(a.Device, b.Device), strings.Compare(a.Part, b.Part))
	})
	return list, nil
}

// since finds since when a configuration has not been as it was blessed, and through
// which changes.
func (s *Service) since(ctx context.Context, x *Drift, newest, blessed archive.Revision) error {
	list, err := s.Archive.List(ctx, newest.Key)
	if err != nil {
		return err
	}
	slices.SortFunc(list, func(a, b archive.Revision) int { return b.Number - a.Number })
	first := 0
	for _, r := range list {
		if r.Number <= blessed.Number || r.SameForm(&blessed) {
			break
		}
		first, x.Since = r.Number, r.FirstSeen
	}
	rows, err := s.DB.Query(ctx, `SELECT change_id FROM change_texts WHERE configuration_id = ? AND number BETWEEN ? AND ? ORDER BY number`, newest.Configuration(), first, newest.Number)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var id int64
		if err := rows.Scan(&id); err != nil {
			return err
		}
		x.Changes = append(x.Changes, id)
	}
	return rows.Err()
}

// Derive drafts a standard from the devices of a selector, which have to be of one
// platform.
func (s *Service) Derive(ctx context.Context, expression string, o derive.Options) (*derive.Draft, error) {
	devices, err := s.Fleet.Pick(ctx, expression)
	if err != nil {
		return nil, err
	}
	newest, err := s.newest(ctx, devices)
	if err != nil {
		return nil, err
	}
	var dl *dialect.Dialect
	var members []derive.Member
	for i := range devices {
		for _, r := range newest[devices[i].ID] {
			if len(newest[devices[i].ID]) > 1 && r.Part != newest[devices[i].ID][0].Part {
				continue // a device of several parts is known by its first
			}
			m, d, err := s.member(ctx, &devices[i], r)
			if err != nil {
				return nil, err
			}
			if dl != nil && d.Name != dl.Name {
				return nil, fmt.Errorf("%w: %s is of the platform %s, others are of %s; add platform=%s to the selector", derive.ErrDerive, devices[i].Name, d.Name, dl.Name, dl.Name)
			}
			dl = d
			members = append(members, m)
		}
	}
	slices.SortFunc(members, func(a, b derive.Member) int { return strings.Compare(a.Name, b.Name) })
	if o.Applies == "" {
		o.Applies = expression
	}
	return derive.From(members, dl, o)
}

// From drafts a standard from sections of one good configuration; of all where no
// patterns are given.
func (s *Service) From(ctx context.Context, source string, only []string, o derive.Options, who texts.Caller) (*derive.Draft, error) {
	c, err := s.Texts().Get(ctx, source, who)
	if err != nil {
		return nil, err
	}
	if c.Ref.Point.Kind == ref.Standard {
		return nil, fmt.Errorf("%w: %s is what a standard says already; name a revision", derive.ErrDerive, source)
	}
	patterns := make([]*pattern.Pattern, len(only))
	for i, x := range only {
		if patterns[i], err = pattern.Compile(x); err != nil {
			return nil, err
		}
	}
	m, d, err := s.member(ctx, &c.Device, &c.Revision)
	if err != nil {
		return nil, err
	}
	return derive.One(m, d, patterns, o)
}

// member is a revision as one that a draft is made from.
func (s *Service) member(ctx context.Context, of *fleet.Device, r *archive.Revision) (derive.Member, *dialect.Dialect, error) {
	d := s.dialectFor(of, r)
	if d == nil {
		return derive.Member{}, nil, fmt.Errorf("%w: the dialect of %s is not loaded", derive.ErrDerive, of.Name)
	}
	text, err := s.Archive.Text(ctx, *r)
	return derive.Member{Name: of.Name, Subject: of, View: d.View(text)}, d, err
}

// Compared is a device held against a standard, with what it should have.
type Compared struct {
	Standard string
	Result   standard.Result
	Rendered string
}

// CompareStandard holds a device's newest configuration against a standard; "" stands
// for the one that is for it.
func (s *Service) CompareStandard(ctx context.Context, device, name string) (Compared, error) {
	var out Compared
	d, err := s.Fleet.Get(ctx, device)
	if err != nil {
		return out, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.load(ctx); err != nil {
		return out, err
	}
	newest, err := s.newest(ctx, []fleet.Device{d})
	if err != nil {
		return out, err
	}
	slots, err := s.slotValues(ctx)
	if err != nil {
		return out, err
	}
	for _, r := range newest[d.ID] {
		for _, x := range s.library.list {
			if x.standard == nil || name != "" && x.name != name || name == "" && !x.isFor(&d, r) || x.standard.Platform != r.Platform() {
				continue
			}
			text, err := s.Archive.Text(ctx, *r)
			if err != nil {
				return out, err
			}
			in := standard.Input{Subject: &d, View: s.Dialects[x.standard.Platform].View(text), Own: slots[slotKey{x.name, d.ID}]}
			return Compared{x.name, x.standard.Compare(in), x.standard.Render(in)}, nil
		}
	}
	if name != "" {
		return out, fmt.Errorf("%w: the standard %q, for the platform of %s", ErrUnknown, name, d.Name)
	}
	return out, fmt.Errorf("%w: no standard is for %s", ErrUnknown, d.Name)
}

// SetSlotValues keeps values of slots that have one for each device; "" takes one
// away.
func (s *Service) SetSlotValues(ctx context.Context, name, device string, values map[string]string, by string) error {
	d, err := s.Document(ctx, Standard, name)
	if err != nil {
		return err
	}
	x, err := s.understand(d.Kind, d.Name, d.Text)
	if err != nil {
		return err
	}
	of, err := s.Fleet.Get(ctx, device)
	if err != nil {
		return err
	}
	for slot, v := range values {
		known := x.standard.Slots[slot]
		if known == nil || !known.PerDevice {
			return fmt.Errorf("%w: the standard %s has no slot %q with per-device", ErrDocument, name, slot)
		}
		if v != "" {
			if err := known.Check(v); err != nil {
				return fmt.Errorf("%w: %s: %w", ErrDocument, slot, err)
			}
		}
	}
	err = s.DB.Write(ctx, func(tx *store.Tx) error {
		for slot, v := range values {
			if v == "" {
				if _, err := tx.Exec(`DELETE FROM slot_values WHERE standard = ? AND device_id = ? AND slot = ?`, name, of.ID, slot); err != nil {
					return err
				}
				continue
			}
			if _, err := tx.Exec(`INSERT OR REPLACE INTO slot_values (standard, device_id, slot, value) VALUES (?, ?, ?, ?)`, name, of.ID, slot, v); err != nil {
				return err
			}
		}
		// What was found with the old values is asked again.
		_, err := tx.Exec(`UPDATE audit_states SET edition = 0 WHERE device_id = ? AND document = ? AND until = 0`, of.ID, "standard:"+name)
		return err
	})
	if err == nil {
		s.Recheck()
	}
	return err
}
