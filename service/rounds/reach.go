package rounds

import (
	"context"
	"io"
	"strings"
	"time"

	"vergekeep/core/dialect"
	"vergekeep/core/reason"
	"vergekeep/service/fleet"
	"vergekeep/service/vault"
	"vergekeep/wire/conversation"
	"vergekeep/wire/dial"
	"vergekeep/wire/https"
	"vergekeep/wire/ssh"
	"vergekeep/wire/telnet"
)

func siteKey(name string) string { return "site " + strings.ToLower(name) }
func jumpKey(name string) string { return "jump " + strings.ToLower(name) }

// link is a connection to a device that somebody has logged in to, or that
// waits for the login inside the conversation.
type link struct {
	conversation.Conn
	io.Closer
	hostKey string   // that the device showed; "" where the transport has none
	old     []string // algorithms in use that are no longer thought safe
}

// patient is the dialect with the device's own time limits.
func patient(dl *dialect.Dialect, d *fleet.Device) *dialect.Dialect {
	if d.Patience <= 1 {
		return dl
	}
	slow := *dl
	times := time.Duration(d.Patience)
	slow.Reach.Connect *= times
	slow.Reach.Silence *= times
	slow.Reach.Visit *= times
	return &slow
}

// connect reaches a device in the way that its record and its dialect say.
func (s *Service) connect(ctx context.Context, d *fleet.Device, dl *dialect.Dialect, cred vault.Credential) (*link, error) {
	through, err := s.through(ctx, d.Via)
	if err != nil {
		return nil, err
	}
	reach := dl.Reach
	switch {
	case d.Transport != fleet.Usual:
		c, err := telnet.Dial(ctx, telnet.Target{Addresses: d.Addresses, Connect: reach.Connect, Silence: reach.Silence, Through: through})
		if err != nil {
			return nil, err
		}
		tellerOf(ctx).tell("is connected by Telnet, without protection")
		return &link{Conn: c, Closer: c}, nil
	case reach.Channel == dialect.HTTPS:
		c, err := https.Dial(ctx, https.Target{
			Addresses: d.Addresses, User: cred.Username, Password: cred.Password, Token: cred.Token, Pins: d.HostKeys, Confirm: s.confirmKeys,
			OldAlgorithms: d.OldAlgorithms, Connect: reach.Connect, Silence: reach.Silence, Through: through,
		})
		if err != nil {
			return nil, err
		}
		tellerOf(ctx).tell("is connected by HTTPS")
		return &link{Conn: c, Closer: c}, nil
	}
	c, err := ssh.Dial(ctx, ssh.Target{
		Addresses: d.Addresses, Login: login(cred, dl), HostKeys: d.HostKeys, Confirm: s.confirmKeys, OldAlgorithms: d.OldAlgorithms,
		Connect: reach.Connect, Silence: reach.Silence, Through: through,
	})
	if err != nil {
		return nil, err
	}
	tellerOf(ctx).tell("is logged in by SSH at %s, host key %s", c.Address, fingerprint(c.HostKey))
	return &link{Conn: c, Closer: c, hostKey: c.HostKey, old: c.Old}, nil
}

// fingerprint is a host key whose fingerprint is computed when it is printed.
type fingerprint string

func (f fingerprint) String() string { return ssh.Fingerprint(string(f)) }

// shown is the host key that the device showed by the end of a visit.
func (l *link) shown() string {
	if c, ok := l.Conn.(*https.Conn); ok {
		return c.Pin
	}
	return l.hostKey
}

func login(cred vault.Credential, dl *dialect.Dialect) ssh.Login {
	l := ssh.Login{User: cred.Username, Password: cred.Password, Key: cred.Key, Passphrase: cred.Passphrase}
	for _, sign := range dl.Login {
		l.Signs = append(l.Signs, ssh.Sign{See: sign.See, Means: sign.Means})
	}
	return l
}

// through is the way over the jump hosts.
func (s *Service) through(ctx context.Context, via string) (dial.Func, error) {
	if via == "" {
		return dial.TCP, nil
	}
	chain, err := s.fleet.Chain(ctx, via)
	if err != nil {
		return nil, reason.New(reason.JumpFailed, "The way to it is not known: %w.", err)
	}
	var jumps []ssh.Jump
	for _, j := range chain {
		cred, err := s.vault.Get(ctx, j.Credential)
		if err == nil {
			cred, err = s.vault.Resolve(ctx, cred)
		}
		if err != nil {
			return nil, reason.New(reason.JumpFailed, "The jump host %s cannot be logged in to: %w.", j.Name, err)
		}
		jumps = append(jumps, ssh.Jump{
			Name: j.Name,
			Target: ssh.Target{
				Addresses: []string{j.Address}, HostKeys: j.HostKeys, Confirm: s.confirmKeys, Connect: 20 * time.Second,
				Login: ssh.Login{User: cred.Username, Password: cred.Password, Key: cred.Key, Passphrase: cred.Passphrase},
			},
			Use: func(ctx context.Context) (func(error), error) {
				judged, err := s.vault.Use(ctx, cred, s.now)
				return func(err error) { judged(verdict(err)) }, err
			},
			Shown: func(key string) {
				if err := s.fleet.JumpKey(s.ctx, j.Name, key); err != nil {
					s.log.Error("the host key of a jump host could not be recorded", "jump", j.Name, "error", err)
				}
			},
		})
	}
	return s.tunnels.Through(jumps), nil
}

// candidates are the credentials to try on a device, in order. One that worked
// before is the only one: others would only bring accounts closer to being
// locked.
func (s *Service) candidates(ctx context.Context, d *fleet.Device) ([]vault.Credential, error) {
	list, err := s.credentials(ctx)
	if err != nil {
		return nil, storageError(err)
	}
	var fit []vault.Credential
	for _, c := range list {
		if !c.sel.Match(d) || !s.logsIn(c.Credential, d) {
			continue
		}
		if c.ID == d.Credential {
			return []vault.Credential{c.Credential}, nil
		}
		fit = append(fit, c.Credential)
	}
	if len(fit) == 0 {
		return nil, reason.New(reason.NoCredential, "No credential is for this device.")
	}
	// Within a rank, one for some devices comes before one for all.
	for i := 1; i < len(fit); i++ {
		for j := i; j > 0 && fit[j].Rank == fit[j-1].Rank && fit[j].Selector != "" && fit[j-1].Selector == ""; j-- {
			fit[j], fit[j-1] = fit[j-1], fit[j]
		}
	}
	return fit[:min(len(fit), maxCredentials)], nil
}

// logsIn is whether a credential can log in to a device at all; offering it
// another would only count as a refusal.
func (s *Service) logsIn(c vault.Credential, d *fleet.Device) bool {
	if c.OfSNMP() {
		return false
	}
	dl, known := s.dialects[d.Platform]
	return c.Username != "" || !known || dl.Reach.Channel == dialect.HTTPS
}

// maxCredentials is how many are tried on a device at one visit.
const maxCredentials = 3

// withCredential calls f with each credential that may log in to the device,
// until one is not refused.
func (s *Service) withCredential(ctx context.Context, d *fleet.Device, given *vault.Credential, f func(vault.Credential) error) (vault.Credential, error) {
	list := []vault.Credential{}
	if given != nil {
		list = append(list, *given)
	} else {
		var err error
		if list, err = s.candidates(ctx, d); err != nil {
			return vault.Credential{}, err
		}
	}
	var last error
	for _, c := range list {
		c, err := s.vault.Resolve(ctx, c)
		if err != nil {
			last = reason.New(reason.NoCredential, "%w.", err)
			continue
		}
		judged, err := s.vault.Use(ctx, c, s.now)
		if err != nil {
			last = err
			continue
		}
		tellerOf(ctx).tell("tries the credential %s", c.Name)
		err = f(c)
		judged(verdict(err))
		if err == nil {
			return c, nil
		}
		tellerOf(ctx).tell("%s", err)
		last = err
		if reason.Of(err, "") != reason.CredentialRefused {
			return c, err
		}
	}
	return vault.Credential{}, last
}

// verdict is what a visit's end says about its credential.
func verdict(err error) vault.Verdict {
	switch reason.Of(err, "") {
	case reason.CredentialRefused, reason.ElevationRefused:
		return vault.Refused
	case reason.Incomplete, reason.OtherDevice, reason.DeviceError, reason.NotAllowed, reason.AddressOfTwo, reason.Moving:
		return vault.Accepted
	}
	if err == nil {
		return vault.Accepted
	}
	return vault.Unjudged
}

// LoginResult is what a login test found.
type LoginResult struct {
	Device     string
	Credential string
	Address    string
	HostKey    string
	Old        []string
	Took       time.Duration
}

// TryLogin logs in to a device and out again, capturing nothing.
func (s *Service) TryLogin(ctx context.Context, d fleet.Device) (LoginResult, error) {
	r := LoginResult{Device: d.Name}
	dl, ok := s.dialects[d.Platform]
	if !ok {
		return r, reason.New(reason.UnknownDialect, "There is no dialect for the platform %q.", d.Platform)
	}
	dl = patient(dl.For(d.Nameplate), &d)
	keys := keysOf(&d)
	if !s.limits.take(keys) {
		return r, reason.New(reason.AlreadyVisited, "It is being visited at this moment.")
	}
	defer s.limits.give(keys)
	begun := time.Now()
	cred, err := s.withCredential(ctx, &d, nil, func(c vault.Credential) error {
		l, err := s.connect(ctx, &d, dl, c)
		if err != nil {
			return err
		}
		defer l.Close()
		err = conversation.Arrive(ctx, l.Conn, dl, settings(c, &d, nil))
		r.HostKey, r.Old = l.shown(), l.old
		if sc, ok := l.Conn.(*ssh.Conn); ok {
			r.Address = sc.Address
		}
		return err
	})
	r.Credential, r.Took = cred.Name, time.Since(begun)
	return r, err
}

func settings(c vault.Credential, d *fleet.Device, drops conversation.Drops) conversation.Settings {
	return conversation.Settings{
		Credential: conversation.Credential{User: c.Username, Password: c.Password, Elevation: c.Elevation},
		Console:    d.Transport == fleet.Console, Drops: drops,
	}
}
