package conversation_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/core/dialect"
	"vergekeep/core/reason"
	"vergekeep/standin"
	"vergekeep/wire/conversation"
	"vergekeep/wire/ssh"
)

const tidegateConfig = `name np-acc-1
raise secret swordfish-9
account noc level 5
  password sealed seal:hunter2
banner login until %%
  Skerry Line. np-acc-1 || is no prompt.
  end of configuration
%%
interface port1/1
  description to desk 14
  lan access 20
interface port1/24
  description to np-edge-1
  lan trunk 10,20,30
time
  server 192.0.2.1
`

const capstanConfig = `system {
    name hh-core-1;
}
ports {
    te-0/1 {
        note "to hh-dist-1 { not a section";
    }
}
`

const coamingMain = `lay system name hh-fw-1
lay list office net 192.0.2.0/24
lay rules guests-out rule 30 pass from office to any service https remark "a remark that is long enough to be broken at one hundred columns by the box"
`

const sounderConfig = `<router xmlns="urn:example:sounder:router">
  <name>t01-rt-1</name>
  <interfaces>
    <interface>
      <name>wan0</name>
      <address>198.51.100.7/31</address>
    </interface>
  </interfaces>
</router>
`

func device(p standin.Platform) *standin.Device {
	d := &standin.Device{Name: "np-acc-1", Platform: p, Model: "TG-2400", Serial: "TG24-00417", Version: "4.1.9",
		User: "noc", Password: "correct", Elevation: "lift-me", Config: map[string]string{"": tidegateConfig}}
	switch p {
	case standin.Capstan:
		d.Config = map[string]string{"": capstanConfig}
	case standin.Coaming:
		d.Config = map[string]string{"main": coamingMain, "guests": "lay system name guests\n"}
	case standin.Sounder:
		d.Config = map[string]string{"": sounderConfig}
	}
	return d
}

var good = conversation.Credential{User: "noc", Password: "correct", Elevation: "lift-me"}

// visit holds the conversation of the device's dialect; change may set other
// limits, for a busy machine must not make a good device look silent.
func visit(t *testing.T, d *standin.Device, cred conversation.Credential, change func(*dialect.Dialect)) (conversation.Result, error) {
	t.Helper()
	set, err := dialect.Load()
	require.NoError(t, err)
	dl := *set[string(d.Platform)]
	dl.Reach.Silence = time.Minute
	if change != nil {
		change(&dl)
	}
	fleet := standin.NewFleet()
	t.Cleanup(fleet.Close)
	addr, err := fleet.Add(d)
	require.NoError(t, err)
	conn, err := ssh.Dial(t.Context(), ssh.Target{Addresses: []string{addr}, Login: ssh.Login{User: cred.User, Password: cred.Password}, Connect: time.Minute, Silence: dl.Reach.Silence})
	if err != nil {
		return conversation.Result{}, err
	}
	defer conn.Close()
	return conversation.Run(t.Context(), conn, &dl, conversation.Settings{Credential: cred})
}

func kept(r conversation.Result, name, item string) string {
	for _, a := range r.Answers {
		if a.Name == name && a.Item == item {
			return a.Text
		}
	}
	return ""
}

func TestTidegateAnswersAreClean(t *testing.T) {
	for _, width := range []int{32767, 80} {
		r, err := visit(t, device(standin.Tidegate), good, func(d *dialect.Dialect) { d.Reach.Width = width })
		require.NoError(t, err)
		running := kept(r, "running", "")
		assert.True(t, strings.HasPrefix(running, "configuration of np-acc-1, changed "), running)
		_, body, _ := strings.Cut(running, "\n")
		want := strings.Split(tidegateConfig, "password sealed seal:hunter2")
		assert.True(t, strings.HasPrefix(body, want[0]), body)
		assert.True(t, strings.HasSuffix(body, want[1]+"end of configuration\n"), body)
		assert.Contains(t, kept(r, "system", ""), "serial    TG24-00417\n")
		assert.NotEmpty(t, kept(r, "startup", ""))
	}
}

func TestPagerIsDrivenWhereItCannotBeTurnedOff(t *testing.T) {
	d := device(standin.Tidegate)
	d.Config[""] = strings.Repeat("interface port1/1\n  description x\n", 200)
	r, err := visit(t, d, good, func(d *dialect.Dialect) {
		// A dialect that never turns it off.
		states := map[string]*dialect.State{}
		for k, v := range d.Conversation.States {
			states[k] = v
		}
		d.Conversation.States = states
		paging := *states["paging"]
		paging.Send = "session paging on"
		states["paging"] = &paging
	})
	require.NoError(t, err)
	_, body, _ := strings.Cut(kept(r, "running", ""), "\n")
	assert.Equal(t, d.Config[""]+"end of configuration\n", body)
}

func TestCapstanOverExec(t *testing.T) {
	r, err := visit(t, device(standin.Capstan), good, nil)
	require.NoError(t, err)
	assert.Contains(t, kept(r, "running", ""), capstanConfig)
	assert.Contains(t, kept(r, "identity", ""), "serial: TG24-00417")
}

func TestCoamingPartsMenuAndWraps(t *testing.T) {
	got, err := visit(t, device(standin.Coaming), good, nil)
	require.NoError(t, err)
	set, err := dialect.Load()
	require.NoError(t, err)
	assert.Contains(t, set["coaming"].CleanText(kept(got, "config", "main")), coamingMain)
	assert.Contains(t, kept(got, "config", "guests"), "lay system name guests\n")
}

func TestSounderOverNetconf(t *testing.T) {
	r, err := visit(t, device(standin.Sounder), good, nil)
	require.NoError(t, err)
	set, err := dialect.Load()
	require.NoError(t, err)
	assert.Equal(t, sounderConfig, set["sounder"].CleanText(kept(r, "running", "")))
	assert.Equal(t, sounderConfig, set["sounder"].CleanText(kept(r, "startup", "")))
}

func TestTextThatLooksLikeThePromptFoolsNobody(t *testing.T) {
	d := device(standin.Tidegate)
	d.Delay = 100 * time.Millisecond // the look-alike arrives as the end of what is there
	d.SetFault(standin.FakePrompt)
	r, err := visit(t, d, good, func(d *dialect.Dialect) { d.Reach.Silence = 5 * time.Second })
	require.NoError(t, err)
	running := kept(r, "running", "")
	assert.Contains(t, running, "np-acc-1 || a remark that looks like a prompt\n")
	assert.True(t, strings.HasSuffix(running, "end of configuration\n"))
	assert.NotContains(t, running, "list config startup")
}

func TestEachFailureHasItsReason(t *testing.T) {
	wrong := conversation.Credential{User: "noc", Password: "wrong", Elevation: "lift-me"}
	for _, c := range []struct {
		name     string
		platform standin.Platform
		fault    standin.Fault
		cred     conversation.Credential
		want     reason.Code
	}{
		{"silent shell", standin.Tidegate, standin.MuteShell, good, reason.Silent},
		{"silent netconf", standin.Sounder, standin.MuteShell, good, reason.Hung},
		{"no prompt", standin.Tidegate, standin.NoPrompt, good, reason.NoPrompt},
		{"hangs", standin.Tidegate, standin.Hang, good, reason.Hung},
		{"hangs, exec", standin.Capstan, standin.Hang, good, reason.Hung},
		{"hangs, netconf", standin.Sounder, standin.Hang, good, reason.Hung},
		{"closes", standin.Tidegate, standin.HangUp, good, reason.HungUp},
		{"closes, netconf", standin.Sounder, standin.HangUp, good, reason.HungUp},
		{"floods", standin.Tidegate, standin.Flood, good, reason.Flood},
		{"floods, exec", standin.Capstan, standin.Flood, good, reason.Flood},
		{"error", standin.Tidegate, standin.ErrorAnswer, good, reason.DeviceError},
		{"error, exec", standin.Capstan, standin.ErrorAnswer, good, reason.LockedByAnother},
		{"error, menu", standin.Coaming, standin.ErrorAnswer, good, reason.DeviceError},
		{"error, netconf", standin.Sounder, standin.ErrorAnswer, good, reason.DeviceError},
		{"password", standin.Tidegate, "", wrong, reason.CredentialRefused},
		{"password inside", standin.Coaming, "", wrong, reason.CredentialRefused},
		{"elevation missing", standin.Tidegate, "", conversation.Credential{User: "noc", Password: "correct"}, reason.ElevationMissing},
		{"elevation refused", standin.Tidegate, "", conversation.Credential{User: "noc", Password: "correct", Elevation: "no"}, reason.ElevationRefused},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			d := device(c.platform)
			d.SetFault(c.fault)
			_, err := visit(t, d, c.cred, func(d *dialect.Dialect) {
				if c.want == reason.Silent || c.want == reason.Hung || c.want == reason.NoPrompt {
					d.Reach.Silence = 3 * time.Second
				}
			})
			require.Error(t, err)
			assert.Equal(t, c.want, reason.Of(err, ""), err.Error())
		})
	}
}

// TestATrickleOf300000LinesArrives sends for far longer than the limit for
// silence; only the limit for the whole visit counts.
func TestATrickleOf300000LinesArrives(t *testing.T) {
	if raceEnabled {
		t.Log("at a tenth of the size under the race detector")
	}
	lines := 300_000
	if raceEnabled {
		lines /= 10
	}
	d := device(standin.Tidegate)
	d.Config[""] = strings.Repeat("access-list A permit 192.0.2.1\n", lines)
	d.LineDelay = 10 * time.Microsecond
	begun := time.Now()
	r, err := visit(t, d, good, func(d *dialect.Dialect) { d.Reach.Silence = 5 * time.Second })
	require.NoError(t, err)
	running := kept(r, "running", "")
	assert.Equal(t, lines+2, strings.Count(running, "\n"))
	assert.True(t, strings.HasSuffix(running, "end of configuration\n"))
	assert.Greater(t, time.Since(begun), time.Second)
}

func TestCancelEndsAVisit(t *testing.T) {
	d := device(standin.Tidegate)
	d.Delay = time.Hour
	fleet := standin.NewFleet()
	defer fleet.Close()
	addr, err := fleet.Add(d)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	set, err := dialect.Load()
	require.NoError(t, err)
	conn, err := ssh.Dial(ctx, ssh.Target{Addresses: []string{addr}, Login: ssh.Login{User: "noc", Password: "correct"}, Connect: time.Minute, Silence: time.Minute})
	require.NoError(t, err)
	defer conn.Close()
	// Cancelled when the visit is under way: the device is silent for an hour.
	time.AfterFunc(300*time.Millisecond, cancel)
	_, err = conversation.Run(ctx, conn, set["tidegate"], conversation.Settings{Credential: good})
	assert.Equal(t, reason.Cancelled, reason.Of(err, ""))
}

func TestEachCommandWaitsForItsTurn(t *testing.T) {
	for platform, want := range map[standin.Platform]int{standin.Tidegate: 6, standin.Capstan: 2, standin.Sounder: 3} {
		set, err := dialect.Load()
		require.NoError(t, err)
		fleet := standin.NewFleet()
		defer fleet.Close()
		addr, err := fleet.Add(device(platform))
		require.NoError(t, err)
		hold := func(pace func(context.Context) error) error {
			conn, err := ssh.Dial(t.Context(), ssh.Target{Addresses: []string{addr}, Login: ssh.Login{User: good.User, Password: good.Password}, Connect: time.Minute, Silence: time.Minute})
			require.NoError(t, err)
			defer conn.Close()
			_, err = conversation.Run(t.Context(), conn, set[string(platform)], conversation.Settings{Credential: good, Pace: pace})
			return err
		}
		asked := 0
		require.NoError(t, hold(func(context.Context) error { asked++; return nil }))
		assert.Equal(t, want, asked, platform)
		stop := reason.New(reason.Cancelled, "The visit was cancelled.")
		assert.Equal(t, reason.Cancelled, reason.Of(hold(func(context.Context) error { return stop }), ""), platform)
	}
}
