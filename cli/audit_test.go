package cli_test

import (
	"encoding/json"
	"encoding/xml"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/demo"
)

// audits runs the commands about what should be, as somebody who may do everything.
func audits(t *testing.T, d *demo.Demo) {
	dir := t.TempDir()
	lead := shell{t, map[string]string{"VERGEKEEP_LOGIN": filepath.Join(dir, "login.json")}}
	lead.run("a-long-password\n", "login", d.Daemon.URL, "--account", "lead")
	split := func(line string) []string {
		args := words(line)
		for i := range args {
			args[i] = strings.ReplaceAll(args[i], "|", " ")
		}
		return args
	}
	numbers := regexp.MustCompile(`#\d+`)
	numbered := regexp.MustCompile(`\b(find|chang)(ing|e) \d+`)
	for _, c := range []struct {
		name   string
		status int
		args   string
	}{
		{"audit", 1, "audit -s name=np-acc-2"},
		{"audit-fine", 0, "audit -s name=t05-rt-1"},
		{"audit-score", 0, "audit score --by control"},
		{"audit-results", 0, "audit results t07-rt-1"},
		{"drift", 1, "drift list --drifted -s role=firewall|role=core"},
		{"finding-list", 1, "finding list --rule ticket-office"},
		{"finding-control", 1, "finding list --control IA-5(1)"},
		{"finding-waived", 0, "finding list --state waived"},
		{"finding-high", 1, "finding list --severity high -s site=\"Ness|Point\" --format csv"},
		{"waiver-list", 0, "waiver list"},
		{"policy-list", 0, "policy list --format csv"},
		{"policy-test", 0, "policy test ../core/audit/builtin/management-plane.yaml ../core/audit/builtin/keeping.yaml"},
		{"policy-check", 0, "policy check ../core/audit/builtin/keeping.yaml"},
		{"standard-list", 0, "standard list"},
		{"standard-compare", 1, "standard compare t07-rt-1"},
		{"standard-rendered", 0, "show t07-rt-1@standard"},
		{"standard-derive", 0, "standard derive role=office --id offices -o DIR/offices.yaml"},
		{"standard-from", 0, "standard from np-acc-2@1 --only interface|port1/24 --only time --only location|** --applies role=access"},
		{"standard-check", 0, "standard check DIR/offices.yaml"},
		{"standard-try", 0, "standard try DIR/offices.yaml"},
		{"standard-set", 0, "standard set DIR/offices.yaml --yes"},
		{"standard-delete", 0, "standard delete offices"},
		{"bless-try", 0, "baseline bless role=firewall --try"},
		{"waiver-grant", 0, "waiver grant --rule access-switch/time -s name=np-acc-2 --until 2099-01-01 --reason being|moved --approved lead"},
	} {
		t.Run(c.name, func(t *testing.T) {
			status, out, said := lead.run("", split(strings.ReplaceAll(c.args, "DIR", dir))...)
			if c.name == "waiver-grant" { // nobody may waive for so long
				assert.Equal(t, 2, status)
				assert.Contains(t, said, "longer than two years")
				return
			}
			assert.Equal(t, c.status, status, said)
			out = numbered.ReplaceAllString(numbers.ReplaceAllString(out, "#N"), "$1$2 N")
			golden(t, c.name, strings.ReplaceAll(out, dir, "DIR"))
		})
	}
	_, out, _ := lead.run("", "--format", "json", "finding", "list", "--rule", "ticket-office/time")
	var page struct{ Items []struct{ ID int64 } }
	require.NoError(t, json.Unmarshal([]byte(out), &page))
	require.Len(t, page.Items, 1)
	id := regexp.MustCompile(`"id": (\d+)`).FindStringSubmatch(out)[1]
	status, out, said := lead.run("", "finding", "show", id)
	require.Zero(t, status, said)
	golden(t, "finding-show", numbers.ReplaceAllString(out, "#N"))
	status, _, said = lead.run("", "finding", "note", id, "--owner", "neteng")
	require.Zero(t, status, said)
	_, out, _ = lead.run("", "finding", "list", "--owner", "neteng", "--rule", "ticket-office")
	assert.Contains(t, out, "t07-rt-1")

	for _, c := range []struct{ args, says string }{
		{"audit nothing.cfg", "nothing to hold them against"},
		{"audit --policy nowhere x.cfg", "no such file"},
		{"audit --policy ../core/audit/builtin", "a file to audit is missing"},
		{"audit -s name=nobody", "matches no device"},
		{"audit score --by colour", "by"},
		{"audit results nobody", "no such device"},
		{"finding show x", "is no number"},
		{"finding show 999999", "no such finding"},
		{"finding list --state lost", "state"},
		{"finding note 1", "error"},
		{"waiver grant --rule nothing/x --until 2027-01-01 --reason x --approved y", "no policy or standard"},
		{"waiver grant 1 --until soon --reason x --approved y", "is no day"},
		{"waiver grant 1 --rule a/b --until 2027-01-01 --reason x --approved y", "either one finding or --rule"},
		{"waiver revoke 99", "none of that name"},
		{"policy show nothing", "none of that name"},
		{"policy set ../core/audit/testdata/faulty.yaml --yes", "faulty.yaml:7:5: rules.0.sevrity"},
		{"policy check ../core/audit/testdata/faulty.yaml", "Did you mean severity?"},
		{"policy delete nothing", "none of that name"},
		{"standard compare nobody", "no such device"},
		{"standard compare hh-core-1", "no standard is for"},
		{"standard derive role=nothing", "matches no device"},
		{"standard from np-acc-2 --only nothing", "has nothing that those patterns find"},
		{"standard from np-acc-2 --only a|>|", "a step of the path is empty"},
		{"standard from nobody", "no such device"},
		{"standard from t07-rt-1@standard", "name a revision"},
		{"standard derive site=Northgate", "others are of"},
		{"standard value ticket-office t07-rt-1 x=y", "no slot"},
		{"baseline bless name=nobody --try", "matches no device"},
		{"show hh-core-1@standard", "no standard is for"},
	} {
		if c.says == "error" {
			continue
		}
		status, out, said := lead.run("", split(c.args)...)
		assert.Equal(t, 2, status, c.args)
		assert.Empty(t, out, c.args)
		assert.Contains(t, said, c.says, c.args)
	}
}

func TestAuditOfFiles(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "ng-acc-1.cfg")
	require.NoError(t, os.WriteFile(file, []byte("configuration of ng-acc-1, changed 2026-11-20 by noc\nname ng-acc-1\naccess\n  ssh\n  telnet\n  permit MGMT\nlog\n  server 192.0.2.40\nend of configuration\n"), 0o600))
	s := shell{t, map[string]string{"VERGEKEEP_LOGIN": filepath.Join(dir, "login.json")}}
	policy := "../core/audit/builtin/management-plane.yaml"
	status, out, said := s.run("", "audit", "--policy", policy, "--standard", "../demo/standards", "--field", "role=access", "--field", "site=Northgate", file)
	assert.Equal(t, 1, status, said)
	golden(t, "audit-files", strings.ReplaceAll(out, dir, "DIR"))

	status, out, said = s.run("", "audit", "--policy", policy, "--output", "sarif", file)
	assert.Equal(t, 1, status, said)
	var sarif struct {
		Version string
		Runs    []struct {
			Results []struct {
				RuleID, Kind, Level string
				Locations           []struct {
					PhysicalLocation struct{ Region struct{ StartLine int } }
				}
			}
		}
	}
	require.NoError(t, json.Unmarshal([]byte(out), &sarif))
	assert.Equal(t, "2.1.0", sarif.Version)
	found := false
	for _, r := range sarif.Runs[0].Results {
		if r.RuleID == "management-plane/encrypted-access" {
			found = true
			assert.Equal(t, "fail", r.Kind)
			assert.Equal(t, "error", r.Level)
			assert.Equal(t, 5, r.Locations[0].PhysicalLocation.Region.StartLine)
		}
	}
	assert.True(t, found)

	// Files that are audited together are held against each other too.
	unique := filepath.Join(dir, "unique.yaml")
	require.NoError(t, os.WriteFile(unique, []byte("language: 1\npolicy: u\ntitle: U\nrules:\n  - { id: address, title: Addresses are unique, severity: high, on: { tidegate: { for-each: ['interface {port} > address {address}'], unique: address } } }\n"), 0o600))
	for name, address := range map[string]string{"a": "192.0.2.1/24", "b": "192.0.2.1/24", "c": "192.0.2.3/24"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name+".cfg"), []byte("configuration of x, changed 2026-11-20 by noc\nname "+name+"\ninterface lan1\n  address "+address+"\nend of configuration\n"), 0o600))
	}
	status, out, said = s.run("", "audit", "--policy", unique, filepath.Join(dir, "a.cfg"), filepath.Join(dir, "b.cfg"), filepath.Join(dir, "c.cfg"))
	assert.Equal(t, 1, status, said)
	assert.Contains(t, out, "192.0.2.1/24 is on b too")
	assert.Contains(t, out, "192.0.2.1/24 is on a too")
	assert.Contains(t, out, "1 hold, 2 do not")

	status, out, said = s.run("", "audit", "--policy", policy, "--output", "junit", file)
	assert.Equal(t, 1, status, said)
	var junit struct {
		Tests    int `xml:"tests,attr"`
		Failures int `xml:"failures,attr"`
		Suites   []struct {
			Cases []struct {
				Name string `xml:"name,attr"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	require.NoError(t, xml.Unmarshal([]byte(out), &junit))
	assert.Equal(t, 11, junit.Tests)
	assert.Len(t, junit.Suites[0].Cases, 11)
	assert.Positive(t, junit.Failures)

	// A pipeline that finds nothing goes on.
	good := filepath.Join(dir, "p.yaml")
	require.NoError(t, os.WriteFile(good, []byte("language: 1\npolicy: p\ntitle: P\nrules:\n  - { id: log, title: Logs, severity: low, check: { count: { of: '@log-server', at-least: 1 } } }\n"), 0o600))
	status, out, said = s.run("", "audit", "--policy", good, file)
	assert.Zero(t, status, said)
	assert.Equal(t, "1 hold, 0 do not, 0 cannot be decided, 0 do not apply.\n", out)

	unknown := filepath.Join(dir, "x.cfg")
	require.NoError(t, os.WriteFile(unknown, []byte("hello\n"), 0o600))
	status, _, said = s.run("", "audit", "--policy", good, unknown)
	assert.Equal(t, 2, status)
	assert.Contains(t, said, "name --platform")
}
