package archive

import (
	"time"

	"vergekeep/store"
)

// SetNote writes what is said of a revision; a note that says nothing goes.
func (a *Archive) SetNote(tx *store.Tx, r Revision, n Note, at time.Time) error {
	if !n.Pinned && n.Name == "" && n.Remark == "" {
		_, err := tx.Exec(`DELETE FROM notes WHERE configuration_id = ? AND number = ?`, r.configuration, r.Number)
		return err
	}
	_, err := tx.Exec(`INSERT INTO notes (configuration_id, number, pinned, name, remark, account, at) VALUES (?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT (configuration_id, number) DO UPDATE SET pinned = excluded.pinned, name = excluded.name, remark = excluded.remark, account = excluded.account, at = excluded.at`,
		r.configuration, r.Number, n.Pinned, n.Name, n.Remark, n.Account, store.Stamp(at))
	return err
}
