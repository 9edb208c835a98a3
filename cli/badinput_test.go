package cli_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatBadInputGets gives the archive files that are none, and asks it for what
// it does not have: each is answered clearly, and nothing is lost or there twice.
func TestWhatBadInputGets(t *testing.T) {
	data := t.TempDir()
	sh, server := serving(t, data)
	must := func(args ...string) string {
		t.Helper()
		status, out, said := sh.run("", args...)
		require.LessOrEqual(t, status, 1, "%v: %s", args, said)
		return out + said
	}
	must("device", "add", "ng-acc-1", "--platform", "tidegate", "--address", "192.0.2.1")
	must("device", "add", "v-petrel-r", "--platform", "capstan", "--address", "192.0.2.2")
	folder := filepath.Join(t.TempDir(), "old")
	require.NoError(t, os.MkdirAll(folder, 0o700))
	whole := func(lan int, more string) string {
		return fmt.Sprintf("configuration of ng-acc-1, changed by noc\nname ng-acc-1\nlan %d\n%send of configuration\n", lan, more)
	}
	write := func(name, text string) {
		t.Helper()
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600))
	}
	// Not UTF-8, with a NUL, a lone carriage return, and lines of two kinds of end.
	odd := whole(3, "banner motd until %\n\xff\xfe caf\xe9 \x00 \x1b[31m\u202e\r%\n")
	for name, text := range map[string]string{
		"ng-acc-1_2026-11-01.cfg":  whole(1, ""),
		"ng-acc-1_2026-11-02.cfg":  "\x7fELF\x02\x01\x01\x00\x00",
		"ng-acc-1_2026-11-03.cfg":  strings.TrimSuffix(whole(2, ""), "end of configuration\n"),
		"ng-acc-1_2026-11-04.cfg":  odd,
		"ng-acc-1_2026-11-05.cfg":  "",
		"ng-acc-1_2099-01-01.cfg":  whole(4, ""),
		"ng-acc-1_2026-13-41.cfg":  whole(5, ""),
		"nobody_2026-11-01.cfg":    whole(6, ""),
		"readme.txt":               "hello\n",
		"v-petrel-r_2026-11-01.cf": "x",
	} {
		write(name, text)
	}
	big, err := os.Create(filepath.Join(folder, "ng-acc-1_2026-11-06.cfg"))
	require.NoError(t, err)
	require.NoError(t, big.Truncate(100<<20))
	require.NoError(t, big.Close())
	said := must("archive", "import", folder, "--names", "{device}_{date}.cfg")
	for _, line := range []string{
		"ng-acc-1_2026-11-02.cfg  ng-acc-1  2026-11-02 00:00  refused: it cannot be taken in: it is no whole tidegate configuration",
		"ng-acc-1_2026-11-03.cfg  ng-acc-1  2026-11-03 00:00  refused: it cannot be taken in: it is no whole tidegate configuration: it is not complete: it breaks off after 3 lines",
		"ng-acc-1_2026-11-05.cfg  ng-acc-1  2026-11-05 00:00  refused: it cannot be taken in: it is no whole tidegate configuration: it is not complete: it is empty",
		"ng-acc-1_2099-01-01.cfg  ng-acc-1  2099-01-01 00:00  refused: it cannot be taken in: 2099-01-01T00:00:00",
		"is in the future",
		"is larger than 64 MiB",
		"nobody_2026-11-01.cfg    nobody    2026-11-01 00:00  refused: no such device",
		"2 added, 0 are what was in force anyway, 0 had been taken in before, 6 refused; 3 others are not named like this",
	} {
		assert.Contains(t, said, line)
	}
	// What was odd is there byte for byte, and can be compared, shown and searched.
	kept := filepath.Join(t.TempDir(), "kept")
	must("show", "ng-acc-1", "--output", kept)
	text, err := os.ReadFile(kept)
	require.NoError(t, err)
	assert.Equal(t, odd, string(text))
	assert.Contains(t, must("diff", "ng-acc-1@1", "ng-acc-1@2"), "lan")
	assert.Equal(t, odd, must("show", "ng-acc-1"), "bytes stay as they are where nothing shows them")
	assert.Contains(t, must("search", "lan 3"), "ng-acc-1")
	assert.Contains(t, must("archive", "check"), "The archive is whole.")

	// An import that breaks off goes on where it was.
	require.NoError(t, os.RemoveAll(folder))
	require.NoError(t, os.MkdirAll(folder, 0o700))
	for day := 1; day <= 9; day++ {
		write(fmt.Sprintf("ng-acc-1_2026-10-0%d.cfg", day), whole(100+day, ""))
	}
	to, err := url.Parse(server)
	require.NoError(t, err)
	proxy := httputil.NewSingleHostReverseProxy(to)
	var taken atomic.Int32
	breaking := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if taken.Add(1) > 4 {
			panic(http.ErrAbortHandler) // the line is cut
		}
		proxy.ServeHTTP(w, r)
	}))
	defer breaking.Close()
	login, err := os.ReadFile(sh.env["VERGEKEEP_LOGIN"])
	require.NoError(t, err)
	cut := shell{t, map[string]string{"VERGEKEEP_LOGIN": filepath.Join(t.TempDir(), "login.json")}}
	require.NoError(t, os.WriteFile(cut.env["VERGEKEEP_LOGIN"], []byte(strings.ReplaceAll(string(login), server, breaking.URL)), 0o600))
	status, _, said := cut.run("", "archive", "import", folder, "--names", "{device}_{date}.cfg")
	assert.Equal(t, 2, status)
	assert.Contains(t, said, "cannot be reached")
	assert.Contains(t, must("archive", "import", folder, "--names", "{device}_{date}.cfg"), "9 files: 5 added, 0 are what was in force anyway, 4 had been taken in before, 0 refused")
	assert.Contains(t, must("archive", "import", folder, "--names", "{device}_{date}.cfg"), "9 files: 0 added, 0 are what was in force anyway, 9 had been taken in before")
	assert.Equal(t, 11+1, strings.Count(must("--format", "csv", "history", "ng-acc-1"), "\n"))

	// What matches everything, what is not yet, and what is not there.
	for _, c := range []struct{ args, says string }{
		{"search .* --regexp", "matches every line"},
		{"search (x|) --regexp --any-case", "matches every line"},
		{"archive import FOLDER --names *", "whose configuration"},
		{"archive import FOLDER --names {device}.cfg", "when a file was in force"},
		{"archive import FOLDER --names {device}_{date}.txt", "is named like"},
		{"archive import FOLDER/none --names {device}_{date}", "no such file"},
		{"archive import FOLDER --git --names {device}.cfg", "git log"},
		{"show ng-acc-1@2099-01-01", "in the future"},
		{"diff ng-acc-1@2099-01-01 ng-acc-1", "in the future"},
		{"fleet at 2099-01-01", "in the future"},
		{"show nobody", "no such device"},
		{"show ng-acc-1@99", "the revisions are @1 to @11"},
		{"show ng-acc-1@0", "ng-acc-1@0"},
		{"show ng-acc-1:candidate", "candidate"},
		{"show ng-acc-1@nothing-named-so", "no moment is named"},
		{"show ng-acc-1@baseline", "no baseline"},
		{"show v-petrel-r", "nothing has been captured yet"},
		{"lines ng-acc-1@2020-01-01", "nothing was captured yet"},
		{"archive nearest FOLDER", "is a folder"},
		{"archive prove ng-acc-1@77 FOLDER/x", "the revisions are @1 to @11"},
	} {
		status, out, said := sh.run("", strings.Fields(strings.ReplaceAll(c.args, "FOLDER", folder))...)
		assert.Equal(t, 2, status, c.args)
		assert.Empty(t, out, c.args)
		assert.Contains(t, said, c.says, c.args)
	}
	// A pattern that expects everything to differ says how much it set aside.
	assert.Contains(t, must("diff", "ng-acc-1@1", "ng-acc-1@2", "--expect", "... > **"), "expected")
	assert.Contains(t, must("archive", "check"), "The archive is whole.")
}
