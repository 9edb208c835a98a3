// Package notes keeps what people say of the archive: pins, names and remarks
// on revisions, moments of the whole fleet that have a name, and searches that
// are worth asking again.
package notes

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"vergekeep/archive"
	"vergekeep/core/nearest"
	"vergekeep/core/ref"
	"vergekeep/service/journal"
	"vergekeep/service/search"
	"vergekeep/store"
)

// Errors that callers test for.
var (
	ErrNone = errors.New("there is none of that name")
	ErrNote = errors.New("it cannot be noted like this")
)

// Moment is a time of the whole fleet that has a name.
type Moment struct {
	Name    string
	At      time.Time
	Remark  string
	Account string
	Noted   time.Time
}

// Search is a question that has a name.
type Search struct {
	Name     string
	Question search.Question
	Account  string
	At       time.Time
}

// Service keeps notes.
type Service struct {
	db      *store.DB
	archive *archive.Archive
	now     func() time.Time
}

// New makes a Service.
func New(db *store.DB, a *archive.Archive, now func() time.Time) *Service {
	return &Service{db, a, now}
}

func checkText(what, s string, limit int) error {
	if utf8.RuneCountInString(s) > limit || !utf8.ValidString(s) || strings.ContainsAny(s, "\x00\r") {
		return fmt.Errorf("%w: the %s must be text of at most %d characters", ErrNote, what, limit)
	}
	return nil
}

// checkName says what a ref could not hold.
func checkName(name string) error {
	if err := ref.CheckName(name); err != nil {
		return fmt.Errorf("%w: the name %w", ErrNote, err)
	}
	p, err := ref.ParsePoint(name, time.UTC)
	if err == nil && p.Kind != ref.Moment {
		return fmt.Errorf("%w: %q already means something in a ref; take another name", ErrNote, name)
	}
	return nil
}

// Set writes the note of a revision; an empty one takes it away. Called is the
// revision's ref, for the journal.
func (s *Service) Set(ctx context.Context, r archive.Revision, called string, n archive.Note, by string) error {
	if err := errors.Join(checkText("remark", n.Remark, 1000), checkText("name", n.Name, 100)); err != nil {
		return err
	}
	if n.Name != "" {
		if err := checkName(n.Name); err != nil {
			return err
		}
	}
	n.Account = by
	said := []string{}
	if n.Pinned {
		said = append(said, "pinned")
	}
	if n.Name != "" {
		said = append(said, fmt.Sprintf("named %q", n.Name))
	}
	if n.Remark != "" {
		said = append(said, "remark: "+n.Remark)
	}
	if len(said) == 0 {
		said = append(said, "taken away")
	}
	return s.db.Write(ctx, func(tx *store.Tx) error {
		if err := s.archive.SetNote(tx, r, n, s.now()); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: s.now(), Account: by, Action: "revision note", Object: called, Detail: strings.Join(said, "; ")})
	})
}

// Bless makes revisions the baselines of their configurations, all or none. One
// that is suspect takes a confirmation.
func (s *Service) Bless(ctx context.Context, list []archive.Revision, called []string, remark string, confirmed bool, by string) error {
	if err := checkText("remark", remark, 1000); err != nil {
		return err
	}
	for i, r := range list {
		if r.Suspect != "" && !confirmed {
			return fmt.Errorf("%w: %s is suspect: %s Look at it, then confirm it", ErrNote, called[i], r.Suspect)
		}
	}
	return s.db.Write(ctx, func(tx *store.Tx) error {
		for i, r := range list {
			if err := s.archive.Bless(tx, r, remark, by, s.now()); err != nil {
				return err
			}
			if err := journal.Append(tx, journal.Entry{At: s.now(), Account: by, Action: "baseline set", Object: called[i], Detail: remark}); err != nil {
				return err
			}
		}
		return nil
	})
}

// Unbless takes the baseline of a revision's configuration away.
func (s *Service) Unbless(ctx context.Context, r archive.Revision, called, remark, by string) error {
	if err := checkText("remark", remark, 1000); err != nil {
		return err
	}
	return s.db.Write(ctx, func(tx *store.Tx) error {
		if err := s.archive.Unbless(tx, r, remark, by, s.now()); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: s.now(), Account: by, Action: "baseline delete", Object: called, Detail: remark})
	})
}

// SetMoment gives a time a name, or the name another time.
func (s *Service) SetMoment(ctx context.Context, m Moment) (Moment, error) {
	if err := errors.Join(checkName(m.Name), checkText("remark", m.Remark, 1000)); err != nil {
		return m, err
	}
	m.Noted = s.now().UTC().Truncate(time.Microsecond)
	if m.At.After(m.Noted) {
		return m, fmt.Errorf("%w: %s is in the future", ErrNote, m.At.Format("2006-01-02 15:04"))
	}
	return m, s.db.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`INSERT INTO moments (name, at, remark, account, noted) VALUES (?, ?, ?, ?, ?)
			ON CONFLICT (name) DO UPDATE SET at = excluded.at, remark = excluded.remark, account = excluded.account, noted = excluded.noted`,
			m.Name, store.Stamp(m.At), m.Remark, m.Account, store.Stamp(m.Noted)); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: m.Noted, Account: m.Account, Action: "moment set", Object: m.Name, Detail: m.At.UTC().Format(time.RFC3339)})
	})
}

// Moments are all of them, the newest first.
func (s *Service) Moments(ctx context.Context) ([]Moment, error) {
	rows, err := s.db.Query(ctx, `SELECT name, at, remark, account, noted FROM moments ORDER BY at DESC, name`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Moment
	for rows.Next() {
		var m Moment
		var at, noted int64
		if err := rows.Scan(&m.Name, &at, &m.Remark, &m.Account, &noted); err != nil {
			return nil, err
		}
		m.At, m.Noted = store.Time(at), store.Time(noted)
		list = append(list, m)
	}
	return list, rows.Err()
}

// Moment is the time that has a name; its error is [ErrNone] and offers the
// nearest name.
func (s *Service) Moment(ctx context.Context, name string) (time.Time, error) {
	var at int64
	err := s.db.QueryRow(ctx, `SELECT at FROM moments WHERE name = ?`, name).Scan(&at)
	if errors.Is(err, sql.ErrNoRows) {
		list, listErr := s.Moments(ctx)
		var names []string
		for _, m := range list {
			names = append(names, m.Name)
		}
		return time.Time{}, errors.Join(listErr, fmt.Errorf("%w: no moment is named %q.%s", ErrNone, name, nearest.Hint(name, names)))
	}
	return store.Time(at), err
}

// DeleteMoment takes a name away; the archive stays as it is.
func (s *Service) DeleteMoment(ctx context.Context, name, by string) error {
	return s.remove(ctx, `DELETE FROM moments WHERE name = ?`, "moment delete", name, by)
}

func (s *Service) remove(ctx context.Context, statement, action, name, by string) error {
	return s.db.Write(ctx, func(tx *store.Tx) error {
		res, err := tx.Exec(statement, name)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, fmt.Errorf("%w: %q", ErrNone, name))
		}
		return journal.Append(tx, journal.Entry{At: s.now(), Account: by, Action: action, Object: name})
	})
}

// SaveSearch gives a question a name.
func (s *Service) SaveSearch(ctx context.Context, name string, q search.Question, by string) (Search, error) {
	saved := Search{name, q, by, s.now().UTC().Truncate(time.Microsecond)}
	if err := ref.CheckName(name); err != nil {
		return saved, fmt.Errorf("%w: the name %w", ErrNote, err)
	}
	data, err := json.Marshal(q)
	if err != nil {
		return saved, err
	}
	return saved, s.db.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`INSERT INTO searches (name, question, account, at) VALUES (?, ?, ?, ?)
			ON CONFLICT (name) DO UPDATE SET question = excluded.question, account = excluded.account, at = excluded.at`, name, string(data), by, store.Stamp(saved.At)); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: saved.At, Account: by, Action: "search save", Object: name})
	})
}

// Searches are all that have a name.
func (s *Service) Searches(ctx context.Context) ([]Search, error) {
	rows, err := s.db.Query(ctx, `SELECT name, question, account, at FROM searches ORDER BY name`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Search
	for rows.Next() {
		var x Search
		var question string
		var at int64
		if err := rows.Scan(&x.Name, &question, &x.Account, &at); err != nil {
			return nil, err
		}
		x.At = store.Time(at)
		if err := json.Unmarshal([]byte(question), &x.Question); err != nil {
			return nil, fmt.Errorf("the search %s: %w", x.Name, err)
		}
		list = append(list, x)
	}
	return list, rows.Err()
}

// DeleteSearch takes a search away.
func (s *Service) DeleteSearch(ctx context.Context, name, by string) error {
	return s.remove(ctx, `DELETE FROM searches WHERE name = ?`, "search delete", name, by)
}

type nested struct{}

// Finds is the devices that a saved search finds, asked anew. Secrets are never
// searched for this.
func (s *Service) Finds(finder *search.Service) func(ctx context.Context, name string) (map[int64]bool, error) {
	return func(ctx context.Context, name string) (map[int64]bool, error) {
		depth, _ := ctx.Value(nested{}).(int)
		if depth > 3 {
			return nil, fmt.Errorf("%w: searches name each other in their selectors", ErrNote)
		}
		list, err := s.Searches(ctx)
		if err != nil {
			return nil, err
		}
		var names []string
		for _, x := range list {
			names = append(names, x.Name)
			if !strings.EqualFold(x.Name, name) {
				continue
			}
			a, err := finder.Ask(context.WithValue(ctx, nested{}, depth+1), x.Question, 0, false)
			if err != nil {
				return nil, fmt.Errorf("the search %s: %w", x.Name, err)
			}
			return a.Picked(x.Question.Without), nil
		}
		return nil, fmt.Errorf("%w: no search is saved as %q.%s", ErrNone, name, nearest.Hint(name, names))
	}
}
