package signals

import (
	"context"
	"errors"
	"time"

	"vergekeep/core/selector"
	"vergekeep/service/fleet"
	"vergekeep/service/rounds"
)

// pending is a device that is to be captured.
type pending struct {
	first time.Time // of the signals that wait, by the clock of this process
	due   time.Time
	tries int
	// tokens are the captures that it has left; one comes every refill.
	tokens int
	filled time.Time
}

// The budget of captures by signals of one device.
const (
	burst  = 6
	refill = 5 * time.Minute
)

// retries is how long a device is left alone after a capture that failed.
var retries = [...]time.Duration{time.Minute, 5 * time.Minute, 15 * time.Minute, time.Hour, 6 * time.Hour}

// expect has a device captured when it has been quiet.
func (s *Service) expect(device int64, _ time.Time) {
	now := time.Now()
	s.mu.Lock()
	defer s.mu.Unlock()
	p := s.pending[device]
	if p == nil {
		p = &pending{tokens: burst, filled: now}
		s.pending[device] = p
	}
	if p.first.IsZero() {
		p.first, p.tries = now, 0
	}
	p.due = now.Add(s.Quiet)
	if latest := p.first.Add(s.Latest); p.due.After(latest) {
		p.due = latest
	}
	s.nudge()
}

// Forgive gives all devices their whole budget again; for measurements.
func (s *Service) Forgive() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, p := range s.pending {
		p.tokens = burst
	}
}

func (s *Service) nudge() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// resume has the devices captured whose signals were waiting when the service
// stopped.
func (s *Service) resume(ctx context.Context) error {
	rows, err := s.DB.Query(ctx, `SELECT DISTINCT device_id FROM signals WHERE state = 'waiting'`)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var device int64
		if err := rows.Scan(&device); err != nil {
			return err
		}
		s.expect(device, s.Now())
	}
	return rows.Err()
}

// captures has devices captured as they become due.
func (s *Service) captures(ctx context.Context) {
	timer := time.NewTimer(time.Hour)
	defer timer.Stop()
	for {
		due, next := s.dueNow(time.Now())
		if len(due) > 0 {
			if err := s.capture(ctx, due); err != nil && ctx.Err() == nil && !errors.Is(err, rounds.ErrStopping) {
				s.Log.Error("devices with signals could not be captured; it is tried again", "error", err)
			}
			continue
		}
		timer.Reset(next)
		select {
		case <-ctx.Done():
			return
		case <-timer.C:
		case <-s.wake:
		}
	}
}

// dueNow is the devices to capture now, each of which has spent one of its budget,
// and how long it is until the next one.
func (s *Service) dueNow(now time.Time) (due []int64, next time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	next = time.Hour
	for device, p := range s.pending {
		for p.tokens < burst && now.Sub(p.filled) >= refill {
			p.tokens++
			p.filled = p.filled.Add(refill)
		}
		if p.tokens == burst {
			p.filled = now
		}
		if p.due.IsZero() {
			if p.tokens == burst {
				delete(s.pending, device) // it has nothing to remember
			}
			continue
		}
		wait := p.due.Sub(now)
		if wait <= 0 && p.tokens == 0 {
			wait = p.filled.Add(refill).Sub(now)
		}
		if wait > 0 {
			next = min(next, wait)
			continue
		}
		due = append(due, device)
		p.tokens--
		p.due = now.Add(retries[min(p.tries, len(retries)-1)])
		p.tries++
		p.first = time.Time{}
	}
	return due, max(next, time.Millisecond)
}

// capture has devices captured whose signals still wait; of the others there is
// nothing more to do.
func (s *Service) capture(ctx context.Context, due []int64) error {
	all, err := s.waiting(ctx)
	if err != nil {
		return err
	}
	var list []fleet.Device
	var names []string
	for _, id := range due {
		if !all[id] {
			s.mu.Lock()
			if p := s.pending[id]; p != nil {
				if p.first.IsZero() { // nothing came meanwhile
					p.due = time.Time{}
				}
				p.tokens++
			}
			s.mu.Unlock()
			continue
		}
		d, err := s.Fleet.ByID(ctx, id)
		if err != nil {
			return err
		}
		if d.State != fleet.Active {
			continue
		}
		list, names = append(list, d), append(names, d.Name)
	}
	if len(list) == 0 {
		return nil
	}
	_, err = s.Rounds.StartPlan(ctx, rounds.Plan{Origin: "signal", Account: system, Selector: selector.Of(names[:min(len(names), 50)]), Devices: list, Tries: 1})
	return err
}

// waiting is the devices whose signals wait.
func (s *Service) waiting(ctx context.Context) (map[int64]bool, error) {
	rows, err := s.DB.Query(ctx, `SELECT DISTINCT device_id FROM signals WHERE state = 'waiting'`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	all := map[int64]bool{}
	for rows.Next() {
		var id int64
		if err := rows.Scan(&id); err != nil {
			return nil, err
		}
		all[id] = true
	}
	return all, rows.Err()
}
