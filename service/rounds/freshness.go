package rounds

import (
	"context"
	"time"

	"vergekeep/service/fleet"
	"vergekeep/store"
)

// Freshness counts devices by how fresh their last good capture is.
type Freshness struct {
	At                       time.Time
	Fresh, Late, Stale, None int
}

// Count adds a device.
func (f *Freshness) Count(d *fleet.Device) {
	switch d.Freshness {
	case fleet.Fresh:
		f.Fresh++
	case fleet.Late:
		f.Late++
	case fleet.Stale:
		f.Stale++
	case fleet.NoCapture:
		f.None++
	}
}

// noteFreshness keeps how fresh the fleet is, at most once an hour.
func (s *Service) noteFreshness(ctx context.Context) error {
	devices, err := s.fleet.Pick(ctx, "state=active")
	if err != nil {
		return err
	}
	var f Freshness
	for i := range devices {
		f.Count(&devices[i])
	}
	hour := store.Stamp(s.now().Truncate(time.Hour))
	return s.db.Write(ctx, func(tx *store.Tx) error {
		_, err := tx.Exec(`INSERT OR REPLACE INTO freshness (at, fresh, late, stale, none) VALUES (?, ?, ?, ?, ?)`, hour, f.Fresh, f.Late, f.Stale, f.None)
		return err
	})
}

// FreshnessHistory is how fresh the fleet was since a moment, oldest first.
func (s *Service) FreshnessHistory(ctx context.Context, since time.Time) ([]Freshness, error) {
	rows, err := s.db.Query(ctx, `SELECT at, fresh, late, stale, none FROM freshness WHERE at >= ? ORDER BY at`, store.Stamp(since))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Freshness
	for rows.Next() {
		var f Freshness
		var at int64
		if err := rows.Scan(&at, &f.Fresh, &f.Late, &f.Stale, &f.None); err != nil {
			return nil, err
		}
		f.At = store.Time(at)
		list = append(list, f)
	}
	return list, rows.Err()
}
