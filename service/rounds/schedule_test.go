package rounds

import (
	"log/slog"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/archive"
	"vergekeep/core/dialect"
	"vergekeep/core/reason"
	"vergekeep/service/events"
	"vergekeep/service/fleet"
	"vergekeep/service/vault"
	"vergekeep/store"
)

// place is a service without devices that answer.
type place struct {
	*Service
	fleet *fleet.Fleet
	clock atomic.Int64
}

func newPlace(t *testing.T) *place {
	t.Helper()
	dir := t.TempDir()
	db, err := store.Open(t.Context(), filepath.Join(dir, "keep.db"))
	require.NoError(t, err)
	dialects, err := dialect.Load()
	require.NoError(t, err)
	p := &place{}
	p.at(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC))
	now := func() time.Time { return time.UnixMicro(p.clock.Load()).UTC() }
	p.fleet = fleet.New(db, dialects, now)
	v, err := vault.Open(t.Context(), db, vault.Key{File: filepath.Join(dir, "vault.key")})
	require.NoError(t, err)
	a, err := archive.New(db)
	require.NoError(t, err)
	p.Service = New(Config{DB: db, Archive: a, Fleet: p.fleet, Vault: v, Dialects: dialects, Bus: &events.Bus{}, Log: slog.New(slog.DiscardHandler), Now: now, Concurrency: 4,
		Pause: func(int) time.Duration { return 5 * time.Millisecond }})
	p.fleet.SetPromise(p.Promise)
	t.Cleanup(func() {
		p.Close()
		assert.NoError(t, db.Close())
	})
	return p
}

func (p *place) at(t time.Time) { p.clock.Store(t.UnixMicro()) }

func (p *place) add(t *testing.T, name, site string) fleet.Device {
	t.Helper()
	d, err := p.fleet.Add(t.Context(), fleet.Device{Name: name, Site: site, Platform: "tidegate", Addresses: []string{"127.0.0.1:1"}}, "noc")
	require.NoError(t, err)
	return d
}

func (p *place) newest(t *testing.T) (Round, []Visit) {
	t.Helper()
	list, err := p.List(t.Context(), 0, 1)
	require.NoError(t, err)
	if len(list) == 0 {
		return Round{}, nil
	}
	r, err := p.Wait(t.Context(), list[0].ID)
	require.NoError(t, err)
	visits, err := p.Visits(t.Context(), r.ID)
	require.NoError(t, err)
	return r, visits
}

func due(t *testing.T, expression, zone, from string, count int) []string {
	t.Helper()
	at, err := time.Parse(time.RFC3339, from)
	require.NoError(t, err)
	var out []string
	for range count {
		at, err = NextDue(expression, zone, at)
		require.NoError(t, err)
		out = append(out, at.Format("01-02 15:04 MST"))
	}
	return out
}

func TestDaylightSaving(t *testing.T) {
	// In Oslo the clock goes from 02:00 to 03:00 on 29 March 2026 and from 03:00
	// to 02:00 on 25 October.
	assert.Equal(t, []string{"03-28 02:30 CET", "03-29 03:30 CEST", "03-30 02:30 CEST"}, due(t, "30 2 * * *", "Europe/Oslo", "2026-03-28T00:00:00Z", 3), "a night without half past two is no night without a round")
	assert.Equal(t, []string{"10-24 02:30 CEST", "10-25 02:30 CEST", "10-26 02:30 CET"}, due(t, "30 2 * * *", "Europe/Oslo", "2026-10-23T23:00:00Z", 3), "half past two comes twice and counts once")
	assert.Equal(t, []string{"10-25 01:00 CEST", "10-25 02:00 CEST", "10-25 02:00 CET", "10-25 03:00 CET"}, due(t, "0 * * * *", "Europe/Oslo", "2026-10-24T22:30:00Z", 4), "each hour is each hour")
	assert.Equal(t, []string{"03-29 01:00 CET", "03-29 03:00 CEST"}, due(t, "0 * * * *", "Europe/Oslo", "2026-03-28T23:30:00Z", 2))
	assert.Equal(t, []string{"11-29 03:00 UTC", "12-06 03:00 UTC"}, due(t, "0 3 * * 0", "UTC", "2026-11-23T00:00:00Z", 2))
	assert.Equal(t, []string{"01-31 03:00 UTC", "03-31 03:00 UTC"}, due(t, "0 3 31 * *", "UTC", "2026-01-01T00:00:00Z", 2))
}

func TestWhatIsNoScheduleIsRefused(t *testing.T) {
	p := newPlace(t)
	for says, sc := range map[string]Schedule{
		"write five":        {Name: "a", Expression: "@daily"},
		"for example 0 2":   {Name: "a", Expression: "61 * * * *"},
		"never comes":       {Name: "a", Expression: "0 2 30 2 *"},
		"no time zone":      {Name: "a", Expression: "0 2 * * *", Zone: "Europe/Olso"},
		"the name":          {Name: "a:b", Expression: "0 2 * * *"},
		"1 to 10":           {Name: "a", Expression: "0 2 * * *", Tries: 11},
		"at most 12 hours":  {Name: "a", Expression: "0 2 * * *", Spread: 13 * time.Hour},
		"run or skip":       {Name: "a", Expression: "0 2 * * *", Missed: "perhaps"},
		"no field of a dev": {Name: "a", Expression: "0 2 * * *", Selector: "sight=x"},
	} {
		_, err := p.AddSchedule(t.Context(), sc, "noc")
		require.ErrorIs(t, err, ErrSchedule, says)
		assert.ErrorContains(t, err, says)
	}
	_, err := p.AddSchedule(t.Context(), Schedule{Name: "nightly", Expression: "0 2 * * *"}, "noc")
	require.NoError(t, err)
	_, err = p.AddSchedule(t.Context(), Schedule{Name: "Nightly", Expression: "0 3 * * *"}, "noc")
	require.ErrorIs(t, err, ErrScheduleThere)
	_, err = p.Schedule(t.Context(), "nihtly")
	require.ErrorContains(t, err, "nightly")
}

func TestRoundsStartWhenTheyAreDueAndOverlap(t *testing.T) {
	p := newPlace(t)
	p.add(t, "ng-acc-1", "Northgate")
	p.add(t, "dd-acc-1", "Dry Dock")
	for _, sc := range []Schedule{{Name: "nightly", Expression: "0 2 * * *"}, {Name: "northgate", Expression: "0 2 * * *", Selector: "site=Northgate"}, {Name: "asleep", Expression: "0 2 * * *", Paused: true}, {Name: "empty", Expression: "0 2 * * *", Selector: "site=Nowhere"}} {
		_, err := p.AddSchedule(t.Context(), sc, "noc")
		require.NoError(t, err)
	}
	require.NoError(t, p.checkSchedules(t.Context(), true))
	r, _ := p.newest(t)
	assert.Zero(t, r.ID, "nothing is due yet")
	p.at(time.Date(2026, 11, 24, 2, 0, 1, 0, time.UTC))
	require.NoError(t, p.checkSchedules(t.Context(), false))
	require.NoError(t, p.checkSchedules(t.Context(), false))
	list, err := p.List(t.Context(), 0, 10)
	require.NoError(t, err)
	require.Len(t, list, 2, "each that was due, once")
	assert.Equal(t, "northgate", list[0].Schedule)

	coming, err := p.Coming(t.Context(), 3)
	require.NoError(t, err)
	assert.Equal(t, []Coming{{"empty", time.Date(2026, 11, 25, 2, 0, 0, 0, time.UTC), 0}, {"nightly", time.Date(2026, 11, 25, 2, 0, 0, 0, time.UTC), 2}, {"northgate", time.Date(2026, 11, 25, 2, 0, 0, 0, time.UTC), 1}}, coming)
	d, err := p.fleet.Get(t.Context(), "dd-acc-1")
	require.NoError(t, err)
	reaching, err := p.Reaching(t.Context(), &d)
	require.NoError(t, err)
	require.Len(t, reaching, 2)
	assert.Equal(t, "asleep", reaching[0].Name)
}

func TestWhatWasMissedIsRunOrPassedOver(t *testing.T) {
	p := newPlace(t)
	p.add(t, "ng-acc-1", "Northgate")
	for name, missed := range map[string]Missed{"run": RunMissed, "skip": SkipMissed} {
		_, err := p.AddSchedule(t.Context(), Schedule{Name: name, Expression: "0 2 * * *", Missed: missed}, "noc")
		require.NoError(t, err)
	}
	p.at(time.Date(2026, 11, 26, 9, 0, 0, 0, time.UTC)) // down for three nights
	require.NoError(t, p.checkSchedules(t.Context(), true))
	list, err := p.List(t.Context(), 0, 10)
	require.NoError(t, err)
	require.Len(t, list, 1, "one makes up for all")
	assert.Equal(t, "run", list[0].Schedule)
	sc, err := p.Schedule(t.Context(), "skip")
	require.NoError(t, err)
	assert.Equal(t, "2026-11-27 02:00", sc.Next(sc.LastDue).Format("2006-01-02 15:04"))
}

func TestARoundTriesAgainAndRestsInClosedHours(t *testing.T) {
	p := newPlace(t)
	p.add(t, "ng-acc-1", "Northgate")
	p.add(t, "dd-acc-1", "Dry Dock")
	require.NoError(t, p.fleet.SetSite(t.Context(), fleet.Site{Name: "Dry Dock", Closed: []string{"08:00-17:00 Mon-Fri"}}, "noc"))
	_, err := p.vault.Add(t.Context(), vault.Credential{Name: "k", Username: "noc", Secrets: vault.Secrets{Password: "x"}}, "noc", p.now())
	require.NoError(t, err)
	r, err := p.StartPlan(t.Context(), Plan{Origin: "schedule", Account: "system", Tries: 3})
	require.NoError(t, err)
	_, visits := p.newest(t)
	require.Len(t, visits, 2)
	assert.Equal(t, reason.Refused, visits[0].Reason)
	assert.Equal(t, 3, visits[0].Tries)
	assert.Equal(t, reason.ClosedHours, visits[1].Reason)
	assert.Equal(t, PassedOver, visits[1].Outcome)
	done, err := p.Get(t.Context(), r.ID)
	require.NoError(t, err)
	assert.Equal(t, 1, done.Failed)

	// Somebody who asks for it gets it, whatever the hour.
	_, err = p.Start(t.Context(), "name=dd-acc-1", "demand", "noc")
	require.NoError(t, err)
	_, visits = p.newest(t)
	assert.Equal(t, reason.Refused, visits[0].Reason)
	assert.Equal(t, 1, visits[0].Tries)
}

func TestFreshnessFollowsTheSchedulesThatReachADevice(t *testing.T) {
	p := newPlace(t)
	_, err := p.AddSchedule(t.Context(), Schedule{Name: "often", Expression: "0 * * * *", Selector: "site=Northgate"}, "noc")
	require.NoError(t, err)
	p.at(p.now().Add(48 * time.Hour))
	promise := p.Promise(p.now())
	assert.Len(t, promise(&fleet.Device{Site: "Northgate"}), promised)
	assert.Empty(t, promise(&fleet.Device{Site: "Dry Dock"}), "nothing was promised to it")
}

// FuzzNextDue holds that whatever is taken for an expression comes after the
// moment that was asked about, and again after that.
func FuzzNextDue(f *testing.F) {
	f.Add("0 2 * * *", "Europe/Oslo", int64(0))
	f.Add("*/7 1-3 1,15 * 5", "UTC", int64(1_774_700_000))
	f.Fuzz(func(t *testing.T, expression, zone string, seconds int64) {
		at := time.Unix(seconds%(1<<33), 0).UTC()
		first, err := NextDue(expression, zone, at)
		if err != nil || first.IsZero() {
			return
		}
		if !first.After(at) {
			t.Fatalf("%q in %s after %s is due at %s", expression, zone, at, first)
		}
		if second, err := NextDue(expression, zone, first); err == nil && !second.IsZero() && !second.After(first) {
			t.Fatalf("%q in %s after %s is due at %s", expression, zone, first, second)
		}
	})
}
