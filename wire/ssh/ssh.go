// Package ssh connects to devices over SSH (RFC 4251 to 4254) with
// golang.org/x/crypto/ssh, and says in the service's own words why it could
// not. Time limits for connecting and for silence are enforced on the network
// connection, so that nothing above it can hang.
package ssh

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"

	"vergekeep/core/reason"
	"vergekeep/wire/dial"
)

// Target is a device to connect to.
type Target struct {
	Addresses []string // host:port each, raced
	Login     Login
	// HostKeys are the keys on record in the authorized-keys form. Without any,
	// the key that is shown is accepted, and the caller puts it on record.
	HostKeys []string
	// Confirm refuses a device of which no key is on record.
	Confirm bool
	// OldAlgorithms allows those that are no longer thought safe.
	OldAlgorithms bool
	Connect       time.Duration // limit for connecting and logging in
	Silence       time.Duration // limit for hearing nothing
	// Through connects to an address; it is direct if left out.
	Through dial.Func
}

// Conn is a connection to a device.
type Conn struct {
	client  *ssh.Client
	conn    *dial.Watched
	ctx     context.Context
	stop    func() bool
	Address string // that answered
	Banner  string // what it said before the login
	Version string // what it said it is (RFC 4253, section 4.2)
	HostKey string // the key that the device showed
	// Old names the algorithms in use that are no longer thought safe.
	Old []string
}

// KeyError says that the device showed a key that is not on record.
type KeyError struct {
	Reason *reason.Error
	Shown  string // in the authorized-keys form
}

func (e *KeyError) Error() string { return e.Reason.Error() }

func (e *KeyError) Unwrap() error { return e.Reason }

// Dial connects and logs in. Its error carries a reason. When ctx ends, the
// connection is closed.
func Dial(ctx context.Context, t Target) (*Conn, error) {
	through := t.Through
	if through == nil {
		through = dial.TCP
	}
	begun := time.Now()
	nc, address, err := dial.Race(ctx, t.Addresses, t.Connect, through)
	if err != nil {
		return nil, err
	}
	c := &Conn{conn: dial.Watch(nc, t.Connect-time.Since(begun)), ctx: ctx, Address: address}
	c.stop = context.AfterFunc(ctx, func() { _ = nc.Close() })
	abandon := func(err error) (*Conn, error) {
		_ = c.conn.Close()
		c.stop()
		return nil, err
	}
	a := &attempt{login: t.Login}
	methods, err := a.methods()
	if err != nil {
		return abandon(err)
	}
	var keyError *KeyError
	conf := &ssh.ClientConfig{
		User: t.Login.User, Auth: methods,
		BannerCallback: func(message string) error {
			a.hear(message)
			return nil
		},
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			c.HostKey = authorized(key)
			if keyError = checkKey(t, c.HostKey); keyError != nil {
				return keyError
			}
			return nil
		},
	}
	conf.HostKeyAlgorithms = algorithmsOf(t.HostKeys)
	if t.OldAlgorithms {
		allowOld(conf, t.HostKeys)
	}
	sc, channels, requests, err := ssh.NewClientConn(c.conn, address, conf)
	if err != nil {
		if keyError != nil {
			return abandon(keyError)
		}
		return abandon(c.handshakeError(ctx, a, err))
	}
	c.conn.SetSilence(t.Silence)
	if m, ok := sc.(ssh.AlgorithmsConnMetadata); ok {
		c.Old = oldOnes(m.Algorithms())
	}
	c.client = ssh.NewClient(sc, channels, requests)
	c.Banner, c.Version = a.said.String(), string(sc.ServerVersion())
	return c, nil
}

func authorized(key ssh.PublicKey) string {
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))
}

func checkKey(t Target, shown string) *KeyError {
	switch {
	case slices.Contains(t.HostKeys, shown):
		return nil
	case len(t.HostKeys) == 0 && !t.Confirm:
		return nil
	case len(t.HostKeys) == 0:
		return &KeyError{reason.New(reason.HostKeyNew, "It shows the host key %s, which nobody has confirmed yet.", Fingerprint(shown)), shown}
	}
	known := make([]string, len(t.HostKeys))
	for i, k := range t.HostKeys {
		known[i] = Fingerprint(k)
	}
	return &KeyError{reason.New(reason.HostKeyChanged, "It shows another host key: %s; on record is %s.", Fingerprint(shown), strings.Join(known, " or ")), shown}
}

// algorithmsOf asks for the kinds of key that are on record, so that a device
// with several keys shows one of those.
func algorithmsOf(keys []string) []string {
	var list []string
	for _, k := range keys {
		key, err := parseKey(k)
		if err != nil {
			continue
		}
		if key.Type() == ssh.KeyAlgoRSA {
			list = append(list, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
		} else {
			list = append(list, key.Type())
		}
	}
	return slices.Compact(list)
}

// allowOld adds the algorithms that are no longer thought safe, behind the others.
func allowOld(conf *ssh.ClientConfig, keys []string) {
	safe, old := ssh.SupportedAlgorithms(), ssh.InsecureAlgorithms()
	conf.KeyExchanges = slices.Concat(safe.KeyExchanges, old.KeyExchanges)
	conf.Ciphers = slices.Concat(safe.Ciphers, old.Ciphers)
	conf.MACs = slices.Concat(safe.MACs, old.MACs)
	if len(keys) == 0 {
		conf.HostKeyAlgorithms = slices.Concat(safe.HostKeys, old.HostKeys)
		return
	}
	for _, k := range keys {
		if key, err := parseKey(k); err == nil && key.Type() == ssh.KeyAlgoRSA {
			conf.HostKeyAlgorithms = append(conf.HostKeyAlgorithms, ssh.KeyAlgoRSA)
		}
	}
}

func oldOnes(in ssh.NegotiatedAlgorithms) []string {
	old := ssh.InsecureAlgorithms()
	var found []string
	note := func(name string, list []string) {
		if slices.Contains(list, name) && !slices.Contains(found, name) {
			found = append(found, name)
		}
	}
	note(in.KeyExchange, old.KeyExchanges)
	note(in.HostKey, old.HostKeys)
	for _, direction := range []ssh.DirectionAlgorithms{in.Read, in.Write} {
		note(direction.Cipher, old.Ciphers)
		note(direction.MAC, old.MACs)
	}
	return found
}

func parseKey(authorized string) (ssh.PublicKey, error) {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(authorized))
	return key, err
}

// Fingerprint is the SHA-256 fingerprint of a key in the authorized-keys form;
// anything else, such as a pin of a certificate, is its own name.
func Fingerprint(authorized string) string {
	key, err := parseKey(authorized)
	if err != nil {
		return authorized
	}
	return ssh.FingerprintSHA256(key)
}

func (c *Conn) handshakeError(ctx context.Context, a *attempt, err error) error {
	var negotiation *ssh.AlgorithmNegotiationError
	var timeout net.Error
	text := err.Error()
	switch {
	case ctx.Err() != nil:
		return dial.Cancelled(ctx)
	case a.stopped != nil:
		return a.stopped
	case errors.As(err, &timeout) && timeout.Timeout(), c.conn.Silent():
		if c.conn.Heard() {
			return reason.New(reason.ConnectTimeout, "It began to talk, but the login did not come to an end in time.")
		}
		return reason.New(reason.Silent, "It accepted the connection and then said nothing.")
	case strings.Contains(text, "unable to authenticate"), strings.Contains(text, "ssh: disconnect"):
		return a.refused(text)
	case errors.As(err, &negotiation):
		return reason.New(reason.NoCommonAlgorithm, "It offers only algorithms that are no longer safe: %s.", strings.Join(offered(negotiation), ", "))
	case errors.Is(err, io.EOF), errors.Is(err, syscall.ECONNRESET), errors.Is(err, io.ErrUnexpectedEOF):
		if why := a.told(); why != nil {
			return why
		}
		if c.conn.Heard() && !bytes.Contains(c.conn.First(), []byte("SSH-")) {
			return reason.New(reason.NotSSH, "Something else than SSH answers there.")
		}
		return reason.New(reason.HungUp, "It closed the connection during the login.")
	}
	return reason.New(reason.NotSSH, "It does not speak SSH as it should: %w.", err)
}

// Why explains an error of reading or writing over the connection: silence, an
// end that came too early, or a cancelled visit.
func (c *Conn) Why(err error) error {
	var given *reason.Error
	switch {
	case errors.As(err, &given):
		return given
	case c.ctx.Err() != nil:
		return dial.Cancelled(c.ctx)
	case c.conn.Silent():
		return reason.New(reason.Hung, "It fell silent for %s in the middle of the visit.", c.conn.Silence())
	}
	return reason.New(reason.HungUp, "It closed the connection in the middle of the visit.")
}

// KeepAlive asks the device now and then whether it is still there, until ctx ends;
// where it says nothing for three times as long, the connection ends.
func (c *Conn) KeepAlive(ctx context.Context, every time.Duration) {
	c.conn.SetSilence(3 * every)
	beat := time.NewTicker(every)
	defer beat.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-beat.C:
			if _, _, err := c.client.SendRequest("keepalive@openssh.com", true, nil); err != nil {
				return // whoever reads hears of it
			}
		}
	}
}

// Close ends the connection.
func (c *Conn) Close() error {
	c.stop()
	return errors.Join(c.client.Close(), ignoreClosed(c.conn.Close()))
}

func ignoreClosed(err error) error {
	if errors.Is(err, net.ErrClosed) || errors.Is(err, io.EOF) {
		return nil
	}
	return err
}

// offered is what the device offers, without the marks that are no algorithms.
func offered(e *ssh.AlgorithmNegotiationError) []string {
	return slices.DeleteFunc(slices.Clone(e.RequestedAlgorithms), func(name string) bool {
		return strings.HasPrefix(name, "kex-strict-") || strings.HasPrefix(name, "ext-info-")
	})
}
