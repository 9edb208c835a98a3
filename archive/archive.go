// Package archive keeps revisions: what a device's configuration was, when it
// was in force, and since when we know. Contents are stored once, addressed by
// their SHA-256, and compressed against the revision before. A chain of hashes
// over the rows of each configuration lets [Archive.Check] prove that nothing
// was altered or lost.
//
// To archive a capture, [Archive.Prepare] it outside a transaction (it reads,
// compares and compresses) and then [Archive.Record] it inside one.
package archive

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"time"

	"vergekeep/core/diff"
	"vergekeep/core/ref"
	"vergekeep/store"
)

// Errors that callers test for.
var (
	ErrNone    = errors.New("no such revision")
	ErrCorrupt = errors.New("the archive is damaged")
)

// Key names one configuration of one device.
type Key struct {
	Device    int64
	Datastore string
	Part      string
}

// Origin says where a revision came from.
type Origin string

// The origins. Only captured revisions are ever in force.
const (
	Captured Origin = "captured"
	Imported Origin = "imported"
	Drafted  Origin = "drafted"
)

// Revision is one archived state of a configuration.
type Revision struct {
	ID int64
	Key
	Number    int
	Hash      [32]byte // of the bytes
	Size      int
	Lines     int
	Dialect   string
	Origin    Origin
	Arrived   time.Time
	FirstSeen time.Time
	LastSeen  time.Time
	SameAs    int // number of an earlier revision with the same comparison form; 0 if none
	Suspect   string
	Stats     diff.Stats // against the revision before

	formHash [32]byte
	blob     int64
	chain    []byte
}

// Archive reads and writes revisions. It is safe for concurrent use.
type Archive struct {
	db    *store.DB
	codec *codec
}

// New makes an archive on db.
func New(db *store.DB) (*Archive, error) {
	c, err := newCodec()
	if err != nil {
		return nil, err
	}
	return &Archive{db: db, codec: c}, nil
}

// Capture is a configuration that a device gave.
type Capture struct {
	Key
	Text    string
	Form    string // the comparison form of Text
	Dialect string // name and version
	Origin  Origin
	At      time.Time // when it was in force
	Arrived time.Time
	Suspect string // why it is suspect, or ""
	// Before is the newest revision of the same key, nil if there is none.
	Before *Revision
	// Compare counts the differences from the revision before; it may be nil.
	Compare func(before string) diff.Stats
}

// Prepared is a capture that is ready to be recorded.
type Prepared struct {
	capture  Capture
	latest   *Revision
	hash     [32]byte
	formHash [32]byte
	stats    diff.Stats
	blob     packed // empty if nothing new is to be stored
}

// Changed reports whether the comparison form differs from the revision before.
func (p *Prepared) Changed() bool { return p.latest == nil || p.latest.formHash != p.formHash }

// OnlyUndecidable reports whether the bytes of secrets or volatile lines
// differ, though the comparison form is the same.
func (p *Prepared) OnlyUndecidable() bool {
	return p.latest != nil && p.latest.formHash == p.formHash && p.latest.Hash != p.hash
}

const columns = `r.id, r.device_id, r.datastore, r.part, r.number, b.hash, b.size, r.lines, r.dialect, r.origin,
	r.arrived_at, r.first_seen, r.last_seen, r.same_as, r.suspect, r.added, r.removed, r.changed, r.moved, r.form_hash, r.blob_id, r.chain`

const from = ` FROM revisions r JOIN blobs b ON b.id = r.blob_id `

func scan(row interface{ Scan(...any) error }) (Revision, error) {
	var r Revision
	var hash, form []byte
	var arrived, first, last int64
	err := row.Scan(&r.ID, &r.Device, &r.Datastore, &r.Part, &r.Number, &hash, &r.Size, &r.Lines, &r.Dialect, &r.Origin,
		&arrived, &first, &last, &r.SameAs, &r.Suspect, &r.Stats.Added, &r.Stats.Removed, &r.Stats.Changed, &r.Stats.Moved, &form, &r.blob, &r.chain)
	copy(r.Hash[:], hash)
	copy(r.formHash[:], form)
	r.Arrived, r.FirstSeen, r.LastSeen = store.Time(arrived), store.Time(first), store.Time(last)
	return r, err
}

// Latest is the newest revision; its error is [ErrNone] where there is none.
func (a *Archive) Latest(ctx context.Context, k Key) (Revision, error) {
	r, err := scan(a.db.QueryRow(ctx, `SELECT `+columns+from+
		`WHERE r.device_id = ? AND r.datastore = ? AND r.part = ? ORDER BY r.number DESC LIMIT 1`, k.Device, k.Datastore, k.Part))
	if errors.Is(err, sql.ErrNoRows) {
		return r, ErrNone
	}
	return r, err
}

// Prepare hashes, compares and compresses a capture. From the reading of
// Capture.Before on nothing else may be recorded for the same key; Record then
// fails, as no number is given twice.
func (a *Archive) Prepare(ctx context.Context, c Capture) (*Prepared, error) {
	p := &Prepared{capture: c, latest: c.Before, hash: sha256.Sum256([]byte(c.Text))}
	p.formHash = p.hash
	if c.Form != c.Text {
		p.formHash = sha256.Sum256([]byte(c.Form))
	}
	if !p.Changed() {
		return p, nil
	}
	before := ""
	var err error
	if p.latest != nil {
		if before, err = a.Text(ctx, *p.latest); err != nil {
			return nil, err
		}
		if c.Compare != nil {
			p.stats = c.Compare(before)
		}
	}
	p.blob, err = a.pack(ctx, c.Text, before, p.latest)
	return p, err
}

// Record writes a prepared capture. It returns the revision that the
// configuration has now, and whether it is a new one.
func (a *Archive) Record(tx *store.Tx, p *Prepared) (Revision, bool, error) {
	c := p.capture
	if !p.Changed() {
		r := *p.latest
		if c.At.After(r.LastSeen) {
			r.LastSeen = c.At
		}
		_, err := tx.Exec(`UPDATE revisions SET last_seen = max(last_seen, ?) WHERE id = ?`, store.Stamp(c.At), r.ID)
		return r, false, err
	}
	r := Revision{
		Key: c.Key, Number: 1, Hash: p.hash, Size: len(c.Text), Lines: lines(c.Text), Dialect: c.Dialect, Origin: c.Origin,
		Arrived: c.Arrived.UTC().Truncate(time.Microsecond), FirstSeen: c.At.UTC().Truncate(time.Microsecond), LastSeen: c.At.UTC().Truncate(time.Microsecond),
		Suspect: c.Suspect, Stats: p.stats, formHash: p.formHash,
	}
	var before []byte
	if p.latest != nil {
		r.Number, before = p.latest.Number+1, p.latest.chain
	}
	var err error
	if r.blob, err = a.putBlob(tx, p); err != nil {
		return r, false, err
	}
	if p.latest != nil {
		if err := tx.QueryRow(`SELECT coalesce(min(number), 0) FROM revisions WHERE device_id = ? AND datastore = ? AND part = ? AND form_hash = ?`,
			c.Device, c.Datastore, c.Part, p.formHash[:]).Scan(&r.SameAs); err != nil {
			return r, false, err
		}
	}
	r.chain = r.link(before)
	res, err := tx.Exec(`INSERT INTO revisions (device_id, datastore, part, number, blob_id, form_hash, dialect, origin,
		arrived_at, first_seen, last_seen, same_as, suspect, lines, added, removed, changed, moved, chain)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		r.Device, r.Datastore, r.Part, r.Number, r.blob, r.formHash[:], r.Dialect, r.Origin,
		store.Stamp(r.Arrived), store.Stamp(r.FirstSeen), store.Stamp(r.LastSeen), r.SameAs, r.Suspect, r.Lines,
		r.Stats.Added, r.Stats.Removed, r.Stats.Changed, r.Stats.Moved, r.chain)
	if err != nil {
		return r, false, fmt.Errorf("recording revision %d: %w", r.Number, err)
	}
	r.ID, err = res.LastInsertId()
	return r, true, err
}

// link is the chain's next hash: over the one before and everything in the row
// that never changes.
func (r *Revision) link(before []byte) []byte {
	h := sha256.New()
	h.Write(before)
	text := func(s string) {
		_ = binary.Write(h, binary.BigEndian, uint32(len(s)))
		h.Write([]byte(s))
	}
	for _, n := range []int64{r.Device, int64(r.Number), store.Stamp(r.Arrived), store.Stamp(r.FirstSeen), int64(r.SameAs)} {
		_ = binary.Write(h, binary.BigEndian, n)
	}
	for _, s := range []string{r.Datastore, r.Part, r.Dialect, string(r.Origin), r.Suspect} {
		text(s)
	}
	h.Write(r.Hash[:])
	h.Write(r.formHash[:])
	return h.Sum(nil)
}

func lines(text string) int {
	n := strings.Count(text, "\n")
	if text != "" && !strings.HasSuffix(text, "\n") {
		n++
	}
	return n
}

// List is all revisions of a configuration, newest first.
func (a *Archive) List(ctx context.Context, k Key) ([]Revision, error) {
	return a.query(ctx, `WHERE r.device_id = ? AND r.datastore = ? AND r.part = ? ORDER BY r.number DESC`, k.Device, k.Datastore, k.Part)
}

// Newest is the newest revision of each configuration of a device.
func (a *Archive) Newest(ctx context.Context, device int64) ([]Revision, error) {
	return a.query(ctx, `WHERE r.device_id = ? AND r.number = (SELECT max(number) FROM revisions x
		WHERE x.device_id = r.device_id AND x.datastore = r.datastore AND x.part = r.part) ORDER BY r.datastore, r.part DESC`, device)
}

func (a *Archive) query(ctx context.Context, where string, args ...any) ([]Revision, error) {
	rows, err := a.db.Query(ctx, `SELECT `+columns+from+where, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Revision
	for rows.Next() {
		r, err := scan(rows)
		if err != nil {
			return nil, err
		}
		list = append(list, r)
	}
	return list, rows.Err()
}

// Resolve finds the revision that a point of a ref means. Points that are no
// place in the archive (live, standard) are the caller's.
func (a *Archive) Resolve(ctx context.Context, k Key, p ref.Point, now time.Time) (Revision, error) {
	list, err := a.List(ctx, k)
	if err != nil {
		return Revision{}, err
	}
	if len(list) == 0 {
		return Revision{}, fmt.Errorf("%w: nothing has been captured yet", ErrNone)
	}
	newest, oldest := list[0], list[len(list)-1]
	switch p.Kind {
	case ref.Latest:
		return newest, nil
	case ref.Number:
		for _, r := range list {
			if r.Number == p.Number {
				return r, nil
			}
		}
		return Revision{}, fmt.Errorf("%w: there is no @%d; the revisions are @%d to @%d", ErrNone, p.Number, oldest.Number, newest.Number)
	case ref.Back:
		if p.Number >= len(list) {
			if len(list) == 1 {
				return Revision{}, fmt.Errorf("%w: there is only @%d yet", ErrNone, newest.Number)
			}
			return Revision{}, fmt.Errorf("%w: @-%d reaches behind the first; there are %d revisions", ErrNone, p.Number, len(list))
		}
		return list[p.Number], nil
	case ref.Time, ref.Ago:
		at := p.Time
		if p.Kind == ref.Ago {
			at = now.Add(-p.Ago)
		}
		var first *Revision
		for i := range list {
			if list[i].Origin == Drafted {
				continue
			}
			if !list[i].FirstSeen.After(at) {
				return list[i], nil
			}
			first = &list[i]
		}
		if first != nil {
			return Revision{}, fmt.Errorf("%w: nothing was captured yet at %s; the first is @%d of %s", ErrNone,
				at.Format("2006-01-02 15:04"), first.Number, first.FirstSeen.In(at.Location()).Format("2006-01-02 15:04"))
		}
	case ref.Baseline:
		return Revision{}, fmt.Errorf("%w: it has no baseline", ErrNone)
	case ref.Moment:
		return Revision{}, fmt.Errorf("%w: no moment is named %q", ErrNone, p.Name)
	}
	return Revision{}, fmt.Errorf("%w: @%s is no place in the archive", ErrNone, p)
}

// Size is how many revisions and bytes of distinct contents there are, and how
// many bytes they take.
func (a *Archive) Size(ctx context.Context) (revisions, contents, stored int64, err error) {
	err = a.db.QueryRow(ctx, `SELECT (SELECT count(*) FROM revisions), coalesce(sum(size), 0),
		coalesce(sum(length(data)), 0) + (SELECT coalesce(sum(length(data)), 0) FROM blob_chunks) FROM blobs`).Scan(&revisions, &contents, &stored)
	return
}

// Report is what a check found.
type Report struct {
	Revisions int
	Contents  int
	Faults    []string
}

// Check reads every content, compares it with its hash, and follows every
// chain. Its error says that it could not check, not that something is wrong.
func (a *Archive) Check(ctx context.Context) (Report, error) {
	var report Report
	list, err := a.query(ctx, `ORDER BY r.device_id, r.datastore, r.part, r.number`)
	if err != nil {
		return report, err
	}
	checked := map[int64]bool{}
	var key Key
	var chain []byte
	number := 0
	for _, r := range list {
		if err := ctx.Err(); err != nil {
			return report, err
		}
		if r.Key != key {
			key, chain, number = r.Key, nil, 0
		}
		name := fmt.Sprintf("device %d, %s %s@%d", r.Device, r.Datastore, r.Part, r.Number)
		if r.Number != number+1 {
			report.Faults = append(report.Faults, name+": the revision before it is missing")
			chain = nil
		} else if string(r.link(chain)) != string(r.chain) {
			report.Faults = append(report.Faults, name+": its row was altered")
		}
		number, chain = r.Number, r.chain
		report.Revisions++
		if !checked[r.blob] {
			checked[r.blob] = true
			report.Contents++
			if _, err := a.Text(ctx, r); errors.Is(err, ErrCorrupt) {
				report.Faults = append(report.Faults, name+": "+err.Error())
			} else if err != nil {
				return report, err
			}
		}
	}
	return report, nil
}
