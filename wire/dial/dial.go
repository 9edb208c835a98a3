// Package dial connects to a device that may have several addresses: IPv4, IPv6
// with a zone, and names. They are raced as RFC 8305 ("Happy Eyeballs") says.
package dial

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"syscall"
	"time"

	"vergekeep/core/reason"
)

// Delay is how long an attempt has before the next one starts beside it
// (RFC 8305, section 5: the Connection Attempt Delay).
const Delay = 250 * time.Millisecond

// maxAttempts bounds what one device can make us try.
const maxAttempts = 16

// Func connects to one address: host:port with a literal address.
type Func func(ctx context.Context, address string) (net.Conn, error)

// TCP is the usual Func.
func TCP(ctx context.Context, address string) (net.Conn, error) {
	var d net.Dialer
	return d.DialContext(ctx, "tcp", address)
}

// Race connects to the first of the addresses (host:port each) that answers
// within the limit. Names are resolved here. Its error carries a reason.
func Race(ctx context.Context, addresses []string, limit time.Duration, connect Func) (net.Conn, string, error) {
	parent := ctx
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	if len(addresses) == 1 {
		if host, _, err := net.SplitHostPort(addresses[0]); err == nil && isLiteral(host) {
			c, err := connect(ctx, addresses[0])
			if err != nil {
				return nil, "", explain(parent, addresses[0], err)
			}
			return c, addresses[0], nil
		}
	}
	candidates, err := resolve(ctx, addresses)
	if err != nil {
		return nil, "", explain(parent, addresses[0], err)
	}
	return race(parent, ctx, candidates, connect)
}

func race(parent, ctx context.Context, candidates []string, connect Func) (net.Conn, string, error) {
	type answer struct {
		conn    net.Conn
		address string
		err     error
	}
	ctx, cancel := context.WithCancel(ctx)
	answers := make(chan answer)
	running, next := 0, 0
	start := func() {
		address := candidates[next]
		next++
		running++
		go func() {
			c, err := connect(ctx, address)
			answers <- answer{c, address, err}
		}()
	}
	// Whoever comes too late is closed, and nobody is left behind.
	defer func() {
		cancel()
		for range running {
			go func() {
				if a := <-answers; a.conn != nil {
					_ = a.conn.Close()
				}
			}()
		}
	}()
	start()
	timer := time.NewTimer(Delay)
	defer timer.Stop()
	var best error
	for running > 0 {
		select {
		case a := <-answers:
			running--
			if a.err == nil {
				return a.conn, a.address, nil
			}
			best = worse(best, explain(parent, a.address, a.err))
			if next < len(candidates) {
				start()
				timer.Reset(Delay)
			}
		case <-timer.C:
			if next < len(candidates) {
				start()
				timer.Reset(Delay)
			}
		}
	}
	return nil, "", best
}

// worse keeps the failure that tells most: a refusal means that the device is
// there.
func worse(a, b error) error {
	rank := map[reason.Code]int{reason.HungUp: 4, reason.Refused: 3, reason.ConnectTimeout: 2, reason.Unreachable: 1}
	if a == nil || rank[reason.Of(b, "")] > rank[reason.Of(a, "")] {
		return b
	}
	return a
}

func isLiteral(host string) bool {
	_, err := netip.ParseAddr(host)
	return err == nil
}

// resolve makes literal addresses of all and sorts them: families in turns,
// IPv6 first, otherwise in the order given (RFC 8305, section 4).
func resolve(ctx context.Context, addresses []string) ([]string, error) {
	var six, four []string
	var failed error
	for _, address := range addresses {
		host, port, err := net.SplitHostPort(address)
		if err != nil {
			failed = err
			continue
		}
		found := []netip.Addr{}
		if literal, err := netip.ParseAddr(host); err == nil {
			found = append(found, literal)
		} else if found, err = net.DefaultResolver.LookupNetIP(ctx, "ip", host); err != nil {
			failed = err
		}
		for _, ip := range found {
			literal := net.JoinHostPort(ip.Unmap().String(), port)
			if ip.Unmap().Is4() {
				four = append(four, literal)
			} else {
				six = append(six, literal)
			}
		}
	}
	var all []string
	for i := range max(len(six), len(four)) {
		if i < len(six) {
			all = append(all, six[i])
		}
		if i < len(four) {
			all = append(all, four[i])
		}
	}
	if len(all) == 0 {
		return nil, failed
	}
	return all[:min(len(all), maxAttempts)], nil
}

func explain(ctx context.Context, address string, err error) error {
	var given *reason.Error
	var unknown *net.DNSError
	var timeout net.Error
	switch {
	case errors.As(err, &given):
		return given
	case ctx.Err() != nil:
		return Cancelled(ctx)
	case errors.As(err, &unknown):
		return reason.New(reason.NameUnknown, "The name %s is not known: %w.", unknown.Name, err)
	case errors.Is(err, syscall.ECONNRESET): // accepted and closed before we looked
		return reason.New(reason.HungUp, "It closed the connection to %s at once.", address)
	case errors.Is(err, syscall.ECONNREFUSED):
		return reason.New(reason.Refused, "It refused the connection to %s.", address)
	case errors.Is(err, context.DeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		return reason.New(reason.ConnectTimeout, "It did not answer in time at %s.", address)
	}
	return reason.New(reason.Unreachable, "It cannot be reached at %s: %w.", address, err)
}

// Cancelled is the reason for which ctx ended.
func Cancelled(ctx context.Context) error {
	var given *reason.Error
	if errors.As(context.Cause(ctx), &given) {
		return given
	}
	return reason.New(reason.Cancelled, "The visit was cancelled.")
}
