package audits

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"vergekeep/core/form"
	"vergekeep/core/ref"
	"vergekeep/service/journal"
	"vergekeep/store"
	"vergekeep/wire/git"
)

// ErrSource is wrapped where a source of documents makes no sense, or cannot be read.
var ErrSource = errors.New("documents cannot be read from there")

// Source is a git repository whose policies and standards count. It is read again
// every few minutes, and when it is asked for.
type Source struct {
	Name     string
	Remote   string // what git clone takes
	Path     string // folder within it; "" for all of it
	LastRun  time.Time
	LastSaid string // what is wrong: file, line and column of each mistake
	Failed   bool
	Revision string // the commit that counts
	Account  string
	At       time.Time
}

// sourcesEvery is how often sources are read again.
const sourcesEvery = 5 * time.Minute

// Sources are all of them, in order of name.
func (s *Service) Sources(ctx context.Context) ([]Source, error) {
	rows, err := s.DB.Query(ctx, `SELECT name, remote, path, last_run, last_said, failed, revision, account, at FROM document_sources ORDER BY lower(name)`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Source
	for rows.Next() {
		var x Source
		var run, at int64
		if err := rows.Scan(&x.Name, &x.Remote, &x.Path, &run, &x.LastSaid, &x.Failed, &x.Revision, &x.Account, &at); err != nil {
			return nil, err
		}
		x.LastRun, x.At = store.Time(run), store.Time(at)
		list = append(list, x)
	}
	return list, rows.Err()
}

// SetSource makes or changes a source, and reads it.
func (s *Service) SetSource(ctx context.Context, x Source) (Source, error) {
	switch err := ref.CheckName(x.Name); {
	case err != nil:
		return x, fmt.Errorf("%w: its name %w", ErrSource, err)
	case x.Name == Shipped:
		return x, fmt.Errorf("%w: %q is what ships with the product", ErrSource, Shipped)
	case x.Remote == "" || strings.HasPrefix(x.Remote, "-") || len(x.Remote) > 1000 || strings.ContainsAny(x.Remote, "\n\x00"):
		return x, fmt.Errorf("%w: name a repository as git clone takes it", ErrSource)
	case strings.HasPrefix(x.Path, "/") || strings.Contains(x.Path, ".."):
		return x, fmt.Errorf("%w: the path is a folder within the repository", ErrSource)
	}
	err := s.DB.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`INSERT INTO document_sources (name, remote, path, account, at) VALUES (?1, ?2, ?3, ?4, ?5) ON CONFLICT (name) DO UPDATE SET remote = ?2, path = ?3, account = ?4, at = ?5`,
			x.Name, x.Remote, x.Path, x.Account, store.Stamp(s.Now())); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: s.Now(), Account: x.Account, Action: "source set", Object: x.Name, Detail: x.Remote})
	})
	if err != nil {
		return x, err
	}
	return s.ReadSource(ctx, x.Name)
}

// DeleteSource takes a source away; its documents count no more.
func (s *Service) DeleteSource(ctx context.Context, name, by string) error {
	err := s.DB.Write(ctx, func(tx *store.Tx) error {
		res, err := tx.Exec(`DELETE FROM document_sources WHERE name = ?`, name)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, fmt.Errorf("%w: the source %q", ErrUnknown, name))
		}
		if _, err := tx.Exec(`UPDATE documents SET until = ? WHERE source = ? AND until = 0`, store.Stamp(s.Now()), name); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: s.Now(), Account: by, Action: "source delete", Object: name})
	})
	if err == nil {
		s.Wake()
	}
	return err
}

// maxFiles bounds what one source can hold.
const maxFiles = 500

// ReadSource reads a source now. A file with a mistake does not count: the last good
// version of its document goes on, and what is wrong is kept and given back. A
// document that is in the repository no more counts no more.
func (s *Service) ReadSource(ctx context.Context, name string) (Source, error) {
	list, err := s.Sources(ctx)
	if err != nil {
		return Source{}, err
	}
	for _, x := range list {
		if strings.EqualFold(x.Name, name) {
			return s.readSource(ctx, x)
		}
	}
	return Source{}, fmt.Errorf("%w: the source %q", ErrUnknown, name)
}

func (s *Service) readSource(ctx context.Context, x Source) (Source, error) {
	revision, files, err := git.Snapshot(ctx, x.Remote, x.Path, []string{".yaml", ".yml"}, maxFiles, 1<<20)
	x.LastRun, x.LastSaid, x.Failed = s.Now(), "", false
	if err != nil {
		x.LastSaid, x.Failed = err.Error(), true
		return x, s.noteSource(ctx, x, nil)
	}
	x.Revision = revision
	there := map[string]bool{}
	var wrong []string
	for _, f := range files {
		kind := Policy
		if isStandard(f.Text) {
			kind = Standard
		}
		d, err := s.understand(kind, path.Base(f.Name), f.Text)
		if err == nil && d.allowed(false) != nil {
			err = fmt.Errorf("%s: %w", f.Name, d.allowed(false))
		}
		if err != nil {
			var fault *form.Error
			if errors.As(err, &fault) {
				for _, c := range fault.Complaints {
					c.File = f.Name
					wrong = append(wrong, c.String())
				}
			} else {
				wrong = append(wrong, err.Error())
			}
			there[string(kind)+":"+named(f.Text, kind)] = true // the last good one goes on
			continue
		}
		there[d.key()] = true
		if err := s.put(ctx, Document{Kind: kind, Name: d.name, Hash: d.hash, Text: f.Text, Source: x.Name, Revision: revision, Account: journal.System}); err != nil {
			return x, err
		}
	}
	if len(wrong) > 0 {
		x.Failed, x.LastSaid = true, strings.Join(wrong[:min(len(wrong), 50)], "\n")
	}
	return x, s.noteSource(ctx, x, there)
}

// noteSource writes what became of a reading; there says which documents the
// repository has (nil: it could not be read).
func (s *Service) noteSource(ctx context.Context, x Source, there map[string]bool) error {
	defer s.Wake()
	return s.DB.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`UPDATE document_sources SET last_run = ?, last_said = ?, failed = ?, revision = ? WHERE name = ?`, store.Stamp(x.LastRun), x.LastSaid, x.Failed, x.Revision, x.Name); err != nil || there == nil {
			return err
		}
		rows, err := tx.Query(`SELECT kind, name FROM documents WHERE source = ? AND until = 0`, x.Name)
		if err != nil {
			return err
		}
		var gone [][2]string
		for rows.Next() {
			var kind, name string
			if err := rows.Scan(&kind, &name); err != nil {
				return errors.Join(err, rows.Close())
			}
			if !there[kind+":"+name] {
				gone = append(gone, [2]string{kind, name})
			}
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil {
			return err
		}
		for _, g := range gone {
			if _, err := tx.Exec(`UPDATE documents SET until = ? WHERE kind = ? AND name = ? AND source = ? AND until = 0`, store.Stamp(s.Now()), g[0], g[1], x.Name); err != nil {
				return err
			}
			if err := journal.Append(tx, journal.Entry{At: s.Now(), Account: journal.System, Action: g[0] + " delete", Object: g[1], Detail: "no longer in " + x.Name}); err != nil {
				return err
			}
		}
		return nil
	})
}

// isStandard tells the kinds apart by the key that only one of them has.
func isStandard(text string) bool { return named(text, Standard) != "" }

// named is the name that a text gives itself, also where the rest of it is faulty.
func named(text string, kind Kind) string {
	for line := range strings.Lines(text) {
		if rest, ok := strings.CutPrefix(line, string(kind)+":"); ok {
			return strings.Trim(strings.TrimSpace(rest), `"'`)
		}
	}
	return ""
}

// sources reads those that were not read for so long. What cannot be read is told by
// the source.
func (s *Service) sources(ctx context.Context, age time.Duration) error {
	list, err := s.Sources(ctx)
	if err != nil {
		return err
	}
	for _, x := range list {
		if s.Now().Sub(x.LastRun) < age {
			continue
		}
		if _, err := s.readSource(ctx, x); err != nil {
			return err
		}
	}
	return nil
}
