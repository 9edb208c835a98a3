package copies

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"vergekeep/archive"
	"vergekeep/core/naming"
	"vergekeep/wire/git"
	"vergekeep/wire/ssh"
)

// place is where the files of a copy stand.
type place interface {
	// Put writes a file as a whole or not at all, in the place of the one that
	// was there.
	Put(path string, data []byte) error
	Close() error
}

// mark is the file by which a folder is known to be ours; no other one is ever
// written to, for it may be somebody's.
const mark = "this-is-a-copy.txt"

func marked(c *Copy) []byte {
	return fmt.Appendf(nil, "Verge Keep keeps this copy, %q, current. What is changed here is lost at the next round.\n", c.Name)
}

func ours(where string, names []string) error {
	if len(names) > 0 && !slices.Contains(names, mark) {
		return fmt.Errorf("%s is not empty, and no copy of ours: name another folder, or empty it", where)
	}
	return nil
}

func (s *Service) open(ctx context.Context, c *Copy) (place, error) {
	if root, ok := strings.CutPrefix(c.Destination, "folder:"); ok {
		return openFolder(c, filepath.Clean(root))
	}
	return s.openSFTP(ctx, c)
}

// folder is a folder of this machine.
type folder struct{ root *os.Root }

func openFolder(c *Copy, where string) (place, error) {
	if err := os.MkdirAll(where, 0o700); err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(where)
	if err != nil {
		return nil, err
	}
	f := folder{root}
	list, err := os.ReadDir(where)
	if err == nil {
		var names []string
		for _, e := range list {
			names = append(names, e.Name())
		}
		if err = ours(where, names); err == nil && len(names) == 0 {
			err = f.Put(mark, marked(c))
		}
	}
	if err != nil {
		return nil, errors.Join(err, root.Close())
	}
	return f, nil
}

func (f folder) Close() error { return f.root.Close() }

func (f folder) Put(name string, data []byte) error {
	if err := f.root.MkdirAll(path.Dir(name), 0o700); err != nil {
		return err
	}
	beside := name + ".part"
	w, err := f.root.OpenFile(beside, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = w.Write(data)
	if err = errors.Join(err, w.Sync(), w.Close()); err != nil {
		return errors.Join(err, f.root.Remove(beside))
	}
	return f.root.Rename(beside, name)
}

// remote is a folder on an SFTP server.
type remote struct {
	conn  *ssh.Conn
	files *ssh.Folder
	root  string
}

func (s *Service) openSFTP(ctx context.Context, c *Copy) (place, error) {
	u, err := url.Parse(c.Destination)
	if err != nil {
		return nil, err
	}
	cred, err := s.Vault.Get(ctx, c.Credential)
	if err == nil {
		cred, err = s.Vault.Resolve(ctx, cred)
	}
	if err != nil {
		return nil, err
	}
	port, user := u.Port(), u.User.Username()
	if port == "" {
		port = "22"
	}
	if user == "" {
		user = cred.Username
	}
	target := ssh.Target{
		Addresses: []string{net.JoinHostPort(u.Hostname(), port)}, Connect: 30 * time.Second, Silence: time.Minute,
		Login: ssh.Login{User: user, Password: cred.Password, Key: cred.Key, Passphrase: cred.Passphrase},
	}
	if c.HostKey != "" {
		target.HostKeys = []string{c.HostKey}
	}
	conn, err := ssh.Dial(ctx, target)
	if err != nil {
		var key *ssh.KeyError
		if errors.As(err, &key) {
			return nil, fmt.Errorf("%w If that is right, accept it with 'vergekeep copy trust %s --why …'", err, c.Name)
		}
		return nil, err
	}
	c.HostKey = conn.HostKey
	files, err := conn.Folder()
	if err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	r := &remote{conn, files, path.Clean(u.Path)}
	names, err := files.Names(r.root)
	if err == nil {
		if err = ours(r.root, names); err == nil && len(names) == 0 {
			err = r.Put(mark, marked(c))
		}
	}
	if err != nil {
		return nil, errors.Join(err, r.Close())
	}
	return r, nil
}

func (r *remote) Put(name string, data []byte) error {
	return r.files.Put(path.Join(r.root, name), data)
}

func (r *remote) Close() error { return errors.Join(r.files.Close(), r.conn.Close()) }

// repository is where a mirror is made before it is pushed. Another remote, other
// names or other masking begin another one.
func (s *Service) repository(ctx context.Context, c *Copy) (string, error) {
	which := sha256.Sum256(fmt.Appendf(nil, "%s\n%s\n%t", c.Destination, c.Names, c.Secrets))
	where := filepath.Join(s.Data, "mirrors", fmt.Sprintf("%d-%x.git", c.ID, which[:8]))
	if err := git.Init(ctx, where, true); err != nil {
		return where, err
	}
	if begun, err := git.Begun(ctx, where); err != nil || begun {
		return where, err
	}
	// Ours may be lost while what was pushed is there: it goes on.
	if err := git.Fetch(ctx, where, remoteOf(c)); err != nil {
		return where, err
	}
	if begun, err := git.Begun(ctx, where); err != nil || !begun {
		return where, err
	}
	there, err := git.Trailers(ctx, where, "Revision")
	if err == nil && len(there) == 0 {
		err = fmt.Errorf("the remote's branch main is not empty, and no copy of ours: name another remote")
	}
	if err != nil {
		err = errors.Join(err, os.RemoveAll(where))
	}
	return where, err
}

func remoteOf(c *Copy) string { return strings.TrimPrefix(c.Destination, "git:") }

// mirror adds a commit a revision and pushes.
func (s *Service) mirror(ctx context.Context, c *Copy, names *naming.Pattern) (int, error) {
	where, err := s.repository(ctx, c)
	if err != nil {
		return 0, err
	}
	there, err := git.Trailers(ctx, where, "Revision")
	if err != nil {
		return 0, err
	}
	list, err := s.lacking(ctx, c, names, func(archive.End) int { return 0 })
	if err != nil {
		return 0, err
	}
	list = slices.DeleteFunc(list, func(e entry) bool {
		return e.Thinned || e.Origin == archive.Drafted || there[e.name()]
	})
	left := leftOut{}
	written := 0
	if len(list) > 0 {
		if written, err = s.commit(ctx, c, where, list, left); err != nil {
			return 0, err
		}
	}
	// What could not be pushed the last time is pushed now.
	return written, errors.Join(git.Push(ctx, where, remoteOf(c)), left.err())
}

func (s *Service) commit(ctx context.Context, c *Copy, where string, list []entry, left leftOut) (written int, err error) {
	heads, err := s.heads(ctx)
	if err != nil {
		return 0, err
	}
	err = git.Add(ctx, where, func(yield func(git.Commit, error) bool) {
		for i := range list {
			e := &list[i]
			text, ok := s.text(ctx, c, e, left)
			if !ok {
				continue
			}
			written++
			trailers := [][2]string{{"Revision", e.name()}, {"Hash", hex.EncodeToString(e.Hash[:])}}
			if e.round > 0 {
				trailers = append(trailers, [2]string{"Round", fmt.Sprint(e.round)})
			}
			if !yield(git.Commit{Path: e.path, Author: e.Author, At: e.FirstSeen, Arrived: e.Arrived, Title: e.of() + ": " + said(&e.Revision), Trailers: trailers, Text: []byte(text)}, nil) {
				return
			}
		}
		if written == 0 {
			return
		}
		now := s.Now()
		yield(git.Commit{Path: headsFile, At: now, Arrived: now, Title: "The ends of all chains", Text: heads}, nil)
	})
	return written, err
}

// commitFile puts one file into a mirror.
func (s *Service) commitFile(ctx context.Context, c *Copy, file, title string, data []byte) error {
	where, err := s.repository(ctx, c)
	if err != nil {
		return err
	}
	now := s.Now()
	if err := git.Add(ctx, where, func(yield func(git.Commit, error) bool) {
		yield(git.Commit{Path: file, At: now, Arrived: now, Title: title, Text: data}, nil)
	}); err != nil {
		return err
	}
	return git.Push(ctx, where, remoteOf(c))
}
