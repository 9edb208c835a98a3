package signals

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"sync"
	"time"

	"vergekeep/core/dialect"
	"vergekeep/core/ref"
	"vergekeep/core/selector"
	"vergekeep/service/fleet"
	"vergekeep/service/journal"
	"vergekeep/store"
)

// Errors that callers test for.
var (
	ErrSender  = errors.New("messages cannot be told apart like this")
	ErrUnknown = errors.New("no such sender")
)

// Heard is where a message came from.
type Heard struct {
	Listener string // "udp 192.0.2.1:514"
	Address  string // that sent it
	Host     string // that the message names
	Relayed  string // address that the message names as the one before
	Key      string // that came with it: an SNMP community, or what another system gave
}

// Sender says whose messages these are, where neither address nor name says so.
// What is empty matters not.
type Sender struct {
	Name     string
	Listener string // the start of its name: "tls", "udp 192.0.2.1:514"
	Address  string
	Host     string
	Key      string // only when it is set
	HasKey   bool
	Device   string // "" for a relay, whose messages name who they are from
	Account  string
	At       time.Time

	device int64
	hash   [32]byte
}

// Stranger sends messages and is no device that we know of.
type Stranger struct {
	Listener, Address, Host string
	Count                   int64
	First, Last             time.Time
	Sample                  string // the last message; what may be a secret in it is concealed
}

// known is a device whose messages are understood.
type known struct {
	id      int64
	name    string
	zone    *time.Location
	dialect *dialect.Dialect
}

// table says whose messages are whose. It is made anew every few seconds.
type table struct {
	senders   []Sender
	devices   map[int64]*known
	byAddress map[string][]*known
	byName    map[string]*known
	relays    map[string]bool
}

// who is the device that sent a message; nil for none that we know. What was given
// by hand comes first, then the address, then the name. An address that several
// devices share, or that is a relay's, says nothing: then the name does.
func (t *table) who(h Heard) *known {
	for i := range t.senders {
		if s := &t.senders[i]; s.device != 0 && s.is(h) {
			return t.devices[s.device]
		}
	}
	if list := t.byAddress[h.Address]; len(list) == 1 && !t.relays[h.Address] {
		return list[0]
	}
	for _, name := range []string{h.Relayed, h.Host} {
		if name == "" {
			continue
		}
		if list := t.byAddress[name]; len(list) == 1 {
			return list[0]
		}
		if d := t.byName[strings.ToLower(name)]; d != nil {
			return d
		}
		if host, _, dotted := strings.Cut(name, "."); dotted {
			if d := t.byName[strings.ToLower(host)]; d != nil {
				return d
			}
		}
	}
	return nil
}

func (s *Sender) is(h Heard) bool {
	return strings.HasPrefix(h.Listener, s.Listener) && (s.Address == "" || s.Address == h.Address || s.Address == h.Relayed) &&
		(s.Host == "" || strings.EqualFold(s.Host, h.Host)) && (!s.HasKey || s.hash == sha256.Sum256([]byte(h.Key)))
}

// refresh makes the table anew.
func (s *Service) refresh(ctx context.Context) error {
	devices, err := s.Fleet.List(ctx, selector.Selector{})
	if err != nil {
		return err
	}
	senders, err := s.Senders(ctx)
	if err != nil {
		return err
	}
	t := &table{senders: senders, devices: map[int64]*known{}, byAddress: map[string][]*known{}, byName: map[string]*known{}, relays: map[string]bool{}}
	for _, x := range senders {
		if x.device == 0 && x.Address != "" {
			t.relays[x.Address] = true
		}
	}
	for i := range devices {
		d := &devices[i]
		dl, err := s.Fleet.Dialect(ctx, d)
		if err != nil {
			return err
		}
		if dl == nil || d.State == fleet.Retired {
			continue
		}
		zone, err := time.LoadLocation(d.Zone)
		if err != nil {
			zone = time.UTC
		}
		k := &known{d.ID, d.Name, zone, dl.For(d.Nameplate)}
		t.devices[d.ID] = k
		for _, a := range d.Addresses {
			if host, _, err := net.SplitHostPort(a); err == nil {
				t.byAddress[host] = append(t.byAddress[host], k)
			}
		}
	}
	// A record's name goes before what another device calls itself.
	for _, own := range []bool{true, false} {
		for i := range devices {
			d := &devices[i]
			if k := t.devices[d.ID]; k == nil {
				continue
			} else if own && d.Nameplate.Name != "" {
				t.byName[strings.ToLower(d.Nameplate.Name)] = k
			} else if !own {
				t.byName[strings.ToLower(d.Name)] = k
			}
		}
	}
	s.table.Store(t)
	return s.readOurs(ctx)
}

// Senders is what was given by hand, in order of name.
func (s *Service) Senders(ctx context.Context) ([]Sender, error) {
	rows, err := s.DB.Query(ctx, `SELECT x.name, x.listener, x.address, x.host, x.key_hash, coalesce(x.device_id, 0), coalesce(d.name, ''), x.account, x.at FROM senders x LEFT JOIN devices d ON d.id = x.device_id ORDER BY lower(x.name)`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Sender
	for rows.Next() {
		var x Sender
		var hash []byte
		var at int64
		if err := rows.Scan(&x.Name, &x.Listener, &x.Address, &x.Host, &hash, &x.device, &x.Device, &x.Account, &at); err != nil {
			return nil, err
		}
		x.HasKey, x.At = len(hash) == len(x.hash), store.Time(at)
		copy(x.hash[:], hash)
		list = append(list, x)
	}
	return list, rows.Err()
}

// SetSender says whose messages some are from now on.
func (s *Service) SetSender(ctx context.Context, x Sender) error {
	if err := ref.CheckName(x.Name); err != nil {
		return fmt.Errorf("%w: the name %w", ErrSender, err)
	}
	if x.Address != "" {
		a, err := netip.ParseAddr(x.Address)
		if err != nil {
			return fmt.Errorf("%w: %q is no address", ErrSender, x.Address)
		}
		x.Address = a.Unmap().String()
	}
	var device any
	if x.Device != "" {
		d, err := s.Fleet.Get(ctx, x.Device)
		if err != nil {
			return err
		}
		device = d.ID
	}
	switch {
	case x.Device == "" && x.Address == "":
		return fmt.Errorf("%w: a relay is known by its address", ErrSender)
	case x.Address == "" && x.Host == "" && x.Key == "" && x.Listener == "":
		return fmt.Errorf("%w: say an address, a host name, a key or a listener", ErrSender)
	case len(x.Host) > 255 || len(x.Key) > 500 || len(x.Listener) > 200:
		return fmt.Errorf("%w: it is too long", ErrSender)
	}
	hash := []byte{}
	if x.Key != "" {
		sum := sha256.Sum256([]byte(x.Key))
		hash = sum[:]
	}
	err := s.DB.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`INSERT OR REPLACE INTO senders (name, listener, address, host, key_hash, device_id, account, at) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
			x.Name, x.Listener, x.Address, x.Host, hash, device, x.Account, store.Stamp(s.Now())); err != nil {
			return err
		}
		if x.Address != "" || x.Host != "" { // it is a stranger no more
			if _, err := tx.Exec(`DELETE FROM strangers WHERE (?1 = '' OR address = ?1) AND (?2 = '' OR host = ?2)`, x.Address, x.Host); err != nil {
				return err
			}
		}
		what := x.Device
		if what == "" {
			what = "a relay"
		}
		return journal.Append(tx, journal.Entry{At: s.Now(), Account: x.Account, Action: "sender set", Object: x.Name, Detail: what})
	})
	if err != nil {
		return err
	}
	return s.refresh(ctx)
}

// DeleteSender takes one away.
func (s *Service) DeleteSender(ctx context.Context, name, by string) error {
	err := s.DB.Write(ctx, func(tx *store.Tx) error {
		res, err := tx.Exec(`DELETE FROM senders WHERE name = ?`, name)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			if err == nil {
				err = fmt.Errorf("%w: %q", ErrUnknown, name)
			}
			return err
		}
		return journal.Append(tx, journal.Entry{At: s.Now(), Account: by, Action: "sender delete", Object: name})
	})
	if err != nil {
		return err
	}
	return s.refresh(ctx)
}

// strangers gathers who sends messages and is not known, between two writings.
type strangers struct {
	mu   sync.Mutex
	list map[[3]string]*Stranger
	more int64 // messages of senders beyond the most
}

// maxStrangers is how many senders are listed; a forger can make up any number.
const maxStrangers = 1000

func (x *strangers) note(h Heard, m dialect.Message, at time.Time) {
	x.mu.Lock()
	defer x.mu.Unlock()
	key := [3]string{h.Address, clip(h.Host), h.Listener}
	if x.list == nil {
		x.list = map[[3]string]*Stranger{}
	}
	one := x.list[key]
	if one == nil {
		if len(x.list) >= maxStrangers {
			x.more++
			return
		}
		one = &Stranger{Listener: h.Listener, Address: h.Address, Host: key[1], First: at}
		x.list[key] = one
	}
	one.Count++
	one.Last, one.Sample = at, clip(said(m))
}

// unread conceals what may be a secret in a message of nobody's dialect.
var unread = dialect.Unknown()

func (s *Service) noteStrangers(ctx context.Context) error {
	s.strange.mu.Lock()
	list, more := s.strange.list, s.strange.more
	s.strange.list, s.strange.more = nil, 0
	s.strange.mu.Unlock()
	if more > 0 {
		s.Log.Warn("messages of more unknown senders than are listed", "messages", more)
	}
	if len(list) == 0 {
		return nil
	}
	return s.DB.Write(ctx, func(tx *store.Tx) error {
		for _, x := range list {
			if _, err := tx.Exec(`INSERT INTO strangers (listener, address, host, count, first, last, sample) VALUES (?, ?, ?, ?, ?, ?, ?)
				ON CONFLICT (address, host, listener) DO UPDATE SET count = count + excluded.count, last = excluded.last, sample = excluded.sample`,
				x.Listener, x.Address, x.Host, x.Count, store.Stamp(x.First), store.Stamp(x.Last), unread.Conceal(x.Sample)); err != nil {
				return err
			}
		}
		_, err := tx.Exec(`DELETE FROM strangers WHERE (address, host, listener) IN (SELECT address, host, listener FROM strangers ORDER BY last DESC LIMIT -1 OFFSET ?)`, maxStrangers)
		return err
	})
}

// Strangers are those who send messages and are no device that we know of, the
// busiest first.
func (s *Service) Strangers(ctx context.Context) ([]Stranger, error) {
	if err := s.noteStrangers(ctx); err != nil {
		return nil, err
	}
	rows, err := s.DB.Query(ctx, `SELECT listener, address, host, count, first, last, sample FROM strangers ORDER BY count DESC, address`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Stranger
	for rows.Next() {
		var x Stranger
		var first, last int64
		if err := rows.Scan(&x.Listener, &x.Address, &x.Host, &x.Count, &first, &last, &x.Sample); err != nil {
			return nil, err
		}
		x.First, x.Last = store.Time(first), store.Time(last)
		list = append(list, x)
	}
	return list, rows.Err()
}

// Post takes a signal that another system gives (CloudEvents 1.0). With a key, the
// senders say whose it is; else it names a device.
func (s *Service) Post(ctx context.Context, device, key string, g Signal) (Signal, error) {
	h := Heard{Listener: g.Listener, Address: g.Sender, Host: device, Key: key}
	if key != "" {
		t := s.table.Load()
		if t == nil {
			return g, fmt.Errorf("%w: the service is starting", ErrSender)
		}
		for i := range t.senders {
			if x := &t.senders[i]; x.device != 0 && x.HasKey && x.is(h) {
				device = x.Device
			}
		}
	}
	d, err := s.Fleet.Get(ctx, device)
	if err != nil {
		return g, err
	}
	dl, err := s.Fleet.Dialect(ctx, &d)
	if err != nil {
		return g, err
	}
	if dl == nil {
		dl = unread
	}
	g.DeviceID, g.Device, g.Medium, g.Count, g.State, g.Text = d.ID, d.Name, dialect.ByPost, 1, Waiting, dl.Conceal(clip(g.Text))
	g.At = s.Now()
	g.Last = g.At
	s.enter(g)
	return g, nil
}

// Understood is what would be understood of a message.
type Understood struct {
	Device  string // "" where it is of nobody that we know
	Dialect string // whose rules were tried
	Rule    int    // from 1; 0 where none fits
	Told    dialect.Told
	Ours    bool
}

// Test says what would be understood of a syslog message if it came from an address.
// Where it is of nobody, dialectName says whose rules are tried.
func (s *Service) Test(ctx context.Context, host, program, text, address, dialectName string, dialects dialect.Set) (Understood, error) {
	var u Understood
	if err := s.refresh(ctx); err != nil {
		return u, err
	}
	m := dialect.Message{Medium: dialect.BySyslog, Name: program, Text: strings.TrimSpace(text)}
	dl := dialects[dialectName]
	if d := s.table.Load().who(Heard{Address: address, Host: host}); d != nil {
		u.Device = d.name
		if dl == nil {
			dl = d.dialect
		}
	}
	if dl == nil && dialectName != "" {
		return u, fmt.Errorf("%w: there is no dialect %q", ErrSender, dialectName)
	}
	if dl == nil {
		return u, nil
	}
	u.Dialect = dl.Name
	told, known := dl.Understand(m)
	if known {
		u.Rule, u.Told = told.Rule+1, told
		u.Ours = s.isOurs(&Signal{Account: told.Account, Source: told.Source})
	}
	return u, nil
}
