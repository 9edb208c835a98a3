package rounds

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"time"

	"vergekeep/core/dialect"
	"vergekeep/core/reason"
	"vergekeep/core/selector"
	"vergekeep/service/fleet"
	"vergekeep/service/vault"
	"vergekeep/wire/conversation"
	"vergekeep/wire/netconf"
	"vergekeep/wire/snmp"
	"vergekeep/wire/ssh"
)

// ErrSilent says that a device has nothing to tell by itself, or no question.
var ErrSilent = errors.New("it has no way to tell")

// stillThere is how often a session that only listens is asked whether it lives.
const stillThere = 30 * time.Second

// Listen subscribes to a device's notifications (RFC 5277) and hands them on, until
// ctx or the session ends. Subscribed is called once it listens.
func (s *Service) Listen(ctx context.Context, d fleet.Device, subscribed func(), heard func(netconf.Notification)) error {
	whole := s.dialects[d.Platform]
	if whole == nil || whole.Reach.Channel != dialect.Netconf {
		return ErrSilent
	}
	dl := patient(whole.For(d.Nameplate), &d)
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var l *link
	if _, err := s.withCredential(ctx, &d, nil, func(c vault.Credential) (err error) {
		l, err = s.connect(ctx, &d, dl, c)
		return err
	}); err != nil {
		return err
	}
	defer l.Close()
	rw, err := l.Subsystem("netconf")
	if err != nil {
		return err
	}
	defer rw.Close()
	session, err := netconf.Open(rw, 1<<20)
	if err != nil {
		return l.Why(err)
	}
	if !session.Has(netconf.Notifications) {
		return ErrSilent
	}
	if err := session.Subscribe(); err != nil {
		var refused *netconf.RPCError
		if errors.As(err, &refused) {
			return fmt.Errorf("%w: it refuses the subscription: %w", ErrSilent, err)
		}
		return l.Why(err)
	}
	if c, ok := l.Conn.(*ssh.Conn); ok {
		go c.KeepAlive(ctx, stillThere)
	}
	subscribed()
	for {
		n, err := session.Next()
		if err != nil {
			return l.Why(err)
		}
		heard(n)
	}
}

// Ask asks a device the cheap question of its dialect.
func (s *Service) Ask(ctx context.Context, d fleet.Device) (string, error) {
	dl, err := s.fleet.Dialect(ctx, &d)
	if err != nil {
		return "", err
	}
	if dl == nil || dl.Ask == nil {
		return "", fmt.Errorf("%w: its dialect has no question", ErrSilent)
	}
	dl = patient(dl.For(d.Nameplate), &d)
	if dl.Ask.Object != "" {
		return s.askSNMP(ctx, &d, dl.Ask.Object)
	}
	keys := keysOf(&d)
	if !s.limits.take(keys) {
		return "", reason.New(reason.AlreadyVisited, "It is being visited at this moment.")
	}
	defer s.limits.give(keys)
	ctx, cancel := context.WithTimeout(ctx, dl.Reach.Visit)
	defer cancel()
	var result conversation.Result
	_, err = s.withCredential(ctx, &d, nil, func(c vault.Credential) error {
		l, err := s.connect(ctx, &d, dl, c)
		if err != nil {
			return err
		}
		defer l.Close()
		result, err = conversation.Run(ctx, l.Conn, conversation.Until(dl, dl.Ask.After), settings(c, &d, nil))
		return err
	})
	if err != nil {
		return "", err
	}
	answer := dl.Ask.Answer(result.Kept())
	if answer == "" {
		return "", reason.New(reason.Incomplete, "Its answer to the cheap question does not say when it was changed.")
	}
	return answer, nil
}

func (s *Service) askSNMP(ctx context.Context, d *fleet.Device, object string) (string, error) {
	list, err := s.vault.List(ctx)
	if err != nil {
		return "", err
	}
	host, _, err := net.SplitHostPort(d.Addresses[0])
	if err != nil {
		return "", err
	}
	last := error(reason.New(reason.NoCredential, "No SNMP credential is for it."))
	for _, c := range list {
		sel, err := selector.Parse(c.Selector)
		if err != nil || !c.OfSNMP() || !sel.Match(d) {
			continue
		}
		if c, err = s.vault.Resolve(ctx, c); err != nil {
			last = err
			continue
		}
		answer, err := snmp.Get(ctx, snmp.Target{Address: net.JoinHostPort(host, strconv.Itoa(snmp.Port)), Community: c.Community, User: c.Username, Authentication: c.Authentication, Privacy: c.Privacy, Timeout: 5 * time.Second}, object)
		if err == nil {
			return answer, nil
		}
		last = err
	}
	return "", last
}
