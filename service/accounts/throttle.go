package accounts

import (
	"strings"
	"sync"
	"time"
)

// throttle slows down guessing, per account and per source: after three wrong
// passwords each further one doubles the wait, from a second up to five minutes.
type throttle struct {
	now   func() time.Time
	mu    sync.Mutex
	bad   map[string]misses
	swept time.Time // when what is long past was last taken out
}

type misses struct {
	count int
	last  time.Time
}

const (
	freeMisses = 3
	maxWait    = 5 * time.Minute
	maxTracked = 10_000
)

func keys(name, source string) []string {
	return []string{"a " + strings.ToLower(name), "s " + source}
}

func (t *throttle) wait(name, source string) time.Duration {
	t.mu.Lock()
	defer t.mu.Unlock()
	longest := time.Duration(0)
	for _, k := range keys(name, source) {
		m := t.bad[k]
		if m.count < freeMisses {
			continue
		}
		pause := maxWait
		if shift := m.count - freeMisses; shift < 9 {
			pause = min(maxWait, time.Second<<shift)
		}
		longest = max(longest, m.last.Add(pause).Sub(t.now()))
	}
	return longest
}

func (t *throttle) failed(name, source string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	now := t.now()
	if t.bad == nil {
		t.bad = map[string]misses{}
	}
	if len(t.bad) >= 2*maxTracked || len(t.bad) >= maxTracked && now.Sub(t.swept) > time.Second {
		t.swept = now
		full := len(t.bad) >= 2*maxTracked
		for k, m := range t.bad {
			if now.Sub(m.last) > maxWait || full && len(t.bad) > maxTracked {
				delete(t.bad, k)
			}
		}
	}
	for _, k := range keys(name, source) {
		m := t.bad[k]
		if now.Sub(m.last) > time.Hour {
			m.count = 0
		}
		t.bad[k] = misses{m.count + 1, now}
	}
}

func (t *throttle) passed(name, source string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, k := range keys(name, source) {
		delete(t.bad, k)
	}
}
