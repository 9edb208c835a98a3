package daemon_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/service/fleet"
	"vergekeep/service/rounds"
)

func TestTelnetAndConsolePortsAreVisited(t *testing.T) {
	h := open(t)
	ancient, console := h.network.Device("dd-acc-3"), h.network.Device("dd-acc-2")
	console.Telnet, console.LeftInEdit = true, true
	for d, transport := range map[string]fleet.Transport{"dd-acc-3": fleet.Telnet, "dd-acc-2": fleet.Console} {
		addr, err := h.devices.Add(h.network.Device(d))
		require.NoError(t, err)
		_, err = h.Fleet.Add(t.Context(), fleet.Device{Name: d, Platform: "tidegate", Addresses: []string{addr}, Transport: transport}, "test")
		require.NoError(t, err)
	}
	before := console.Running("")
	visits, r := h.round("")
	assert.Equal(t, 2, r.New, "%+v", visits)
	assert.Equal(t, before, console.Running(""), "what somebody had half typed was not entered")
	ancient.SetPassword("another")
	visits, _ = h.round("name=dd-acc-3")
	assert.Equal(t, "credential-refused", string(visits[0].Reason), visits[0].What)
}

func TestEnrolmentFindsOutWhatItIs(t *testing.T) {
	h := open(t)
	var addresses []string
	for _, name := range []string{"ng-acc-1", "hh-core-1", "hh-fw-1", "t07-rt-1"} {
		addr, err := h.devices.Add(h.network.Device(name))
		require.NoError(t, err)
		addresses = append(addresses, addr)
	}
	found, err := h.Rounds.Enrol(t.Context(), rounds.Enrolment{Addresses: append(addresses, "127.0.0.1:1"), PerSecond: 100, Add: true, Site: "Northgate"}, "test")
	require.NoError(t, err)
	require.Len(t, found, 5)
	for i, platform := range []string{"tidegate", "capstan", "coaming", "sounder"} {
		assert.Equal(t, platform, found[i].Platform, "%+v %v", found[i], found[i].Err)
		assert.Equal(t, 99, found[i].Sure)
		assert.True(t, found[i].Added, "%v", found[i].Err)
	}
	assert.Equal(t, "refused", string(found[4].Err.Code))
	list, err := h.Rounds.List(t.Context(), 0, 1)
	require.NoError(t, err)
	r, err := h.Rounds.Wait(t.Context(), list[0].ID)
	require.NoError(t, err)
	assert.Equal(t, 4, r.New, "the first captures are taken")
	d, err := h.Fleet.Get(t.Context(), "ng-acc-1")
	require.NoError(t, err)
	assert.NotEmpty(t, d.HostKeys)

	// The same boxes once more: nothing is added twice.
	found, err = h.Rounds.Enrol(t.Context(), rounds.Enrolment{Addresses: addresses[:1], PerSecond: 100, Add: true}, "test")
	require.NoError(t, err)
	assert.False(t, found[0].Added)
	require.NotNil(t, found[0].Err)
	assert.Equal(t, "address-of-two", string(found[0].Err.Code))

	login, err := h.Rounds.TryLogin(t.Context(), d)
	require.NoError(t, err)
	assert.Equal(t, "keeper", login.Credential)
}

func TestOneBoxIsNotFiledUnderTwoNames(t *testing.T) {
	h := open(t, "hh-core-1")
	h.round("")
	// The same box behind another of its addresses, under another name that it
	// does not contradict.
	again := *h.network.Device("hh-core-1")
	again.Name, again.Addr = "hh-core-9", ""
	addr, err := h.devices.Add(&again)
	require.NoError(t, err)
	_, err = h.Fleet.Add(t.Context(), fleet.Device{Name: "hh-core-9", Platform: "capstan", Addresses: []string{addr}}, "test")
	require.NoError(t, err)
	visits, _ := h.round("name=hh-core-9")
	assert.Equal(t, "address-of-two", string(visits[0].Reason), visits[0].What)
	assert.Contains(t, visits[0].What, "hh-core-1")
}

func TestAnUnsavedConfigurationIsAState(t *testing.T) {
	h := open(t, "np-acc-2")
	h.round("")
	d, err := h.Fleet.Get(t.Context(), "np-acc-2")
	require.NoError(t, err)
	assert.Zero(t, d.Unsaved)
	h.network.Device("np-acc-2").Change("x", "", false, func(s string) string { return s + "name-server 192.0.2.53\n" })
	h.round("")
	d, err = h.Fleet.Get(t.Context(), "np-acc-2")
	require.NoError(t, err)
	assert.Equal(t, 1, d.Unsaved)
	since := d.UnsavedSince
	assert.False(t, since.IsZero())
	h.round("")
	d, err = h.Fleet.Get(t.Context(), "np-acc-2")
	require.NoError(t, err)
	assert.Equal(t, since, d.UnsavedSince)
	h.network.Device("np-acc-2").Change("x", "", true, func(s string) string { return s })
	h.round("")
	d, err = h.Fleet.Get(t.Context(), "np-acc-2")
	require.NoError(t, err)
	assert.Zero(t, d.Unsaved)
	assert.True(t, d.UnsavedSince.IsZero())
	plates, err := h.Rounds.Nameplates(t.Context(), d.ID)
	require.NoError(t, err)
	assert.Len(t, plates, 1, "it said the same each time")
}
