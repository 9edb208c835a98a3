package notify

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/robfig/cron/v3"

	"vergekeep/core/selector"
	"vergekeep/core/syslog"
	"vergekeep/service/fleet"
	"vergekeep/service/journal"
	"vergekeep/service/rounds"
	"vergekeep/store"
	"vergekeep/wire/mail"
	"vergekeep/wire/outlet"
)

// Delivery is something that is to be sent, or was.
type Delivery struct {
	ID           int64
	Subscription string
	Channel      string
	Notices      []int64
	Digest       bool
	Made, Due    time.Time
	Tries        int
	State        string // waiting, sent, dead
	Trouble      string
	Done         time.Time
}

// The states of deliveries.
const (
	Waiting = "waiting"
	Sent    = "sent"
	Dead    = "dead" // it was tried for three days, or refused for good
)

// pauses are how long a delivery rests after a try that failed; giveUp is for how
// long it is tried.
var pauses = [...]time.Duration{30 * time.Second, 2 * time.Minute, 5 * time.Minute, 15 * time.Minute, 30 * time.Minute, time.Hour, 2 * time.Hour, 4 * time.Hour}

const giveUp = 3 * 24 * time.Hour

// Run tells what happens until ctx ends.
func (s *Service) Run(ctx context.Context) {
	stale := time.Time{}
	s.Bus.Loop(ctx, 10*time.Second, s.wake, []string{"change", "round-ended"}, func() {
		if now := time.Now(); now.Sub(stale) > 5*time.Minute {
			stale = now
			if err := s.noteStale(ctx); err != nil && ctx.Err() == nil {
				s.Log.Error("which devices are stale could not be noted", "error", err)
			}
		}
		if err := s.Work(ctx); err != nil && ctx.Err() == nil {
			s.Log.Error("what happened could not be told; it is tried again", "error", err)
		}
	})
}

// Work does what there is to do now: it notes rounds that ended, finds out who wants
// to know of what, and sends what is due.
func (s *Service) Work(ctx context.Context) error {
	s.busy.Lock()
	defer s.busy.Unlock()
	return errors.Join(s.noteRounds(ctx), s.sort(ctx), s.digests(ctx), s.send(ctx), s.reports(ctx))
}

// noteRounds notes rounds that have ended, but for those that a signal began.
func (s *Service) noteRounds(ctx context.Context) error {
	rows, err := s.DB.Query(ctx, `SELECT id, origin, account, schedule, state, planned, fresh, failed, ended_at FROM rounds WHERE ended_at > 0 AND told = 0 ORDER BY id LIMIT 500`)
	if err != nil {
		return err
	}
	type ended struct {
		rounds.Round
		at int64
	}
	var list []ended
	for rows.Next() {
		var r ended
		if err := rows.Scan(&r.ID, &r.Origin, &r.Account, &r.Schedule, &r.State, &r.Planned, &r.New, &r.Failed, &r.at); err != nil {
			return errors.Join(err, rows.Close())
		}
		list = append(list, r)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil || len(list) == 0 {
		return err
	}
	return s.DB.Write(ctx, func(tx *store.Tx) error {
		for _, r := range list {
			if r.Origin != "signal" { // its change, or that the device is stale, is told by itself
				n := Notice{At: store.Time(r.at), Kind: Round, Round: r.ID, Title: fmt.Sprintf("Round %d over %s ended: %d new, %d failed", r.ID, devices(r.Planned), r.New, r.Failed)}
				if r.Failed > 0 {
					n.Kind = Failures
				}
				if r.Schedule != "" {
					n.Detail = "By the schedule " + r.Schedule + "."
				}
				if err := insert(tx, n); err != nil {
					return err
				}
			}
			if _, err := tx.Exec(`UPDATE rounds SET told = 1 WHERE id = ?`, r.ID); err != nil {
				return err
			}
		}
		return nil
	})
}

func devices(n int) string {
	if n == 1 {
		return "1 device"
	}
	return fmt.Sprintf("%d devices", n)
}

// noteStale notes devices that have become stale since their last good capture.
func (s *Service) noteStale(ctx context.Context) error {
	list, err := s.Fleet.List(ctx, selector.Selector{})
	if err != nil {
		return err
	}
	for _, d := range list {
		if d.Freshness != fleet.Stale || d.State != fleet.Active {
			continue
		}
		var told int64
		if err := s.DB.QueryRow(ctx, `SELECT coalesce(max(at), 0) FROM notices WHERE kind = ? AND device_id = ?`, Stale, d.ID).Scan(&told); err != nil {
			return err
		}
		if told > store.Stamp(d.LastGood) {
			continue
		}
		n := Notice{At: s.Now(), Kind: Stale, DeviceID: d.ID, Title: fmt.Sprintf("%s is stale: its last good capture is of %s", d.Name, d.LastGood.UTC().Format("2006-01-02 15:04 MST")), Detail: d.ProblemWhat}
		if err := s.DB.Write(ctx, func(tx *store.Tx) error { return insert(tx, n) }); err != nil {
			return err
		}
	}
	return nil
}

// sort finds out who wants to know of notices, and makes deliveries of those that
// are to be sent at once.
func (s *Service) sort(ctx context.Context) error {
	list, err := s.query(ctx, `WHERE sorted = 0 ORDER BY id LIMIT 500`)
	if err != nil || len(list) == 0 {
		return err
	}
	subscriptions, selectors, err := s.understood(ctx)
	if err != nil {
		return err
	}
	names, err := s.byID(ctx, list)
	if err != nil {
		return err
	}
	now := s.Now()
	err = s.DB.Write(ctx, func(tx *store.Tx) error {
		for i := range list {
			n := &list[i]
			for j := range subscriptions {
				x := &subscriptions[j]
				if x.Paused || x.Digest != "" || x.At.After(n.At.Add(time.Hour)) || !x.wants(n, names[n.DeviceID], selectors[j]) {
					continue
				}
				if err := enqueue(tx, x, n.ID, now); err != nil {
					return err
				}
			}
			if _, err := tx.Exec(`UPDATE notices SET sorted = 1 WHERE id = ?`, n.ID); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, n := range list {
		s.Bus.Publish("notice", Event{n})
	}
	if len(list) == 500 {
		return s.sort(ctx)
	}
	return nil
}

// Event is the payload of the event notice.
type Event struct{ Notice Notice }

func (s *Service) understood(ctx context.Context) ([]Subscription, []selector.Selector, error) {
	list, err := s.Subscriptions(ctx)
	if err != nil {
		return nil, nil, err
	}
	selectors := make([]selector.Selector, len(list))
	for i, x := range list {
		if selectors[i], err = selector.Parse(x.Selector); err != nil {
			return nil, nil, fmt.Errorf("the subscription %s: %w", x.Name, err)
		}
	}
	return list, selectors, nil
}

func (s *Service) byID(ctx context.Context, list []Notice) (map[int64]*fleet.Device, error) {
	out := map[int64]*fleet.Device{}
	for _, n := range list {
		if n.DeviceID == 0 || out[n.DeviceID] != nil {
			continue
		}
		d, err := s.Fleet.ByID(ctx, n.DeviceID)
		if err != nil {
			return nil, err
		}
		out[n.DeviceID] = &d
	}
	return out, nil
}

// enqueue makes a delivery of a notice. In quiet hours it waits for their end; where
// there were too many within the hour, it goes out with others at its end.
func enqueue(tx *store.Tx, x *Subscription, notice int64, now time.Time) error {
	due := x.loud(now)
	var sent int
	if err := tx.QueryRow(`SELECT count(*) FROM deliveries WHERE subscription = ? AND made_at > ?`, x.Name, store.Stamp(now.Add(-time.Hour))).Scan(&sent); err != nil {
		return err
	}
	if sent >= x.PerHour {
		due = x.loud(now.Truncate(time.Hour).Add(time.Hour))
	}
	if due.After(now) { // what waits for the same moment goes out together
		var id int64
		var waiting string
		err := tx.QueryRow(`SELECT id, notices FROM deliveries WHERE subscription = ? AND state = 'waiting' AND tries = 0 AND due_at > ? ORDER BY id DESC LIMIT 1`, x.Name, store.Stamp(now)).Scan(&id, &waiting)
		if err == nil {
			var ids []int64
			if err := json.Unmarshal([]byte(waiting), &ids); err != nil {
				return err
			}
			_, err := tx.Exec(`UPDATE deliveries SET notices = ? WHERE id = ?`, encode(append(ids, notice)), id)
			return err
		}
	}
	_, err := tx.Exec(`INSERT INTO deliveries (subscription, channel, notices, made_at, due_at) VALUES (?, ?, ?, ?, ?)`, x.Name, x.Channel, encode([]int64{notice}), store.Stamp(now), store.Stamp(due))
	return err
}

// loud is the first moment from t on that is not in quiet hours.
func (x *Subscription) loud(t time.Time) time.Time {
	if x.Quiet == "" {
		return t
	}
	hours, err := fleet.ParseHours(x.Quiet)
	zone, zoneErr := time.LoadLocation(x.Zone)
	if err != nil || zoneErr != nil {
		return t
	}
	for at := t; at.Before(t.AddDate(0, 0, 8)); at = at.Truncate(time.Minute).Add(time.Minute) {
		if !hours.Hold(at.In(zone)) {
			return at
		}
	}
	return t
}

// digests makes deliveries of the digests that are due.
func (s *Service) digests(ctx context.Context) error {
	subscriptions, selectors, err := s.understood(ctx)
	if err != nil {
		return err
	}
	now := s.Now()
	for i := range subscriptions {
		x := &subscriptions[i]
		if x.Digest == "" || x.Paused {
			continue
		}
		spec, err := cron.ParseStandard(x.Digest)
		if err != nil {
			return err
		}
		zone, err := time.LoadLocation(x.Zone)
		if err != nil {
			return err
		}
		due := spec.Next(x.sentFor.In(zone))
		if due.IsZero() || due.After(now) {
			continue
		}
		for next := spec.Next(due); !next.IsZero() && !next.After(now); next = spec.Next(next) {
			due = next // what a downtime missed comes together
		}
		list, err := s.query(ctx, `WHERE at > ? AND at <= ? ORDER BY id`, store.Stamp(x.sentFor), store.Stamp(due))
		if err != nil {
			return err
		}
		names, err := s.byID(ctx, list)
		if err != nil {
			return err
		}
		var ids []int64
		for j := range list {
			if x.wants(&list[j], names[list[j].DeviceID], selectors[i]) {
				ids = append(ids, list[j].ID)
			}
		}
		err = s.DB.Write(ctx, func(tx *store.Tx) error {
			if _, err := tx.Exec(`UPDATE subscriptions SET sent_for = ? WHERE name = ?`, store.Stamp(due), x.Name); err != nil {
				return err
			}
			if len(ids) == 0 && !x.Idle {
				return nil
			}
			_, err := tx.Exec(`INSERT INTO deliveries (subscription, channel, notices, digest, made_at, due_at) VALUES (?, ?, ?, 1, ?, ?)`, x.Name, x.Channel, encode(ids), store.Stamp(now), store.Stamp(now))
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

const deliveryColumns = `id, subscription, channel, notices, digest, made_at, due_at, tries, state, trouble, done_at`

func (s *Service) deliveries(ctx context.Context, where string, args ...any) ([]Delivery, error) {
	rows, err := s.DB.Query(ctx, `SELECT `+deliveryColumns+` FROM deliveries `+where, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Delivery
	for rows.Next() {
		var d Delivery
		var notices string
		var made, due, done int64
		if err := rows.Scan(&d.ID, &d.Subscription, &d.Channel, &notices, &d.Digest, &made, &due, &d.Tries, &d.State, &d.Trouble, &done); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(notices), &d.Notices); err != nil {
			return nil, err
		}
		d.Made, d.Due, d.Done = store.Time(made), store.Time(due), store.Time(done)
		list = append(list, d)
	}
	return list, rows.Err()
}

// Deliveries are those before one (0: the newest), newest first; in a state where it
// is given.
func (s *Service) Deliveries(ctx context.Context, state string, before int64, limit int) ([]Delivery, error) {
	if before == 0 {
		before = 1 << 62
	}
	return s.deliveries(ctx, `WHERE id < ?1 AND (?2 = '' OR state = ?2) ORDER BY id DESC LIMIT ?3`, before, state, limit)
}

// Retry has dead deliveries, and those that wait after a failure, tried again now.
func (s *Service) Retry(ctx context.Context, id int64, by string) error {
	err := s.DB.Write(ctx, func(tx *store.Tx) error {
		res, err := tx.Exec(`UPDATE deliveries SET state = 'waiting', due_at = ?1, made_at = ?1 WHERE id = ?2 AND state <> 'sent'`, store.Stamp(s.Now()), id)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			if err == nil {
				err = fmt.Errorf("%w: no delivery %d waits or is dead", ErrUnknown, id)
			}
			return err
		}
		return journal.Append(tx, journal.Entry{At: s.Now(), Account: by, Action: "delivery retry", Object: fmt.Sprintf("delivery %d", id)})
	})
	if err == nil {
		select {
		case s.wake <- struct{}{}:
		default:
		}
	}
	return err
}

// send sends what is due. A channel that fails is left alone for this time, so that
// one that is down costs one try and not all of them.
func (s *Service) send(ctx context.Context) error {
	list, err := s.deliveries(ctx, `WHERE state = 'waiting' AND due_at <= ? ORDER BY due_at, id LIMIT 200`, store.Stamp(s.Now()))
	if err != nil {
		return err
	}
	down := map[string]error{}
	for i := range list {
		d := &list[i]
		if ctx.Err() != nil {
			return ctx.Err()
		}
		err := down[d.Channel]
		if err == nil {
			err = s.deliver(ctx, d)
		}
		if ctx.Err() != nil {
			return ctx.Err() // nothing is known of it: it is tried again
		}
		if err != nil && !lasting(err) {
			down[d.Channel] = err
		}
		if err := s.settle(ctx, d, err); err != nil {
			return err
		}
	}
	return nil
}

// lasting reports whether an error would come again.
func lasting(err error) bool {
	return mail.Lasting(err) || errors.Is(err, mail.ErrAddress) || errors.Is(err, outlet.ErrTarget) || errors.Is(err, ErrUnknown)
}

// settle writes what became of a try.
func (s *Service) settle(ctx context.Context, d *Delivery, err error) error {
	now := s.Now()
	state, trouble, due, done := Sent, "", d.Due, now
	if err != nil {
		state, trouble, due, done = Waiting, err.Error(), now.Add(pauses[min(d.Tries, len(pauses)-1)]), time.Time{}
		if lasting(err) || now.Sub(d.Made) > giveUp {
			state, done = Dead, now
		}
		s.Log.Warn("word could not be sent", "channel", d.Channel, "delivery", d.ID, "state", state, "error", err)
	}
	if len(trouble) > 500 {
		trouble = trouble[:500]
	}
	return s.DB.Write(context.WithoutCancel(ctx), func(tx *store.Tx) error {
		_, err := tx.Exec(`UPDATE deliveries SET state = ?, trouble = ?, tries = tries + 1, due_at = ?, done_at = ? WHERE id = ?`, state, trouble, store.Stamp(due), store.Stamp(done), d.ID)
		return err
	})
}

// deliver sends one delivery.
func (s *Service) deliver(ctx context.Context, d *Delivery) error {
	c, err := s.channel(ctx, d.Channel)
	if err != nil {
		return err
	}
	if c.Kind == Console {
		return nil // it is there already
	}
	list, err := s.query(ctx, `WHERE id IN (SELECT value FROM json_each(?)) ORDER BY id`, encode(d.Notices))
	if err != nil {
		return err
	}
	x, err := s.subscription(ctx, d.Subscription)
	if err != nil {
		return err
	}
	return s.through(ctx, &c, &x, list, fmt.Sprintf("delivery-%d", d.ID), d.Digest)
}

func (s *Service) subscription(ctx context.Context, name string) (Subscription, error) {
	list, err := s.Subscriptions(ctx)
	for _, x := range list {
		if x.Name == name {
			return x, nil
		}
	}
	if err == nil {
		err = fmt.Errorf("%w: the subscription %q", ErrUnknown, name)
	}
	return Subscription{}, err
}

// through sends notices through a channel.
func (s *Service) through(ctx context.Context, c *Channel, x *Subscription, list []Notice, id string, digest bool) error {
	switch c.Kind {
	case Mail:
		letter, err := s.compose(ctx, x, list, digest)
		if err != nil {
			return err
		}
		letter.To, letter.ID = fleet.SplitAddresses(c.Target), id+"@vergekeep.invalid"
		return s.Post.Send(ctx, letter, journal.System)
	case Hook:
		var key []byte
		if c.Credential != "" {
			cred, err := s.Vault.Get(ctx, c.Credential)
			if err == nil {
				cred, err = s.Vault.Resolve(ctx, cred)
			}
			if err != nil {
				return err
			}
			if key = []byte(cred.Token); len(key) == 0 {
				key = []byte(cred.Password)
			}
		}
		for i := range list {
			data, err := s.eventData(ctx, &list[i])
			if err != nil {
				return err
			}
			e := outlet.Event{ID: fmt.Sprintf("notice-%d", list[i].ID), Source: s.URL(), Type: "vergekeep." + string(list[i].Kind), Time: list[i].At, Data: data, Subject: s.deviceName(ctx, list[i].DeviceID)}
			if err := outlet.Post(ctx, c.Target, key, e, s.Now()); err != nil {
				return err
			}
		}
		return nil
	case Syslog:
		var lines []string
		for i := range list {
			n := &list[i]
			severity := 5 // notice
			if n.Kind == Outside || n.Kind == Failures || n.Kind == Stale {
				severity = 4 // warning
			}
			params := []syslog.Param{{Name: "notice", Value: fmt.Sprint(n.ID)}}
			if name := s.deviceName(ctx, n.DeviceID); name != "" {
				params = append(params, syslog.Param{Name: "device", Value: name})
			}
			if n.Change != 0 {
				params = append(params, syslog.Param{Name: "change", Value: fmt.Sprint(n.Change)}, syslog.Param{Name: "severity", Value: n.Severity.String()})
			}
			lines = append(lines, syslog.Format(severity, n.At, hostName(), "vergekeep", string(n.Kind), "vergekeep", params, n.Title))
		}
		return outlet.Syslog(ctx, c.Target, lines, nil)
	}
	return nil
}

func (s *Service) deviceName(ctx context.Context, id int64) string {
	if id == 0 {
		return ""
	}
	d, err := s.Fleet.ByID(ctx, id)
	if err != nil {
		return ""
	}
	return d.Name
}
