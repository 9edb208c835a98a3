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
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"vergekeep/core/diff"
	"vergekeep/core/ref"
	"vergekeep/store"
)

// Errors that callers test for.
var (
	ErrNone    = errors.New("no such revision")
	ErrCorrupt = errors.New("the archive is damaged")
	ErrThinned = errors.New("the text is no longer kept")
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

var origins = [...]Origin{Captured, Imported, Drafted}

// Revision is one archived state of a configuration.
type Revision struct {
	Key
	Number    int
	Hash      [32]byte // of the bytes
	Size      int      // in bytes; 0 of one that was thinned out
	Lines     int
	Dialect   string
	Origin    Origin
	Author    string // who is on record for it; "" for nobody
	Arrived   time.Time
	FirstSeen time.Time
	LastSeen  time.Time
	SameAs    int // number of an earlier revision with the same comparison form; 0 if none
	Suspect   string
	Stats     diff.Stats // against the one in force before
	Note      Note
	Thinned   bool // only its hash and its times are kept

	configuration int64
	form          [16]byte // the start of the SHA-256 of the comparison form
	blob          int64
	chain         []byte
}

// Note is what people have said of a revision.
type Note struct {
	Pinned       bool // never thinned out
	Name, Remark string
	Account      string
}

// Configuration is the number of the configuration that it is of.
func (r *Revision) Configuration() int64 { return r.configuration }

// Platform names the dialect that the revision was captured with.
func (r *Revision) Platform() string {
	name, _, _ := strings.Cut(r.Dialect, " ")
	return name
}

// SameForm reports whether two revisions have the same comparison form.
func (r *Revision) SameForm(other *Revision) bool { return r.form == other.form }

// Archive reads and writes revisions. It is safe for concurrent use.
type Archive struct {
	db    *store.DB
	codec *codec

	kept kept

	primed     bool        // under codec.mu: the primers have been read
	newPrimers atomic.Bool // some were recorded that have not been read

	mu      sync.Mutex
	clock   uint64
	touched map[int64]uint64 // by device: when it was written last, in ticks of clock
}

// New makes an archive on db.
func New(db *store.DB) (*Archive, error) {
	c, err := newCodec()
	if err != nil {
		return nil, err
	}
	return &Archive{db: db, codec: c, touched: map[int64]uint64{}}, nil
}

// Capture is a configuration that a device gave.
type Capture struct {
	Key
	Text    string
	Form    string // the comparison form of Text
	Dialect string // name and version
	Origin  Origin
	Author  string
	At      time.Time // when it was in force
	Arrived time.Time
	Suspect string // why it is suspect, or ""
	// Before is the revision of the same key that was in force before, nil if
	// there is none: the newest one, but for texts that are older than that.
	Before *Revision
	// Near is a capture of the same visit that this one may resemble, prepared
	// before and recorded before; nil for none.
	Near *Prepared
	// Compare counts the differences from the text of the revision before. It is
	// also told by what counts now, and says if nothing that counts differs: what
	// counts may have been otherwise when that revision was captured. It may be nil.
	Compare func(before string) (differences diff.Stats, same bool)
}

// Prepared is a capture that is ready to be recorded.
type Prepared struct {
	capture Capture
	latest  *Revision
	hash    [32]byte
	form    [16]byte
	stats   diff.Stats
	blob    packed // empty if nothing new is to be stored
	stored  stored
}

// Changed reports whether the comparison form differs from the revision before.
func (p *Prepared) Changed() bool { return p.latest == nil || p.latest.form != p.form }

// Before is the revision that was in force before; nil if there is none.
func (p *Prepared) Before() *Revision { return p.latest }

// Is reports whether the comparison form is that of a revision.
func (p *Prepared) Is(r *Revision) bool { return p.form == r.form }

// OnlyUndecidable reports whether the bytes of secrets or volatile lines
// differ, though the comparison form is the same.
func (p *Prepared) OnlyUndecidable() bool {
	return p.latest != nil && p.latest.form == p.form && p.latest.Hash != p.hash
}

const columns = `c.id, c.device_id, c.datastore, c.part, r.number, coalesce(r.hash, b.hash), coalesce(b.size, 0), r.lines, d.name, r.origin, r.author,
	r.arrived_at, coalesce(r.first_seen, r.arrived_at), r.last_seen, r.same_as, r.suspect, r.added, r.removed, r.changed, r.moved,
	r.form, coalesce(r.blob_id, 0), r.chain, coalesce(n.pinned, 0), coalesce(n.name, ''), coalesce(n.remark, ''), coalesce(n.account, '')`

const from = ` FROM configurations c JOIN revisions r ON r.configuration_id = c.id JOIN dialects d ON d.id = r.dialect_id
	LEFT JOIN blobs b ON b.id = r.blob_id LEFT JOIN notes n ON n.configuration_id = c.id AND n.number = r.number `

func scan(row interface{ Scan(...any) error }) (Revision, error) { return scanMore(row) }

// scanMore reads the columns and then some more.
func scanMore(row interface{ Scan(...any) error }, more ...any) (Revision, error) {
	var r Revision
	var hash, form []byte
	var arrived, first, last int64
	var origin int
	err := row.Scan(append([]any{&r.configuration, &r.Device, &r.Datastore, &r.Part, &r.Number, &hash, &r.Size, &r.Lines, &r.Dialect, &origin, &r.Author,
		&arrived, &first, &last, &r.SameAs, &r.Suspect, &r.Stats.Added, &r.Stats.Removed, &r.Stats.Changed, &r.Stats.Moved, &form, &r.blob, &r.chain,
		&r.Note.Pinned, &r.Note.Name, &r.Note.Remark, &r.Note.Account}, more...)...)
	if origin >= 0 && origin < len(origins) {
		r.Origin = origins[origin]
	}
	copy(r.Hash[:], hash)
	if form == nil {
		form = hash
	}
	copy(r.form[:], form)
	r.Thinned = r.blob == 0
	r.Arrived, r.FirstSeen, r.LastSeen = store.Time(arrived), store.Time(first), store.Time(last)
	return r, err
}

// Latest is the newest revision; its error is [ErrNone] where there is none.
func (a *Archive) Latest(ctx context.Context, k Key) (Revision, error) {
	r, err := scan(a.db.QueryRow(ctx, `SELECT `+columns+from+`WHERE c.device_id = ? AND c.datastore = ? AND c.part = ? AND r.number = c.newest`, k.Device, k.Datastore, k.Part))
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
	switch {
	case c.Form == c.Text:
		p.form = [16]byte(p.hash[:])
	case c.Near != nil && c.Near.capture.Form == c.Form:
		p.form = c.Near.form
	default:
		sum := sha256.Sum256([]byte(c.Form))
		p.form = [16]byte(sum[:])
	}
	if !p.Changed() {
		return p, nil
	}
	before := ""
	var err error
	if p.latest != nil && !p.latest.Thinned {
		if before, err = a.Text(ctx, *p.latest); err != nil {
			return nil, err
		}
		if c.Compare != nil {
			var same bool
			if p.stats, same = c.Compare(before); same {
				p.form = p.latest.form
				return p, nil
			}
		}
	}
	p.blob, err = a.pack(ctx, c, before, p.latest)
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
		_, err := tx.Exec(`UPDATE revisions SET last_seen = max(last_seen, ?) WHERE configuration_id = ? AND number = ?`, store.Stamp(c.At), r.configuration, r.Number)
		return r, false, err
	}
	r := Revision{
		Key: c.Key, Hash: p.hash, Size: len(c.Text), Lines: lines(c.Text), Dialect: c.Dialect, Origin: c.Origin, Author: c.Author,
		Arrived: c.Arrived.UTC().Truncate(time.Microsecond), FirstSeen: c.At.UTC().Truncate(time.Microsecond), LastSeen: c.At.UTC().Truncate(time.Microsecond),
		Suspect: c.Suspect, Stats: p.stats, form: p.form,
	}
	var head []byte
	var newest, newestSeen int64
	err := tx.QueryRow(`SELECT c.id, c.newest, c.last, c.head, coalesce((SELECT coalesce(first_seen, arrived_at) FROM revisions WHERE configuration_id = c.id AND number = c.newest), 0)
		FROM configurations c WHERE c.device_id = ? AND c.datastore = ? AND c.part = ?`, c.Device, c.Datastore, c.Part).Scan(&r.configuration, &newest, &r.Number, &head, &newestSeen)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		res, err := tx.Exec(`INSERT INTO configurations (device_id, datastore, part) VALUES (?, ?, ?)`, c.Device, c.Datastore, c.Part)
		if err != nil {
			return r, false, err
		}
		if r.configuration, err = res.LastInsertId(); err != nil {
			return r, false, err
		}
	case err != nil:
		return r, false, err
	}
	if r.Origin == Captured && (p.latest == nil && newest != 0 || p.latest != nil && int64(p.latest.Number) != newest) {
		return r, false, fmt.Errorf("recording a revision: another one was recorded since it was prepared")
	}
	if seen := store.Time(newestSeen); r.Origin == Captured && r.FirstSeen.Before(seen) {
		// A clock that was set back makes no capture older than the one before it.
		r.FirstSeen, r.LastSeen = seen, seen
	}
	r.Number++
	if r.blob, err = a.putBlob(tx, p); err != nil {
		return r, false, err
	}
	form := any(p.form[:])
	if p.form == [16]byte(p.hash[:]) {
		form = nil
	}
	if r.Number > 1 {
		if err := tx.QueryRow(`SELECT coalesce(min(r.number), 0) FROM revisions r LEFT JOIN blobs b ON b.id = r.blob_id WHERE r.configuration_id = ?
			AND coalesce(r.form, substr(coalesce(r.hash, b.hash), 1, 16)) = ?`, r.configuration, p.form[:]).Scan(&r.SameAs); err != nil {
			return r, false, err
		}
	}
	dialect, err := dialectID(tx, c.Dialect)
	if err != nil {
		return r, false, err
	}
	origin := slices.Index(origins[:], r.Origin)
	r.chain = r.link(head)
	first := any(store.Stamp(r.FirstSeen))
	if r.FirstSeen.Equal(r.Arrived) {
		first = nil
	}
	if _, err = tx.Exec(`INSERT INTO revisions (configuration_id, number, blob_id, form, dialect_id, origin, author,
		arrived_at, first_seen, last_seen, same_as, suspect, lines, added, removed, changed, moved, chain)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		r.configuration, r.Number, r.blob, form, dialect, origin, r.Author,
		store.Stamp(r.Arrived), first, store.Stamp(r.LastSeen), r.SameAs, r.Suspect, r.Lines,
		r.Stats.Added, r.Stats.Removed, r.Stats.Changed, r.Stats.Moved, r.chain); err != nil {
		return r, false, fmt.Errorf("recording revision %d: %w", r.Number, err)
	}
	if r.Origin != Drafted && (newest == 0 || store.Stamp(r.FirstSeen) >= newestSeen) {
		newest = int64(r.Number)
	}
	_, err = tx.Exec(`UPDATE configurations SET newest = ?, last = ?, head = ? WHERE id = ?`, newest, r.Number, r.chain, r.configuration)
	return r, true, err
}

func dialectID(tx *store.Tx, name string) (id int64, err error) {
	err = tx.QueryRow(`SELECT id FROM dialects WHERE name = ?`, name).Scan(&id)
	if !errors.Is(err, sql.ErrNoRows) {
		return id, err
	}
	res, err := tx.Exec(`INSERT INTO dialects (name) VALUES (?)`, name)
	if err != nil {
		return 0, err
	}
	return res.LastInsertId()
}

// link is the chain's next hash: over the one before and everything in the row
// that never changes (see [proof.Row.Link]).
func (r *Revision) link(before []byte) []byte {
	link, err := r.row().Link(before)
	if err != nil {
		return nil // the row's hashes are none: no chain has such a link
	}
	return link
}

func lines(text string) int {
	n := strings.Count(text, "\n")
	if text != "" && !strings.HasSuffix(text, "\n") {
		n++
	}
	return n
}

// List is all revisions of a configuration, newest in force first.
func (a *Archive) List(ctx context.Context, k Key) ([]Revision, error) {
	return a.query(ctx, `WHERE c.device_id = ? AND c.datastore = ? AND c.part = ? ORDER BY coalesce(r.first_seen, r.arrived_at) DESC, r.number DESC`, k.Device, k.Datastore, k.Part)
}

// Newest is the newest revision of each configuration of a device.
func (a *Archive) Newest(ctx context.Context, device int64) ([]Revision, error) {
	return a.query(ctx, `WHERE c.device_id = ? AND `+isNewest, device)
}

const isNewest = `r.number = c.newest ORDER BY c.datastore, c.part DESC`

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
	newest := list[0]
	switch p.Kind {
	case ref.Latest:
		return newest, nil
	case ref.Number:
		last := 0
		for _, r := range list {
			if r.Number == p.Number {
				return r, nil
			}
			last = max(last, r.Number)
		}
		return Revision{}, fmt.Errorf("%w: there is no @%d; the revisions are @1 to @%d", ErrNone, p.Number, last)
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
		if at.After(now) {
			return Revision{}, fmt.Errorf("%w: %s is in the future", ErrNone, at.Format("2006-01-02 15:04"))
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
		return a.Baseline(ctx, k)
	case ref.Moment: // the caller knows the moments of the fleet: this is a revision's name
		for _, r := range list {
			if strings.EqualFold(r.Note.Name, p.Name) {
				return r, nil
			}
		}
		return Revision{}, fmt.Errorf("%w: no moment is named %q, and no revision", ErrNone, p.Name)
	}
	return Revision{}, fmt.Errorf("%w: @%s is no place in the archive", ErrNone, p)
}
