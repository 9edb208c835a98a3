package fleet

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"vergekeep/core/nearest"
	"vergekeep/core/ref"
	"vergekeep/service/journal"
	"vergekeep/store"
)

// Errors of sites and jump hosts.
var (
	ErrSite = errors.New("not a site")
	ErrJump = errors.New("not a jump host")
)

// Site is what holds for all devices of a site.
type Site struct {
	Name   string
	AtOnce int // most visits at a time; 0 for no limit
	// Closed are hours in which rounds rest: "07:00-19:00 Mon-Fri".
	Closed  []string
	Zone    string
	Devices int
}

// Hours are hours of some days of the week.
type Hours struct {
	from, to int // minutes after midnight; to may be smaller: over midnight
	days     [7]bool
}

var weekdays = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// ParseHours reads "07:00-19:00", "07:00-19:00 Mon-Fri" or "22:00-05:00 Fri,Sat";
// hours over midnight belong to the day on which they begin.
func ParseHours(s string) (Hours, error) {
	bad := fmt.Errorf("%w: %q are no hours; write for example 07:00-19:00 Mon-Fri", ErrSite, s)
	fields := strings.Fields(s)
	if len(fields) < 1 || len(fields) > 2 {
		return Hours{}, bad
	}
	var h Hours
	from, to, ok := strings.Cut(fields[0], "-")
	if !ok {
		return h, bad
	}
	for text, minutes := range map[string]*int{from: &h.from, to: &h.to} {
		if text == "24:00" {
			*minutes = 24 * 60
			continue
		}
		at, err := time.Parse("15:04", text)
		if err != nil {
			return h, bad
		}
		*minutes = at.Hour()*60 + at.Minute()
	}
	if h.from == h.to {
		return h, bad
	}
	if len(fields) == 1 {
		h.days = [7]bool{true, true, true, true, true, true, true}
		return h, nil
	}
	for part := range strings.SplitSeq(strings.ToLower(fields[1]), ",") {
		first, last, isRange := strings.Cut(part, "-")
		if !isRange {
			last = first
		}
		i, j := slices.Index(weekdays, first), slices.Index(weekdays, last)
		if i < 0 || j < 0 {
			return h, bad
		}
		for ; ; i = (i + 1) % 7 {
			h.days[i] = true
			if i == j {
				break
			}
		}
	}
	return h, nil
}

// Hold reports whether t, in its zone, is within the hours.
func (h Hours) Hold(t time.Time) bool {
	minute, day := t.Hour()*60+t.Minute(), int(t.Weekday())
	if h.from < h.to {
		return h.days[day] && minute >= h.from && minute < h.to
	}
	return h.days[day] && minute >= h.from || h.days[(day+6)%7] && minute < h.to
}

// IsClosed reports whether rounds rest at the site at t.
func (s Site) IsClosed(t time.Time) bool {
	zone, err := time.LoadLocation(s.Zone)
	if err != nil {
		zone = time.UTC
	}
	for _, text := range s.Closed {
		if h, err := ParseHours(text); err == nil && h.Hold(t.In(zone)) {
			return true
		}
	}
	return false
}

// Sites is every site that a device names or that has something set, in order
// of name.
func (f *Fleet) Sites(ctx context.Context) ([]Site, error) {
	rows, err := f.db.Query(ctx, `SELECT n.name, coalesce(s.at_once, 0), coalesce(s.closed_hours, ''), coalesce(s.zone, 'UTC'),
		(SELECT count(*) FROM devices d WHERE d.site = n.name COLLATE NOCASE AND d.state <> 'retired')
		FROM (SELECT site AS name FROM devices WHERE site <> '' UNION SELECT name FROM sites) n LEFT JOIN sites s ON s.name = n.name COLLATE NOCASE
		GROUP BY lower(n.name) ORDER BY lower(n.name)`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Site
	for rows.Next() {
		var s Site
		var closed string
		if err := rows.Scan(&s.Name, &s.AtOnce, &closed, &s.Zone, &s.Devices); err != nil {
			return nil, err
		}
		s.Closed = lines(closed)
		list = append(list, s)
	}
	return list, rows.Err()
}

// SetSite sets what holds for a site.
func (f *Fleet) SetSite(ctx context.Context, s Site, by string) error {
	if err := ref.CheckName(s.Name); err != nil {
		return fmt.Errorf("%w: the name %w", ErrSite, err)
	}
	if s.AtOnce < 0 || s.AtOnce > 10_000 {
		return fmt.Errorf("%w: visits at a time are 0 (no limit) to 10000", ErrSite)
	}
	if s.Zone == "" {
		s.Zone = "UTC"
	}
	if _, err := time.LoadLocation(s.Zone); err != nil {
		return fmt.Errorf("%w: %q is no time zone; write for example Europe/Oslo", ErrSite, s.Zone)
	}
	for _, h := range s.Closed {
		if _, err := ParseHours(h); err != nil {
			return err
		}
	}
	return f.db.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`INSERT INTO sites (name, at_once, closed_hours, zone) VALUES (?, ?, ?, ?)
			ON CONFLICT (name) DO UPDATE SET at_once = excluded.at_once, closed_hours = excluded.closed_hours, zone = excluded.zone`,
			s.Name, s.AtOnce, strings.Join(s.Closed, "\n"), s.Zone); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: f.now(), Account: by, Action: "site set", Object: s.Name,
			Detail: fmt.Sprintf("%d at a time, closed %s", s.AtOnce, orNone(strings.Join(s.Closed, ", ")))})
	})
}

// Jump is a host through which devices are reached.
type Jump struct {
	Name       string
	Address    string
	Via        string // the jump host before it
	Credential string // name of the one that logs in to it
	HostKeys   []string
	AtOnce     int // most visits through it at a time; 0 for no limit
}

// Jumps is all jump hosts, in order of name.
func (f *Fleet) Jumps(ctx context.Context) ([]Jump, error) {
	rows, err := f.db.Query(ctx, `SELECT name, address, via, credential, host_keys, at_once FROM jumps ORDER BY lower(name)`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Jump
	for rows.Next() {
		var j Jump
		var keys string
		if err := rows.Scan(&j.Name, &j.Address, &j.Via, &j.Credential, &keys, &j.AtOnce); err != nil {
			return nil, err
		}
		j.HostKeys = lines(keys)
		list = append(list, j)
	}
	return list, rows.Err()
}

// Chain is the jump hosts to the one named, the one nearest to us first.
func (f *Fleet) Chain(ctx context.Context, name string) ([]Jump, error) {
	if name == "" {
		return nil, nil
	}
	all, err := f.Jumps(ctx)
	if err != nil {
		return nil, err
	}
	var names []string
	by := map[string]Jump{}
	for _, j := range all {
		names = append(names, j.Name)
		by[strings.ToLower(j.Name)] = j
	}
	var chain []Jump
	for at := name; at != ""; {
		j, ok := by[strings.ToLower(at)]
		if !ok {
			return nil, fmt.Errorf("%w: there is no jump host %q.%s", ErrJump, at, nearest.Hint(at, names))
		}
		if len(chain) == 8 {
			return nil, fmt.Errorf("%w: the way to %s goes over more than 8 jump hosts, or in a ring", ErrJump, name)
		}
		chain = append(chain, j)
		at = j.Via
	}
	slices.Reverse(chain)
	return chain, nil
}

// SetJump makes or changes a jump host. A new address forgets its host keys.
func (f *Fleet) SetJump(ctx context.Context, j Jump, by string) error {
	if err := ref.CheckName(j.Name); err != nil {
		return fmt.Errorf("%w: the name %w", ErrJump, err)
	}
	var err error
	if j.Address, err = CheckAddress(j.Address, 22); err != nil {
		return fmt.Errorf("%w: %w", ErrJump, err)
	}
	if j.AtOnce < 0 || j.AtOnce > 10_000 {
		return fmt.Errorf("%w: visits at a time are 0 (no limit) to 10000", ErrJump)
	}
	if j.Credential == "" {
		return fmt.Errorf("%w: it needs the name of the credential that logs in to it", ErrJump)
	}
	if strings.EqualFold(j.Via, j.Name) {
		return fmt.Errorf("%w: it cannot be reached through itself", ErrJump)
	}
	if chain, err := f.Chain(ctx, j.Via); err != nil {
		return err
	} else if slices.ContainsFunc(chain, func(o Jump) bool { return strings.EqualFold(o.Name, j.Name) }) {
		return fmt.Errorf("%w: it cannot be reached through itself", ErrJump)
	}
	return f.db.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`INSERT INTO jumps (name, address, via, credential, at_once, created_at) VALUES (?, ?, ?, ?, ?, ?)
			ON CONFLICT (name) DO UPDATE SET host_keys = CASE WHEN address = excluded.address THEN host_keys ELSE '' END,
			address = excluded.address, via = excluded.via, credential = excluded.credential, at_once = excluded.at_once`,
			j.Name, j.Address, j.Via, j.Credential, j.AtOnce, store.Stamp(f.now())); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: f.now(), Account: by, Action: "jump host set", Object: j.Name, Detail: j.Address})
	})
}

// DeleteJump takes a jump host away that nothing goes through.
func (f *Fleet) DeleteJump(ctx context.Context, name, by string) error {
	if _, err := f.Chain(ctx, name); err != nil {
		return unknown{err}
	}
	return f.db.Write(ctx, func(tx *store.Tx) error {
		var users int
		if err := tx.QueryRow(`SELECT (SELECT count(*) FROM devices WHERE via = ?1 COLLATE NOCASE) + (SELECT count(*) FROM jumps WHERE via = ?1 COLLATE NOCASE)`, name).Scan(&users); err != nil {
			return err
		}
		if users > 0 {
			return fmt.Errorf("%w: %d records go through %s", ErrJump, users, name)
		}
		if _, err := tx.Exec(`DELETE FROM jumps WHERE name = ?`, name); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: f.now(), Account: by, Action: "jump host delete", Object: name})
	})
}

// JumpKey puts the first host key of a jump host on record. With trust, it
// replaces what is there.
func (f *Fleet) JumpKey(ctx context.Context, name, key string) error {
	return f.db.Write(ctx, func(tx *store.Tx) error {
		_, err := tx.Exec(`UPDATE jumps SET host_keys = ? WHERE name = ? AND host_keys = ''`, key, name)
		return err
	})
}

// ForgetJumpKeys lets a jump host show a new key at its next use.
func (f *Fleet) ForgetJumpKeys(ctx context.Context, name, why, by string) error {
	if _, err := f.Chain(ctx, name); err != nil {
		return unknown{err}
	}
	return f.db.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`UPDATE jumps SET host_keys = '' WHERE name = ?`, name); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: f.now(), Account: by, Action: "jump host trust", Object: name, Detail: orNone(why)})
	})
}
