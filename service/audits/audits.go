// Package audits holds the archive's configurations against baselines, standards and
// policies: it keeps these documents in every version, runs them where something
// changed, and keeps what they found, since when, by whose change, and who has
// accepted it.
package audits

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"vergekeep/archive"
	"vergekeep/core/audit"
	"vergekeep/core/dialect"
	"vergekeep/core/selector"
	"vergekeep/core/standard"
	"vergekeep/service/changes"
	"vergekeep/service/events"
	"vergekeep/service/fleet"
	"vergekeep/service/texts"
	"vergekeep/store"
)

// Errors that callers test for.
var (
	ErrUnknown  = errors.New("there is none of that name")
	ErrDocument = errors.New("it cannot be kept like this")
	ErrFinding  = errors.New("no such finding")
	ErrWaiver   = errors.New("it cannot be waived like this")
	ErrSecrets  = errors.New("this takes the right see-secrets")
)

// Config is what a service needs.
type Config struct {
	DB       *store.DB
	Archive  *archive.Archive
	Fleet    *fleet.Fleet
	Changes  *changes.Service
	Texts    func() *texts.Texts // it is made after the service
	Dialects dialect.Set
	Bus      *events.Bus
	Log      *slog.Logger
	Now      func() time.Time
	Data     string // folder for copies of repositories
	// Tell is called for each finding that opens, in the transaction that says so.
	// It may be nil.
	Tell func(*store.Tx, Finding) error
	// Warn is called once for each waiver that runs out within a week. It may be nil.
	Warn func(*store.Tx, Waiver) error
}

// Service audits. It is safe for concurrent use.
type Service struct {
	Config

	mu      sync.Mutex // one audit at a time
	library *library
	tick    uint64
	started bool
	fleetAt time.Time // when the records were looked at last
	keptAt  time.Time // when rules about the keeping were asked last
	across  *index
	wake    chan struct{}
	again   atomic.Bool // records are to be looked at now

	programsMu sync.Mutex
	programs   map[programKey]*audit.Program
}

type programKey struct{ policy, platform string }

// New makes a service; Run keeps it going.
func New(c Config) *Service {
	return &Service{Config: c, wake: make(chan struct{}, 1), across: newIndex(), programs: map[programKey]*audit.Program{}}
}

// Wake says that there may be something to audit.
func (s *Service) Wake() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// How often what no event tells of is looked at.
const (
	recordsEvery = 30 * time.Second
	keptEvery    = 10 * time.Minute
)

// Run audits as things change, until ctx ends.
func (s *Service) Run(ctx context.Context) {
	s.Bus.Loop(ctx, 5*time.Second, s.wake, []string{"visit-ended", "change"}, func() {
		if err := s.sources(ctx, sourcesEvery); err != nil && ctx.Err() == nil {
			s.Log.Error("the sources of documents could not be read", "error", err)
		}
		if err := s.Work(ctx); err != nil && ctx.Err() == nil {
			s.Log.Error("an audit failed; it is tried again", "error", err)
		}
	})
}

// Work audits what changed since the last time: devices with new revisions or other
// records, and all that a document concerns which is another one.
func (s *Service) Work(ctx context.Context) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.load(ctx); err != nil {
		return err
	}
	touched, tick := s.Archive.TouchedSince(s.tick)
	now := s.Now()
	done := false
	asked := s.again.Swap(false)
	defer func() {
		if asked && !done {
			s.again.Store(true)
		}
	}()
	var devices []fleet.Device
	records := !s.started || asked || time.Since(s.fleetAt) >= recordsEvery
	kept := asked || time.Since(s.keptAt) >= keptEvery
	switch {
	case records || kept || s.library.fresh:
		list, err := s.Fleet.List(ctx, selector.Selector{})
		if err != nil {
			return err
		}
		devices = list
	case len(touched) > 0:
		for _, id := range touched {
			d, err := s.Fleet.ByID(ctx, id)
			if err != nil {
				return err
			}
			devices = append(devices, d)
		}
	default:
		return s.waivers(ctx, now)
	}
	if err := s.audit(ctx, devices, kept); err != nil {
		return err
	}
	s.tick, s.started, s.library.fresh, done = tick, true, false, true
	if records {
		s.fleetAt = time.Now()
	}
	if kept {
		s.keptAt = time.Now()
	}
	return s.waivers(ctx, now)
}

// Audit audits devices now, whatever changed.
func (s *Service) Audit(ctx context.Context, expression string) (devices int, err error) {
	list, err := s.Fleet.Pick(ctx, expression)
	if err != nil {
		return 0, err
	}
	if err := s.sources(ctx, 0); err != nil { // what is in force is what is there now
		return 0, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.load(ctx); err != nil {
		return 0, err
	}
	return len(list), s.run(ctx, list, func(*state, *document, int, *fleet.Device) bool { return true })
}

// audit audits those of the devices for which a state that is kept no longer stands.
func (s *Service) audit(ctx context.Context, devices []fleet.Device, kept bool) error {
	return s.run(ctx, devices, func(held *state, d *document, number int, of *fleet.Device) bool {
		return held == nil || held.hash != d.hash || held.number != number || held.edition != of.Edition || kept && d.keeping
	})
}

// state is what is kept of a document and a part of a device.
type state struct {
	id, device    int64
	part          string
	document      string
	hash          string
	number        int
	edition       int64
	outcomes      string
	agreed, lines int
}

type stateKey struct {
	device         int64
	part, document string
}

func (s *Service) states(ctx context.Context, devices []fleet.Device) (map[stateKey]*state, error) {
	where, args := ``, []any(nil)
	if len(devices) <= 100 {
		ids := make([]string, len(devices))
		for i, d := range devices {
			ids[i] = fmt.Sprint(d.ID)
		}
		where = ` AND device_id IN (` + strings.Join(ids, ",") + `)`
	}
	rows, err := s.DB.Query(ctx, `SELECT id, device_id, part, document, hash, number, edition, outcomes, agreed, lines FROM audit_states WHERE until = 0`+where, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	all := map[stateKey]*state{}
	for rows.Next() {
		x := &state{}
		if err := rows.Scan(&x.id, &x.device, &x.part, &x.document, &x.hash, &x.number, &x.edition, &x.outcomes, &x.agreed, &x.lines); err != nil {
			return nil, err
		}
		all[stateKey{x.device, x.part, x.document}] = x
	}
	return all, rows.Err()
}

// job is one configuration with the documents to hold it against.
type job struct {
	device    fleet.Device
	part      string
	revision  *archive.Revision // nil: nothing was captured
	main      bool
	documents []*document
	bases     []base
}

// verdict is what a document says of a configuration.
type verdict struct {
	document      *document
	hash          string
	results       []result
	agreed, lines int
	offers        []audit.Offer
}

// result is one item of a document.
type result struct {
	item     string
	severity audit.Severity
	title    string
	outcome  audit.Outcome
	why      string
	proofs   []audit.Proof
	more     int
}

// portion is how many configurations are written at once.
const portion = 100

// run audits devices: those documents of each for which due says so.
func (s *Service) run(ctx context.Context, devices []fleet.Device, due func(*state, *document, int, *fleet.Device) bool) error {
	if len(devices) == 0 {
		return nil
	}
	g, err := s.ground(ctx, devices)
	if err != nil {
		return err
	}
	bases, err := s.bases(ctx)
	if err != nil {
		return err
	}
	var jobs []job
	gone := map[stateKey]*state{} // what no document is for any more
	wanted := map[int64]bool{}
	for _, d := range devices {
		wanted[d.ID] = true
	}
	for k, x := range g.held {
		if wanted[k.device] {
			gone[k] = x
		}
	}
	for i := range devices {
		d := devices[i]
		for n, rev := range g.revisions(d.ID) {
			j := job{device: d, revision: rev, main: n == 0}
			number := 0
			if rev != nil {
				j.part, number = rev.Part, rev.Number
			}
			for _, doc := range s.library.list {
				if !doc.isFor(&d, rev) {
					continue
				}
				key := stateKey{d.ID, j.part, doc.key()}
				delete(gone, key)
				if due(g.held[key], doc, number, &d) {
					j.documents = append(j.documents, doc)
				}
			}
			for _, b := range bases[d.ID] {
				if b.part != j.part || d.State == fleet.Retired {
					continue
				}
				key := stateKey{d.ID, j.part, b.key()}
				delete(gone, key)
				if due(g.held[key], b.document(), b.newest, &d) {
					j.bases = append(j.bases, b)
				}
			}
			if len(j.documents) > 0 || len(j.bases) > 0 {
				jobs = append(jobs, j)
			}
		}
	}
	if err := s.warmUp(ctx, jobs); err != nil {
		return err
	}
	if err := s.portions(ctx, jobs, g); err != nil {
		return err
	}
	if err := s.drop(ctx, gone); err != nil {
		return err
	}
	return s.settleAcross(ctx)
}

// portions audits jobs: while some are written, the next ones are looked at.
func (s *Service) portions(ctx context.Context, jobs []job, g *ground) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	type looked struct {
		jobs     []job
		verdicts [][]verdict
		err      error
	}
	ready := make(chan looked, 1)
	go func() {
		defer close(ready)
		for len(jobs) > 0 && ctx.Err() == nil {
			some := jobs[:min(len(jobs), portion)]
			jobs = jobs[len(some):]
			l := looked{jobs: some, verdicts: make([][]verdict, len(some))}
			errs := make([]error, len(some))
			var wg sync.WaitGroup
			next := make(chan int)
			for range min(runtime.NumCPU(), len(some)) {
				wg.Go(func() {
					for i := range next {
						l.verdicts[i], errs[i] = s.one(ctx, &some[i], g)
					}
				})
			}
			for i := range some {
				next <- i
			}
			close(next)
			wg.Wait()
			l.err = errors.Join(errs...)
			select {
			case ready <- l:
			case <-ctx.Done():
			}
		}
	}()
	var err error
	for l := range ready {
		if err == nil {
			err = l.err
		}
		if err == nil {
			err = s.record(ctx, l.jobs, l.verdicts, g.held)
		}
		if err != nil {
			stop() // and wait until nothing is looked at any more
		}
	}
	if err == nil {
		err = ctx.Err()
	}
	return err
}

// ground is what audits of devices stand on.
type ground struct {
	held   map[stateKey]*state // what was said of them before
	newest map[int64][]*archive.Revision
	facts  facts
	slots  map[slotKey]standard.Values
}

func (s *Service) ground(ctx context.Context, devices []fleet.Device) (*ground, error) {
	var g ground
	var err error
	if g.held, err = s.states(ctx, devices); err != nil {
		return nil, err
	}
	if g.newest, err = s.newest(ctx, devices); err != nil {
		return nil, err
	}
	if g.facts, err = s.facts(ctx); err != nil {
		return nil, err
	}
	g.slots, err = s.slotValues(ctx)
	return &g, err
}

// revisions is the newest ones of a device; one that is nil where nothing was captured.
func (g *ground) revisions(device int64) []*archive.Revision {
	if list := g.newest[device]; len(list) > 0 {
		return list
	}
	return []*archive.Revision{nil}
}

// newest is the newest running configurations of devices, the unnamed part first.
func (s *Service) newest(ctx context.Context, devices []fleet.Device) (map[int64][]*archive.Revision, error) {
	out := map[int64][]*archive.Revision{}
	add := func(list []archive.Revision) {
		for i := range list {
			if r := &list[i]; r.Datastore == "running" {
				out[r.Device] = append(out[r.Device], r)
			}
		}
	}
	if len(devices) <= 100 {
		for _, d := range devices {
			list, err := s.Archive.Newest(ctx, d.ID)
			if err != nil {
				return nil, err
			}
			add(list)
		}
	} else {
		list, err := s.Archive.AllNewest(ctx)
		if err != nil {
			return nil, err
		}
		add(list)
	}
	for _, list := range out {
		slices.SortFunc(list, func(a, b *archive.Revision) int { return strings.Compare(a.Part, b.Part) })
	}
	return out, nil
}

// fact is what rules about the keeping ask.
type fact struct {
	open   int
	oldest time.Time
}

type facts struct {
	open     map[int64]fact
	baseline map[int64]bool
	blessed  map[[2]int64]bool // revisions that are baselines, by configuration and number
}

func (s *Service) facts(ctx context.Context) (facts, error) {
	f := facts{open: map[int64]fact{}, baseline: map[int64]bool{}, blessed: map[[2]int64]bool{}}
	rows, err := s.DB.Query(ctx, `SELECT device_id, count(*), min(found_at) FROM changes WHERE verdict = 'open' GROUP BY device_id`)
	if err != nil {
		return f, err
	}
	defer rows.Close()
	for rows.Next() {
		var device, at int64
		var x fact
		if err := rows.Scan(&device, &x.open, &at); err != nil {
			return f, err
		}
		x.oldest = store.Time(at)
		f.open[device] = x
	}
	if err := rows.Err(); err != nil {
		return f, err
	}
	list, err := s.Archive.Baselines(ctx)
	for _, b := range list {
		f.blessed[[2]int64{b.Revision.Configuration(), int64(b.Revision.Number)}] = true
		if b.Revision.Datastore == "running" {
			f.baseline[b.Revision.Device] = true
		}
	}
	return f, err
}

func (f *facts) kept(d *fleet.Device, now time.Time) *audit.Kept {
	k := &audit.Kept{Freshness: string(d.Freshness), Baseline: f.baseline[d.ID], Unsaved: d.Unsaved > 0, OpenChanges: f.open[d.ID].open}
	if at := f.open[d.ID].oldest; !at.IsZero() {
		k.OldestOpen = int64(now.Sub(at).Seconds())
	}
	return k
}

// one audits one configuration.
func (s *Service) one(ctx context.Context, j *job, g *ground) ([]verdict, error) {
	var out []verdict
	var view dialect.View
	if j.revision != nil && slices.ContainsFunc(j.documents, func(d *document) bool { return !d.keeping }) {
		text, err := s.Archive.Text(ctx, *j.revision)
		if err != nil {
			return nil, fmt.Errorf("%s@%d: %w", j.device.Name, j.revision.Number, err)
		}
		d := s.dialectFor(&j.device, j.revision)
		if d == nil {
			d = dialect.Unknown()
		}
		view = d.View(text)
	} else {
		view = dialect.Unknown().View("")
	}
	for _, doc := range j.documents {
		v := verdict{document: doc, hash: doc.hash}
		switch {
		case j.revision != nil && j.revision.Suspect != "" && !doc.keeping && !g.facts.blessed[[2]int64{j.revision.Configuration(), int64(j.revision.Number)}]:
			v.results = doc.undecided("the newest capture is suspect: " + j.revision.Suspect)
		case doc.policy != nil:
			p := s.program(doc, &j.device, j.revision)
			results, offers := p.Run(audit.Input{Subject: &j.device, View: view, Kept: g.facts.kept(&j.device, s.Now()), Main: j.main})
			v.offers = offers
			for _, r := range results {
				v.results = append(v.results, result{r.Rule.ID, r.Rule.Severity, r.Rule.Title, r.Outcome, r.Why, r.Proofs, r.More})
			}
		default:
			r := doc.standard.Compare(standard.Input{Subject: &j.device, View: view, Own: g.slots[slotKey{doc.name, j.device.ID}]})
			v.agreed, v.lines = r.Share()
			for _, sec := range r.Sections {
				v.results = append(v.results, sectionResult(sec))
			}
		}
		out = append(out, v)
	}
	for _, b := range j.bases {
		v, err := s.drift(ctx, &j.device, b)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, nil
}

// dialectFor is the dialect of a revision; nil where it is not loaded.
func (s *Service) dialectFor(d *fleet.Device, r *archive.Revision) *dialect.Dialect {
	platform := d.Platform
	if r != nil {
		platform = r.Platform()
	}
	return s.Dialects[platform]
}

// sectionResult tells of a standard's section as of a rule: its deviations are the
// proofs.
func sectionResult(sec standard.SectionResult) result {
	r := result{item: sec.Section.ID, severity: sec.Section.Severity, title: sec.Section.Heading(), outcome: sec.Outcome, why: sec.Why, more: sec.More}
	for _, d := range sec.Deviations {
		r.proofs = append(r.proofs, d.Proof())
	}
	return r
}

// letters say the outcomes in a state.
var letters = map[audit.Outcome]string{audit.Pass: "p", audit.Fail: "f", audit.Undecidable: "u", audit.NotApplicable: "n"}

// parsed is the outcomes that a state keeps.
func parsed(outcomes string) []result {
	var list []result
	for line := range strings.Lines(outcomes) {
		item, letter, _ := strings.Cut(strings.TrimSpace(line), " ")
		for o, l := range letters {
			if l == letter {
				list = append(list, result{item: item, outcome: o})
			}
		}
	}
	return list
}

// said is the outcomes as a state keeps them.
func (v *verdict) said() (text string, passed, failed, undecidable int) {
	var b strings.Builder
	for _, r := range v.results {
		b.WriteString(r.item + " " + letters[r.outcome] + "\n")
		switch r.outcome {
		case audit.Pass:
			passed++
		case audit.Fail:
			failed++
		case audit.Undecidable:
			undecidable++
		}
	}
	return b.String(), passed, failed, undecidable
}
