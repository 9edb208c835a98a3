package cli_test

import (
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/client/gen"
	"vergekeep/daemon"
	"vergekeep/demo"
	"vergekeep/service/accounts"
)

// serve starts a service on a folder and signs an administrator in.
func serve(t *testing.T, data string) shell {
	t.Helper()
	sh, _ := serving(t, data)
	return sh
}

// serving is serve with the address of the service.
func serving(t *testing.T, data string) (shell, string) {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	d, err := daemon.Open(ctx, daemon.Config{Data: data, Listen: "127.0.0.1:0", Concurrency: 4, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	served := make(chan error, 1)
	go func() { served <- d.Serve(ctx) }()
	t.Cleanup(func() {
		cancel()
		assert.NoError(t, <-served)
		assert.NoError(t, d.Close())
	})
	sh := shell{t, map[string]string{"VERGEKEEP_LOGIN": filepath.Join(t.TempDir(), "login.json")}}
	_, err = d.Accounts.Add(ctx, "keeper", "a-long-password", accounts.Rights, false, "test")
	require.NoError(t, err)
	status, _, said := sh.run("a-long-password\n", "login", d.URL, "--account", "keeper")
	require.Zero(t, status, said)
	return sh, d.URL
}

// TestTheArchiveGoesOutAndComesBack exports the demonstration to git and into a
// folder, takes both into another service, and finds every revision again; then
// it backs up, restores, signs and proves.
func TestTheArchiveGoesOutAndComesBack(t *testing.T) {
	_, err := exec.LookPath("git")
	require.NoError(t, err, "git is needed: scripts/install installs it")
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
	lead := shell{t, map[string]string{"VERGEKEEP_LOGIN": filepath.Join(t.TempDir(), "login.json")}}
	must := func(sh shell, args ...string) string {
		t.Helper()
		status, out, said := sh.run("a-long-password\n", args...)
		require.LessOrEqual(t, status, 1, "%v: %s", args, said)
		return out + said
	}
	must(lead, "login", d.Daemon.URL, "--account", "lead")
	dir := t.TempDir()
	repo := filepath.Join(dir, "repo")
	assert.Contains(t, must(lead, "archive", "export", repo), "416 commits added")
	assert.Contains(t, must(lead, "archive", "export", repo), "0 commits added to "+repo+"; 416 were there.")
	assert.Contains(t, must(lead, "archive", "import", "--git", repo, "--names", "{site}/{device}.cfg"), "0 added, 416 are what was in force anyway")

	// Into another service, which knows the same devices and nothing of them.
	other := serve(t, filepath.Join(dir, "data"))
	devices := filepath.Join(dir, "devices.csv")
	require.NoError(t, os.WriteFile(devices, []byte(must(lead, "device", "export")), 0o600))
	must(other, "device", "import", devices)
	assert.Contains(t, must(other, "archive", "import", "--git", repo, "--names", "{site}/{device}.cfg", "--dry-run"), "416 would be added")
	assert.Contains(t, must(other, "archive", "import", "--git", repo, "--names", "{site}/{device}.cfg"), "416 added")
	assert.Contains(t, must(other, "archive", "import", "--git", repo, "--names", "{site}/{device}.cfg"), "0 added, 0 are what was in force anyway, 416 had been taken in before")
	for _, name := range []string{"np-acc-2", "hh-fw-1:running/guests", "t12-rt-1:startup", "v-skua-sw", "hh-dist-1"} {
		history := func(sh shell) (list []gen.Revision) {
			status, out, said := sh.run("", "--format", "json", "history", name)
			require.Zero(t, status, said)
			require.NoError(t, json.Unmarshal([]byte(out), &list))
			return list
		}
		was, is := history(lead), history(other)
		require.Len(t, is, len(was), name)
		for i := range was {
			assert.Equal(t, was[i].Hash, is[i].Hash, name)
			assert.Equal(t, was[i].Stats, is[i].Stats, name)
			assert.Equal(t, was[i].FirstSeen.Unix(), is[i].FirstSeen.Unix())
			assert.Equal(t, gen.Imported, is[i].Origin)
		}
	}
	assert.Contains(t, must(other, "archive", "check"), "The archive is whole.")

	// Backed up while it runs, restored elsewhere.
	backup := filepath.Join(dir, "backup.db")
	must(lead, "archive", "backup", backup)
	status, _, said := lead.run("", "archive", "backup", backup)
	assert.Equal(t, 2, status)
	assert.Contains(t, said, "exists already")
	elsewhere := filepath.Join(dir, "elsewhere")
	require.NoError(t, daemon.Restore(t.Context(), backup, elsewhere))
	require.ErrorContains(t, daemon.Restore(t.Context(), backup, elsewhere), "move it away first")

	// Signed, and proved to somebody who has only the files.
	key, heads, proof := filepath.Join(dir, "key.pem"), filepath.Join(dir, "heads.json"), filepath.Join(dir, "hh-core-1.proof")
	must(lead, "archive", "key", key)
	must(lead, "archive", "sign", heads, "--key", key)
	must(lead, "archive", "prove", "hh-core-1@1", proof)
	alone := shell{t, map[string]string{"VERGEKEEP_LOGIN": filepath.Join(dir, "nobody.json")}}
	assert.Contains(t, must(alone, "archive", "verify", proof, "--heads", heads, "--key", key+".pub"), "Proved: hh-core-1@1")
	text, err := os.ReadFile(proof)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(proof, []byte(strings.Replace(string(text), `"author": ""`, `"author": "x"`, 1)), 0o600))
	status, _, said = alone.run("", "archive", "verify", proof, "--heads", heads, "--key", key+".pub")
	assert.Equal(t, 2, status)
	assert.Contains(t, said, "something was altered")

	// Who may not see secrets can take none away.
	noc := shell{t, map[string]string{"VERGEKEEP_LOGIN": filepath.Join(dir, "noc.json")}}
	must(noc, "login", d.Daemon.URL, "--account", "noc")
	for _, args := range [][]string{{"archive", "backup", filepath.Join(dir, "x.db")}, {"archive", "prove", "hh-core-1", filepath.Join(dir, "x")}, {"archive", "import", repo, "--git", "--names", "{device}"}} {
		status, _, said := noc.run("", args...)
		assert.NotZero(t, status, args)
		assert.Contains(t, said, "right", args)
	}
	masked := filepath.Join(dir, "masked")
	must(noc, "archive", "export", masked, "--selector", "np-acc-2")
	out, err := exec.Command("git", "-C", masked, "log", "-p", "--all").Output()
	require.NoError(t, err)
	assert.Contains(t, string(out), "●●●●●●●●")
	assert.NotContains(t, string(out), "r4ise")
}
