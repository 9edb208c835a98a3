package archive

import (
	"context"
	"errors"
	"fmt"
	"time"

	"vergekeep/store"
)

// ErrPolicy is wrapped where a policy makes no sense.
var ErrPolicy = errors.New("it cannot be kept like this")

// Policy says what is thinned out by age. The zero policy keeps everything.
type Policy struct {
	All     time.Duration // everything younger than this is kept; 0 keeps all for ever
	Daily   time.Duration // then one a day up to this age; 0 goes to one a month at once
	Account string
	Changed time.Time
}

// Check says what is wrong with a policy.
func (p Policy) Check() error {
	switch {
	case p.All < 0 || p.Daily < 0:
		return fmt.Errorf("%w: an age is not negative", ErrPolicy)
	case p.All > 0 && p.All < 7*24*time.Hour:
		return fmt.Errorf("%w: less than seven days of everything is no archive", ErrPolicy)
	case p.Daily > 0 && p.All == 0:
		return fmt.Errorf("%w: one a day takes an age up to which everything is kept", ErrPolicy)
	case p.Daily > 0 && p.Daily < p.All:
		return fmt.Errorf("%w: one a day goes on after the age up to which everything is kept", ErrPolicy)
	}
	return nil
}

// Policy is the one in force.
func (a *Archive) Policy(ctx context.Context) (p Policy, err error) {
	var all, daily, changed int64
	err = a.db.QueryRow(ctx, `SELECT coalesce(max(all_for), 0), coalesce(max(daily_for), 0), coalesce(max(account), ''), coalesce(max(changed), 0) FROM retention`).Scan(&all, &daily, &p.Account, &changed)
	p.All, p.Daily, p.Changed = time.Duration(all)*time.Second, time.Duration(daily)*time.Second, store.Time(changed)
	return p, err
}

// SetPolicy puts a policy in force.
func (a *Archive) SetPolicy(tx *store.Tx, p Policy) error {
	if err := p.Check(); err != nil {
		return err
	}
	_, err := tx.Exec(`INSERT INTO retention (id, all_for, daily_for, account, changed) VALUES (1, ?, ?, ?, ?)
		ON CONFLICT (id) DO UPDATE SET all_for = excluded.all_for, daily_for = excluded.daily_for, account = excluded.account, changed = excluded.changed`,
		int64(p.All/time.Second), int64(p.Daily/time.Second), p.Account, store.Stamp(p.Changed))
	return err
}

// Surplus is the revisions that a policy lets go at a time. It never names the
// newest revision of a configuration, the first one, one with a note, one that is
// or was a baseline, the last one of its day or month, one of a device that is
// held, or one that something points at (by configuration and number).
func (a *Archive) Surplus(ctx context.Context, p Policy, held map[int64]bool, pointed map[[2]int64]bool, now time.Time) ([]Revision, error) {
	if p.All == 0 {
		return nil, p.Check()
	}
	if err := p.Check(); err != nil {
		return nil, err
	}
	var surplus []Revision
	var later *Revision // the next one of the same configuration
	list, err := a.query(ctx, `ORDER BY c.id, coalesce(r.first_seen, r.arrived_at) DESC, r.number DESC`)
	if err != nil {
		return nil, err
	}
	blessed, err := a.blessed(ctx)
	if err != nil {
		return nil, err
	}
	for i := range list {
		r := &list[i]
		newest := later == nil || later.configuration != r.configuration
		first := i+1 == len(list) || list[i+1].configuration != r.configuration
		next := later
		later = r
		age := now.Sub(r.FirstSeen)
		if newest || first || r.Thinned || r.Note != (Note{}) || held[r.Device] || age < p.All || blessed[[2]int64{r.configuration, int64(r.Number)}] || pointed[[2]int64{r.configuration, int64(r.Number)}] {
			continue
		}
		period := "2006-01"
		if age < p.Daily {
			period = "2006-01-02"
		}
		if next.FirstSeen.UTC().Format(period) != r.FirstSeen.UTC().Format(period) {
			continue // the last one of its day or month
		}
		surplus = append(surplus, *r)
	}
	return surplus, nil
}

// Thin forgets the texts of revisions; their rows, times and hashes stay, and so
// does the chain. What others are told against is told anew first. It returns
// how many bytes of contents went.
func (a *Archive) Thin(ctx context.Context, list []Revision) (freed int64, err error) {
	for _, r := range list {
		if err := ctx.Err(); err != nil {
			return freed, err
		}
		if r.Thinned || r.Note != (Note{}) {
			continue
		}
		n, err := a.thin(ctx, r)
		freed += n
		if err != nil {
			return freed, fmt.Errorf("thinning @%d: %w", r.Number, err)
		}
	}
	return freed, nil
}

func (a *Archive) thin(ctx context.Context, r Revision) (freed int64, err error) {
	// Those that are told against it, with their texts.
	type dependent struct {
		id   int64
		data []byte
		size int
	}
	var dependents []dependent
	rows, err := a.db.Query(ctx, `SELECT id, size FROM blobs WHERE base_id = ?`, r.blob)
	if err != nil {
		return 0, err
	}
	for rows.Next() {
		var d dependent
		if err := rows.Scan(&d.id, &d.size); err != nil {
			return 0, errors.Join(err, rows.Close())
		}
		dependents = append(dependents, d)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return 0, err
	}
	for i := range dependents {
		text, err := a.content(ctx, dependents[i].id, false)
		if err != nil {
			return 0, err
		}
		alone, err := a.alone(ctx, Capture{Text: string(text), Dialect: r.Dialect})
		if err != nil {
			return 0, err
		}
		dependents[i].data = alone.data
	}
	err = a.db.Write(ctx, func(tx *store.Tx) error {
		var others int
		if err := tx.QueryRow(`SELECT count(*) FROM revisions WHERE blob_id = ? AND NOT (configuration_id = ? AND number = ?)`, r.blob, r.configuration, r.Number).Scan(&others); err != nil {
			return err
		}
		// The note may have come since.
		res, err := tx.Exec(`UPDATE revisions SET blob_id = NULL, hash = ? WHERE configuration_id = ? AND number = ? AND blob_id = ?
			AND NOT EXISTS (SELECT 1 FROM notes n WHERE n.configuration_id = revisions.configuration_id AND n.number = revisions.number)
			AND NOT EXISTS (SELECT 1 FROM baselines y WHERE y.configuration_id = revisions.configuration_id AND y.number = revisions.number)
			AND number <> (SELECT newest FROM configurations c WHERE c.id = revisions.configuration_id)`, r.Hash[:], r.configuration, r.Number, r.blob)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 || others > 0 {
			return err
		}
		for _, d := range dependents {
			if len(d.data) > chunkSize {
				return nil // rare and large: its base stays, without a revision of its own
			}
		}
		for _, d := range dependents {
			if _, err := tx.Exec(`UPDATE blobs SET base_id = NULL, place = 0, data = ? WHERE id = ?`, d.data, d.id); err != nil {
				return err
			}
			if _, err := tx.Exec(`DELETE FROM blob_chunks WHERE blob_id = ?`, d.id); err != nil {
				return err
			}
		}
		if err := tx.QueryRow(`SELECT length(coalesce(data, x'')) + coalesce((SELECT sum(length(data)) FROM blob_chunks WHERE blob_id = blobs.id), 0) FROM blobs WHERE id = ?`, r.blob).Scan(&freed); err != nil {
			return err
		}
		if _, err := tx.Exec(`DELETE FROM blob_chunks WHERE blob_id = ?`, r.blob); err != nil {
			return err
		}
		_, err = tx.Exec(`DELETE FROM blobs WHERE id = ?`, r.blob)
		return err
	})
	a.kept.forget(r.blob)
	return freed, err
}
