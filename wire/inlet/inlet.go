// Package inlet listens for what devices say of themselves: syslog by UDP (RFC
// 5426), TCP (RFC 6587) and TLS (RFC 5425), and SNMP traps and informs (RFC 3416).
// It reads messages and hands them on; what they mean is decided elsewhere.
package inlet

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"vergekeep/core/dialect"
	"vergekeep/core/syslog"
)

// Message is a message as it arrived.
type Message struct {
	Medium   dialect.Medium
	Listener string // "udp 192.0.2.1:514"
	From     netip.AddrPort
	Arrived  time.Time
	Raw      []byte // of syslog; good until the handler returns
	Trap     *Trap  // of a trap
}

// Handler takes a message. It is called by several goroutines and holds up the
// listener that it is called by.
type Handler func(Message)

// Config says where to listen; what is empty does not listen.
type Config struct {
	UDP, TCP, TLS string // for syslog, host:port
	Certificate   *tls.Config
	Traps         string // for traps and informs by UDP
	Users         Users  // by whom traps of version 3 may come
	Handle        Handler
	Now           func() time.Time
}

// Inlet is the open listeners.
type Inlet struct {
	handle Handler
	now    func() time.Time
	users  Users

	names   []string
	packets []net.PacketConn
	streams []net.Listener
	wg      sync.WaitGroup

	mu     sync.Mutex
	conns  map[net.Conn]struct{}
	closed bool

	refused atomic.Int64 // connections beyond the most
	garbled atomic.Int64 // traps and streams that could not be read
}

const (
	maxConns = 4096
	// idle is how long a stream may be silent; senders connect again.
	idle = 6 * time.Hour
	// buffer is asked of the kernel for each UDP socket, so that a burst waits there.
	buffer = 16 << 20
)

// Listen opens the listeners. Close them when done.
func Listen(ctx context.Context, c Config) (_ *Inlet, err error) {
	in := &Inlet{handle: c.Handle, now: c.Now, users: c.Users, conns: map[net.Conn]struct{}{}}
	if in.now == nil {
		in.now = time.Now
	}
	defer func() {
		if err != nil {
			in.Close()
		}
	}()
	var lc net.ListenConfig
	packets := func(address, kind string, serve func(*net.UDPConn, string)) error {
		if address == "" {
			return nil
		}
		p, err := lc.ListenPacket(ctx, "udp", address)
		if err != nil {
			return err
		}
		in.packets = append(in.packets, p)
		udp, ok := p.(*net.UDPConn)
		if !ok {
			return fmt.Errorf("%s: not a UDP socket", address)
		}
		grow(udp)
		name := kind + " " + p.LocalAddr().String()
		in.names = append(in.names, name)
		in.wg.Go(func() { serve(udp, name) })
		return nil
	}
	streams := func(address, kind string, conf *tls.Config) error {
		if address == "" {
			return nil
		}
		l, err := lc.Listen(ctx, "tcp", address)
		if err != nil {
			return err
		}
		name := kind + " " + l.Addr().String()
		if conf != nil {
			l = tls.NewListener(l, conf)
		}
		in.streams, in.names = append(in.streams, l), append(in.names, name)
		in.wg.Go(func() { in.accept(l, name) })
		return nil
	}
	if c.TLS != "" && c.Certificate == nil {
		return nil, errors.New("listening for syslog by TLS takes a certificate")
	}
	if err := errors.Join(packets(c.UDP, "udp", in.datagrams), streams(c.TCP, "tcp", nil), streams(c.TLS, "tls", c.Certificate), packets(c.Traps, "traps", in.traps)); err != nil {
		return nil, fmt.Errorf("listening for signals: %w", err)
	}
	return in, nil
}

// Addresses are the addresses listened on: UDP, then TCP and TLS, then traps, as
// far as they were asked for.
func (in *Inlet) Addresses() (packets, streams []string) {
	for _, p := range in.packets {
		packets = append(packets, p.LocalAddr().String())
	}
	for _, l := range in.streams {
		streams = append(streams, l.Addr().String())
	}
	return packets, streams
}

// Names are the listeners as messages name them.
func (in *Inlet) Names() []string { return in.names }

// Refused counts connections that were one too many, and messages that could not
// be read.
func (in *Inlet) Refused() (connections, messages int64) {
	return in.refused.Load(), in.garbled.Load()
}

// Close ends all listeners and returns when no handler runs any more.
func (in *Inlet) Close() {
	for _, p := range in.packets {
		_ = p.Close()
	}
	for _, l := range in.streams {
		_ = l.Close()
	}
	in.mu.Lock()
	in.closed = true
	for c := range in.conns {
		_ = c.Close()
	}
	in.mu.Unlock()
	in.wg.Wait()
}

// datagrams reads syslog by UDP.
func (in *Inlet) datagrams(c *net.UDPConn, name string) {
	buf := make([]byte, 64<<10)
	for {
		n, from, err := c.ReadFromUDPAddrPort(buf)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil || n == 0 {
			continue // the kernel tells of what could not be delivered elsewhere
		}
		in.handle(Message{Medium: dialect.BySyslog, Listener: name, From: plain(from), Arrived: in.now(), Raw: buf[:n]})
	}
}

// plain is an address without the mark of IPv4 within IPv6.
func plain(a netip.AddrPort) netip.AddrPort { return netip.AddrPortFrom(a.Addr().Unmap(), a.Port()) }

func (in *Inlet) accept(l net.Listener, name string) {
	for {
		c, err := l.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			time.Sleep(10 * time.Millisecond) // out of files: others will end
			continue
		}
		if !in.begin(c) {
			_ = c.Close()
			continue
		}
		in.wg.Go(func() {
			defer in.end(c)
			in.stream(c, name)
		})
	}
}

func (in *Inlet) begin(c net.Conn) bool {
	in.mu.Lock()
	defer in.mu.Unlock()
	if in.closed || len(in.conns) >= maxConns {
		in.refused.Add(1)
		return false
	}
	in.conns[c] = struct{}{}
	return true
}

func (in *Inlet) end(c net.Conn) {
	_ = c.Close()
	in.mu.Lock()
	defer in.mu.Unlock()
	delete(in.conns, c)
}

// stream reads syslog by TCP or TLS.
func (in *Inlet) stream(c net.Conn, name string) {
	from, err := netip.ParseAddrPort(c.RemoteAddr().String())
	if err != nil {
		return
	}
	frames := syslog.NewFrames(patient{c})
	for {
		raw, err := frames.Next()
		if errors.Is(err, syslog.ErrFraming) {
			in.garbled.Add(1)
		}
		if err != nil {
			return
		}
		in.handle(Message{Medium: dialect.BySyslog, Listener: name, From: plain(from), Arrived: in.now(), Raw: raw})
	}
}

// patient ends a stream that has been silent for too long.
type patient struct{ net.Conn }

func (p patient) Read(b []byte) (int, error) {
	if err := p.SetReadDeadline(time.Now().Add(idle)); err != nil {
		return 0, err
	}
	return p.Conn.Read(b)
}
