package rounds

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vergekeep/service/vault"
	"vergekeep/store"
)

func TestStepsComeBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		steps := rapid.SliceOfN(rapid.Custom(func(t *rapid.T) Step {
			return Step{time.Duration(rapid.IntRange(0, 1e7).Draw(t, "ms")) * time.Millisecond, rapid.String().Draw(t, "what")}
		}), 0, 50).Draw(t, "steps")
		text, err := encodeSteps(steps)
		if err != nil {
			t.Fatal(err)
		}
		back, err := decodeSteps(text)
		if err != nil {
			t.Fatal(err)
		}
		if len(back) != len(steps) {
			t.Fatalf("%d steps came back as %d", len(steps), len(back))
		}
		for i := range back {
			if back[i] != steps[i] {
				t.Fatalf("%+v came back as %+v", steps[i], back[i])
			}
		}
	})
	for _, bad := range []string{"{", `[1]`, `[["x","y"]]`, `7`} {
		_, err := decodeSteps(bad)
		assert.Error(t, err, bad)
	}
}

func TestATellerThatNobodyAskedForHearsNothing(t *testing.T) {
	tellerOf(t.Context()).tell("nothing %d", 1)
	ctx, story := listen(t.Context())
	for i := range 3 * maxSteps {
		tellerOf(ctx).tell("step %d", i)
	}
	steps := story.told()
	assert.Len(t, steps, maxSteps, "a visit that goes in a ring fills nobody's memory")
	assert.Equal(t, "step 7", steps[7].What)
}

// TestTheLastLinesHideWhatMayBeSecret keeps a session of a device that repeats
// what it is told, and shows its end to somebody who may not see secrets.
func TestTheLastLinesHideWhatMayBeSecret(t *testing.T) {
	p := newPlace(t)
	d := p.add(t, "np-acc-1", "Ness Point")
	_, err := p.vault.Add(t.Context(), vault.Credential{Name: "keeper", Username: "keeper", Secrets: vault.Secrets{Password: "over-the-verge", Elevation: "lift-the-gate"}}, "test", p.now())
	require.NoError(t, err)
	r, err := p.StartPlan(t.Context(), Plan{Origin: "demand", Account: "noc"})
	require.NoError(t, err)
	_, err = p.Wait(t.Context(), r.ID)
	require.NoError(t, err)

	st, err := p.Story(t.Context(), r.ID, d.ID)
	require.NoError(t, err)
	assert.Equal(t, Failed, st.Outcome)
	assert.False(t, st.Session, "nobody answered")
	require.NotEmpty(t, st.Steps)
	assert.Equal(t, "tries the credential keeper", st.Steps[0].What)
	assert.Contains(t, st.Steps[len(st.Steps)-1].What, "refused the connection")

	session := "np-acc-1 | raise\nRaise secret: lift-the-gate\n?? over-the-verge is not it\nnp-acc-1 || list config running\nname np-acc-1\n" +
		"account noc level 5\n  password plain hunter2\nagent\n  community k33p read\ninterface port1/1\n  description to desk 1\n"
	sealer, release := p.vault.Hold()
	sealed := sealer.Seal("session", []byte(session))
	release()
	require.NoError(t, p.db.Write(t.Context(), func(tx *store.Tx) error {
		_, err := tx.Exec(`UPDATE visit_notes SET session = ? WHERE round_id = ? AND device_id = ?`, sealed, r.ID, d.ID)
		return err
	}))
	st, err = p.Story(t.Context(), r.ID, d.ID)
	require.NoError(t, err)
	assert.True(t, st.Session)
	require.Len(t, st.LastLines, lastLines)
	assert.Equal(t, "  description to desk 1", st.LastLines[lastLines-1])
	for _, line := range st.LastLines {
		for _, secret := range []string{"over-the-verge", "lift-the-gate", "hunter2", "k33p"} {
			assert.NotContains(t, line, secret)
		}
	}
	whole, err := p.Session(t.Context(), r.ID, d.ID)
	require.NoError(t, err)
	assert.Equal(t, session, whole, "for whoever may see secrets")

	_, err = p.Story(t.Context(), r.ID, d.ID+1)
	require.ErrorIs(t, err, ErrUnknown)
	_, err = p.Story(t.Context(), r.ID+1, d.ID)
	require.ErrorIs(t, err, ErrUnknown)
}

func TestADevicesVisitsAreListedNewestFirst(t *testing.T) {
	p := newPlace(t)
	d := p.add(t, "np-acc-1", "Ness Point")
	other := p.add(t, "np-acc-2", "Ness Point")
	var rounds []int64
	for i := range 13 {
		selector := ""
		if i%4 == 3 {
			selector = "name=np-acc-2"
		}
		r, err := p.StartPlan(t.Context(), Plan{Selector: selector, Origin: "demand", Account: "noc"})
		require.NoError(t, err)
		_, err = p.Wait(t.Context(), r.ID)
		require.NoError(t, err)
		if selector == "" {
			rounds = append([]int64{r.ID}, rounds...)
		}
	}
	list, err := p.DeviceVisits(t.Context(), d.ID, 5)
	require.NoError(t, err)
	require.Len(t, list, 5)
	for i, v := range list {
		assert.Equal(t, rounds[i], v.Round)
		assert.Equal(t, "np-acc-1", v.Device)
	}
	list, err = p.DeviceVisits(t.Context(), other.ID, 100)
	require.NoError(t, err)
	assert.Len(t, list, 13)
}
