package changes

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"vergekeep/core/diff"
	"vergekeep/core/pattern"
	"vergekeep/core/window"
	"vergekeep/service/fleet"
	"vergekeep/service/texts"
	"vergekeep/store"
)

// Run looks at changes as they come, until ctx ends.
func (s *Service) Run(ctx context.Context) {
	s.Bus.Loop(ctx, 5*time.Second, s.wake, []string{"visit-ended"}, func() {
		if err := s.Look(ctx); err != nil && ctx.Err() == nil {
			s.Log.Error("a change could not be looked at; it is tried again", "error", err)
		}
	})
}

// Wake says that there may be something to look at.
func (s *Service) Wake() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// Event is the payload of the events change and change-judged.
type Event struct{ Change Change }

// Look looks at all changes that nobody has looked at yet: which sections they
// touch, how severe they are, how they lie to agreed hours, whether they undo
// another, and whether a rule has a verdict on them.
func (s *Service) Look(ctx context.Context) error {
	for {
		rows, err := s.DB.Query(ctx, `SELECT id FROM changes WHERE looked = 0 ORDER BY id LIMIT 100`)
		if err != nil {
			return err
		}
		var ids []int64
		for rows.Next() {
			var id int64
			if err := rows.Scan(&id); err != nil {
				return errors.Join(err, rows.Close())
			}
			ids = append(ids, id)
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil || len(ids) == 0 {
			return err
		}
		list, err := s.byIDs(ctx, ids)
		if err != nil {
			return err
		}
		hours, err := s.hours(ctx)
		if err != nil {
			return err
		}
		rules, err := s.judgements(ctx)
		if err != nil {
			return err
		}
		for i := range list {
			if err := s.look(ctx, &list[i], hours, rules); err != nil {
				return fmt.Errorf("change #%d of %s: %w", list[i].ID, list[i].Device, err)
			}
		}
	}
}

// masked reads as somebody who may not see secrets does: what is kept of a change
// is shown to everybody.
var masked = texts.Caller{Location: time.UTC}

func (s *Service) look(ctx context.Context, c *Change, hours []hours, rules []judgement) error {
	d, err := s.Fleet.ByID(ctx, c.DeviceID)
	if err != nil {
		return err
	}
	touched := s.touched(ctx, c)
	c.Sections, c.Severity = touched.sections, touched.severity(c)
	from, to := c.When()
	if c.Place, c.Hours, err = place(hours, &d, from, to); err != nil {
		return err
	}
	if c.Undoes, err = s.undoes(ctx, c); err != nil {
		return err
	}
	first := !c.told
	c.told = true
	rule := judgementFor(rules, c, &d, touched, from, to)
	err = s.DB.Write(ctx, func(tx *store.Tx) error {
		// Evidence may have come meanwhile: it is then looked at again.
		res, err := tx.Exec(`UPDATE changes SET looked = 1, told = 1, severity = ?, sections = ?, place = ?, hours = ?, undoes = ? WHERE id = ? AND signals = ?`,
			int(c.Severity), strings.Join(c.Sections, "\n"), c.Place, c.Hours, c.Undoes, c.ID, c.Signals)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return err
		}
		if rule != nil && c.Verdict == Open {
			c.Verdict, c.Reference, c.Remark, c.Judge, c.Rule, c.Judged = rule.Verdict, rule.Reference, rule.Remark, rule.Account, rule.Name, s.Now()
			if err := judge(tx, c, c.Judge, c.Judged); err != nil {
				return err
			}
		}
		if first && s.Tell != nil {
			return s.Tell(tx, *c)
		}
		return nil
	})
	if err == nil {
		s.Bus.Publish("change", Event{*c})
	}
	return err
}

// touch is what a change touches.
type touch struct {
	sections []string
	secret   bool                                   // a secret is another one
	grave    bool                                   // who may log in, or what is let through
	within   func(patterns []*pattern.Pattern) bool // all of it lies within patterns
}

func (t *touch) severity(c *Change) Severity {
	switch n := c.Stats.Total(); {
	case t.grave || t.secret || c.Suspect != "" || n >= 50:
		return High
	case n >= 10:
		return Medium
	}
	return Low
}

const (
	maxSections = 40
	maxHeading  = 160
)

// touched compares the texts of a change. What cannot be compared, as it was
// thinned out or its dialect is not loaded, touches nothing that could be told.
func (s *Service) touched(ctx context.Context, c *Change) touch {
	var t touch
	var comparisons []*texts.Comparison
	known := map[string]bool{}
	for _, text := range c.Texts {
		if text.Before == 0 {
			t.sections = append(t.sections, "all of "+strings.TrimSpace(text.Datastore+" "+text.Part))
			continue
		}
		cmp, err := s.Compare(ctx, c, text, masked)
		if err != nil {
			s.Log.Warn("the texts of a change cannot be compared", "change", c.ID, "device", c.Device, "error", err)
			continue
		}
		comparisons = append(comparisons, cmp)
		for _, row := range cmp.Rows(0) {
			if row.Kind == diff.Equal || row.Kind == diff.Skipped || row.Aside != diff.Counts {
				continue
			}
			t.secret = t.secret || row.SecretChanged
			heading := heading(row)
			if heading != "" && !known[heading] && len(t.sections) < maxSections {
				known[heading] = true
				t.sections = append(t.sections, heading)
			}
			t.grave = t.grave || cmp.Neutral(row, "user") || cmp.Neutral(row, "access-list")
		}
	}
	t.within = func(patterns []*pattern.Pattern) bool {
		for _, cmp := range comparisons {
			if !cmp.Within(patterns) {
				return false
			}
		}
		return len(comparisons) > 0 && len(comparisons) == len(c.Texts)
	}
	return t
}

// Compare compares the two sides of one of a change's texts.
func (s *Service) Compare(ctx context.Context, c *Change, t Text, who texts.Caller) (*texts.Comparison, error) {
	return s.Texts().Compare(ctx, texts.Request{Left: texts.Source{Ref: c.Ref(t, t.Before)}, Right: texts.Source{Ref: c.Ref(t, t.Number)}}, who)
}

// heading is the section that a row is in: the headings above it, or at the top the
// first words of the line.
func heading(row texts.Row) string {
	said := strings.Join(row.Path, " > ")
	if said == "" {
		line := row.RightText
		if row.Right == 0 {
			line = row.LeftText
		}
		words := strings.Fields(line)
		said = strings.Join(words[:min(len(words), 2)], " ")
	}
	said = strings.ReplaceAll(said, "\n", " ")
	if len(said) > maxHeading {
		said = strings.ToValidUTF8(said[:maxHeading], "") + "…"
	}
	return said
}

// hours are agreed hours with their selector understood.
type hours struct {
	Window
	isFor func(*fleet.Device) bool
}

func place(all []hours, d *fleet.Device, from, to time.Time) (window.Where, string, error) {
	var own []window.Window
	for i := range all {
		if all[i].isFor(d) {
			own = append(own, all[i].Window.Window)
		}
	}
	return window.Place(own, from, to)
}

// undoes is the change that a change undoes: the first one after the last time that
// the text was as it is now.
func (s *Service) undoes(ctx context.Context, c *Change) (int64, error) {
	for _, t := range c.Texts {
		var id int64
		err := s.DB.QueryRow(ctx, `SELECT coalesce((SELECT u.change_id FROM change_texts u WHERE u.configuration_id = ?1 AND u.number < ?2 AND u.number >
			(SELECT max(e.number) FROM revisions n JOIN revisions e ON e.configuration_id = n.configuration_id AND e.number < n.number AND (e.number = n.same_as OR e.same_as = n.same_as)
			 WHERE n.configuration_id = ?1 AND n.number = ?2 AND n.same_as > 0) ORDER BY u.number LIMIT 1), 0)`, t.configuration, t.Number).Scan(&id)
		if err != nil || id != 0 {
			return id, err
		}
	}
	return 0, nil
}
