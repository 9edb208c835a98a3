package copies_test

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"vergekeep/archive"
	"vergekeep/service/copies"
	"vergekeep/service/events"
	"vergekeep/service/keeping"
	"vergekeep/service/shelf"
	"vergekeep/service/vault"
	"vergekeep/wire/drop"
)

type place struct {
	*shelf.Shelf
	t    *testing.T
	data string
	s    *copies.Service
	bus  *events.Bus
	keep *keeping.Service
}

func newPlace(t *testing.T) *place {
	p := &place{Shelf: shelf.New(t), t: t, data: t.TempDir(), bus: &events.Bus{}}
	log := slog.New(slog.DiscardHandler)
	p.keep = keeping.New(p.DB, p.Archive, p.Fleet, log, p.Now)
	p.s = copies.New(copies.Config{DB: p.DB, Archive: p.Archive, Fleet: p.Fleet, Rounds: p.Rounds, Vault: p.Vault, Dialects: p.Set, Bus: p.bus, Heads: p.keep.Heads, Data: p.data, Log: log, Now: p.Now})
	return p
}

func text(name string, lan int) string {
	return fmt.Sprintf("configuration of %s, changed by noc\nname %s\nraise secret s3cret%d\nlan %d\nend of configuration\n", name, name, lan, lan)
}

func (p *place) put(name string, lan int) { p.Put(p.t, name, "tidegate", text(name, lan)) }

func (p *place) set(c copies.Copy) {
	p.t.Helper()
	_, err := p.s.Set(p.t.Context(), c, "lead")
	require.NoError(p.t, err)
}

func (p *place) run(name, want string) {
	p.t.Helper()
	c, err := p.s.Run(p.t.Context(), name)
	require.NoError(p.t, err)
	assert.Equal(p.t, want, c.LastSaid)
	assert.False(p.t, c.LastFailed)
}

// files are the names below a folder, with the start of those that hold much.
func files(t *testing.T, root string) map[string]string {
	t.Helper()
	all := map[string]string{}
	require.NoError(t, filepath.Walk(root, func(path string, info os.FileInfo, err error) error {
		require.NoError(t, err)
		if info.IsDir() {
			assert.Equal(t, os.FileMode(0o700), info.Mode().Perm(), path)
			return nil
		}
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), path)
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		relative, err := filepath.Rel(root, path)
		require.NoError(t, err)
		all[relative] = string(data)
		return nil
	}))
	return all
}

func TestAFolderIsKeptCurrent(t *testing.T) {
	p := newPlace(t)
	p.put("ng-acc-1", 1)
	p.put("ng-acc-1", 2)
	p.put("hh-core-1", 1)
	where := filepath.Join(t.TempDir(), "shelf")
	p.set(copies.Copy{Name: "shelf", Destination: "folder:" + where, Names: "{device}.cfg"})
	p.run("shelf", "2 written")
	got := files(t, where)
	assert.Contains(t, got["ng-acc-1.cfg"], "lan 2\n", "the newest")
	assert.NotContains(t, got["ng-acc-1.cfg"], "s3cret")
	assert.Contains(t, got["ng-acc-1.cfg"], "●●●●●●●●")
	assert.Contains(t, got["heads.json"], `"heads"`)
	assert.Contains(t, got, "this-is-a-copy.txt")
	p.run("shelf", "nothing was new")
	p.put("ng-acc-1", 3)
	p.run("SHELF", "1 written")
	got = files(t, where)
	assert.Contains(t, got["ng-acc-1.cfg"], "lan 3\n")
	logs := 0
	for name, log := range got {
		if strings.HasPrefix(name, "change-log/") {
			logs++
			assert.Contains(t, log, "ng-acc-1@")
		}
		assert.NotContains(t, name, ".part")
	}
	assert.Equal(t, 2, logs)

	// An older one that is taken in later changes no newest file.
	_, _, err := p.keep.Take(t.Context(), keeping.Old{Device: "ng-acc-1", At: shelf.Monday.AddDate(0, 0, -9), Text: text("ng-acc-1", 9)}, "lead")
	require.NoError(t, err)
	p.run("shelf", "nothing was new")
	assert.Contains(t, files(t, where)["ng-acc-1.cfg"], "lan 3\n")

	// With a date, each revision has its file; with secrets, if that is asked for.
	dated := filepath.Join(t.TempDir(), "dated")
	p.set(copies.Copy{Name: "dated", Destination: "folder:" + dated, Names: "{date}/{device}_{time}.cfg", Secrets: true, Selector: "name=ng-*"})
	p.run("dated", "4 written")
	assert.Contains(t, files(t, dated)["2026-11-14/ng-acc-1_09-00-00.cfg"], "raise secret s3cret9")
}

func TestAFolderThatIsNotOursIsLeftAlone(t *testing.T) {
	p := newPlace(t)
	p.put("ng-acc-1", 1)
	where := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(where, "ng-acc-1.cfg"), []byte("mine"), 0o600))
	p.set(copies.Copy{Name: "shelf", Destination: "folder:" + where, Names: "{device}.cfg"})
	_, err := p.s.Run(t.Context(), "shelf")
	require.ErrorIs(t, err, copies.ErrPlace)
	assert.ErrorContains(t, err, "no copy of ours")
	kept, err := os.ReadFile(filepath.Join(where, "ng-acc-1.cfg"))
	require.NoError(t, err)
	assert.Equal(t, "mine", string(kept))
	c, err := p.s.Get(t.Context(), "shelf")
	require.NoError(t, err)
	assert.True(t, c.LastFailed)
	assert.Contains(t, c.LastSaid, "no copy of ours")

	// Nor does a name lead out of it, whatever a device is called.
	outside := filepath.Join(t.TempDir(), "in")
	p.set(copies.Copy{Name: "shelf", Destination: "folder:" + outside, Names: "{site}/{device}.cfg"})
	p.run("shelf", "1 written")
	require.NoError(t, os.RemoveAll(filepath.Join(outside, "_")))
	require.NoError(t, os.Symlink(t.TempDir(), filepath.Join(outside, "_")))
	p.put("ng-acc-1", 2)
	_, err = p.s.Run(t.Context(), "shelf")
	require.ErrorIs(t, err, copies.ErrPlace, "a link leads out")
}

func TestWhatCannotBeCopiedIsSaid(t *testing.T) {
	p := newPlace(t)
	for _, c := range []struct{ destination, names, selector, says string }{
		{"folder:here", "", "", "start at the root"},
		{"folder:/", "", "", "below it"},
		{"ftp://h/x", "", "", "is no destination"},
		{"sftp://h", "", "", "written sftp://"},
		{"sftp://h/x", "", "", "credential"},
		{"sftp://u:p@h/x", "", "", "no place"},
		{"git:", "", "", "which remote"},
		{"git:--upload-pack=x", "", "", "which remote"},
		{"git:https://u:p@h/x", "", "", "no place"},
		{"git:/srv/x", "{date}/{device}", "", "keeps the times itself"},
		{"folder:/srv/x", "{date}", "", "whose configuration"},
		{"folder:/srv/x", "../{device}", "", "stay within"},
		{"folder:/srv/x", "/{device}", "", "stay within"},
		{"folder:/srv/x", "{device}*", "", "stay within"},
		{"folder:/srv/x", "", "search=x", "search"},
	} {
		_, err := p.s.Set(t.Context(), copies.Copy{Name: "x", Destination: c.destination, Names: c.names, Selector: c.selector}, "lead")
		assert.ErrorContains(t, err, c.says, "%+v", c)
	}
	_, err := p.s.Run(t.Context(), "none")
	require.ErrorIs(t, err, copies.ErrUnknown)
	require.ErrorIs(t, p.s.Delete(t.Context(), "none", "lead"), copies.ErrUnknown)
	require.ErrorIs(t, p.s.Send(t.Context(), "none", "x.json", nil), copies.ErrUnknown)
}

func gitSays(t *testing.T, folder string, args ...string) string {
	t.Helper()
	out, err := exec.Command("git", append([]string{"-C", folder}, args...)...).CombinedOutput()
	require.NoError(t, err, "%s", out)
	return string(out)
}

func TestAMirrorIsPushedAndCatchesUp(t *testing.T) {
	p := newPlace(t)
	p.put("ng-acc-1", 1)
	p.put("ng-acc-1", 2)
	at := filepath.Join(t.TempDir(), "remote.git")
	p.set(copies.Copy{Name: "mirror", Destination: "git:" + at, Names: "{device}.cfg"})
	_, err := p.s.Run(t.Context(), "mirror")
	require.ErrorIs(t, err, copies.ErrPlace, "the remote is not there")
	require.NoError(t, os.MkdirAll(at, 0o700))
	gitSays(t, at, "init", "-q", "--bare", "-b", "main")
	p.run("mirror", "2 written")
	// What could not be pushed is pushed the next time.
	away := at + ".away"
	require.NoError(t, os.Rename(at, away))
	p.put("ng-acc-1", 3)
	_, err = p.s.Run(t.Context(), "mirror")
	require.ErrorIs(t, err, copies.ErrPlace)
	require.NoError(t, os.Rename(away, at))
	p.run("mirror", "nothing was new")
	assert.Contains(t, gitSays(t, at, "show", "main:ng-acc-1.cfg"), "lan 3\n")
	p.run("mirror", "nothing was new")
	assert.Equal(t, "ng-acc-1@1\nng-acc-1@2\nng-acc-1@3\n", gitSays(t, at, "log", "--reverse", "--format=%(trailers:key=Revision,valueonly,separator=)", "main", "--", "ng-acc-1.cfg"))
	assert.Contains(t, gitSays(t, at, "show", "main:ng-acc-1.cfg"), "lan 3\n")
	assert.NotContains(t, gitSays(t, at, "log", "-p", "main"), "s3cret")
	require.NoError(t, p.s.Send(t.Context(), "mirror", "heads-signed.json", []byte("{}\n")))
	assert.Equal(t, "{}\n", gitSays(t, at, "show", "main:heads-signed.json"))
	gitSays(t, at, "fsck", "--strict")

	// The service's own repository is lost: it goes on where it was.
	require.NoError(t, os.RemoveAll(filepath.Join(p.data, "mirrors")))
	p.put("ng-acc-1", 4)
	p.run("mirror", "1 written")
	assert.Equal(t, 4, strings.Count(gitSays(t, at, "log", "--format=%B", "main", "--", "ng-acc-1.cfg"), "Revision: "))

	// Another remote gets all of it, whatever its names are like.
	another := filepath.Join(t.TempDir(), "another.git")
	require.NoError(t, os.MkdirAll(another, 0o700))
	gitSays(t, another, "init", "-q", "--bare", "-b", "main")
	long := strings.Repeat("a-long-folder/", 30)
	p.set(copies.Copy{Name: "mirror", Destination: "git:" + another, Names: long + "{device}.cfg"})
	p.run("mirror", "4 written")
	assert.Contains(t, gitSays(t, another, "show", "main:"+long+"ng-acc-1.cfg"), "lan 4\n")

	// What is somebody else's is left alone.
	other := filepath.Join(t.TempDir(), "other")
	require.NoError(t, os.MkdirAll(other, 0o700))
	gitSays(t, other, "init", "-q", "-b", "main")
	gitSays(t, other, "-c", "user.name=x", "-c", "user.email=x", "commit", "-q", "--allow-empty", "-m", "mine")
	p.set(copies.Copy{Name: "other", Destination: "git:" + other, Names: "{device}.cfg"})
	_, err = p.s.Run(t.Context(), "other")
	require.ErrorContains(t, err, "no copy of ours")
	require.NoError(t, p.s.Delete(t.Context(), "mirror", "lead"))
}

// server is an SFTP server on loopback.
func server(t *testing.T, root string) (address string, changeKey func()) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	conf := &ssh.ServerConfig{PasswordCallback: func(c ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
		if c.User() == "keeper" && string(password) == "over-the-verge" {
			return nil, nil
		}
		return nil, fmt.Errorf("no")
	}}
	changeKey = func() {
		key, err := drop.NewKey()
		require.NoError(t, err)
		signer, err := ssh.ParsePrivateKey(key)
		require.NoError(t, err)
		conf.AddHostKey(signer)
	}
	changeKey()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				_, channels, requests, err := ssh.NewServerConn(c, conf)
				if err != nil {
					return
				}
				go ssh.DiscardRequests(requests)
				for nc := range channels {
					ch, requests, err := nc.Accept()
					if err != nil {
						return
					}
					go func() {
						for r := range requests {
							_ = r.Reply(r.Type == "subsystem", nil)
						}
					}()
					s, err := sftp.NewServer(ch, sftp.WithServerWorkingDirectory(root))
					if err != nil {
						return
					}
					_ = s.Serve()
					_ = ch.Close()
				}
			}()
		}
	}()
	return l.Addr().String(), changeKey
}

func TestAnSFTPServerIsKeptCurrent(t *testing.T) {
	p := newPlace(t)
	_, err := p.Vault.Add(t.Context(), vault.Credential{Name: "files", Username: "keeper", Selector: "name=none", Secrets: vault.Secrets{Password: "over-the-verge"}}, "lead", p.Now())
	require.NoError(t, err)
	p.put("ng-acc-1", 1)
	root := t.TempDir()
	address, changeKey := server(t, root)
	where := filepath.Join(root, "deep", "configurations")
	p.set(copies.Copy{Name: "vault", Destination: "sftp://" + address + where, Names: "{site}/{device}.cfg", Credential: "files"})
	p.run("vault", "1 written")
	assert.Contains(t, files(t, where)["_/ng-acc-1.cfg"], "lan 1\n")
	p.put("ng-acc-1", 2)
	p.run("vault", "1 written")
	assert.Contains(t, files(t, where)["_/ng-acc-1.cfg"], "lan 2\n")
	require.NoError(t, p.s.Send(t.Context(), "vault", "heads-signed.json", []byte("{}\n")))
	assert.Equal(t, "{}\n", files(t, where)["heads-signed.json"])

	// Another machine in its place gets nothing, until somebody says that it may.
	changeKey()
	p.put("ng-acc-1", 3)
	_, err = p.s.Run(t.Context(), "vault")
	require.ErrorIs(t, err, copies.ErrPlace)
	assert.ErrorContains(t, err, "another host key")
	assert.Contains(t, files(t, where)["_/ng-acc-1.cfg"], "lan 2\n")
	require.NoError(t, p.s.Forget(t.Context(), "vault", "a new machine", "lead"))
	p.run("vault", "1 written")

	p.set(copies.Copy{Name: "wrong", Destination: "sftp://guest@" + address + where, Credential: "files"})
	_, err = p.s.Run(t.Context(), "wrong")
	require.ErrorIs(t, err, copies.ErrPlace)
}

// TestOneThatCannotBeShownHoldsUpNoOther has a configuration whose dialect is gone,
// so that nobody knows where its secrets stand.
func TestOneThatCannotBeShownHoldsUpNoOther(t *testing.T) {
	p := newPlace(t)
	p.Put(t, "v-petrel-r", "capstan", "system { host v-petrel-r; }\n")
	p.put("ng-acc-1", 1)
	remote := filepath.Join(t.TempDir(), "remote.git")
	require.NoError(t, os.MkdirAll(remote, 0o700))
	gitSays(t, remote, "init", "-q", "--bare", "-b", "main")
	where := filepath.Join(t.TempDir(), "shelf")
	p.set(copies.Copy{Name: "shelf", Destination: "folder:" + where, Names: "{device}.cfg"})
	p.set(copies.Copy{Name: "mirror", Destination: "git:" + remote, Names: "{device}.cfg"})
	capstan := p.Set["capstan"]
	delete(p.Set, "capstan")
	for _, name := range []string{"shelf", "mirror", "shelf", "mirror"} {
		c, err := p.s.Run(t.Context(), name)
		require.ErrorIs(t, err, copies.ErrPlace, name)
		assert.Contains(t, c.LastSaid, "1 left out; v-petrel-r@1: its secrets cannot be masked")
	}
	assert.Contains(t, files(t, where), "ng-acc-1.cfg")
	assert.NotContains(t, files(t, where), "v-petrel-r.cfg")
	assert.Contains(t, gitSays(t, remote, "show", "main:ng-acc-1.cfg"), "lan 1\n")
	// Once it is there again, so is the copy.
	p.Set["capstan"] = capstan
	p.run("shelf", "1 written")
	p.run("mirror", "1 written")
	assert.Contains(t, gitSays(t, remote, "show", "main:v-petrel-r.cfg"), "v-petrel-r")
}

// TestCopiesFollowRounds has a round end, and a copy that could not be written.
func TestCopiesFollowRounds(t *testing.T) {
	p := newPlace(t)
	p.put("ng-acc-1", 1)
	where := filepath.Join(t.TempDir(), "shelf")
	p.set(copies.Copy{Name: "shelf", Destination: "folder:" + where, Names: "{device}.cfg"})
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() { p.s.Keep(ctx); close(ended) }()
	has := func(want string) {
		t.Helper()
		require.Eventually(t, func() bool {
			data, err := os.ReadFile(filepath.Join(where, "ng-acc-1.cfg"))
			return err == nil && strings.Contains(string(data), want)
		}, time.Minute, 10*time.Millisecond, want)
	}
	has("lan 1\n") // what was there before it began
	p.put("ng-acc-1", 2)
	p.bus.Publish("round-ended", nil)
	has("lan 2\n")
	cancel()
	<-ended
	ends, err := p.Archive.Ends(t.Context())
	require.NoError(t, err)
	require.Len(t, ends, 1)
	assert.Equal(t, []int{2, 2}, []int{ends[0].Newest, ends[0].Last})
	var none []archive.Revision
	after, err := p.Archive.After(t.Context(), ends[0].ID, 2)
	require.NoError(t, err)
	assert.Equal(t, none, after)
}
