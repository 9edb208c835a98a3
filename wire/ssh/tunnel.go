package ssh

import (
	"context"
	"errors"
	"net"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"vergekeep/core/reason"
	"vergekeep/wire/dial"
)

// idle is how long a connection to a jump host is kept for the next device.
const idle = 15 * time.Second

// Jump is a host through which devices are reached.
type Jump struct {
	Name   string
	Target Target // how to log in to it
	// Use is asked before the login and told what became of it, so that a
	// refused credential is not tried again for every device behind; it may be nil.
	Use func(ctx context.Context) (ended func(error), err error)
	// Shown is called with the key that the jump host showed, if it had none on record.
	Shown func(hostKey string)
}

// Tunnels keeps connections to jump hosts and opens channels to devices through
// them (RFC 4254, section 7.2). Many devices share one connection. Close ends
// all of them.
type Tunnels struct {
	mu    sync.Mutex
	open  map[string]*tunnel // by the chain of jump hosts
	ended bool
}

type tunnel struct {
	ready chan struct{} // closed when conn or err is there
	conn  *Conn
	err   error
	stop  context.CancelFunc
	users int
	timer *time.Timer
}

// Through makes a dial.Func that goes through the jump hosts, the one nearest
// to us first.
func (t *Tunnels) Through(chain []Jump) dial.Func {
	if len(chain) == 0 {
		return dial.TCP
	}
	return func(ctx context.Context, address string) (net.Conn, error) {
		tn, key, err := t.enter(ctx, chain)
		if err != nil {
			return nil, err
		}
		nc, err := tn.conn.client.DialContext(ctx, "tcp", address)
		if err != nil {
			t.leave(key, tn)
			var refused *ssh.OpenChannelError
			last := chain[len(chain)-1].Name
			switch {
			case ctx.Err() != nil:
				return nil, ctx.Err()
			case errors.As(err, &refused) && refused.Reason == ssh.Prohibited:
				return nil, reason.New(reason.JumpFailed, "The jump host %s does not let us through to %s: %w.", last, address, err)
			case errors.As(err, &refused):
				return nil, reason.New(reason.Refused, "Through the jump host %s it cannot be reached at %s: %w.", last, address, err)
			}
			t.forget(key, tn)
			return nil, reason.New(reason.JumpFailed, "The connection to the jump host %s broke: %w.", last, err)
		}
		return &leaving{Conn: nc, leave: sync.OnceFunc(func() { t.leave(key, tn) })}, nil
	}
}

// leaving gives the tunnel back when it is closed.
type leaving struct {
	net.Conn
	leave func()
}

func (l *leaving) Close() error {
	defer l.leave()
	return l.Conn.Close()
}

// enter is the connection at the end of the chain.
func (t *Tunnels) enter(ctx context.Context, chain []Jump) (*tunnel, string, error) {
	key := ""
	for _, j := range chain {
		key += j.Name + "\n"
	}
	t.mu.Lock()
	if t.ended {
		t.mu.Unlock()
		return nil, "", net.ErrClosed
	}
	if t.open == nil {
		t.open = map[string]*tunnel{}
	}
	tn, there := t.open[key]
	if !there {
		// It lives on for others when the visit that opened it ends.
		own, stop := context.WithCancel(context.WithoutCancel(ctx))
		tn = &tunnel{ready: make(chan struct{}), stop: stop}
		t.open[key] = tn
		go t.connect(own, tn, key, chain)
	}
	tn.users++
	if tn.timer != nil {
		tn.timer.Stop()
		tn.timer = nil
	}
	t.mu.Unlock()
	select {
	case <-tn.ready:
	case <-ctx.Done():
		t.leave(key, tn)
		return nil, "", ctx.Err()
	}
	if tn.err != nil {
		t.leave(key, tn)
		return nil, "", tn.err
	}
	return tn, key, nil
}

func (t *Tunnels) connect(ctx context.Context, tn *tunnel, key string, chain []Jump) {
	defer func() {
		close(tn.ready)
		t.mu.Lock()
		defer t.mu.Unlock()
		t.rest(key, tn) // those who wanted it may have gone
	}()
	last := chain[len(chain)-1]
	target := last.Target
	target.Through = t.Through(chain[:len(chain)-1])
	tn.conn, tn.err = last.dial(ctx, target)
	if tn.err != nil {
		var failed *reason.Error
		if errors.As(tn.err, &failed) && failed.Code != reason.JumpFailed {
			tn.err = reason.New(reason.JumpFailed, "The jump host %s failed: %w", last.Name, tn.err)
		}
		t.forget(key, tn)
		tn.stop()
		return
	}
	if last.Shown != nil && len(target.HostKeys) == 0 {
		last.Shown(tn.conn.HostKey)
	}
	go func() { // one that breaks is not handed out again
		_ = tn.conn.client.Wait()
		t.forget(key, tn)
		tn.stop()
	}()
}

func (j Jump) dial(ctx context.Context, target Target) (*Conn, error) {
	if j.Use == nil {
		return Dial(ctx, target)
	}
	ended, err := j.Use(ctx)
	if err != nil {
		return nil, err
	}
	conn, err := Dial(ctx, target)
	ended(err)
	return conn, err
}

func (t *Tunnels) leave(key string, tn *tunnel) {
	t.mu.Lock()
	defer t.mu.Unlock()
	tn.users--
	t.rest(key, tn)
}

// rest closes an unused connection after a while. The lock is held.
func (t *Tunnels) rest(key string, tn *tunnel) {
	if tn.users > 0 || tn.conn == nil {
		return
	}
	if tn.timer != nil {
		tn.timer.Stop()
	}
	tn.timer = time.AfterFunc(idle, func() {
		t.mu.Lock()
		busy := tn.users > 0
		if !busy && t.open[key] == tn {
			delete(t.open, key)
		}
		t.mu.Unlock()
		if !busy {
			_ = tn.conn.Close()
		}
	})
}

func (t *Tunnels) forget(key string, tn *tunnel) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.open[key] == tn {
		delete(t.open, key)
	}
}

// Close ends all connections to jump hosts.
func (t *Tunnels) Close() {
	t.mu.Lock()
	t.ended = true
	all := t.open
	t.open = nil
	t.mu.Unlock()
	for _, tn := range all {
		tn.stop()
		<-tn.ready
		t.mu.Lock()
		if tn.timer != nil {
			tn.timer.Stop()
		}
		t.mu.Unlock()
		if tn.conn != nil {
			_ = tn.conn.Close()
		}
	}
}
