// Package changes keeps what lies between a visit's captures and those before: what
// is known of who did it and when, whether that was in agreed hours, and what people
// have said of it.
package changes

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"time"

	"vergekeep/archive"
	"vergekeep/core/diff"
	"vergekeep/core/selector"
	"vergekeep/core/window"
	"vergekeep/service/events"
	"vergekeep/service/fleet"
	"vergekeep/service/rounds"
	"vergekeep/service/texts"
	"vergekeep/store"
)

// Errors that callers test for.
var (
	ErrUnknown = errors.New("no such change")
	ErrVerdict = errors.New("that is no verdict")
	ErrNone    = errors.New("there is none of that name")
	ErrFilter  = errors.New("changes cannot be looked for like this")
)

// Verdict is what a person, or a rule, said of a change.
type Verdict string

// The verdicts.
const (
	Open         Verdict = "open"
	Authorised   Verdict = "authorised" // with a reference
	Unauthorised Verdict = "unauthorised"
)

// Severity is how much a change deserves to be looked at.
type Severity int

// The severities: medium from ten lines on; high from fifty on, where who may log
// in, what is let through or a secret changed, or where a capture is suspect.
const (
	Low Severity = iota
	Medium
	High
)

var severities = [...]string{"low", "medium", "high"}

func (s Severity) String() string { return severities[s] }

// ParseSeverity reads the word for one.
func ParseSeverity(s string) (Severity, error) {
	i := slices.Index(severities[:], s)
	if i < 0 {
		return 0, fmt.Errorf("%w: the severity is low, medium or high, not %q", ErrFilter, s)
	}
	return Severity(i), nil
}

// Text is one configuration of a change: its revisions with and without.
type Text struct {
	Datastore, Part string
	Before          int // 0: it was not there
	Number          int

	configuration int64
}

// Change is what lies between a visit's captures and those before.
type Change struct {
	ID       int64
	DeviceID int64
	Device   string // its name now
	Site     string
	Round    int64
	// Since is when the device was last seen without it, Found when it was seen with
	// it. First and Last are when its signals arrived; zero where there were none.
	Since, Found, First, Last  time.Time
	Signals                    int
	Accounts, Sources, Methods []string
	Stats                      diff.Stats
	Texts                      []Text
	Suspect                    string
	Severity                   Severity
	Sections                   []string // headings, without secrets
	Place                      window.Where
	Hours                      string // name of the window that decided
	Undoes                     int64  // the change after which it was as it is now

	Verdict           Verdict
	Reference, Remark string
	Judge, Rule       string // who gave the verdict, or by which rule
	Judged            time.Time
	Taker             string // who is on it
	Taken             time.Time

	told bool
}

// When is when it happened, as well as that is known.
func (c *Change) When() (from, to time.Time) {
	if !c.First.IsZero() {
		return c.First, c.Last
	}
	return c.Since, c.Found
}

// Ref is the ref of one of its sides.
func (c *Change) Ref(t Text, number int) string {
	name := c.Device
	if strings.ContainsAny(name, " ") {
		name = `"` + name + `"`
	}
	if t.Datastore != "running" || t.Part != "" {
		name += ":" + t.Datastore
	}
	if t.Part != "" {
		name += "/" + t.Part
	}
	return fmt.Sprintf("%s@%d", name, number)
}

// Config is what a service needs.
type Config struct {
	DB      *store.DB
	Archive *archive.Archive
	Fleet   *fleet.Fleet
	Texts   func() *texts.Texts // it is made after the service
	Bus     *events.Bus
	Log     *slog.Logger
	Now     func() time.Time
	URL     func() string // of the console; nil for none
	// Tell is called for each new change when it has been looked at, in the
	// transaction that says so. It may be nil.
	Tell func(*store.Tx, Change) error
}

// Service keeps changes. It is safe for concurrent use.
type Service struct {
	Config
	wake chan struct{}
}

// New makes a service; Run keeps it going.
func New(c Config) *Service { return &Service{c, make(chan struct{}, 1)} }

// Filed notes what a visit found, while it is being recorded; 0 where it is no
// change: nothing is new, or all of it is the first that was captured.
func (s *Service) Filed(tx *store.Tx, f rounds.Filing) (int64, error) {
	if len(f.New) == 0 || f.Device.LastGood.IsZero() && !slices.ContainsFunc(f.New, func(n rounds.Found) bool { return n.Before != nil }) {
		return 0, nil
	}
	var total diff.Stats
	suspect, since := "", int64(0)
	for _, n := range f.New {
		if n.Before == nil {
			total.Added += n.Revision.Lines
		} else {
			var seen int64
			if err := tx.QueryRow(`SELECT last_seen FROM revisions WHERE configuration_id = ? AND number = ?`, n.Before.Configuration(), n.Before.Number).Scan(&seen); err != nil {
				return 0, err
			}
			since = max(since, seen)
		}
		if n.Revision.Suspect != "" {
			suspect = n.Revision.Suspect
		}
		if n.Revision.Datastore == "startup" && slices.ContainsFunc(f.New, func(m rounds.Found) bool {
			return m.Revision.Datastore == "running" && m.Revision.Part == n.Revision.Part
		}) {
			continue // it was saved as well: that is no second difference
		}
		st := n.Revision.Stats
		total.Added, total.Removed, total.Changed, total.Moved = total.Added+st.Added, total.Removed+st.Removed, total.Changed+st.Changed, total.Moved+st.Moved
	}
	if since == 0 {
		since = store.Stamp(f.Device.LastGood)
	}
	res, err := tx.Exec(`INSERT INTO changes (device_id, round_id, since, found_at, added, removed, changed, moved, suspect) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		f.Device.ID, f.Round.ID, since, store.Stamp(f.At), total.Added, total.Removed, total.Changed, total.Moved, suspect)
	if err != nil {
		return 0, err
	}
	id, err := res.LastInsertId()
	if err != nil {
		return 0, err
	}
	for _, n := range f.New {
		before := 0
		if n.Before != nil {
			before = n.Before.Number
		}
		if _, err := tx.Exec(`INSERT INTO change_texts (configuration_id, number, before, change_id) VALUES (?, ?, ?, ?)`, n.Revision.Configuration(), n.Revision.Number, before, id); err != nil {
			return 0, err
		}
	}
	return id, nil
}

// Evidence is what signals say of a change.
type Evidence struct {
	First, Last                time.Time
	Count                      int
	Accounts, Sources, Methods []string
}

// AddEvidence adds what signals say to a change, which is looked at again.
func (s *Service) AddEvidence(tx *store.Tx, id int64, e Evidence) error {
	var first, last int64
	var accounts, sources, methods string
	if err := tx.QueryRow(`SELECT first_at, last_at, accounts, sources, methods FROM changes WHERE id = ?`, id).Scan(&first, &last, &accounts, &sources, &methods); err != nil {
		return err
	}
	if at := store.Stamp(e.First); first == 0 || at < first {
		first = at
	}
	_, err := tx.Exec(`UPDATE changes SET first_at = ?, last_at = max(last_at, ?), signals = signals + ?, accounts = ?, sources = ?, methods = ?, looked = 0 WHERE id = ?`,
		first, store.Stamp(e.Last), e.Count, merged(accounts, e.Accounts), merged(sources, e.Sources), merged(methods, e.Methods), id)
	return err
}

// maxNamed is how many accounts, sources and so on are kept of a change.
const maxNamed = 20

func merged(have string, more []string) string {
	list := lines(have)
	for _, m := range more {
		if m = strings.ReplaceAll(m, "\n", " "); m != "" && !slices.Contains(list, m) && len(list) < maxNamed {
			list = append(list, m)
		}
	}
	return strings.Join(list, "\n")
}

func lines(s string) []string {
	if s == "" {
		return nil
	}
	return strings.Split(s, "\n")
}

const columns = `id, device_id, round_id, since, found_at, first_at, last_at, signals, accounts, sources, methods, added, removed, changed, moved, suspect, told, severity, sections, place, hours, undoes,
	verdict, reference, remark, judge, rule, judged_at, taker, taken_at`

func scan(row interface{ Scan(...any) error }) (Change, error) {
	var c Change
	var since, found, first, last, judged, taken int64
	var accounts, sources, methods, sections string
	err := row.Scan(&c.ID, &c.DeviceID, &c.Round, &since, &found, &first, &last, &c.Signals, &accounts, &sources, &methods, &c.Stats.Added, &c.Stats.Removed, &c.Stats.Changed, &c.Stats.Moved, &c.Suspect, &c.told,
		&c.Severity, &sections, &c.Place, &c.Hours, &c.Undoes, &c.Verdict, &c.Reference, &c.Remark, &c.Judge, &c.Rule, &judged, &c.Taker, &taken)
	c.Since, c.Found, c.First, c.Last, c.Judged, c.Taken = store.Time(since), store.Time(found), store.Time(first), store.Time(last), store.Time(judged), store.Time(taken)
	c.Accounts, c.Sources, c.Methods, c.Sections = lines(accounts), lines(sources), lines(methods), lines(sections)
	return c, err
}

// Filter says which changes are meant. What is zero matters not.
type Filter struct {
	Selector         string
	From, To         time.Time // when they happened, as well as that is known
	Account, Section string    // a part of the name, or of the heading; capitals matter not
	Places           []window.Where
	Verdicts         []Verdict
	Severity         Severity // this one and above
	Lines            int      // at least
	Taken            *bool
	Oldest           bool // the oldest first
	After            int64
	Limit            int
}

// MaxList is how many changes a list has at most.
const MaxList = 1000

// List is the changes that a filter names, newest first, and how many there are in
// all, those before After included.
func (s *Service) List(ctx context.Context, f Filter) (list []Change, total int, err error) {
	sel, err := selector.Parse(f.Selector)
	if err != nil {
		return nil, 0, err
	}
	names, err := s.Fleet.Names(ctx, sel)
	if err != nil {
		return nil, 0, err
	}
	if f.Limit <= 0 || f.Limit > MaxList {
		f.Limit = MaxList
	}
	where, args := f.where(names)
	if err := s.DB.QueryRow(ctx, `SELECT count(*) FROM changes WHERE `+where, args...).Scan(&total); err != nil {
		return nil, 0, err
	}
	order, later := `DESC`, `<`
	if f.Oldest {
		order, later = `ASC`, `>`
	}
	if f.After != 0 {
		where += ` AND (` + happened + `, id) ` + later + ` (SELECT ` + happened + `, id FROM changes WHERE id = ?)`
		args = append(args, f.After)
	}
	rows, err := s.DB.Query(ctx, `SELECT `+columns+` FROM changes WHERE `+where+` ORDER BY `+happened+` `+order+`, id `+order+` LIMIT ?`, append(args, f.Limit)...)
	if err != nil {
		return nil, 0, err
	}
	defer rows.Close()
	for rows.Next() {
		c, err := scan(rows)
		if err != nil {
			return nil, 0, err
		}
		list = append(list, c)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return nil, 0, err
	}
	return list, total, s.complete(ctx, list, names)
}

// happened is when a change happened, as well as that is known: when its last signal
// arrived, or else when it was found.
const happened = `CASE WHEN last_at > 0 THEN last_at ELSE found_at END`

// late is how much later than the visit that found a change its signals may come.
const late = time.Minute

// where is what a filter asks of changes, of the devices that its selector picks.
func (f *Filter) where(names map[int64]string) (string, []any) {
	from, to := int64(0), int64(1<<62)
	if !f.From.IsZero() {
		from = store.Stamp(f.From)
	}
	if !f.To.IsZero() {
		to = store.Stamp(f.To)
	}
	// What is found is found after it happened, but for signals that are late.
	where, args := `found_at >= ? AND `+happened+` BETWEEN ? AND ?`, []any{max(from-late.Microseconds(), 0), from, to}
	oneOf := func(column string, values any) {
		where += ` AND ` + column + ` IN (SELECT value FROM json_each(?))`
		raw, _ := json.Marshal(values) // strings and numbers always can
		args = append(args, string(raw))
	}
	if f.Selector != "" {
		oneOf("device_id", slices.Collect(maps.Keys(names)))
	}
	if len(f.Verdicts) > 0 {
		oneOf("verdict", f.Verdicts)
	}
	if len(f.Places) > 0 {
		oneOf("place", f.Places)
	}
	more := func(condition string, value any) { where, args = where+` AND `+condition, append(args, value) }
	if f.Severity > Low {
		more(`severity >= ?`, int(f.Severity))
	}
	if f.Lines > 0 {
		more(`added + removed + changed + moved >= ?`, f.Lines)
	}
	if f.Account != "" {
		more(`instr(lower(accounts), lower(?)) > 0`, f.Account)
	}
	if f.Section != "" {
		more(`instr(lower(sections), lower(?)) > 0`, f.Section)
	}
	if f.Taken != nil && *f.Taken {
		where += ` AND taker <> ''`
	} else if f.Taken != nil {
		where += ` AND taker = ''`
	}
	return where, args
}

// complete fills in texts and sites.
func (s *Service) complete(ctx context.Context, list []Change, names map[int64]string) error {
	if len(list) == 0 {
		return nil
	}
	at := make(map[int64]int, len(list))
	ids := make([]int64, len(list))
	for i := range list {
		at[list[i].ID], ids[i] = i, list[i].ID
		list[i].Device = names[list[i].DeviceID]
	}
	raw, err := json.Marshal(ids)
	if err != nil {
		return err
	}
	rows, err := s.DB.Query(ctx, `SELECT t.change_id, c.id, c.datastore, c.part, t.before, t.number FROM change_texts t JOIN configurations c ON c.id = t.configuration_id
		WHERE t.change_id IN (SELECT value FROM json_each(?)) ORDER BY c.datastore, c.part`, string(raw))
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var id int64
		var t Text
		if err := rows.Scan(&id, &t.configuration, &t.Datastore, &t.Part, &t.Before, &t.Number); err != nil {
			return err
		}
		c := &list[at[id]]
		c.Texts = append(c.Texts, t)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	sites, err := s.DB.Query(ctx, `SELECT id, site FROM devices`)
	if err != nil {
		return err
	}
	defer sites.Close()
	by := map[int64]string{}
	for sites.Next() {
		var id int64
		var site string
		if err := sites.Scan(&id, &site); err != nil {
			return err
		}
		by[id] = site
	}
	for i := range list {
		list[i].Site = by[list[i].DeviceID]
	}
	return sites.Err()
}

// Get is one change.
func (s *Service) Get(ctx context.Context, id int64) (Change, error) {
	list, err := s.byIDs(ctx, []int64{id})
	if err != nil {
		return Change{}, err
	}
	return list[0], nil
}

// byIDs is the changes with these numbers, in their order; none may be missing.
func (s *Service) byIDs(ctx context.Context, ids []int64) ([]Change, error) {
	names, err := s.Fleet.Names(ctx, selector.Selector{})
	if err != nil {
		return nil, err
	}
	var list []Change
	for _, id := range ids {
		c, err := scan(s.DB.QueryRow(ctx, `SELECT `+columns+` FROM changes WHERE id = ?`, id))
		if err != nil {
			return nil, fmt.Errorf("%w: #%d", ErrUnknown, id)
		}
		list = append(list, c)
	}
	return list, s.complete(ctx, list, names)
}

// Pointed is the revisions that open changes are between: nothing may thin them
// out.
func (s *Service) Pointed(ctx context.Context) (map[[2]int64]bool, error) {
	rows, err := s.DB.Query(ctx, `SELECT t.configuration_id, t.before, t.number FROM change_texts t JOIN changes c ON c.id = t.change_id WHERE c.verdict = 'open'`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	all := map[[2]int64]bool{}
	for rows.Next() {
		var configuration, before, number int64
		if err := rows.Scan(&configuration, &before, &number); err != nil {
			return nil, err
		}
		all[[2]int64{configuration, before}], all[[2]int64{configuration, number}] = true, true
	}
	return all, rows.Err()
}
