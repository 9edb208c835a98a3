package rounds

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vergekeep/service/fleet"
)

func newLimits(caps map[string]int) *limits {
	return &limits{inUse: map[string]int{}, caps: caps, wake: map[*queue]struct{}{}}
}

// watchman counts what is under way and remembers the most of each.
type watchman struct {
	mu        sync.Mutex
	now, most map[string]int
	visited   map[string]int
}

func (w *watchman) begin(it *item) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, k := range it.keys {
		w.now[k]++
		w.most[k] = max(w.most[k], w.now[k])
	}
	w.visited[it.device.Name]++
}

func (w *watchman) end(it *item) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, k := range it.keys {
		w.now[k]--
	}
}

// TestQueuesKeepTheirLimits draws fleets, limits and two rounds at once: every
// device is visited once by each, no limit is exceeded, and both come to an end.
func TestQueuesKeepTheirLimits(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		caps := map[string]int{}
		for _, site := range []string{"a", "b", "c"} {
			caps[siteKey(site)] = rapid.IntRange(0, 3).Draw(t, "limit of "+site)
		}
		caps[jumpKey("gate")] = rapid.IntRange(0, 2).Draw(t, "limit of the jump host")
		l := newLimits(caps)
		seen := &watchman{now: map[string]int{}, most: map[string]int{}, visited: map[string]int{}}
		var devices []fleet.Device
		for i := range rapid.IntRange(1, 40).Draw(t, "devices") {
			devices = append(devices, fleet.Device{
				Name: fmt.Sprint("d-", i), Site: rapid.SampledFrom([]string{"", "a", "b", "c"}).Draw(t, "site"), Via: rapid.SampledFrom([]string{"", "gate"}).Draw(t, "via"),
				Addresses: []string{fmt.Sprint("box-", rapid.IntRange(0, 20).Draw(t, "box"))},
			})
		}
		again := rapid.IntRange(0, 3).Draw(t, "tries that fail")
		var rounds sync.WaitGroup
		for range 2 {
			rounds.Add(1)
			go func() {
				defer rounds.Done()
				q, stop := newQueue(context.Background(), l)
				defer stop()
				for i, d := range devices {
					it := &item{device: d, keys: keysOf(&d)}
					if i%5 == 4 { // spread over the round
						it.notBefore = time.Now().Add(time.Duration(i) * 20 * time.Microsecond)
					}
					q.items = append(q.items, it)
				}
				var workers sync.WaitGroup
				for range 6 {
					workers.Go(func() {
						for it := q.next(); it != nil; it = q.next() {
							it.tries++
							seen.begin(it)
							time.Sleep(10 * time.Microsecond)
							seen.end(it)
							if it.tries <= again && len(it.device.Name)%2 == 0 {
								next := *it
								next.notBefore = time.Now().Add(30 * time.Microsecond)
								q.done(it, &next)
								continue
							}
							q.done(it, nil)
						}
					})
				}
				workers.Wait()
			}()
		}
		ended := make(chan struct{})
		go func() { rounds.Wait(); close(ended) }()
		select {
		case <-ended:
		case <-time.After(time.Minute):
			t.Fatal("a round does not come to an end")
		}
		for key, most := range seen.most {
			if limit := l.most(key); limit > 0 && most > limit {
				t.Fatalf("%d at a time for %q, of which %d are allowed", most, key, limit)
			}
		}
		for _, d := range devices {
			want := 2
			if len(d.Name)%2 == 0 {
				want += 2 * again
			}
			if seen.visited[d.Name] != want {
				t.Fatalf("%s was visited %d times instead of %d", d.Name, seen.visited[d.Name], want)
			}
		}
		if len(l.inUse) > 0 || len(l.wake) > 0 {
			t.Fatalf("something is left behind: %v", l.inUse)
		}
	})
}

func TestACancelledRoundWakesItsWorkers(t *testing.T) {
	l := newLimits(nil)
	ctx, cancel := context.WithCancel(t.Context())
	q, stop := newQueue(ctx, l)
	defer stop()
	d := fleet.Device{Name: "d-1", Addresses: []string{"192.0.2.1:22"}}
	q.items = []*item{{device: d, keys: keysOf(&d), notBefore: time.Now().Add(time.Hour)}}
	woken := make(chan *item)
	go func() { woken <- q.next() }()
	select {
	case <-woken:
		t.Fatal("it did not wait")
	case <-time.After(20 * time.Millisecond):
	}
	cancel()
	select {
	case it := <-woken:
		assert.Nil(t, it)
	case <-time.After(time.Minute):
		t.Fatal("it sleeps on")
	}
}

func TestAPairIsOneBoxOnlyBehindOneAddress(t *testing.T) {
	one := fleet.Device{Name: "hh-fw-1", Addresses: []string{"192.0.2.1:22"}}
	context := fleet.Device{Name: "hh-fw-1-guests", Addresses: []string{"192.0.2.1:22"}}
	elsewhere := fleet.Device{Name: "t-01", Addresses: []string{"192.0.2.1:22"}, Via: "gate"}
	require.Equal(t, keysOf(&one)[0], keysOf(&context)[0], "contexts of one box share its sessions")
	assert.NotEqual(t, keysOf(&one)[0], keysOf(&elsewhere)[0], "the same address behind a jump host is another box")
	l := newLimits(nil)
	assert.True(t, l.take(keysOf(&one)))
	assert.False(t, l.take(keysOf(&context)))
	assert.True(t, l.take(keysOf(&elsewhere)))
	l.give(keysOf(&one))
	assert.True(t, l.take(keysOf(&context)))
}
