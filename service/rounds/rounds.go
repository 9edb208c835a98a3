// Package rounds visits devices: rounds on demand and by schedule, with
// bounded concurrency, progress as events, and a clean end at any moment.
//
// A round and the visits it plans are written before the first device is
// touched, so that a restart knows what was left undone and goes on with it.
package rounds

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sort"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"vergekeep/archive"
	"vergekeep/core/dialect"
	"vergekeep/core/reason"
	"vergekeep/service/events"
	"vergekeep/service/fleet"
	"vergekeep/service/journal"
	"vergekeep/service/vault"
	"vergekeep/store"
	"vergekeep/wire/drop"
	"vergekeep/wire/ssh"
)

// Outcome is what became of a visit.
type Outcome string

// The outcomes; a visit that has not happened yet has none.
const (
	Waiting    Outcome = ""
	Changed    Outcome = "new"
	Unchanged  Outcome = "unchanged"
	Failed     Outcome = "failed"
	PassedOver Outcome = "passed-over"
)

// State is where a round stands.
type State string

// The states.
const (
	Running   State = "running"
	Finished  State = "done"
	Cancelled State = "cancelled"
)

// ErrUnknown is wrapped where there is no such round or visit.
var ErrUnknown = errors.New("no such round")

// ErrStopping is returned when the service is going down.
var ErrStopping = errors.New("the service is stopping")

// Round is one run over a set of devices.
type Round struct {
	ID       int64
	Origin   string // demand, schedule
	Account  string
	Schedule string // that it was due to
	Selector string
	State    State
	Started  time.Time
	Ended    time.Time
	Planned  int

	New, Unchanged, Failed, PassedOver int

	spread  time.Duration
	tries   int
	records bool
}

// Visit is one device within a round.
type Visit struct {
	Device      string
	DeviceID    int64
	Site        string
	Platform    string
	Outcome     Outcome
	Started     time.Time
	Took        time.Duration
	Reason      reason.Code
	What        string
	Tries       int
	Undecidable bool
}

// Progress is the payload of the events round-started, visit-ended and round-ended.
type Progress struct {
	Round Round
	Visit *Visit // of visit-ended
}

// Metrics counts what the service did since it started.
type Metrics interface {
	VisitEnded(outcome Outcome, code reason.Code, took time.Duration)
}

// Config is what a service needs.
type Config struct {
	DB          *store.DB
	Archive     *archive.Archive
	Fleet       *fleet.Fleet
	Vault       *vault.Vault
	Dialects    dialect.Set
	Bus         *events.Bus
	Log         *slog.Logger
	Now         func() time.Time
	Concurrency int // visits at a time
	Metrics     Metrics
	Drops       *drop.Receiver // nil: none are taken
	ConfirmKeys bool           // a device's first host key must be confirmed
	// Filing is called where a good visit is being recorded, in its transaction,
	// which may be run again. It may be nil.
	Filing func(*store.Tx, Filing) error
	// Pause is how long a device is left alone before its next try, by how many
	// it had; a minute and longer each time if left out.
	Pause func(tries int) time.Duration
}

// Filing is a good visit that is being recorded.
type Filing struct {
	Round  Round
	Device fleet.Device // its record as it was when the round began
	Began  time.Time
	At     time.Time // when its captures were made
	New    []Found
	Answer string // to the cheap question of its dialect; "" where there is none
}

// Found is a new revision, and the one that was in force before; nil for none.
type Found struct {
	Before   *archive.Revision
	Revision archive.Revision
}

// Service runs rounds.
type Service struct {
	db       *store.DB
	archive  *archive.Archive
	fleet    *fleet.Fleet
	vault    *vault.Vault
	dialects dialect.Set
	bus      *events.Bus
	log      *slog.Logger
	now      func() time.Time
	metrics  Metrics
	filing   func(*store.Tx, Filing) error

	drops       *drop.Receiver
	confirmKeys bool
	pause       func(tries int) time.Duration
	tunnels     ssh.Tunnels
	limits      limits
	serials     serials

	slots chan struct{} // visits at a time
	aside chan struct{} // long visits that have made room
	desk  chan struct{} // visits being recorded
	ctx   context.Context
	stop  context.CancelCauseFunc
	wg    sync.WaitGroup

	// own is the first round that this process planned, 0 before: from it on none is
	// left over from another.
	own atomic.Int64

	mu       sync.Mutex
	stopping bool
	visited  map[int64]time.Time // when the last good visit began
	closed   map[string]fleet.Site
	once     map[int64]vault.Credential // by round: given for it alone, and kept nowhere else
	running  map[int64]context.CancelCauseFunc
	ended    map[int64]chan struct{}

	credMu   sync.Mutex
	credAt   time.Time
	credList []usable
}

// New makes a service. Close it when done.
func New(c Config) *Service {
	s := &Service{
		db: c.DB, archive: c.Archive, fleet: c.Fleet, vault: c.Vault, dialects: c.Dialects, bus: c.Bus, log: c.Log, now: c.Now, metrics: c.Metrics,
		slots: make(chan struct{}, max(c.Concurrency, 1)), aside: make(chan struct{}, min(4*max(c.Concurrency, 1), 1024)), desk: make(chan struct{}, 512), visited: map[int64]time.Time{}, running: map[int64]context.CancelCauseFunc{}, ended: map[int64]chan struct{}{},
	}
	s.drops, s.confirmKeys, s.pause, s.filing = c.Drops, c.ConfirmKeys, c.Pause, c.Filing
	s.limits.inUse, s.limits.wake = map[string]int{}, map[*queue]struct{}{}
	s.once = map[int64]vault.Credential{}
	if s.pause == nil {
		s.pause = func(tries int) time.Duration { return time.Minute << min(2*(tries-1), 6) }
	}
	s.ctx, s.stop = context.WithCancelCause(context.Background())
	return s
}

// Close ends all visits. What they had captured is archived; what was not
// visited yet goes on after the next start.
func (s *Service) Close() {
	s.mu.Lock()
	s.stopping = true
	s.mu.Unlock()
	s.stop(ErrStopping)
	s.wg.Wait()
	s.tunnels.Close()
}

// Plan is a round to start.
type Plan struct {
	Selector string
	Origin   string // demand, schedule
	Account  string
	Schedule string // name of the schedule that it is due to
	Spread   time.Duration
	Tries    int  // visits to a device; 1 if left out
	Record   bool // steps and session are kept of good visits too
	// Devices are those to visit where a signal says so; Selector then only names
	// them, and the journal tells nothing of the round.
	Devices []fleet.Device
	// Once is a credential for this round alone. It is not stored.
	Once *vault.Credential
}

// Start plans a round over the devices that the selector picks and begins it.
func (s *Service) Start(ctx context.Context, expression, origin, account string) (Round, error) {
	return s.start(ctx, Plan{Selector: expression, Origin: origin, Account: account})
}

// StartPlan is Start with all that can be said of a round.
func (s *Service) StartPlan(ctx context.Context, p Plan) (Round, error) { return s.start(ctx, p) }

func (s *Service) start(ctx context.Context, p Plan) (Round, error) {
	devices := slices.Clone(p.Devices)
	if devices == nil {
		var err error
		if devices, err = s.fleet.Pick(ctx, p.Selector); err != nil {
			return Round{}, err
		}
	}
	devices = slices.DeleteFunc(devices, func(d fleet.Device) bool { return d.State == fleet.Retired })
	if len(devices) == 0 {
		return Round{}, fmt.Errorf("%w: all that it picks are retired", fleet.ErrNobody)
	}
	r := Round{Origin: p.Origin, Account: p.Account, Schedule: p.Schedule, Selector: p.Selector, State: Running, Started: s.now(), Planned: len(devices), spread: p.Spread, tries: max(p.Tries, 1), records: p.Record}
	err := s.db.Write(ctx, func(tx *store.Tx) error {
		res, err := tx.Exec(`INSERT INTO rounds (origin, account, schedule, selector, state, started_at, planned, plan, spread, tries, records, first_visit)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, (SELECT coalesce(max(id), 0) + 1 FROM visits))`,
			r.Origin, r.Account, r.Schedule, r.Selector, Running, store.Stamp(r.Started), r.Planned, encodePlan(devices), int64(r.spread.Seconds()), r.tries, r.records)
		if err != nil {
			return err
		}
		if r.ID, err = res.LastInsertId(); err != nil {
			return err
		}
		s.own.CompareAndSwap(0, r.ID) // before anybody else can see the row
		if p.Devices != nil {
			return nil
		}
		return journal.Append(tx, journal.Entry{At: r.Started, Account: r.Account, Action: "round start", Object: fmt.Sprintf("round %d", r.ID), Detail: counted(r.Planned) + ": " + orAll(r.Selector)})
	})
	if err != nil {
		return r, err
	}
	if p.Once != nil {
		s.mu.Lock()
		once := *p.Once
		once.ID = -r.ID // so that it is judged by itself
		s.once[r.ID] = once
		s.mu.Unlock()
	}
	return r, s.begin(r, devices)
}

func counted(devices int) string {
	if devices == 1 {
		return "1 device"
	}
	return fmt.Sprintf("%d devices", devices)
}

func orAll(expression string) string {
	if expression == "" {
		return "all"
	}
	return expression
}

// begin runs a planned round in the background.
func (s *Service) begin(r Round, devices []fleet.Device) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.stopping {
		return ErrStopping
	}
	ctx, cancel := context.WithCancelCause(s.ctx)
	s.running[r.ID], s.ended[r.ID] = cancel, make(chan struct{})
	s.wg.Add(1)
	s.bus.Publish("round-started", Progress{Round: r})
	go func() {
		defer s.wg.Done()
		defer cancel(nil)
		s.run(ctx, r, devices)
	}()
	return nil
}

// Resume goes on with rounds that a stop or crash interrupted.
func (s *Service) Resume(ctx context.Context) error {
	open, err := s.query(ctx, `WHERE state = ?`, Running)
	if err != nil {
		return err
	}
	for _, r := range open {
		if own := s.own.Load(); own > 0 && r.ID >= own {
			continue // it was started while this service was
		}
		waiting, err := s.waiting(ctx, r.ID)
		if err != nil {
			return err
		}
		left, err := s.devices(ctx, waiting)
		if err != nil {
			return err
		}
		s.log.Info("going on with a round", "round", r.ID, "left", len(left))
		if err := s.begin(r, left); err != nil {
			return err
		}
	}
	return nil
}

func (s *Service) run(ctx context.Context, r Round, devices []fleet.Device) {
	log := s.log.With("round", r.ID)
	log.Info("round started", "devices", len(devices), "origin", r.Origin, "account", r.Account)
	s.visitAll(ctx, log, r, devices)
	state := Finished
	if ctx.Err() != nil {
		if s.ctx.Err() != nil {
			log.Info("round interrupted; it goes on after the next start")
			s.forget(r.ID)
			return
		}
		state = Cancelled
	}
	final, err := s.end(r.ID, state)
	if err != nil {
		log.Error("the end of a round could not be recorded; it will be gone over at the next start", "error", err)
	} else {
		log.Info("round ended", "state", state, "new", final.New, "unchanged", final.Unchanged, "failed", final.Failed, "passed_over", final.PassedOver)
		if err := s.noteFreshness(context.WithoutCancel(ctx)); err != nil {
			log.Error("how fresh the fleet is could not be noted", "error", err)
		}
		s.bus.Publish("round-ended", Progress{Round: final})
	}
	s.forget(r.ID)
}

// visitAll visits the devices, as many at a time as there are slots for all
// rounds together, and returns when each visit is recorded.
func (s *Service) visitAll(ctx context.Context, log *slog.Logger, r Round, devices []fleet.Device) {
	if err := s.prepare(ctx); err != nil && ctx.Err() == nil {
		log.Error("limits of sites and jump hosts could not be read; none are kept", "error", err)
	}
	q, end := newQueue(ctx, &s.limits)
	defer end()
	now := time.Now()
	// Those that failed last time go first: they are likely to take long, and
	// nobody should wait for them at the end.
	slices.SortStableFunc(devices, func(x, y fleet.Device) int { return trouble(x) - trouble(y) })
	for i := range devices {
		d := devices[i]
		q.items = append(q.items, &item{device: d, keys: keysOf(&d), notBefore: now.Add(r.spread * time.Duration(i) / time.Duration(len(devices)))})
	}
	s.mu.Lock()
	var once *vault.Credential
	if c, ok := s.once[r.ID]; ok {
		once = &c
	}
	s.mu.Unlock()
	snapshots := snapshots{archive: s.archive, devices: devices}
	var workers, filing sync.WaitGroup
	var work func()
	work = func() {
		for it := q.next(); it != nil; it = q.next() {
			s.slots <- struct{}{}
			it.tries++
			// A visit that takes long makes room, so that slow and silent devices
			// hold up no others.
			aside := s.stepAside(func() { workers.Go(work) })
			o, b := s.one(ctx, r, it, snapshots.of(ctx, it), once)
			stoodAside := aside()
			switch again := s.again(ctx, r, it, o); {
			case o == nil: // the service stops: this visit is made again at the next start
				q.done(it, nil)
			case again != nil:
				q.done(it, again)
			default:
				// Recording waits for company: the next visit need not.
				s.desk <- struct{}{}
				filing.Go(func() {
					defer func() { <-s.desk }()
					defer q.done(it, nil)
					s.conclude(log, r, it.device, b, *o)
				})
			}
			if stoodAside {
				return // somebody else has this one's place
			}
		}
	}
	for range min(cap(s.slots), len(devices)) {
		workers.Go(work)
	}
	workers.Wait()
	filing.Wait()
}

func trouble(d fleet.Device) int {
	if d.Problem != "" {
		return 0
	}
	return 1
}

// long is how long a visit keeps its slot.
const long = 5 * time.Second

// stepAside gives the slot of a visit back when the visit ends, or earlier when
// it takes long; instead is then called, to put another in its place. The
// result says whether that happened.
func (s *Service) stepAside(instead func()) (ended func() bool) {
	const running, gone, aside = 0, 1, 2
	var state atomic.Int32
	replaced := make(chan struct{})
	timer := time.AfterFunc(long, func() {
		select {
		case s.aside <- struct{}{}:
		default:
			return // too many do already
		}
		if !state.CompareAndSwap(running, aside) {
			<-s.aside
			return
		}
		<-s.slots
		instead()
		close(replaced)
	})
	return func() bool {
		timer.Stop()
		if state.CompareAndSwap(running, gone) {
			<-s.slots
			return false
		}
		<-replaced // the other must have begun before this one ends
		<-s.aside
		return true
	}
}

// again is the item with which a device comes once more in the same round: a
// failure that may pass, while there are tries left.
func (s *Service) again(ctx context.Context, r Round, it *item, o *outcome) *item {
	if o == nil || o.kind != Failed || it.tries >= r.tries || ctx.Err() != nil || !mayPass[o.err.Code] {
		return nil
	}
	next := *it
	next.notBefore = time.Now().Add(s.pause(it.tries))
	return &next
}

// mayPass are the reasons that a second try can get the better of.
var mayPass = map[reason.Code]bool{
	reason.Refused: true, reason.Unreachable: true, reason.ConnectTimeout: true, reason.NameUnknown: true, reason.JumpFailed: true,
	reason.Silent: true, reason.NoPrompt: true, reason.Hung: true, reason.HungUp: true, reason.TooManySessions: true, reason.LockedByAnother: true,
	reason.LoginServerDown: true, reason.DeviceError: true, reason.Incomplete: true, reason.Moving: true, reason.NothingSent: true,
}

// prepare reads what all visits of a round need to know.
func (s *Service) prepare(ctx context.Context) error {
	sites, err := s.fleet.Sites(ctx)
	if err != nil {
		return err
	}
	jumps, err := s.fleet.Jumps(ctx)
	if err != nil {
		return err
	}
	caps := map[string]int{}
	closed := map[string]fleet.Site{}
	for _, site := range sites {
		caps[siteKey(site.Name)] = site.AtOnce
		if len(site.Closed) > 0 {
			closed[strings.ToLower(site.Name)] = site
		}
	}
	for _, j := range jumps {
		caps[jumpKey(j.Name)] = j.AtOnce
	}
	s.limits.set(caps)
	s.mu.Lock()
	s.closed = closed
	s.mu.Unlock()
	return s.serials.load(ctx, s.fleet)
}

// snapshots reads the newest revisions of a round's devices in portions, as
// they are needed.
type snapshots struct {
	archive *archive.Archive
	devices []fleet.Device
	mu      sync.Mutex
	by      map[int64]*archive.Snapshot
	read    int // devices read so far
}

func (s *snapshots) of(ctx context.Context, it *item) *archive.Snapshot {
	if it.tries > 1 {
		return s.archive.NoSnapshot()
	}
	device := it.device.ID
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.by == nil {
		s.by = map[int64]*archive.Snapshot{}
	}
	for s.by[device] == nil && s.read < len(s.devices) {
		portion := s.devices[s.read:min(s.read+256, len(s.devices))]
		s.read += len(portion)
		known, _ := s.archive.Snapshot(ctx, ids(portion)) // what it lacks is read again at the visit
		for _, d := range portion {
			s.by[d.ID] = known
		}
	}
	known := s.by[device]
	delete(s.by, device)
	return known
}

func (s *Service) forget(id int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	close(s.ended[id])
	delete(s.once, id)
	delete(s.running, id)
	delete(s.ended, id)
}

// end closes a round; what was not visited is passed over.
func (s *Service) end(id int64, state State) (Round, error) {
	ctx := context.Background()
	waiting, err := s.waiting(ctx, id)
	if err != nil {
		return Round{}, err
	}
	err = s.db.Write(ctx, func(tx *store.Tx) error {
		for _, device := range waiting {
			if err := record(tx, id, device, outcome{kind: PassedOver, err: reason.New(reason.Cancelled, "The round was cancelled before its turn came.")}, 0, nil); err != nil {
				return err
			}
		}
		_, err := tx.Exec(`UPDATE rounds SET state = ?, ended_at = ?, plan = NULL, last_visit = (SELECT coalesce(max(id), 0) FROM visits),
			(unchanged, fresh, failed, passed_over) = (SELECT `+counts+` FROM visits WHERE id >= first_visit AND round_id = ?3) WHERE id = ?3`,
			state, store.Stamp(s.now()), id)
		return err
	})
	if err != nil {
		return Round{}, err
	}
	return s.Get(ctx, id)
}

// counts is the visits of each outcome.
const counts = `count(*) FILTER (WHERE outcome IN (0, 4)), count(*) FILTER (WHERE outcome = 1), count(*) FILTER (WHERE outcome = 2), count(*) FILTER (WHERE outcome = 3)`

// one makes one visit. Without an outcome nothing is to be recorded: the
// service stops, or the end of the round records it.
func (s *Service) one(ctx context.Context, r Round, it *item, known *archive.Snapshot, once *vault.Credential) (*outcome, brought) {
	d := it.device
	o := &outcome{started: s.now(), tries: it.tries}
	begun := time.Now()
	var b brought
	passOver := func(why *reason.Error) { o.kind, o.err = PassedOver, why }
	switch {
	case ctx.Err() != nil:
		return nil, b
	case d.State == fleet.Paused:
		passOver(reason.New(reason.Paused, "The device is paused."))
	case r.Origin == "schedule" && s.isClosed(d.Site):
		passOver(reason.New(reason.ClosedHours, "Rounds rest at %s at this hour.", d.Site))
	case s.visitedSince(d.ID, r.Started):
		passOver(reason.New(reason.AlreadyVisited, "Another round has visited this device since this one began."))
	default:
		var err error
		ctx, story := listen(ctx)
		b, err = s.visit(ctx, d, known, once)
		if err != nil || r.records {
			o.steps = story.told()
		} else {
			b.session = nil
		}
		if err != nil && s.ctx.Err() != nil {
			return nil, b
		}
		if err != nil {
			o.kind = Failed
			if !errors.As(err, &o.err) {
				o.err = reason.New(reason.Storage, "The visit failed: %w.", err)
			}
		}
	}
	o.took = time.Since(begun)
	return o, b
}

func (s *Service) isClosed(site string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	where, ok := s.closed[strings.ToLower(site)]
	return ok && where.IsClosed(s.now())
}

// visitedSince reports whether a good visit that began after t has been recorded.
func (s *Service) visitedSince(device int64, t time.Time) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.visited[device].After(t)
}

// conclude records what became of a visit and tells about it.
func (s *Service) conclude(log *slog.Logger, round Round, d fleet.Device, b brought, o outcome) {
	filed, err := s.file(round, d, b, o)
	if err != nil {
		// Nothing of this visit was written. Say so, with what little room there is.
		log.Error("a visit could not be recorded", "device", d.Name, "error", err)
		var failure *reason.Error
		if !errors.As(storageError(err), &failure) {
			return
		}
		o.kind, o.err = Failed, failure
		if filed, err = s.file(round, d, brought{}, o); err != nil {
			log.Error("its failure could not be recorded either", "device", d.Name, "error", err)
			return
		}
	}
	o = filed
	if o.err == nil {
		s.mu.Lock()
		s.visited[d.ID] = o.started
		s.mu.Unlock()
	}
	v := Visit{Device: d.Name, DeviceID: d.ID, Site: d.Site, Platform: d.Platform, Outcome: o.kind, Started: o.started, Took: o.took, Tries: o.tries, Undecidable: o.undecidable}
	if o.err != nil {
		v.Reason, v.What = o.err.Code, o.err.What
	}
	if s.metrics != nil {
		s.metrics.VisitEnded(v.Outcome, v.Reason, v.Took)
	}
	if o.kind == Failed {
		log.Warn("visit failed", "device", d.Name, "reason", v.Reason, "what", v.What, "took", v.Took)
	} else {
		log.Debug("visit ended", "device", d.Name, "outcome", v.Outcome, "took", v.Took)
	}
	s.bus.Publish("visit-ended", Progress{Round: Round{ID: round.ID}, Visit: &v})
}

// Cancel stops a running round: visits in flight end, the rest is passed over.
func (s *Service) Cancel(ctx context.Context, id int64, by string) (Round, error) {
	r, err := s.Get(ctx, id)
	if err != nil {
		return r, err
	}
	s.mu.Lock()
	cancel, running := s.running[id]
	s.mu.Unlock()
	if !running {
		return r, nil
	}
	cancel(reason.New(reason.Cancelled, "The round was cancelled by %s.", by))
	err = s.db.Write(ctx, func(tx *store.Tx) error {
		return journal.Append(tx, journal.Entry{At: s.now(), Account: by, Action: "round cancel", Object: fmt.Sprintf("round %d", id)})
	})
	if err != nil {
		return r, err
	}
	return s.Wait(ctx, id)
}

// Wait returns when a round has ended, or the service or ctx has.
func (s *Service) Wait(ctx context.Context, id int64) (Round, error) {
	s.mu.Lock()
	ended := s.ended[id]
	s.mu.Unlock()
	if ended != nil {
		select {
		case <-ended:
		case <-ctx.Done():
			return Round{}, ctx.Err()
		}
	}
	return s.Get(ctx, id)
}

// Get is one round.
func (s *Service) Get(ctx context.Context, id int64) (Round, error) {
	list, err := s.query(ctx, `WHERE id = ?`, id)
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("%w: %d", ErrUnknown, id)
	}
	if err != nil {
		return Round{}, err
	}
	return list[0], nil
}

// List is rounds older than the one with id before (0: the newest), newest first.
func (s *Service) List(ctx context.Context, before int64, limit int) ([]Round, error) {
	if before == 0 {
		before = 1 << 62
	}
	return s.query(ctx, `WHERE id < ? ORDER BY id DESC LIMIT ?`, before, limit)
}

func (s *Service) query(ctx context.Context, where string, args ...any) ([]Round, error) {
	rows, err := s.db.Query(ctx, `SELECT id, origin, account, schedule, selector, state, started_at, ended_at, planned, fresh, unchanged, failed, passed_over, spread, tries, records FROM rounds `+where, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Round
	for rows.Next() {
		var r Round
		var started, ended, spread int64
		if err := rows.Scan(&r.ID, &r.Origin, &r.Account, &r.Schedule, &r.Selector, &r.State, &started, &ended, &r.Planned, &r.New, &r.Unchanged, &r.Failed, &r.PassedOver, &spread, &r.tries, &r.records); err != nil {
			return nil, err
		}
		r.Started, r.Ended, r.spread = store.Time(started), store.Time(ended), time.Duration(spread)*time.Second
		list = append(list, r)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return nil, err
	}
	for i := range list { // the counts of a running round are not in its row yet
		if r := &list[i]; r.State == Running {
			if err := s.db.QueryRow(ctx, `SELECT `+counts+` FROM visits WHERE id >= (SELECT first_visit FROM rounds WHERE id = ?1) AND round_id = ?1`, r.ID).Scan(&r.Unchanged, &r.New, &r.Failed, &r.PassedOver); err != nil {
				return nil, err
			}
		}
	}
	return list, nil
}

// order puts the visits that need somebody first.
var order = map[Outcome]int{Failed: 0, PassedOver: 1, Changed: 2, Waiting: 3, Unchanged: 4}

// Visits is all visits of a round, failures first.
func (s *Service) Visits(ctx context.Context, id int64) ([]Visit, error) {
	list, err := s.visits(ctx, id, 0)
	if err != nil {
		return nil, err
	}
	waiting, err := s.waiting(ctx, id)
	if err != nil {
		return nil, err
	}
	left, err := s.devices(ctx, waiting)
	if err != nil {
		return nil, err
	}
	for _, d := range left {
		list = append(list, Visit{Device: d.Name, DeviceID: d.ID, Site: d.Site, Platform: d.Platform})
	}
	sort.SliceStable(list, func(i, j int) bool { return order[list[i].Outcome] < order[list[j].Outcome] })
	return list, nil
}

// visits is the visits of a round that have ended; with a device, those to it.
func (s *Service) visits(ctx context.Context, id, device int64) ([]Visit, error) {
	rows, err := s.db.Query(ctx, `SELECT d.name, d.id, d.site, d.platform, v.outcome, r.started_at + v.started * 1000, v.took, coalesce(n.reason, ''), coalesce(n.what, ''), coalesce(n.tries, 1), coalesce(n.undecidable, 0)
		FROM rounds r JOIN visits v ON v.id BETWEEN r.first_visit AND r.last_visit AND v.round_id = r.id JOIN devices d ON d.id = v.device_id LEFT JOIN visit_notes n USING (round_id, device_id) WHERE r.id = ?1 AND (?2 = 0 OR v.device_id = ?2) ORDER BY d.name`, id, device)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Visit
	for rows.Next() {
		var v Visit
		var outcome int
		var started, took int64
		if err := rows.Scan(&v.Device, &v.DeviceID, &v.Site, &v.Platform, &outcome, &started, &took, &v.Reason, &v.What, &v.Tries, &v.Undecidable); err != nil {
			return nil, err
		}
		v.Undecidable = v.Undecidable || outcome == onlyUndecidable
		v.Outcome, v.Started, v.Took = outcomes[outcome], store.Time(started), time.Duration(took)*time.Millisecond
		list = append(list, v)
	}
	return list, rows.Err()
}
