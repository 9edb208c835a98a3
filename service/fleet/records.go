package fleet

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"vergekeep/service/journal"
	"vergekeep/store"
	"vergekeep/wire/ssh"
)

// Add stores a new record.
func (f *Fleet) Add(ctx context.Context, d Device, by string) (Device, error) {
	if err := f.check(&d); err != nil {
		return d, err
	}
	err := f.db.Write(ctx, func(tx *store.Tx) error {
		var err error
		d.ID, err = f.insert(tx, d, by)
		return err
	})
	if err != nil {
		return d, err
	}
	return f.ByID(ctx, d.ID)
}

func (f *Fleet) insert(tx *store.Tx, d Device, by string) (int64, error) {
	now := f.now()
	res, err := tx.Exec(`INSERT INTO devices (name, site, role, platform, address, transport, via, old_algorithms, patience, pair, source, labels, zone, state, serial, host_keys, created_at)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		d.Name, d.Site, d.Role, d.Platform, d.Address(), d.Transport, d.Via, d.OldAlgorithms, d.Patience, d.Pair, d.Source,
		strings.Join(d.Labels, "\n"), d.Zone, d.State, d.Nameplate.Serial, strings.Join(d.HostKeys, "\n"), store.Stamp(now))
	if store.IsDuplicate(err) {
		return 0, fmt.Errorf("%w: %s", ErrDuplicate, d.Name)
	}
	if err != nil {
		return 0, err
	}
	id, err := res.LastInsertId()
	if err != nil {
		return 0, err
	}
	return id, journal.Append(tx, journal.Entry{At: now, Account: by, Action: "device add", Object: d.Name, Detail: d.Platform + " at " + d.Address()})
}

// Change is an edit of a record; nil fields stay as they are.
type Change struct {
	Name, Site, Role, Platform, Address, Transport, Via, Pair, State, Source, Zone *string

	Labels        *[]string
	OldAlgorithms *bool
	Patience      *int
}

// apply changes the record.
func (c Change) apply(d *Device) {
	set := func(to *string, from *string) {
		if from != nil {
			*to = *from
		}
	}
	set(&d.Name, c.Name)
	set(&d.Site, c.Site)
	set(&d.Role, c.Role)
	set(&d.Platform, c.Platform)
	set((*string)(&d.Transport), c.Transport)
	set(&d.Via, c.Via)
	set(&d.Pair, c.Pair)
	set((*string)(&d.State), c.State)
	set(&d.Source, c.Source)
	set(&d.Zone, c.Zone)
	if c.Address != nil {
		d.Addresses = SplitAddresses(*c.Address)
	}
	if c.Labels != nil {
		d.Labels = slices.Clone(*c.Labels)
	}
	if c.OldAlgorithms != nil {
		d.OldAlgorithms = *c.OldAlgorithms
	}
	if c.Patience != nil {
		d.Patience = *c.Patience
	}
}

// differences says in which fields two records differ.
func differences(was, is *Device) []string {
	var said []string
	old, now := append(was.fields(), was.Source), append(is.fields(), is.Source)
	for i, column := range append(slices.Clone(Columns), "import") {
		if old[i] != now[i] {
			said = append(said, fmt.Sprintf("%s: %s to %s", column, orNone(old[i]), orNone(now[i])))
		}
	}
	return said
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
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
	was := d
	was.Addresses, was.Labels = slices.Clone(d.Addresses), slices.Clone(d.Labels)
	c.apply(&d)
	if err := f.check(&d); err != nil {
		return d, err
	}
	said := differences(&was, &d)
	if len(said) == 0 {
		return d, nil
	}
	err = f.db.Write(ctx, func(tx *store.Tx) error { return f.update(tx, was.Name, d, said, by) })
	if err != nil {
		return d, err
	}
	return f.ByID(ctx, d.ID)
}

func (f *Fleet) update(tx *store.Tx, was string, d Device, said []string, by string) error {
	res, err := tx.Exec(`UPDATE devices SET name = ?, site = ?, role = ?, platform = ?, address = ?, transport = ?, via = ?, old_algorithms = ?, patience = ?, pair = ?,
		source = ?, labels = ?, zone = ?, state = ?, edition = edition + 1 WHERE id = ? AND edition = ?`,
		d.Name, d.Site, d.Role, d.Platform, d.Address(), d.Transport, d.Via, d.OldAlgorithms, d.Patience, d.Pair,
		d.Source, strings.Join(d.Labels, "\n"), d.Zone, d.State, d.ID, d.Edition)
	if store.IsDuplicate(err) {
		return fmt.Errorf("%w: %s", ErrDuplicate, d.Name)
	}
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, ErrEdited)
	}
	return journal.Append(tx, journal.Entry{At: f.now(), Account: by, Action: "device edit", Object: was, Detail: strings.Join(said, "; ")})
}

// ErrNoKey is wrapped where there is no host key to accept.
var ErrNoKey = errors.New("it has shown no other host key")

// Trust accepts the host keys that devices showed and that were refused. With
// add, the keys on record stay beside it.
func (f *Fleet) Trust(ctx context.Context, expression, why string, add bool, by string) ([]Device, error) {
	list, err := f.Pick(ctx, expression)
	if err != nil {
		return nil, err
	}
	list = slices.DeleteFunc(list, func(d Device) bool { return d.OfferedKey == "" })
	if len(list) == 0 {
		return nil, fmt.Errorf("%w: nothing to accept for %s", ErrNoKey, expression)
	}
	err = f.db.Write(ctx, func(tx *store.Tx) error {
		for i, d := range list {
			keys := []string{d.OfferedKey}
			if add {
				keys = append(slices.Clone(d.HostKeys), d.OfferedKey)
			}
			if _, err := tx.Exec(`UPDATE devices SET host_keys = ?, offered_key = '', edition = edition + 1 WHERE id = ?`, strings.Join(keys, "\n"), d.ID); err != nil {
				return err
			}
			list[i].HostKeys, list[i].OfferedKey = keys, ""
			if err := journal.Append(tx, journal.Entry{At: f.now(), Account: by, Action: "host key accept", Object: d.Name, Detail: ssh.Fingerprint(d.OfferedKey) + ": " + orNone(why)}); err != nil {
				return err
			}
		}
		return nil
	})
	return list, err
}

// Replace notes that a spare took over name and history: whatever host key and
// serial number it shows at the next visit are its own. A serial number that is
// given must be the one it says.
func (f *Fleet) Replace(ctx context.Context, name, serial, why, by string) (Device, error) {
	d, err := f.Get(ctx, name)
	if err != nil {
		return d, err
	}
	err = f.db.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`UPDATE devices SET host_keys = '', offered_key = '', serial = ?, edition = edition + 1 WHERE id = ?`, serial, d.ID); err != nil {
			return err
		}
		detail := "serial number " + orNone(d.Nameplate.Serial) + " goes"
		if serial != "" {
			detail += ", " + serial + " comes"
		}
		return journal.Append(tx, journal.Entry{At: f.now(), Account: by, Action: "device replace", Object: d.Name, Detail: detail + ": " + orNone(why)})
	})
	if err != nil {
		return d, err
	}
	return f.ByID(ctx, d.ID)
}
