package rounds

import (
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"vergekeep/service/fleet"
)

// limits counts what is under way, for all rounds together: visits to a box,
// to a site, through a jump host.
type limits struct {
	mu    sync.Mutex
	inUse map[string]int
	caps  map[string]int // 0 or none: no limit
	wake  map[*queue]struct{}
}

// take claims all keys, or none where one of them is at its limit.
func (l *limits) take(keys []string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, k := range keys {
		if most := l.most(k); most > 0 && l.inUse[k] >= most {
			return false
		}
	}
	for _, k := range keys {
		l.inUse[k]++
	}
	return true
}

// most is the limit of a key; a box is visited once at a time.
func (l *limits) most(key string) int {
	if key[0] == 'b' {
		return 1
	}
	return l.caps[key]
}

func (l *limits) give(keys []string) {
	l.mu.Lock()
	for _, k := range keys {
		if l.inUse[k]--; l.inUse[k] <= 0 {
			delete(l.inUse, k)
		}
	}
	waiting := slices.Collect(maps.Keys(l.wake))
	l.mu.Unlock()
	for _, q := range waiting {
		q.stir()
	}
}

func (l *limits) set(caps map[string]int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.caps = caps
}

// keysOf are what a visit to the device uses.
func keysOf(d *fleet.Device) []string {
	keys := []string{"box " + d.Box()}
	if d.Site != "" {
		keys = append(keys, siteKey(d.Site))
	}
	if d.Via != "" {
		keys = append(keys, jumpKey(d.Via))
	}
	return keys
}

// item is a device that a round still has to visit.
type item struct {
	device    fleet.Device
	tries     int
	notBefore time.Time
	keys      []string
}

// queue hands out the devices of a round: in their order, but none before its
// time or beyond a limit.
type queue struct {
	limits *limits
	mu     sync.Mutex
	cond   *sync.Cond
	items  []*item
	out    int // handed out and not given back
	dead   bool
	timer  *time.Timer
}

func newQueue(ctx context.Context, l *limits) (*queue, func()) {
	q := &queue{limits: l}
	q.cond = sync.NewCond(&q.mu)
	l.mu.Lock()
	l.wake[q] = struct{}{}
	l.mu.Unlock()
	stop := context.AfterFunc(ctx, func() {
		q.mu.Lock()
		q.dead = true
		q.mu.Unlock()
		q.cond.Broadcast()
	})
	return q, func() {
		stop()
		l.mu.Lock()
		delete(l.wake, q)
		l.mu.Unlock()
		q.mu.Lock()
		if q.timer != nil {
			q.timer.Stop()
		}
		q.mu.Unlock()
	}
}

// stir wakes whoever waits for a device. Whoever looked just before is asleep
// by the time it holds the lock.
func (q *queue) stir() {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.cond.Broadcast()
}

// next is the next device that may be visited now. It waits for one, and is nil
// when there is nothing left or the round has ended.
func (q *queue) next() *item {
	q.mu.Lock()
	defer q.mu.Unlock()
	for {
		if q.dead || len(q.items) == 0 && q.out == 0 {
			return nil
		}
		now := time.Now()
		var soonest time.Time
		for i, it := range q.items {
			if it.notBefore.After(now) {
				if soonest.IsZero() || it.notBefore.Before(soonest) {
					soonest = it.notBefore
				}
				continue
			}
			if q.limits.take(it.keys) {
				if i == 0 {
					q.items = q.items[1:]
				} else {
					q.items = slices.Delete(q.items, i, i+1)
				}
				q.out++
				return it
			}
		}
		if !soonest.IsZero() {
			if q.timer != nil {
				q.timer.Stop()
			}
			q.timer = time.AfterFunc(time.Until(soonest), q.stir)
		}
		q.cond.Wait()
	}
}

// done gives a device back: it has been visited, or comes again as another item.
func (q *queue) done(it *item, again *item) {
	q.mu.Lock()
	q.out--
	if again != nil {
		q.items = append(q.items, again)
	}
	q.mu.Unlock()
	q.limits.give(it.keys)
	q.cond.Broadcast()
}
