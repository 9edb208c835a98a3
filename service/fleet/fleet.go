// Package fleet keeps the records of devices: what they are called, where they
// are, how they are reached, and how fresh our knowledge of them is.
package fleet

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"strings"
	"sync/atomic"
	"time"

	"vergekeep/core/dialect"
	"vergekeep/core/nearest"
	"vergekeep/core/selector"
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

// Promise tells when captures were due up to a moment: for each device the
// newest due times, newest first, at least three where anything reaches it.
type Promise func(until time.Time) func(*Device) []time.Time

// Daily is the promise where there is no schedule.
func Daily(until time.Time) func(*Device) []time.Time {
	const day = 24 * time.Hour
	due := []time.Time{until.Add(-day), until.Add(-2 * day), until.Add(-3 * day)}
	return func(*Device) []time.Time { return due }
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
	db        *store.DB
	dialects  dialect.Set
	now       func() time.Time
	promise   Promise
	searches  Searches
	names     atomic.Pointer[knownNames]
	volatiles volatiles
}

// Searches says which devices a search that was saved finds; its error says that
// there is no such search.
type Searches func(ctx context.Context, name string) (map[int64]bool, error)

// SetSearches says how searches are asked. It is called once, before use.
func (f *Fleet) SetSearches(s Searches) { f.searches = s }

// New makes a fleet on db.
func New(db *store.DB, dialects dialect.Set, now func() time.Time) *Fleet {
	return &Fleet{db: db, dialects: dialects, now: now, promise: Daily}
}

// SetPromise says when captures are due. It is called once, before use.
func (f *Fleet) SetPromise(p Promise) { f.promise = p }

// judge completes devices that have been read: freshness, and the groups they
// belong to. It is made before a connection is taken, as it may need one itself.
type judge struct {
	due    func(*Device) []time.Time
	groups func(*Device) []string
}

// judge leaves out promises whose round may still be on its way.
func (f *Fleet) judge(ctx context.Context) (judge, error) {
	groups, err := f.membership(ctx)
	return judge{f.promise(f.now().Add(-grace)), groups}, err
}

const columns = `id, name, site, role, platform, address, transport, via, old_algorithms, patience, pair, source, labels, zone, state,
	serial, own_name, model, version, uptime, host_keys, offered_key, old_in_use,
	coalesce(credential_id, 0), created_at, edition, last_good, last_visit, last_change, problem, problem_since, problem_what, suspect, unsaved, unsaved_since`

func scan(row interface{ Scan(...any) error }, j judge) (Device, error) {
	var d Device
	var address, labels, keys string
	var created, good, visit, change, since, unsaved int64
	err := row.Scan(&d.ID, &d.Name, &d.Site, &d.Role, &d.Platform, &address, &d.Transport, &d.Via, &d.OldAlgorithms, &d.Patience, &d.Pair, &d.Source, &labels, &d.Zone, &d.State,
		&d.Nameplate.Serial, &d.Nameplate.Name, &d.Nameplate.Model, &d.Nameplate.Version, &d.Nameplate.Uptime, &keys, &d.OfferedKey, &d.OldInUse,
		&d.Credential, &created, &d.Edition, &good, &visit, &change, &d.Problem, &since, &d.ProblemWhat, &d.Suspect, &d.Unsaved, &unsaved)
	d.Addresses, d.Labels, d.HostKeys = strings.Split(address, ", "), lines(labels), lines(keys)
	d.Created, d.LastGood, d.LastVisit, d.LastChange, d.ProblemSince, d.UnsavedSince = store.Time(created), store.Time(good), store.Time(visit), store.Time(change), store.Time(since), store.Time(unsaved)
	if err == nil {
		d.groups = j.groups
		d.Freshness = freshness(&d, j.due(&d))
	}
	return d, err
}

func lines(s string) []string {
	if s == "" {
		return nil
	}
	return strings.Split(s, "\n")
}

// List is the devices that the selector picks, in order of name.
func (f *Fleet) List(ctx context.Context, sel selector.Selector) ([]Device, error) {
	if err := f.checkGroups(ctx, sel); err != nil {
		return nil, err
	}
	found := map[string]map[int64]bool{}
	for _, name := range sel.Values("search") {
		if f.searches == nil {
			return nil, fmt.Errorf("%w: searches cannot be asked here", ErrNone)
		}
		var err error
		if found[name], err = f.searches(ctx, name); err != nil {
			return nil, err
		}
	}
	j, err := f.judge(ctx)
	if err != nil {
		return nil, err
	}
	rows, err := f.db.Query(ctx, `SELECT `+columns+` FROM devices ORDER BY name`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Device
	for rows.Next() {
		d, err := scan(rows, j)
		if err != nil {
			return nil, err
		}
		for name, devices := range found {
			if devices[d.ID] {
				d.searches = append(d.searches, name)
			}
		}
		if sel.Match(&d) {
			list = append(list, d)
		}
	}
	return list, rows.Err()
}

// namesFor is how long the names of all devices are remembered.
const namesFor = 2 * time.Second

// Names is the names of the devices that the selector picks, by id. Do not change
// the result. Of all devices it may be two seconds old.
func (f *Fleet) Names(ctx context.Context, sel selector.Selector) (map[int64]string, error) {
	names := map[int64]string{}
	if !sel.Empty() {
		list, err := f.List(ctx, sel)
		for _, d := range list {
			names[d.ID] = d.Name
		}
		return names, err
	}
	if known := f.names.Load(); known != nil && time.Since(known.at) < namesFor {
		return known.names, nil
	}
	begun := time.Now()
	rows, err := f.db.Query(ctx, `SELECT id, name FROM devices`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var id int64
		var name string
		if err := rows.Scan(&id, &name); err != nil {
			return nil, err
		}
		names[id] = name
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	if known := f.names.Load(); known != nil && maps.Equal(known.names, names) {
		names = known.names // whoever remembers something about them can go on
	}
	f.names.Store(&knownNames{names, begun})
	return names, nil
}

type knownNames struct {
	names map[int64]string
	at    time.Time
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
	d, err := f.one(ctx, `name = ?`, name)
	if errors.Is(err, sql.ErrNoRows) {
		return d, fmt.Errorf("%w: %q.%s", ErrUnknown, name, f.hint(ctx, name))
	}
	return d, err
}

// ByID is the device with that id.
func (f *Fleet) ByID(ctx context.Context, id int64) (Device, error) {
	d, err := f.one(ctx, `id = ?`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return d, fmt.Errorf("%w: id %d", ErrUnknown, id)
	}
	return d, err
}

func (f *Fleet) one(ctx context.Context, where string, arg any) (Device, error) {
	j, err := f.judge(ctx)
	if err != nil {
		return Device{}, err
	}
	return scan(f.db.QueryRow(ctx, `SELECT `+columns+` FROM devices WHERE `+where, arg), j)
}
