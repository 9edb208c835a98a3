package rounds

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"vergekeep/core/dialect"
	"vergekeep/core/reason"
	"vergekeep/core/ref"
	"vergekeep/service/fleet"
	"vergekeep/service/vault"
	"vergekeep/wire/conversation"
	"vergekeep/wire/snmp"
	"vergekeep/wire/ssh"
	"vergekeep/wire/telnet"
)

// ErrAddresses is wrapped where addresses to enrol make no sense.
var ErrAddresses = errors.New("not addresses to enrol")

// maxEnrol bounds how many addresses one request may try.
const maxEnrol = 4096

// Enrolment says where to look for devices.
type Enrolment struct {
	Addresses  []string // host, host:port, or a range in CIDR form
	Site, Role string
	Via        string
	Telnet     bool  // try Telnet where SSH does not answer
	PerSecond  int   // addresses a second; 5 if 0
	Ports      []int // to try at addresses that name none, in this order; 22 if empty
	SNMPPort   int   // where to ask by SNMP; 161 if 0
	Add        bool  // make records, and take the first captures
}

// Recognised is what answered at an address.
type Recognised struct {
	Address   string
	Platform  string // "" if it was not recognised
	Sure      int    // of 100
	Because   []string
	Transport fleet.Transport
	Nameplate dialect.Nameplate
	HostKey   string
	Added     bool
	Err       *reason.Error
}

// Enrol looks at each address, at a limited rate, and says what it found. What
// answers nothing within a range is left out of the result.
func (s *Service) Enrol(ctx context.Context, e Enrolment, by string) ([]Recognised, error) {
	if e.PerSecond <= 0 {
		e.PerSecond = 5
	}
	if len(e.Ports) == 0 {
		e.Ports = []int{22}
	}
	if e.SNMPPort == 0 {
		e.SNMPPort = snmp.Port
	}
	places, err := expand(e.Addresses, e.Ports)
	if err != nil {
		return nil, err
	}
	askers, err := s.askers(ctx)
	if err != nil {
		return nil, err
	}
	results := make([]Recognised, len(places))
	var wg sync.WaitGroup
	pace := time.NewTicker(time.Second / time.Duration(e.PerSecond))
	defer pace.Stop()
	slots := make(chan struct{}, 16)
	for i, at := range places {
		if i > 0 {
			select {
			case <-pace.C:
			case <-ctx.Done():
				wg.Wait()
				return nil, ctx.Err()
			}
		}
		slots <- struct{}{}
		wg.Go(func() {
			defer func() { <-slots }()
			results[i] = s.recognise(ctx, at, e, askers)
		})
	}
	wg.Wait()
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	kept := results[:0]
	for i, r := range results {
		if !places[i].ranged || r.Err == nil || r.Platform != "" || !nobodyThere[r.Err.Code] {
			kept = append(kept, r)
		}
	}
	if e.Add {
		err = s.enlist(ctx, e, kept, by)
	}
	return kept, err
}

// nobodyThere are the reasons for which another port, or Telnet, is tried.
var nobodyThere = map[reason.Code]bool{reason.ConnectTimeout: true, reason.Refused: true, reason.Unreachable: true, reason.NotSSH: true}

// box is one to look at: host:port, as often as ports are to be tried.
type box struct {
	addresses []string
	ranged    bool // from a range, where most answer nothing
}

// expand lists the places that addresses and ranges name.
func expand(list []string, ports []int) ([]box, error) {
	var places []box
	at := func(host string, ranged bool) {
		p := box{ranged: ranged}
		for _, port := range ports {
			p.addresses = append(p.addresses, net.JoinHostPort(host, strconv.Itoa(port)))
		}
		places = append(places, p)
	}
	for _, text := range list {
		text = strings.TrimSpace(text)
		if prefix, err := netip.ParsePrefix(text); err == nil {
			prefix = prefix.Masked()
			bits := prefix.Addr().BitLen() - prefix.Bits()
			if bits > 12 {
				return nil, fmt.Errorf("%w: %s has more than %d addresses; take a part of it", ErrAddresses, text, maxEnrol)
			}
			first, last := 0, 1<<bits-1
			if prefix.Addr().Is4() && bits > 1 { // network and broadcast
				first, last = 1, last-1
			}
			ip := prefix.Addr()
			for i := 0; i <= last; i++ {
				if i >= first {
					at(ip.String(), true)
				}
				ip = ip.Next()
			}
			continue
		}
		withPort, err := fleet.CheckAddress(text, ports[0])
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrAddresses, err)
		}
		host, _, _ := net.SplitHostPort(withPort)
		if _, port, err := net.SplitHostPort(text); err == nil && port != "" && strings.HasSuffix(withPort, ":"+port) {
			places = append(places, box{addresses: []string{withPort}})
			continue
		}
		at(host, false)
	}
	if len(places) > maxEnrol {
		return nil, fmt.Errorf("%w: %d at a time; at most %d", ErrAddresses, len(places), maxEnrol)
	}
	return places, nil
}

// askers are the credentials for SNMP, in their order.
func (s *Service) askers(ctx context.Context) ([]vault.Credential, error) {
	list, err := s.credentials(ctx)
	if err != nil {
		return nil, storageError(err)
	}
	var found []vault.Credential
	for _, c := range list {
		if c.OfSNMP() {
			found = append(found, c.Credential)
		}
	}
	return found[:min(len(found), maxCredentials)], nil
}

// ask asks by SNMP what is at a host; the zero value if nobody tells. Agents
// lock nobody out, so the guard of logins has no part in it.
func (s *Service) ask(ctx context.Context, host string, e Enrolment, askers []vault.Credential) snmp.System {
	if e.Via != "" { // no UDP goes through a jump host
		return snmp.System{}
	}
	for _, c := range askers {
		c, err := s.vault.Resolve(ctx, c)
		if err != nil {
			s.log.Warn("a credential for SNMP could not be read", "credential", c.Name, "error", err)
			continue
		}
		system, err := snmp.Ask(ctx, snmp.Target{Address: net.JoinHostPort(host, strconv.Itoa(e.SNMPPort)), Community: c.Community,
			User: c.Username, Authentication: c.Authentication, Privacy: c.Privacy, Timeout: askTimeout})
		if err == nil {
			return system
		}
		if reason.Of(err, "") == reason.Refused {
			break
		}
	}
	return snmp.System{}
}

const (
	lookConnect = 8 * time.Second
	lookSilence = 8 * time.Second
	askTimeout  = time.Second
)

// guess is a platform that a device may be of.
type guess struct {
	dialect *dialect.Dialect
	sure    int
	because []string
}

// recognise finds out what answers in a box: by what it says on its own, and
// then by holding the conversation of what it looks like.
func (s *Service) recognise(ctx context.Context, at box, e Enrolment, askers []vault.Credential) Recognised {
	r := Recognised{Address: at.addresses[0]}
	fail := func(err error) Recognised {
		if !errors.As(err, &r.Err) {
			r.Err = reason.New(reason.Protocol, "It could not be recognised: %w.", err)
		}
		return r
	}
	host, _, _ := net.SplitHostPort(at.addresses[0])
	asked := make(chan snmp.System, 1)
	go func() { asked <- s.ask(ctx, host, e, askers) }()
	d := fleet.Device{Name: host, Via: e.Via, Site: e.Site, Role: e.Role, State: fleet.Active, MaybePlatforms: s.dialects.Names()}
	var said sight
	var err error
	for _, address := range at.addresses {
		d.Addresses = []string{address}
		if said, err = s.look(ctx, &d); !nobodyThere[reason.Of(err, "")] {
			break
		}
	}
	if e.Telnet && nobodyThere[reason.Of(err, "")] {
		d.Transport = fleet.Telnet
		d.Addresses = []string{telnetAddress(at.addresses[0])}
		said, err = s.look(ctx, &d)
	}
	said.system = <-asked
	r.Address, r.Transport, r.HostKey, r.Nameplate.Name = d.Addresses[0], d.Transport, said.hostKey, said.system.Name
	guesses := s.guesses(said)
	if len(guesses) > 0 { // until a conversation proves it
		r.Platform, r.Sure, r.Because = guesses[0].dialect.Name, min(guesses[0].sure, 60), guesses[0].because
	}
	if err != nil {
		return fail(err)
	}
	if len(guesses) == 0 {
		return fail(reason.New(reason.OtherPlatform, "It let us in, but no dialect knows what it says."))
	}
	var last error
	for _, g := range guesses[:min(len(guesses), 3)] {
		d.Platform, d.HostKeys = g.dialect.Name, nil
		if said.hostKey != "" {
			d.HostKeys = []string{said.hostKey}
		}
		var b brought
		_, last = s.withCredential(ctx, &d, nil, func(c vault.Credential) error {
			limited, cancel := context.WithTimeout(ctx, 2*time.Minute)
			defer cancel()
			probe := *g.dialect
			probe.Reach.Connect, probe.Reach.Silence = lookConnect, min(probe.Reach.Silence, lookSilence)
			_, err := s.capture(limited, anonymous(d), &probe, c, &b)
			return err
		})
		if last == nil {
			r.Platform, r.Nameplate = g.dialect.Name, b.plate
			r.Because = append(g.because, "its whole conversation went well and brought a complete configuration")
			r.Sure = 99
			if r.HostKey == "" {
				r.HostKey = b.hostKey
			}
			return r
		}
	}
	return fail(last)
}

// telnetAddress is where Telnet is tried: the usual port, unless another than
// that of SSH was named.
func telnetAddress(address string) string {
	if host, ok := strings.CutSuffix(address, ":22"); ok {
		return host + ":23"
	}
	return address
}

// anonymous is a record that nothing the device says about itself contradicts.
func anonymous(d fleet.Device) fleet.Device {
	d.Nameplate.Name = "\x00"
	return d
}

// sight is what a device shows on its own.
type sight struct {
	text         string // banner, greeting, prompt
	capabilities []string
	hostKey      string
	shell        bool
	system       snmp.System // what it says by SNMP
}

// look logs in and reads what comes, asking for nothing.
func (s *Service) look(ctx context.Context, d *fleet.Device) (sight, error) {
	var seen sight
	through, err := s.through(ctx, d.Via)
	if err != nil {
		return seen, err
	}
	if d.Transport == fleet.Telnet {
		c, err := telnet.Dial(ctx, telnet.Target{Addresses: d.Addresses, Connect: lookConnect, Silence: lookSilence, Through: through})
		if err != nil {
			return seen, err
		}
		defer c.Close()
		seen.shell = true
		seen.text, err = conversation.Greeting(ctx, c)
		return seen, err
	}
	_, err = s.withCredential(ctx, d, nil, func(cred vault.Credential) error {
		c, err := ssh.Dial(ctx, ssh.Target{
			Addresses: d.Addresses, Login: ssh.Login{User: cred.Username, Password: cred.Password, Key: cred.Key, Passphrase: cred.Passphrase},
			Confirm: s.confirmKeys, Connect: lookConnect, Silence: lookSilence, Through: through,
		})
		if err != nil {
			return err
		}
		defer c.Close()
		seen.hostKey, seen.text = c.HostKey, c.Banner+c.Version+"\n"
		if list, err := conversation.Capabilities(c); err == nil {
			seen.capabilities = list
		}
		if text, err := conversation.Greeting(ctx, c); err == nil {
			seen.shell = true
			seen.text += text
		}
		return nil
	})
	return seen, err
}

// guesses are the platforms that fit what was seen, the likeliest first.
func (s *Service) guesses(seen sight) []guess {
	lastLine := seen.text[strings.LastIndexByte(strings.TrimRight(seen.text, "\n"), '\n')+1:]
	var list []guess
	for _, name := range s.dialects.Names() {
		dl := s.dialects[name]
		g := guess{dialect: dl}
		note := func(points int, why string) {
			g.sure += points
			g.because = append(g.because, why)
		}
		known := dl.Recognise
		if known.Banner != nil && known.Banner.MatchString(seen.text) {
			note(60, "what it says at the login")
		}
		if known.Prompt != nil && known.Prompt.MatchString(lastLine) {
			note(40, "its prompt")
		}
		if known.Capability != nil && slices.ContainsFunc(seen.capabilities, known.Capability.MatchString) {
			note(70, "its NETCONF capabilities")
		}
		if known.SysObjectID != "" && (seen.system.ObjectID == known.SysObjectID || strings.HasPrefix(seen.system.ObjectID, known.SysObjectID+".")) {
			note(70, "its sysObjectID")
		}
		if known.SysDescr != nil && known.SysDescr.MatchString(seen.system.Descr) {
			note(50, "its sysDescr")
		}
		if known.General {
			g.sure /= 2
		}
		if g.sure > 0 {
			list = append(list, g)
		}
	}
	slices.SortStableFunc(list, func(a, b guess) int { return b.sure - a.sure })
	return list
}

// enlist makes records of what was recognised for sure, and starts a round over
// them.
func (s *Service) enlist(ctx context.Context, e Enrolment, results []Recognised, by string) error {
	var names []string
	for i := range results {
		r := &results[i]
		if r.Err != nil || r.Sure < 90 {
			continue
		}
		name := r.Nameplate.Name
		if ref.CheckName(name) != nil {
			name = strings.NewReplacer(":", "-", "[", "", "]", "", "%", "-").Replace(r.Address)
		}
		d := fleet.Device{Name: name, Site: e.Site, Role: e.Role, Platform: r.Platform, Addresses: []string{r.Address}, Transport: r.Transport, Via: e.Via}
		if r.HostKey != "" {
			d.HostKeys = []string{r.HostKey}
		}
		d, err := s.fleet.Add(ctx, d, by)
		if errors.Is(err, fleet.ErrDuplicate) || errors.Is(err, fleet.ErrInvalid) {
			r.Err = reason.New(reason.AddressOfTwo, "It was not added: %w.", err)
			continue
		}
		if err != nil {
			return err
		}
		r.Added = true
		names = append(names, fmt.Sprintf("name=%q", d.Name))
	}
	if len(names) == 0 {
		return nil
	}
	_, err := s.start(ctx, Plan{Selector: strings.Join(names, " "), Origin: "demand", Account: by})
	return err
}
