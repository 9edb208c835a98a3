// Package signals takes what devices say of themselves, finds out which device says
// it and whether it tells of a change, waits until whoever types there has stopped,
// and has the device captured: once, however much was said.
package signals

import (
	"context"
	"log/slog"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"vergekeep/core/dialect"
	"vergekeep/core/selector"
	"vergekeep/core/syslog"
	"vergekeep/service/changes"
	"vergekeep/service/events"
	"vergekeep/service/fleet"
	"vergekeep/service/journal"
	"vergekeep/service/rounds"
	"vergekeep/service/vault"
	"vergekeep/store"
	"vergekeep/wire/inlet"
)

// State is what became of a signal.
type State string

// The states.
const (
	Waiting State = "waiting" // for quiet, and for the capture after it
	Changed State = "changed" // the capture found a change
	Nothing State = "nothing" // the capture found nothing changed
	Ours    State = "ours"    // we did it ourselves
)

// Signal is what told us that a configuration may have changed. Those that are alike
// and come together are one.
type Signal struct {
	ID               int64
	DeviceID         int64
	Device           string
	At, Last         time.Time // by arrival
	Said             time.Time // what the sender's clock said; zero where it named no year or zone
	Count            int
	Medium           dialect.Medium
	Listener, Sender string
	Account          string
	Source, Method   string
	Text             string // what may be a secret in it is concealed
	State            State
	Change           int64
}

// Config is what a service needs.
type Config struct {
	DB      *store.DB
	Fleet   *fleet.Fleet
	Rounds  *rounds.Service
	Changes *changes.Service
	Vault   *vault.Vault
	Bus     *events.Bus
	Log     *slog.Logger
	Now     func() time.Time
	// Quiet is how long nothing more has to come before a device is captured; it is
	// captured at the latest so long after the first signal.
	Quiet, Latest time.Duration
}

// The usual times.
const (
	UsualQuiet  = 15 * time.Second
	UsualLatest = 5 * time.Minute
)

// Service takes signals. It is safe for concurrent use.
type Service struct {
	Config

	table    atomic.Pointer[table]
	ours     atomic.Pointer[ours]
	incoming chan Signal
	counts   counts
	strange  strangers

	mu      sync.Mutex
	pending map[int64]*pending
	wake    chan struct{}

	subs subscriptions // to NETCONF notifications
}

type counts struct{ received, understood, unknown, dropped atomic.Int64 }

// New makes a service; Run keeps it going.
func New(c Config) *Service {
	if c.Quiet <= 0 {
		c.Quiet = UsualQuiet
	}
	if c.Latest <= 0 {
		c.Latest = max(UsualLatest, c.Quiet)
	}
	return &Service{Config: c, incoming: make(chan Signal, 16384), pending: map[int64]*pending{}, wake: make(chan struct{}, 1)}
}

// Counts are the messages since the start: all, those that told of a change, those
// from nobody that we know, and those that told of one and were one too many.
func (s *Service) Counts() (received, understood, unknown, dropped int64) {
	return s.counts.received.Load(), s.counts.understood.Load(), s.counts.unknown.Load(), s.counts.dropped.Load()
}

// Run keeps signals going until ctx ends: what arrived is written, devices that are
// quiet again are captured.
func (s *Service) Run(ctx context.Context) {
	if err := s.refresh(ctx); err != nil && ctx.Err() == nil {
		s.Log.Error("whose messages are whose could not be read", "error", err)
	}
	if err := s.resume(ctx); err != nil && ctx.Err() == nil {
		s.Log.Error("signals that were waiting could not be read", "error", err)
	}
	var wg sync.WaitGroup
	wg.Go(func() { s.write(ctx) })
	wg.Go(func() { s.captures(ctx) })
	wg.Go(func() { s.asking(ctx) })
	wg.Go(func() { s.listening(ctx) })
	again := time.NewTicker(5 * time.Second)
	defer again.Stop()
	for ctx.Err() == nil {
		select {
		case <-ctx.Done():
		case <-again.C:
			if err := s.refresh(ctx); err != nil && ctx.Err() == nil {
				s.Log.Error("whose messages are whose could not be read", "error", err)
			}
			if err := s.noteStrangers(ctx); err != nil && ctx.Err() == nil {
				s.Log.Error("unknown senders could not be noted", "error", err)
			}
		}
	}
	wg.Wait()
}

// Take takes a message from a listener. It never waits.
func (s *Service) Take(m inlet.Message) {
	s.counts.received.Add(1)
	heard := Heard{Listener: m.Listener, Address: m.From.Addr().String()}
	switch {
	case m.Trap != nil:
		heard.Key = m.Trap.Community
		relayed, name := m.Trap.Origin()
		heard.Host, heard.Relayed = name, relayed
		s.hear(heard, dialect.Message{Medium: dialect.ByTrap, Name: m.Trap.ID, Values: m.Trap.Values}, m.Arrived, nil)
	default:
		msg := syslog.Parse(m.Raw, m.Arrived, time.UTC)
		heard.Host = msg.Host
		text := strings.TrimSpace(msg.Text) // relays put a blank before it
		s.hear(heard, dialect.Message{Medium: dialect.BySyslog, Name: msg.App, Text: text}, m.Arrived, m.Raw)
	}
}

// Settle writes what has arrived and not been written, and looks at who is who
// anew. Run does so by itself.
func (s *Service) Settle(ctx context.Context) error {
	var batch []Signal
	for more := true; more; {
		select {
		case sig := <-s.incoming:
			batch = append(batch, sig)
		default:
			more = false
		}
	}
	if len(batch) > 0 {
		if err := s.keep(ctx, batch); err != nil {
			return err
		}
	}
	return s.refresh(ctx)
}

// hear finds out whose message it is, and what it tells.
func (s *Service) hear(h Heard, m dialect.Message, arrived time.Time, raw []byte) {
	t := s.table.Load()
	if t == nil {
		return
	}
	d := t.who(h)
	if d == nil {
		s.counts.unknown.Add(1)
		s.strange.note(h, m, arrived)
		return
	}
	told, known := d.dialect.Understand(m)
	if !known || !told.Changed {
		return
	}
	sig := Signal{DeviceID: d.id, Device: d.name, At: arrived, Last: arrived, Count: 1, Medium: m.Medium, Listener: h.Listener, Sender: h.Address, Account: told.Account, Source: told.Source, Method: told.Method, State: Waiting}
	if raw != nil {
		// What has no zone is told by the device's; where that is not known either,
		// its clock says nothing.
		if msg := syslog.Parse(raw, arrived, d.zone); msg.Sure || d.zone != time.UTC {
			sig.Said = msg.Time
		}
	}
	sig.Text = d.dialect.Conceal(clip(said(m)))
	s.enter(sig)
}

// Notified takes a notification of a device's own session with us.
func (s *Service) Notified(device string, m dialect.Message, arrived time.Time) {
	s.counts.received.Add(1)
	s.hear(Heard{Listener: string(m.Medium), Host: device}, m, arrived, nil)
}

// said is what a message says, for a person.
func said(m dialect.Message) string {
	if m.Medium == dialect.BySyslog {
		return strings.TrimSpace(m.Name + ": " + m.Text)
	}
	return m.Name
}

const maxText = 500

func clip(s string) string {
	if len(s) > maxText {
		s = strings.ToValidUTF8(s[:maxText], "") + "…"
	}
	return s
}

// enter takes a signal that tells of a change.
func (s *Service) enter(sig Signal) {
	s.counts.understood.Add(1)
	if s.isOurs(&sig) {
		sig.State = Ours
	}
	select {
	case s.incoming <- sig:
	default:
		// It is not lost: the device is captured all the same.
		s.counts.dropped.Add(1)
		if sig.State == Waiting {
			s.expect(sig.DeviceID, sig.At)
		}
	}
}

// write writes what arrived, together what comes together, and then has the devices
// captured.
func (s *Service) write(ctx context.Context) {
	for {
		var batch []Signal
		select {
		case <-ctx.Done():
			return
		case sig := <-s.incoming:
			batch = append(batch, sig)
		}
		for more := true; more && len(batch) < 2000; {
			select {
			case sig := <-s.incoming:
				batch = append(batch, sig)
			default:
				more = false
			}
		}
		if err := s.keep(ctx, batch); err != nil && ctx.Err() == nil {
			s.Log.Error("signals could not be written; their devices are captured all the same", "error", err)
		}
		for i := range batch {
			if batch[i].State == Waiting {
				s.expect(batch[i].DeviceID, batch[i].At)
			}
		}
	}
}

func (s *Service) keep(ctx context.Context, batch []Signal) error {
	return s.DB.Write(ctx, func(tx *store.Tx) error {
		for i := range batch {
			g := &batch[i]
			// What is like one that came within the quiet time is counted with it.
			res, err := tx.Exec(`UPDATE signals SET count = count + 1, last = max(last, ?1) WHERE id = (SELECT max(id) FROM signals
				WHERE device_id = ?2 AND at >= ?3 AND state = ?4 AND medium = ?5 AND account = ?6 AND source = ?7 AND method = ?8 AND sender = ?9)`,
				store.Stamp(g.At), g.DeviceID, store.Stamp(g.At.Add(-s.Latest)), g.State, g.Medium, g.Account, g.Source, g.Method, g.Sender)
			if err != nil {
				return err
			}
			if n, err := res.RowsAffected(); err != nil || n > 0 {
				if err != nil {
					return err
				}
				continue
			}
			if _, err := tx.Exec(`INSERT INTO signals (device_id, at, last, count, said_at, medium, listener, sender, account, source, method, text, state) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
				g.DeviceID, store.Stamp(g.At), store.Stamp(g.Last), g.Count, store.Stamp(g.Said), g.Medium, g.Listener, g.Sender, g.Account, g.Source, g.Method, g.Text, g.State); err != nil {
				return err
			}
		}
		return nil
	})
}

// late is how much later than the visit that found the change a signal may come.
const late = time.Minute

// Filed takes the signals that a visit answers, while it is being recorded. Change
// is what it found; 0 for nothing.
func (s *Service) Filed(tx *store.Tx, f rounds.Filing, change int64) error {
	if f.Answer != "" {
		if _, err := tx.Exec(`INSERT INTO answers (device_id, answer, asked_at) VALUES (?1, ?2, ?3) ON CONFLICT (device_id) DO UPDATE SET answer = ?2, asked_at = ?3, trouble = ''`, f.Device.ID, f.Answer, store.Stamp(f.At)); err != nil {
			return err
		}
	}
	began := store.Stamp(f.Began)
	// What came during the visit as well waits for the next one: the visit may have
	// missed it.
	if _, err := tx.Exec(`INSERT INTO signals (device_id, at, last, said_at, medium, listener, sender, account, source, method, text)
		SELECT device_id, last, last, 0, medium, listener, sender, account, source, method, text FROM signals WHERE device_id = ?1 AND state = 'waiting' AND at <= ?2 AND last > ?2`, f.Device.ID, began); err != nil {
		return err
	}
	if _, err := tx.Exec(`UPDATE signals SET count = count - 1, last = ?2 WHERE device_id = ?1 AND state = 'waiting' AND at <= ?2 AND last > ?2`, f.Device.ID, began); err != nil {
		return err
	}
	rows, err := tx.Query(`SELECT id, at, last, count, account, source, method FROM signals WHERE device_id = ? AND state = 'waiting' AND at <= ?`, f.Device.ID, began)
	if err != nil {
		return err
	}
	type waiting struct{ id, at int64 }
	evidence := map[int64]*changes.Evidence{}
	var list []waiting
	var found []Signal
	for rows.Next() {
		var g Signal
		var at, last int64
		if err := rows.Scan(&g.ID, &at, &last, &g.Count, &g.Account, &g.Source, &g.Method); err != nil {
			_ = rows.Close()
			return err
		}
		g.At, g.Last = store.Time(at), store.Time(last)
		found, list = append(found, g), append(list, waiting{g.ID, at})
	}
	if err := rows.Close(); err != nil {
		return err
	}
	for i, g := range found {
		to := change
		if to == 0 {
			// A visit may have found it before the signal came.
			if err := tx.QueryRow(`SELECT coalesce(max(id), 0) FROM changes WHERE device_id = ? AND found_at BETWEEN ? AND ? AND since <= ?`,
				f.Device.ID, list[i].at-late.Microseconds(), list[i].at, list[i].at).Scan(&to); err != nil {
				return err
			}
		}
		state := Nothing
		if to != 0 {
			state = Changed
			e := evidence[to]
			if e == nil {
				e = &changes.Evidence{First: g.At, Last: g.Last}
				evidence[to] = e
			}
			if g.At.Before(e.First) {
				e.First = g.At
			}
			if g.Last.After(e.Last) {
				e.Last = g.Last
			}
			e.Count += g.Count
			e.Accounts, e.Sources, e.Methods = append(e.Accounts, g.Account), append(e.Sources, g.Source), append(e.Methods, g.Method)
		}
		if _, err := tx.Exec(`UPDATE signals SET state = ?, change_id = ? WHERE id = ?`, state, to, list[i].id); err != nil {
			return err
		}
	}
	for id, e := range evidence {
		if err := s.Changes.AddEvidence(tx, id, *e); err != nil {
			return err
		}
	}
	return nil
}

// List is signals before one (0: the newest), newest first; of a device and in a
// state where these are given.
func (s *Service) List(ctx context.Context, expression string, state State, change, before int64, limit int) ([]Signal, error) {
	sel, err := selector.Parse(expression)
	if err != nil {
		return nil, err
	}
	names, err := s.Fleet.Names(ctx, sel)
	if err != nil {
		return nil, err
	}
	if before == 0 {
		before = 1 << 62
	}
	rows, err := s.DB.Query(ctx, `SELECT id, device_id, at, last, count, said_at, medium, listener, sender, account, source, method, text, state, change_id FROM signals
		WHERE id < ? AND (? = '' OR state = ?) AND (? = 0 OR change_id = ?) ORDER BY id DESC`, before, state, state, change, change)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Signal
	for rows.Next() && len(list) < limit {
		var g Signal
		var at, last, saidAt int64
		if err := rows.Scan(&g.ID, &g.DeviceID, &at, &last, &g.Count, &saidAt, &g.Medium, &g.Listener, &g.Sender, &g.Account, &g.Source, &g.Method, &g.Text, &g.State, &g.Change); err != nil {
			return nil, err
		}
		name, ok := names[g.DeviceID]
		if !ok {
			continue
		}
		g.Device, g.At, g.Last, g.Said = name, store.Time(at), store.Time(last), store.Time(saidAt)
		list = append(list, g)
	}
	return list, rows.Err()
}

// ours is what our own visits look like.
type ours struct {
	users     []inlet.User
	accounts  map[string]bool
	addresses map[string]bool
}

// isOurs reports whether we did ourselves what a signal tells of: our account did
// it, from here.
func (s *Service) isOurs(g *Signal) bool {
	o := s.ours.Load()
	if o == nil || g.Account == "" || !o.accounts[g.Account] {
		return false
	}
	return g.Source == "" || o.addresses[strings.Trim(g.Source, "[]")]
}

// Users are by whom traps of version 3 may come: the SNMP users of the vault.
func (s *Service) Users() []inlet.User {
	if o := s.ours.Load(); o != nil {
		return o.users
	}
	return nil
}

func (s *Service) readOurs(ctx context.Context) error {
	list, err := s.Vault.List(ctx)
	if err != nil {
		return err
	}
	o := &ours{accounts: map[string]bool{}, addresses: map[string]bool{}}
	for _, c := range list {
		if !c.OfSNMP() {
			o.accounts[c.Username] = true
			continue
		}
		if c.Authentication == "" {
			continue
		}
		if c, err = s.Vault.Resolve(ctx, c); err != nil {
			s.Log.Warn("traps of an SNMP user cannot be read", "credential", c.Name, "error", err)
			continue
		}
		o.users = append(o.users, inlet.User{Name: c.Username, Authentication: c.Authentication, Privacy: c.Privacy})
	}
	addresses, err := net.InterfaceAddrs()
	if err != nil {
		return err
	}
	for _, a := range addresses {
		if n, ok := a.(*net.IPNet); ok && !n.IP.IsLoopback() {
			o.addresses[n.IP.String()] = true
		}
	}
	s.ours.Store(o)
	return nil
}

var system = journal.System
