package archive

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"time"

	"vergekeep/store"
)

// Size is how many revisions and bytes of distinct contents there are, and how
// many bytes they take.
func (a *Archive) Size(ctx context.Context) (revisions, contents, stored int64, err error) {
	err = a.db.QueryRow(ctx, `SELECT (SELECT count(*) FROM revisions), coalesce(sum(size), 0),
		coalesce(sum(length(data)), 0) + (SELECT coalesce(sum(length(data)), 0) FROM blob_chunks) + (SELECT coalesce(sum(length(data)), 0) FROM primers) FROM blobs`).Scan(&revisions, &contents, &stored)
	return
}

// Stats is how much there is.
type Stats struct {
	Devices, Configurations, Revisions, Thinned, Pinned, Contents int
	Bytes, Stored, File                                           int64
	Oldest, Newest                                                time.Time
}

// Stats counts.
func (a *Archive) Stats(ctx context.Context) (s Stats, err error) {
	var oldest, newest int64
	if err = a.db.QueryRow(ctx, `SELECT (SELECT count(DISTINCT device_id) FROM configurations), (SELECT count(*) FROM configurations), count(*), coalesce(sum(blob_id IS NULL), 0),
		(SELECT count(*) FROM notes WHERE pinned), (SELECT count(*) FROM blobs), coalesce(min(coalesce(first_seen, arrived_at)), 0), coalesce(max(coalesce(first_seen, arrived_at)), 0),
		(SELECT page_count FROM pragma_page_count) * (SELECT page_size FROM pragma_page_size) FROM revisions`).
		Scan(&s.Devices, &s.Configurations, &s.Revisions, &s.Thinned, &s.Pinned, &s.Contents, &oldest, &newest, &s.File); err != nil {
		return s, err
	}
	s.Oldest, s.Newest = store.Time(oldest), store.Time(newest)
	_, s.Bytes, s.Stored, err = a.Size(ctx)
	return s, err
}

// Fault is something that a check found wrong.
type Fault struct {
	Key
	Number int
	What   string
}

// Report is what a check found.
type Report struct {
	Revisions int
	Contents  int
	Faults    []Fault
}

// Check reads every content, compares it with its hash, and follows every
// chain. Its error says that it could not check, not that something is wrong.
func (a *Archive) Check(ctx context.Context) (Report, error) {
	var report Report
	if err := a.db.Examine(ctx); store.IsDamage(err) {
		report.Faults = append(report.Faults, Fault{What: err.Error() + ": restore the last backup with 'vergekeep restore'"})
	} else if err != nil {
		return report, err
	}
	if err := a.checkPrimers(ctx, &report); err != nil {
		return report, err
	}
	heads, err := a.heads(ctx)
	if err != nil {
		return report, err
	}
	for _, h := range heads {
		if err := a.checkChain(ctx, h, &report); err != nil {
			return report, err
		}
	}
	return report, nil
}

// head is the end of a configuration's chain as the configuration knows it.
type head struct {
	Key
	id   int64
	last int
	hash []byte
}

func (a *Archive) heads(ctx context.Context) ([]head, error) {
	rows, err := a.db.Query(ctx, `SELECT id, device_id, datastore, part, last, head FROM configurations ORDER BY device_id, datastore, part`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []head
	for rows.Next() {
		var h head
		if err := rows.Scan(&h.id, &h.Device, &h.Datastore, &h.Part, &h.last, &h.hash); err != nil {
			return nil, err
		}
		list = append(list, h)
	}
	return list, rows.Err()
}

func (a *Archive) checkChain(ctx context.Context, h head, report *Report) error {
	list, err := a.query(ctx, `WHERE c.id = ? ORDER BY r.number`, h.id)
	if err != nil {
		return err
	}
	fault := func(number int, format string, args ...any) {
		report.Faults = append(report.Faults, Fault{h.Key, number, fmt.Sprintf(format, args...)})
	}
	var chain []byte
	number := 0
	contents := &Contents{a: a} // what is in the file counts, not what is remembered of it
	for _, r := range list {
		if err := ctx.Err(); err != nil {
			return err
		}
		for missing := number + 1; missing < r.Number; missing++ {
			fault(missing, "it is missing")
		}
		if r.Number == number+1 && string(r.link(chain)) != string(r.chain) {
			fault(r.Number, "its row was altered, or the one before it was")
		}
		number, chain = r.Number, r.chain
		report.Revisions++
		if r.Thinned {
			continue
		}
		report.Contents++
		text, err := contents.Text(ctx, r)
		if errors.Is(err, ErrCorrupt) {
			fault(r.Number, "%v", err)
			continue
		}
		if err != nil {
			return err
		}
		if one, err := a.row(ctx, r.blob); err != nil {
			return err
		} else if one.sum != quick(text) {
			fault(r.Number, "the sum of its content was altered; the content has its hash")
		}
	}
	switch {
	case h.last > number:
		fault(h.last, "it is missing, and what lies between @%d and it", number)
	case string(h.hash) != string(chain):
		fault(number, "the end of the chain is not the one on record")
	}
	return nil
}

func (a *Archive) checkPrimers(ctx context.Context, report *Report) error {
	rows, err := a.db.Query(ctx, `SELECT id, copy, platform, hash, data FROM primers`)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var id, copy int64
		var platform string
		var hash, data []byte
		if err := rows.Scan(&id, &copy, &platform, &hash, &data); err != nil {
			return err
		}
		text, err := a.codec.dec.DecodeAll(data, nil)
		if err != nil || string(hash) != string(sum(text)) {
			report.Faults = append(report.Faults, Fault{What: fmt.Sprintf("copy %d of the primer %d of %s is damaged; as long as the other one is whole, nothing is lost", copy+1, id, platform)})
		}
	}
	return rows.Err()
}

func sum(b []byte) []byte {
	s := sha256.Sum256(b)
	return s[:]
}

// Contents reads texts one after the other. It remembers the last one, so that
// going through the revisions of a configuration in their order takes one step
// each. It is for one goroutine.
type Contents struct {
	a          *Archive
	remembered bool
	blob       int64
	text       string
}

// Contents makes a reader of many texts.
func (a *Archive) Contents() *Contents { return &Contents{a: a, remembered: true} }

// Text is as [Archive.Text].
func (c *Contents) Text(ctx context.Context, r Revision) (string, error) {
	if r.blob == c.blob && r.blob != 0 {
		return c.text, nil
	}
	if r.blob == 0 {
		return c.a.Text(ctx, r)
	}
	if c.blob != 0 {
		one, err := c.a.row(ctx, r.blob)
		if err == nil && one.base == c.blob {
			if text, err := c.a.expand(ctx, one, c.text); err == nil && (c.remembered || sha256.Sum256(text) == r.Hash) {
				return string(text), nil // the next one is likely to be told against the same
			}
		}
	}
	text, err := c.a.text(ctx, r, c.remembered)
	if err == nil {
		c.blob, c.text = r.blob, text
	}
	return text, err
}

// Bytes is how many bytes the tables and indexes of revisions, contents and
// chains take in the file.
func (a *Archive) Bytes(ctx context.Context) (n int64, err error) {
	err = a.db.QueryRow(ctx, `SELECT coalesce(sum(pgsize), 0) FROM dbstat WHERE aggregate = 1 AND name IN (SELECT name FROM sqlite_schema
		WHERE tbl_name IN ('blobs', 'blob_chunks', 'primers', 'dialects', 'configurations', 'revisions', 'notes'))`).Scan(&n)
	return n, err
}
