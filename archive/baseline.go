package archive

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"vergekeep/store"
)

// Blessing says that somebody has blessed a revision as known good.
type Blessing struct {
	Revision Revision
	Remark   string
	Account  string
	At       time.Time
}

// Bless makes a revision the baseline of its configuration.
func (a *Archive) Bless(tx *store.Tx, r Revision, remark, account string, at time.Time) error {
	return a.bless(tx, r, r.Number, remark, account, at)
}

// Unbless takes the baseline of a revision's configuration away.
func (a *Archive) Unbless(tx *store.Tx, r Revision, remark, account string, at time.Time) error {
	return a.bless(tx, r, 0, remark, account, at)
}

func (a *Archive) bless(tx *store.Tx, r Revision, number int, remark, account string, at time.Time) error {
	var kept bool
	if err := tx.QueryRow(`SELECT blob_id IS NOT NULL FROM revisions WHERE configuration_id = ? AND number = ?`, r.configuration, r.Number).Scan(&kept); err != nil {
		return err
	}
	if !kept && number > 0 {
		return fmt.Errorf("%w: @%d was thinned out and can be no baseline", ErrThinned, r.Number)
	}
	_, err := tx.Exec(`INSERT INTO baselines (configuration_id, number, remark, account, at) VALUES (?, ?, ?, ?, ?)`, r.configuration, number, remark, account, store.Stamp(at))
	return err
}

const inForce = `JOIN (SELECT configuration_id AS of, max(id) AS last FROM baselines GROUP BY configuration_id) x ON x.of = c.id
	JOIN baselines y ON y.id = x.last AND y.number = r.number `

// Baseline is the revision of a configuration that is blessed; its error is
// [ErrNone] where none is.
func (a *Archive) Baseline(ctx context.Context, k Key) (Revision, error) {
	r, err := scan(a.db.QueryRow(ctx, `SELECT `+columns+from+inForce+`WHERE c.device_id = ? AND c.datastore = ? AND c.part = ?`, k.Device, k.Datastore, k.Part))
	if errors.Is(err, sql.ErrNoRows) {
		return r, fmt.Errorf("%w: it has no baseline; 'vergekeep baseline set' blesses a revision", ErrNone)
	}
	return r, err
}

// Baselines are all that are in force.
func (a *Archive) Baselines(ctx context.Context) ([]Blessing, error) {
	rows, err := a.db.Query(ctx, `SELECT `+columns+`, y.remark, y.account, y.at`+from+inForce+`ORDER BY c.device_id, c.datastore, c.part`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Blessing
	for rows.Next() {
		var b Blessing
		var at int64
		if b.Revision, err = scanMore(rows, &b.Remark, &b.Account, &at); err != nil {
			return nil, err
		}
		b.At = store.Time(at)
		list = append(list, b)
	}
	return list, rows.Err()
}

// blessed is the revisions that are a baseline or ever were one.
func (a *Archive) blessed(ctx context.Context) (map[[2]int64]bool, error) {
	rows, err := a.db.Query(ctx, `SELECT DISTINCT configuration_id, number FROM baselines`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	all := map[[2]int64]bool{}
	for rows.Next() {
		var k [2]int64
		if err := rows.Scan(&k[0], &k[1]); err != nil {
			return nil, err
		}
		all[k] = true
	}
	return all, rows.Err()
}
