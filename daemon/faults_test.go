package daemon_test

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/core/dialect"
	"vergekeep/core/reason"
	"vergekeep/daemon"
	"vergekeep/service/fleet"
	"vergekeep/service/rounds"
	"vergekeep/standin"
)

// impatient writes the built-in dialects with short time limits to a folder.
func impatient(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	files, err := fs.Glob(dialect.Builtin(), "*.yaml")
	require.NoError(t, err)
	for _, name := range files {
		text, err := fs.ReadFile(dialect.Builtin(), name)
		require.NoError(t, err)
		short := strings.Replace(string(text), "reach:\n", fmt.Sprintf("reach:\n  connect: %ds\n  silence: %dms\n  visit: %ds\n", 3*slowness, 1500*slowness, 10*slowness), 1)
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(short), 0o600))
	}
	return dir
}

// bad is one way in which a device can be bad, and what becomes of its visit:
// a reason, or an outcome where it is captured all the same.
type bad struct {
	name     string
	platform standin.Platform
	fault    standin.Fault
	record   func(*fleet.Device)   // what is peculiar about its record
	device   func(*standin.Device) // and about itself
	want     string
}

var faults = []bad{
	{name: "refused", record: func(d *fleet.Device) { d.Addresses = []string{"127.0.0.1:1"} }, want: "refused"},
	{name: "name unknown", record: func(d *fleet.Device) { d.Addresses = []string{"no..such.name:22"} }, want: "name-unknown"},
	{name: "not SSH", fault: standin.NotSSH, want: "not-ssh"},
	{name: "silent", fault: standin.Mute, want: "silent"},
	{name: "stops in the login", fault: standin.HalfLogin, want: "connect-timeout"},
	{name: "reset when accepted", fault: standin.ResetAtOnce, want: "hung-up"},
	{name: "reset at the login", fault: standin.ResetAtLogin, want: "hung-up"},
	{name: "reset at the shell", fault: standin.ResetAtShell, want: "hung-up"},
	{name: "old algorithms only", fault: standin.OldOnly, want: "no-common-algorithm"},
	{name: "old algorithms allowed", fault: standin.OldOnly, record: func(d *fleet.Device) { d.OldAlgorithms = true }, want: "new"},
	{name: "host key changed", record: func(d *fleet.Device) {
		d.HostKeys = []string{"ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGJyb2tlbmJyb2tlbmJyb2tlbmJyb2tlbmJyb2tlbg=="}
	}, want: "host-key-changed"},
	{name: "credential refused", device: func(d *standin.Device) { d.Password = "another" }, want: "credential-refused"},
	{name: "password expired", fault: standin.Expired, want: "password-expired"},
	{name: "second factor", fault: standin.AsksForCode, want: "second-factor"},
	{name: "login server down", fault: standin.ServerDown, want: "login-server-down"},
	{name: "too many sessions", fault: standin.Busy, want: "too-many-sessions"},
	{name: "elevated mode refused", device: func(d *standin.Device) { d.Elevation = "another" }, want: "elevation-refused"},
	{name: "command not allowed", fault: standin.NotAllowed, want: "command-not-allowed"},
	{name: "no prompt", fault: standin.NoPrompt, want: "no-prompt"},
	{name: "silent in the shell", fault: standin.MuteShell, want: "silent"},
	{name: "went silent", fault: standin.Hang, want: "hung"},
	{name: "cut off", fault: standin.HangUp, want: "hung-up"},
	{name: "too large", fault: standin.Flood, want: "flood"},
	{name: "one byte at a time", fault: standin.OneByte, want: "too-long"},
	{name: "error answered", fault: standin.ErrorAnswer, want: "device-error"},
	{name: "locked by another", platform: standin.Capstan, fault: standin.ErrorAnswer, want: "locked-by-another"},
	{name: "incomplete", fault: standin.CutShort, want: "incomplete"},
	{name: "incomplete in braces", platform: standin.Capstan, fault: standin.CutShort, want: "incomplete"},
	{name: "not this device", fault: standin.ForeignNames, want: "other-device"},
	{name: "platform not as recorded", record: func(d *fleet.Device) { d.Platform = "coaming" }, want: "other-platform"},
	{name: "its prompt changes on the way", fault: standin.NewPrompt, want: "hung"},
	{name: "complete but far too short at first", fault: standin.Shrunk, want: "new"},
	{name: "changed while it was read", fault: standin.Moving, want: "changed-while-read"},
	{name: "jump host failed", record: func(d *fleet.Device) { d.Via = "nowhere" }, want: "jump-host-failed"},
	{name: "a chunk of a wrong length", platform: standin.Sounder, fault: standin.BadChunk, want: "protocol"},
	{name: "a message without end", platform: standin.Sounder, fault: standin.Endless, want: "flood"},
	{name: "an entity that expands", platform: standin.Sounder, fault: standin.EntityBomb, want: "protocol"},
	{name: "a storm of options", fault: standin.OptionStorm, device: func(d *standin.Device) { d.Telnet = true }, record: func(d *fleet.Device) { d.Transport = fleet.Telnet }, want: "protocol"},
	{name: "paused", record: func(d *fleet.Device) { d.State = fleet.Paused }, want: "paused"},
	// What is captured all the same.
	{name: "its prompt in banner and text", fault: standin.FakePrompt, device: func(d *standin.Device) { d.Delay = 50 * time.Millisecond }, want: "new"},
	{name: "bytes that are no text", fault: standin.BadText, want: "new"},
	{name: "a pager that stays", fault: standin.StubbornPager, want: "new"},
	{name: "ten thousand lines of banner", fault: standin.LongBanner, want: "new"},
	{name: "a clock that is years off", device: func(d *standin.Device) { d.SetClock(func() time.Time { return time.Unix(86400, 0) }) }, want: "new"},
	{name: "Telnet", device: func(d *standin.Device) { d.Telnet = true }, record: func(d *fleet.Device) { d.Transport = fleet.Telnet }, want: "new"},
}

func TestEveryFaultHasItsReasonInItsTime(t *testing.T) {
	dialects := impatient(t)
	h := openWith(t, func(c *daemon.Config) { c.Dialects, c.Concurrency = dialects, 16 })
	models := map[standin.Platform]string{standin.Tidegate: "ng-acc-1", standin.Capstan: "hh-core-1", standin.Sounder: "t07-rt-1"}
	for i, f := range faults {
		if f.platform == "" {
			f.platform = standin.Tidegate
		}
		model := h.network.Device(models[f.platform])
		name := fmt.Sprintf("bad-%02d", i)
		d := &standin.Device{Name: name, Platform: f.platform, Model: model.Model, Serial: fmt.Sprintf("BAD-%02d", i), Version: model.Version, User: model.User, Password: model.Password, Elevation: model.Elevation,
			Config: map[string]string{"": strings.ReplaceAll(model.Config[""], model.Name, name)}}
		d.SetFault(f.fault)
		if f.device != nil {
			f.device(d)
		}
		addr, err := h.devices.Add(d)
		require.NoError(t, err)
		rec := fleet.Device{Name: name, Platform: string(f.platform), Addresses: []string{addr}, Site: "bad"}
		if f.record != nil {
			f.record(&rec)
		}
		_, err = h.Fleet.Add(t.Context(), rec, "test")
		require.NoError(t, err, f.name)
	}
	const healthy = 40
	for i := range healthy {
		name := fmt.Sprintf("good-%02d", i)
		model := h.network.Device("ng-acc-2")
		d := &standin.Device{Name: name, Platform: standin.Tidegate, Model: model.Model, Serial: fmt.Sprintf("GOOD-%02d", i), Version: model.Version, User: model.User, Password: model.Password, Elevation: model.Elevation,
			Config: map[string]string{"": strings.ReplaceAll(model.Config[""], model.Name, name)}}
		addr, err := h.devices.Add(d)
		require.NoError(t, err)
		_, err = h.Fleet.Add(t.Context(), fleet.Device{Name: name, Platform: "tidegate", Addresses: []string{addr}, Site: "good"}, "test")
		require.NoError(t, err)
	}
	before := runtime.NumGoroutine()
	begun := time.Now()
	// The healthy go first once, so that the credential is proven.
	_, first := h.round("site=good")
	require.Equal(t, healthy, first.New)
	visits, r := h.round("")
	took := time.Since(begun)
	assert.Less(t, took, 60*slowness*time.Second, "one bad device holds up no other")

	got := map[string]rounds.Visit{}
	for _, v := range visits {
		got[v.Device] = v
	}
	captured := 0
	for i, f := range faults {
		v := got[fmt.Sprintf("bad-%02d", i)]
		said := string(v.Reason)
		if v.Reason == "" {
			said = string(v.Outcome)
		}
		assert.Equal(t, f.want, said, "%s: %s", f.name, v.What)
		assert.Less(t, v.Took, 25*slowness*time.Second, f.name)
		if f.want == "new" {
			captured++
		} else {
			assert.NotEmpty(t, v.Reason.Advice(), f.name)
		}
		t.Logf("%-32s %-22s %6.1f s  %s", f.name, said, v.Took.Seconds(), v.What)
	}
	assert.Equal(t, captured, r.New)
	assert.Equal(t, healthy, r.Unchanged)
	// Nothing of the failed ones is in the archive.
	for i, f := range faults {
		d, err := h.Fleet.Get(t.Context(), fmt.Sprintf("bad-%02d", i))
		require.NoError(t, err)
		newest, err := h.Archive.Newest(t.Context(), d.ID)
		require.NoError(t, err)
		assert.Equal(t, f.want == "new", len(newest) > 0, f.name)
	}
	require.Eventually(t, func() bool { return runtime.NumGoroutine() <= before+20 }, time.Minute, 100*time.Millisecond, "no goroutine outlives its visit")
	assert.GreaterOrEqual(t, len(faults), 30)
	seen := map[reason.Code]bool{}
	for _, f := range faults {
		seen[reason.Code(f.want)] = true
	}
	t.Logf("%d faults, %d reasons", len(faults), len(seen))
}
