package store

import (
	"errors"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func insert(tx *Tx, name string) error {
	_, err := tx.Exec(`INSERT INTO accounts (name, password_hash, rights, created_at) VALUES (?, '', '', 0)`, name)
	return err
}

func names(t *testing.T, db *DB) int {
	var n int
	require.NoError(t, db.QueryRow(t.Context(), `SELECT count(*) FROM accounts`).Scan(&n))
	return n
}

func TestAFailedWriteUndoesOnlyItself(t *testing.T) {
	db, err := Open(t.Context(), filepath.Join(t.TempDir(), "keep.db"))
	require.NoError(t, err)
	defer db.Close()
	broken := errors.New("broken")
	var wg sync.WaitGroup
	for i := range 100 {
		wg.Go(func() {
			err := db.Write(t.Context(), func(tx *Tx) error {
				if err := insert(tx, string(rune('a'+i%26))+string(rune('a'+i/26))); err != nil {
					return err
				}
				switch i % 10 {
				case 3:
					return broken
				case 7:
					panic("badly")
				}
				return nil
			})
			switch i % 10 {
			case 3:
				assert.ErrorIs(t, err, broken)
			case 7:
				assert.ErrorContains(t, err, "badly")
			default:
				assert.NoError(t, err)
			}
		})
	}
	wg.Wait()
	assert.Equal(t, 80, names(t, db))
}

func TestWhatWasReportedIsThereAfterReopening(t *testing.T) {
	path := filepath.Join(t.TempDir(), "keep.db")
	db, err := Open(t.Context(), path)
	require.NoError(t, err)
	require.NoError(t, db.Write(t.Context(), func(tx *Tx) error { return insert(tx, "noc") }))
	err = db.Write(t.Context(), func(tx *Tx) error { return insert(tx, "NOC") })
	assert.True(t, IsDuplicate(err), "%v", err)
	require.NoError(t, db.Close())
	assert.ErrorIs(t, db.Write(t.Context(), func(*Tx) error { return nil }), ErrClosed)
	db, err = Open(t.Context(), path)
	require.NoError(t, err)
	defer db.Close()
	assert.Equal(t, 1, names(t, db))
}

func TestADatabaseOfANewerVersionIsRefused(t *testing.T) {
	path := filepath.Join(t.TempDir(), "keep.db")
	db, err := Open(t.Context(), path)
	require.NoError(t, err)
	require.NoError(t, db.Write(t.Context(), func(tx *Tx) error {
		_, err := tx.Exec(`INSERT INTO goose_db_version (version_id, is_applied) VALUES (999, 1)`)
		return err
	}))
	require.NoError(t, db.Close())
	_, err = Open(t.Context(), path)
	require.ErrorIs(t, err, ErrNewer)
	assert.ErrorContains(t, err, "999")
}

func TestTheJournalIsAppendOnly(t *testing.T) {
	db, err := Open(t.Context(), filepath.Join(t.TempDir(), "keep.db"))
	require.NoError(t, err)
	defer db.Close()
	exec := func(q string) error {
		return db.Write(t.Context(), func(tx *Tx) error { _, err := tx.Exec(q); return err })
	}
	require.NoError(t, exec(`INSERT INTO journal (at, account, action, object, detail, chain) VALUES (1, 'a', 'b', 'c', 'd', x'00')`))
	assert.ErrorContains(t, exec(`UPDATE journal SET account = 'x'`), "append-only")
	assert.ErrorContains(t, exec(`DELETE FROM journal`), "append-only")
}
