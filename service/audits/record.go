package audits

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"vergekeep/archive"
	"vergekeep/core/audit"
	"vergekeep/core/diff"
	"vergekeep/core/ref"
	"vergekeep/service/fleet"
	"vergekeep/service/texts"
	"vergekeep/store"
)

// record writes what documents say of configurations: states where they are others
// than before, findings as they open and close.
func (s *Service) record(ctx context.Context, jobs []job, verdicts [][]verdict, held map[stateKey]*state) error {
	now := s.Now()
	var news []Finding
	for i := range jobs {
		for k := range verdicts[i] {
			if v := &verdicts[i][k]; v.document.across {
				s.across.put(v.document, whose{jobs[i].device.ID, jobs[i].part}, jobs[i].device.Name, v.offers)
			}
		}
	}
	for i := range jobs {
		for k := range verdicts[i] {
			if v := &verdicts[i][k]; v.document.across {
				me := whose{jobs[i].device.ID, jobs[i].part}
				s.across.addTo(v, me)
				delete(s.across.dirty, me)
			}
		}
	}
	err := s.DB.Write(ctx, func(tx *store.Tx) error {
		news = news[:0]
		for i := range jobs {
			j := &jobs[i]
			number := 0
			var configuration int64
			if j.revision != nil {
				number, configuration = j.revision.Number, j.revision.Configuration()
			}
			for k := range verdicts[i] {
				v := &verdicts[i][k]
				doc, at, conf := v.document.key(), number, configuration
				if v.document.base != nil {
					doc, at, conf = v.document.base.key(), v.document.base.newest, v.document.base.configuration
				}
				key := stateKey{j.device.ID, j.part, doc}
				if err := s.state(tx, key, held[key], v, at, j.device.Edition, now); err != nil {
					return err
				}
				opened, err := s.findings(tx, key, v, at, conf, now, held[key], false)
				if err != nil {
					return err
				}
				if had := held[key]; had == nil || had.hash != v.hash {
					continue // a document that is new finds what has been there: that is no news of the device
				}
				news = append(news, opened...)
			}
		}
		return s.tell(ctx, tx, news)
	})
	if err != nil {
		return err
	}
	s.Bus.Publish("audit", Event{Configurations: len(jobs), Opened: len(news)})
	return nil
}

// tell tells of findings that opened.
func (s *Service) tell(ctx context.Context, tx *store.Tx, opened []Finding) error {
	if s.Tell == nil {
		return nil
	}
	for _, f := range opened {
		d, err := s.Fleet.ByID(ctx, f.DeviceID)
		if err != nil {
			return err
		}
		f.Device, f.Site = d.Name, d.Site
		if err := s.Tell(tx, f); err != nil {
			return err
		}
	}
	return nil
}

// Event is the payload of the event audit.
type Event struct{ Configurations, Opened int }

// state writes what a document says of a configuration, where it says something else
// than before; else only for which revision it says so.
func (s *Service) state(tx *store.Tx, key stateKey, had *state, v *verdict, number int, edition int64, now time.Time) error {
	text, passed, failed, undecidable := v.said()
	if had != nil && had.outcomes == text && had.hash == v.hash && had.agreed == v.agreed && had.lines == v.lines {
		if had.number == number && had.edition == edition {
			return nil
		}
		_, err := tx.Exec(`UPDATE audit_states SET number = ?, edition = ? WHERE id = ?`, number, edition, had.id)
		return err
	}
	if _, err := tx.Exec(`UPDATE audit_states SET until = ? WHERE device_id = ? AND part = ? AND document = ? AND until = 0`, store.Stamp(now), key.device, key.part, key.document); err != nil {
		return err
	}
	_, err := tx.Exec(`INSERT INTO audit_states (device_id, part, document, hash, number, edition, since, outcomes, passed, failed, undecidable, agreed, lines) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		key.device, key.part, key.document, v.hash, number, edition, store.Stamp(now), text, passed, failed, undecidable, v.agreed, v.lines)
	return err
}

// findings opens what fails, closes what no longer does, and gives back what opened.
//
// Partly says that the verdict is of some of the document's items alone.
func (s *Service) findings(tx *store.Tx, key stateKey, v *verdict, number int, configuration int64, now time.Time, had *state, partly bool) ([]Finding, error) {
	type known struct {
		id     int64
		state  string
		number int
		hash   string
	}
	have := map[string]known{}
	rows, err := tx.Query(`SELECT id, item, state, number, hash FROM findings WHERE device_id = ? AND part = ? AND document = ?`, key.device, key.part, key.document)
	if err != nil {
		return nil, err
	}
	for rows.Next() {
		var item string
		var k known
		if err := rows.Scan(&k.id, &item, &k.state, &k.number, &k.hash); err != nil {
			return nil, errors.Join(err, rows.Close())
		}
		have[item] = k
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return nil, err
	}
	// Only a new revision brings a change that something can have come by; what is judged
	// again at the same one came by the hour, the document or the record.
	var change int64
	if configuration != 0 && (had == nil || had.number != number) {
		err := tx.QueryRow(`SELECT change_id FROM change_texts WHERE configuration_id = ? AND number = ?`, configuration, number).Scan(&change)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return nil, err
		}
	}
	var opened []Finding
	for i := range v.results {
		r := &v.results[i]
		k, there := have[r.item]
		delete(have, r.item)
		switch {
		case r.outcome == audit.Fail:
			proofs, err := json.Marshal(r.proofs)
			if err != nil {
				return nil, err
			}
			severity := slices.Index(audit.Severities, r.severity)
			if there && k.state == "open" {
				if _, err := tx.Exec(`UPDATE findings SET severity = ?, title = ?, why = ?, proofs = ?, more = ?, hash = ?, number = ? WHERE id = ?`, severity, r.title, r.why, string(proofs), r.more, v.hash, number, k.id); err != nil {
					return nil, err
				}
				continue
			}
			// What a rule finds for the first time came by the change of this revision only
			// where the revision before was well.
			by := change
			if !there || k.hash != v.hash {
				if !had.wasWell(v.hash, r.item) {
					by = 0
				}
			}
			f := Finding{DeviceID: key.device, Part: key.part, Document: key.document, Item: r.item, Severity: r.severity, Title: r.title, Why: r.why, Proofs: r.proofs, Number: number, OpenedBy: by}
			if there {
				_, err = tx.Exec(`UPDATE findings SET severity = ?, title = ?, why = ?, proofs = ?, more = ?, hash = ?, number = ?, state = 'open', opened_at = ?, opened_by = ?, closed_at = 0, closed_by = 0, closed_number = 0, times = times + 1 WHERE id = ?`,
					severity, r.title, r.why, string(proofs), r.more, v.hash, number, store.Stamp(now), by, k.id)
				f.ID = k.id
			} else {
				var res sql.Result
				if res, err = tx.Exec(`INSERT INTO findings (device_id, part, document, item, severity, title, why, proofs, more, hash, number, first_at, opened_at, opened_by) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?12, ?13)`,
					key.device, key.part, key.document, r.item, severity, r.title, r.why, string(proofs), r.more, v.hash, number, store.Stamp(now), by); err == nil {
					f.ID, err = res.LastInsertId()
				}
			}
			if err != nil {
				return nil, err
			}
			opened = append(opened, f)
		case r.outcome == audit.Undecidable && there && k.state == "open":
			// Nothing is known of it now: it stays.
		case there && k.state == "open":
			if _, err := tx.Exec(`UPDATE findings SET state = 'closed', closed_at = ?, closed_by = ?, closed_number = ? WHERE id = ?`, store.Stamp(now), change, number, k.id); err != nil {
				return nil, err
			}
		}
	}
	for _, k := range have { // the rule is gone
		if k.state == "open" && !partly {
			if _, err := tx.Exec(`UPDATE findings SET state = 'closed', closed_at = ? WHERE id = ?`, store.Stamp(now), k.id); err != nil {
				return nil, err
			}
		}
	}
	return opened, nil
}

// wasWell reports whether this version of the document had found the item in order
// before.
func (had *state) wasWell(hash, item string) bool {
	return had != nil && had.hash == hash && strings.Contains("\n"+had.outcomes, "\n"+item+" p\n")
}

// drop ends states that no document is for any more, and closes what they found.
func (s *Service) drop(ctx context.Context, gone map[stateKey]*state) error {
	if len(gone) == 0 {
		return nil
	}
	for k := range gone {
		s.forget(k)
	}
	return s.DB.Write(ctx, func(tx *store.Tx) error {
		for k, x := range gone {
			if _, err := tx.Exec(`UPDATE audit_states SET until = ? WHERE id = ?`, store.Stamp(s.Now()), x.id); err != nil {
				return err
			}
			if _, err := tx.Exec(`UPDATE findings SET state = 'closed', closed_at = ? WHERE device_id = ? AND part = ? AND document = ? AND state = 'open'`, store.Stamp(s.Now()), k.device, k.part, k.document); err != nil {
				return err
			}
		}
		return nil
	})
}

// base is a baseline with what its configuration is now.
type base struct {
	device        int64
	configuration int64
	datastore     string
	part          string
	number        int // of the blessed revision
	newest        int
	same          bool // they have the same comparison form
}

func (b *base) key() string { return "baseline:" + b.datastore }

func (b *base) document() *document {
	return &document{kind: "baseline", name: b.datastore, hash: fmt.Sprint(b.number), base: b}
}

func (s *Service) bases(ctx context.Context) (map[int64][]base, error) {
	list, err := s.Archive.Baselines(ctx)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	out := map[int64][]base{}
	for i := range list {
		r := &list[i].Revision
		newest, err := s.Archive.Latest(ctx, r.Key)
		if err != nil {
			return nil, err
		}
		out[r.Device] = append(out[r.Device], base{r.Device, r.Configuration(), r.Datastore, r.Part, r.Number, newest.Number, newest.SameForm(r)})
	}
	return out, nil
}

// refTo names a revision.
func refTo(device, datastore, part string, number int) string {
	return ref.Ref{Device: device, Datastore: datastore, Part: part, Point: ref.Point{Kind: ref.Number, Number: number}}.String()
}

// drift compares a configuration with its baseline.
func (s *Service) drift(ctx context.Context, d *fleet.Device, b base) (verdict, error) {
	v := verdict{document: b.document(), hash: fmt.Sprint(b.number)}
	r := result{item: "baseline", severity: audit.Medium, title: "It is as it was when it was blessed", outcome: audit.Pass}
	if b.number != b.newest && !b.same {
		at := func(number int) texts.Source { return texts.Source{Ref: refTo(d.Name, b.datastore, b.part, number)} }
		c, err := s.Texts().Compare(ctx, texts.Request{Left: at(b.number), Right: at(b.newest)}, texts.Caller{Location: time.UTC})
		switch {
		case errors.Is(err, archive.ErrThinned) || errors.Is(err, texts.ErrMask):
			r.outcome, r.why = audit.Undecidable, err.Error()
		case err != nil:
			return v, err
		case c.Result.Stats.Total() > 0:
			r.outcome, r.why = audit.Fail, fmt.Sprintf("drifted from @%d: %s", b.number, c.Result.Stats.Said())
			for _, row := range c.Rows(0) {
				if row.Kind == diff.Equal || row.Kind == diff.Skipped || row.Aside != diff.Counts {
					continue
				}
				if len(r.proofs) >= audit.MaxProofs {
					r.more++
					continue
				}
				p := audit.Proof{Line: row.Right, LastLine: row.Right, Path: row.Path, Text: strings.TrimSpace(row.RightText), Says: string(row.Kind)}
				if row.Right == 0 {
					p.Text = ""
				}
				if row.LeftText != "" && row.Kind != diff.Added && row.Kind != diff.Moved {
					p.Says += ": " + strings.TrimSpace(row.LeftText)
				}
				r.proofs = append(r.proofs, p)
			}
		}
	}
	v.results = []result{r}
	return v, nil
}
