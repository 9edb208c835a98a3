package changes

import (
	"context"
	"fmt"
	"strings"
	"time"

	"vergekeep/core/glob"
	"vergekeep/core/pattern"
	"vergekeep/core/ref"
	"vergekeep/core/selector"
	"vergekeep/core/window"
	"vergekeep/service/fleet"
	"vergekeep/service/journal"
	"vergekeep/store"
)

const (
	maxAtOnce = 1000
	maxWords  = 2000 // of a remark, in bytes
)

// judge writes a change's verdict, and says so in the journal.
func judge(tx *store.Tx, c *Change, by string, at time.Time) error {
	if _, err := tx.Exec(`UPDATE changes SET verdict = ?, reference = ?, remark = ?, judge = ?, rule = ?, judged_at = ? WHERE id = ?`,
		c.Verdict, c.Reference, c.Remark, c.Judge, c.Rule, store.Stamp(c.Judged), c.ID); err != nil {
		return err
	}
	said := string(c.Verdict)
	for _, more := range []struct{ lead, words string }{{" ", c.Reference}, {", ", c.Remark}, {", by the rule ", c.Rule}} {
		if more.words != "" {
			said += more.lead + more.words
		}
	}
	return journal.Append(tx, journal.Entry{At: at, Account: by, Action: "change judge", Object: fmt.Sprintf("change #%d", c.ID), Detail: c.Device + ": " + said})
}

// Judge gives changes a verdict, or opens them again. Authorised takes a reference.
func (s *Service) Judge(ctx context.Context, ids []int64, v Verdict, reference, remark, by string) ([]Change, error) {
	switch {
	case v != Open && v != Authorised && v != Unauthorised:
		return nil, fmt.Errorf("%w: a change is open, authorised or unauthorised, not %q", ErrVerdict, v)
	case v == Authorised && strings.TrimSpace(reference) == "":
		return nil, fmt.Errorf("%w: what authorised it has to be said: a ticket, a work order, a name", ErrVerdict)
	case len(reference) > 200 || len(remark) > maxWords || strings.ContainsAny(reference, "\n\r"):
		return nil, fmt.Errorf("%w: a reference has at most 200 bytes in one line, a remark 2,000", ErrVerdict)
	case len(ids) == 0 || len(ids) > maxAtOnce:
		return nil, fmt.Errorf("%w: 1 to %d changes can be judged at once", ErrVerdict, maxAtOnce)
	}
	list, err := s.byIDs(ctx, ids)
	if err != nil {
		return nil, err
	}
	err = s.DB.Write(ctx, func(tx *store.Tx) error {
		for i := range list {
			c := &list[i]
			c.Verdict, c.Reference, c.Remark, c.Judge, c.Rule, c.Judged = v, reference, remark, by, "", s.Now()
			if v == Open { // whoever opened it again is in the journal
				c.Reference, c.Judge, c.Judged = "", "", time.Time{}
			}
			if err := judge(tx, c, by, s.Now()); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	for _, c := range list {
		s.Bus.Publish("change", Event{c})
	}
	return list, nil
}

// Take says that somebody is on changes, or no longer is.
func (s *Service) Take(ctx context.Context, ids []int64, on bool, by string) ([]Change, error) {
	if len(ids) == 0 || len(ids) > maxAtOnce {
		return nil, fmt.Errorf("%w: 1 to %d changes can be taken at once", ErrVerdict, maxAtOnce)
	}
	list, err := s.byIDs(ctx, ids)
	if err != nil {
		return nil, err
	}
	now := s.Now()
	err = s.DB.Write(ctx, func(tx *store.Tx) error {
		for i := range list {
			c := &list[i]
			action := "change take"
			c.Taker, c.Taken = by, now
			if !on {
				action, c.Taker, c.Taken = "change leave", "", time.Time{}
			}
			if _, err := tx.Exec(`UPDATE changes SET taker = ?, taken_at = ? WHERE id = ?`, c.Taker, store.Stamp(c.Taken), c.ID); err != nil {
				return err
			}
			if err := journal.Append(tx, journal.Entry{At: now, Account: by, Action: action, Object: fmt.Sprintf("change #%d", c.ID), Detail: c.Device}); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	for _, c := range list {
		s.Bus.Publish("change", Event{c})
	}
	return list, nil
}

// Judgement gives a verdict by itself to changes that fit all that it says: a rule,
// or an announcement of changes to come.
type Judgement struct {
	Name         string
	Announced    bool
	Selector     string
	Accounts     []string // one of them, and no other, made it; * and ? match as in file names
	Sections     []string // section patterns: nothing outside them changed
	Inside       bool     // only inside a window
	Most         int      // lines; 0 for any number
	Begins, Ends time.Time
	Verdict      Verdict
	Reference    string
	Remark       string
	Account      string
	At           time.Time
}

type judgement struct {
	Judgement
	sel      selector.Selector
	patterns []*pattern.Pattern
}

func (j Judgement) understand() (out judgement, err error) {
	out.Judgement = j
	if out.sel, err = selector.Parse(j.Selector); err != nil {
		return out, err
	}
	for _, source := range j.Sections {
		p, err := pattern.Compile(source)
		if err != nil {
			return out, err
		}
		out.patterns = append(out.patterns, p)
	}
	return out, nil
}

// judgementFor is the first judgement that fits a change: announcements before
// rules, so that the ticket is on record.
func judgementFor(all []judgement, c *Change, d *fleet.Device, t touch, from, to time.Time) *judgement {
	for _, announced := range []bool{true, false} {
		for i := range all {
			if j := &all[i]; j.Announced == announced && j.fits(c, d, t, from, to) {
				return j
			}
		}
	}
	return nil
}

func (j *judgement) fits(c *Change, d *fleet.Device, t touch, from, to time.Time) bool {
	switch {
	case c.Suspect != "", !j.sel.Match(d):
		return false
	case j.Inside && c.Place != window.Inside, c.Place == window.Frozen && !j.Announced:
		return false
	case !j.Begins.IsZero() && from.Before(j.Begins), !j.Ends.IsZero() && to.After(j.Ends):
		return false
	case j.Most > 0 && c.Stats.Total() > j.Most:
		return false
	case len(j.Sections) > 0 && !t.within(j.patterns):
		return false
	}
	if len(j.Accounts) == 0 {
		return true
	}
	for _, account := range c.Accounts {
		named := false
		for _, g := range j.Accounts {
			named = named || glob.Match(strings.ToLower(g), strings.ToLower(account))
		}
		if !named {
			return false
		}
	}
	return len(c.Accounts) > 0
}

// Judgements are the rules, or the announcements, in order of name.
func (s *Service) Judgements(ctx context.Context, announced bool) ([]Judgement, error) {
	all, err := s.judgements(ctx)
	list := []Judgement{}
	for _, j := range all {
		if j.Announced == announced {
			list = append(list, j.Judgement)
		}
	}
	return list, err
}

func (s *Service) judgements(ctx context.Context) ([]judgement, error) {
	rows, err := s.DB.Query(ctx, `SELECT name, announced, selector, accounts, sections, place, most, begins, ends, verdict, reference, remark, account, at FROM judgements ORDER BY lower(name)`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []judgement
	for rows.Next() {
		var j Judgement
		var accounts, sections, place string
		var begins, ends, at int64
		if err := rows.Scan(&j.Name, &j.Announced, &j.Selector, &accounts, &sections, &place, &j.Most, &begins, &ends, &j.Verdict, &j.Reference, &j.Remark, &j.Account, &at); err != nil {
			return nil, err
		}
		j.Accounts, j.Sections, j.Inside = strings.Fields(accounts), lines(sections), place == string(window.Inside)
		j.Begins, j.Ends, j.At = store.Time(begins), store.Time(ends), store.Time(at)
		one, err := j.understand()
		if err != nil {
			return nil, fmt.Errorf("the rule %s: %w", j.Name, err)
		}
		list = append(list, one)
	}
	return list, rows.Err()
}

// SetJudgement makes or changes a rule, or an announcement.
func (s *Service) SetJudgement(ctx context.Context, j Judgement) error {
	what := "rule"
	if j.Announced {
		what = "announcement"
	}
	bad := func(format string, args ...any) error {
		return fmt.Errorf("%w: the %s %s", ErrVerdict, what, fmt.Sprintf(format, args...))
	}
	if err := ref.CheckName(j.Name); err != nil {
		return bad("needs a name, which %v", err)
	}
	switch {
	case j.Verdict != Authorised && j.Verdict != Unauthorised:
		return bad("gives the verdict authorised or unauthorised, not %q", j.Verdict)
	case j.Verdict == Authorised && strings.TrimSpace(j.Reference) == "":
		return bad("needs a reference to authorise by")
	case len(j.Reference) > 200 || len(j.Remark) > maxWords || len(j.Sections) > 100 || len(j.Accounts) > 100:
		return bad("is too long")
	case j.Announced && (j.Begins.IsZero() || j.Ends.IsZero()):
		return bad("says from when to when; write for example --from 2026-11-24T22:00 --to 2026-11-25T02:00")
	case !j.Ends.IsZero() && !j.Ends.After(j.Begins):
		return bad("ends before it begins")
	case !j.Announced && j.Selector == "" && len(j.Accounts) == 0 && len(j.Sections) == 0 && !j.Inside:
		return bad("would have a verdict on every change; say a selector, accounts, sections, or inside a window")
	}
	if err := selector.CheckLasting(j.Selector); err != nil {
		return err
	}
	if _, err := j.understand(); err != nil {
		return err
	}
	place := ""
	if j.Inside {
		place = string(window.Inside)
	}
	return s.DB.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`INSERT OR REPLACE INTO judgements (name, announced, selector, accounts, sections, place, most, begins, ends, verdict, reference, remark, account, at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			j.Name, j.Announced, j.Selector, strings.Join(j.Accounts, " "), strings.Join(j.Sections, "\n"), place, j.Most, store.Stamp(j.Begins), store.Stamp(j.Ends), j.Verdict, j.Reference, j.Remark, j.Account, store.Stamp(s.Now())); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: s.Now(), Account: j.Account, Action: what + " set", Object: j.Name, Detail: strings.TrimSpace(string(j.Verdict) + " " + j.Reference)})
	})
}

// DeleteJudgement takes a rule or an announcement away; verdicts that it gave stay.
func (s *Service) DeleteJudgement(ctx context.Context, name string, announced bool, by string) error {
	action := "rule delete"
	if announced {
		action = "announcement delete"
	}
	return s.remove(ctx, `DELETE FROM judgements WHERE name = ? AND announced = ?`, action, name, by, announced)
}

func (s *Service) remove(ctx context.Context, statement, action, name, by string, more ...any) error {
	return s.DB.Write(ctx, func(tx *store.Tx) error {
		res, err := tx.Exec(statement, append([]any{name}, more...)...)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			if err == nil {
				err = fmt.Errorf("%w: %q", ErrNone, name)
			}
			return err
		}
		return journal.Append(tx, journal.Entry{At: s.Now(), Account: by, Action: action, Object: name})
	})
}
