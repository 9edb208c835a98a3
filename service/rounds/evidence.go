package rounds

import (
	"context"
	"slices"
	"time"

	"vergekeep/core/dialect"
	"vergekeep/core/reason"
	"vergekeep/core/selector"
	"vergekeep/store"
)

// Plate is what a device said about itself from a moment on.
type Plate struct {
	Since time.Time
	dialect.Nameplate
}

// Nameplates is the history of what a device said about itself, newest first.
func (s *Service) Nameplates(ctx context.Context, device int64) ([]Plate, error) {
	rows, err := s.db.Query(ctx, `SELECT since, name, serial, model, version FROM nameplates WHERE device_id = ? ORDER BY since DESC`, device)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Plate
	for rows.Next() {
		var p Plate
		var since int64
		if err := rows.Scan(&since, &p.Name, &p.Serial, &p.Model, &p.Version); err != nil {
			return nil, err
		}
		p.Since = store.Time(since)
		list = append(list, p)
	}
	return list, rows.Err()
}

// Use is how a device took a credential since the credential was changed.
type Use struct {
	Device string
	Took   string // accepted, refused, not tried
	At     time.Time
}

// CredentialUse tells of every device that a credential is for, or that keeps
// it, how it took the present secrets.
func (s *Service) CredentialUse(ctx context.Context, name string) ([]Use, error) {
	c, err := s.vault.Get(ctx, name)
	if err != nil {
		return nil, err
	}
	sel, err := selector.Parse(c.Selector)
	if err != nil {
		return nil, err
	}
	devices, err := s.fleet.List(ctx, selector.Selector{})
	if err != nil {
		return nil, err
	}
	var list []Use
	for i := range devices {
		d := &devices[i]
		if d.Credential != c.ID && (d.Credential != 0 || !sel.Match(d)) {
			continue
		}
		u := Use{Device: d.Name, Took: "not tried"}
		switch {
		case d.Problem == reason.CredentialRefused && !d.LastVisit.Before(c.Changed):
			u.Took, u.At = "refused", d.LastVisit
		case d.Credential == c.ID && !d.LastGood.Before(c.Changed):
			u.Took, u.At = "accepted", d.LastGood
		}
		list = append(list, u)
	}
	// Those that refuse it first: they need somebody.
	slices.SortStableFunc(list, func(x, y Use) int { return rank[x.Took] - rank[y.Took] })
	return list, nil
}

var rank = map[string]int{"refused": 0, "not tried": 1, "accepted": 2}
