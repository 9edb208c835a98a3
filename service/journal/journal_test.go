package journal

import (
	"errors"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/store"
)

func testDB(t *testing.T) *store.DB {
	t.Helper()
	db, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "keep.db"))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, db.Close()) })
	return db
}

var monday = time.Date(2026, 11, 23, 2, 0, 0, 0, time.UTC)

func note(t *testing.T, db *store.DB, n int) {
	t.Helper()
	for i := range n {
		require.NoError(t, db.Write(t.Context(), func(tx *store.Tx) error {
			return Append(tx, Entry{At: monday.Add(time.Duration(i) * time.Minute), Account: "noc", Action: "round start", Object: fmt.Sprint("round ", i), Detail: "all"})
		}))
	}
}

func TestEntriesComeBackNewestFirstAndPageByPage(t *testing.T) {
	db := testDB(t)
	list, err := List(t.Context(), db, 0, 10)
	require.NoError(t, err)
	assert.Empty(t, list)
	note(t, db, 25)
	var seen []string
	before := int64(0)
	for {
		page, err := List(t.Context(), db, before, 10)
		require.NoError(t, err)
		if len(page) == 0 {
			break
		}
		for _, e := range page {
			seen = append(seen, e.Object)
		}
		before = page[len(page)-1].ID
	}
	require.Len(t, seen, 25)
	assert.Equal(t, "round 24", seen[0])
	assert.Equal(t, "round 0", seen[24])
}

func TestAnEntryGoesWithWhatItTellsOf(t *testing.T) {
	db := testDB(t)
	failure := errors.New("it did not happen")
	err := db.Write(t.Context(), func(tx *store.Tx) error {
		if err := Append(tx, Entry{At: monday, Account: "noc", Action: "device add", Object: "x"}); err != nil {
			return err
		}
		return failure
	})
	require.ErrorIs(t, err, failure)
	list, err := List(t.Context(), db, 0, 10)
	require.NoError(t, err)
	assert.Empty(t, list)
}

func TestTheChainTellsWhatWasAltered(t *testing.T) {
	for name, c := range map[string]struct {
		alter string
		want  int64
	}{
		"nothing":            {"", 0},
		"a word":             {"UPDATE journal SET detail = 'nothing' WHERE id = 3", 3},
		"who":                {"UPDATE journal SET account = 'lead' WHERE id = 5", 5},
		"when":               {"UPDATE journal SET at = at + 1 WHERE id = 1", 1},
		"one taken away":     {"DELETE FROM journal WHERE id = 4", 5},
		"moved words":        {"UPDATE journal SET object = object || 'all', detail = '' WHERE id = 2", 2},
		"the first of all":   {"DELETE FROM journal WHERE id = 1", 2},
		"two changed places": {"UPDATE journal SET object = CASE id WHEN 3 THEN 'round 3' ELSE 'round 2' END WHERE id IN (3, 4)", 3},
	} {
		t.Run(name, func(t *testing.T) {
			db := testDB(t)
			note(t, db, 6)
			if c.alter != "" {
				// Even the database refuses that; whoever alters it takes that away first.
				require.NoError(t, db.Write(t.Context(), func(tx *store.Tx) error {
					rows, err := tx.Query(`SELECT name FROM sqlite_master WHERE type = 'trigger' AND tbl_name = 'journal'`)
					if err != nil {
						return err
					}
					var names []string
					for rows.Next() {
						var n string
						if err := rows.Scan(&n); err != nil {
							return err
						}
						names = append(names, n)
					}
					if err := errors.Join(rows.Err(), rows.Close()); err != nil {
						return err
					}
					for _, n := range names {
						if _, err := tx.Exec(`DROP TRIGGER ` + n); err != nil {
							return err
						}
					}
					_, err = tx.Exec(c.alter)
					return err
				}))
			}
			got, err := Check(t.Context(), db)
			require.NoError(t, err)
			assert.Equal(t, c.want, got)
		})
	}
}
