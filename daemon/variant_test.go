package daemon_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/archive"
	"vergekeep/core/dialect"
	"vergekeep/daemon"
	"vergekeep/service/rounds"
	"vergekeep/standin"
)

// withVariant is a folder with the dialect capstan, of which old releases want
// another command: the file itself asks for something that the stand-in does
// not know, its variant for what it does.
func withVariant(t *testing.T, release string) string {
	t.Helper()
	set, err := dialect.Load()
	require.NoError(t, err)
	text := strings.Replace(set["capstan"].Text, "send: print running", "send: print everything", 1)
	require.NotEqual(t, set["capstan"].Text, text)
	text += "\nvariants:\n  - name: of that release\n    version: '" + release + "'\n    change: { conversation: { states: { running: { send: print running } } } }\n"
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "capstan.yaml"), []byte(text), 0o600))
	return dir
}

func TestADeviceIsVisitedAsItsVariantWants(t *testing.T) {
	dir := withVariant(t, `^7\.`)
	h := openWith(t, func(c *daemon.Config) { c.Dialects = dir }, "hh-core-1")
	// Nothing is known of it yet: what it says of itself leads to the variant.
	visits, r := h.round("")
	require.Equal(t, 1, r.New, "%+v", visits)
	d, err := h.Fleet.Get(t.Context(), "hh-core-1")
	require.NoError(t, err)
	assert.Equal(t, "7.2.1", d.Nameplate.Version)
	rev, err := h.Archive.Latest(t.Context(), archive.Key{Device: d.ID, Datastore: "running"})
	require.NoError(t, err)
	text, err := h.Archive.Text(t.Context(), rev)
	require.NoError(t, err)
	assert.Contains(t, text, "name hh-core-1;")

	// Now it is known: one conversation is enough.
	r, err = h.Rounds.StartPlan(t.Context(), rounds.Plan{Origin: "demand", Account: "test", Record: true})
	require.NoError(t, err)
	r, err = h.Rounds.Wait(t.Context(), r.ID)
	require.NoError(t, err)
	assert.Equal(t, 1, r.Unchanged)
	story, err := h.Rounds.Story(t.Context(), r.ID, d.ID)
	require.NoError(t, err)
	logins := 0
	for _, s := range story.Steps {
		if strings.HasPrefix(s.What, "is logged in") {
			logins++
		}
		assert.NotContains(t, s.What, "print everything")
	}
	assert.Equal(t, 1, logins)
	assert.True(t, story.Session, "a round that records keeps what was said")
}

func TestWithoutAVariantThatFitsTheFileCounts(t *testing.T) {
	dir := withVariant(t, `^6\.`)
	h := openWith(t, func(c *daemon.Config) { c.Dialects = dir }, "hh-core-1")
	visits, r := h.round("")
	assert.Equal(t, 1, r.Failed)
	assert.Contains(t, visits[0].What, "print everything")
}

func TestGoodVisitsKeepNothingUnlessAsked(t *testing.T) {
	h := open(t, "np-acc-2", "ng-acc-1")
	h.network.Device("ng-acc-1").SetFault(standin.CutShort)
	visits, r := h.round("")
	require.Len(t, visits, 2)
	for _, v := range visits {
		story, err := h.Rounds.Story(t.Context(), r.ID, v.DeviceID)
		require.NoError(t, err)
		assert.Equal(t, v.Outcome == rounds.Failed, len(story.Steps) > 0, v.Device)
		assert.Equal(t, v.Outcome == rounds.Failed, story.Session, v.Device)
		for _, line := range append(story.LastLines, stepTexts(story.Steps)...) {
			for _, secret := range []string{"over-the-verge", "lift-the-gate"} {
				assert.NotContains(t, line, secret)
			}
		}
		if v.Outcome == rounds.Failed {
			assert.Less(t, story.Steps[0].After, 20*time.Second)
			assert.Contains(t, story.Steps[len(story.Steps)-1].What, "not complete")
		}
	}
}

func stepTexts(steps []rounds.Step) []string {
	var list []string
	for _, s := range steps {
		list = append(list, s.What)
	}
	return list
}
