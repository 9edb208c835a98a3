// Package shelf is an archive that tests of services put texts into.
package shelf

import (
	"context"
	"errors"
	"log/slog"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/archive"
	"vergekeep/core/dialect"
	"vergekeep/core/diff"
	"vergekeep/service/events"
	"vergekeep/service/fleet"
	"vergekeep/service/rounds"
	"vergekeep/service/vault"
	"vergekeep/store"
)

// Shelf is an archive with everything around it. Its clock stands still unless
// Put or Forward moves it.
type Shelf struct {
	DB      *store.DB
	Archive *archive.Archive
	Fleet   *fleet.Fleet
	Rounds  *rounds.Service
	Vault   *vault.Vault
	Set     dialect.Set

	clock sync.Mutex // what a test puts, services read beside it
	at    time.Time
}

// Monday is when a new shelf's clock stands.
var Monday = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

// New makes a shelf that is closed at the end of the test.
func New(t testing.TB) *Shelf {
	t.Helper()
	dir := t.TempDir()
	db, err := store.Open(context.Background(), filepath.Join(dir, "keep.db"))
	require.NoError(t, err)
	s := &Shelf{DB: db, at: Monday}
	s.Set, err = dialect.Load()
	require.NoError(t, err)
	s.Archive, err = archive.New(db)
	require.NoError(t, err)
	s.Fleet = fleet.New(db, s.Set, s.Now)
	v, err := vault.Open(context.Background(), db, vault.Key{File: filepath.Join(dir, "key")})
	require.NoError(t, err)
	s.Vault = v
	s.Rounds = rounds.New(rounds.Config{DB: db, Archive: s.Archive, Fleet: s.Fleet, Vault: v, Dialects: s.Set, Bus: &events.Bus{}, Log: slog.New(slog.DiscardHandler), Now: s.Now})
	t.Cleanup(func() {
		s.Rounds.Close()
		assert.NoError(t, db.Close())
	})
	return s
}

// Now is what the clock says.
func (s *Shelf) Now() time.Time {
	s.clock.Lock()
	defer s.clock.Unlock()
	return s.at
}

// Forward moves the clock, and says what it says then.
func (s *Shelf) Forward(by time.Duration) time.Time {
	s.clock.Lock()
	defer s.clock.Unlock()
	s.at = s.at.Add(by)
	return s.at
}

// Put archives a text of a device as its newest revision, an hour after the one
// that was put before.
func (s *Shelf) Put(t testing.TB, name, platform, text string) archive.Revision {
	t.Helper()
	ctx := context.Background()
	d, err := s.Fleet.Get(ctx, name)
	if err != nil {
		d, err = s.Fleet.Add(ctx, fleet.Device{Name: name, Platform: platform, Addresses: []string{"192.0.2.1"}}, "test")
		require.NoError(t, err)
	}
	now := s.Forward(time.Hour)
	dl := s.Set[platform]
	view := dl.View(text)
	key := archive.Key{Device: d.ID, Datastore: "running"}
	var before *archive.Revision
	latest, err := s.Archive.Latest(ctx, key)
	switch {
	case err == nil:
		before = &latest
	case !errors.Is(err, archive.ErrNone):
		require.NoError(t, err)
	}
	p, err := s.Archive.Prepare(ctx, archive.Capture{Key: key, Before: before, Text: text, Form: view.ComparisonForm(), Dialect: platform + " " + dl.Version, Origin: archive.Captured, At: now, Arrived: now,
		Compare: func(before string) (diff.Stats, bool) { return view.Compare(dl.View(before)) }})
	require.NoError(t, err)
	var r archive.Revision
	require.NoError(t, s.DB.Write(ctx, func(tx *store.Tx) (err error) {
		r, _, err = s.Archive.Record(tx, p)
		return err
	}))
	s.Archive.Touched(d.ID)
	return r
}
