// Package events tells whoever listens what happens, as it happens. Payloads
// have their schemas in the contract; they never hold a configuration's text.
package events

import (
	"context"
	"slices"
	"sync"
	"time"
)

// Event is one thing that happened. Data is a value of the contract's schema
// with the event's name.
type Event struct {
	ID   int64 // counts up from the start of the service
	Type string
	Data any
}

// Bus hands events to its subscribers. The zero value is ready to use.
type Bus struct {
	mu   sync.Mutex
	last int64
	subs map[*Subscription]struct{}
}

// Subscription receives events on C. A subscriber that does not keep up loses
// its subscription: C is closed, and it should look at the present state and
// subscribe again.
type Subscription struct {
	C   <-chan Event
	c   chan Event
	bus *Bus
}

// Subscribe starts to listen; call Close when done.
func (b *Bus) Subscribe() *Subscription {
	c := make(chan Event, 1024)
	s := &Subscription{C: c, c: c, bus: b}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.subs == nil {
		b.subs = map[*Subscription]struct{}{}
	}
	b.subs[s] = struct{}{}
	return s
}

// Close ends the subscription.
func (s *Subscription) Close() {
	s.bus.mu.Lock()
	defer s.bus.mu.Unlock()
	s.bus.drop(s)
}

func (b *Bus) drop(s *Subscription) {
	if _, ok := b.subs[s]; ok {
		delete(b.subs, s)
		close(s.c)
	}
}

// Loop calls do at once, and again when an event of one of the types has come, when wake
// says so, and at least every so often, until ctx ends.
func (b *Bus) Loop(ctx context.Context, every time.Duration, wake <-chan struct{}, types []string, do func()) {
	sub := b.Subscribe()
	defer func() { sub.Close() }()
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		do()
		for wait := true; wait; {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
				wait = false
			case <-wake:
				wait = false
			case e, ok := <-sub.C:
				if !ok { // it was too slow: something may have happened
					sub = b.Subscribe()
				}
				wait = ok && !slices.Contains(types, e.Type)
			}
		}
	}
}

// Publish hands out an event. It never blocks.
func (b *Bus) Publish(kind string, data any) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.last++
	e := Event{b.last, kind, data}
	for s := range b.subs {
		select {
		case s.c <- e:
		default:
			b.drop(s)
		}
	}
}
