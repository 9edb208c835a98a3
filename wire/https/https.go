// Package https asks devices over HTTPS: RESTCONF (RFC 8040) and whatever else
// answers to GET. The device's certificate is pinned by its public key, as an
// SSH host key is, unless an authority that the system trusts vouches for it.
package https

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/xml"
	"errors"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"syscall"
	"time"

	"vergekeep/core/reason"
	"vergekeep/wire/dial"
	"vergekeep/wire/ssh"
)

// Target is a device to connect to.
type Target struct {
	Addresses     []string
	User          string
	Password      string
	Token         string // a bearer token (RFC 6750); it goes before user and password
	Pins          []string
	Confirm       bool // refuse a device of which no pin is on record
	OldAlgorithms bool
	Connect       time.Duration
	Silence       time.Duration
	Through       dial.Func
}

// Conn is a device that can be asked. Every question may open a connection.
type Conn struct {
	t         Target
	client    *http.Client
	transport *http.Transport
	ctx       context.Context
	base      url.URL
	restconf  string // the root, once it has been found
	Pin       string // of the key that the device showed
	pinError  *ssh.KeyError
}

// PinPrefix starts a pin: what follows is the SHA-256 of the certificate's
// SubjectPublicKeyInfo in base64 (RFC 7469, section 2.4).
const PinPrefix = "tls-public-key-sha256 "

// Dial makes a connection ready and makes sure that the device answers and
// shows a key that is on record.
func Dial(ctx context.Context, t Target) (*Conn, error) {
	through := t.Through
	if through == nil {
		through = dial.TCP
	}
	c := &Conn{t: t, ctx: ctx, base: url.URL{Scheme: "https", Host: t.Addresses[0]}}
	host, _, err := net.SplitHostPort(t.Addresses[0])
	if err != nil {
		return nil, reason.New(reason.Unreachable, "%q is no address: %w.", t.Addresses[0], err)
	}
	c.transport = &http.Transport{
		MaxConnsPerHost: 1, ResponseHeaderTimeout: t.Silence, IdleConnTimeout: t.Silence, ForceAttemptHTTP2: false,
		TLSHandshakeTimeout: t.Connect,
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			nc, _, err := dial.Race(ctx, t.Addresses, t.Connect, through)
			if err != nil {
				return nil, err
			}
			w := dial.Watch(nc, t.Connect)
			w.SetSilence(t.Silence)
			return w, nil
		},
		TLSClientConfig: &tls.Config{
			MinVersion:         tls.VersionTLS12,
			InsecureSkipVerify: true, //nolint:gosec // verified by pin or authority in VerifyConnection
			VerifyConnection:   func(s tls.ConnectionState) error { return c.verify(host, s) },
		},
	}
	if t.OldAlgorithms {
		c.transport.TLSClientConfig.MinVersion = tls.VersionTLS10
		for _, suite := range slices.Concat(tls.CipherSuites(), tls.InsecureCipherSuites()) {
			c.transport.TLSClientConfig.CipherSuites = append(c.transport.TLSClientConfig.CipherSuites, suite.ID)
		}
	}
	c.client = &http.Client{Transport: c.transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	return c, nil
}

func (c *Conn) verify(host string, s tls.ConnectionState) error {
	sum := sha256.Sum256(s.PeerCertificates[0].RawSubjectPublicKeyInfo)
	c.Pin = PinPrefix + base64.StdEncoding.EncodeToString(sum[:])
	if slices.Contains(c.t.Pins, c.Pin) {
		return nil
	}
	options := x509.VerifyOptions{DNSName: host, Intermediates: x509.NewCertPool()}
	for _, cert := range s.PeerCertificates[1:] {
		options.Intermediates.AddCert(cert)
	}
	if _, err := s.PeerCertificates[0].Verify(options); err == nil {
		return nil
	}
	switch {
	case len(c.t.Pins) > 0:
		c.pinError = &ssh.KeyError{Reason: reason.New(reason.HostKeyChanged, "Its certificate has another key: %s; on record is %s.", c.Pin, strings.Join(c.t.Pins, " or ")), Shown: c.Pin}
		return c.pinError
	case c.t.Confirm:
		c.pinError = &ssh.KeyError{Reason: reason.New(reason.HostKeyNew, "Its certificate has the key %s, which nobody has confirmed yet.", c.Pin), Shown: c.Pin}
		return c.pinError
	}
	return nil
}

// Get asks for a path; "${restconf}" at its start stands for the root that the
// device's host metadata names (RFC 8040, section 3.1). Its error carries a
// reason.
func (c *Conn) Get(ctx context.Context, path, accept string, limit int) ([]byte, error) {
	if rest, ok := strings.CutPrefix(path, "${restconf}"); ok {
		if err := c.findRoot(ctx); err != nil {
			return nil, err
		}
		path = c.restconf + rest
	}
	body, status, err := c.ask(ctx, path, accept, limit)
	if err != nil {
		return nil, err
	}
	switch {
	case status == http.StatusOK:
		return body, nil
	case status == http.StatusNoContent:
		return nil, nil
	case status == http.StatusUnauthorized:
		return nil, reason.New(reason.CredentialRefused, "It refused the login of %s.", c.who())
	case status == http.StatusForbidden:
		return nil, reason.New(reason.NotAllowed, "It does not let %s read %s.", c.who(), path)
	case status == http.StatusConflict, status == http.StatusLocked:
		return nil, reason.New(reason.LockedByAnother, "It answered with status %d to %s: somebody else has it locked.", status, path)
	case status == http.StatusTooManyRequests, status == http.StatusServiceUnavailable:
		return nil, reason.New(reason.TooManySessions, "It answered with status %d to %s: it is too busy for us.", status, path)
	}
	return nil, reason.New(reason.DeviceError, "It answered with status %d to %s.", status, path)
}

func (c *Conn) who() string {
	if c.t.Token != "" {
		return "the token"
	}
	return c.t.User
}

func (c *Conn) ask(ctx context.Context, path, accept string, limit int) ([]byte, int, error) {
	u, err := c.base.Parse(path)
	if err != nil || u.Host != c.base.Host {
		return nil, 0, reason.New(reason.Protocol, "%q is no path on the device.", path)
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, u.String(), nil)
	if err != nil {
		return nil, 0, reason.New(reason.Protocol, "%q cannot be asked for: %w.", path, err)
	}
	if accept != "" {
		request.Header.Set("Accept", accept)
	}
	switch {
	case c.t.Token != "":
		request.Header.Set("Authorization", "Bearer "+c.t.Token)
	case c.t.User != "":
		request.SetBasicAuth(c.t.User, c.t.Password)
	}
	response, err := c.client.Do(request)
	if err != nil {
		return nil, 0, c.Why(err)
	}
	defer response.Body.Close()
	body, err := io.ReadAll(io.LimitReader(response.Body, int64(limit)+1))
	if err != nil {
		return nil, 0, c.Why(err)
	}
	if len(body) > limit {
		return nil, 0, reason.New(reason.Flood, "It sent more than %d MiB without coming to an end.", limit>>20)
	}
	if response.ContentLength >= 0 && int64(len(body)) != response.ContentLength {
		return nil, 0, reason.New(reason.Incomplete, "Of %d bytes %d came.", response.ContentLength, len(body))
	}
	return body, response.StatusCode, nil
}

// findRoot asks for the host metadata (RFC 6415) once.
func (c *Conn) findRoot(ctx context.Context) error {
	if c.restconf != "" {
		return nil
	}
	body, status, err := c.ask(ctx, "/.well-known/host-meta", "application/xrd+xml", 64<<10)
	if err != nil {
		return err
	}
	if status == http.StatusUnauthorized {
		return reason.New(reason.CredentialRefused, "It refused the login of %s.", c.who())
	}
	if status != http.StatusOK {
		return reason.New(reason.Protocol, "It has no host metadata (status %d), so that RESTCONF's root is not known.", status)
	}
	var meta struct {
		Links []struct {
			Rel  string `xml:"rel,attr"`
			Href string `xml:"href,attr"`
		} `xml:"Link"`
	}
	if err := xml.Unmarshal(body, &meta); err != nil {
		return reason.New(reason.Protocol, "Its host metadata cannot be read: %w.", err)
	}
	for _, l := range meta.Links {
		if l.Rel == "restconf" && strings.HasPrefix(l.Href, "/") {
			c.restconf = strings.TrimRight(l.Href, "/")
			return nil
		}
	}
	return reason.New(reason.Protocol, "Its host metadata names no RESTCONF root.")
}

// Shell is refused: HTTPS has no such thing.
func (c *Conn) Shell(int, int) (io.ReadWriteCloser, error) { return nil, errQuestions }

// Exec is refused: HTTPS has no such thing.
func (c *Conn) Exec(string, int) ([]byte, int, error) { return nil, -1, errQuestions }

// Subsystem is refused: HTTPS has no such thing.
func (c *Conn) Subsystem(string) (io.ReadWriteCloser, error) { return nil, errQuestions }

var errQuestions = reason.New(reason.Protocol, "This platform needs SSH, and the record says HTTPS.")

// Why explains an error of asking.
func (c *Conn) Why(err error) error {
	var given *reason.Error
	var timeout net.Error
	var alert tls.AlertError
	var record tls.RecordHeaderError
	switch {
	case c.pinError != nil:
		return c.pinError
	case c.ctx.Err() != nil:
		return dial.Cancelled(c.ctx)
	case errors.As(err, &given):
		return given
	case errors.As(err, &timeout) && timeout.Timeout():
		return reason.New(reason.Hung, "It fell silent for %s.", c.t.Silence)
	case errors.As(err, &alert), strings.Contains(err.Error(), "tls: "):
		return reason.New(reason.NoCommonAlgorithm, "It offers no TLS that is safe: %w.", errors.Unwrap(err))
	case errors.As(err, &record), strings.Contains(err.Error(), "HTTP response to HTTPS client"):
		return reason.New(reason.Protocol, "It does not speak HTTPS at this port.")
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, syscall.ECONNRESET):
		return reason.New(reason.HungUp, "It closed the connection in the middle of its answer.")
	}
	return reason.New(reason.Protocol, "It does not speak HTTP as it should: %w.", err)
}

// Close ends the connections.
func (c *Conn) Close() error {
	c.transport.CloseIdleConnections()
	return nil
}
