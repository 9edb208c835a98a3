package fleet

import (
	"context"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/core/dialect"
	"vergekeep/core/selector"
	"vergekeep/store"
)

var monday = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

func testFleet(t *testing.T) *Fleet {
	t.Helper()
	db, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "keep.db"))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, db.Close()) })
	dialects, err := dialect.Load()
	require.NoError(t, err)
	return New(db, dialects, func() time.Time { return monday })
}

func add(t *testing.T, f *Fleet, name, site, role string) Device {
	t.Helper()
	d, err := f.Add(t.Context(), Device{Name: name, Site: site, Role: role, Platform: "tidegate", Addresses: []string{"192.0.2.1"}}, "noc")
	require.NoError(t, err)
	return d
}

func names(t *testing.T, f *Fleet, expression string) []string {
	t.Helper()
	sel, err := selector.Parse(expression)
	require.NoError(t, err)
	list, err := f.List(t.Context(), sel)
	require.NoError(t, err, expression)
	found := []string{}
	for _, d := range list {
		found = append(found, d.Name)
	}
	return found
}

func TestAddressesAsPeopleWriteThem(t *testing.T) {
	for in, want := range map[string]string{
		"192.0.2.7": "192.0.2.7:22", " 192.0.2.7 ": "192.0.2.7:22", "192.0.2.7:830": "192.0.2.7:830", "2001:db8::7": "[2001:db8::7]:22",
		"[2001:db8::7]:23": "[2001:db8::7]:23", "fe80::1%eth0": "[fe80::1%eth0]:22", "sw7.skerry.example": "sw7.skerry.example:22",
	} {
		got, err := CheckAddress(in, 22)
		require.NoError(t, err, in)
		assert.Equal(t, want, got, in)
	}
	for _, bad := range []string{"", "a b", "192.0.2.7:0", "192.0.2.7:99999", "192.0.2.7:ssh", "user@host", "a/b", "2001:db8::7::1", ":22"} {
		_, err := CheckAddress(bad, 22)
		require.Error(t, err, bad)
	}
	assert.Equal(t, []string{"192.0.2.7", "2001:db8::7", "sw7"}, SplitAddresses(" 192.0.2.7, 2001:db8::7;sw7 "))
}

func TestARecordSaysWhatIsWrongWithIt(t *testing.T) {
	f := testFleet(t)
	for says, d := range map[string]Device{
		"the name":                     {Name: "a:b", Platform: "tidegate", Addresses: []string{"192.0.2.1"}},
		"Did you mean tidegate":        {Name: "a", Platform: "tidegat", Addresses: []string{"192.0.2.1"}},
		"the address is missing":       {Name: "a", Platform: "tidegate"},
		"at most 8":                    {Name: "a", Platform: "tidegate", Addresses: make([]string, 9)},
		"1 to 20":                      {Name: "a", Platform: "tidegate", Addresses: []string{"192.0.2.1"}, Patience: 21},
		"telnet, console, or left out": {Name: "a", Platform: "tidegate", Addresses: []string{"192.0.2.1"}, Transport: "pigeon"},
		"is no command line":           {Name: "a", Platform: "sounder", Addresses: []string{"192.0.2.1"}, Transport: Telnet},
		"active, paused or retired":    {Name: "a", Platform: "tidegate", Addresses: []string{"192.0.2.1"}, State: "asleep"},
		"a label":                      {Name: "a", Platform: "tidegate", Addresses: []string{"192.0.2.1"}, Labels: []string{"a=b"}},
	} {
		_, err := f.Add(t.Context(), d, "noc")
		require.ErrorIs(t, err, ErrInvalid, says)
		assert.ErrorContains(t, err, says)
	}
	d, err := f.Add(t.Context(), Device{Name: "Front desk switch", Platform: "tidegate", Addresses: []string{"192.0.2.1"}, Transport: Telnet}, "noc")
	require.NoError(t, err, "a name may hold blanks")
	assert.Equal(t, "192.0.2.1:23", d.Address())
	_, err = f.Add(t.Context(), Device{Name: "front DESK switch", Platform: "tidegate", Addresses: []string{"192.0.2.2"}}, "noc")
	require.ErrorIs(t, err, ErrDuplicate)
}

func TestARenamedDeviceIsTheSame(t *testing.T) {
	f := testFleet(t)
	d := add(t, f, "ng-acc-1", "Northgate", "access")
	name, site := "ng-acc-01", "Ness Point"
	got, err := f.Edit(t.Context(), "ng-acc-1", d.Edition, Change{Name: &name, Site: &site}, "noc")
	require.NoError(t, err)
	assert.Equal(t, d.ID, got.ID)
	_, err = f.Edit(t.Context(), "ng-acc-01", d.Edition, Change{Site: &name}, "noc")
	require.ErrorIs(t, err, ErrEdited)
	_, err = f.Get(t.Context(), "ng-acc-1")
	require.ErrorContains(t, err, "ng-acc-01", "the nearest name is offered")
	other := add(t, f, "ng-acc-2", "", "")
	_, err = f.Edit(t.Context(), "ng-acc-2", other.Edition, Change{Name: &name}, "noc")
	require.ErrorIs(t, err, ErrDuplicate)
}

func TestGroupsHoldGroups(t *testing.T) {
	f := testFleet(t)
	add(t, f, "ng-acc-1", "Northgate", "access")
	add(t, f, "ng-edge-1", "Northgate", "edge")
	add(t, f, "dd-edge-1", "Dry Dock", "edge")
	for _, g := range []Group{{Name: "edges", Selector: "role=edge"}, {Name: "all-edges-and-ng", Selector: "group=edges site=*"}, {Name: "a-first", Selector: "group=all-* not site=Northgate"}} {
		require.NoError(t, f.SetGroup(t.Context(), g, "noc"))
	}
	assert.Equal(t, []string{"dd-edge-1", "ng-edge-1"}, names(t, f, "group=edges"))
	assert.Equal(t, []string{"dd-edge-1"}, names(t, f, "group=a-first"))
	assert.Equal(t, []string{"ng-acc-1"}, names(t, f, "not group=edges"))
	groups, err := f.Groups(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []Group{{"a-first", "group=all-* not site=Northgate", "", 1}, {"all-edges-and-ng", "group=edges site=*", "", 2}, {"edges", "role=edge", "", 2}}, groups)

	for _, bad := range []Group{{Name: "edges", Selector: "group=a-first"}, {Name: "edges", Selector: "group=edges"}, {Name: "x", Selector: ""}, {Name: "x", Selector: "group=edgse"}, {Name: "a:b", Selector: "role=edge"}} {
		require.ErrorIs(t, f.SetGroup(t.Context(), bad, "noc"), ErrGroup, "%v", bad)
	}
	require.ErrorIs(t, f.DeleteGroup(t.Context(), "edges", "noc"), ErrGroup, "others are made of it")
	require.NoError(t, f.DeleteGroup(t.Context(), "a-first", "noc"))
	_, err = f.Pick(t.Context(), "group=edgs")
	require.ErrorContains(t, err, "edges")
}

func TestKeysAreAcceptedForMany(t *testing.T) {
	f := testFleet(t)
	for i := range 3 {
		d := add(t, f, fmt.Sprintf("sw-%d", i), "Northgate", "access")
		if i > 0 {
			require.NoError(t, f.db.Write(t.Context(), func(tx *store.Tx) error {
				_, err := tx.Exec(`UPDATE devices SET host_keys = 'old', offered_key = ? WHERE id = ?`, fmt.Sprintf("new %d", i), d.ID)
				return err
			}))
		}
	}
	list, err := f.Trust(t.Context(), "name=sw-1", "replaced on site", false, "noc")
	require.NoError(t, err)
	require.Len(t, list, 1)
	d, err := f.Get(t.Context(), "sw-1")
	require.NoError(t, err)
	assert.Equal(t, []string{"new 1"}, d.HostKeys)
	assert.Empty(t, d.OfferedKey)
	_, err = f.Trust(t.Context(), "site=Northgate", "both members of the pair", true, "noc")
	require.NoError(t, err)
	d, err = f.Get(t.Context(), "sw-2")
	require.NoError(t, err)
	assert.Equal(t, []string{"old", "new 2"}, d.HostKeys)
	_, err = f.Trust(t.Context(), "site=Northgate", "", false, "noc")
	require.ErrorIs(t, err, ErrNoKey)
}

func TestASpareTakesOver(t *testing.T) {
	f := testFleet(t)
	add(t, f, "ng-acc-1", "Northgate", "access")
	d, err := f.Replace(context.Background(), "ng-acc-1", "TG-999", "burnt out", "noc")
	require.NoError(t, err)
	assert.Equal(t, "TG-999", d.Nameplate.Serial)
	assert.Empty(t, d.HostKeys)
}

func TestFreshnessIsWhatWasPromised(t *testing.T) {
	due := []time.Time{monday.Add(-time.Hour), monday.Add(-25 * time.Hour), monday.Add(-49 * time.Hour), monday.Add(-73 * time.Hour)}
	for age, want := range map[time.Duration]Freshness{0: Fresh, 30 * time.Minute: Fresh, 2 * time.Hour: Late, 30 * time.Hour: Late, 50 * time.Hour: Stale} {
		assert.Equal(t, want, freshness(&Device{LastGood: monday.Add(-age)}, due), "%s", age)
	}
	assert.Equal(t, NoCapture, freshness(&Device{}, due))
	assert.Equal(t, Fresh, freshness(&Device{LastGood: monday.AddDate(-1, 0, 0)}, nil), "nothing was promised")
}

func FuzzParseHours(f *testing.F) {
	for _, s := range []string{"11:00-12:00", "07:00-16:00 Mon-Fri", "22:00-05:00 Sat-Sun", "24:00-25:00", "", "-"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if _, err := ParseHours(s); err != nil {
			return
		}
		where := Site{Closed: []string{s}, Zone: "UTC"}
		closed := 0
		for minute := range 7 * 24 * 60 {
			if where.IsClosed(monday.Add(time.Duration(minute) * time.Minute)) {
				closed++
			}
		}
		if closed == 0 {
			t.Fatalf("%q are hours, and no minute of the week is in them", s)
		}
	})
}
