package rounds

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
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
	offered  string // the host key that was refused
	old      []string
	cred     int64
	captures []*archive.Prepared
	answer   string // to the cheap question
	unsaved  int    // lines of running that startup lacks, or the other way round
	session  []byte // what was said; kept where the visit failed
}

// visit goes to one device and prepares what it captured for the archive.
func (s *Service) visit(ctx context.Context, d fleet.Device, known *archive.Snapshot, given *vault.Credential) (brought, error) {
	var b brought
	dl, err := s.fleet.Dialect(ctx, &d)
	if err != nil {
		return b, storageError(err)
	}
	if dl == nil {
		return b, reason.New(reason.UnknownDialect, "There is no dialect for the platform %q.", d.Platform)
	}
	whole := dl
	dl = patient(whole.For(d.Nameplate), &d)
	ctx, cancel := context.WithTimeoutCause(ctx, dl.Reach.Visit, reason.New(reason.TooLong, "The visit took longer than its limit of %s.", dl.Reach.Visit))
	defer cancel()
	var texts map[archive.Key]dialect.View
	cred, err := s.withCredential(ctx, &d, given, func(c vault.Credential) (err error) {
		texts, err = s.capture(ctx, d, dl, c, &b)
		if turned := whole.For(b.plate); turned.Variant != dl.Variant && !gone(err) {
			// It is of another variant than its record led us to believe.
			dl = patient(turned, &d)
			texts, err = s.capture(ctx, d, dl, c, &b)
		}
		return err
	})
	b.cred = cred.ID
	if err != nil {
		var key *ssh.KeyError
		if errors.As(err, &key) {
			b.offered = key.Shown
		}
		return b, s.otherPlatform(&d, b.session, err)
	}
	newest, err := known.Newest(ctx, d.ID)
	if err != nil {
		return b, storageError(err)
	}
	suspects, err := shrunk(dl, newest, texts)
	if err != nil {
		return b, err
	}
	if len(suspects) > 0 {
		// It looks complete but lost a lot: read it again before believing it.
		if texts, err = s.capture(ctx, d, dl, cred, &b); err != nil {
			return b, err
		}
		if suspects, err = shrunk(dl, newest, texts); err != nil {
			return b, err
		}
	}
	before := map[archive.Key]*archive.Revision{}
	for i := range newest {
		before[newest[i].Key] = &newest[i]
	}
	at := s.now()
	keys := slices.SortedFunc(maps.Keys(texts), func(x, y archive.Key) int {
		return cmp.Or(cmp.Compare(x.Part, y.Part), cmp.Compare(x.Datastore, y.Datastore))
	})
	var near *archive.Prepared // running and startup of a part resemble each other
	for _, key := range keys {
		view := texts[key]
		p, err := s.archive.Prepare(ctx, archive.Capture{
			Key: key, Before: before[key], Near: near, Text: view.Tree.Source, Form: view.ComparisonForm(), Dialect: dl.Name + " " + dl.Version,
			Origin: archive.Captured, At: at, Arrived: at, Suspect: suspects[key],
			Compare: func(before string) (diff.Stats, bool) { return view.Compare(dl.View(before)) },
		})
		if err != nil {
			return b, storageError(err)
		}
		b.captures = append(b.captures, p)
		near = p
	}
	b.unsaved = unsaved(texts)
	return b, nil
}

// gone is whether a visit failed for a reason that no other way of talking mends.
func gone(err error) bool {
	switch reason.Of(err, "") {
	case "", reason.DeviceError, reason.NotAllowed, reason.NoPrompt, reason.Hung, reason.Incomplete:
		return false
	}
	return true
}

// unsaved counts the lines in which running and startup differ, what does not
// count left out.
func unsaved(texts map[archive.Key]dialect.View) int {
	total := 0
	for key, running := range texts {
		if key.Datastore != "running" {
			continue
		}
		startup, ok := texts[archive.Key{Device: key.Device, Datastore: "startup", Part: key.Part}]
		if ok {
			stats, _ := running.Compare(startup)
			total += stats.Total()
		}
	}
	return total
}

// otherPlatform looks whether a visit failed because the record names the wrong
// platform: what was said looks like another one's and not like this one's.
func (s *Service) otherPlatform(d *fleet.Device, session []byte, err error) error {
	switch reason.Of(err, "") {
	case reason.NoPrompt, reason.DeviceError, reason.NotAllowed:
	default:
		return err
	}
	looksLike := func(dl *dialect.Dialect) bool {
		r := dl.Recognise
		return r.Banner != nil && r.Banner.Match(session) || r.Prompt != nil && r.Prompt.Match(session)
	}
	if looksLike(s.dialects[d.Platform]) {
		return err
	}
	for _, name := range s.dialects.Names() {
		if name != d.Platform && looksLike(s.dialects[name]) {
			return reason.New(reason.OtherPlatform, "It looks like %s, but its record says %s.", name, d.Platform)
		}
	}
	return err
}

// capture logs in, holds the dialect's conversation, and checks what it
// brought: the device must be the one on record, and every text complete.
func (s *Service) capture(ctx context.Context, d fleet.Device, dl *dialect.Dialect, cred vault.Credential, b *brought) (map[archive.Key]dialect.View, error) {
	l, err := s.connect(ctx, &d, dl, cred)
	if err != nil {
		return nil, err
	}
	defer l.Close()
	var drops conversation.Drops
	if s.drops != nil {
		drops = s.drops.For(d.Addresses)
	}
	set := settings(cred, &d, drops)
	story := tellerOf(ctx)
	if story != nil {
		set.Trace = story.tell
	}
	if cred.CommandsPerMinute > 0 {
		set.Pace = func(ctx context.Context) error { return s.vault.Pace(ctx, cred, s.now) }
	}
	var result conversation.Result
	if story != nil && story.tape {
		result, story.recording, err = conversation.Record(ctx, l.Conn, dl, set)
	} else {
		result, err = conversation.Run(ctx, l.Conn, dl, set)
	}
	// What was typed is of use to nobody who reads the session, and the credential
	// may be another by then.
	b.session = []byte(dialect.Hider(cred.Password, cred.Elevation, cred.Token).Replace(string(result.Session)))
	b.hostKey, b.old = l.shown(), l.old
	kept := result.Kept()
	b.plate, b.answer = dl.ReadNameplate(kept), dl.Ask.Answer(kept)
	if err != nil {
		return nil, err
	}
	if err := s.sameDevice(&d, b.plate); err != nil {
		return nil, err
	}
	if dl.Moved(kept) {
		return nil, reason.New(reason.Moving, "Its configuration was changed while it was read.")
	}
	list, err := result.Texts(dl)
	if err != nil {
		return nil, err
	}
	texts := map[archive.Key]dialect.View{}
	for _, t := range list {
		texts[archive.Key{Device: d.ID, Datastore: t.Datastore, Part: t.Part}] = t.View
	}
	return texts, nil
}

// sameDevice compares what the device says it is with the record. The serial
// number decides; a name only counts where it is known to be the device's own.
func (s *Service) sameDevice(d *fleet.Device, p dialect.Nameplate) error {
	if d.Nameplate.Serial != "" && p.Serial != "" && d.Nameplate.Serial != p.Serial {
		return reason.New(reason.OtherDevice, "It says its serial number is %s, but the record has %s.", p.Serial, d.Nameplate.Serial)
	}
	if d.Nameplate.Serial == "" && p.Name != "" && d.Nameplate.Name == "" && !strings.EqualFold(p.Name, d.Name) && !strings.EqualFold(hostPart(p.Name), d.Name) {
		return reason.New(reason.OtherDevice, "It says its name is %s, but the record is for %s.", p.Name, d.Name)
	}
	if d.Nameplate.Serial == "" && p.Serial != "" {
		if other, taken := s.serials.of(p.Serial); taken && other.id != d.ID && other.box != d.Box() {
			return reason.New(reason.AddressOfTwo, "It is the box with serial number %s, which the record %s is for.", p.Serial, other.name)
		}
	}
	return nil
}

func hostPart(name string) string {
	host, _, _ := strings.Cut(name, ".")
	return host
}

// shrunk says of each text that lost a lot against the revision before, why it
// is suspect.
func shrunk(dl *dialect.Dialect, newest []archive.Revision, texts map[archive.Key]dialect.View) (map[archive.Key]string, error) {
	suspects := map[archive.Key]string{}
	for _, r := range newest {
		view, ok := texts[r.Key]
		if !ok && dl.IsOptional(r.Datastore, r.Part) {
			continue
		}
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
	tries       int
	undecidable bool
	revisions   []archive.Revision // new ones
	steps       []Step
}

// file writes the outcome of a visit: revisions, the device's record and the
// visit itself in one transaction.
func (s *Service) file(round Round, d fleet.Device, b brought, o outcome) (outcome, error) {
	var sealed []byte
	if (o.kind == Failed || round.records) && len(b.session) > 0 {
		sealer, release := s.vault.Hold()
		defer release()
		sealed = sealer.Seal("session", b.session)
	}
	// What a visit brought back is kept even when the round is being cancelled.
	err := s.db.WriteSoon(context.Background(), func(tx *store.Tx) error {
		now := store.Stamp(o.started.Add(o.took))
		o.revisions = nil
		switch {
		case o.err == nil:
			if err := s.fileGood(tx, &round, &d, &b, &o, now); err != nil {
				return err
			}
		case o.kind == Failed:
			if _, err := tx.Exec(`UPDATE devices SET last_visit = ?1, problem_since = CASE WHEN problem = '' THEN ?1 ELSE problem_since END, problem = ?2, problem_what = ?3, offered_key = ?4 WHERE id = ?5`,
				now, o.err.Code, o.err.What, b.offered, d.ID); err != nil {
				return err
			}
		}
		return record(tx, round.ID, d.ID, o, o.started.Sub(round.Started), sealed)
	})
	s.archive.Touched(d.ID)
	if err == nil && o.err == nil && b.plate.Serial != "" {
		s.serials.set(b.plate.Serial, holder{d.ID, d.Name, d.Box()})
	}
	return o, err
}

// fileGood writes what a good visit brought back.
func (s *Service) fileGood(tx *store.Tx, round *Round, d *fleet.Device, b *brought, o *outcome, now int64) error {
	o.kind, o.undecidable = Unchanged, false
	f := Filing{Round: *round, Device: *d, Began: o.started, At: store.Time(now), Answer: b.answer}
	for _, p := range b.captures {
		r, isNew, err := s.archive.Record(tx, p)
		if err != nil {
			return err
		}
		o.undecidable = o.undecidable || p.OnlyUndecidable()
		if isNew {
			o.kind = Changed
			o.revisions = append(o.revisions, r)
			f.New = append(f.New, Found{p.Before(), r})
			f.At = r.Arrived
		}
	}
	if s.filing != nil {
		if err := s.filing(tx, f); err != nil {
			return err
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
	keys := d.HostKeys
	if len(keys) == 0 && b.hostKey != "" {
		keys = []string{b.hostKey}
	}
	plate := b.plate
	if plate.Serial == "" {
		plate.Serial = d.Nameplate.Serial
	}
	if plate.Name != d.Nameplate.Name || plate.Serial != d.Nameplate.Serial || plate.Model != d.Nameplate.Model || plate.Version != d.Nameplate.Version {
		if _, err := tx.Exec(`INSERT OR REPLACE INTO nameplates (device_id, since, name, serial, model, version) VALUES (?, ?, ?, ?, ?, ?)`,
			d.ID, now, plate.Name, plate.Serial, plate.Model, plate.Version); err != nil {
			return err
		}
	}
	_, err := tx.Exec(`UPDATE devices SET last_good = ?1, last_visit = ?1, last_change = CASE WHEN ?2 > 0 THEN ?2 ELSE last_change END,
		problem = '', problem_what = '', problem_since = 0, offered_key = '', credential_id = CASE WHEN ?3 > 0 THEN ?3 ELSE credential_id END, host_keys = ?4, old_in_use = ?5,
		serial = ?6, own_name = ?7, model = ?8, version = ?9, uptime = ?10, suspect = ?11,
		unsaved = ?12, unsaved_since = CASE WHEN ?12 = 0 THEN 0 WHEN unsaved = 0 THEN ?1 ELSE unsaved_since END WHERE id = ?13`,
		now, change, b.cred, strings.Join(keys, "\n"), strings.Join(b.old, ", "),
		plate.Serial, plate.Name, plate.Model, plate.Version, plate.Uptime, suspect, b.unsaved, d.ID)
	return err
}

// outcomes by the number that stands for them in the database. An unchanged
// visit in which only re-salted secrets differed has a number of its own.
var outcomes = [...]Outcome{Unchanged, Changed, Failed, PassedOver, Unchanged}

const onlyUndecidable = 4

// record writes the row of a visit that has ended.
func record(tx *store.Tx, round, device int64, o outcome, startedAfter time.Duration, session []byte) error {
	number := slices.Index(outcomes[:], o.kind)
	if o.kind == Unchanged && o.undecidable {
		number = onlyUndecidable
	}
	if _, err := tx.Exec(`INSERT INTO visits (round_id, device_id, outcome, started, took) VALUES (?, ?, ?, ?, ?)`,
		round, device, number, startedAfter.Milliseconds(), o.took.Milliseconds()); err != nil {
		return err
	}
	if o.err == nil && (!o.undecidable || o.kind == Unchanged) && o.tries <= 1 && len(o.steps) == 0 {
		return nil
	}
	story, err := encodeSteps(o.steps)
	if err != nil {
		return err
	}
	var code reason.Code
	var what string
	if o.err != nil {
		code, what = o.err.Code, o.err.What
	}
	_, err = tx.Exec(`INSERT INTO visit_notes (round_id, device_id, reason, what, undecidable, tries, story, session) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
		round, device, string(code), what, o.undecidable, max(o.tries, 1), story, session)
	return err
}

// Session is what was said in a visit that failed, or in one of a round that
// records. It may hold secrets.
func (s *Service) Session(ctx context.Context, round, device int64) (string, error) {
	var sealed []byte
	err := s.db.QueryRow(ctx, `SELECT session FROM visit_notes WHERE round_id = ? AND device_id = ? AND session IS NOT NULL`, round, device).Scan(&sealed)
	if errors.Is(err, sql.ErrNoRows) {
		return "", fmt.Errorf("%w: nothing was kept of this visit", ErrUnknown)
	}
	if err != nil {
		return "", err
	}
	plain, err := s.vault.Unseal("session", sealed)
	return string(plain), err
}

// usable is a credential with its selector understood.
type usable struct {
	vault.Credential
	sel selector.Selector
}

// credentials caches what the vault holds for the length of a moment: a round
// of thousands of visits must not unseal everything each time.
func (s *Service) credentials(ctx context.Context) ([]usable, error) {
	s.credMu.Lock()
	defer s.credMu.Unlock()
	if time.Since(s.credAt) < time.Second && s.credList != nil {
		return s.credList, nil
	}
	list, err := s.vault.List(ctx)
	if err != nil {
		return nil, err
	}
	s.credList = make([]usable, 0, len(list))
	for _, c := range list {
		sel, err := selector.Parse(c.Selector)
		if err != nil {
			return nil, fmt.Errorf("the credential %s: %w", c.Name, err)
		}
		s.credList = append(s.credList, usable{c, sel})
	}
	s.credAt = time.Now()
	return s.credList, nil
}
