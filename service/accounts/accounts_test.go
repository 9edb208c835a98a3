package accounts

import (
	"errors"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vergekeep/service/journal"
	"vergekeep/store"
)

const password = "four ferries at dawn"

// clock is a time that tests move on.
type clock struct{ at time.Time }

func (c *clock) now() time.Time       { return c.at }
func (c *clock) wait(d time.Duration) { c.at = c.at.Add(d) }

func testAccounts(t *testing.T) (*Accounts, *clock, *store.DB) {
	t.Helper()
	db, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "keep.db"))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, db.Close()) })
	c := &clock{time.Date(2026, 11, 23, 2, 0, 0, 0, time.UTC)}
	return New(db, c.now), c, db
}

func (a *Accounts) mustAdd(t *testing.T, name string, rights ...Right) Account {
	t.Helper()
	acc, err := a.Add(t.Context(), name, password, rights, false, "test")
	require.NoError(t, err)
	return acc
}

func TestTheFirstAccountIsMadeOnce(t *testing.T) {
	a, _, _ := testAccounts(t)
	first, err := a.Bootstrap(t.Context())
	require.NoError(t, err)
	assert.Len(t, first, 16)
	again, err := a.Bootstrap(t.Context())
	require.NoError(t, err)
	assert.Empty(t, again)
	acc, _, err := a.SignIn(t.Context(), "admin", first, "192.0.2.1")
	require.NoError(t, err)
	assert.True(t, acc.OneTime)
	for _, r := range Rights {
		assert.False(t, acc.May(r), "nothing before the password is changed: %s", r)
	}
	require.NoError(t, a.SetPassword(t.Context(), acc.ID, "192.0.2.1", first, password))
	acc, _, err = a.SignIn(t.Context(), "ADMIN", password, "192.0.2.1")
	require.NoError(t, err, "names do not care about capitals")
	for _, r := range Rights {
		assert.True(t, acc.May(r), r)
	}
}

func TestWhatIsNoAccountIsRefused(t *testing.T) {
	a, _, _ := testAccounts(t)
	a.mustAdd(t, "noc", See)
	for name, c := range map[string]struct {
		name, password string
		want           error
	}{
		"no name":          {"", password, ErrInvalid},
		"a slash":          {"a/b", password, ErrInvalid},
		"a short password": {"neteng", "short", ErrInvalid},
		"there already":    {"NOC", password, ErrDuplicate},
	} {
		_, err := a.Add(t.Context(), c.name, c.password, []Right{See}, false, "test")
		require.ErrorIs(t, err, c.want, name)
	}
	_, err := ParseRights([]string{"see", "fly"})
	require.ErrorIs(t, err, ErrInvalid)
	assert.ErrorContains(t, err, "see, operate, see-secrets")
	_, err = a.SetState(t.Context(), "noc", "asleep", "test")
	require.ErrorIs(t, err, ErrInvalid)
	_, err = a.SetState(t.Context(), "nobody", "disabled", "test")
	require.ErrorIs(t, err, ErrUnknown)
	require.ErrorIs(t, a.SetPassword(t.Context(), 1, "192.0.2.1", "wrong password", password), ErrDenied)
}

func TestSignInsEnd(t *testing.T) {
	a, c, _ := testAccounts(t)
	a.mustAdd(t, "lead", Rights...)
	a.mustAdd(t, "noc", See, Operate)
	_, session, err := a.SignIn(t.Context(), "noc", password, "192.0.2.1")
	require.NoError(t, err)
	acc, err := a.BySession(t.Context(), session)
	require.NoError(t, err)
	assert.Equal(t, []Right{See, Operate}, acc.Rights)

	c.wait(signInLife - time.Second)
	_, err = a.BySession(t.Context(), session)
	require.NoError(t, err)
	c.wait(2 * time.Second)
	_, err = a.BySession(t.Context(), session)
	require.ErrorIs(t, err, ErrDenied, "after half a day")

	_, session, err = a.SignIn(t.Context(), "noc", password, "192.0.2.1")
	require.NoError(t, err)
	require.NoError(t, a.SignOut(t.Context(), session))
	_, err = a.BySession(t.Context(), session)
	require.ErrorIs(t, err, ErrDenied)

	_, session, err = a.SignIn(t.Context(), "noc", password, "192.0.2.1")
	require.NoError(t, err)
	_, err = a.SetState(t.Context(), "noc", "disabled", "lead")
	require.NoError(t, err)
	_, err = a.BySession(t.Context(), session)
	require.ErrorIs(t, err, ErrDenied)
	_, _, err = a.SignIn(t.Context(), "noc", password, "192.0.2.1")
	require.ErrorIs(t, err, ErrDenied, "and says no more than for a wrong password")
	_, err = a.SetState(t.Context(), "noc", "active", "lead")
	require.NoError(t, err)
	_, err = a.BySession(t.Context(), session)
	require.ErrorIs(t, err, ErrDenied, "what was ended does not come back")
}

func TestTokensAreOnesOwn(t *testing.T) {
	a, c, db := testAccounts(t)
	lead, noc, other := a.mustAdd(t, "lead", Rights...), a.mustAdd(t, "noc", See), a.mustAdd(t, "other", See)
	token, secret, err := a.NewToken(t.Context(), noc, "laptop")
	require.NoError(t, err)
	acc, err := a.ByToken(t.Context(), secret)
	require.NoError(t, err)
	assert.Equal(t, "noc", acc.Name)
	_, err = a.ByToken(t.Context(), secret+"x")
	require.ErrorIs(t, err, ErrDenied)
	var stored int
	require.NoError(t, db.QueryRow(t.Context(), `SELECT count(*) FROM tokens WHERE hex(token_hash) = hex(CAST(? AS BLOB))`, secret).Scan(&stored))
	assert.Zero(t, stored, "only its digest is kept")

	c.wait(2 * time.Minute)
	_, err = a.ByToken(t.Context(), secret)
	require.NoError(t, err)
	list, err := a.Tokens(t.Context(), noc.ID)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, c.at, list[0].LastUsed)
	list, err = a.Tokens(t.Context(), other.ID)
	require.NoError(t, err)
	assert.Empty(t, list)

	require.ErrorIs(t, a.Revoke(t.Context(), other, token.ID), ErrUnknown)
	require.NoError(t, a.Revoke(t.Context(), lead, token.ID), "an administrator may")
	require.ErrorIs(t, a.Revoke(t.Context(), noc, token.ID), ErrUnknown, "it is revoked already")
	_, err = a.ByToken(t.Context(), secret)
	require.ErrorIs(t, err, ErrDenied)

	_, secret, err = a.NewToken(t.Context(), noc, "laptop")
	require.NoError(t, err)
	_, err = a.SetState(t.Context(), "noc", "disabled", "lead")
	require.NoError(t, err)
	_, err = a.ByToken(t.Context(), secret)
	require.ErrorIs(t, err, ErrDenied)
	_, _, err = a.NewToken(t.Context(), noc, "a/b")
	require.ErrorIs(t, err, ErrInvalid)
}

func TestSomebodyCanAlwaysAdminister(t *testing.T) {
	a, _, _ := testAccounts(t)
	a.mustAdd(t, "lead", Rights...)
	a.mustAdd(t, "deputy", Rights...)
	a.mustAdd(t, "noc", See)
	_, err := a.SetState(t.Context(), "lead", "disabled", "deputy")
	require.NoError(t, err)
	_, err = a.SetState(t.Context(), "deputy", "disabled", "deputy")
	require.ErrorIs(t, err, ErrLast)
	_, err = a.SetState(t.Context(), "noc", "disabled", "deputy")
	require.NoError(t, err)
}

func TestGuessingIsSlowedDown(t *testing.T) {
	a, c, _ := testAccounts(t)
	a.mustAdd(t, "noc", See)
	miss := func(name, source string) error {
		_, _, err := a.SignIn(t.Context(), name, "a wrong password", source)
		return err
	}
	var slowed *ThrottledError
	for range freeMisses {
		require.ErrorIs(t, miss("noc", "192.0.2.1"), ErrDenied)
	}
	for _, want := range []time.Duration{time.Second, 2 * time.Second, 4 * time.Second, 8 * time.Second} {
		require.ErrorAs(t, miss("noc", "192.0.2.1"), &slowed)
		assert.Equal(t, want, slowed.Wait)
		c.wait(want)
		require.ErrorIs(t, miss("noc", "192.0.2.1"), ErrDenied)
	}
	require.ErrorAs(t, miss("somebody", "192.0.2.1"), &slowed, "the same source with another name")
	require.ErrorAs(t, miss("noc", "192.0.2.2"), &slowed, "the same name from elsewhere")
	require.ErrorIs(t, miss("somebody", "192.0.2.2"), ErrDenied)
	for range 20 {
		c.wait(maxWait)
		require.ErrorIs(t, miss("noc", "192.0.2.1"), ErrDenied, "never longer than five minutes")
	}
	c.wait(maxWait)
	_, _, err := a.SignIn(t.Context(), "noc", password, "192.0.2.1")
	require.NoError(t, err)
	require.ErrorIs(t, miss("noc", "192.0.2.1"), ErrDenied, "the right password ends it")
}

// TestThrottleKeepsItsBounds holds that no run of guesses, in any order, makes a
// wait longer than the longest or the table larger than twice its size.
func TestThrottleKeepsItsBounds(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := &clock{time.Date(2026, 11, 23, 2, 0, 0, 0, time.UTC)}
		th := throttle{now: c.now}
		for range rapid.IntRange(1, 200).Draw(t, "guesses") {
			name, source := rapid.StringMatching(`[a-c]`).Draw(t, "name"), rapid.StringMatching(`[1-3]`).Draw(t, "source")
			wait := th.wait(name, source)
			if wait > maxWait {
				t.Fatalf("a wait of %s", wait)
			}
			switch {
			case wait > 0:
				c.wait(time.Duration(rapid.IntRange(0, 600).Draw(t, "pause")) * time.Second)
			case rapid.Bool().Draw(t, "right"):
				th.passed(name, source)
				if th.wait(name, source) > 0 {
					t.Fatal("it waits after the right password")
				}
			default:
				th.failed(name, source)
			}
		}
	})
	c := &clock{time.Date(2026, 11, 23, 2, 0, 0, 0, time.UTC)}
	th := throttle{now: c.now}
	for i := range 3 * maxTracked {
		th.failed(fmt.Sprint("name ", i), fmt.Sprint("source ", i))
	}
	assert.LessOrEqual(t, len(th.bad), 2*maxTracked+2)
}

func TestTheJournalTellsOfAccounts(t *testing.T) {
	a, _, db := testAccounts(t)
	lead := a.mustAdd(t, "lead", Rights...)
	_, session, err := a.SignIn(t.Context(), "lead", password, "192.0.2.1")
	require.NoError(t, err)
	_, secret, err := a.NewToken(t.Context(), lead, "laptop")
	require.NoError(t, err)
	require.NoError(t, a.SetPassword(t.Context(), lead.ID, "192.0.2.1", password, "five ferries at noon"))
	entries, err := journal.List(t.Context(), db, 0, 100)
	require.NoError(t, err)
	var actions []string
	for _, e := range entries {
		actions = append(actions, e.Action)
		for _, hidden := range []string{password, session, secret, "five ferries at noon"} {
			assert.NotContains(t, e.Detail+e.Object, hidden)
		}
	}
	assert.Equal(t, []string{"account password", "token add", "sign in", "account add"}, actions)
	broken, err := journal.Check(t.Context(), db)
	require.NoError(t, err)
	assert.Zero(t, broken)
}

func TestAHashThatIsNoneIsNeverTheRightOne(t *testing.T) {
	a, _, _ := testAccounts(t)
	for _, encoded := range []string{"", "$", "$argon2id$v=19$m=1,t=1,p=1$!!$!!", "$argon2id$v=19$m=19456,t=2,p=1$AAAAAAAAAAAAAAAAAAAAAA$", absent} {
		assert.False(t, a.verify(encoded, ""), "%q", encoded)
		assert.False(t, a.verify(encoded, password), "%q", encoded)
	}
	assert.True(t, a.verify(a.newHash(password), password))
	assert.NotEqual(t, a.newHash(password), a.newHash(password), "each has a salt of its own")
	assert.True(t, errors.Is(fmt.Errorf("x: %w", ErrDenied), ErrDenied))
}
