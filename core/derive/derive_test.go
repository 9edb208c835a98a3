package derive

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/core/audit"
	"vergekeep/core/dialect"
	"vergekeep/core/pattern"
	"vergekeep/core/standard"
	"vergekeep/standin/scenario"
)

// class is the devices of Skerry Line with a role, as members.
func class(t testing.TB, d *dialect.Dialect, role, part string) []Member {
	var list []Member
	for _, e := range scenario.New().Entries {
		if e.Role == role && string(e.Device.Platform) == d.Name {
			of := audit.File{Name: e.Device.Name, Platform: d.Name, Fields: map[string][]string{"site": {e.Site}, "role": {e.Role}}}
			list = append(list, Member{e.Device.Name, of, d.View(e.Device.Config[part])})
		}
	}
	require.NotEmpty(t, list)
	return list
}

func TestTheOddOneOut(t *testing.T) {
	set, err := dialect.Load()
	require.NoError(t, err)
	d := set["sounder"]
	members := class(t, d, "office", "")
	require.Len(t, members, 20)
	odd := strings.NewReplacer("<mtu>1500</mtu>", "<mtu>1400</mtu>", "<server>192.0.2.2</server>", "<server>198.51.100.9</server>", "<level>notice</level>", "<level>debug</level>")
	members[6].View = d.View(odd.Replace(members[6].View.Tree.Source))
	draft, err := From(members, d, Options{ID: "ticket-office", Title: "Ticket offices", Applies: "role=office"})
	require.NoError(t, err)
	require.Len(t, draft.Odd, 1, draft.Text)
	assert.Equal(t, "t07-rt-1", draft.Odd[0].Device)
	var said []string
	for _, x := range draft.Odd[0].Deviations {
		said = append(said, fmt.Sprintf("%s %s %s with %d, %.1f bits", x.Kind, x.Want, x.Have, x.With, x.Unusual))
	}
	assert.Equal(t, []string{
		"altered <mtu>1500</mtu> <mtu>1400</mtu> with 1, 4.3 bits", "altered <mtu>1500</mtu> <mtu>1400</mtu> with 1, 4.3 bits", "altered <mtu>1500</mtu> <mtu>1400</mtu> with 1, 4.3 bits",
		"altered <server>192.0.2.2</server> <server>198.51.100.9</server> with 1, 4.3 bits", "altered <level>notice</level> <level>debug</level> with 1, 4.3 bits",
	}, said)
	assert.Contains(t, draft.Text, "wan0-address: {type: prefix}")
	assert.Contains(t, draft.Text, "own-name: {field: name}")

	// The same devices in another order give the same.
	shuffled := append([]Member(nil), members...)
	for i := 1; i < len(shuffled); i++ { // the first sets the order of lines
		j := 1 + rand.IntN(len(shuffled)-1)
		shuffled[i], shuffled[j] = shuffled[j], shuffled[i]
	}
	again, err := From(shuffled, d, Options{ID: "ticket-office", Title: "Ticket offices", Applies: "role=office"})
	require.NoError(t, err)
	assert.Equal(t, draft.Text, again.Text)
}

// TestADraftAcceptsWhereItCameFrom holds for every class of Skerry Line: whoever is
// not named as odd has no drift.
func TestADraftAcceptsWhereItCameFrom(t *testing.T) {
	set, err := dialect.Load()
	require.NoError(t, err)
	for _, c := range []struct{ platform, role, part string }{
		{"sounder", "office", ""}, {"tidegate", "access", ""}, {"tidegate", "edge", ""}, {"tidegate", "vessel-router", ""}, {"tidegate", "vessel-switch", ""},
		{"capstan", "core", ""}, {"coaming", "firewall", "main"}, {"coaming", "firewall", "guests"},
	} {
		t.Run(c.role+c.part, func(t *testing.T) {
			d := set[c.platform]
			members := class(t, d, c.role, c.part)
			draft, err := From(members, d, Options{})
			require.NoError(t, err)
			s, err := standard.Parse("derived.yaml", draft.Text, set)
			require.NoError(t, err, draft.Text)
			odd := map[string]bool{}
			for _, o := range draft.Odd {
				odd[o.Device] = true
			}
			assert.Less(t, len(odd), (len(members)+1)/2, "%s\n%v", draft.Text, draft.Odd)
			for _, m := range members {
				r := s.Compare(standard.Input{Subject: m.Subject, View: m.View})
				for _, sec := range r.Sections {
					if !odd[m.Name] {
						assert.Equal(t, audit.Pass, sec.Outcome, "%s %s: %s\n%s", m.Name, sec.Section.ID, sec.Why, draft.Text)
					}
				}
			}
		})
	}
}

// TestOneGoodDevice holds for every device of Skerry Line: it has what is drafted from
// it, and for another the slots say what is its own.
func TestOneGoodDevice(t *testing.T) {
	set, err := dialect.Load()
	require.NoError(t, err)
	for _, c := range []struct{ platform, role, part string }{
		{"sounder", "office", ""}, {"tidegate", "access", ""}, {"tidegate", "edge", ""}, {"capstan", "core", ""}, {"coaming", "firewall", "main"},
	} {
		d := set[c.platform]
		for _, m := range class(t, d, c.role, c.part) {
			draft, err := One(m, d, nil, Options{})
			require.NoError(t, err, m.Name)
			s, err := standard.Parse("x.yaml", draft.Text, set)
			require.NoError(t, err, draft.Text)
			for _, sec := range s.Compare(standard.Input{Subject: m.Subject, View: m.View}).Sections {
				assert.Equal(t, audit.Pass, sec.Outcome, "%s %s: %s\n%s", m.Name, sec.Section.ID, sec.Why, draft.Text)
			}
			assert.Empty(t, draft.Odd)
		}
	}
}

func TestChosenSections(t *testing.T) {
	set, err := dialect.Load()
	require.NoError(t, err)
	d := set["tidegate"]
	m := Member{"np-acc-2", audit.File{Name: "np-acc-2", Platform: "tidegate", Fields: map[string][]string{"site": {"Ness Point"}, "address": {"192.0.2.7:22", "192.0.2.7"}}},
		d.View("name np-acc-2\nlocation \"Ness Point\"\ntime\n  server 192.0.2.30\n  from 192.0.2.7\ninterface lan1\n  description np-acc-2 to all\n  address 192.0.2.7/24\n  peer 203.0.113.4/31\n  route 198.51.100.0/24\n  mtu 1500\ninterface lan2\n  mtu 9000\n")}
	only := func(sources ...string) (list []*pattern.Pattern) {
		for _, x := range sources {
			p, err := pattern.Compile(x)
			require.NoError(t, err)
			list = append(list, p)
		}
		return list
	}
	draft, err := One(m, d, only("time", "interface lan1", "interface lan2 > mtu *", "location **"), Options{ID: "np", Applies: "role=access"})
	require.NoError(t, err)
	assert.Equal(t, `language: 1
standard: np
title: "As np-acc-2 has it"
applies: "role=access"
platform: tidegate
slots:
  own-name: {field: name}
  lan1-address: {type: prefix}
  lan1-peer: {type: prefix}
  location: {field: site}
  time-from: {type: address}
sections:
  - id: lines
    is: at-least
    text: |
      location "${location}"
  - id: time
    is: exactly
    text: |
      time
        server 192.0.2.30
        from ${time-from}
  - id: interface-lan1
    is: exactly
    text: |
      interface lan1
        description ${own-name} to all
        address ${lan1-address}
        peer ${lan1-peer}
        route 198.51.100.0/24
        mtu 1500
  - id: interface-lan2
    is: at-least
    text: |
      interface lan2
        mtu 9000
`, draft.Text)
	_, err = One(m, d, only("nothing *"), Options{})
	require.ErrorIs(t, err, ErrDerive)
}
