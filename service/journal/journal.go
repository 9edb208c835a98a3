// Package journal keeps who did what in the service itself: append-only, each
// entry chained to the one before by a hash.
package journal

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/binary"
	"errors"
	"time"

	"vergekeep/store"
)

// Entry is one thing that was done.
type Entry struct {
	ID      int64
	At      time.Time
	Account string // "system" for what the service does by itself
	Action  string // noun and verb: "round start"
	Object  string // what it was done to
	Detail  string
}

// System is the account of what the service does by itself.
const System = "system"

// Append adds an entry in the transaction of what it tells about. Secrets do
// not belong in it.
func Append(tx *store.Tx, e Entry) error {
	var before []byte
	err := tx.QueryRow(`SELECT chain FROM journal ORDER BY id DESC LIMIT 1`).Scan(&before)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	_, err = tx.Exec(`INSERT INTO journal (at, account, action, object, detail, chain) VALUES (?, ?, ?, ?, ?, ?)`,
		store.Stamp(e.At), e.Account, e.Action, e.Object, e.Detail, link(before, e))
	return err
}

func link(before []byte, e Entry) []byte {
	h := sha256.New()
	h.Write(before)
	_ = binary.Write(h, binary.BigEndian, store.Stamp(e.At))
	for _, s := range []string{e.Account, e.Action, e.Object, e.Detail} {
		_ = binary.Write(h, binary.BigEndian, uint32(len(s)))
		h.Write([]byte(s))
	}
	return h.Sum(nil)
}

// List is entries older than the one with id before (0: the newest ones),
// newest first.
func List(ctx context.Context, db *store.DB, before int64, limit int) ([]Entry, error) {
	if before == 0 {
		before = 1 << 62
	}
	rows, err := db.Query(ctx, `SELECT id, at, account, action, object, detail FROM journal WHERE id < ? ORDER BY id DESC LIMIT ?`, before, limit)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Entry
	for rows.Next() {
		var e Entry
		var at int64
		if err := rows.Scan(&e.ID, &at, &e.Account, &e.Action, &e.Object, &e.Detail); err != nil {
			return nil, err
		}
		e.At = store.Time(at)
		list = append(list, e)
	}
	return list, rows.Err()
}

// Check follows the chain and returns the id of the first entry that was
// altered or whose predecessor is missing; 0 if there is none.
func Check(ctx context.Context, db *store.DB) (int64, error) {
	rows, err := db.Query(ctx, `SELECT id, at, account, action, object, detail, chain FROM journal ORDER BY id`)
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	var before []byte
	for rows.Next() {
		var e Entry
		var at int64
		var chain []byte
		if err := rows.Scan(&e.ID, &at, &e.Account, &e.Action, &e.Object, &e.Detail, &chain); err != nil {
			return 0, err
		}
		e.At = store.Time(at)
		if string(link(before, e)) != string(chain) {
			return e.ID, nil
		}
		before = chain
	}
	return 0, rows.Err()
}
