package signals

import (
	"context"
	"errors"
	"sync"
	"time"

	"vergekeep/core/dialect"
	"vergekeep/core/selector"
	"vergekeep/service/fleet"
	"vergekeep/service/rounds"
	"vergekeep/wire/netconf"
)

// subscriptions are the sessions that listen for notifications.
type subscriptions struct {
	mu   sync.Mutex
	live map[int64]bool // by device: whether it listens at the moment
}

// Listening is how many devices' notifications are listened to, and how many are
// meant to be.
func (s *Service) Listening() (now, meant int) {
	s.subs.mu.Lock()
	defer s.subs.mu.Unlock()
	for _, is := range s.subs.live {
		if is {
			now++
		}
	}
	return now, len(s.subs.live)
}

// maxSubscriptions is how many sessions are held open.
const maxSubscriptions = 2000

// pauses is how long a session is left alone after it ended.
var pauses = [...]time.Duration{2 * time.Second, 10 * time.Second, time.Minute, 5 * time.Minute, 15 * time.Minute}

// listening keeps a session open to each device whose dialect knows notifications.
func (s *Service) listening(ctx context.Context) {
	running := map[int64]context.CancelFunc{}
	var wg sync.WaitGroup
	defer wg.Wait()
	tick := time.NewTicker(5 * time.Second)
	defer tick.Stop()
	for {
		wanted, err := s.wanted(ctx)
		if err != nil && ctx.Err() == nil {
			s.Log.Error("which devices notify could not be read", "error", err)
		}
		if err == nil {
			for id, end := range running {
				if _, still := wanted[id]; !still {
					end()
					delete(running, id)
				}
			}
			for id, d := range wanted {
				if running[id] != nil || len(running) >= maxSubscriptions {
					continue
				}
				one, end := context.WithCancel(ctx)
				running[id] = end
				wg.Go(func() { s.listen(one, d.ID) })
			}
		}
		select {
		case <-ctx.Done():
			for _, end := range running {
				end()
			}
			return
		case <-tick.C:
		}
	}
}

// wanted is the devices to listen to: those that have been captured, so that their
// host key is known, and whose dialect has signals by notification.
func (s *Service) wanted(ctx context.Context) (map[int64]fleet.Device, error) {
	list, err := s.Fleet.List(ctx, selector.Selector{})
	if err != nil {
		return nil, err
	}
	wanted := map[int64]fleet.Device{}
	for _, d := range list {
		if d.State != fleet.Active || d.LastGood.IsZero() {
			continue
		}
		dl, err := s.Fleet.Dialect(ctx, &d)
		if err != nil {
			return nil, err
		}
		if dl == nil || dl.Reach.Channel != dialect.Netconf {
			continue
		}
		for _, sig := range dl.Signals {
			if sig.Notification != "" {
				wanted[d.ID] = d
				break
			}
		}
	}
	return wanted, nil
}

// listen keeps one session open until ctx ends.
func (s *Service) listen(ctx context.Context, id int64) {
	state := func(live bool) {
		s.subs.mu.Lock()
		defer s.subs.mu.Unlock()
		if s.subs.live == nil {
			s.subs.live = map[int64]bool{}
		}
		s.subs.live[id] = live
	}
	defer func() {
		s.subs.mu.Lock()
		defer s.subs.mu.Unlock()
		delete(s.subs.live, id)
	}()
	for tries := 0; ctx.Err() == nil; tries++ {
		state(false)
		d, err := s.Fleet.ByID(ctx, id)
		if err == nil {
			err = s.Rounds.Listen(ctx, d, func() { state(true); tries = 0 }, func(n netconf.Notification) {
				m := dialect.Message{Medium: dialect.ByNotification, Name: n.Name, Values: n.Values}
				s.Notified(d.Name, m, s.Now())
			})
		}
		if ctx.Err() != nil {
			return
		}
		pause := pauses[min(tries, len(pauses)-1)]
		if errors.Is(err, rounds.ErrSilent) {
			pause = time.Hour // it cannot; it may after an upgrade
		}
		s.Log.Debug("a session that listens for notifications has ended", "device", d.Name, "error", err, "again in", pause)
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
}
