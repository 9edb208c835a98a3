package standard

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vergekeep/core/audit"
	"vergekeep/core/dialect"
	"vergekeep/core/form"
)

func dialects(t require.TestingT) dialect.Set {
	set, err := dialect.Load()
	require.NoError(t, err)
	return set
}

const access = `language: 1
standard: access-switch
title: Access switches
applies: role=access
platform: tidegate
slots:
  name: { field: name }
  ntp: { type: address, by: site, table: { Northgate: 192.0.2.1, "Ness Point": 192.0.2.2 } }
  vlan: { type: number, min: 1, max: 4094 }
  contact: { type: any }
sections:
  - id: identity
    is: at-least
    text: |
      name ${name}
      domain skerry.example
  - id: time
    text: |
      time
        server ${ntp}
        zone Europe/Oslo
  - id: mgmt
    text: |
      access-list MGMT
        10 permit 192.0.2.0/24
        20 permit 203.0.113.0/28
        90 deny any
  - id: agent
    is: at-least
    text: |
      agent
        contact ${contact}
  - id: no-telnet
    is: absent
    severity: high
    text: |
      access
        telnet
  - id: access-ports
    each: ['interface {port}']
    where: { has: ['> lan access *'] }
    text: |
      interface ${port}
        description to ${contact}
        lan access ${vlan}
        spanning edge
  - id: snow
    optional: true
    text: |
      snow
        depth 3
`

const device = `name ng-acc-1
domain skerry.example
clock-drift 0.3
agent
  community k33p read
  contact noc
access-list MGMT
  10 permit 192.0.2.0/24
  20 permit 203.0.113.0/28
  90 deny any
interface port1
  description to noc
  lan access 10
  spanning edge
interface port2
  description to noc
  lan access 10
  spanning edge
interface up
  lan trunk 10,20
time
  server 192.0.2.1
  zone Europe/Oslo
access
  ssh
`

var at = audit.File{Name: "ng-acc-1", Platform: "tidegate", Fields: map[string][]string{"site": {"Northgate"}, "role": {"access"}}}

func compare(t require.TestingT, file, text string, of audit.Subject) Result {
	set := dialects(t)
	s, err := Parse("access.yaml", file, set)
	require.NoError(t, err)
	return s.Compare(Input{Subject: of, View: set[s.Platform].View(text)})
}

// said is all that deviates: section, kind, line, and what.
func said(r Result) (list []string) {
	for _, s := range r.Sections {
		for _, d := range s.Deviations {
			list = append(list, fmt.Sprintf("%s %s %d %s|%s", s.Section.ID, d.Kind, d.Line, d.Want, d.Have))
		}
	}
	return list
}

func TestDisturbances(t *testing.T) {
	require.Empty(t, said(compare(t, access, device, at)))
	agreed, lines := func() (int, int) { r := compare(t, access, device, at); return r.Share() }()
	assert.Equal(t, lines, agreed)
	for name, c := range map[string]struct {
		old, with string
		want      []string
	}{
		"lacking":                   {"  zone Europe/Oslo\n", "", []string{"time lacking 21 zone Europe/Oslo|"}},
		"surplus":                   {"  zone Europe/Oslo\n", "  zone Europe/Oslo\n  server 198.51.100.9\n", []string{"time surplus 24 |server 198.51.100.9"}},
		"altered":                   {"  zone Europe/Oslo\n", "  zone UTC\n", []string{"time altered 23 zone Europe/Oslo|zone UTC"}},
		"altered where alone":       {"  server 192.0.2.1\n", "  server 192.0.2.66\n", []string{"time altered 22 server 192.0.2.1|server 192.0.2.66"}},
		"moved where order counts":  {"  10 permit 192.0.2.0/24\n  20 permit 203.0.113.0/28\n  90 deny any\n", "  90 deny any\n  10 permit 192.0.2.0/24\n  20 permit 203.0.113.0/28\n", []string{"mgmt moved 8 90 deny any|90 deny any"}},
		"moved where it does not":   {"  server 192.0.2.1\n  zone Europe/Oslo\n", "  zone Europe/Oslo\n  server 192.0.2.1\n", nil},
		"what must not be there":    {"access\n  ssh\n", "access\n  ssh\n  telnet\n", []string{"no-telnet surplus 26 |telnet"}},
		"in one of each":            {"interface port2\n  description to noc\n  lan access 10\n  spanning edge\n", "interface port2\n  description to noc\n  lan access 10\n", []string{"access-ports lacking 15 spanning edge|"}},
		"a slot that has another":   {"interface port2\n  description to noc\n  lan access 10\n", "interface port2\n  description to noc\n  lan access 20\n", nil},
		"a slot known from before":  {"interface port2\n  description to noc\n", "interface port2\n  description to nobody\n", []string{"access-ports altered 16 description to noc|description to nobody"}},
		"a slot of another type":    {"lan access 10\n  spanning edge\ninterface port2\n  description to noc\n  lan access 10", "lan access x\n  spanning edge\ninterface port2\n  description to noc\n  lan access 10", []string{"access-ports altered 13 lan access ${vlan}|lan access x"}},
		"a value of the device":     {"name ng-acc-1\n", "name ng-acc-2\n", []string{"identity altered 1 name ng-acc-1|name ng-acc-2"}},
		"a section":                 {"time\n  server 192.0.2.1\n  zone Europe/Oslo\n", "", []string{"time lacking 0 time\n  server 192.0.2.1\n  zone Europe/Oslo|"}},
		"what changes by itself":    {"clock-drift 0.3\n", "clock-drift 0.9\n", nil},
		"a section that is no part": {"access\n", "weather\n  wind 3\naccess\n", nil},
		"part of what is optional":  {"access\n", "snow\n  depth 4\naccess\n", []string{"snow altered 25 depth 3|depth 4"}},
	} {
		t.Run(name, func(t *testing.T) {
			require.Contains(t, device, c.old)
			changed := strings.Replace(device, c.old, c.with, 1)
			r := compare(t, access, changed, at)
			got := said(r)
			slices.Sort(got)
			assert.Equal(t, c.want, got)
			for _, s := range r.Sections {
				for _, d := range s.Deviations {
					if d.Have != "" { // a line number points at the line
						assert.Equal(t, d.Have, strings.TrimSpace(strings.Split(changed, "\n")[d.Line-1]))
					}
					if d.WantLine > 0 && !strings.Contains(d.Want, "\n") && d.Want != "" {
						word, _, _ := strings.Cut(d.Want, " ")
						assert.Contains(t, strings.Split(access, "\n")[d.WantLine-1], word)
					}
				}
			}
		})
	}
}

func TestASlotWithoutAValueIsUndecidable(t *testing.T) {
	r := compare(t, access, device, audit.File{Name: "ng-acc-1", Fields: map[string][]string{"site": {"Dry Dock"}}})
	for _, s := range r.Sections {
		if s.Section.ID == "time" {
			assert.Equal(t, audit.Undecidable, s.Outcome)
			assert.Contains(t, s.Why, "no value for ntp")
		}
	}
}

func TestWhatIsNoStandard(t *testing.T) {
	for name, c := range map[string]struct{ old, with, says string }{
		"unknown slot":      {"server ${ntp}", "server ${ntpp}", "access.yaml:20:16: sections.1.text: there is no slot \"ntpp\""},
		"open slot":         {"server ${ntp}", "server ${ntp", "is not closed"},
		"used elsewhere":    {"contact ${contact}\n  - id: no", "contact noc\n  - id: no", ""},
		"unused slot":       {"  contact: {", "  spare: { type: any }\n  contact: {", "nothing uses the slot"},
		"open like another": {"spanning edge", "spanning ${port", "access.yaml:46:18: sections.5.text: the slot \"${port\" is not closed"},
		"no dialect":        {"platform: tidegate", "platform: tidgate", "Did you mean tidegate?"},
		"a wrong value":     {"Northgate: 192.0.2.1", "Northgate: 192.0.2", "is no address"},
		"twice":             {"id: mgmt", "id: time", "another section"},
		"selector":          {"applies: role=access", "applies: rule=access", "Did you mean role?"},
		"no such mode":      {"is: absent", "is: gone", "must be one of"},
		"two sources":       {"{ field: name }", "{ field: name, value: x }", "at most one"},
		"pattern of each":   {"['interface {port}']", "['interface {}']", "a capture has no name"},
		"what each lacks":   {"${port}", "${prt}", "no slot \"prt\""},
		"a table by nobody": {"by: site", "by: sight", "no field of a device"},
	} {
		t.Run(name, func(t *testing.T) {
			require.Contains(t, access, c.old)
			_, err := Parse("access.yaml", strings.Replace(access, c.old, c.with, 1), dialects(t))
			if c.says == "" {
				require.NoError(t, err)
				return
			}
			var wrong *form.Error
			require.ErrorAs(t, err, &wrong)
			assert.ErrorContains(t, err, c.says)
		})
	}
}

// TestADeviceMadeFromAStandardHasNoDrift fills the slots at random and disturbs the
// result at random.
func TestADeviceMadeFromAStandardHasNoDrift(t *testing.T) {
	set := dialects(t)
	s, err := Parse("access.yaml", access, set)
	require.NoError(t, err)
	rapid.Check(t, func(t *rapid.T) {
		of := audit.File{Name: rapid.StringMatching(`[a-z]{2}-acc-[0-9]`).Draw(t, "name"), Fields: map[string][]string{"site": {rapid.SampledFrom([]string{"Northgate", "Ness Point"}).Draw(t, "site")}}}
		vlan := fmt.Sprint(rapid.IntRange(1, 4094).Draw(t, "vlan"))
		contact := rapid.StringMatching(`[a-z]{1,8}( [a-z]{1,8}){0,2}`).Draw(t, "contact")
		ports := rapid.SliceOfNDistinct(rapid.StringMatching(`p[0-9]{1,3}`), 1, 5, func(s string) string { return s }).Draw(t, "ports")
		skeleton := "agent\n  contact " + contact + "\n"
		for _, p := range ports {
			skeleton += "interface " + p + "\n  lan access " + vlan + "\n"
		}
		text := s.Render(Input{Subject: of, View: set["tidegate"].View(skeleton)})
		text = strings.Replace(text, "snow\n  depth 3\n", "", 1)
		lines := strings.SplitAfter(strings.TrimSuffix(text, "\n"), "\n")
		r := s.Compare(Input{Subject: of, View: set["tidegate"].View(text)})
		require.Empty(t, said(r), text)
		// One line is taken away: exactly it is lacking, in the section that it is of.
		at := rapid.IntRange(0, len(lines)-1).Draw(t, "line")
		gone := strings.TrimSpace(lines[at])
		if !strings.HasPrefix(lines[at], " ") || strings.HasPrefix(gone, "lan access") {
			return // of a heading all below is another's
		}
		without := strings.Join(slices.Concat(lines[:at], lines[at+1:]), "")
		got := said(s.Compare(Input{Subject: of, View: set["tidegate"].View(without)}))
		require.Len(t, got, 1, without)
		require.Contains(t, got[0], "lacking")
		if !strings.HasPrefix(gone, "contact") {
			require.Contains(t, got[0], gone)
		}
	})
}

func TestOtherSyntaxes(t *testing.T) {
	for name, c := range map[string]struct {
		platform, section, good, bad string
		want                         []string
	}{
		"braces": {"capstan", "system {\n  clock {\n    zone ${z};\n    source 192.0.2.1;\n  }\n}\n",
			"system {\n    name a;\n    clock {\n        source 192.0.2.1;\n        zone UTC;\n    }\n}\n",
			"system {\n    name a;\n    clock {\n        source 192.0.2.7;\n        zone UTC;\n    }\n}\n", []string{"x altered 4 source 192.0.2.1;|source 192.0.2.7;"}},
		"flat": {"coaming", "lay rules in rule 10 pass from a to ${z}\nlay rules in rule 20 drop from any to any\n",
			"lay port p1 note a\nlay rules in rule 10 pass from a to b\nlay rules in rule 20 drop from any to any\n",
			"lay rules in rule 20 drop from any to any\nlay port p1 note a\nlay rules in rule 10 pass from a to b\nlay rules in rule 15 pass from b to a\n",
			[]string{"x moved 3 lay rules in rule 10 pass from a to b|lay rules in rule 10 pass from a to b", "x surplus 4 |lay rules in rule 15 pass from b to a"}},
		"xml": {"sounder", "<router>\n  <time>\n    <server>192.0.2.1</server>\n    <zone>${z}</zone>\n  </time>\n</router>\n",
			"<router>\n  <name>x</name>\n  <time>\n    <server>192.0.2.1</server>\n    <zone>UTC</zone>\n  </time>\n</router>\n",
			"<router>\n  <name>x</name>\n  <time>\n    <server>192.0.2.1</server>\n    <server>192.0.2.9</server>\n    <zone>UTC</zone>\n  </time>\n</router>\n",
			[]string{"x surplus 5 |<server>192.0.2.9</server>"}},
	} {
		t.Run(name, func(t *testing.T) {
			file := fmt.Sprintf("language: 1\nstandard: s\ntitle: S\nplatform: %s\nslots:\n  z:\nsections:\n  - id: x\n    text: |\n      %s", c.platform, strings.ReplaceAll(strings.TrimSuffix(c.section, "\n"), "\n", "\n      ")+"\n")
			assert.Empty(t, said(compare(t, file, c.good, at)))
			got := said(compare(t, file, c.bad, at))
			slices.Sort(got)
			assert.Equal(t, c.want, got)
		})
	}
}

func TestMaskedSecretsStandForAny(t *testing.T) {
	file := "language: 1\nstandard: s\ntitle: S\nplatform: tidegate\nsections:\n  - id: x\n    text: |\n      raise secret ●●●●●●●●\n  - id: y\n    is: at-least\n    text: |\n      radius 192.0.2.30\n        key guess\n"
	r := compare(t, file, "raise secret one\nradius 192.0.2.30\n  key guess\n", at)
	assert.Equal(t, audit.Pass, r.Sections[0].Outcome)
	assert.Equal(t, audit.Fail, r.Sections[1].Outcome, "a guess in a standard tells nothing")
	assert.NotContains(t, fmt.Sprint(r.Sections[1].Deviations), "guess|")
}

func FuzzParseStandard(f *testing.F) {
	f.Add(access, device)
	f.Add("language: 1\nstandard: s\ntitle: S\nplatform: sounder\nslots:\n  z:\nsections:\n  - id: x\n    text: |\n      <a><b>${z}</b></a>\n", "<a><b>1</b></a>\n")
	set := dialects(f)
	f.Fuzz(func(t *testing.T, file, text string) {
		s, err := Parse("s.yaml", file, set)
		var wrong *form.Error
		if err != nil && !errors.As(err, &wrong) {
			t.Fatalf("an error without file and line: %v", err)
		}
		if err == nil {
			in := Input{Subject: at, View: set[s.Platform].View(text)}
			r := s.Compare(in)
			s.Render(in)
			if agreed, lines := r.Share(); agreed > lines {
				t.Fatalf("%d of %d lines agree", agreed, lines)
			}
		}
	})
}
