// Package outlet tells other systems what happened: events as CloudEvents 1.0 by
// HTTP, signed (RFC 9421), and messages as syslog (RFC 5424) by UDP, TCP or TLS.
package outlet

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"
)

// ErrTarget is wrapped where a target makes no sense, ErrSend where it did not take
// what was sent.
var (
	ErrTarget = errors.New("nothing can be sent there")
	ErrSend   = errors.New("it was not taken")
)

// Event is a CloudEvent in its JSON format (CloudEvents 1.0).
type Event struct {
	SpecVersion string          `json:"specversion"`
	ID          string          `json:"id"`
	Source      string          `json:"source"`
	Type        string          `json:"type"`
	Subject     string          `json:"subject,omitempty"`
	Time        time.Time       `json:"time"`
	ContentType string          `json:"datacontenttype"`
	Data        json.RawMessage `json:"data"`
}

// limit is how long a target may take.
const limit = 15 * time.Second

// CheckHook says what is wrong with the address of a hook.
func CheckHook(target string) error {
	u, err := url.Parse(target)
	if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || u.User != nil {
		return fmt.Errorf("%w: %q is no web address without a login in it; write for example https://desk.skerry.example/hooks/changes", ErrTarget, target)
	}
	if ip := net.ParseIP(u.Hostname()); u.Scheme == "http" && u.Hostname() != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return fmt.Errorf("%w: without TLS only a server on this machine is talked to", ErrTarget)
	}
	return nil
}

var client = &http.Client{Timeout: limit, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}

// Post sends an event to a hook. With a key the request is signed by HMAC-SHA-256
// over its method, its address and the digest of its body (RFC 9421, section 3.3.3;
// RFC 9530).
func Post(ctx context.Context, target string, key []byte, e Event, now time.Time) error {
	if err := CheckHook(target); err != nil {
		return err
	}
	e.SpecVersion, e.ContentType = "1.0", "application/json"
	body, err := json.Marshal(e)
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, target, bytes.NewReader(body))
	if err != nil {
		return fmt.Errorf("%w: %w", ErrTarget, err)
	}
	r.Header.Set("Content-Type", "application/cloudevents+json; charset=utf-8")
	r.Header.Set("User-Agent", "vergekeep")
	if len(key) > 0 {
		Sign(r, body, key, now)
	}
	answer, err := client.Do(r)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrSend, err)
	}
	defer answer.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(answer.Body, 512))
	if answer.StatusCode < 200 || answer.StatusCode > 299 {
		return fmt.Errorf("%w: it answered %s %s", ErrSend, answer.Status, strings.Join(strings.Fields(strings.ToValidUTF8(string(said), "?")), " "))
	}
	return nil
}

// label is the name of our signature in a request.
const label = "verge"

// Sign adds the digest of the body and a signature.
func Sign(r *http.Request, body, key []byte, now time.Time) {
	sum := sha256.Sum256(body)
	r.Header.Set("Content-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(sum[:])+":")
	params := fmt.Sprintf(`("@method" "@target-uri" "content-digest");created=%d;alg="hmac-sha256"`, now.Unix())
	r.Header.Set("Signature-Input", label+"="+params)
	r.Header.Set("Signature", label+"=:"+base64.StdEncoding.EncodeToString(signature(r.Method, r.URL.String(), r.Header.Get("Content-Digest"), params, key))+":")
}

// signature is over the signature base of RFC 9421, section 2.5.
func signature(method, target, digest, params string, key []byte) []byte {
	mac := hmac.New(sha256.New, key)
	fmt.Fprintf(mac, "\"@method\": %s\n\"@target-uri\": %s\n\"content-digest\": %s\n\"@signature-params\": %s", method, target, digest, params)
	return mac.Sum(nil)
}

// ErrSignature says that a request does not come from whoever has the key.
var ErrSignature = errors.New("the signature does not fit")

// Verify holds a request against its signature; target is the address as it was
// posted to. Whoever takes events can do the same.
func Verify(r *http.Request, target string, body, key []byte) error {
	sum := sha256.Sum256(body)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	params, ok := strings.CutPrefix(r.Header.Get("Signature-Input"), label+"=")
	if !ok || r.Header.Get("Content-Digest") != digest {
		return ErrSignature
	}
	said, err := base64.StdEncoding.DecodeString(strings.TrimSuffix(strings.TrimPrefix(r.Header.Get("Signature"), label+"=:"), ":"))
	if err != nil || !hmac.Equal(said, signature(r.Method, target, digest, params, key)) {
		return ErrSignature
	}
	return nil
}

// CheckSyslog says what is wrong with the address of a syslog server.
func CheckSyslog(target string) error {
	_, _, err := syslogTarget(target)
	return err
}

func syslogTarget(target string) (network, address string, err error) {
	u, err := url.Parse(target)
	if err == nil && (u.Scheme == "udp" || u.Scheme == "tcp" || u.Scheme == "tls") && u.Port() != "" && u.Hostname() != "" && u.Path == "" {
		return u.Scheme, u.Host, nil
	}
	return "", "", fmt.Errorf("%w: %q is no syslog server; write for example tls://logs.skerry.example:6514, tcp://… or udp://…", ErrTarget, target)
}

// Syslog sends messages; by TCP and TLS they are framed by counting (RFC 6587,
// 3.4.1; RFC 5425, 4.3).
func Syslog(ctx context.Context, target string, messages []string, conf *tls.Config) error {
	network, address, err := syslogTarget(target)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	var c net.Conn
	if network == "tls" {
		c, err = (&tls.Dialer{Config: conf}).DialContext(ctx, "tcp", address)
	} else {
		c, err = (&net.Dialer{}).DialContext(ctx, network, address)
	}
	if err != nil {
		return fmt.Errorf("%w: %w", ErrSend, err)
	}
	defer c.Close()
	if deadline, ok := ctx.Deadline(); ok {
		if err := c.SetDeadline(deadline); err != nil {
			return fmt.Errorf("%w: %w", ErrSend, err)
		}
	}
	for _, m := range messages {
		if network != "udp" {
			m = fmt.Sprintf("%d %s", len(m), m)
		}
		if _, err := io.WriteString(c, m); err != nil {
			return fmt.Errorf("%w: %w", ErrSend, err)
		}
	}
	return nil
}
