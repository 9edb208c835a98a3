package archive_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/archive"
	"vergekeep/core/diff"
	"vergekeep/core/ref"
	"vergekeep/store"
)

var start = time.Date(2026, 11, 1, 2, 0, 0, 0, time.UTC)

func open(t *testing.T) (*store.DB, *archive.Archive, archive.Key) {
	t.Helper()
	db, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "keep.db"))
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	a, err := archive.New(db)
	require.NoError(t, err)
	require.NoError(t, db.Write(t.Context(), func(tx *store.Tx) error {
		_, err := tx.Exec(`INSERT INTO devices (id, name, platform, address, created_at) VALUES (1, 'ng-acc-1', 'tidegate', '127.0.0.1:1', 0)`)
		return err
	}))
	return db, a, archive.Key{Device: 1, Datastore: "running"}
}

func put(t testing.TB, db *store.DB, a *archive.Archive, k archive.Key, text, form string, at time.Time) (archive.Revision, bool) {
	t.Helper()
	ctx := context.Background()
	var before *archive.Revision
	if latest, err := a.Latest(ctx, k); err == nil {
		before = &latest
	}
	p, err := a.Prepare(ctx, archive.Capture{Key: k, Before: before, Text: text, Form: form, Dialect: "tidegate x", Origin: archive.Captured, At: at, Arrived: at,
		Compare: func(before string) (diff.Stats, bool) {
			return diff.Compare(diff.Side{Text: before}, diff.Side{Text: text}).Stats, false
		}})
	require.NoError(t, err)
	var r archive.Revision
	var isNew bool
	require.NoError(t, db.Write(ctx, func(tx *store.Tx) (err error) {
		r, isNew, err = a.Record(tx, p)
		return err
	}))
	return r, isNew
}

func TestBackToEarlierContentIsANewRevision(t *testing.T) {
	db, a, k := open(t)
	day := 24 * time.Hour
	r1, _ := put(t, db, a, k, "name a\n", "name a\n", start)
	_, isNew := put(t, db, a, k, "name a\n", "name a\n", start.Add(day))
	assert.False(t, isNew)
	r2, _ := put(t, db, a, k, "name b\n", "name b\n", start.Add(2*day))
	r3, isNew := put(t, db, a, k, "name a\n", "name a\n", start.Add(3*day))
	assert.True(t, isNew)
	assert.Equal(t, []int{1, 2, 3}, []int{r1.Number, r2.Number, r3.Number})
	assert.Equal(t, []int{0, 0, 1}, []int{r1.SameAs, r2.SameAs, r3.SameAs})
	assert.Equal(t, 1, r2.Stats.Changed)

	list, err := a.List(t.Context(), k)
	require.NoError(t, err)
	require.Len(t, list, 3)
	assert.Equal(t, start.Add(day), list[2].LastSeen, "seen unchanged")
	_, contents, _, err := a.Size(t.Context())
	require.NoError(t, err)
	assert.Equal(t, int64(14), contents, "the bytes are stored once")
}

func TestVolatileLinesMakeNoRevision(t *testing.T) {
	db, a, k := open(t)
	put(t, db, a, k, "changed 02:00\nname a\n", "name a\n", start)
	_, isNew := put(t, db, a, k, "changed 03:00\nname a\n", "name a\n", start.Add(time.Hour))
	assert.False(t, isNew)
}

func TestAClockThatWasSetBackMakesNoCaptureOlder(t *testing.T) {
	db, a, k := open(t)
	put(t, db, a, k, "name a\n", "name a\n", start)
	put(t, db, a, k, "name b\n", "name b\n", start.Add(-time.Hour))
	latest, err := a.Latest(t.Context(), k)
	require.NoError(t, err)
	assert.Equal(t, 2, latest.Number, "the next visit compares with what was captured last")
	assert.Equal(t, start, latest.FirstSeen)
	assert.Equal(t, start.Add(-time.Hour), latest.Arrived)
	list, err := a.List(t.Context(), k)
	require.NoError(t, err)
	assert.Equal(t, 2, list[0].Number)
	_, isNew := put(t, db, a, k, "name b\n", "name b\n", start.Add(time.Minute))
	assert.False(t, isNew)
	report, err := a.Check(t.Context())
	require.NoError(t, err)
	assert.Empty(t, report.Faults)
}

func TestResolve(t *testing.T) {
	db, a, k := open(t)
	for i := range 3 {
		text := fmt.Sprintf("name %d\n", i)
		put(t, db, a, k, text, text, start.AddDate(0, 0, i))
	}
	now := start.AddDate(0, 0, 10)
	for point, want := range map[string]int{"@1": 1, "@-1": 2, "": 3, "@2026-11-02T02:00Z": 2, "@2026-11-02T01:59Z": 1, "@9d": 2} {
		r, err := ref.Parse("ng-acc-1"+strings.ReplaceAll(point, "Z", ":00Z"), time.UTC)
		require.NoError(t, err)
		got, err := a.Resolve(t.Context(), k, r.Point, now)
		require.NoError(t, err, point)
		assert.Equal(t, want, got.Number, point)
	}
	for point, says := range map[string]string{"@9": "the revisions are @1 to @3", "@-3": "there are 3 revisions", "@2026-10-01": "nothing was captured yet at 2026-10-01 00:00; the first is @1", "@baseline": "no baseline"} {
		r, err := ref.Parse("ng-acc-1"+point, time.UTC)
		require.NoError(t, err)
		_, err = a.Resolve(t.Context(), k, r.Point, now)
		require.ErrorIs(t, err, archive.ErrNone)
		assert.ErrorContains(t, err, says)
	}
}

func TestLongHistoriesAndLargeContentsComeBackWhole(t *testing.T) {
	db, a, k := open(t)
	random := rand.New(rand.NewPCG(1, 2))
	var large strings.Builder
	for large.Len() < 5<<20 {
		fmt.Fprintf(&large, "line %x\n", random.Uint64())
	}
	texts := []string{large.String()}
	lines := strings.SplitAfter(strings.Repeat("interface x\n  mtu 1500\n", 200), "\n")
	for i := range 70 {
		lines[i*3] = fmt.Sprintf("changed %d\n", i)
		texts = append(texts, strings.Join(lines, ""))
	}
	for i, text := range texts {
		put(t, db, a, k, text, text, start.Add(time.Duration(i)*time.Hour))
	}
	list, err := a.List(t.Context(), k)
	require.NoError(t, err)
	require.Len(t, list, len(texts))
	for _, r := range list {
		got, err := a.Text(t.Context(), r)
		require.NoError(t, err)
		require.True(t, got == texts[r.Number-1], "revision %d", r.Number)
	}
	var most int
	require.NoError(t, db.QueryRow(t.Context(), `WITH RECURSIVE line(root, id) AS (SELECT id, id FROM blobs WHERE base_id IS NULL
		UNION ALL SELECT root, b.id FROM line JOIN blobs b ON b.base_id = line.id) SELECT max(n) FROM (SELECT count(*) n FROM line GROUP BY root)`).Scan(&most))
	assert.LessOrEqual(t, most, 32, "no more depend on one")
	report, err := a.Check(t.Context())
	require.NoError(t, err)
	assert.Empty(t, report.Faults)
}

func TestCheckFindsEveryKindOfDamage(t *testing.T) {
	for name, damage := range map[string]string{
		"a row was altered":      `UPDATE revisions SET arrived_at = arrived_at + 1 WHERE number = 2`,
		"a revision was removed": `DELETE FROM revisions WHERE number = 2`,
		"a content was altered":  `UPDATE blobs SET data = (SELECT data FROM blobs WHERE id = 1) WHERE id = 3`,
		"a content was broken":   `UPDATE blobs SET data = x'00' WHERE id = 1`,
		"the newest was removed": `DELETE FROM revisions WHERE number = 3`,
		"the chain was cut off":  `DELETE FROM revisions WHERE number = 3; UPDATE configurations SET last = 2`,
		"an author was written":  `UPDATE revisions SET author = 'lead' WHERE number = 2`,
	} {
		t.Run(name, func(t *testing.T) {
			db, a, k := open(t)
			for i := range 3 {
				text := fmt.Sprintf("name %d\n", i)
				put(t, db, a, k, text, text, start.AddDate(0, 0, i))
			}
			require.NoError(t, db.Write(t.Context(), func(tx *store.Tx) error {
				_, err := tx.Exec(damage)
				return err
			}))
			report, err := a.Check(t.Context())
			require.NoError(t, err)
			assert.NotEmpty(t, report.Faults)
		})
	}
}

func TestFullDiskLeavesTheArchiveWhole(t *testing.T) {
	db, a, k := open(t)
	put(t, db, a, k, "name a\n", "name a\n", start)
	var pages int
	require.NoError(t, db.QueryRow(t.Context(), `PRAGMA page_count`).Scan(&pages))
	require.NoError(t, db.LimitPages(t.Context(), pages+5))
	random := rand.New(rand.NewPCG(3, 4))
	var big strings.Builder
	for range 20_000 {
		fmt.Fprintf(&big, "%x\n", random.Uint64())
	}
	latest, err := a.Latest(t.Context(), k)
	require.NoError(t, err)
	p, err := a.Prepare(t.Context(), archive.Capture{Key: k, Before: &latest, Text: big.String(), Form: big.String(), Origin: archive.Captured, At: start.Add(time.Hour), Arrived: start})
	require.NoError(t, err)
	err = db.Write(t.Context(), func(tx *store.Tx) error {
		_, _, err := a.Record(tx, p)
		return err
	})
	require.True(t, errors.Is(err, store.ErrFull), "%v", err)
	require.NoError(t, db.LimitPages(t.Context(), 0))
	report, err := a.Check(t.Context())
	require.NoError(t, err)
	assert.Equal(t, archive.Report{Revisions: 1, Contents: 1}, report)
	_, isNew := put(t, db, a, k, "name b\n", "name b\n", start.Add(2*time.Hour))
	assert.True(t, isNew, "it goes on where there is room again")
}

// TestAFlippedByteIsFoundAndNamed flips one byte anywhere in what is kept: the
// check names a revision that is concerned, and all others stay readable.
func TestAFlippedByteIsFoundAndNamed(t *testing.T) {
	db, a, k := open(t)
	random := rand.New(rand.NewPCG(9, 4))
	lines := strings.SplitAfter(strings.Repeat("interface x\n  mtu 1500\n", 300), "\n")
	for i := range lines {
		lines[i] = strings.Replace(lines[i], "x", fmt.Sprintf("port%d-%x", i, random.Uint64()), 1)
	}
	texts := map[int]string{}
	for i := range 40 {
		lines[random.IntN(len(lines)-1)] = fmt.Sprintf("changed %d\n", i)
		text := strings.Join(lines, "")
		r, _ := put(t, db, a, k, text, "form of "+text, start.Add(time.Duration(i)*time.Hour))
		texts[r.Number] = text
	}
	whole, err := a.Check(t.Context())
	require.NoError(t, err)
	require.Empty(t, whole.Faults)
	places := []struct{ table, column, key string }{
		{"blobs", "data", "id"}, {"blobs", "hash", "id"}, {"revisions", "chain", "number"}, {"revisions", "form", "number"}, {"primers", "data", "copy"}, {"primers", "hash", "copy"}, {"configurations", "head", "id"},
	}
	for n := range 140 {
		p := places[n%len(places)]
		var row int64
		var was []byte
		var rows int
		require.NoError(t, db.QueryRow(t.Context(), `SELECT count(*) FROM `+p.table).Scan(&rows))
		require.NoError(t, db.QueryRow(t.Context(), fmt.Sprintf(`SELECT %s, %s FROM %s ORDER BY 1 LIMIT 1 OFFSET %d`, p.key, p.column, p.table, random.IntN(rows))).Scan(&row, &was))
		broken := append([]byte(nil), was...)
		broken[random.IntN(len(broken))] ^= 1 << random.IntN(8)
		set := func(value []byte) {
			require.NoError(t, db.Write(t.Context(), func(tx *store.Tx) error {
				_, err := tx.Exec(fmt.Sprintf(`UPDATE %s SET %s = ? WHERE %s = ?`, p.table, p.column, p.key), value, row)
				return err
			}))
		}
		set(broken)
		fresh, err := archive.New(db) // it remembers nothing
		require.NoError(t, err)
		report, err := fresh.Check(t.Context())
		require.NoError(t, err)
		require.NotEmpty(t, report.Faults, "%s.%s of %d", p.table, p.column, row)
		named := map[int]bool{}
		for _, f := range report.Faults {
			named[f.Number] = true
		}
		list, err := fresh.List(t.Context(), k)
		require.NoError(t, err)
		for _, r := range list {
			text, err := fresh.Text(t.Context(), r)
			if err != nil {
				require.True(t, named[r.Number], "@%d cannot be read and was not named: %v", r.Number, err)
				continue
			}
			require.True(t, texts[r.Number] == text, "@%d came back otherwise", r.Number)
		}
		set(was)
	}

	// A sum that was damaged makes nothing unreadable.
	require.NoError(t, db.Write(t.Context(), func(tx *store.Tx) error {
		_, err := tx.Exec(`UPDATE blobs SET sum = sum + 1 WHERE id IN (1, 7)`)
		return err
	}))
	fresh, err := archive.New(db)
	require.NoError(t, err)
	report, err := fresh.Check(t.Context())
	require.NoError(t, err)
	require.Len(t, report.Faults, 2)
	assert.Contains(t, report.Faults[0].What, "the content has its hash")
	list, err := fresh.List(t.Context(), k)
	require.NoError(t, err)
	for _, r := range list {
		text, err := fresh.Text(t.Context(), r)
		require.NoError(t, err)
		require.Equal(t, texts[r.Number], text)
	}
}
