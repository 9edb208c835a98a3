package dial

import (
	"errors"
	"net"
	"os"
	"sync/atomic"
	"time"
)

// Watched is a network connection that gives up after a silence. It works on
// connections through a tunnel too, which know no deadlines: those it closes.
type Watched struct {
	net.Conn
	silence  atomic.Int64 // nanoseconds; 0 while a limit for the whole login holds
	silent   atomic.Bool
	heard    atomic.Bool
	tunnel   bool
	deadline atomic.Pointer[time.Timer]
	first    []byte // the first bytes that were read; only the reader touches it
}

// maxFirst is how many of the first bytes are kept.
const maxFirst = 512

// Watch wraps a connection. All of what follows must be over within limit,
// until SetSilence lifts it.
func Watch(c net.Conn, limit time.Duration) *Watched {
	w := &Watched{Conn: c}
	if err := c.SetDeadline(time.Now().Add(limit)); err != nil {
		w.tunnel = true
		w.arm(limit)
	}
	return w
}

func (w *Watched) arm(limit time.Duration) {
	t := time.AfterFunc(limit, func() {
		w.silent.Store(true)
		_ = w.Conn.Close()
	})
	if old := w.deadline.Swap(t); old != nil {
		old.Stop()
	}
}

// SetSilence replaces the limit of the whole by one for hearing nothing; 0 is
// no limit.
func (w *Watched) SetSilence(limit time.Duration) {
	w.silence.Store(int64(limit))
	if limit <= 0 {
		if t := w.deadline.Load(); t != nil {
			t.Stop()
		}
		_ = w.SetDeadline(time.Time{})
		return
	}
	if w.tunnel {
		w.arm(limit)
		return
	}
	_ = w.SetDeadline(time.Time{})
	// A reader may already wait without a limit: give it this one.
	_ = w.SetReadDeadline(time.Now().Add(limit))
}

// Silence is the limit for hearing nothing.
func (w *Watched) Silence() time.Duration { return time.Duration(w.silence.Load()) }

// Silent reports whether the limit has been reached.
func (w *Watched) Silent() bool { return w.silent.Load() }

// Heard reports whether the other side has said anything.
func (w *Watched) Heard() bool { return w.heard.Load() }

// First is the first bytes that were read. Call it when nothing reads any more.
func (w *Watched) First() []byte { return w.first }

// Read reads, but waits no longer than the limit.
func (w *Watched) Read(p []byte) (int, error) {
	limit := w.Silence()
	if limit > 0 && !w.tunnel {
		_ = w.SetReadDeadline(time.Now().Add(limit))
	}
	n, err := w.Conn.Read(p)
	if n > 0 {
		w.heard.Store(true)
		if room := maxFirst - len(w.first); room > 0 {
			w.first = append(w.first, p[:min(n, room)]...)
		}
		if w.tunnel && limit > 0 {
			w.deadline.Load().Reset(limit)
		}
	}
	if errors.Is(err, os.ErrDeadlineExceeded) {
		w.silent.Store(true)
	}
	return n, err
}

// Close closes the connection.
func (w *Watched) Close() error {
	if t := w.deadline.Load(); t != nil {
		t.Stop()
	}
	return w.Conn.Close()
}
