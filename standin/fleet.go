package standin

import (
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
)

// Fleet is a set of listening stand-ins. Close ends all of them and waits.
type Fleet struct {
	ctx    context.Context
	cancel context.CancelFunc
	wg     sync.WaitGroup

	mu        sync.Mutex
	listeners map[*Device]net.Listener
	conns     map[net.Conn]*Device
}

// NewFleet makes an empty fleet.
func NewFleet() *Fleet {
	f := &Fleet{listeners: map[*Device]net.Listener{}, conns: map[net.Conn]*Device{}}
	f.ctx, f.cancel = context.WithCancel(context.Background())
	return f
}

// Add lets a device listen and returns its address.
func (f *Fleet) Add(d *Device) (string, error) {
	d.init()
	addr := d.Addr
	if addr == "" {
		addr = "127.0.0.1:0"
	}
	var lc net.ListenConfig
	l, err := lc.Listen(f.ctx, "tcp", addr)
	if err != nil {
		return "", fmt.Errorf("stand-in %s: %w", d.Name, err)
	}
	d.Addr = l.Addr().String()
	f.mu.Lock()
	f.listeners[d] = l
	f.mu.Unlock()
	f.wg.Go(func() { f.accept(d, l) })
	return d.Addr, nil
}

// Remove takes a device off the network: its port refuses from now on.
func (f *Fleet) Remove(d *Device) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if l, ok := f.listeners[d]; ok {
		_ = l.Close()
		delete(f.listeners, d)
	}
	for c, of := range f.conns {
		if of == d {
			_ = c.Close()
		}
	}
}

// Close stops every device and waits until all sessions have ended.
func (f *Fleet) Close() {
	f.cancel()
	f.mu.Lock()
	for _, l := range f.listeners {
		_ = l.Close()
	}
	for c := range f.conns {
		_ = c.Close()
	}
	f.mu.Unlock()
	f.wg.Wait()
}

func (f *Fleet) accept(d *Device, l net.Listener) {
	for {
		c, err := l.Accept()
		if errors.Is(err, net.ErrClosed) || f.ctx.Err() != nil {
			if c != nil {
				_ = c.Close()
			}
			return
		}
		if err != nil {
			time.Sleep(10 * time.Millisecond) // out of files: others will end
			continue
		}
		f.mu.Lock()
		f.conns[c] = d
		f.mu.Unlock()
		f.wg.Go(func() {
			defer func() {
				_ = c.Close()
				f.mu.Lock()
				delete(f.conns, c)
				f.mu.Unlock()
			}()
			f.serve(d, c)
		})
	}
}

func (f *Fleet) serve(d *Device, c net.Conn) {
	if d.currentFault() == Mute {
		_, _ = c.Read(make([]byte, 1<<10))
		<-f.ctx.Done()
		return
	}
	switch d.currentFault() {
	case NotSSH:
		_, _ = c.Write([]byte("HTTP/1.1 400 Bad Request\r\nConnection: close\r\n\r\n"))
		return
	case ResetAtOnce:
		reset(c)
		return
	case HalfLogin:
		_, _ = c.Write([]byte("SSH-2.0-Half\r\n"))
		_, _ = io.Copy(io.Discard, c)
		return
	}
	if d.Telnet {
		f.serveTelnet(d, c)
		return
	}
	_ = c.SetDeadline(time.Now().Add(time.Minute))
	// One of each, as a small device has: so every client works equally hard.
	conf := &ssh.ServerConfig{Config: ssh.Config{
		KeyExchanges: []string{ssh.KeyExchangeCurve25519}, Ciphers: []string{ssh.CipherAES128GCM}, MACs: []string{ssh.HMACSHA256ETM},
	}, ServerVersion: "SSH-2.0-" + strings.ToUpper(string(d.Platform[:1])) + string(d.Platform[1:])}
	switch fault := d.currentFault(); {
	case fault == OldOnly:
		conf.KeyExchanges, conf.Ciphers, conf.MACs = []string{ssh.InsecureKeyExchangeDH1SHA1}, []string{ssh.InsecureCipherTripleDESCBC}, []string{ssh.InsecureHMACSHA196}
		conf.PasswordCallback = func(m ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
			return nil, d.login(m.User(), string(password))
		}
	case fault == ServerDown:
		conf.BannerCallback = func(ssh.ConnMetadata) string { return "% the keeper of accounts is out\n" }
		conf.PasswordCallback = func(ssh.ConnMetadata, []byte) (*ssh.Permissions, error) { return nil, errLogin }
	case fault == Expired || fault == AsksForCode || fault == ResetAtLogin:
		conf.KeyboardInteractiveCallback = func(_ ssh.ConnMetadata, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
			if fault == ResetAtLogin {
				reset(c)
				return nil, errLogin
			}
			instruction, question := "Your password has expired.", "New password: "
			if fault == AsksForCode {
				instruction, question = "", "Verification code: "
			}
			_, err := ask("", instruction, []string{question}, []bool{false})
			return nil, errors.Join(errLogin, err)
		}
	case d.Platform == Coaming:
		conf.NoClientAuth = true // it asks inside the session
	default:
		conf.PasswordCallback = func(m ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
			return nil, d.login(m.User(), string(password))
		}
	}
	key, err := d.hostKey()
	if err != nil {
		return
	}
	conf.AddHostKey(key)
	conn, channels, requests, err := ssh.NewServerConn(c, conf)
	if err != nil {
		return
	}
	defer conn.Close()
	_ = c.SetDeadline(time.Time{})
	f.wg.Go(func() { ssh.DiscardRequests(requests) })
	for nc := range channels {
		if nc.ChannelType() != "session" {
			_ = nc.Reject(ssh.UnknownChannelType, "only sessions")
			continue
		}
		switch d.currentFault() {
		case Busy:
			_ = nc.Reject(ssh.ResourceShortage, "all lines are in use")
			continue
		case ResetAtShell:
			reset(c)
			return
		}
		ch, reqs, err := nc.Accept()
		if err != nil {
			return
		}
		f.wg.Go(func() {
			s := &session{ctx: f.ctx, d: d, user: conn.User(), ch: ch, width: 80, height: 24}
			s.serve(reqs)
		})
	}
}

// reset closes a connection with a TCP reset.
func reset(c net.Conn) {
	if tcp, ok := c.(*net.TCPConn); ok {
		_ = tcp.SetLinger(0)
	}
	_ = c.Close()
}

var errLogin = errors.New("login refused")

func (d *Device) login(user, password string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if user != d.User || subtle.ConstantTimeCompare([]byte(password), []byte(d.Password)) != 1 {
		return errLogin
	}
	return nil
}
