package imports

import (
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/core/dialect"
	"vergekeep/core/selector"
	"vergekeep/service/fleet"
	"vergekeep/store"
)

const list = "name,address,platform\na-1,192.0.2.1,tidegate\na-2,192.0.2.2,tidegate\n"

func service(t *testing.T, commands bool) (*Service, *fleet.Fleet, string) {
	t.Helper()
	dir := t.TempDir()
	db, err := store.Open(t.Context(), filepath.Join(dir, "keep.db"))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, db.Close()) })
	dialects, err := dialect.Load()
	require.NoError(t, err)
	f := fleet.New(db, dialects, time.Now)
	return New(db, f, slog.New(slog.DiscardHandler), time.Now, commands), f, dir
}

func TestListsComeFromWhereTheyAre(t *testing.T) {
	s, f, dir := service(t, true)
	file := filepath.Join(dir, "list.csv")
	require.NoError(t, os.WriteFile(file, []byte(list), 0o600))
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/list" {
			http.NotFound(w, r)
			return
		}
		_, _ = w.Write([]byte(list))
	}))
	defer web.Close()
	repository := filepath.Join(dir, "repository")
	for _, args := range [][]string{{"init", "-q", repository}, {"-C", repository, "add", "net/list.csv"}, {"-C", repository, "-c", "user.name=noc", "-c", "user.email=noc@skerry.example", "commit", "-qm", "list"}} {
		if args[0] == "-C" && args[2] == "add" {
			require.NoError(t, os.MkdirAll(filepath.Join(repository, "net"), 0o700))
			require.NoError(t, os.WriteFile(filepath.Join(repository, "net", "list.csv"), []byte(list), 0o600))
		}
		out, err := exec.Command("git", args...).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	for name, source := range map[string]string{"file": "file:" + file, "web": web.URL + "/list", "git": "git:" + repository + "#net/list.csv", "command": "command:cat " + file} {
		_, err := s.Set(t.Context(), Import{Name: name, Source: source}, "noc")
		require.NoError(t, err, source)
		lines, err := s.Run(t.Context(), name, true, "noc")
		require.NoError(t, err, source)
		require.Len(t, lines, 2)
	}
	_, err := s.Run(t.Context(), "file", false, "noc")
	require.NoError(t, err)
	i, err := s.Get(t.Context(), "file")
	require.NoError(t, err)
	assert.Equal(t, "2 added", i.LastSaid)

	// A list that cannot be fetched, or is empty, changes nothing.
	for _, text := range []string{"", "name,adress\n"} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		_, err = s.Run(t.Context(), "file", false, "noc")
		require.Error(t, err)
	}
	require.NoError(t, os.Remove(file))
	_, err = s.Run(t.Context(), "file", false, "noc")
	require.ErrorIs(t, err, ErrFetch)
	i, err = s.Get(t.Context(), "file")
	require.NoError(t, err)
	assert.True(t, i.LastFailed)
	sel, err := selector.Parse("state=active source=file")
	require.NoError(t, err)
	devices, err := f.List(t.Context(), sel)
	require.NoError(t, err)
	assert.Len(t, devices, 2)
	require.NoError(t, s.Delete(t.Context(), "file", "noc"))
	devices, err = f.List(t.Context(), sel)
	require.NoError(t, err)
	assert.Empty(t, devices, "they are nobody's now")
}

func TestWhatIsNoImportIsRefused(t *testing.T) {
	s, _, _ := service(t, false)
	for source, says := range map[string]string{
		"": "say where from", "command:cat /x": "--allow-commands", "git:repo": "which file", "file:x": "root of the service's machine", "ftp://x": "no source",
	} {
		_, err := s.Set(t.Context(), Import{Name: "a", Source: source}, "noc")
		require.ErrorIs(t, err, ErrInvalid, source)
		assert.ErrorContains(t, err, says)
	}
	_, err := s.Set(t.Context(), Import{Name: "a", Source: "file:/x", Expression: "every day"}, "noc")
	require.Error(t, err)
	_, err = s.Run(t.Context(), "nothing", false, "noc")
	require.ErrorIs(t, err, ErrUnknown)
	assert.Equal(t, "1 added, 2 refused", Summary([]fleet.Line{{Fate: fleet.FateRefuse}, {Fate: fleet.FateAdd}, {Fate: fleet.FateRefuse}}))
}
