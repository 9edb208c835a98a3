package fleet

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"vergekeep/core/dialect"
	"vergekeep/core/nearest"
	"vergekeep/core/reason"
	"vergekeep/core/ref"
)

// State says whether a device is visited.
type State string

// The states.
const (
	Active  State = "active"
	Paused  State = "paused"
	Retired State = "retired" // kept for its history
)

// Transport is how a device is reached where that is not what its dialect says.
type Transport string

// The transports.
const (
	Usual   Transport = ""
	Telnet  Transport = "telnet"  // RFC 854, unprotected
	Console Transport = "console" // a console server's port, by Telnet
)

// Freshness is how old the last good capture is against what the schedules promise.
type Freshness string

// The degrees of freshness.
const (
	Fresh     Freshness = "fresh"
	Late      Freshness = "late"
	Stale     Freshness = "stale"
	NoCapture Freshness = "no capture yet"
)

// Device is a device's record.
type Device struct {
	ID            int64
	Name          string
	Site          string
	Role          string
	Platform      string
	Addresses     []string // host:port each; whichever answers first is used
	Transport     Transport
	Via           string // name of a jump host
	OldAlgorithms bool   // those that are no longer thought safe are allowed
	Patience      int    // so many times the dialect's time limits
	Pair          string // the pair or stack of boxes that it belongs to
	Source        string // the import that keeps it in step
	Labels        []string
	Zone          string // of its clock; "" for UTC
	State         State

	Nameplate  dialect.Nameplate
	HostKeys   []string // authorized-keys form, or a pin
	OfferedKey string   // the one that was refused at the last visit
	OldInUse   string   // old algorithms in use at the last visit
	Credential int64    // the one that worked last; 0 if none has
	Created    time.Time
	Edition    int64

	LastGood     time.Time
	LastVisit    time.Time
	LastChange   time.Time
	Problem      reason.Code // of the last visit; "" if it was good
	ProblemSince time.Time
	ProblemWhat  string
	Suspect      string // why the newest capture is suspect, or ""
	Unsaved      int    // lines that would be lost at a restart
	UnsavedSince time.Time

	Freshness Freshness // filled in by Fleet.List and Fleet.Get

	// MaybePlatforms are those that it may be of, where Platform is not known yet.
	MaybePlatforms []string

	groups   func(*Device) []string
	searches []string // of those that a selector names: which find it
}

// Address is all addresses as a person writes them.
func (d *Device) Address() string { return strings.Join(d.Addresses, ", ") }

// Box names what may be visited once at a time: records that share an address
// are contexts of one box.
func (d *Device) Box() string { return d.Via + "|" + d.Addresses[0] }

// Groups are the names of the groups that the device belongs to.
func (d *Device) Groups() []string {
	if d.groups == nil {
		return nil
	}
	return d.groups(d)
}

// Field makes a device the subject of a selector.
func (d *Device) Field(key string) []string {
	switch key {
	case "name":
		return []string{d.Name}
	case "site":
		return []string{d.Site}
	case "role":
		return []string{d.Role}
	case "platform":
		if d.Platform == "" {
			return d.MaybePlatforms
		}
		return []string{d.Platform}
	case "label":
		return d.Labels
	case "group":
		return d.Groups()
	case "search":
		return d.searches
	case "pair":
		return []string{d.Pair}
	case "source":
		return []string{d.Source}
	case "address":
		var all []string
		for _, a := range d.Addresses {
			host, _, _ := net.SplitHostPort(a)
			all = append(all, a, host)
		}
		return all
	case "transport":
		return []string{string(d.Transport)}
	case "via":
		return []string{d.Via}
	case "state":
		return []string{string(d.State)}
	case "freshness":
		return []string{string(d.Freshness)}
	case "problem":
		if d.Problem == "" {
			return []string{"none"}
		}
		return []string{string(d.Problem), "any"}
	case "unsaved":
		if d.Unsaved > 0 {
			return []string{"yes"}
		}
		return []string{"no"}
	case "model":
		return strings.Split(d.Nameplate.Model, dialect.Separator)
	case "serial":
		return strings.Split(d.Nameplate.Serial, dialect.Separator)
	case "version":
		return []string{d.Nameplate.Version}
	}
	return nil
}

// check says what is wrong with a record, and fills in what is usual.
func (f *Fleet) check(d *Device) error {
	bad := func(format string, args ...any) error {
		return fmt.Errorf("%w: %s", ErrInvalid, fmt.Sprintf(format, args...))
	}
	if err := ref.CheckName(d.Name); err != nil {
		return bad("the name %v", err)
	}
	for field, value := range map[string]string{"site": d.Site, "role": d.Role, "pair": d.Pair, "jump host": d.Via} {
		if value != "" {
			if err := ref.CheckName(value); err != nil {
				return bad("the %s %v", field, err)
			}
		}
	}
	for _, l := range d.Labels {
		if err := ref.CheckName(l); err != nil {
			return bad("a label %v", err)
		}
	}
	sort.Strings(d.Labels)
	d.Labels = slices.Compact(d.Labels)
	dl, ok := f.dialects[d.Platform]
	if !ok {
		return bad("there is no dialect for the platform %q; there are %s.%s", d.Platform, strings.Join(f.dialects.Names(), ", "), nearest.Hint(d.Platform, f.dialects.Names()))
	}
	switch d.Transport {
	case Usual, Telnet, Console:
	default:
		return bad("the transport is telnet, console, or left out for what the platform says, not %q", d.Transport)
	}
	if d.Transport != Usual && dl.Reach.Channel != dialect.Pty {
		return bad("the platform %s is no command line, so %s cannot reach it", d.Platform, d.Transport)
	}
	if len(d.Addresses) == 0 {
		return bad("the address is missing; write for example 192.0.2.7 or 192.0.2.7:22")
	}
	if len(d.Addresses) > 8 {
		return bad("it has %d addresses; at most 8 are tried", len(d.Addresses))
	}
	for i, a := range d.Addresses {
		address, err := CheckAddress(a, usualPort(dl, d.Transport))
		if err != nil {
			return bad("%v", err)
		}
		d.Addresses[i] = address
	}
	if _, err := time.LoadLocation(d.Zone); err != nil || d.Zone == "Local" {
		return bad("%q is no time zone; write for example Europe/Oslo", d.Zone)
	}
	if d.Patience == 0 {
		d.Patience = 1
	}
	if d.Patience < 1 || d.Patience > 20 {
		return bad("patience is how many times the usual time limits it gets: 1 to 20, not %d", d.Patience)
	}
	if d.State == "" {
		d.State = Active
	}
	if d.State != Active && d.State != Paused && d.State != Retired {
		return bad("the state is active, paused or retired, not %q", d.State)
	}
	return nil
}

func usualPort(dl *dialect.Dialect, t Transport) int {
	switch {
	case t != Usual:
		return 23
	case dl.Reach.Port != 0:
		return dl.Reach.Port
	case dl.Reach.Channel == dialect.HTTPS:
		return 443
	}
	return 22
}

// SplitAddresses cuts what a person wrote at commas and blanks.
func SplitAddresses(s string) []string {
	return strings.FieldsFunc(s, func(r rune) bool { return r == ',' || r == ' ' || r == '\t' || r == ';' })
}

// CheckAddress accepts host or host:port, with IPv6 in brackets where a port
// follows, and returns host:port.
func CheckAddress(s string, port int) (string, error) {
	s = strings.TrimSpace(s)
	if s == "" {
		return "", errors.New("the address is missing; write for example 192.0.2.7 or 192.0.2.7:22")
	}
	if literal, err := netip.ParseAddr(strings.Trim(s, "[]")); err == nil {
		return net.JoinHostPort(literal.String(), strconv.Itoa(port)), nil
	}
	host, given, err := net.SplitHostPort(s)
	if err != nil {
		host, given = s, strconv.Itoa(port)
	}
	if n, err := strconv.Atoi(given); err != nil || n < 1 || n > 65535 {
		return "", fmt.Errorf("%q is no port; ports are 1 to 65535", given)
	}
	if _, err := netip.ParseAddr(host); err != nil && (host == "" || len(host) > 253 || strings.ContainsAny(host, " \t/@,[]:%")) {
		return "", fmt.Errorf("%q is no host name or address", host)
	}
	return net.JoinHostPort(host, given), nil
}
