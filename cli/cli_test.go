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
	{`\d{4}-\d\d-\d\d \d\d:\d\d:\d\d`, "TIMESTAMP"},
	{`for \d+ (minutes?|hours?|days?)`, "for LONG"},
	{`took [0-9.]+m?s`, "took LONG"},
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
		{"device-list-problems", 0, "device list not|freshness=fresh"},
		{"device-show", 0, "device show dd-acc-1"},
		{"history", 0, "history hh-dist-1"},
		{"diff-last-change", 1, "diff np-acc-2"},
		{"diff-moved", 1, "diff hh-fw-1:running/guests"},
		{"diff-same", 0, "diff hh-dist-1@1 hh-dist-1@3"},
		{"diff-unsaved", 1, "diff dd-acc-1:startup dd-acc-1"},
		{"diff-unified", 1, "diff np-acc-2 --unified"},
		{"show", 0, "show t07-rt-1"},
		{"round-show", 1, "round show 35"},
		{"dialect-list", 0, "dialect list"},
		{"schedule-show", 0, "schedule show"},
		{"capture", 0, "capture np-acc-2"},
		{"help", 0, "--help"},
		{"help-diff", 0, "diff --help"},
	} {
		t.Run(c.name, func(t *testing.T) {
			status, out, said := noc.run("", strings.FieldsFunc(strings.ReplaceAll(c.args, "|", " "), func(r rune) bool { return r == ' ' })...)
			assert.Equal(t, c.status, status, said)
			golden(t, c.name, out)
		})
	}

	for _, c := range []struct{ args, says string }{
		{"show np-acc-22", "Did you mean np-acc-2?"},
		{"show np-acc-2@99", "the revisions are @1 to @2"},
		{"show np-acc-2:runing", "Did you mean running?"},
		{"show", "a ref is missing"},
		{"show a b", "one argument too many"},
		{"diff ./nothing.cfg ./neither.cfg", "no such file"},
		{"diff np-acc-2@1", "write both refs"},
		{"history np-acc-2@1", "a history is of a device"},
		{"capture", "write --all"},
		{"capture nobody", "matches no device"},
		{"device list sight=x", "no field of a device"},
		{"device add x --platform tidgate --address 192.0.2.1", "Did you mean tidegate?"},
		{"device add x", "platform"},
		{"round show x", "no number of a round"},
		{"account list", "lacks the right administer"},
		{"dialect show tidgate", "Did you mean tidegate?"},
		{"--format xml device list", "is no format"},
		{"devise list", "no command"},
		{"device lst", "no command"},
		{"--server http://127.0.0.1:1 device list", "cannot be reached"},
		{"--server nowhere device list", "no address of a service"},
	} {
		status, out, said := noc.run("", strings.Fields(c.args)...)
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

	serve := exec.Command(binary, "serve", "--data", t.TempDir(), "--listen", "127.0.0.1:0")
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
	case <-time.After(10 * time.Second):
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
