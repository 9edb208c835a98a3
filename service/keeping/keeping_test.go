package keeping_test

import (
	"fmt"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/archive"
	"vergekeep/service/keeping"
	"vergekeep/service/shelf"
	"vergekeep/store"
)

func TestWhatIsHeldStays(t *testing.T) {
	s := shelf.New(t)
	k := keeping.New(s.DB, s.Archive, s.Fleet, slog.New(slog.DiscardHandler), s.Now)
	for i := range 30 {
		for _, name := range []string{"ng-acc-1", "hh-core-1"} {
			s.Put(t, name, "tidegate", fmt.Sprintf("configuration of %s, changed by noc\nname %s\nlan %d\nend of configuration\n", name, name, i))
		}
	}
	s.Forward(40 * 24 * time.Hour)
	policy := archive.Policy{All: 30 * 24 * time.Hour}
	try, err := k.Surplus(t.Context(), &policy)
	require.NoError(t, err)
	require.NotEmpty(t, try)
	none, err := k.Surplus(t.Context(), nil)
	require.NoError(t, err)
	assert.Empty(t, none, "without a policy everything is kept")

	require.ErrorIs(t, k.SetHold(t.Context(), keeping.Hold{Name: "case 7", Selector: "role=core"}), keeping.ErrHold, "without a reason")
	require.Error(t, k.SetHold(t.Context(), keeping.Hold{Name: "case 7", Selector: "search=x", Reason: "r"}))
	require.NoError(t, k.SetHold(t.Context(), keeping.Hold{Name: "case 7", Selector: "name=hh-*", Reason: "the insurer asked", Account: "lead"}))
	require.NoError(t, k.SetPolicy(t.Context(), policy, "lead"))
	holds, err := k.Holds(t.Context())
	require.NoError(t, err)
	require.Len(t, holds, 1)
	assert.Equal(t, 1, holds[0].Devices)
	list, err := k.Surplus(t.Context(), nil)
	require.NoError(t, err)
	core, err := s.Fleet.Get(t.Context(), "hh-core-1")
	require.NoError(t, err)
	for _, r := range list {
		assert.NotEqual(t, core.ID, r.Device)
	}
	n, _, err := k.Thin(t.Context(), "lead")
	require.NoError(t, err)
	assert.Equal(t, len(list), n)
	report, err := s.Archive.Check(t.Context())
	require.NoError(t, err)
	assert.Empty(t, report.Faults)
	require.NoError(t, k.DeleteHold(t.Context(), "CASE 7", "lead"))
	require.ErrorIs(t, k.DeleteHold(t.Context(), "case 7", "lead"), keeping.ErrNone)

	backup := filepath.Join(t.TempDir(), "b.db")
	require.NoError(t, k.Backup(t.Context(), backup, "lead"))
	require.NoError(t, store.Examine(t.Context(), backup))
	heads, err := k.Heads(t.Context())
	require.NoError(t, err)
	assert.Len(t, heads.Heads, 2)
}

func TestOldTextsAreTakenInOnce(t *testing.T) {
	s := shelf.New(t)
	k := keeping.New(s.DB, s.Archive, s.Fleet, slog.New(slog.DiscardHandler), s.Now)
	text := func(lan int) string {
		return fmt.Sprintf("configuration of ng-acc-1, changed by noc\nname ng-acc-1\nlan %d\nend of configuration\n", lan)
	}
	s.Put(t, "ng-acc-1", "tidegate", text(1))
	s.Put(t, "ng-acc-1", "tidegate", text(2))
	old := func(days, lan int) keeping.Old {
		return keeping.Old{Device: "ng-acc-1", At: shelf.Monday.AddDate(0, 0, -days), Author: "neteng", Text: text(lan)}
	}
	for _, c := range []struct {
		old    keeping.Old
		want   keeping.Fate
		number int
	}{{old(30, 8), keeping.Added, 3}, {old(10, 9), keeping.Added, 4}, {old(30, 8), keeping.There, 3}, {old(20, 8), keeping.Same, 3}, {old(5, 8), keeping.Added, 5}} {
		dry := c.old
		dry.DryRun = true
		fate, _, err := k.Take(t.Context(), dry, "lead")
		require.NoError(t, err)
		assert.Equal(t, c.want, fate, "dry")
		fate, r, err := k.Take(t.Context(), c.old, "lead")
		require.NoError(t, err)
		assert.Equal(t, c.want, fate)
		assert.Equal(t, c.number, r.Number)
	}
	// What was in force follows the times, and the newest is what was captured last.
	d, err := s.Fleet.Get(t.Context(), "ng-acc-1")
	require.NoError(t, err)
	key := archive.Key{Device: d.ID, Datastore: "running"}
	list, err := s.Archive.List(t.Context(), key)
	require.NoError(t, err)
	var numbers []int
	for _, r := range list {
		numbers = append(numbers, r.Number)
	}
	assert.Equal(t, []int{2, 1, 5, 4, 3}, numbers)
	latest, err := s.Archive.Latest(t.Context(), key)
	require.NoError(t, err)
	assert.Equal(t, 2, latest.Number)
	s.Put(t, "ng-acc-1", "tidegate", text(2)) // unchanged: the next visit compares with it
	list, err = s.Archive.List(t.Context(), key)
	require.NoError(t, err)
	assert.Len(t, list, 5)
	at, err := s.Archive.AllAt(t.Context(), shelf.Monday.AddDate(0, 0, -7))
	require.NoError(t, err)
	require.Len(t, at, 1)
	assert.Equal(t, 4, at[0].Number)
	report, err := s.Archive.Check(t.Context())
	require.NoError(t, err)
	assert.Empty(t, report.Faults)

	for says, o := range map[string]keeping.Old{
		"no whole tidegate configuration": {Device: "ng-acc-1", At: shelf.Monday, Text: "\x7fELF nonsense"},
		"is in the future":                {Device: "ng-acc-1", At: shelf.Monday.AddDate(1, 0, 0), Text: text(1)},
		"has no time":                     {Device: "ng-acc-1", Text: text(1)},
		"no such device":                  {Device: "nobody", At: shelf.Monday, Text: text(1)},
	} {
		_, _, err := k.Take(t.Context(), o, "lead")
		require.ErrorContains(t, err, says)
	}
}
