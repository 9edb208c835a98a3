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
	"sort"
	"sync"
	"time"

	"vergekeep/archive"
	"vergekeep/core/dialect"
	"vergekeep/core/reason"
	"vergekeep/service/events"
	"vergekeep/service/fleet"
	"vergekeep/service/journal"
	"vergekeep/service/vault"
	"vergekeep/store"
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
	Selector string
	State    State
	Started  time.Time
	Ended    time.Time
	Planned  int

	New, Unchanged, Failed, PassedOver int
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

	slots chan struct{}
	ctx   context.Context
	stop  context.CancelCauseFunc
	wg    sync.WaitGroup

	mu       sync.Mutex
	stopping bool
	visiting map[int64]bool
	running  map[int64]context.CancelCauseFunc
	ended    map[int64]chan struct{}

	credMu   sync.Mutex
	credAt   time.Time
	credList []vault.Credential
}

// New makes a service. Close it when done.
func New(c Config) *Service {
	s := &Service{
		db: c.DB, archive: c.Archive, fleet: c.Fleet, vault: c.Vault, dialects: c.Dialects, bus: c.Bus, log: c.Log, now: c.Now, metrics: c.Metrics,
		slots: make(chan struct{}, max(c.Concurrency, 1)), visiting: map[int64]bool{}, running: map[int64]context.CancelCauseFunc{}, ended: map[int64]chan struct{}{},
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
}

// Start plans a round over the devices that the selector picks and begins it.
func (s *Service) Start(ctx context.Context, expression, origin, account string) (Round, error) {
	devices, err := s.fleet.Pick(ctx, expression)
	if err != nil {
		return Round{}, err
	}
	r := Round{Origin: origin, Account: account, Selector: expression, State: Running, Started: s.now(), Planned: len(devices)}
	err = s.db.Write(ctx, func(tx *store.Tx) error {
		res, err := tx.Exec(`INSERT INTO rounds (origin, account, selector, state, started_at, planned) VALUES (?, ?, ?, ?, ?, ?)`,
			origin, account, expression, Running, store.Stamp(r.Started), r.Planned)
		if err != nil {
			return err
		}
		if r.ID, err = res.LastInsertId(); err != nil {
			return err
		}
		for _, d := range devices {
			if _, err := tx.Exec(`INSERT INTO visits (round_id, device_id) VALUES (?, ?)`, r.ID, d.ID); err != nil {
				return err
			}
		}
		return journal.Append(tx, journal.Entry{At: r.Started, Account: account, Action: "round start", Object: fmt.Sprintf("round %d", r.ID), Detail: fmt.Sprintf("%d devices: %s", r.Planned, orAll(expression))})
	})
	if err != nil {
		return r, err
	}
	return r, s.begin(r, devices)
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
		visits, err := s.Visits(ctx, r.ID)
		if err != nil {
			return err
		}
		var left []fleet.Device
		for _, v := range visits {
			if v.Outcome == Waiting {
				d, err := s.fleet.ByID(ctx, v.DeviceID)
				if err != nil {
					return err
				}
				left = append(left, d)
			}
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
	var wg sync.WaitGroup
	for _, d := range devices {
		select {
		case s.slots <- struct{}{}:
		case <-ctx.Done():
		}
		if ctx.Err() != nil {
			break
		}
		wg.Go(func() {
			defer func() { <-s.slots }()
			s.one(ctx, log, r.ID, d)
		})
	}
	wg.Wait()
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
		s.bus.Publish("round-ended", Progress{Round: final})
	}
	s.forget(r.ID)
}

func (s *Service) forget(id int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	close(s.ended[id])
	delete(s.running, id)
	delete(s.ended, id)
}

// end closes a round; what was not visited is passed over.
func (s *Service) end(id int64, state State) (Round, error) {
	ctx := context.Background()
	err := s.db.Write(ctx, func(tx *store.Tx) error {
		res, err := tx.Exec(`UPDATE visits SET outcome = ?, reason = ?, what = ? WHERE round_id = ? AND outcome = ''`,
			PassedOver, reason.Cancelled, "The round was cancelled before its turn came.", id)
		if err != nil {
			return err
		}
		n, err := res.RowsAffected()
		if err != nil {
			return err
		}
		_, err = tx.Exec(`UPDATE rounds SET state = ?, ended_at = ?, passed_over = passed_over + ? WHERE id = ?`, state, store.Stamp(s.now()), n, id)
		return err
	})
	if err != nil {
		return Round{}, err
	}
	return s.Get(ctx, id)
}

// one makes one visit and files what became of it.
func (s *Service) one(ctx context.Context, log *slog.Logger, round int64, d fleet.Device) {
	o := outcome{started: s.now()}
	begun := time.Now()
	var b brought
	switch {
	case d.State == fleet.Paused:
		o.kind, o.err = PassedOver, reason.New(reason.Paused, "The device is paused.")
	case !s.claim(d.ID):
		o.kind, o.err = PassedOver, reason.New(reason.AlreadyVisited, "Another round was visiting this device.")
	default:
		defer s.release(d.ID)
		var err error
		b, err = s.visit(ctx, d)
		if err != nil && s.ctx.Err() != nil {
			return // the service stops: this visit is made again at the next start
		}
		if err != nil {
			o.kind = Failed
			if !errors.As(err, &o.err) {
				o.err = reason.New(reason.Storage, "The visit failed: %w.", err)
			}
		}
	}
	o.took = time.Since(begun)
	filed, err := s.file(ctx, round, d, b, o)
	if err != nil {
		// Nothing of this visit was written. Say so, with what little room there is.
		log.Error("a visit could not be recorded", "device", d.Name, "error", err)
		var failure *reason.Error
		if !errors.As(storageError(err), &failure) {
			return
		}
		o.kind, o.err = Failed, failure
		if filed, err = s.file(ctx, round, d, brought{}, o); err != nil {
			log.Error("its failure could not be recorded either", "device", d.Name, "error", err)
			return
		}
	}
	o = filed
	v := Visit{Device: d.Name, DeviceID: d.ID, Site: d.Site, Platform: d.Platform, Outcome: o.kind, Started: o.started, Took: o.took, Undecidable: o.undecidable}
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
	s.bus.Publish("visit-ended", Progress{Round: Round{ID: round}, Visit: &v})
}

func (s *Service) claim(device int64) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.visiting[device] {
		return false
	}
	s.visiting[device] = true
	return true
}

func (s *Service) release(device int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.visiting, device)
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
	rows, err := s.db.Query(ctx, `SELECT id, origin, account, selector, state, started_at, ended_at, planned, fresh, unchanged, failed, passed_over FROM rounds `+where, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Round
	for rows.Next() {
		var r Round
		var started, ended int64
		if err := rows.Scan(&r.ID, &r.Origin, &r.Account, &r.Selector, &r.State, &started, &ended, &r.Planned, &r.New, &r.Unchanged, &r.Failed, &r.PassedOver); err != nil {
			return nil, err
		}
		r.Started, r.Ended = store.Time(started), store.Time(ended)
		list = append(list, r)
	}
	return list, rows.Err()
}

// order puts the visits that need somebody first.
var order = map[Outcome]int{Failed: 0, PassedOver: 1, Changed: 2, Waiting: 3, Unchanged: 4}

// Visits is all visits of a round, failures first.
func (s *Service) Visits(ctx context.Context, id int64) ([]Visit, error) {
	rows, err := s.db.Query(ctx, `SELECT d.name, d.id, d.site, d.platform, v.outcome, v.started_at, v.took, coalesce(v.reason, ''), coalesce(v.what, ''), coalesce(v.undecidable, 0)
		FROM visits v JOIN devices d ON d.id = v.device_id WHERE v.round_id = ? ORDER BY d.name`, id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Visit
	for rows.Next() {
		var v Visit
		var started, took int64
		if err := rows.Scan(&v.Device, &v.DeviceID, &v.Site, &v.Platform, &v.Outcome, &started, &took, &v.Reason, &v.What, &v.Undecidable); err != nil {
			return nil, err
		}
		v.Started, v.Took = store.Time(started), time.Duration(took)*time.Microsecond
		list = append(list, v)
	}
	sort.SliceStable(list, func(i, j int) bool { return order[list[i].Outcome] < order[list[j].Outcome] })
	return list, rows.Err()
}
