// Package ssh connects to devices over SSH (RFC 4251 to 4254) with
// golang.org/x/crypto/ssh, and says in the service's own words why it could
// not. Time limits for connecting and for silence are enforced on the network
// connection, so that nothing above it can hang.
package ssh

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"

	"vergekeep/core/reason"
)

// Target is a device to connect to.
type Target struct {
	Address  string // host:port
	User     string
	Password string
	// HostKey is the key on record in the authorized-keys form; "" accepts any
	// key, which the caller then puts on record.
	HostKey string
	Connect time.Duration // limit for connecting and logging in
	Silence time.Duration // limit for hearing nothing
}

// Conn is a connection to a device.
type Conn struct {
	client  *ssh.Client
	conn    *watched
	ctx     context.Context
	stop    func() bool
	HostKey string // the key that the device showed
}

// watched is a network connection that gives up after a silence.
type watched struct {
	net.Conn
	silence atomic.Int64 // nanoseconds; 0 while the login's own limit holds
	silent  atomic.Bool
	heard   atomic.Bool
}

func (w *watched) Read(p []byte) (int, error) {
	if limit := w.silence.Load(); limit > 0 {
		_ = w.SetReadDeadline(time.Now().Add(time.Duration(limit)))
	}
	n, err := w.Conn.Read(p)
	if n > 0 {
		w.heard.Store(true)
	}
	if errors.Is(err, os.ErrDeadlineExceeded) {
		w.silent.Store(true)
	}
	return n, err
}

// Dial connects and logs in. Its error carries a reason. When ctx ends, the
// connection is closed.
func Dial(ctx context.Context, t Target) (*Conn, error) {
	host := t.Address
	limit := time.Now().Add(t.Connect)
	dialer := net.Dialer{Deadline: limit}
	nc, err := dialer.DialContext(ctx, "tcp", t.Address)
	if err != nil {
		return nil, dialError(ctx, host, err)
	}
	c := &Conn{conn: &watched{Conn: nc}, ctx: ctx}
	c.stop = context.AfterFunc(ctx, func() { _ = nc.Close() })
	_ = nc.SetDeadline(limit)
	var keyError *reason.Error
	triedPassword := false
	conf := &ssh.ClientConfig{
		User: t.User,
		Auth: []ssh.AuthMethod{
			ssh.PasswordCallback(func() (string, error) {
				triedPassword = true
				return t.Password, nil
			}),
			// One method an attempt: a second refusal of the same password
			// would bring the account closer to being locked.
			ssh.KeyboardInteractive(func(_, _ string, questions []string, echos []bool) ([]string, error) {
				if triedPassword && len(questions) > 0 {
					return nil, errors.New("the password was already refused")
				}
				answers := make([]string, len(questions))
				for i := range questions {
					if !echos[i] {
						answers[i] = t.Password
					} else {
						answers[i] = t.User
					}
				}
				return answers, nil
			}),
		},
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			c.HostKey = strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))
			if t.HostKey != "" && t.HostKey != c.HostKey {
				keyError = reason.New(reason.HostKeyChanged, "It shows another host key: %s; on record is %s.", ssh.FingerprintSHA256(key), Fingerprint(t.HostKey))
				return keyError
			}
			return nil
		},
	}
	if t.HostKey != "" {
		// Ask for the kind of key that is on record, so that a device with
		// several keys shows that one.
		if key, err := parseKey(t.HostKey); err == nil {
			conf.HostKeyAlgorithms = algorithmsOf(key.Type())
		}
	}
	sc, channels, requests, err := ssh.NewClientConn(c.conn, host, conf)
	if err != nil {
		_ = nc.Close()
		c.stop()
		if keyError != nil {
			return nil, keyError
		}
		return nil, c.handshakeError(ctx, t.User, err)
	}
	_ = nc.SetDeadline(time.Time{})
	c.conn.silence.Store(int64(t.Silence))
	// The read loop already waits without a limit: wake it once for the new one.
	_ = nc.SetReadDeadline(time.Now().Add(t.Silence))
	c.client = ssh.NewClient(sc, channels, requests)
	return c, nil
}

// algorithmsOf lists the signature algorithms of a key type; RSA has several.
func algorithmsOf(keyType string) []string {
	if keyType == ssh.KeyAlgoRSA {
		return []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
	}
	return []string{keyType}
}

func parseKey(authorized string) (ssh.PublicKey, error) {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(authorized))
	return key, err
}

// Fingerprint is the SHA-256 fingerprint of a key in the authorized-keys form.
func Fingerprint(authorized string) string {
	key, err := parseKey(authorized)
	if err != nil {
		return "an unreadable key"
	}
	return ssh.FingerprintSHA256(key)
}

func dialError(ctx context.Context, host string, err error) error {
	var timeout net.Error
	switch {
	case ctx.Err() != nil:
		return contextError(ctx)
	case errors.Is(err, syscall.ECONNREFUSED):
		return reason.New(reason.Refused, "It refused the connection to %s.", host)
	case errors.As(err, &timeout) && timeout.Timeout():
		return reason.New(reason.ConnectTimeout, "It did not answer in time at %s.", host)
	}
	return reason.New(reason.Unreachable, "It cannot be reached at %s: %w.", host, err)
}

func (c *Conn) handshakeError(ctx context.Context, user string, err error) error {
	var negotiation *ssh.AlgorithmNegotiationError
	var timeout net.Error
	text := err.Error()
	switch {
	case ctx.Err() != nil:
		return contextError(ctx)
	case errors.As(err, &timeout) && timeout.Timeout(), c.conn.silent.Load():
		if c.conn.heard.Load() {
			return reason.New(reason.ConnectTimeout, "It began to talk, but the login did not come to an end in time.")
		}
		return reason.New(reason.Silent, "It accepted the connection and then said nothing.")
	case strings.Contains(text, "unable to authenticate"):
		return reason.New(reason.CredentialRefused, "It refused the login of %s.", user)
	case errors.As(err, &negotiation), strings.Contains(text, "no common algorithm"):
		return reason.New(reason.NoCommonAlgorithm, "It offers no algorithm that is safe: %w.", err)
	case errors.Is(err, io.EOF), errors.Is(err, syscall.ECONNRESET), errors.Is(err, io.ErrUnexpectedEOF):
		return reason.New(reason.HungUp, "It closed the connection during the login.")
	}
	return reason.New(reason.NotSSH, "It does not speak SSH as it should: %w.", err)
}

// contextError is the reason that stands behind the end of ctx.
func contextError(ctx context.Context) error {
	var given *reason.Error
	if cause := context.Cause(ctx); errors.As(cause, &given) {
		return given
	}
	return reason.New(reason.Cancelled, "The visit was cancelled.")
}

// Why explains an error of reading or writing.
func (c *Conn) Why(err error) error {
	var given *reason.Error
	switch {
	case errors.As(err, &given):
		return given
	case c.ctx.Err() != nil:
		return contextError(c.ctx)
	case c.conn.silent.Load():
		return reason.New(reason.Hung, "It fell silent for %s in the middle of the visit.", time.Duration(c.conn.silence.Load()))
	}
	return reason.New(reason.HungUp, "It closed the connection in the middle of the visit.")
}

// Close ends the connection.
func (c *Conn) Close() error {
	c.stop()
	return c.client.Close()
}

// channel is a session with the two streams of RFC 4254, section 5.2, as one.
type channel struct {
	ssh.Channel
}

func (c *Conn) session() (*channel, <-chan *ssh.Request, error) {
	ch, requests, err := c.client.OpenChannel("session", nil)
	if err != nil {
		var refused *ssh.OpenChannelError
		if errors.As(err, &refused) {
			return nil, nil, reason.New(reason.HungUp, "It refused to open a session: %w.", err)
		}
		return nil, nil, c.Why(err)
	}
	return &channel{ch}, requests, nil
}

func (c *channel) request(name string, payload []byte) error {
	ok, err := c.SendRequest(name, true, payload)
	if err != nil {
		return err
	}
	if !ok {
		return reason.New(reason.Protocol, "It refused the SSH request %q.", name)
	}
	return nil
}

// Shell opens a shell on a pseudo-terminal (RFC 4254, section 6.2).
func (c *Conn) Shell(width, height int) (io.ReadWriteCloser, error) {
	ch, requests, err := c.session()
	if err != nil {
		return nil, err
	}
	go ssh.DiscardRequests(requests)
	pty := struct {
		Term                string
		Columns, Rows, W, H uint32
		Modes               string
	}{"vt100", uint32(width), uint32(height), 0, 0, "\x00"}
	if err := ch.request("pty-req", ssh.Marshal(pty)); err != nil {
		_ = ch.Close()
		return nil, c.Why(err)
	}
	if err := ch.request("shell", nil); err != nil {
		_ = ch.Close()
		return nil, c.Why(err)
	}
	return ch, nil
}

// Subsystem opens a subsystem (RFC 4254, section 6.5).
func (c *Conn) Subsystem(name string) (io.ReadWriteCloser, error) {
	ch, requests, err := c.session()
	if err != nil {
		return nil, err
	}
	go ssh.DiscardRequests(requests)
	if err := ch.request("subsystem", ssh.Marshal(struct{ Name string }{name})); err != nil {
		_ = ch.Close()
		return nil, c.Why(err)
	}
	return ch, nil
}

// ErrTooMuch is returned where a command's output exceeds its limit.
var ErrTooMuch = errors.New("too much output")

// Exec runs one command (RFC 4254, section 6.5) and returns what it printed. A
// status of -1 means that the device gave none.
func (c *Conn) Exec(command string, limit int) (output []byte, status int, err error) {
	ch, requests, err := c.session()
	if err != nil {
		return nil, -1, err
	}
	defer ch.Close()
	exit := make(chan int, 1)
	go func() {
		code := -1
		for r := range requests {
			if r.Type == "exit-status" {
				var p struct{ Status uint32 }
				if ssh.Unmarshal(r.Payload, &p) == nil {
					code = int(p.Status)
				}
			}
			if r.WantReply {
				_ = r.Reply(false, nil)
			}
		}
		exit <- code
	}()
	if err := ch.request("exec", ssh.Marshal(struct{ Command string }{command})); err != nil {
		return nil, -1, c.Why(err)
	}
	output, err = readAll(ch, limit)
	if err != nil {
		return output, -1, err
	}
	// The end of the output is no success: the exit status is, or the orderly
	// close of the channel. A connection that broke shows neither.
	status = <-exit
	if status < 0 && (c.ctx.Err() != nil || c.conn.silent.Load() || !c.alive()) {
		return output, -1, c.Why(io.ErrUnexpectedEOF)
	}
	return output, status, nil
}

// alive asks the device for a sign of life (RFC 4254, section 4).
func (c *Conn) alive() bool {
	_, _, err := c.client.SendRequest("keepalive@verge-keep", true, nil)
	return err == nil
}

func readAll(r io.Reader, limit int) ([]byte, error) {
	buf := make([]byte, 0, 16<<10)
	for {
		if len(buf) == cap(buf) {
			buf = append(buf, 0)[:len(buf)]
		}
		n, err := r.Read(buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		if len(buf) > limit {
			return buf, fmt.Errorf("%w: over %d bytes", ErrTooMuch, limit)
		}
		if err == io.EOF {
			return buf, nil
		}
		if err != nil {
			return buf, err
		}
	}
}
