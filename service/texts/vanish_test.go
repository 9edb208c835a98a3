package texts_test

import (
	"fmt"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/archive"
	"vergekeep/service/fleet"
	"vergekeep/service/keeping"
	"vergekeep/service/notes"
	"vergekeep/service/shelf"
	"vergekeep/service/texts"
)

func ticking(drift, lan int, secret string) string {
	return fmt.Sprintf("configuration of ng-acc-1, changed by noc\nname ng-acc-1\nraise secret %s\ntime\n  drift %d\n  server 192.0.2.1\nlan %d\nend of configuration\n", secret, drift, lan)
}

func TestWhatIsSetAsideIsNoChange(t *testing.T) {
	s := shelf.New(t)
	tx := texts.New(s.Archive, s.Fleet, s.Rounds, s.Set, notes.New(s.DB, s.Archive, s.Now), s.Now)
	for i, lan := range []int{1, 1, 2, 2, 3} {
		s.Put(t, "ng-acc-1", "tidegate", ticking(i, lan, "a"))
	}
	s.Put(t, "ng-acc-1", "tidegate", ticking(4, 3, "b"))
	s.Put(t, "hh-core-1", "tidegate", ticking(1, 1, "a"))
	s.Put(t, "hh-core-1", "tidegate", ticking(2, 1, "a"))
	try := func(v fleet.Volatile, since time.Time) []string {
		t.Helper()
		list, looked, err := tx.Vanish(t.Context(), v, since)
		require.NoError(t, err)
		names := []string{fmt.Sprint(looked)}
		for _, x := range list {
			names = append(names, fmt.Sprintf("%s@%d", x.Device.Name, x.Revision.Number))
		}
		return names
	}
	ever := shelf.Monday.Add(-time.Hour)
	assert.Equal(t, []string{"6", "hh-core-1@2", "ng-acc-1@4", "ng-acc-1@2"}, try(fleet.Volatile{Pattern: "time > drift *"}, ever))
	assert.Equal(t, []string{"5", "ng-acc-1@4", "ng-acc-1@2"}, try(fleet.Volatile{Pattern: "time > drift *", Platform: "tidegate", Selector: "name=ng-*"}, ever))
	assert.Equal(t, []string{"0"}, try(fleet.Volatile{Pattern: "time > drift *", Platform: "capstan"}, ever))
	assert.Equal(t, []string{"4", "hh-core-1@2", "ng-acc-1@4"}, try(fleet.Volatile{Pattern: "time > **"}, shelf.Monday.Add(3*time.Hour+time.Minute)))
	assert.Equal(t, []string{"6"}, try(fleet.Volatile{Pattern: "... > nothing"}, ever))
	assert.Equal(t, []string{"6"}, try(fleet.Volatile{Pattern: "raise secret **"}, ever), "a changed secret is a change")
	assert.Equal(t, []string{"6"}, try(fleet.Volatile{Pattern: "raise secret b"}, ever))
	assert.Equal(t, []string{"6", "hh-core-1@2", "ng-acc-1@5", "ng-acc-1@4", "ng-acc-1@3", "ng-acc-1@2"}, try(fleet.Volatile{Pattern: "... > **"}, ever), "everything but the secret")
	_, _, err := tx.Vanish(t.Context(), fleet.Volatile{Pattern: "time > "}, ever)
	require.Error(t, err)
	_, _, err = tx.Vanish(t.Context(), fleet.Volatile{Pattern: "x"}, s.Now().Add(time.Hour))
	require.ErrorIs(t, err, texts.ErrTime)

	// Set, it is no change any more; what was archived before with it does not count
	// as one either. Taken away, it is one again, but nothing that was is a change.
	k := keeping.New(s.DB, s.Archive, s.Fleet, slog.New(slog.DiscardHandler), s.Now)
	take := func(drift int) (keeping.Fate, archive.Revision) {
		t.Helper()
		now := s.Forward(time.Hour)
		fate, r, err := k.Take(t.Context(), keeping.Old{Device: "ng-acc-1", At: now, Text: ticking(drift, 3, "b")}, "lead")
		require.NoError(t, err)
		return fate, r
	}
	require.NoError(t, s.Fleet.SetVolatile(t.Context(), fleet.Volatile{Name: "clock", Pattern: "time > drift *", Selector: "name=ng-*", Account: "lead"}))
	fate, r := take(50)
	assert.Equal(t, keeping.Same, fate)
	assert.Equal(t, 6, r.Number)
	c, err := tx.Compare(t.Context(), texts.Request{Left: texts.Source{Ref: "ng-acc-1@1"}, Right: texts.Source{Ref: "ng-acc-1@2"}}, texts.Caller{Location: time.UTC})
	require.NoError(t, err)
	assert.Zero(t, c.Result.Stats.Total())
	require.NoError(t, s.Fleet.DeleteVolatile(t.Context(), "CLOCK", "lead"))
	require.ErrorIs(t, s.Fleet.DeleteVolatile(t.Context(), "clock", "lead"), fleet.ErrNone)
	fate, _ = take(4)
	assert.Equal(t, keeping.Same, fate, "nothing differs from the one before")
	fate, _ = take(51)
	assert.Equal(t, keeping.Added, fate)
	for _, v := range []fleet.Volatile{{Name: "", Pattern: "x"}, {Name: "x", Pattern: "x > "}, {Name: "x", Pattern: "x", Platform: "tidegat"}, {Name: "x", Pattern: "x", Selector: "nam=x"}, {Name: "x", Pattern: "x", Selector: "search=a"}} {
		require.Error(t, s.Fleet.SetVolatile(t.Context(), v), "%+v", v)
	}
}
