package rounds

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"vergekeep/archive"
	"vergekeep/core/dialect"
	"vergekeep/core/diff"
	"vergekeep/core/reason"
	"vergekeep/core/selector"
	"vergekeep/service/fleet"
	"vergekeep/service/vault"
	"vergekeep/store"
	"vergekeep/wire/conversation"
	"vergekeep/wire/ssh"
)

// shrinkShare and shrinkLines say when a capture has shrunk so much that it is
// read again: to less than so many hundredths of the lines, by at least so many.
const (
	shrinkShare = 60
	shrinkLines = 10
)

// brought is what a visit brought back from a device.
type brought struct {
	plate    dialect.Nameplate
	hostKey  string
	cred     int64
	captures []*archive.Prepared
	session  string // what was said; kept where the visit failed
}

// visit goes to one device and prepares what it captured for the archive.
func (s *Service) visit(ctx context.Context, d fleet.Device) (brought, error) {
	var b brought
	dl, ok := s.dialects[d.Platform]
	if !ok {
		return b, reason.New(reason.UnknownDialect, "There is no dialect for the platform %q.", d.Platform)
	}
	cred, err := s.credential(ctx, d)
	if err != nil {
		return b, err
	}
	b.cred = cred.ID
	ctx, cancel := context.WithTimeoutCause(ctx, dl.Reach.Visit, reason.New(reason.TooLong, "The visit took longer than its limit of %s.", dl.Reach.Visit))
	defer cancel()
	texts, err := s.capture(ctx, d, dl, cred, &b)
	if err != nil {
		return b, err
	}
	newest, err := s.archive.Newest(ctx, d.ID)
	if err != nil {
		return b, storageError(err)
	}
	suspects, err := shrunk(newest, texts)
	if err != nil {
		return b, err
	}
	if len(suspects) > 0 {
		// It looks complete but lost a lot: read it again before believing it.
		if texts, err = s.capture(ctx, d, dl, cred, &b); err != nil {
			return b, err
		}
		if suspects, err = shrunk(newest, texts); err != nil {
			return b, err
		}
	}
	before := map[archive.Key]*archive.Revision{}
	for i := range newest {
		before[newest[i].Key] = &newest[i]
	}
	at := s.now()
	for key, view := range texts {
		p, err := s.archive.Prepare(ctx, archive.Capture{
			Key: key, Before: before[key], Text: view.Tree.Source, Form: view.ComparisonForm(), Dialect: dl.Name + " " + dl.Version,
			Origin: archive.Captured, At: at, Arrived: at, Suspect: suspects[key],
			Compare: func(before string) diff.Stats { return compare(dl.View(before), view) },
		})
		if err != nil {
			return b, storageError(err)
		}
		b.captures = append(b.captures, p)
	}
	return b, nil
}

func compare(before, after dialect.View) diff.Stats {
	return diff.Compare(
		diff.Side{Text: before.Tree.Source, PathAt: before.Tree.PathAt, Forms: before.Forms},
		diff.Side{Text: after.Tree.Source, PathAt: after.Tree.PathAt, Forms: after.Forms}).Stats
}

// credential is the one that worked last, or else the first whose selector
// picks the device.
func (s *Service) credential(ctx context.Context, d fleet.Device) (vault.Credential, error) {
	list, err := s.credentials(ctx)
	if err != nil {
		return vault.Credential{}, storageError(err)
	}
	best := -1
	for i, c := range list {
		sel, err := selector.Parse(c.Selector)
		if err != nil || !sel.Match(&d) {
			continue
		}
		if c.ID == d.Credential {
			return c, nil
		}
		// A credential for some devices comes before one for all.
		if best < 0 || list[best].Selector == "" && c.Selector != "" {
			best = i
		}
	}
	if best < 0 {
		return vault.Credential{}, reason.New(reason.NoCredential, "No credential is for this device.")
	}
	return list[best], nil
}

// capture logs in, holds the dialect's conversation, and checks what it
// brought: the device must be the one on record, and every text complete.
func (s *Service) capture(ctx context.Context, d fleet.Device, dl *dialect.Dialect, cred vault.Credential, b *brought) (map[archive.Key]dialect.View, error) {
	conn, err := ssh.Dial(ctx, ssh.Target{
		Address: d.Address, User: cred.Username, Password: cred.Password, HostKey: d.HostKey,
		Connect: dl.Reach.Connect, Silence: dl.Reach.Silence,
	})
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	b.hostKey = conn.HostKey
	result, err := conversation.Run(ctx, conn, dl, conversation.Credential{User: cred.Username, Password: cred.Password, Elevation: cred.Elevation})
	b.session = result.Session
	if err != nil {
		return nil, err
	}
	kept := map[string]string{}
	for _, a := range result.Answers {
		if _, ok := kept[a.Name]; !ok {
			kept[a.Name] = a.Text
		}
	}
	b.plate = dl.ReadNameplate(kept)
	if err := sameDevice(d, b.plate); err != nil {
		return nil, err
	}
	texts := map[archive.Key]dialect.View{}
	for _, c := range dl.Captures {
		for _, a := range result.Answers {
			if a.Name != c.From {
				continue
			}
			part := strings.ReplaceAll(c.Part, "${item}", a.Item)
			view := dl.View(dl.CleanText(a.Text))
			if err := dl.CheckComplete(view.Tree); err != nil {
				return nil, reason.New(reason.Incomplete, "Its %s configuration was refused: %w.", strings.TrimSpace(c.Datastore+" "+part), err)
			}
			texts[archive.Key{Device: d.ID, Datastore: c.Datastore, Part: part}] = view
		}
	}
	if len(texts) == 0 {
		return nil, reason.New(reason.Incomplete, "It gave no configuration at all.")
	}
	return texts, nil
}

// sameDevice compares what the device says it is with the record. The serial
// number decides; a name only counts where it is known to be the device's own.
func sameDevice(d fleet.Device, p dialect.Nameplate) error {
	if d.Nameplate.Serial != "" && p.Serial != "" && d.Nameplate.Serial != p.Serial {
		return reason.New(reason.OtherDevice, "It says its serial number is %s, but the record has %s.", p.Serial, d.Nameplate.Serial)
	}
	if d.Nameplate.Serial == "" && p.Name != "" && d.Nameplate.Name == "" && !strings.EqualFold(p.Name, d.Name) && !strings.EqualFold(hostPart(p.Name), d.Name) {
		return reason.New(reason.OtherDevice, "It says its name is %s, but the record is for %s.", p.Name, d.Name)
	}
	return nil
}

func hostPart(name string) string {
	host, _, _ := strings.Cut(name, ".")
	return host
}

// shrunk says of each text that lost a lot against the revision before, why it
// is suspect.
func shrunk(newest []archive.Revision, texts map[archive.Key]dialect.View) (map[archive.Key]string, error) {
	suspects := map[archive.Key]string{}
	for _, r := range newest {
		view, ok := texts[r.Key]
		if !ok {
			return nil, reason.New(reason.Incomplete, "Its %s configuration is missing, which was there at the visit before.", strings.TrimSpace(r.Datastore+" "+r.Part))
		}
		n := view.Tree.Lines()
		if n*100 < r.Lines*shrinkShare && r.Lines-n >= shrinkLines {
			suspects[r.Key] = fmt.Sprintf("It has %d lines; the revision before had %d. Reading it again gave the same.", n, r.Lines)
		}
	}
	return suspects, nil
}

func storageError(err error) error {
	switch {
	case errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded):
		return reason.New(reason.Cancelled, "The visit was cancelled.")
	case errors.Is(err, store.ErrFull):
		return reason.New(reason.Storage, "The service's disk is full: %w.", err)
	}
	return reason.New(reason.Storage, "The archive could not be read or written: %w.", err)
}

// outcome is what became of a visit.
type outcome struct {
	kind        Outcome
	err         *reason.Error // of failed and passed-over
	started     time.Time
	took        time.Duration
	undecidable bool
	revisions   []archive.Revision // new ones
}

// file writes the outcome of a visit: revisions, the device's record and the
// visit itself in one transaction.
func (s *Service) file(ctx context.Context, round int64, d fleet.Device, b brought, o outcome) (outcome, error) {
	// What a visit brought back is kept even when the round is being cancelled.
	ctx = context.WithoutCancel(ctx)
	var sealed []byte
	if o.kind == Failed && b.session != "" {
		var err error
		if sealed, err = s.vault.Seal("session", []byte(b.session)); err != nil {
			return o, err
		}
	}
	err := s.db.Write(ctx, func(tx *store.Tx) error {
		now := store.Stamp(o.started.Add(o.took))
		o.revisions = nil
		if o.err == nil {
			o.kind, o.undecidable = Unchanged, false
			for _, p := range b.captures {
				r, isNew, err := s.archive.Record(tx, p)
				if err != nil {
					return err
				}
				o.undecidable = o.undecidable || p.OnlyUndecidable()
				if isNew {
					o.kind = Changed
					o.revisions = append(o.revisions, r)
				}
			}
			change, suspect := int64(0), d.Suspect
			if o.kind == Changed {
				change, suspect = now, ""
				for _, r := range o.revisions {
					if r.Suspect != "" {
						suspect = r.Suspect
					}
				}
			}
			if _, err := tx.Exec(`UPDATE devices SET last_good = ?1, last_visit = ?1, last_change = CASE WHEN ?2 > 0 THEN ?2 ELSE last_change END,
				problem = '', problem_what = '', problem_since = 0, credential_id = ?3, host_key = ?4,
				serial = CASE WHEN ?5 <> '' THEN ?5 ELSE serial END, own_name = ?6, model = ?7, version = ?8, suspect = ?10 WHERE id = ?9`,
				now, change, b.cred, b.hostKey, b.plate.Serial, b.plate.Name, b.plate.Model, b.plate.Version, d.ID, suspect); err != nil {
				return err
			}
		} else if o.kind == Failed {
			if _, err := tx.Exec(`UPDATE devices SET last_visit = ?1, problem_since = CASE WHEN problem = '' THEN ?1 ELSE problem_since END, problem = ?2, problem_what = ?3 WHERE id = ?4`,
				now, o.err.Code, o.err.What, d.ID); err != nil {
				return err
			}
		}
		var code, what any
		if o.err != nil {
			code, what = string(o.err.Code), o.err.What
		}
		var undecidable any
		if o.undecidable {
			undecidable = 1
		}
		if _, err := tx.Exec(`UPDATE visits SET outcome = ?, started_at = ?, took = ?, reason = ?, what = ?, undecidable = ? WHERE round_id = ? AND device_id = ?`,
			o.kind, store.Stamp(o.started), o.took.Microseconds(), code, what, undecidable, round, d.ID); err != nil {
			return err
		}
		if sealed != nil {
			if _, err := tx.Exec(`INSERT OR REPLACE INTO sessions_kept (round_id, device_id, sealed) VALUES (?, ?, ?)`, round, d.ID, sealed); err != nil {
				return err
			}
		}
		_, err := tx.Exec(`UPDATE rounds SET `+counters[o.kind]+` = `+counters[o.kind]+` + 1 WHERE id = ?`, round)
		return err
	})
	return o, err
}

var counters = map[Outcome]string{Changed: "fresh", Unchanged: "unchanged", Failed: "failed", PassedOver: "passed_over"}

// Session is what was said in a visit that failed. It may hold secrets.
func (s *Service) Session(ctx context.Context, round, device int64) (string, error) {
	var sealed []byte
	err := s.db.QueryRow(ctx, `SELECT sealed FROM sessions_kept WHERE round_id = ? AND device_id = ?`, round, device).Scan(&sealed)
	if errors.Is(err, sql.ErrNoRows) {
		return "", fmt.Errorf("%w: nothing was kept of this visit", ErrUnknown)
	}
	if err != nil {
		return "", err
	}
	plain, err := s.vault.Unseal("session", sealed)
	return string(plain), err
}

// credentials caches what the vault holds for the length of a moment: a round
// of thousands of visits must not unseal everything each time.
func (s *Service) credentials(ctx context.Context) ([]vault.Credential, error) {
	s.credMu.Lock()
	defer s.credMu.Unlock()
	if time.Since(s.credAt) < time.Second && s.credList != nil {
		return slices.Clone(s.credList), nil
	}
	list, err := s.vault.List(ctx)
	if err == nil {
		s.credList, s.credAt = list, time.Now()
	}
	return list, err
}
