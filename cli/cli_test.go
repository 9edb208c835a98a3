package cli_test

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"vergekeep/cli"
	"vergekeep/demo"
)

// shell runs command lines against one demonstration.
type shell struct {
	t   *testing.T
	env map[string]string
}

func (s shell) run(stdin string, args ...string) (status int, out, err string) {
	var o, e bytes.Buffer
	status = cli.Run(s.t.Context(), cli.Console{In: strings.NewReader(stdin), Out: &o, Err: &e, Env: func(k string) string { return s.env[k] }}, append([]string{"vergekeep"}, args...), "test")
	return status, o.String(), e.String()
}

// tables keeps what differs from one run to the next out of a golden file.
var tables = []struct{ re, with string }{
	{`127\.0\.0\.1:\d+`, "127.0.0.1:PORT"},
	{`SHA256:[A-Za-z0-9+/]{43}`, "SHA256:KEY"},
	{`(today|yesterday|\d{1,2} [A-Z][a-z]{2}) \d\d:\d\d`, "TIME"},
	{`\d{1,2} [A-Z][a-z]{2} \d{4}`, "TIME"},
	{`(Mon|Tue|Wed|Thu|Fri|Sat|Sun) `, ""},
	{`TIME [A-Z]{3,4}\b`, "TIME"},
	{`\d{4}-\d\d-\d\d \d\d:\d\d(:\d\d)?`, "TIMESTAMP"},
	{`for \d+ (minutes?|hours?|days?)`, "for LONG"},
	{`took [0-9.]+m?s`, "took LONG"},
	{`after [0-9.]+m?s`, "after LONG"},
	{`\d+ ms  `, "N ms  "},
	{`\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ`, "TIMESTAMP"},
	{`Round \d+`, "Round N"},
	{` {2,}`, "  "},
}

func golden(t *testing.T, name, got string) {
	for _, x := range tables {
		got = regexp.MustCompile(x.re).ReplaceAllString(got, x.with)
	}
	path := filepath.Join("testdata", name+".txt")
	if os.Getenv("UPDATE") != "" {
		require.NoError(t, os.MkdirAll("testdata", 0o755))
		require.NoError(t, os.WriteFile(path, []byte(got), 0o644))
	}
	want, err := os.ReadFile(path)
	require.NoError(t, err, "UPDATE=1 go test ./cli makes it")
	assert.Equal(t, string(want), got)
}

// words cuts a command line at blanks; a bar is a blank within a word.
func words(line string) []string {
	list := strings.Fields(line)
	for i, w := range list {
		list[i] = strings.ReplaceAll(w, "|", " ")
	}
	return list
}

func TestCommandLine(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	d, err := demo.Start(ctx, demo.Options{Listen: "127.0.0.1:0", Password: "a-long-password", Quiet: true, Version: "test", Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Out: io.Discard})
	require.NoError(t, err)
	served := make(chan error, 1)
	go func() { served <- d.Run(ctx, true) }()
	t.Cleanup(func() {
		cancel()
		assert.NoError(t, <-served)
		assert.NoError(t, d.Close())
	})
	for _, e := range d.Network.Entries {
		e.Device.SetDelay(0)
	}
	login := filepath.Join(t.TempDir(), "login.json")
	noc := shell{t, map[string]string{"VERGEKEEP_LOGIN": login}}
	status, out, said := noc.run("a-long-password\n", "login", d.Daemon.URL, "--account", "noc")
	require.Zero(t, status, said)
	assert.Contains(t, out, "as noc")
	info, err := os.Stat(login)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	for _, c := range []struct {
		name   string
		status int
		args   string
	}{
		{"device-list-problems", 0, "device list not freshness=fresh"},
		{"device-show", 0, "device show dd-acc-1"},
		{"history", 0, "history hh-dist-1"},
		{"diff-last-change", 1, "diff np-acc-2"},
		{"diff-moved", 1, "diff hh-fw-1:running/guests"},
		{"diff-same", 0, "diff hh-dist-1@1 hh-dist-1@3"},
		{"diff-unsaved", 1, "diff dd-acc-1:startup dd-acc-1"},
		{"diff-unified", 1, "diff np-acc-2 --unified"},
		{"diff-siblings", 1, "diff t07-rt-1 t06-rt-1"},
		{"diff-strict", 1, "diff t07-rt-1 t06-rt-1 --strict --sections"},
		{"diff-parameters", 1, "diff np-acc-2 --parameters"},
		{"diff-expected", 0, "diff np-acc-2 --expect time --expect interface|port1/24"},
		{"search", 0, "search 192.0.2.66"},
		{"search-history", 0, "search lan|trunk|10,20,30 --history --selector np-acc-2"},
		{"search-regexp", 0, "search --regexp ^\\s+SERVER\\s192 --any-case --by-section"},
		{"search-without", 0, "search 192.0.2.30 --without --selector site=Northgate"},
		{"search-sections", 0, "search --in interface --lack lan|** --have address|* --selector np-edge-1"},
		{"search-selector", 0, "search 192.0.2.66 --selector-only --save wrong-clock"},
		{"search-as-selector", 0, "device list search=wrong-clock"},
		{"search-list", 0, "search --list"},
		{"search-nothing", 1, "search no-such-thing-anywhere"},
		{"lines", 0, "lines np-acc-2 --younger-than 36h"},
		{"lines-story", 0, "--format csv lines hh-dist-1@3"},
		{"fleet-at", 0, "fleet at 25d --selector site=\"Harbour|House\""},
		{"fleet-against", 1, "fleet at 25d --against now --selector role=core"},
		{"moment-set", 0, "moment set before-the-migration --at 25d"},
		{"moment-diff", 1, "diff hh-core-1@before-the-migration hh-core-1"},
		{"note", 0, "note hh-core-1@1 --pin --remark as|it|was"},
		{"note-history", 0, "history hh-core-1"},
		{"signal-test", 0, "signal test --here <165>1|2026-11-20T03:14:07+01:00|np-acc-2|config|812|CHANGED|[who|account=\"neteng\"]|changed"},
		{"baseline-demo", 0, "baseline list"},
		{"baseline-set", 0, "baseline set hh-core-1@1 np-acc-2@1 --remark agreed|on|Friday"},
		{"baseline-list", 0, "baseline list"},
		{"baseline-diff", 1, "diff np-acc-2@baseline np-acc-2"},
		{"baseline-delete", 0, "baseline delete np-acc-2"},
		{"volatile-preview", 0, "--format csv volatile preview interface|*|>|description|** --since 25d -s site=Northgate"},
		{"show", 0, "show t07-rt-1"},
		{"round-show", 1, "round show 35"},
		{"dialect-list", 0, "dialect list"},
		{"schedule-list", 0, "schedule list"},
		{"freshness", 1, "freshness"},
		{"group-list", 0, "group list"},
		{"site-list", 0, "site list"},
		{"nameplate-count", 0, "device nameplate --count version"},
		{"nameplate", 0, "device nameplate site=Northgate role=access"},
		{"nameplate-history", 0, "--format csv device nameplate --history site=Northgate role=access"},
		{"export", 0, "device export role=core"},
		{"show-only-interfaces", 0, "show hh-core-1 --only interface"},
		{"show-only-users", 0, "show np-acc-2 --only user"},
		{"show-only-rules", 0, "show hh-fw-1:running/guests --only access-list"},
		{"show-only-servers", 0, "show t07-rt-1 --only time-server"},
		{"visit", 0, "round visit 35 dd-edge-1"},
		{"problems", 0, "device list problem=any"},
		{"jump-list", 0, "jump-host list"},
		{"import-list", 0, "import list"},
		{"capture", 0, "capture np-acc-2"},
		{"help", 0, "--help"},
		{"help-diff", 0, "diff --help"},
	} {
		t.Run(c.name, func(t *testing.T) {
			status, out, said := noc.run("", words(c.args)...)
			assert.Equal(t, c.status, status, said)
			golden(t, c.name, out)
		})
	}

	for _, c := range []struct{ args, says string }{
		{"show np-acc-22", "Did you mean np-acc-2?"},
		{"show np-acc-2@99", "the revisions are @1 to @2"},
		{"show np-acc-2:runing", "Did you mean running?"},
		{"show", "a ref is missing"},
		{"show np-acc-2 --only interfase", "Did you mean interface?"},
		{"round visit x np-acc-2", "is no number of a round"},
		{"round visit 99999 np-acc-2", "has not visited this device"},
		{"show a b", "one argument too many"},
		{"diff ./nothing.cfg ./neither.cfg", "no such file"},
		{"diff np-acc-2@1", "write both refs"},
		{"history np-acc-2@1", "a history is of a device"},
		{"search", "say what to look for"},
		{"baseline set", "a ref is missing"},
		{"signal test", "a line is missing"},
		{"signal test x --zone Nowhere", "is no time zone"},
		{"baseline set hh-core-1 nobody", "no such device"},
		{"baseline delete np-acc-1:startup", "has no baseline"},
		{"diff np-acc-1:startup@baseline np-acc-1", "'vergekeep baseline set' blesses"},
		{"volatile preview a|**|b", "at the end of a step"},
		{"volatile preview a --since 2099-01-01", "in the future"},
		{"archive copy set shelf folder:/srv/x", "right"},
		{"search x( -e", "missing closing )"},
		{"search .* -e", "matches every line"},
		{"search x --at 2099-01-01", "is in the future"},
		{"search x --saved nothing", "no search is saved"},
		{"search x --selector search=wrong-clok", "Did you mean wrong-clock?"},
		{"lines nothing", "no such device"},
		{"fleet at 2099-01-01", "is in the future"},
		{"fleet at np-acc-2@1", "is no point"},
		{"fleet at baseline", "the name of a moment"},
		{"moment set 2026-11-20", "already means something"},
		{"moment delete nothing", "there is none of that name"},
		{"note np-acc-2", "say what to note"},
		{"diff np-acc-2 --expect a|>|...", "can only stand at the start"},
		{"diff np-acc-2 --output x.doc", "names no kind of document"},
		{"archive nearest ./nothing", "no such file"},
		{"group set x search=wrong-clock", "not for good"},
		{"capture", "write --all"},
		{"capture nobody", "matches no device"},
		{"device list sight=x", "no field of a device"},
		{"device add x --platform tidgate --address 192.0.2.1", "Did you mean tidegate?"},
		{"device add x", "platform"},
		{"round show x", "no number of a round"},
		{"account list", "lacks the right administer"},
		{"credential list", "lacks the right administer"},
		{"schedule add x --cron 61|*|*|*|*", "lacks the right administer"},
		{"schedule add x", "say when"},
		{"schedule add x --nightly 25:00", "no time of the day"},
		{"schedule add x --nightly 02:00 --weekly Sun|03:00", "do not go together"},
		{"group set", "is missing"},
		{"group set x group=edgse", "there is no group \"edgse\". Did you mean edges?"},
		{"group set edges group=outside", "would hold itself"},
		{"group delete edges", "is made of it"},
		{"site set Vessels --closed 7-19", "are no hours"},
		{"device trust ng-acc-1", "nothing to accept"},
		{"device trust", "a selector is missing"},
		{"device import ./nothing.csv", "no such file"},
		{"device edit np-acc-2 --name hh-core-1", "exists"},
		{"device edit np-acc-2 --patience 99", "at most 20"},
		{"device login v-tern-r", "It refused the login of keeper."},
		{"device nameplate --count colour", "not by \"colour\""},
		{"device list group=edgs", "Did you mean edges?"},
		{"enrol", "an address is missing"},
		{"enrol 192.0.2.0/8", "take a part of it"},
		{"import run inventory", "no such import"},
		{"dialect show tidgate", "Did you mean tidegate?"},
		{"--format xml device list", "is no format"},
		{"devise list", "no command"},
		{"device lst", "no command"},
		{"--server http://127.0.0.1:1 device list", "cannot be reached"},
		{"--server nowhere device list", "no address of a service"},
	} {
		args := words(c.args)
		for i := range args {
			args[i] = strings.ReplaceAll(args[i], "|", " ")
		}
		status, out, said := noc.run("", args...)
		assert.Equal(t, 2, status, c.args)
		assert.Empty(t, out, c.args)
		assert.Contains(t, said, c.says, c.args)
		assert.True(t, strings.HasPrefix(said, "vergekeep: "), said)
		assert.LessOrEqual(t, strings.Count(said, "\n"), 3, said)
	}

	t.Run("formats", func(t *testing.T) {
		_, out, _ := noc.run("", "--format", "json", "device", "list", "site=Northgate")
		var devices []struct{ Name, Site string }
		require.NoError(t, json.Unmarshal([]byte(out), &devices))
		assert.Len(t, devices, 8)
		_, out, _ = noc.run("", "--format", "yaml", "device", "list", "site=Northgate")
		var plain []map[string]any
		require.NoError(t, yaml.Unmarshal([]byte(out), &plain))
		assert.Equal(t, devices[0].Name, plain[0]["name"])
		_, out, _ = noc.run("", "--format", "csv", "device", "list", "site=Northgate")
		rows, err := csv.NewReader(strings.NewReader(out)).ReadAll()
		require.NoError(t, err)
		assert.Len(t, rows, 9)
		assert.NotContains(t, out, "\x1b", "colour only on a terminal")
	})

	t.Run("secrets", func(t *testing.T) {
		_, out, _ := noc.run("", "show", "np-acc-2")
		assert.Contains(t, out, "●●●●●●●●")
		neteng := shell{t, map[string]string{"VERGEKEEP_LOGIN": filepath.Join(t.TempDir(), "login.json")}}
		neteng.run("a-long-password\n", "login", d.Daemon.URL, "--account", "neteng")
		_, out, _ = neteng.run("", "show", "np-acc-2")
		assert.Contains(t, out, "raise secret r4ise-03")
	})

	t.Run("audits", func(t *testing.T) { audits(t, d) })
	t.Run("changes and signals", func(t *testing.T) { changesAndSignals(t, d) })

	t.Run("try a dialect", func(t *testing.T) {
		lead := shell{t, map[string]string{"VERGEKEEP_LOGIN": filepath.Join(t.TempDir(), "login.json")}}
		lead.run("a-long-password\n", "login", d.Daemon.URL, "--account", "lead")
		_, text, _ := lead.run("", "dialect", "show", "tidegate")
		file := filepath.Join(t.TempDir(), "mine.yaml")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		status, out, said := lead.run("", "dialect", "try", "ng-acc-2", file)
		assert.Zero(t, status, said)
		assert.Contains(t, out, `sees the prompt "basic", goes to raise`)
		assert.Contains(t, out, "It would be archived.")
		assert.NotContains(t, out, "over-the-verge", "a step shows no secret")
		require.NoError(t, os.WriteFile(file, []byte(strings.Replace(text, "list config running", "list configuration", 1)), 0o600))
		status, out, _ = lead.run("", "dialect", "try", "ng-acc-2", file)
		assert.Equal(t, 1, status)
		assert.Contains(t, out, "unknown words")
		for _, channel := range []string{"pty", "exec", "netconf", "https"} {
			status, out, said = lead.run("", "dialect", "new", "lantern", "--channel", channel)
			assert.Zero(t, status, said)
			require.NoError(t, os.WriteFile(file, []byte(out), 0o600))
			status, _, _ = lead.run("", "dialect", "check", file)
			assert.Zero(t, status, channel)
		}
	})

	t.Run("a session is recorded and replayed", func(t *testing.T) {
		lead := shell{t, map[string]string{"VERGEKEEP_LOGIN": filepath.Join(t.TempDir(), "login.json")}}
		lead.run("a-long-password\n", "login", d.Daemon.URL, "--account", "lead")
		_, text, _ := lead.run("", "dialect", "show", "tidegate")
		dir := t.TempDir()
		file, session := filepath.Join(dir, "mine.yaml"), filepath.Join(dir, "mine.session.yaml")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		status, _, said := lead.run("", "dialect", "try", "np-acc-2", file, "--record", session)
		require.Zero(t, status, said)
		recorded, err := os.ReadFile(session)
		require.NoError(t, err)
		for _, secret := range []string{"over-the-verge", "lift-the-gate", "r4ise-03"} {
			assert.NotContains(t, string(recorded), secret)
		}
		offline := shell{t, map[string]string{}}
		status, out, said := offline.run("", "dialect", "replay", session, file)
		assert.Zero(t, status, said)
		assert.Contains(t, out, "It would be archived.")
		assert.Contains(t, out, "Nameplate: np-acc-2, TG-2400")
		require.NoError(t, os.WriteFile(file, []byte(text+"\nvariants:\n  - name: fours\n    version: '^4'\n    change: { conversation: { states: { running: { send: list everything } } } }\n"), 0o600))
		status, out, _ = offline.run("", "dialect", "replay", session, file)
		assert.Equal(t, 1, status)
		assert.Contains(t, out, `It is of the variant "fours".`)
		assert.Contains(t, out, `The dialect types "list everything\n" where the recording has "list config running\n".`)
		status, _, said = offline.run("", "dialect", "replay", file, file)
		assert.Equal(t, 2, status)
		assert.Contains(t, said, "not a recorded session")
	})

	t.Run("a visit is told step by step", func(t *testing.T) {
		status, out, said := noc.run("", "round", "start", "name=ng-acc-2", "--record")
		require.Zero(t, status, said)
		number := regexp.MustCompile(`Round (\d+)`).FindStringSubmatch(out)[1]
		status, out, said = noc.run("", "round", "visit", number, "ng-acc-2")
		require.Zero(t, status, said)
		assert.Contains(t, out, `running: sends "list config running"`)
		assert.Contains(t, out, "All that was said: vergekeep round session "+number+" ng-acc-2")
		status, _, said = noc.run("", "round", "session", number, "ng-acc-2")
		assert.Equal(t, 2, status)
		assert.Contains(t, said, "see-secrets")
		neteng := shell{t, map[string]string{"VERGEKEEP_LOGIN": filepath.Join(t.TempDir(), "login.json")}}
		neteng.run("a-long-password\n", "login", d.Daemon.URL, "--account", "neteng")
		status, out, said = neteng.run("", "round", "session", number, "ng-acc-2")
		require.Zero(t, status, said)
		assert.Contains(t, out, "raise secret")
		status, _, said = noc.run("", "round", "visit", number, "ng-acc-3")
		assert.Equal(t, 2, status)
		assert.Contains(t, said, "has not visited this device")
	})

	t.Run("an export can be imported", func(t *testing.T) {
		for _, format := range []string{"csv", "yaml", "json"} {
			_, text, _ := noc.run("", "--format", format, "device", "export", "site=Northgate")
			file := filepath.Join(t.TempDir(), "list."+format)
			require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
			status, out, said := noc.run("", "device", "import", file, "--dry-run", "--change")
			assert.Zero(t, status, said)
			assert.Contains(t, out, "0 would be added, 0 changed, 8 unchanged, 0 refused.", format)
		}
	})

	t.Run("live", func(t *testing.T) {
		d.Network.Device("ng-acc-1").Change("somebody", "", false, func(s string) string { return strings.Replace(s, "Europe/Oslo", "UTC", 1) })
		status, out, said := noc.run("", "diff", "ng-acc-1", "ng-acc-1@live")
		assert.Equal(t, 1, status, said)
		assert.Contains(t, out, "+   zone UTC")
		_, _, said = noc.run("", "show", "v-tern-r@live")
		assert.Contains(t, said, "It refused the login of keeper.")
	})
}

func TestFilesNeedNoService(t *testing.T) {
	dir := t.TempDir()
	a, b := filepath.Join(dir, "a.cfg"), filepath.Join(dir, "b.cfg")
	require.NoError(t, os.WriteFile(a, []byte("interface x\n  mtu 1500\ntime\n"), 0o600))
	require.NoError(t, os.WriteFile(b, []byte("interface x\n  mtu 9000\ntime\n"), 0o600))
	s := shell{t, map[string]string{}}
	status, out, said := s.run("", "diff", a, b)
	assert.Equal(t, 1, status, said)
	assert.Contains(t, out, "1 difference in 1 section.")
	status, out, _ = s.run("", "diff", a, a)
	assert.Zero(t, status)
	assert.Contains(t, out, "Identical, byte for byte.")
	status, out, _ = s.run("", "--format", "json", "diff", a, b)
	assert.Equal(t, 1, status)
	assert.True(t, json.Valid([]byte(out)))
	status, out, _ = s.run("", "dialect", "check", a)
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "a.cfg:1: this is no dialect")
}

// TestTheBinary starts the service as a person would, and stops it.
func TestTheBinary(t *testing.T) {
	binary := filepath.Join(t.TempDir(), "vergekeep")
	out, err := exec.Command("go", "build", "-o", binary, "../cmd/vergekeep").CombinedOutput()
	require.NoError(t, err, "%s", out)
	tour, err := exec.Command(binary, "demo", "--tour").CombinedOutput()
	require.NoError(t, err, "%s", tour)
	assert.Contains(t, string(tour), "+   lan trunk 10,20,30,99")

	serve := exec.Command(binary, "serve", "--syslog-udp=", "--syslog-tcp=", "--traps=", "--data", t.TempDir(), "--listen", "127.0.0.1:0")
	log, err := serve.StderrPipe()
	require.NoError(t, err)
	var first bytes.Buffer
	serve.Stdout = &first
	require.NoError(t, serve.Start())
	seen := ""
	for !strings.Contains(seen, "msg=ready") {
		buf := make([]byte, 4096)
		n, err := log.Read(buf)
		require.NoError(t, err, seen)
		seen += string(buf[:n])
	}
	require.NoError(t, serve.Process.Signal(os.Interrupt))
	_, _ = io.Copy(io.Discard, log)
	done := make(chan error, 1)
	go func() { done <- serve.Wait() }()
	select {
	case err := <-done:
		assert.NoError(t, err)
	case <-time.After(time.Minute):
		t.Fatal("it does not stop")
	}
	assert.Contains(t, first.String(), "one-time password")
	assert.NotContains(t, seen, "one-time")

	out, err = exec.Command(binary, "serve", "--listen", "0.0.0.0:0", "--data", t.TempDir()).CombinedOutput()
	var exit *exec.ExitError
	require.ErrorAs(t, err, &exit)
	assert.Equal(t, 2, exit.ExitCode())
	assert.Contains(t, string(out), "no TLS certificate")
}
