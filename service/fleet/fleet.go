// Package fleet keeps the records of devices: what they are called, where they
// are, how they are reached, and how fresh our knowledge of them is.
package fleet

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"sort"
	"strconv"
	"strings"
	"time"

	"vergekeep/core/dialect"
	"vergekeep/core/nearest"
	"vergekeep/core/reason"
	"vergekeep/core/ref"
	"vergekeep/core/selector"
	"vergekeep/service/journal"
	"vergekeep/store"
)

// Errors that callers test for.
var (
	ErrUnknown   = errors.New("no such device")
	ErrDuplicate = errors.New("a device of that name exists")
	ErrInvalid   = errors.New("not a device record")
	ErrNobody    = errors.New("the selector matches no device")
	ErrEdited    = errors.New("the record was edited in the meantime")
)

// State says whether a device is visited.
type State string

// The states.
const (
	Active State = "active"
	Paused State = "paused"
)

// Freshness is how old the last good capture is against what the schedule promises.
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
	ID       int64
	Name     string
	Site     string
	Role     string
	Platform string
	Address  string // host:port
	Labels   []string
	State    State

	Nameplate  dialect.Nameplate
	HostKey    string // authorized-keys form
	Credential int64  // the one that worked last; 0 if none has
	Created    time.Time
	Edition    int64

	LastGood     time.Time
	LastVisit    time.Time
	LastChange   time.Time
	Problem      reason.Code // of the last visit; "" if it was good
	ProblemSince time.Time
	ProblemWhat  string
	Suspect      string // why the newest capture is suspect, or ""

	Freshness Freshness // filled in by Fleet.List and Fleet.Get
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
		return []string{d.Platform}
	case "label":
		return d.Labels
	case "address":
		host, _, _ := net.SplitHostPort(d.Address)
		return []string{d.Address, host}
	case "state":
		return []string{string(d.State)}
	case "freshness":
		return []string{string(d.Freshness)}
	case "model":
		return []string{d.Nameplate.Model}
	case "serial":
		return []string{d.Nameplate.Serial}
	case "version":
		return []string{d.Nameplate.Version}
	}
	return nil
}

// Promise tells when captures were due: the newest due times up to a moment,
// newest first, at least three.
type Promise func(until time.Time) []time.Time

// Daily is the promise where there is no schedule.
func Daily(until time.Time) []time.Time {
	const day = 24 * time.Hour
	return []time.Time{until.Add(-day), until.Add(-2 * day), until.Add(-3 * day)}
}

// grace is how long a round may take to come to a device.
const grace = time.Hour

// freshness counts the promises that were not kept.
func freshness(d *Device, due []time.Time) Freshness {
	if d.LastGood.IsZero() {
		return NoCapture
	}
	missed := 0
	for _, t := range due {
		if d.LastGood.Before(t) {
			missed++
		}
	}
	switch {
	case missed == 0:
		return Fresh
	case missed <= 2:
		return Late
	}
	return Stale
}

// Fleet reads and writes device records.
type Fleet struct {
	db       *store.DB
	dialects dialect.Set
	now      func() time.Time
	promise  Promise
}

// New makes a fleet on db.
func New(db *store.DB, dialects dialect.Set, now func() time.Time) *Fleet {
	return &Fleet{db: db, dialects: dialects, now: now, promise: Daily}
}

// due is when captures were due, those left out whose round may still be on
// its way.
func (f *Fleet) due() []time.Time { return f.promise(f.now().Add(-grace)) }

// SetPromise says when captures are due. It is called once, before use.
func (f *Fleet) SetPromise(p Promise) { f.promise = p }

const columns = `id, name, site, role, platform, address, labels, state, serial, own_name, model, version, host_key,
	coalesce(credential_id, 0), created_at, edition, last_good, last_visit, last_change, problem, problem_since, problem_what, suspect`

func (f *Fleet) scan(row interface{ Scan(...any) error }, due []time.Time) (Device, error) {
	var d Device
	var labels string
	var created, good, visit, change, since int64
	err := row.Scan(&d.ID, &d.Name, &d.Site, &d.Role, &d.Platform, &d.Address, &labels, &d.State, &d.Nameplate.Serial, &d.Nameplate.Name,
		&d.Nameplate.Model, &d.Nameplate.Version, &d.HostKey, &d.Credential, &created, &d.Edition, &good, &visit, &change, &d.Problem, &since, &d.ProblemWhat, &d.Suspect)
	if labels != "" {
		d.Labels = strings.Split(labels, "\n")
	}
	d.Created, d.LastGood, d.LastVisit, d.LastChange, d.ProblemSince = store.Time(created), store.Time(good), store.Time(visit), store.Time(change), store.Time(since)
	d.Freshness = freshness(&d, due)
	return d, err
}

// List is the devices that the selector picks, in order of name.
func (f *Fleet) List(ctx context.Context, sel selector.Selector) ([]Device, error) {
	due := f.due()
	rows, err := f.db.Query(ctx, `SELECT `+columns+` FROM devices ORDER BY name`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Device
	for rows.Next() {
		d, err := f.scan(rows, due)
		if err != nil {
			return nil, err
		}
		if sel.Match(&d) {
			list = append(list, d)
		}
	}
	return list, rows.Err()
}

// Pick is List for doing something: no device at all is an error.
func (f *Fleet) Pick(ctx context.Context, expression string) ([]Device, error) {
	sel, err := selector.Parse(expression)
	if err != nil {
		return nil, err
	}
	list, err := f.List(ctx, sel)
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("%w: %s", ErrNobody, orAll(expression))
		if hint := f.hint(ctx, strings.TrimPrefix(strings.TrimSpace(expression), "name=")); hint != "" {
			err = fmt.Errorf("%w.%s", err, hint)
		}
	}
	return list, err
}

func orAll(expression string) string {
	if strings.TrimSpace(expression) == "" {
		return "there are no devices yet; add one with 'vergekeep device add'"
	}
	return expression
}

func (f *Fleet) hint(ctx context.Context, name string) string {
	var names []string
	rows, err := f.db.Query(ctx, `SELECT name FROM devices`)
	if err != nil {
		return ""
	}
	defer rows.Close()
	for rows.Next() {
		var n string
		if rows.Scan(&n) == nil {
			names = append(names, n)
		}
	}
	if rows.Err() != nil {
		return ""
	}
	return nearest.Hint(name, names)
}

// Get is the device of that name; its error offers the nearest one.
func (f *Fleet) Get(ctx context.Context, name string) (Device, error) {
	due := f.due() // before a connection is taken: it may need one itself
	d, err := f.scan(f.db.QueryRow(ctx, `SELECT `+columns+` FROM devices WHERE name = ?`, name), due)
	if errors.Is(err, sql.ErrNoRows) {
		return d, fmt.Errorf("%w: %q.%s", ErrUnknown, name, f.hint(ctx, name))
	}
	return d, err
}

// ByID is the device with that id.
func (f *Fleet) ByID(ctx context.Context, id int64) (Device, error) {
	due := f.due() // before a connection is taken: it may need one itself
	d, err := f.scan(f.db.QueryRow(ctx, `SELECT `+columns+` FROM devices WHERE id = ?`, id), due)
	if errors.Is(err, sql.ErrNoRows) {
		return d, fmt.Errorf("%w: id %d", ErrUnknown, id)
	}
	return d, err
}

// check says what is wrong with a record, and fills in the usual port.
func (f *Fleet) check(d *Device) error {
	bad := func(format string, args ...any) error {
		return fmt.Errorf("%w: %s", ErrInvalid, fmt.Sprintf(format, args...))
	}
	if err := ref.CheckName(d.Name); err != nil {
		return bad("the name %v", err)
	}
	for field, value := range map[string]string{"site": d.Site, "role": d.Role} {
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
	if _, ok := f.dialects[d.Platform]; !ok {
		return bad("there is no dialect for the platform %q; there are %s.%s", d.Platform, strings.Join(f.dialects.Names(), ", "), nearest.Hint(d.Platform, f.dialects.Names()))
	}
	address, err := checkAddress(d.Address)
	if err != nil {
		return bad("%v", err)
	}
	d.Address = address
	if d.State == "" {
		d.State = Active
	}
	if d.State != Active && d.State != Paused {
		return bad("the state is active or paused, not %q", d.State)
	}
	return nil
}

// checkAddress accepts host or host:port, with IPv6 in brackets where a port
// follows, and returns host:port.
func checkAddress(s string) (string, error) {
	s = strings.TrimSpace(s)
	if s == "" {
		return "", errors.New("the address is missing; write for example 192.0.2.7 or 192.0.2.7:22")
	}
	host, port, err := net.SplitHostPort(s)
	if err != nil {
		host, port = strings.Trim(s, "[]"), "22"
	}
	if n, err := strconv.Atoi(port); err != nil || n < 1 || n > 65535 {
		return "", fmt.Errorf("%q is no port; ports are 1 to 65535", port)
	}
	if host == "" || len(host) > 253 || strings.ContainsAny(host, " \t/@,") {
		return "", fmt.Errorf("%q is no host name or address", host)
	}
	return net.JoinHostPort(host, port), nil
}

// Add stores a new record.
func (f *Fleet) Add(ctx context.Context, d Device, by string) (Device, error) {
	if err := f.check(&d); err != nil {
		return d, err
	}
	now := f.now()
	err := f.db.Write(ctx, func(tx *store.Tx) error {
		res, err := tx.Exec(`INSERT INTO devices (name, site, role, platform, address, labels, state, serial, created_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			d.Name, d.Site, d.Role, d.Platform, d.Address, strings.Join(d.Labels, "\n"), d.State, d.Nameplate.Serial, store.Stamp(now))
		if store.IsDuplicate(err) {
			return fmt.Errorf("%w: %s", ErrDuplicate, d.Name)
		}
		if err != nil {
			return err
		}
		if d.ID, err = res.LastInsertId(); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: now, Account: by, Action: "device add", Object: d.Name, Detail: d.Platform + " at " + d.Address})
	})
	if err != nil {
		return d, err
	}
	return f.ByID(ctx, d.ID)
}

// Change is an edit of a record; nil fields stay as they are.
type Change struct {
	Site, Role, Address, State *string
	Labels                     *[]string
	// Trust forgets host key and serial number, so that the next visit learns
	// them anew: the box was replaced or reset.
	Trust bool
}

// Edit changes a record. edition is the one that the caller saw; 0 takes any.
func (f *Fleet) Edit(ctx context.Context, name string, edition int64, c Change, by string) (Device, error) {
	d, err := f.Get(ctx, name)
	if err != nil {
		return d, err
	}
	if edition != 0 && edition != d.Edition {
		return d, fmt.Errorf("%w: it is at edition %d, not %d; look at it again", ErrEdited, d.Edition, edition)
	}
	set := func(to *string, from *string) {
		if from != nil {
			*to = *from
		}
	}
	set(&d.Site, c.Site)
	set(&d.Role, c.Role)
	set(&d.Address, c.Address)
	set((*string)(&d.State), c.State)
	if c.Labels != nil {
		d.Labels = *c.Labels
	}
	if err := f.check(&d); err != nil {
		return d, err
	}
	what := "edited"
	if c.Trust {
		d.HostKey, d.Nameplate.Serial = "", ""
		what = "new host key and serial number will be learnt at the next visit"
	}
	err = f.db.Write(ctx, func(tx *store.Tx) error {
		res, err := tx.Exec(`UPDATE devices SET site = ?, role = ?, address = ?, labels = ?, state = ?, host_key = ?, serial = ?, edition = edition + 1 WHERE id = ? AND edition = ?`,
			d.Site, d.Role, d.Address, strings.Join(d.Labels, "\n"), d.State, d.HostKey, d.Nameplate.Serial, d.ID, d.Edition)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, ErrEdited)
		}
		return journal.Append(tx, journal.Entry{At: f.now(), Account: by, Action: "device edit", Object: d.Name, Detail: what})
	})
	if err != nil {
		return d, err
	}
	return f.ByID(ctx, d.ID)
}
