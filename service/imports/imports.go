// Package imports keeps lists of devices in step with where they come from: a
// file, an address, a git repository, or a command's output.
package imports

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"vergekeep/core/nearest"
	"vergekeep/core/ref"
	"vergekeep/service/fleet"
	"vergekeep/service/journal"
	"vergekeep/service/rounds"
	"vergekeep/store"
)

// Errors that callers test for.
var (
	ErrInvalid = errors.New("not an import")
	ErrUnknown = errors.New("no such import")
	ErrFetch   = errors.New("the list could not be fetched")
)

const (
	maxList    = 32 << 20
	fetchLimit = 2 * time.Minute
)

// Import is a list that is kept in step.
type Import struct {
	Name       string
	Source     string // file:PATH, https://…, git:REPOSITORY#PATH, command:LINE
	Expression string
	Zone       string
	LastRun    time.Time
	LastSaid   string
	LastFailed bool

	due time.Time
}

// Service keeps imports.
type Service struct {
	db       *store.DB
	fleet    *fleet.Fleet
	log      *slog.Logger
	now      func() time.Time
	commands bool
}

// New makes a service. Without commands, no source may be a command.
func New(db *store.DB, f *fleet.Fleet, log *slog.Logger, now func() time.Time, commands bool) *Service {
	return &Service{db, f, log, now, commands}
}

func (s *Service) check(i *Import) error {
	if err := ref.CheckName(i.Name); err != nil {
		return fmt.Errorf("%w: the name %w", ErrInvalid, err)
	}
	kind, where, _ := strings.Cut(i.Source, ":")
	switch {
	case where == "":
		return fmt.Errorf("%w: say where from: file:PATH, https://…, git:REPOSITORY#PATH or command:LINE", ErrInvalid)
	case kind == "command" && !s.commands:
		return fmt.Errorf("%w: the service runs no commands unless it is started with --allow-commands", ErrInvalid)
	case kind == "git" && !strings.Contains(where, "#"):
		return fmt.Errorf("%w: say which file of the repository: git:REPOSITORY#PATH", ErrInvalid)
	case kind == "file" && !filepath.IsAbs(where):
		return fmt.Errorf("%w: the path must start at the root of the service's machine", ErrInvalid)
	case kind != "file" && kind != "git" && kind != "command" && kind != "https" && kind != "http":
		return fmt.Errorf("%w: %q is no source; there are file, https, http, git and command.%s", ErrInvalid, kind, nearest.Hint(kind, []string{"file", "https", "http", "git", "command"}))
	}
	if i.Expression == "" {
		i.Expression = "0 * * * *"
	}
	if i.Zone == "" {
		i.Zone = "UTC"
	}
	_, err := rounds.NextDue(i.Expression, i.Zone, s.now())
	return err
}

// List is all imports, in order of name.
func (s *Service) List(ctx context.Context) ([]Import, error) {
	rows, err := s.db.Query(ctx, `SELECT name, source, expression, zone, last_due, last_run, last_said, last_failed FROM imports ORDER BY lower(name)`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Import
	for rows.Next() {
		var i Import
		var due, run int64
		if err := rows.Scan(&i.Name, &i.Source, &i.Expression, &i.Zone, &due, &run, &i.LastSaid, &i.LastFailed); err != nil {
			return nil, err
		}
		i.due, i.LastRun = store.Time(due), store.Time(run)
		list = append(list, i)
	}
	return list, rows.Err()
}

// Get is the import of that name.
func (s *Service) Get(ctx context.Context, name string) (Import, error) {
	list, err := s.List(ctx)
	if err != nil {
		return Import{}, err
	}
	var names []string
	for _, i := range list {
		if strings.EqualFold(i.Name, name) {
			return i, nil
		}
		names = append(names, i.Name)
	}
	return Import{}, fmt.Errorf("%w: %q.%s", ErrUnknown, name, nearest.Hint(name, names))
}

// Set makes or changes an import.
func (s *Service) Set(ctx context.Context, i Import, by string) (Import, error) {
	if err := s.check(&i); err != nil {
		return i, err
	}
	err := s.db.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`INSERT INTO imports (name, source, expression, zone, last_due) VALUES (?, ?, ?, ?, ?)
			ON CONFLICT (name) DO UPDATE SET source = excluded.source, expression = excluded.expression, zone = excluded.zone, last_due = excluded.last_due`,
			i.Name, i.Source, i.Expression, i.Zone, store.Stamp(s.now())); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: s.now(), Account: by, Action: "import set", Object: i.Name, Detail: i.Source})
	})
	if err != nil {
		return i, err
	}
	return s.Get(ctx, i.Name)
}

// Delete takes an import away. Its devices stay as they are.
func (s *Service) Delete(ctx context.Context, name, by string) error {
	i, err := s.Get(ctx, name)
	if err != nil {
		return err
	}
	return s.db.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`DELETE FROM imports WHERE name = ?`, i.Name); err != nil {
			return err
		}
		if _, err := tx.Exec(`UPDATE devices SET source = '', vanished = 0 WHERE source = ?`, i.Name); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: s.now(), Account: by, Action: "import delete", Object: i.Name})
	})
}

// Run fetches the list and takes it in; a preview only says what would become
// of each line. A list that cannot be fetched or read changes nothing.
func (s *Service) Run(ctx context.Context, name string, preview bool, by string) ([]fleet.Line, error) {
	i, err := s.Get(ctx, name)
	if err != nil {
		return nil, err
	}
	text, err := s.fetch(ctx, i.Source)
	var lines []fleet.Line
	if err == nil {
		lines, err = s.fleet.Take(ctx, fleet.Import{Text: text, Source: i.Name, DryRun: preview}, by)
	}
	if preview {
		return lines, err
	}
	said := Summary(lines)
	if err != nil {
		said = err.Error()
	}
	noted := s.db.Write(context.WithoutCancel(ctx), func(tx *store.Tx) error {
		_, err2 := tx.Exec(`UPDATE imports SET last_run = ?, last_said = ?, last_failed = ? WHERE name = ?`, store.Stamp(s.now()), said, err != nil, i.Name)
		return err2
	})
	return lines, errors.Join(err, noted)
}

// Summary says in words what became of the lines.
func Summary(lines []fleet.Line) string {
	count := map[fleet.Fate]int{}
	for _, l := range lines {
		count[l.Fate]++
	}
	var said []string
	for _, part := range []struct {
		fate fleet.Fate
		word string
	}{{fleet.FateAdd, "added"}, {fleet.FateChange, "changed"}, {fleet.FatePause, "paused"}, {fleet.FateUnchanged, "unchanged"}, {fleet.FateRefuse, "refused"}} {
		if n := count[part.fate]; n > 0 {
			said = append(said, fmt.Sprintf("%d %s", n, part.word))
		}
	}
	return strings.Join(said, ", ")
}

// Keep runs imports when they are due, until ctx ends.
func (s *Service) Keep(ctx context.Context) {
	tick := time.NewTicker(5 * time.Second)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
		list, err := s.List(ctx)
		if err != nil {
			continue
		}
		for _, i := range list {
			due, err := rounds.NextDue(i.Expression, i.Zone, i.due)
			if err != nil || due.After(s.now()) {
				continue
			}
			if _, err := s.Run(ctx, i.Name, false, journal.System); err != nil && ctx.Err() == nil {
				s.log.Error("an import failed; its devices stay as they were", "import", i.Name, "error", err)
			}
			_ = s.db.Write(ctx, func(tx *store.Tx) error {
				_, err := tx.Exec(`UPDATE imports SET last_due = ? WHERE name = ?`, store.Stamp(s.now()), i.Name)
				return err
			})
		}
	}
}

func (s *Service) fetch(ctx context.Context, source string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, fetchLimit)
	defer cancel()
	kind, where, _ := strings.Cut(source, ":")
	var text []byte
	var err error
	switch kind {
	case "file":
		text, err = readFile(where)
	case "http", "https":
		text, err = readURL(ctx, source)
	case "git":
		text, err = readGit(ctx, where)
	case "command":
		if !s.commands {
			return "", fmt.Errorf("%w: the service runs no commands unless it is started with --allow-commands", ErrFetch)
		}
		text, err = output(exec.CommandContext(ctx, "/bin/sh", "-c", where))
	}
	if err == nil && len(text) > maxList {
		err = fmt.Errorf("it has more than %d MiB", maxList>>20)
	}
	if err != nil {
		return "", fmt.Errorf("%w: %w", ErrFetch, err)
	}
	return string(text), nil
}

func readFile(path string) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, maxList+1))
}

func readURL(ctx context.Context, url string) ([]byte, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return nil, err
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("it answered %s", response.Status)
	}
	text, err := io.ReadAll(io.LimitReader(response.Body, maxList+1))
	if err == nil && response.ContentLength >= 0 && int64(len(text)) < min(response.ContentLength, maxList) {
		err = io.ErrUnexpectedEOF
	}
	return text, err
}

// readGit reads a file of a repository's present state.
func readGit(ctx context.Context, where string) ([]byte, error) {
	repository, path, _ := strings.Cut(where, "#")
	if strings.HasPrefix(repository, "-") {
		return nil, errors.New("not a repository")
	}
	folder, err := os.MkdirTemp("", "vergekeep-import-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(folder)
	clone := exec.CommandContext(ctx, "git", "clone", "--quiet", "--depth", "1", "--no-checkout", "--", repository, folder)
	clone.Env = append(os.Environ(), "GIT_TERMINAL_PROMPT=0")
	if _, err := output(clone); err != nil {
		return nil, err
	}
	show := exec.CommandContext(ctx, "git", "-C", folder, "show", "HEAD:"+path)
	return output(show)
}

func output(cmd *exec.Cmd) ([]byte, error) {
	var complaints bytes.Buffer
	cmd.Stderr = &complaints
	cmd.WaitDelay = time.Second
	out, err := cmd.Output()
	if err != nil {
		said, _, _ := strings.Cut(strings.TrimSpace(complaints.String()), "\n")
		return nil, fmt.Errorf("%s ended with %w: %.200s", filepath.Base(cmd.Path), err, said)
	}
	return out, nil
}
