// Package copies keeps plain copies of the archive current elsewhere: in a folder
// of the service's machine, on an SFTP server, or as the history of a git
// repository that is pushed to a remote. They are brought up to date after each
// round.
package copies

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"vergekeep/archive"
	"vergekeep/core/dialect"
	"vergekeep/core/naming"
	"vergekeep/core/nearest"
	"vergekeep/core/proof"
	"vergekeep/core/ref"
	"vergekeep/core/selector"
	"vergekeep/service/events"
	"vergekeep/service/fleet"
	"vergekeep/service/journal"
	"vergekeep/service/rounds"
	"vergekeep/service/vault"
	"vergekeep/store"
)

// Errors that callers test for.
var (
	ErrInvalid = errors.New("it cannot be copied like this")
	ErrUnknown = errors.New("no such copy")
	ErrPlace   = errors.New("the copy could not be brought up to date")
)

// Copy is a copy that is kept current.
type Copy struct {
	ID          int64
	Name        string
	Destination string // folder:/PATH, sftp://[USER@]HOST[:PORT]/PATH, git:REMOTE
	Names       string // how its files are named, see [naming.Pattern]
	Selector    string
	Credential  string // that logs in to an SFTP server
	Secrets     bool   // with the secrets; masked otherwise
	HostKey     string // learnt at the first time
	LastRun     time.Time
	LastGood    time.Time
	LastSaid    string
	LastFailed  bool
}

// Heads says where the ends of all chains are.
type Heads func(ctx context.Context) (proof.Heads, error)

// Config is what a service needs.
type Config struct {
	DB       *store.DB
	Archive  *archive.Archive
	Fleet    *fleet.Fleet
	Rounds   *rounds.Service
	Vault    *vault.Vault
	Dialects dialect.Set
	Bus      *events.Bus
	Heads    Heads
	Data     string // folder for repositories before they are pushed
	Log      *slog.Logger
	Now      func() time.Time
}

// Service keeps copies.
type Service struct {
	Config
	running sync.Mutex // one at a time: two would write the same files
}

// New makes a Service.
func New(c Config) *Service { return &Service{Config: c} }

func (s *Service) check(c *Copy) error {
	bad := func(format string, args ...any) error {
		return fmt.Errorf("%w: %s", ErrInvalid, fmt.Sprintf(format, args...))
	}
	if err := ref.CheckName(c.Name); err != nil {
		return bad("the name %s", err)
	}
	kind, where, _ := strings.Cut(c.Destination, ":")
	switch kind {
	case "folder":
		if !filepath.IsAbs(where) || filepath.Clean(where) == "/" {
			return bad("the path of the folder must start at the root of the service's machine, and be below it")
		}
	case "sftp":
		u, err := url.Parse(c.Destination)
		if err != nil || u.Hostname() == "" || path.Clean(u.Path) == "/" || path.Clean(u.Path) == "." {
			return bad("an SFTP server is written sftp://HOST/PATH or sftp://USER@HOST:PORT/PATH")
		}
		if _, secret := u.User.Password(); secret {
			return bad("a password has no place in the destination; name a credential")
		}
		if c.Credential == "" {
			return bad("an SFTP server takes the name of a credential; 'vergekeep credential add' makes one")
		}
	case "git":
		if where == "" || strings.HasPrefix(where, "-") {
			return bad("say which remote: git:PATH or git:ADDRESS")
		}
		if u, err := url.Parse(where); err == nil && u.User != nil {
			if _, secret := u.User.Password(); secret {
				return bad("a password has no place in the remote; git asks the helper that the service's account has")
			}
		}
	default:
		kinds := []string{"folder", "sftp", "git"}
		return bad("%q is no destination; there are folder:/PATH, sftp://HOST/PATH and git:REMOTE.%s", kind, nearest.Hint(kind, kinds))
	}
	if c.Names == "" {
		c.Names = "{site}/{device}.cfg"
	}
	names, err := naming.Compile(c.Names)
	if err != nil {
		return bad("%s", err)
	}
	if strings.Contains(c.Names, "..") || strings.HasPrefix(c.Names, "/") || strings.Contains(c.Names, "*") {
		return bad("the names stay within the destination and leave nothing open: no leading / or .. and no *")
	}
	if kind == "git" && (names.Has("date") || names.Has("time")) {
		return bad("a git repository keeps the times itself; the names take no {date} and no {time}")
	}
	if c.Selector != "" {
		return selector.CheckLasting(c.Selector)
	}
	return nil
}

// List is all copies, in order of name.
func (s *Service) List(ctx context.Context) ([]Copy, error) {
	rows, err := s.DB.Query(ctx, `SELECT id, name, destination, names, selector, credential, host_key, secrets, last_run, last_good, last_said, last_failed FROM copies ORDER BY lower(name)`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Copy
	for rows.Next() {
		var c Copy
		var run, good int64
		if err := rows.Scan(&c.ID, &c.Name, &c.Destination, &c.Names, &c.Selector, &c.Credential, &c.HostKey, &c.Secrets, &run, &good, &c.LastSaid, &c.LastFailed); err != nil {
			return nil, err
		}
		c.LastRun, c.LastGood = store.Time(run), store.Time(good)
		list = append(list, c)
	}
	return list, rows.Err()
}

// Get is the copy of that name.
func (s *Service) Get(ctx context.Context, name string) (Copy, error) {
	list, err := s.List(ctx)
	if err != nil {
		return Copy{}, err
	}
	var names []string
	for _, c := range list {
		if strings.EqualFold(c.Name, name) {
			return c, nil
		}
		names = append(names, c.Name)
	}
	return Copy{}, fmt.Errorf("%w: %q.%s", ErrUnknown, name, nearest.Hint(name, names))
}

// Set makes or changes a copy. One whose files are to stand elsewhere, or be
// named or masked otherwise, is filled from the start.
func (s *Service) Set(ctx context.Context, c Copy, by string) (Copy, error) {
	if err := s.check(&c); err != nil {
		return c, err
	}
	if c.Credential != "" {
		if _, err := s.Vault.Get(ctx, c.Credential); err != nil {
			return c, err
		}
	}
	// Nobody may be writing by the old rules meanwhile.
	s.running.Lock()
	defer s.running.Unlock()
	err := s.DB.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`DELETE FROM copied WHERE copy_id IN (SELECT id FROM copies WHERE name = ? AND (destination <> ? OR names <> ? OR secrets <> ?))`, c.Name, c.Destination, c.Names, c.Secrets); err != nil {
			return err
		}
		if _, err := tx.Exec(`INSERT INTO copies (name, destination, names, selector, credential, secrets) VALUES (?, ?, ?, ?, ?, ?)
			ON CONFLICT (name) DO UPDATE SET host_key = CASE WHEN destination = excluded.destination AND credential = excluded.credential THEN host_key ELSE '' END,
			destination = excluded.destination, names = excluded.names, selector = excluded.selector, credential = excluded.credential, secrets = excluded.secrets`,
			c.Name, c.Destination, c.Names, c.Selector, c.Credential, c.Secrets); err != nil {
			return err
		}
		detail := c.Destination
		if c.Secrets {
			detail += ", with secrets"
		}
		return journal.Append(tx, journal.Entry{At: s.Now(), Account: by, Action: "copy set", Object: c.Name, Detail: detail})
	})
	if err != nil {
		return c, err
	}
	return s.Get(ctx, c.Name)
}

// Delete stops keeping a copy. What it has written stays where it is.
func (s *Service) Delete(ctx context.Context, name, by string) error {
	c, err := s.Get(ctx, name)
	if err != nil {
		return err
	}
	return s.DB.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`DELETE FROM copies WHERE id = ?`, c.ID); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: s.Now(), Account: by, Action: "copy delete", Object: c.Name, Detail: c.Destination})
	})
}

// Forget makes a copy accept another host key at its next run.
func (s *Service) Forget(ctx context.Context, name, why, by string) error {
	c, err := s.Get(ctx, name)
	if err != nil {
		return err
	}
	return s.DB.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`UPDATE copies SET host_key = '' WHERE id = ?`, c.ID); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: s.Now(), Account: by, Action: "copy trust", Object: c.Name, Detail: why})
	})
}
