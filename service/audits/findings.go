package audits

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"vergekeep/core/audit"
	"vergekeep/core/selector"
	"vergekeep/service/journal"
	"vergekeep/store"
)

// Finding is one thing that an audit found wrong.
type Finding struct {
	ID       int64
	DeviceID int64
	Device   string
	Site     string
	Part     string
	Document string // policy:NAME, standard:NAME, baseline:DATASTORE
	Item     string // the rule, or the section
	Severity audit.Severity
	Title    string
	Why      string
	Proofs   []audit.Proof
	More     int    // places beyond those
	Hash     string // of the document's version
	Number   int    // of the revision that proves it
	Open     bool
	First    time.Time // when it was found for the first time
	Opened   time.Time
	OpenedBy int64 // the change that it came by; 0 for none that is known
	Closed   time.Time
	ClosedBy int64 // the change that mended it
	ClosedIn int   // the revision without it
	Times    int   // how often it was opened

	Owner, Reference, Remark string

	Waiver *Waiver // that is in force for it
}

// Name is what was found wrong, as refs and selectors have names: "policy/rule".
func (f *Finding) Name() string {
	_, name, _ := strings.Cut(f.Document, ":")
	return name + "/" + f.Item
}

// Filter says which findings are meant. What is zero does not matter.
type Filter struct {
	Selector string
	Document string // policy:NAME, or the NAME of any kind
	Item     string
	Severity audit.Severity // this one and above
	State    string         // open, waived, closed; "" for open and waived
	Control  string         // scheme:control
	Owner    string
	IDs      []int64
	After    int64
	Limit    int
}

// MaxList is how many findings a list has at most.
const MaxList = 1000

const findingColumns = `id, device_id, part, document, item, severity, title, why, proofs, more, hash, number, state, first_at, opened_at, opened_by, closed_at, closed_by, closed_number, times, owner, reference, remark`

// Findings are those that a filter means, the most severe and oldest first, and how
// many there are in all.
func (s *Service) Findings(ctx context.Context, f Filter) (list []Finding, total int, err error) {
	sel, err := selector.Parse(f.Selector)
	if err != nil {
		return nil, 0, err
	}
	devices, err := s.Fleet.List(ctx, sel)
	if err != nil {
		return nil, 0, err
	}
	type named struct{ name, site string }
	names := make(map[int64]named, len(devices))
	for i := range devices {
		names[devices[i].ID] = named{devices[i].Name, devices[i].Site}
	}
	waivers, err := s.inForce(ctx)
	if err != nil {
		return nil, 0, err
	}
	var controls map[string]bool
	if f.Control != "" {
		if controls, err = s.withControl(ctx, f.Control); err != nil {
			return nil, 0, err
		}
	}
	where, args := `1`, []any(nil)
	and := func(condition string, values ...any) {
		where += ` AND ` + condition
		args = append(args, values...)
	}
	switch f.State {
	case "":
		and(`state = 'open'`)
	case "open", "closed":
		and(`state = ?`, f.State)
	case "waived":
		and(`state = 'open'`)
	case "all":
	default:
		return nil, 0, fmt.Errorf("%w: a finding is open, waived or closed, not %q", ErrFinding, f.State)
	}
	if kind, _, whole := strings.Cut(f.Document, ":"); whole && kind != "" {
		and(`document = ?`, f.Document)
	} else if f.Document != "" {
		and(`document IN (?, ?, ?)`, "policy:"+f.Document, "standard:"+f.Document, "baseline:"+f.Document)
	}
	if f.Item != "" {
		and(`item = ?`, f.Item)
	}
	if f.Severity != "" {
		and(`severity >= ?`, slices.Index(audit.Severities, f.Severity))
	}
	if f.Owner != "" {
		and(`owner = ? COLLATE NOCASE`, f.Owner)
	}
	if len(f.IDs) > 0 {
		raw, _ := json.Marshal(f.IDs) // numbers always can
		and(`id IN (SELECT value FROM json_each(?))`, string(raw))
	}
	if f.Limit <= 0 || f.Limit > MaxList {
		f.Limit = MaxList
	}
	rows, err := s.DB.Query(ctx, `SELECT `+findingColumns+` FROM findings WHERE `+where+` ORDER BY severity DESC, opened_at, id`, args...)
	if err != nil {
		return nil, 0, err
	}
	defer rows.Close()
	past := f.After == 0
	for rows.Next() {
		x, err := scanFinding(rows)
		if err != nil {
			return nil, 0, err
		}
		n, ok := names[x.DeviceID]
		if !ok || controls != nil && !controls[x.Name()] {
			continue
		}
		x.Device, x.Site = n.name, n.site
		x.Waiver = waivers.of(&x, s, ctx)
		if f.State == "waived" && x.Waiver == nil || f.State == "open" && x.Waiver != nil {
			continue
		}
		total++
		if past && len(list) < f.Limit {
			list = append(list, x)
		}
		past = past || x.ID == f.After
	}
	return list, total, rows.Err()
}

func scanFinding(row interface{ Scan(...any) error }) (Finding, error) {
	var x Finding
	var severity int
	var proofs, state string
	var first, opened, closed int64
	err := row.Scan(&x.ID, &x.DeviceID, &x.Part, &x.Document, &x.Item, &severity, &x.Title, &x.Why, &proofs, &x.More, &x.Hash, &x.Number, &state, &first, &opened, &x.OpenedBy, &closed, &x.ClosedBy, &x.ClosedIn, &x.Times, &x.Owner, &x.Reference, &x.Remark)
	if err != nil {
		return x, err
	}
	x.Severity = audit.Severities[min(max(severity, 0), len(audit.Severities)-1)]
	x.Open, x.First, x.Opened, x.Closed = state == "open", store.Time(first), store.Time(opened), store.Time(closed)
	return x, json.Unmarshal([]byte(proofs), &x.Proofs)
}

// Finding is one, with what its rule says.
func (s *Service) Finding(ctx context.Context, id int64) (Finding, error) {
	list, _, err := s.Findings(ctx, Filter{IDs: []int64{id}, State: "all"})
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("%w: #%d", ErrFinding, id)
	}
	if err != nil {
		return Finding{}, err
	}
	return list[0], nil
}

// Rule is the rule of a finding as it counts now; nil where it is of no policy, or
// the rule is gone.
func (s *Service) Rule(f *Finding) *audit.Rule {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.library == nil {
		return nil
	}
	for _, d := range s.library.list {
		if d.policy == nil || d.key() != f.Document {
			continue
		}
		for _, r := range d.policy.Rules {
			if r.ID == f.Item {
				return r
			}
		}
	}
	return nil
}

// withControl is the rules that refer to a control: "scheme:control", or the control
// in any scheme.
func (s *Service) withControl(ctx context.Context, control string) (map[string]bool, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.load(ctx); err != nil {
		return nil, err
	}
	out := map[string]bool{}
	for _, d := range s.library.list {
		if d.policy == nil {
			continue
		}
		for _, r := range d.policy.Rules {
			for scheme, list := range r.Controls {
				for _, c := range list {
					if strings.EqualFold(control, scheme+":"+c) || strings.EqualFold(control, c) {
						out[r.Name()] = true
					}
				}
			}
		}
	}
	return out, nil
}

// Note says whose a finding is, and what is known of it.
func (s *Service) Note(ctx context.Context, ids []int64, owner, reference, remark *string, by string) error {
	if len(ids) == 0 || len(ids) > MaxList {
		return fmt.Errorf("%w: 1 to %d at once", ErrFinding, MaxList)
	}
	for _, text := range []*string{owner, reference, remark} {
		if text != nil && len(*text) > 2000 {
			return fmt.Errorf("%w: at most 2,000 bytes of text", ErrFinding)
		}
	}
	return s.DB.Write(ctx, func(tx *store.Tx) error {
		for _, id := range ids {
			res, err := tx.Exec(`UPDATE findings SET owner = coalesce(?, owner), reference = coalesce(?, reference), remark = coalesce(?, remark) WHERE id = ?`, owner, reference, remark, id)
			if err != nil {
				return err
			}
			if n, err := res.RowsAffected(); err != nil || n == 0 {
				return fmt.Errorf("%w: #%d", ErrFinding, id)
			}
			var said []string
			for _, x := range []struct {
				what string
				text *string
			}{{"owner", owner}, {"reference", reference}, {"remark", remark}} {
				if x.text != nil {
					said = append(said, x.what+" "+*x.text)
				}
			}
			if err := journal.Append(tx, journal.Entry{At: s.Now(), Account: by, Action: "finding note", Object: fmt.Sprintf("finding #%d", id), Detail: strings.Join(said, "; ")}); err != nil {
				return err
			}
		}
		return nil
	})
}

// Waiver accepts what was found: one finding, or a rule on the devices of a selector.
type Waiver struct {
	ID        int64
	FindingID int64  // 0: by document, item and selector
	Device    string // of the finding, whose document and item are given too
	Document  string
	Item      string
	Selector  string
	Reason    string
	Approved  string
	Until     time.Time
	Ended     time.Time // when somebody took it back; zero for nobody
	Account   string
	At        time.Time
	RunOut    bool
}

// What says in few words what the waiver is for: the rule and where.
func (w Waiver) What() string {
	_, name, _ := strings.Cut(w.Document, ":")
	what := strings.TrimSuffix(name+"/"+w.Item, "/")
	switch {
	case w.FindingID != 0:
		return what + " on " + w.Device
	case w.Selector == "":
		return what + " on all devices"
	}
	return what + " on " + w.Selector
}

// soon is how long before its end a waiver is told of.
const soon = 7 * 24 * time.Hour

// Waivers are all of them, those in force first.
func (s *Service) Waivers(ctx context.Context) ([]Waiver, error) {
	rows, err := s.DB.Query(ctx, `
SELECT w.id, finding_id, COALESCE(d.name, ''), COALESCE(f.document, w.document), COALESCE(f.item, w.item), selector, reason, approved, until, ended, account, at
FROM waivers w LEFT JOIN findings f ON f.id = finding_id LEFT JOIN devices d ON d.id = f.device_id
ORDER BY ended > 0 OR until < ?, until, w.id`, store.Stamp(s.Now()))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Waiver
	for rows.Next() {
		var w Waiver
		var until, ended, at int64
		if err := rows.Scan(&w.ID, &w.FindingID, &w.Device, &w.Document, &w.Item, &w.Selector, &w.Reason, &w.Approved, &until, &ended, &w.Account, &at); err != nil {
			return nil, err
		}
		w.Until, w.Ended, w.At = store.Time(until), store.Time(ended), store.Time(at)
		w.RunOut = !w.Until.After(s.Now())
		list = append(list, w)
	}
	return list, rows.Err()
}

// granted is the waivers in force.
type granted struct {
	byFinding map[int64]*Waiver
	others    []*Waiver
	selectors map[int64]selector.Selector
}

func (s *Service) inForce(ctx context.Context) (*granted, error) {
	list, err := s.Waivers(ctx)
	if err != nil {
		return nil, err
	}
	g := &granted{byFinding: map[int64]*Waiver{}, selectors: map[int64]selector.Selector{}}
	for i := range list {
		w := &list[i]
		if !w.Ended.IsZero() || w.RunOut {
			continue
		}
		if w.FindingID != 0 {
			g.byFinding[w.FindingID] = w
			continue
		}
		sel, err := selector.Parse(w.Selector)
		if err != nil {
			return nil, fmt.Errorf("the waiver %d: %w", w.ID, err)
		}
		g.others, g.selectors[w.ID] = append(g.others, w), sel
	}
	return g, nil
}

// of is the waiver in force for a finding; nil for none.
func (g *granted) of(f *Finding, s *Service, ctx context.Context) *Waiver {
	if w := g.byFinding[f.ID]; w != nil {
		return w
	}
	for _, w := range g.others {
		if w.Document != f.Document || w.Item != "" && w.Item != f.Item {
			continue
		}
		if sel := g.selectors[w.ID]; !sel.Empty() {
			d, err := s.Fleet.ByID(ctx, f.DeviceID)
			if err != nil || !sel.Match(&d) {
				continue
			}
		}
		return w
	}
	return nil
}

// Grant accepts what was found.
func (s *Service) Grant(ctx context.Context, w Waiver) (Waiver, error) {
	now := s.Now()
	bad := func(format string, args ...any) (Waiver, error) {
		return w, fmt.Errorf("%w: %s", ErrWaiver, fmt.Sprintf(format, args...))
	}
	switch {
	case strings.TrimSpace(w.Reason) == "" || len(w.Reason) > 2000:
		return bad("say why, in at most 2,000 bytes")
	case strings.TrimSpace(w.Approved) == "" || len(w.Approved) > 200:
		return bad("say who approved it")
	case !w.Until.After(now):
		return bad("it would have run out already")
	case w.Until.After(now.AddDate(2, 0, 0)):
		return bad("it would last longer than two years; by then somebody should look again")
	case (w.FindingID == 0) == (w.Document == ""):
		return bad("it is for one finding, or for a rule")
	}
	var of Finding
	if w.FindingID != 0 {
		var err error
		if of, err = s.Finding(ctx, w.FindingID); err != nil {
			return w, err
		}
	} else {
		if err := selector.CheckLasting(w.Selector); err != nil {
			return w, err
		}
		kind, name, _ := strings.Cut(w.Document, ":")
		if kind != "baseline" {
			d, err := s.Document(ctx, Kind(kind), name)
			if err != nil {
				return w, err
			}
			if x, err := s.understand(d.Kind, d.Name, d.Text); w.Item != "" && (err != nil || !slices.Contains(x.ids, w.Item)) {
				return w, fmt.Errorf("%w: %s has no %q", ErrUnknown, name, w.Item)
			}
		}
	}
	w.At = now
	err := s.DB.Write(ctx, func(tx *store.Tx) error {
		res, err := tx.Exec(`INSERT INTO waivers (finding_id, document, item, selector, reason, approved, until, account, at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			w.FindingID, w.Document, w.Item, w.Selector, w.Reason, w.Approved, store.Stamp(w.Until), w.Account, store.Stamp(now))
		if err != nil {
			return err
		}
		if w.ID, err = res.LastInsertId(); err != nil {
			return err
		}
		what := fmt.Sprintf("finding #%d", w.FindingID)
		if w.FindingID == 0 {
			what = w.Document + "/" + w.Item
		}
		return journal.Append(tx, journal.Entry{At: now, Account: w.Account, Action: "waiver grant", Object: what, Detail: fmt.Sprintf("until %s, approved by %s: %s", w.Until.UTC().Format("2006-01-02"), w.Approved, w.Reason)})
	})
	if w.FindingID != 0 {
		w.Device, w.Document, w.Item = of.Device, of.Document, of.Item
	}
	return w, err
}

// Revoke takes a waiver back.
func (s *Service) Revoke(ctx context.Context, id int64, by string) error {
	return s.DB.Write(ctx, func(tx *store.Tx) error {
		res, err := tx.Exec(`UPDATE waivers SET ended = ? WHERE id = ? AND ended = 0`, store.Stamp(s.Now()), id)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return fmt.Errorf("%w: the waiver %d", ErrUnknown, id)
		}
		return journal.Append(tx, journal.Entry{At: s.Now(), Account: by, Action: "waiver revoke", Object: fmt.Sprintf("waiver %d", id)})
	})
}

// waivers tells of those that run out within a week, once.
func (s *Service) waivers(ctx context.Context, now time.Time) error {
	if s.Warn == nil {
		return nil
	}
	list, err := s.Waivers(ctx)
	if err != nil {
		return err
	}
	for _, w := range list {
		if !w.Ended.IsZero() || w.RunOut || w.Until.After(now.Add(soon)) {
			continue
		}
		err := s.DB.Write(ctx, func(tx *store.Tx) error {
			res, err := tx.Exec(`UPDATE waivers SET warned = 1 WHERE id = ? AND warned = 0`, w.ID)
			if err != nil {
				return err
			}
			if n, err := res.RowsAffected(); err != nil || n == 0 {
				return err
			}
			return s.Warn(tx, w)
		})
		if err != nil {
			return err
		}
	}
	return nil
}
