// Package postbox is a mail server that keeps what it is given, for tests and the
// demonstration. It sends nothing on.
package postbox

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"errors"
	"io"
	"math/big"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	"net/mail"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// User and Password log in.
const (
	User     = "keeper"
	Password = "over-the-verge"
)

// TLS is when a server begins to speak TLS.
type TLS int

// The times.
const (
	Never TLS = iota
	AfterGreeting
	FromTheStart
)

// Letter is a message as it came.
type Letter struct {
	From string
	To   []string
	User string // who was logged in; "" for nobody
	Text string // header and body
}

// Header is the header of a letter.
func (l Letter) Header() (mail.Header, error) {
	m, err := mail.ReadMessage(strings.NewReader(l.Text))
	if err != nil {
		return nil, err
	}
	return m.Header, nil
}

// Parts are the decoded parts of a letter by their media types (RFC 2045, RFC 2046).
func (l Letter) Parts() (map[string]string, error) {
	m, err := mail.ReadMessage(strings.NewReader(l.Text))
	if err != nil {
		return nil, err
	}
	parts := map[string]string{}
	return parts, take(parts, m.Header.Get("Content-Type"), m.Header.Get("Content-Transfer-Encoding"), m.Body)
}

func take(parts map[string]string, kind, encoding string, body io.Reader) error {
	media, params, err := mime.ParseMediaType(kind)
	if err != nil {
		return err
	}
	if !strings.HasPrefix(media, "multipart/") {
		switch strings.ToLower(encoding) {
		case "quoted-printable":
			body = quotedprintable.NewReader(body)
		case "base64":
			body = base64.NewDecoder(base64.StdEncoding, body)
		}
		text, err := io.ReadAll(body)
		parts[media] = string(text)
		return err
	}
	r := multipart.NewReader(body, params["boundary"])
	for {
		p, err := r.NextRawPart()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err == nil {
			err = take(parts, p.Header.Get("Content-Type"), p.Header.Get("Content-Transfer-Encoding"), p)
		}
		if err != nil {
			return err
		}
	}
}

// maxLetters is how many are kept; the oldest go.
const maxLetters = 1000

// Box is the server.
type Box struct {
	Address string         // host:port
	Roots   *x509.CertPool // that vouches for its certificate

	server *smtp.Server
	served chan struct{}

	mu      sync.Mutex
	letters []Letter
	refusal error
}

// Open listens on a free port of loopback.
func Open(when TLS) (*Box, error) {
	cert, roots, err := certificate()
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	b := &Box{Address: l.Addr().String(), Roots: roots, served: make(chan struct{})}
	b.server = smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &session{box: b}, nil }))
	b.server.Domain, b.server.ReadTimeout, b.server.WriteTimeout, b.server.MaxMessageBytes = "post.skerry.example", time.Minute, time.Minute, 64<<20
	conf := &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12}
	switch when {
	case AfterGreeting:
		b.server.TLSConfig = conf
	case FromTheStart:
		l = tls.NewListener(l, conf)
	default:
		b.server.AllowInsecureAuth = true
	}
	go func() {
		defer close(b.served)
		_ = b.server.Serve(l)
	}()
	return b, nil
}

// Close ends the server.
func (b *Box) Close() error {
	err := b.server.Close()
	<-b.served
	return err
}

// Letters is what came, the oldest first.
func (b *Box) Letters() []Letter {
	b.mu.Lock()
	defer b.mu.Unlock()
	return slices.Clone(b.letters)
}

// Refuse makes it refuse every message with a reply, such as 451 "later"; a code of
// 0 makes it take them again.
func (b *Box) Refuse(code int, what string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.refusal = nil
	if code > 0 {
		b.refusal = &smtp.SMTPError{Code: code, EnhancedCode: smtp.EnhancedCode{code / 100, 3, 0}, Message: what}
	}
}

func certificate() (tls.Certificate, *x509.CertPool, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return tls.Certificate{}, nil, err
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "post.skerry.example"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(1, 0, 0),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return tls.Certificate{}, nil, err
	}
	parsed, err := x509.ParseCertificate(der)
	if err != nil {
		return tls.Certificate{}, nil, err
	}
	roots := x509.NewCertPool()
	roots.AddCert(parsed)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, roots, nil
}

type session struct {
	box    *Box
	letter Letter
}

// AuthMechanisms implements [smtp.AuthSession].
func (s *session) AuthMechanisms() []string { return []string{sasl.Plain} }

// Auth implements [smtp.AuthSession].
func (s *session) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if user != User || password != Password {
			return smtp.ErrAuthFailed
		}
		s.letter.User = user
		return nil
	}), nil
}

// Reset implements [smtp.Session].
func (s *session) Reset() { s.letter = Letter{User: s.letter.User} }

// Logout implements [smtp.Session].
func (s *session) Logout() error { return nil }

// Mail implements [smtp.Session].
func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	s.letter.From, s.letter.To = from, nil
	return nil
}

// Rcpt implements [smtp.Session]; nobody@ anything is nobody.
func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	if strings.HasPrefix(to, "nobody@") {
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "no such mailbox"}
	}
	s.letter.To = append(s.letter.To, to)
	return nil
}

// Data implements [smtp.Session].
func (s *session) Data(r io.Reader) error {
	text, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	s.box.mu.Lock()
	defer s.box.mu.Unlock()
	if s.box.refusal != nil {
		return s.box.refusal
	}
	letter := s.letter
	letter.Text = string(text)
	s.box.letters = append(s.box.letters, letter)
	if over := len(s.box.letters) - maxLetters; over > 0 {
		s.box.letters = slices.Delete(s.box.letters, 0, over)
	}
	return nil
}
