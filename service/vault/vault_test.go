package vault

import (
	"context"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/core/reason"
	"vergekeep/store"
)

var monday = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

type place struct {
	dir string
	db  *store.DB
}

func newPlace(t *testing.T) *place {
	t.Helper()
	p := &place{dir: t.TempDir()}
	var err error
	p.db, err = store.Open(t.Context(), filepath.Join(p.dir, "keep.db"))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, p.db.Close()) })
	return p
}

func (p *place) key() Key { return Key{File: filepath.Join(p.dir, "vault.key")} }

func (p *place) open(t *testing.T, k Key) *Vault {
	t.Helper()
	v, err := Open(t.Context(), p.db, k)
	require.NoError(t, err)
	return v
}

func keeper(t *testing.T, v *Vault, c Credential) Credential {
	t.Helper()
	c.Name, c.Username = "keeper", "noc"
	if c.Password == "" {
		c.Password = "correct"
	}
	c, err := v.Add(t.Context(), c, "lead", monday)
	require.NoError(t, err)
	return c
}

func TestACredentialComesBackWithItsSecrets(t *testing.T) {
	p := newPlace(t)
	v := p.open(t, p.key())
	keeper(t, v, Credential{Secrets: Secrets{Elevation: "lift-me"}, PerMinute: 10})
	got, err := p.open(t, p.key()).Get(t.Context(), "Keeper")
	require.NoError(t, err)
	assert.Equal(t, Secrets{Password: "correct", Elevation: "lift-me"}, got.Secrets)
	assert.Equal(t, 10, got.PerMinute)
	assert.Equal(t, 100, got.Rank)
	raw, err := os.ReadFile(filepath.Join(p.dir, "keep.db-wal"))
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "lift-me")
}

func TestWhatIsNoCredentialIsRefused(t *testing.T) {
	p := newPlace(t)
	v := p.open(t, p.key())
	for says, c := range map[string]Credential{
		"its name":                         {Name: "a:b", Username: "noc", Secrets: Secrets{Password: "x"}},
		"user name":                        {Name: "a", Secrets: Secrets{Password: "x"}},
		"a password, a key":                {Name: "a", Username: "noc"},
		"not a selector":                   {Name: "a", Username: "noc", Selector: "sight=x", Secrets: Secrets{Password: "x"}},
		"rank":                             {Name: "a", Username: "noc", Rank: 5000, Secrets: Secrets{Password: "x"}},
		"not a usable":                     {Name: "a", Username: "noc", Secrets: Secrets{Key: "-----BEGIN NOTHING-----"}},
		"more than 1000":                   {Name: "a", Username: "noc", Secrets: Secrets{Password: string(make([]byte, 1001))}},
		"logins and commands a minute 0 t": {Name: "a", Username: "noc", PerMinute: -1, Secrets: Secrets{Password: "x"}},
	} {
		_, err := v.Add(t.Context(), c, "lead", monday)
		require.ErrorIs(t, err, ErrInvalid, says)
		assert.ErrorContains(t, err, says)
		assert.NotContains(t, err.Error(), "NOTHING", "an error never quotes a key")
	}
}

func TestTheKeyIsChangedInOneGo(t *testing.T) {
	p := newPlace(t)
	v := p.open(t, p.key())
	keeper(t, v, Credential{})
	old, err := os.ReadFile(p.key().File)
	require.NoError(t, err)
	require.NoError(t, v.ChangeKey(t.Context(), "", "lead", monday))
	for _, opened := range []*Vault{v, p.open(t, p.key())} {
		got, err := opened.Get(t.Context(), "keeper")
		require.NoError(t, err)
		assert.Equal(t, "correct", got.Password)
	}
	// A crash between the database and the file's new name.
	next, err := os.ReadFile(p.key().File)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(p.key().File, old, 0o600))
	_, err = Open(t.Context(), p.db, p.key())
	require.ErrorIs(t, err, ErrKey)
	require.NoError(t, os.WriteFile(p.key().File+".new", next, 0o600))
	_, err = p.open(t, p.key()).Get(t.Context(), "keeper")
	require.NoError(t, err)
	now, err := os.ReadFile(p.key().File)
	require.NoError(t, err)
	assert.Equal(t, next, now)
	require.NoError(t, os.Remove(p.key().File))
	_, err = Open(t.Context(), p.db, p.key())
	require.ErrorIs(t, err, ErrKey, "a missing key is not made anew")
}

func TestAPassphraseCanBeTheKey(t *testing.T) {
	p := newPlace(t)
	v := p.open(t, Key{Passphrase: "four ferries at dawn"})
	keeper(t, v, Credential{})
	_, err := Open(t.Context(), p.db, Key{Passphrase: "four ferries at dusk"})
	require.ErrorIs(t, err, ErrKey)
	require.ErrorIs(t, v.ChangeKey(t.Context(), "short", "lead", monday), ErrPassphrase)
	require.NoError(t, v.ChangeKey(t.Context(), "five ferries at noon", "lead", monday))
	got, err := p.open(t, Key{Passphrase: "five ferries at noon"}).Get(t.Context(), "keeper")
	require.NoError(t, err)
	assert.Equal(t, "correct", got.Password)
	assert.NoFileExists(t, p.key().File)
}

func TestSecretsAreReadWhereTheyStand(t *testing.T) {
	p := newPlace(t)
	v := p.open(t, p.key())
	file := filepath.Join(p.dir, "secret")
	require.NoError(t, os.WriteFile(file, []byte("from a file\n"), 0o600))
	t.Setenv("SKERRY_SECRET", "from the environment")
	for source, want := range map[string]string{"plain": "plain", "env:SKERRY_SECRET": "from the environment", "file:" + file: "from a file", "command:printf 'from %s' here": "from here"} {
		c, err := v.Resolve(t.Context(), Credential{Name: "k", Secrets: Secrets{Password: source}})
		require.NoError(t, err, source)
		assert.Equal(t, want, c.Password)
	}
	for _, source := range []string{"env:SKERRY_NOTHING", "file:" + file + "x", "command:exit 3", "command:true", "command:head -c 100000 /dev/zero"} {
		_, err := v.Resolve(t.Context(), Credential{Name: "k", Secrets: Secrets{Password: source}})
		require.ErrorIs(t, err, ErrSource, source)
	}
	_, err := v.Add(t.Context(), Credential{Name: "k", Username: "noc", Secrets: Secrets{Password: "command:true"}}, "lead", monday)
	require.ErrorContains(t, err, "--allow-commands")
}

type clock struct{ at atomic.Int64 }

func (c *clock) now() time.Time          { return monday.Add(time.Duration(c.at.Load())) }
func (c *clock) forward(d time.Duration) { c.at.Add(int64(d)) }

func TestAnUnprovenCredentialIsTriedOnOneDeviceAlone(t *testing.T) {
	p := newPlace(t)
	v := p.open(t, p.key())
	c := keeper(t, v, Credential{})
	clock := &clock{}
	var wg sync.WaitGroup
	var inside, most, refused, rested atomic.Int32
	for range 50 { // fifty devices, all of which would refuse it
		wg.Go(func() {
			done, err := v.Use(t.Context(), c, clock.now)
			if err != nil {
				assert.Equal(t, reason.CredentialRests, reason.Of(err, ""))
				rested.Add(1)
				return
			}
			n := inside.Add(1)
			for m := most.Load(); n > m && !most.CompareAndSwap(m, n); m = most.Load() {
			}
			time.Sleep(time.Millisecond)
			inside.Add(-1)
			refused.Add(1)
			done(Refused)
		})
	}
	wg.Wait()
	assert.EqualValues(t, 1, most.Load(), "one at a time")
	assert.EqualValues(t, maxRefusals, refused.Load(), "then it rests")
	assert.EqualValues(t, 50-maxRefusals, rested.Load())

	// The rest is remembered across a restart, and grows.
	v = p.open(t, p.key())
	c, err := v.Get(t.Context(), "keeper")
	require.NoError(t, err)
	_, err = v.Use(t.Context(), c, clock.now)
	require.Error(t, err)
	clock.forward(firstRest)
	for range maxRefusals {
		done, err := v.Use(t.Context(), c, clock.now)
		require.NoError(t, err)
		done(Refused)
	}
	clock.forward(firstRest)
	_, err = v.Use(t.Context(), c, clock.now)
	require.Error(t, err, "twice as long")
	_, err = v.Wake(t.Context(), "keeper", "lead", clock.now())
	require.NoError(t, err)
	c, err = v.Get(t.Context(), "keeper")
	require.NoError(t, err)
	done, err := v.Use(t.Context(), c, clock.now)
	require.NoError(t, err)
	done(Accepted)
}

func TestAProvenCredentialIsUsedByMany(t *testing.T) {
	p := newPlace(t)
	v := p.open(t, p.key())
	c := keeper(t, v, Credential{})
	done, err := v.Use(t.Context(), c, time.Now)
	require.NoError(t, err)
	waiting := make(chan func(Verdict), 10)
	for range 10 {
		go func() {
			done, err := v.Use(context.Background(), c, time.Now)
			assert.NoError(t, err)
			waiting <- done
		}()
	}
	select {
	case <-waiting:
		t.Fatal("it is not proven yet")
	case <-time.After(30 * time.Millisecond):
	}
	done(Accepted)
	for range 10 {
		select {
		case done := <-waiting:
			defer done(Unjudged)
		case <-time.After(time.Minute):
			t.Fatal("they wait for ever")
		}
	}
	// New secrets have to prove themselves again.
	password := "changed"
	c, err = v.Change(t.Context(), "keeper", Change{Password: &password}, "lead", monday)
	require.NoError(t, err)
	assert.True(t, c.Proven.IsZero())
}

func TestLoginsAMinuteAreCounted(t *testing.T) {
	p := newPlace(t)
	v := p.open(t, p.key())
	c := keeper(t, v, Credential{PerMinute: 2})
	clock := &clock{}
	for range 2 {
		done, err := v.Use(t.Context(), c, clock.now)
		require.NoError(t, err)
		done(Accepted)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	_, err := v.Use(ctx, c, clock.now)
	assert.Equal(t, reason.Cancelled, reason.Of(err, ""), "the third has to wait")
	clock.forward(time.Minute)
	_, err = v.Use(t.Context(), c, clock.now)
	require.NoError(t, err)
}

func TestCommandsAMinuteAreCountedApartFromLogins(t *testing.T) {
	p := newPlace(t)
	v := p.open(t, p.key())
	c := keeper(t, v, Credential{PerMinute: 1, CommandsPerMinute: 3})
	kept, err := v.Get(t.Context(), c.Name)
	require.NoError(t, err)
	assert.Equal(t, 3, kept.CommandsPerMinute)
	clock := &clock{}
	for range 3 {
		require.NoError(t, v.Pace(t.Context(), c, clock.now))
	}
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	assert.Equal(t, reason.Cancelled, reason.Of(v.Pace(ctx, c, clock.now), ""), "the fourth has to wait")
	done, err := v.Use(t.Context(), c, clock.now)
	require.NoError(t, err, "a login is no command")
	done(Accepted)
	clock.forward(time.Minute)
	require.NoError(t, v.Pace(t.Context(), c, clock.now))
	unlimited := 0
	c, err = v.Change(t.Context(), c.Name, Change{CommandsPerMinute: &unlimited}, "noc", monday)
	require.NoError(t, err)
	for range 100 {
		require.NoError(t, v.Pace(t.Context(), c, clock.now))
	}
}
