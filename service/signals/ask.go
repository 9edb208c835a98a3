package signals

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"sync"
	"time"

	"vergekeep/core/dialect"
	"vergekeep/core/ref"
	"vergekeep/core/selector"
	"vergekeep/service/fleet"
	"vergekeep/service/journal"
	"vergekeep/service/rounds"
	"vergekeep/store"
)

// ErrQuestion is wrapped where a question makes no sense.
var ErrQuestion = errors.New("it cannot be asked like this")

// Question says which devices are asked every few minutes whether they were
// changed: the cheap question of their dialect.
type Question struct {
	Name     string
	Selector string
	Every    time.Duration
	Account  string
	At       time.Time
}

// Questions are the questions, in order of name.
func (s *Service) Questions(ctx context.Context) ([]Question, error) {
	rows, err := s.DB.Query(ctx, `SELECT name, selector, every, account, at FROM questions ORDER BY lower(name)`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Question
	for rows.Next() {
		var q Question
		var every, at int64
		if err := rows.Scan(&q.Name, &q.Selector, &every, &q.Account, &at); err != nil {
			return nil, err
		}
		q.Every, q.At = time.Duration(every)*time.Second, store.Time(at)
		list = append(list, q)
	}
	return list, rows.Err()
}

// SetQuestion makes or changes a question.
func (s *Service) SetQuestion(ctx context.Context, q Question) error {
	if err := ref.CheckName(q.Name); err != nil {
		return fmt.Errorf("%w: the name %w", ErrQuestion, err)
	}
	if q.Every < time.Minute || q.Every > 24*time.Hour {
		return fmt.Errorf("%w: every minute at the most, and once a day at the least; not every %s", ErrQuestion, q.Every)
	}
	if err := selector.CheckLasting(q.Selector); err != nil {
		return err
	}
	return s.DB.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`INSERT OR REPLACE INTO questions (name, selector, every, account, at) VALUES (?, ?, ?, ?, ?)`, q.Name, q.Selector, int64(q.Every/time.Second), q.Account, store.Stamp(s.Now())); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: s.Now(), Account: q.Account, Action: "question set", Object: q.Name, Detail: fmt.Sprintf("every %s", q.Every)})
	})
}

// DeleteQuestion takes one away.
func (s *Service) DeleteQuestion(ctx context.Context, name, by string) error {
	return s.DB.Write(ctx, func(tx *store.Tx) error {
		res, err := tx.Exec(`DELETE FROM questions WHERE name = ?`, name)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			if err == nil {
				err = fmt.Errorf("%w: %q", ErrUnknown, name)
			}
			return err
		}
		return journal.Append(tx, journal.Entry{At: s.Now(), Account: by, Action: "question delete", Object: name})
	})
}

// Asked is what a device answered.
type Asked struct {
	Device  string
	Answer  string
	Changed bool   // it is another answer than after the last capture
	Trouble string // why there is none
}

// AskNow asks devices at once.
func (s *Service) AskNow(ctx context.Context, expression string) ([]Asked, error) {
	list, err := s.Fleet.Pick(ctx, expression)
	if err != nil {
		return nil, err
	}
	out := make([]Asked, len(list))
	var wg sync.WaitGroup
	slots := make(chan struct{}, askers)
	for i := range list {
		slots <- struct{}{}
		wg.Go(func() {
			defer func() { <-slots }()
			out[i] = s.ask(ctx, list[i])
		})
	}
	wg.Wait()
	return out, ctx.Err()
}

// askers is how many devices are asked at a time.
const askers = 32

// ask asks one device, and enters a signal if its answer is another one.
func (s *Service) ask(ctx context.Context, d fleet.Device) Asked {
	out := Asked{Device: d.Name}
	answer, err := s.Rounds.Ask(ctx, d)
	if err != nil {
		out.Trouble = err.Error()
		if !errors.Is(err, rounds.ErrSilent) {
			_ = s.DB.Write(context.WithoutCancel(ctx), func(tx *store.Tx) error {
				_, err := tx.Exec(`UPDATE answers SET trouble = ?, asked_at = ? WHERE device_id = ?`, out.Trouble, store.Stamp(s.Now()), d.ID)
				return err
			})
		}
		return out
	}
	out.Answer = answer
	var before string
	err = s.DB.QueryRow(ctx, `SELECT answer FROM answers WHERE device_id = ?`, d.ID).Scan(&before)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		err = s.DB.Write(ctx, func(tx *store.Tx) error {
			_, err := tx.Exec(`INSERT OR IGNORE INTO answers (device_id, answer, asked_at) VALUES (?, ?, ?)`, d.ID, answer, store.Stamp(s.Now()))
			return err
		})
	case err == nil && before != answer:
		out.Changed = true
		waiting, werr := s.waiting(ctx)
		if err = werr; err == nil && !waiting[d.ID] {
			now := s.Now()
			s.enter(Signal{DeviceID: d.ID, Device: d.Name, At: now, Last: now, Count: 1, Medium: dialect.ByQuestion, Listener: "question", Text: "answered " + answer + ", after the last capture " + before, State: Waiting})
		}
	}
	if err != nil {
		out.Trouble = err.Error()
	}
	return out
}

// asking asks the questions, each device at a moment of its own.
func (s *Service) asking(ctx context.Context) {
	next := map[int64]time.Time{}
	tick := time.NewTicker(5 * time.Second)
	defer tick.Stop()
	slots := make(chan struct{}, askers)
	var wg sync.WaitGroup
	defer wg.Wait()
	for {
		due, err := s.dueQuestions(ctx, next, time.Now())
		if err != nil && ctx.Err() == nil {
			s.Log.Error("what is to be asked could not be read", "error", err)
		}
		for _, d := range due {
			select {
			case slots <- struct{}{}:
			case <-ctx.Done():
				return
			}
			wg.Go(func() {
				defer func() { <-slots }()
				if a := s.ask(ctx, d); a.Trouble != "" {
					s.Log.Debug("a device did not answer the cheap question", "device", d.Name, "what", a.Trouble)
				}
			})
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// dueQuestions is the devices whose moment has come; the shortest time counts where
// several questions are for one.
func (s *Service) dueQuestions(ctx context.Context, next map[int64]time.Time, now time.Time) ([]fleet.Device, error) {
	questions, err := s.Questions(ctx)
	if err != nil || len(questions) == 0 {
		clear(next)
		return nil, err
	}
	every := map[int64]time.Duration{}
	by := map[int64]fleet.Device{}
	for _, q := range questions {
		sel, err := selector.Parse(q.Selector)
		if err != nil {
			return nil, err
		}
		list, err := s.Fleet.List(ctx, sel)
		if err != nil {
			return nil, err
		}
		for _, d := range list {
			if d.State != fleet.Active || d.LastGood.IsZero() {
				continue
			}
			if had, ok := every[d.ID]; !ok || q.Every < had {
				every[d.ID], by[d.ID] = q.Every, d
			}
		}
	}
	var due []fleet.Device
	for id, e := range every {
		at, ok := next[id]
		if !ok { // spread over the time
			next[id] = now.Add(time.Duration(uint64(id) * 2654435761 % uint64(e)))
			continue
		}
		if !at.After(now) {
			next[id] = now.Add(e)
			due = append(due, by[id])
		}
	}
	for id := range next {
		if _, ok := every[id]; !ok {
			delete(next, id)
		}
	}
	return due, nil
}
