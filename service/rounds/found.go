package rounds

import (
	"context"
	"sort"
	"time"

	"vergekeep/store"
)

// Finds is when which rounds found something new at a device.
type Finds []find

type find struct {
	from, to time.Time
	round    int64
}

// Found reads when which rounds found something new, by device; of rounds that
// ended before since it tells nothing.
func (s *Service) Found(ctx context.Context, since time.Time) (map[int64]Finds, error) {
	rows, err := s.db.Query(ctx, `SELECT v.device_id, r.started_at + v.started * 1000, v.took, v.round_id FROM visits v JOIN rounds r ON r.id = v.round_id
		WHERE v.id >= (SELECT coalesce(min(first_visit), 9223372036854775807) FROM rounds WHERE ended_at = 0 OR ended_at >= ?) AND v.outcome = 1 ORDER BY r.started_at + v.started`, store.Stamp(since))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	found := map[int64]Finds{}
	for rows.Next() {
		var device, from, took, round int64
		if err := rows.Scan(&device, &from, &took, &round); err != nil {
			return nil, err
		}
		start := store.Time(from)
		// Visits are kept to the millisecond, revisions to the microsecond.
		found[device] = append(found[device], find{start, start.Add(time.Duration(took+1) * time.Millisecond), round})
	}
	return found, rows.Err()
}

// At is the round in whose visit something arrived at that time; 0 for none.
func (f Finds) At(at time.Time) int64 {
	i := sort.Search(len(f), func(i int) bool { return f[i].from.After(at) }) - 1
	if i < 0 || at.After(f[i].to) {
		return 0
	}
	return f[i].round
}
