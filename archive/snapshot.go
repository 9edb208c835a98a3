package archive

import (
	"context"
	"encoding/json"
	"time"

	"vergekeep/store"
)

// Snapshot is the newest revisions of some devices, read together, which costs
// a fraction of reading them one by one.
type Snapshot struct {
	a     *Archive
	taken uint64
	by    map[int64][]Revision
}

// Snapshot reads the newest revisions of the devices.
func (a *Archive) Snapshot(ctx context.Context, devices []int64) (*Snapshot, error) {
	s := &Snapshot{a: a, by: make(map[int64][]Revision, len(devices))}
	a.mu.Lock()
	s.taken = a.clock
	a.mu.Unlock()
	list, err := json.Marshal(devices)
	if err != nil {
		return s, err
	}
	revisions, err := a.query(ctx, `WHERE c.device_id IN (SELECT value FROM json_each(?)) AND `+isNewest, string(list))
	if err != nil {
		return s, err
	}
	for _, d := range devices {
		s.by[d] = nil
	}
	for _, r := range revisions {
		s.by[r.Device] = append(s.by[r.Device], r)
	}
	return s, nil
}

// NoSnapshot knows nothing, so that everything is read anew.
func (a *Archive) NoSnapshot() *Snapshot { return &Snapshot{a: a} }

// Newest is the newest revision of each configuration of a device. What was
// written since the snapshot, or was not in it, is read anew.
func (s *Snapshot) Newest(ctx context.Context, device int64) ([]Revision, error) {
	list, known := s.by[device]
	s.a.mu.Lock()
	fresh := s.a.touched[device] <= s.taken
	s.a.mu.Unlock()
	if known && fresh {
		return list, nil
	}
	return s.a.Newest(ctx, device)
}

// Touched tells snapshots that a device has been written. Whoever calls
// [Archive.Record] calls it after the commit, and before anybody else may
// prepare a capture of the same device.
func (a *Archive) Touched(device int64) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.clock++
	a.touched[device] = a.clock
}

// TouchedSince is the devices that were written after a tick of the archive's
// clock, and the tick that it is now. Begin with 0, for which it knows nothing.
func (a *Archive) TouchedSince(tick uint64) (devices []int64, now uint64) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for device, at := range a.touched {
		if at > tick {
			devices = append(devices, device)
		}
	}
	return devices, a.clock
}

// AllNewest is the newest revision of every configuration.
func (a *Archive) AllNewest(ctx context.Context) ([]Revision, error) {
	return a.query(ctx, `WHERE `+isNewest)
}

// AllAt is the revision of each configuration that was in force at a time.
func (a *Archive) AllAt(ctx context.Context, at time.Time) ([]Revision, error) {
	return a.query(ctx, `WHERE r.number = (SELECT x.number FROM revisions x WHERE x.configuration_id = c.id AND x.origin <> 2 AND coalesce(x.first_seen, x.arrived_at) <= ?
		ORDER BY coalesce(x.first_seen, x.arrived_at) DESC, x.number DESC LIMIT 1)`, store.Stamp(at))
}

// Each calls f for every revision of every configuration, those of one in the
// order in which they were in force. Its text is only put together where it is
// asked for, and is compared with its sum alone.
func (a *Archive) Each(ctx context.Context, f func(r Revision, text func() (string, error)) error) error {
	rows, err := a.db.Query(ctx, `SELECT `+columns+`, coalesce(b.base_id, 0), coalesce(b.sum, 0), b.data`+from+`ORDER BY c.id, coalesce(r.first_seen, r.arrived_at), r.number`)
	if err != nil {
		return err
	}
	defer rows.Close()
	known := map[int64]string{} // texts of the configuration at hand, by content
	configuration := int64(0)
	for rows.Next() {
		var one row
		r, err := scanMore(rows, &one.base, &one.sum, &one.data)
		if err != nil {
			return err
		}
		if r.configuration != configuration {
			clear(known)
			configuration = r.configuration
		}
		one.id, one.size = r.blob, r.Size
		err = f(r, func() (string, error) {
			if r.Thinned {
				return a.Text(ctx, r)
			}
			if text, ok := known[one.id]; ok {
				return text, nil
			}
			base, ok := known[one.base]
			var text []byte
			var err error
			if one.base == 0 || ok {
				text, err = a.expand(ctx, one, base)
			} else {
				text, err = a.content(ctx, one.id, true)
			}
			if err == nil {
				known[one.id] = string(text)
			}
			return string(text), err
		})
		if err != nil {
			return err
		}
	}
	return rows.Err()
}

// End is how far the revisions of a configuration reach.
type End struct {
	Key
	ID     int64
	Newest int // number of the one in force since last
	Last   int // number of the one that arrived last
}

// Ends is the end of every configuration that has one.
func (a *Archive) Ends(ctx context.Context) ([]End, error) {
	rows, err := a.db.Query(ctx, `SELECT id, device_id, datastore, part, newest, last FROM configurations WHERE last > 0 ORDER BY device_id, datastore, part`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []End
	for rows.Next() {
		var e End
		if err := rows.Scan(&e.ID, &e.Device, &e.Datastore, &e.Part, &e.Newest, &e.Last); err != nil {
			return nil, err
		}
		list = append(list, e)
	}
	return list, rows.Err()
}

// After is the revisions of a configuration that arrived after one, in the order
// of their arrival.
func (a *Archive) After(ctx context.Context, configuration int64, number int) ([]Revision, error) {
	return a.query(ctx, `WHERE c.id = ? AND r.number > ? ORDER BY r.number`, configuration, number)
}
