// Package mail hands messages to a mail server by SMTP (RFC 5321), over TLS and
// with authentication. A message has plain text and HTML side by side, and files.
package mail

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/mail"
	"net/textproto"
	"strconv"
	"time"

	gomail "github.com/wneessen/go-mail"
)

// Security is how the connection to a server is protected.
type Security string

// The securities.
const (
	StartTLS Security = "starttls" // TLS after the greeting (RFC 3207), which must succeed
	TLS      Security = "tls"      // TLS from the start (RFC 8314)
	Plain    Security = "none"     // nothing; on loopback only
)

// Errors that callers test for.
var (
	ErrServer  = errors.New("not a mail server")
	ErrAddress = errors.New("not a mail address")
	ErrSend    = errors.New("the mail could not be handed over")
)

// Server is a mail server and how to talk to it.
type Server struct {
	Address  string // host:port
	Security Security
	User     string // "" for no authentication
	Password string
	Roots    *x509.CertPool // that its certificate must come from; the machine's if nil
	Limit    time.Duration  // for all of it
}

// File is attached to a message.
type File struct {
	Name, Media string
	Data        []byte
}

// Message is what is sent.
type Message struct {
	From, Subject string
	To            []string
	Text, HTML    string
	Files         []File
	ID            string // without < and >; what is sent twice is known by it. "" for one of its own
	At            time.Time
}

// CheckAddress says whether an address can be sent to: name@domain, maybe with a
// person's name before it (RFC 5322).
func CheckAddress(s string) error {
	if _, err := mail.ParseAddress(s); err != nil || len(s) > 320 {
		return fmt.Errorf("%w: %q; write for example noc@skerry.example", ErrAddress, s)
	}
	return nil
}

// Check says what is wrong with a server.
func (s *Server) Check() error {
	host, port, err := net.SplitHostPort(s.Address)
	if n, convErr := strconv.Atoi(port); err != nil || host == "" || convErr != nil || n < 1 || n > 65535 {
		return fmt.Errorf("%w: %q is no address; write for example smtp.skerry.example:587", ErrServer, s.Address)
	}
	switch s.Security {
	case StartTLS, TLS:
		return nil
	case Plain:
		if ip := net.ParseIP(host); host == "localhost" || ip != nil && ip.IsLoopback() {
			return nil
		}
		return fmt.Errorf("%w: without TLS only a server on this machine is talked to", ErrServer)
	}
	return fmt.Errorf("%w: %q is no security; there are %s, %s and %s", ErrServer, s.Security, StartTLS, TLS, Plain)
}

// Lasting says whether an error of Send would come again: the server has refused
// the message or the recipient for good (a reply of 5yz).
func Lasting(err error) bool {
	var reply *textproto.Error
	if errors.As(err, &reply) {
		return reply.Code >= 500
	}
	var sent *gomail.SendError
	return errors.As(err, &sent) && !sent.IsTemp() && sent.ErrorCode() >= 500
}

// Send hands a message to the server. When it returns nil the server has taken
// it for all recipients.
func Send(ctx context.Context, s Server, m Message) error {
	if err := s.Check(); err != nil {
		return err
	}
	msg, err := build(m)
	if err != nil {
		return err
	}
	host, port, err := net.SplitHostPort(s.Address)
	if err != nil {
		return err
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return err
	}
	limit := s.Limit
	if limit == 0 {
		limit = time.Minute
	}
	options := []gomail.Option{gomail.WithPort(number), gomail.WithTimeout(limit),
		gomail.WithTLSConfig(&tls.Config{ServerName: host, RootCAs: s.Roots, MinVersion: tls.VersionTLS12})}
	switch s.Security {
	case StartTLS:
		options = append(options, gomail.WithTLSPolicy(gomail.TLSMandatory))
	case TLS:
		options = append(options, gomail.WithSSL())
	case Plain:
		options = append(options, gomail.WithTLSPolicy(gomail.NoTLS))
	}
	if s.User != "" {
		kind := gomail.SMTPAuthAutoDiscover
		if s.Security == Plain {
			kind = gomail.SMTPAuthPlainNoEnc // the wire does not leave the machine
		}
		options = append(options, gomail.WithSMTPAuth(kind), gomail.WithUsername(s.User), gomail.WithPassword(s.Password))
	}
	client, err := gomail.NewClient(host, options...)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrSend, err)
	}
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	if err := client.DialAndSendWithContext(ctx, msg); err != nil {
		return fmt.Errorf("%w to %s: %w", ErrSend, s.Address, err)
	}
	return nil
}

func build(m Message) (*gomail.Msg, error) {
	if len(m.To) == 0 {
		return nil, fmt.Errorf("%w: nobody is named to send it to", ErrAddress)
	}
	for _, a := range append([]string{m.From}, m.To...) {
		if err := CheckAddress(a); err != nil {
			return nil, err
		}
	}
	msg := gomail.NewMsg()
	if err := msg.From(m.From); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrAddress, err)
	}
	if err := msg.To(m.To...); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrAddress, err)
	}
	msg.Subject(m.Subject)
	msg.SetDateWithValue(m.At)
	if m.ID != "" {
		msg.SetMessageIDWithValue(m.ID)
	} else {
		msg.SetMessageID()
	}
	// Nobody's holiday note need come back (RFC 3834).
	msg.SetGenHeader(gomail.Header("Auto-Submitted"), "auto-generated")
	msg.SetBodyString(gomail.TypeTextPlain, m.Text)
	if m.HTML != "" {
		msg.AddAlternativeString(gomail.TypeTextHTML, m.HTML)
	}
	for _, f := range m.Files {
		if err := msg.AttachReader(f.Name, bytes.NewReader(f.Data), gomail.WithFileContentType(gomail.ContentType(f.Media))); err != nil {
			return nil, fmt.Errorf("attaching %s: %w", f.Name, err)
		}
	}
	return msg, nil
}
