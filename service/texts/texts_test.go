package texts

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vergekeep/core/dialect"
	"vergekeep/service/fleet"
	"vergekeep/service/notes"
	"vergekeep/service/shelf"
)

// kept is a shelf with what is tested on it.
type kept struct {
	*Texts
	*shelf.Shelf
}

func newShelf(t testing.TB) *kept {
	s := shelf.New(t)
	return &kept{New(s.Archive, s.Fleet, s.Rounds, s.Set, notes.New(s.DB, s.Archive, s.Now), s.Now), s}
}

const access = `configuration of np-acc-1, changed 2026-11-20 by noc
name np-acc-1
raise secret r4ise
account noc level 5
  password plain hunter2
interface port1/1
  description to desk 1
interface port1/2
  disabled
agent
  community k33p read
end of configuration
`

var (
	mayNot = Caller{Account: "noc", Operate: true, Location: time.UTC}
	may    = Caller{Account: "neteng", Operate: true, SeeSecrets: true, Location: time.UTC}
)

func TestSecretsAreShownToWhoMaySeeThem(t *testing.T) {
	s := newShelf(t)
	s.Put(t, "np-acc-1", "tidegate", access)
	c, err := s.Get(t.Context(), "np-acc-1", may)
	require.NoError(t, err)
	assert.Equal(t, access, c.Shown, "byte for byte")
	assert.False(t, c.Masked)
	c, err = s.Get(t.Context(), "NP-acc-1@1", mayNot)
	require.NoError(t, err)
	assert.True(t, c.Masked)
	for _, secret := range []string{"r4ise", "hunter2", "k33p"} {
		assert.NotContains(t, c.Shown, secret)
		assert.NotContains(t, c.Tree.Source, secret)
	}
	assert.Equal(t, strings.Count(access, "\n"), strings.Count(c.Shown, "\n"))
	assert.Equal(t, "np-acc-1@1", c.Name())
}

func TestWithoutItsDialectNothingIsShownToWhoMayNot(t *testing.T) {
	s := newShelf(t)
	s.Put(t, "np-acc-1", "tidegate", access)
	delete(s.Set, "tidegate")
	_, err := s.Get(t.Context(), "np-acc-1", mayNot)
	require.ErrorIs(t, err, ErrMask)
	assert.NotContains(t, err.Error(), "hunter2")
	c, err := s.Get(t.Context(), "np-acc-1", may)
	require.NoError(t, err)
	assert.Equal(t, access, c.Shown)
	require.ErrorIs(t, s.Only(c, "interface"), ErrNeutral)
}

func TestARefThatNamesNothingSaysWhatThereIs(t *testing.T) {
	s := newShelf(t)
	s.Put(t, "np-acc-1", "tidegate", access)
	_, err := s.Fleet.Add(t.Context(), fleet.Device{Name: "np-acc-2", Platform: "tidegate", Addresses: []string{"192.0.2.2"}}, "test")
	require.NoError(t, err)
	for source, says := range map[string]string{
		"np-acc-9":             "Did you mean np-acc-",
		"np-acc-2":             "capture it with 'vergekeep capture np-acc-2'",
		"np-acc-1:startup":     "there are np-acc-1",
		"np-acc-1:running/x":   "there are np-acc-1",
		"np-acc-1@7":           "@1 to @1",
		"np-acc-1@2020-01-01":  "",
		"./np-acc-1.cfg":       "is a file on your machine",
		"np-acc-1@standard":    "has no standard",
		"np-acc-1:runing":      "Did you mean running?",
		"":                     "",
		strings.Repeat("x", 9): "no such device",
	} {
		_, err := s.Get(t.Context(), source, may)
		require.Error(t, err, source)
		assert.ErrorContains(t, err, says, source)
	}
	_, err = s.Get(t.Context(), "np-acc-1@live", Caller{Account: "auditor", Location: time.UTC})
	require.ErrorIs(t, err, ErrLive)
	_, err = s.Get(t.Context(), "np-acc-1@live", may)
	require.ErrorIs(t, err, ErrLive, "192.0.2.1 answers nobody, and no credential is there")
}

func TestAChangedSecretIsAChangeThatNobodySees(t *testing.T) {
	s := newShelf(t)
	s.Put(t, "np-acc-1", "tidegate", access)
	s.Put(t, "np-acc-1", "tidegate", strings.NewReplacer("hunter2", "hunter3", "to desk 1", "to desk 7").Replace(access))
	for _, who := range []Caller{may, mayNot} {
		c, err := s.Compare(t.Context(), Request{Left: Source{Ref: "np-acc-1@1"}, Right: Source{Ref: "np-acc-1@2"}}, who)
		require.NoError(t, err)
		assert.Equal(t, 2, c.Result.Stats.Changed)
		text, hidden := c.Unified(0)
		secret := 0
		for _, r := range c.Rows(0) {
			if r.SecretChanged {
				secret++
				assert.Equal(t, r.LeftText, r.RightText)
			}
		}
		assert.Contains(t, text, "+  description to desk 7\n")
		if who.SeeSecrets {
			assert.Zero(t, secret+hidden)
			assert.Contains(t, text, "+  password plain hunter3\n")
		} else {
			assert.Equal(t, 1, secret)
			assert.Equal(t, 1, hidden)
			assert.NotContains(t, text, "hunter")
		}
	}
}

// TestNoComparisonShowsASecret changes a configuration at random: whoever may
// not see secrets finds none in what a comparison says.
func TestNoComparisonShowsASecret(t *testing.T) {
	s := newShelf(t)
	n := 0
	lines := strings.SplitAfter(access, "\n")
	rapid.Check(t, func(rt *rapid.T) {
		n++
		name := fmt.Sprintf("d-%d", n)
		var planted []string
		make := func(label string) string {
			var b strings.Builder
			for i, l := range lines {
				switch {
				case strings.HasPrefix(l, "account"), strings.HasPrefix(l, "agent"): // headings make the lines below them secret
					b.WriteString(l)
				case rapid.IntRange(0, 5).Draw(rt, label+"drop") == 0 && i > 0 && i < len(lines)-2:
				case strings.Contains(l, "hunter2"), strings.Contains(l, "r4ise"), strings.Contains(l, "k33p"):
					secret := "s3cr-" + rapid.StringMatching(`[a-z0-9]{6,12}`).Draw(rt, label+"secret")
					planted = append(planted, secret)
					b.WriteString(strings.NewReplacer("hunter2", secret, "r4ise", secret, "k33p", secret).Replace(l))
				default:
					b.WriteString(l)
				}
			}
			return b.String()
		}
		left, right := make("left"), make("right")
		s.Put(t, name, "tidegate", left)
		s.Put(t, name, "tidegate", right)
		c, err := s.Compare(t.Context(), Request{Left: Source{Ref: name + "@1"}, Right: Source{Ref: name}}, mayNot)
		if err != nil {
			rt.Skip("nothing differs")
		}
		text, _ := c.Unified(3)
		for _, r := range c.Rows(-1) {
			text += r.LeftText + "\n" + r.RightText + "\n" + strings.Join(r.Path, " ") + "\n"
		}
		for _, secret := range planted {
			if strings.Contains(text, secret) {
				rt.Fatalf("%s shows in\n%s", secret, text)
			}
		}
	})
}

func TestOnlyLeavesWhatANameStandsFor(t *testing.T) {
	s := newShelf(t)
	s.Put(t, "np-acc-1", "tidegate", access)
	only := func(neutral string, who Caller) (string, error) {
		c, err := s.Get(t.Context(), "np-acc-1", who)
		require.NoError(t, err)
		err = s.Only(c, neutral)
		assert.Equal(t, c.Shown, c.Tree.Source)
		return c.Shown, err
	}
	text, err := only("Interface", may)
	require.NoError(t, err)
	assert.Equal(t, "interface port1/1\n  description to desk 1\ninterface port1/2\n  disabled\n", text)
	text, err = only("user", may)
	require.NoError(t, err)
	assert.Equal(t, "account noc level 5\n  password plain hunter2\n", text)
	text, err = only("user", mayNot)
	require.NoError(t, err)
	assert.Equal(t, "account noc level 5\n  password plain "+dialect.Mask+"\n", text)
	text, err = only("vlan", may)
	require.NoError(t, err)
	assert.Empty(t, text, "it has none")
	_, err = only("interfase", may)
	require.ErrorIs(t, err, ErrNeutral)
	assert.ErrorContains(t, err, "Did you mean interface?")
}
