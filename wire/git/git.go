// Package git keeps repositories: it runs git itself, reads what the commits of a
// history changed, and adds commits by git fast-import.
package git

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"time"
)

// ErrMissing says that git is not installed.
var ErrMissing = errors.New("git is not installed; it is needed for git repositories")

// Branch is the one that histories are written to.
const Branch = "refs/heads/main"

// Run runs git in a folder. What it says when it fails is the error; it never
// asks anybody for anything.
func Run(ctx context.Context, folder string, stdin io.Reader, args ...string) ([]byte, error) {
	cmd := command(ctx, folder, args...)
	var out, said bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = stdin, &out, &said
	err := cmd.Run()
	switch {
	case errors.Is(err, exec.ErrNotFound):
		return nil, ErrMissing
	case err != nil && ctx.Err() != nil:
		return nil, fmt.Errorf("git %s: %w", args[0], context.Cause(ctx))
	case err != nil:
		return nil, fmt.Errorf("git %s: %.500s", args[0], strings.TrimSpace(said.String()))
	}
	return out.Bytes(), nil
}

func command(ctx context.Context, folder string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, "git", append([]string{"-C", folder}, args...)...)
	cmd.Env = append(os.Environ(), "GIT_TERMINAL_PROMPT=0")
	if os.Getenv("GIT_SSH_COMMAND") == "" {
		cmd.Env = append(cmd.Env, "GIT_SSH_COMMAND=ssh -o BatchMode=yes -o ConnectTimeout=20")
	}
	cmd.WaitDelay = time.Second
	return cmd
}

// Init makes a repository in a folder that is not there, and leaves one that is
// as it is. A bare one has no files of its own.
func Init(ctx context.Context, folder string, bare bool) error {
	if _, err := os.Stat(folder); !errors.Is(err, os.ErrNotExist) {
		return err
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	args := []string{"init", "-q", "-b", "main"}
	if bare {
		args = append(args, "--bare")
	}
	_, err := Run(ctx, folder, nil, args...)
	return err
}

// Trailers are the values of a trailer in the commits of the branch; none where
// there is no commit.
func Trailers(ctx context.Context, folder, key string) (map[string]bool, error) {
	values := map[string]bool{}
	if begun, err := Begun(ctx, folder); err != nil || !begun {
		return values, err
	}
	out, err := Run(ctx, folder, nil, "log", "--format=%(trailers:key="+key+",valueonly)", Branch)
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(string(out)) {
		if line = strings.TrimSpace(line); line != "" {
			values[line] = true
		}
	}
	return values, nil
}

// Commit is one file at one time.
type Commit struct {
	Path     string
	Author   string // "" for the service
	At       time.Time
	Arrived  time.Time // when it was put on record
	Title    string
	Trailers [][2]string
	Text     []byte
}

// Committer is who puts commits on record.
const Committer = "Verge Keep"

// Add adds commits to the branch; an error of one of them adds none at all.
func Add(ctx context.Context, folder string, commits iter.Seq2[Commit, error]) error {
	goesOn, err := Begun(ctx, folder)
	if err != nil {
		return err
	}
	stream, feed := io.Pipe()
	defer stream.Close()
	told := make(chan error, 1)
	go func() {
		w := bufio.NewWriterSize(feed, 1<<20)
		err := tell(w, commits, goesOn)
		if err == nil {
			err = w.Flush()
		}
		_ = feed.CloseWithError(err)
		told <- err
	}()
	// Only at "done" does it put the branch forward.
	_, err = Run(ctx, folder, stream, "fast-import", "--quiet", "--done")
	_ = stream.CloseWithError(io.ErrClosedPipe)
	if why := <-told; why != nil && !errors.Is(why, io.ErrClosedPipe) {
		return why
	}
	return err
}

func tell(w io.Writer, commits iter.Seq2[Commit, error], goesOn bool) error {
	first := true
	for c, err := range commits {
		if err != nil {
			return err
		}
		if !fs.ValidPath(c.Path) {
			return fmt.Errorf("%q is no path within a repository: %w", c.Path, fs.ErrInvalid)
		}
		who := strings.TrimSpace(strings.NewReplacer("<", "", ">", "", "\n", " ", "\x00", "").Replace(c.Author))
		if who == "" {
			who = Committer
		}
		var message strings.Builder
		message.WriteString(strings.ReplaceAll(c.Title, "\n", " ") + "\n\n")
		for _, t := range c.Trailers {
			fmt.Fprintf(&message, "%s: %s\n", t[0], t[1])
		}
		from := ""
		if first && goesOn {
			from = "from " + Branch + "^0\n"
		}
		first = false
		if _, err := fmt.Fprintf(w, "commit %s\nauthor %s <> %d +0000\ncommitter %s <> %d +0000\ndata %d\n%s%sM 100644 inline %s\ndata %d\n%s\n",
			Branch, who, c.At.Unix(), Committer, c.Arrived.Unix(), message.Len(), message.String(), from, quoted(c.Path), len(c.Text), c.Text); err != nil {
			return err
		}
	}
	_, err := io.WriteString(w, "done\n")
	return err
}

// quoted is a path as git fast-import wants it.
func quoted(path string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(path) + `"`
}

// Begun says whether the branch has a commit.
func Begun(ctx context.Context, folder string) (bool, error) {
	_, err := Run(ctx, folder, nil, "rev-parse", "-q", "--verify", Branch)
	return err == nil, ctx.Err()
}

// Fetch takes the branch of a remote in, if it has one.
func Fetch(ctx context.Context, folder, remote string) error {
	out, err := Run(ctx, folder, nil, "ls-remote", "--", remote, Branch)
	if err != nil || len(out) == 0 {
		return err
	}
	_, err = Run(ctx, folder, nil, "fetch", "-q", "--", remote, Branch+":"+Branch)
	return err
}

// Push sends the branch to a remote, which is a name, a path or an address.
func Push(ctx context.Context, folder, remote string) error {
	_, err := Run(ctx, folder, nil, "push", "-q", "--", remote, Branch)
	return err
}

// Change is a file that a commit made or changed.
type Change struct {
	Path, Author string
	At           time.Time
	blob         string
}

// History is what the commits of a repository changed. Close it when done.
type History struct {
	Changes []Change // the first ones first

	cmd  *exec.Cmd
	ask  io.WriteCloser
	tell *bufio.Reader
}

// Read reads what the commits of the present branch changed. Of a merge it is what
// the merge brought to its first parent; a file that was given a new name is one
// that came; one that was taken away, and another repository within, is not told
// of.
func Read(ctx context.Context, folder string) (*History, error) {
	out, err := Run(ctx, folder, nil, "log", "--reverse", "--first-parent", "-m", "--raw", "--no-abbrev", "--no-renames", "-z", "--format=%x01%ct%x02%an")
	if err != nil {
		return nil, err
	}
	h := &History{}
	if h.Changes, err = readLog(out); err != nil {
		return nil, err
	}
	h.cmd = command(ctx, folder, "cat-file", "--batch")
	if h.ask, err = h.cmd.StdinPipe(); err != nil {
		return nil, err
	}
	answers, err := h.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	h.tell = bufio.NewReaderSize(answers, 1<<16)
	return h, h.cmd.Start()
}

// Text is what a change left in its file; at most so many bytes. It is for one
// goroutine.
func (h *History) Text(c Change, limit int64) ([]byte, error) {
	if _, err := io.WriteString(h.ask, c.blob+"\n"); err != nil {
		return nil, fmt.Errorf("git cat-file: %w", err)
	}
	head, err := h.tell.ReadString('\n')
	if err != nil {
		return nil, fmt.Errorf("git cat-file: %w", err)
	}
	var size int64
	if fields := strings.Fields(head); len(fields) == 3 && fields[1] == "blob" {
		size, err = strconv.ParseInt(fields[2], 10, 64)
	} else {
		err = errors.New(strings.TrimSpace(head))
	}
	if err != nil {
		return nil, fmt.Errorf("git cat-file: %w", err)
	}
	if size > limit {
		if _, err := io.CopyN(io.Discard, h.tell, size+1); err != nil {
			return nil, err
		}
		return nil, fmt.Errorf("%s is larger than %d MiB", c.Path, limit>>20)
	}
	text := make([]byte, size+1) // and a line end
	if _, err := io.ReadFull(h.tell, text); err != nil {
		return nil, fmt.Errorf("git cat-file: %w", err)
	}
	return text[:size], nil
}

// Close ends the reading.
func (h *History) Close() error {
	return errors.Join(h.ask.Close(), h.cmd.Wait())
}

func readLog(out []byte) ([]Change, error) {
	var list []Change
	_, out, _ = bytes.Cut(out, []byte{1})
	for commit := range bytes.SplitSeq(out, []byte{1}) {
		head, rest, _ := bytes.Cut(commit, []byte{0})
		stamp, author, _ := strings.Cut(strings.TrimSpace(string(head)), "\x02")
		if stamp == "" {
			continue
		}
		seconds, err := strconv.ParseInt(stamp, 10, 64)
		if err != nil {
			return nil, fmt.Errorf("git says %q where a time should be", stamp)
		}
		parts := bytes.Split(bytes.TrimLeft(rest, "\n"), []byte{0})
		for i := 0; i+1 < len(parts); i += 2 {
			meta, path := strings.Fields(strings.TrimSpace(string(parts[i]))), string(parts[i+1])
			const submodule = "160000"
			if len(meta) < 5 || strings.HasPrefix(meta[4], "D") || meta[1] == submodule {
				continue
			}
			list = append(list, Change{Path: path, Author: author, At: time.Unix(seconds, 0), blob: meta[3]})
		}
	}
	return list, nil
}
