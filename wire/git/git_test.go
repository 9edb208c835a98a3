package git

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func repository(t *testing.T, bare bool) string {
	t.Helper()
	where := filepath.Join(t.TempDir(), "r")
	require.NoError(t, Init(t.Context(), where, bare))
	require.NoError(t, Init(t.Context(), where, bare), "once more changes nothing")
	return where
}

// say runs git as somebody who works in the repository.
func say(t *testing.T, where string, args ...string) string {
	t.Helper()
	out, err := Run(t.Context(), where, nil, append([]string{"-c", "user.name=neteng", "-c", "user.email=neteng@skerry.example"}, args...)...)
	require.NoError(t, err)
	return string(out)
}

func write(t *testing.T, where, path, text string) {
	t.Helper()
	require.NoError(t, os.WriteFile(filepath.Join(where, path), []byte(text), 0o600))
	say(t, where, "add", "-A")
}

// told is what Changes says, as lines of "path: text".
func told(t *testing.T, where string) []string {
	t.Helper()
	h, err := Read(t.Context(), where)
	require.NoError(t, err)
	defer func() { assert.NoError(t, h.Close()) }()
	var lines []string
	for _, c := range h.Changes {
		_, err := h.Text(c, -1)
		require.ErrorContains(t, err, "is larger than")
		text, err := h.Text(c, 1<<20)
		require.NoError(t, err)
		assert.False(t, c.At.IsZero())
		lines = append(lines, c.Path+": "+string(text))
	}
	return lines
}

func TestMergesRenamesAndWhatIsNoFile(t *testing.T) {
	r := repository(t, false)
	write(t, r, "a.cfg", "1")
	say(t, r, "commit", "-qm", "first")
	// Beside the branch, two commits that come in as one merge.
	say(t, r, "checkout", "-qb", "side")
	write(t, r, "b.cfg", "side 1")
	say(t, r, "commit", "-qm", "side 1")
	write(t, r, "b.cfg", "side 2")
	say(t, r, "commit", "-qm", "side 2")
	say(t, r, "checkout", "-q", "main")
	write(t, r, "a.cfg", "2")
	say(t, r, "commit", "-qm", "second")
	say(t, r, "merge", "-q", "--no-ff", "-m", "merge", "side")
	// Another name, a link, one that goes, and a repository within.
	say(t, r, "mv", "a.cfg", "c with blank.cfg")
	say(t, r, "commit", "-qm", "renamed")
	say(t, r, "rm", "-q", "b.cfg")
	say(t, r, "commit", "-qm", "gone")
	inner := filepath.Join(r, "inner")
	require.NoError(t, os.Mkdir(inner, 0o700))
	say(t, inner, "init", "-q")
	write(t, inner, "x", "x")
	say(t, inner, "commit", "-qm", "x")
	write(t, r, "umlaut-ä.cfg", "é\xff")
	say(t, r, "commit", "-qm", "a repository within")
	assert.Equal(t, []string{"a.cfg: 1", "a.cfg: 2", "b.cfg: side 2", "c with blank.cfg: 2", "umlaut-ä.cfg: é\xff"}, told(t, r))
	h, err := Read(t.Context(), r)
	require.NoError(t, err)
	assert.Equal(t, "neteng", h.Changes[0].Author)
	_, err = h.Text(Change{blob: "no-such"}, 100)
	require.ErrorContains(t, err, "missing")
	_, err = h.Text(h.Changes[0], 100)
	require.NoError(t, err, "it goes on")
	require.NoError(t, h.Close())
}

func TestAnEmptyOrMissingRepository(t *testing.T) {
	_, err := Read(t.Context(), repository(t, false))
	require.Error(t, err)
	_, err = Read(t.Context(), filepath.Join(t.TempDir(), "none"))
	require.Error(t, err)
	values, err := Trailers(t.Context(), repository(t, true), "Revision")
	require.NoError(t, err)
	assert.Empty(t, values)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = Run(ctx, t.TempDir(), nil, "status")
	require.ErrorIs(t, err, context.Canceled)
}

func one(path, text, revision string) Commit {
	at := time.Unix(1_800_000_000, 0)
	return Commit{Path: path, Author: "noc <x>\n", At: at, Arrived: at, Title: "t\nu", Trailers: [][2]string{{"Revision", revision}}, Text: []byte(text)}
}

func sequence(commits ...Commit) func(yield func(Commit, error) bool) {
	return func(yield func(Commit, error) bool) {
		for _, c := range commits {
			if !yield(c, nil) {
				return
			}
		}
	}
}

func TestAllCommitsAreAddedOrNone(t *testing.T) {
	r := repository(t, true)
	require.NoError(t, Add(t.Context(), r, sequence(one("a", "1", "a@1"), one("b", "", "b@1"))))
	lost := errors.New("lost")
	err := Add(t.Context(), r, func(yield func(Commit, error) bool) {
		if yield(one("a", "2", "a@2"), nil) {
			yield(Commit{}, lost)
		}
	})
	require.ErrorIs(t, err, lost)
	there, err := Trailers(t.Context(), r, "Revision")
	require.NoError(t, err)
	assert.Equal(t, map[string]bool{"a@1": true, "b@1": true}, there)
	require.NoError(t, Add(t.Context(), r, sequence(one("a", "3", "a@3"))))
	assert.Equal(t, []string{"a: 1", "b: ", "a: 3"}, told(t, r))
	say(t, r, "fsck", "--strict")
	require.Error(t, Add(t.Context(), r, sequence(one("../out", "x", "x"))), "no path leads out")
	require.ErrorContains(t, Push(t.Context(), r, filepath.Join(t.TempDir(), "none")), "git push")
	to := repository(t, true)
	require.NoError(t, Push(t.Context(), r, to))
	assert.Equal(t, told(t, r), told(t, to))
}

// TestAnyTextComesBack adds texts and names of all kinds and reads them again.
func TestAnyTextComesBack(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		where := filepath.Join(t.TempDir(), "r")
		if err := Init(t.Context(), where, true); err != nil {
			rt.Fatal(err)
		}
		name := rapid.StringMatching(`[a-zä"\\ \n-][a-zä"\\ \n.-]{0,12}x`)
		text := rapid.OneOf(rapid.String(), rapid.Map(rapid.SliceOf(rapid.Byte()), func(b []byte) string { return string(b) }))
		var commits []Commit
		var want []string
		last := map[string]string{}
		for range rapid.IntRange(1, 4).Draw(rt, "commits") {
			c := one(name.Draw(rt, "name"), text.Draw(rt, "text"), "r")
			commits = append(commits, c)
			if before, ok := last[c.Path]; !ok || before != string(c.Text) {
				want = append(want, c.Path+": "+string(c.Text))
			}
			last[c.Path] = string(c.Text)
		}
		if err := Add(t.Context(), where, sequence(commits...)); err != nil {
			rt.Fatal(err)
		}
		if got := told(t, where); strings.Join(got, "|") != strings.Join(want, "|") {
			rt.Fatalf("%q instead of %q", got, want)
		}
	})
}

func FuzzReadLog(f *testing.F) {
	f.Add([]byte("\x011800000000\x02noc\x00\n:100644 100644 aa bb M\x00a.cfg\x00"))
	f.Add([]byte("\x01x\x02noc\x00"))
	f.Fuzz(func(t *testing.T, out []byte) {
		list, err := readLog(out)
		if err != nil && list != nil {
			t.Fatal("both")
		}
	})
}
