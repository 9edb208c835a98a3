package archive

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"sync"

	"github.com/cespare/xxhash/v2"
	"github.com/klauspost/compress/zstd"

	"vergekeep/store"
)

const (
	// maxPlaces is how many contents may go back to one that stands alone.
	maxPlaces = 32
	// maxDepth is how many bases may stand behind one stored content.
	maxDepth = 5
	// maxKept is how many bytes of texts that others are told against are kept in
	// memory.
	maxKept = 64 << 20
	// chunkSize is the most bytes that stand in one row.
	chunkSize = 1 << 20
	// maxContent bounds what a damaged row can make us allocate.
	maxContent = 256 << 20
	// window is how far the compressor looks back.
	window = 1 << 20
	// dictionaryID marks contents compressed against a base or a primer.
	dictionaryID = 1
	// primed is the first byte of a content that is compressed against a primer;
	// its number and a Zstandard frame (RFC 8878) follow.
	primed = 0x02
	// maxPrimer is how large a primer may be: what resembles a configuration as
	// large as that is few, and compresses well by itself.
	maxPrimer = 256 << 10
	// maxPrimers is how many primers a platform can have.
	maxPrimers = 6
)

// codec compresses with Zstandard.
type codec struct {
	enc *zstd.Encoder
	dec *zstd.Decoder

	mu      sync.Mutex
	primers map[int64]*primer
}

// primer is a text that others are compressed against.
type primer struct {
	id       int64
	platform string
	hash     [32]byte
	data     []byte // compressed by itself
	enc      *zstd.Encoder
	dec      *zstd.Decoder
	lines    map[uint64]struct{} // hashes of its lines
}

// common is how many bytes of a text are in lines that the primer has.
func (p *primer) common(text string) (n int) {
	for line := range strings.Lines(text) {
		if _, ok := p.lines[xxhash.Sum64String(line)]; ok {
			n += len(line)
		}
	}
	return n
}

func newCodec() (*codec, error) {
	enc, err := zstd.NewWriter(nil, zstd.WithWindowSize(window), zstd.WithEncoderConcurrency(2), zstd.WithEncoderLevel(zstd.SpeedBetterCompression))
	if err != nil {
		return nil, err
	}
	dec, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(2), zstd.WithDecoderMaxMemory(maxContent))
	return &codec{enc: enc, dec: dec, primers: map[int64]*primer{}}, err
}

func (c *codec) against(text, base string) ([]byte, error) {
	size := window
	for size < len(base)+len(text) && size < 64<<20 {
		size *= 2
	}
	enc, err := zstd.NewWriter(nil, zstd.WithWindowSize(size), zstd.WithEncoderConcurrency(1), zstd.WithEncoderDictRaw(dictionaryID, []byte(base)))
	if err != nil {
		return nil, err
	}
	defer enc.Close()
	return enc.EncodeAll([]byte(text), nil), nil
}

func (c *codec) unpack(data []byte, base string, size int) ([]byte, error) {
	if len(data) > 0 && data[0] == told {
		return apply(data, base, size)
	}
	if base == "" {
		return c.dec.DecodeAll(data, make([]byte, 0, size))
	}
	dec, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(maxContent), zstd.WithDecoderDictRaw(dictionaryID, []byte(base)))
	if err != nil {
		return nil, err
	}
	defer dec.Close()
	return dec.DecodeAll(data, make([]byte, 0, size))
}

// newPrimer makes ready what is needed to compress against text.
func (c *codec) newPrimer(id int64, platform, text string, data []byte) (*primer, error) {
	p := &primer{id: id, platform: platform, hash: sha256.Sum256([]byte(text)), data: data, lines: map[uint64]struct{}{}}
	for line := range strings.Lines(text) {
		p.lines[xxhash.Sum64String(line)] = struct{}{}
	}
	var err error
	if p.enc, err = zstd.NewWriter(nil, zstd.WithWindowSize(window), zstd.WithEncoderConcurrency(2), zstd.WithEncoderLevel(zstd.SpeedBetterCompression), zstd.WithEncoderDictRaw(dictionaryID, []byte(text))); err != nil {
		return nil, err
	}
	p.dec, err = zstd.NewReader(nil, zstd.WithDecoderConcurrency(2), zstd.WithDecoderMaxMemory(maxContent), zstd.WithDecoderDictRaw(dictionaryID, []byte(text)))
	return p, err
}

// loadPrimers reads primers that are not known yet. Of each the first copy that
// has its hash is taken.
func (a *Archive) loadPrimers(ctx context.Context) error {
	rows, err := a.db.Query(ctx, `SELECT id, platform, hash, data FROM primers ORDER BY id, copy`)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var id int64
		var platform string
		var hash, data []byte
		if err := rows.Scan(&id, &platform, &hash, &data); err != nil {
			return err
		}
		if a.codec.primers[id] != nil {
			continue
		}
		text, err := a.codec.dec.DecodeAll(data, nil)
		if err != nil || string(sum(text)) != string(hash) {
			continue
		}
		if a.codec.primers[id], err = a.codec.newPrimer(id, platform, string(text), data); err != nil {
			return err
		}
	}
	return rows.Err()
}

// primers are those of a platform.
func (a *Archive) primers(ctx context.Context, platform string) ([]*primer, error) {
	c := a.codec
	c.mu.Lock()
	defer c.mu.Unlock()
	if !a.primed || a.newPrimers.Load() {
		known := len(c.primers)
		if err := a.loadPrimers(ctx); err != nil {
			return nil, err
		}
		if a.primed = true; len(c.primers) > known {
			a.newPrimers.Store(false) // until then they may not have been committed
		}
	}
	var list []*primer
	for _, p := range c.primers {
		if p.platform == platform {
			list = append(list, p)
		}
	}
	return list, nil
}

func (a *Archive) primer(ctx context.Context, id int64) (*primer, error) {
	c := a.codec
	c.mu.Lock()
	defer c.mu.Unlock()
	if p := c.primers[id]; p != nil {
		return p, nil
	}
	if err := a.loadPrimers(ctx); err != nil {
		return nil, err
	}
	if p := c.primers[id]; p != nil {
		return p, nil
	}
	return nil, fmt.Errorf("%w: primer %d is missing, or both its copies are", ErrCorrupt, id)
}

// packed is a content ready to be stored.
type packed struct {
	data   []byte
	base   int64
	place  int
	near   *Prepared // stored before in the same transaction; it is the base
	primer string    // the text is worth being a primer of this platform
	known  int       // of primer: how many there were
}

// stored is where a content stands once it is recorded.
type stored struct{ id int64 }

// baseOf is the place of the content that the one at a place is told against:
// the lowest digit that is not 0, of the place written with the base four, is
// made 0. So a text is put together in at most three steps, and no step spans
// many changes. Each base lies on the way from the place before back to 0.
func baseOf(place int) int {
	for digit := 4; ; digit *= 4 {
		if rest := place % digit; rest != 0 {
			return place - rest
		}
	}
}

// pack compresses text: against an earlier revision where that pays, else
// against another text of the same visit that it resembles, else by itself.
func (a *Archive) pack(ctx context.Context, c Capture, before string, latest *Revision) (packed, error) {
	if latest != nil && latest.blob != 0 && before != "" {
		line, err := a.line(ctx, latest.blob)
		if err != nil {
			return packed{}, err
		}
		if place := line[0].place + 1; place < maxPlaces {
			i := 0
			for i < len(line)-1 && line[i].place > baseOf(place) {
				i++
			}
			base := before
			if i > 0 {
				text, err := a.content(ctx, line[i].id, true)
				if err != nil {
					return packed{}, err
				}
				base = string(text)
			}
			data := delta(c.Text, base)
			if len(data) > 512 {
				against, err := a.codec.against(c.Text, base)
				if err != nil {
					return packed{}, err
				}
				if len(against) < len(data) {
					data = against
				}
			}
			// What is stored must give the text again, whatever went wrong here.
			if again, err := a.codec.unpack(data, base, len(c.Text)); err != nil || string(again) != c.Text {
				return a.alone(ctx, c)
			}
			told := packed{data: data, base: line[i].id, place: place}
			if len(data) < len(c.Text)/16 {
				return told, nil
			}
			alone, err := a.alone(ctx, c)
			if err != nil || len(alone.data) <= len(data) {
				return alone, err
			}
			return told, nil
		}
	}
	if near := c.Near; near != nil && near.blob.data != nil && near.blob.near == nil {
		if data := delta(c.Text, near.capture.Text); len(data) < 512 {
			return packed{data: data, near: near, place: maxPlaces - 1}, nil
		}
	}
	return a.alone(ctx, c)
}

// alone compresses a text that is told against no other: with the primer of its
// platform that suits it best.
func (a *Archive) alone(ctx context.Context, c Capture) (packed, error) {
	platform := (&Revision{Dialect: c.Dialect}).Platform()
	primers, err := a.primers(ctx, platform)
	if err != nil {
		return packed{}, err
	}
	with := func(p *primer) []byte {
		return p.enc.EncodeAll([]byte(c.Text), binary.AppendUvarint([]byte{primed}, uint64(p.id)))
	}
	if len(c.Text) <= maxPrimer {
		// Most texts have most of their lines in common with a primer: that one is it.
		var nearest *primer
		most := len(c.Text) / 2
		for _, p := range primers {
			if n := p.common(c.Text); n > most {
				nearest, most = p, n
			}
		}
		if nearest != nil {
			return packed{data: with(nearest)}, nil
		}
	}
	best := packed{data: a.codec.enc.EncodeAll([]byte(c.Text), nil)}
	plain := len(best.data)
	if len(c.Text) > maxPrimer || plain < 256 {
		return best, nil
	}
	for _, p := range primers {
		if data := with(p); len(data) < len(best.data) {
			best = packed{data: data}
		}
	}
	if len(primers) < maxPrimers && len(best.data) > plain*6/10 {
		best.primer, best.known = platform, len(primers)
	}
	return best, nil
}

// putPrimer stores a text as a primer, twice.
func (a *Archive) putPrimer(tx *store.Tx, platform string, known int, text string) error {
	c := a.codec
	data := c.enc.EncodeAll([]byte(text), nil)
	hash := sha256.Sum256([]byte(text))
	var id int64
	var of int
	if err := tx.QueryRow(`SELECT coalesce(max(id), 0) + 1, coalesce(sum(platform = ?), 0) / 2 FROM primers`, platform).Scan(&id, &of); err != nil || of > known {
		return err // others have come since: they may suit it
	}
	for copy := range 2 {
		if _, err := tx.Exec(`INSERT INTO primers (id, copy, platform, hash, data) VALUES (?, ?, ?, ?, ?)`, id, copy, platform, hash[:], data); err != nil {
			return fmt.Errorf("storing a primer: %w", err)
		}
	}
	a.newPrimers.Store(true)
	return nil
}

func (a *Archive) putBlob(tx *store.Tx, p *Prepared) (int64, error) {
	b := p.blob
	err := tx.QueryRow(`SELECT id FROM blobs WHERE substr(hash, 1, 6) = ? AND hash = ?`, p.hash[:6], p.hash[:]).Scan(&p.stored.id)
	if err == nil || !errors.Is(err, sql.ErrNoRows) { // it is stored already
		return p.stored.id, err
	}
	if b.near != nil {
		b.base = b.near.stored.id
	}
	if b.primer != "" {
		if err := a.putPrimer(tx, b.primer, b.known, p.capture.Text); err != nil {
			return 0, err
		}
	}
	var base any
	if b.base != 0 {
		base = b.base
	}
	data := b.data
	if len(data) > chunkSize {
		data = nil
	}
	res, err := tx.Exec(`INSERT INTO blobs (hash, size, sum, base_id, place, data) VALUES (?, ?, ?, ?, ?, ?)`, p.hash[:], len(p.capture.Text), quick(p.capture.Text), base, b.place, data)
	if err != nil {
		return 0, fmt.Errorf("storing a content: %w", err)
	}
	id, err := res.LastInsertId()
	p.stored = stored{id}
	if err != nil || data != nil {
		return id, err
	}
	for n, rest := 0, b.data; len(rest) > 0; n++ {
		size := min(len(rest), chunkSize)
		if _, err := tx.Exec(`INSERT INTO blob_chunks (blob_id, number, data) VALUES (?, ?, ?)`, id, n, rest[:size]); err != nil {
			return 0, fmt.Errorf("storing a content: %w", err)
		}
		rest = rest[size:]
	}
	return id, nil
}

// quick is the sum that a content is compared with whenever it is read: it tells
// damage from wholeness at the speed of memory. That nobody altered a content
// together with its sum, SHA-256 shows, which [Archive.Check] and proofs compare.
func quick(text string) int64 { return int64(xxhash.Sum64String(text)) }

// Text is the exact text of a revision. It is compared with its sum; the error
// wraps [ErrCorrupt] where it does not have it, and [ErrThinned] where only the
// hash was kept.
func (a *Archive) Text(ctx context.Context, r Revision) (string, error) {
	if r.blob == 0 {
		return "", fmt.Errorf("%w: @%d was thinned out; its hash and times are kept", ErrThinned, r.Number)
	}
	return a.text(ctx, r, true)
}

// text is Text; what was not remembered is compared with the hash besides.
func (a *Archive) text(ctx context.Context, r Revision, remembered bool) (string, error) {
	text, err := a.content(ctx, r.blob, remembered)
	if err != nil {
		return "", err
	}
	if !remembered && sha256.Sum256(text) != r.Hash {
		return "", fmt.Errorf("%w: the content does not have its hash", ErrCorrupt)
	}
	return string(text), nil
}

// row is a stored content.
type row struct {
	id, base int64
	size     int
	place    int
	sum      int64
	data     []byte
}

func (a *Archive) row(ctx context.Context, blob int64) (r row, err error) {
	err = a.db.QueryRow(ctx, `SELECT id, coalesce(base_id, 0), size, place, sum, data FROM blobs WHERE id = ?`, blob).Scan(&r.id, &r.base, &r.size, &r.place, &r.sum, &r.data)
	if errors.Is(err, sql.ErrNoRows) {
		err = fmt.Errorf("%w: a content is missing", ErrCorrupt)
	}
	return r, err
}

// line is a content and everything it is told against, the farthest base last.
func (a *Archive) line(ctx context.Context, blob int64) ([]row, error) {
	var line []row
	for blob != 0 {
		if len(line) > maxDepth {
			return nil, fmt.Errorf("%w: more than %d contents depend on each other", ErrCorrupt, maxDepth)
		}
		r, err := a.row(ctx, blob)
		if err != nil {
			return nil, err
		}
		line = append(line, r)
		blob = r.base
	}
	return line, nil
}

// content puts the bytes of a content together. Remembered says that bases may
// be taken from memory: they were read from the file once.
func (a *Archive) content(ctx context.Context, blob int64, remembered bool) ([]byte, error) {
	var line []row
	var base string
	for id := blob; id != 0; {
		if remembered {
			if text, ok := a.kept.get(id); ok {
				if len(line) == 0 {
					return []byte(text), nil
				}
				base = text
				break
			}
		}
		if len(line) > maxDepth {
			return nil, fmt.Errorf("%w: more than %d contents depend on each other", ErrCorrupt, maxDepth)
		}
		r, err := a.row(ctx, id)
		if err != nil {
			return nil, err
		}
		line = append(line, r)
		id = r.base
	}
	var text []byte
	for i := len(line) - 1; i >= 0; i-- {
		var err error
		if text, err = a.expand(ctx, line[i], base); err != nil {
			return nil, err
		}
		if i > 0 {
			base = string(text)
			if remembered {
				a.kept.put(line[i].id, base)
			}
		}
	}
	return text, nil
}

// expand makes the bytes of one stored content of those of its base.
func (a *Archive) expand(ctx context.Context, r row, base string) ([]byte, error) {
	data := r.data
	if data == nil {
		var err error
		if data, err = a.chunks(ctx, r.id); err != nil {
			return nil, err
		}
	}
	if r.size < 0 || r.size > maxContent {
		return nil, fmt.Errorf("%w: a content says that it is %d bytes long", ErrCorrupt, r.size)
	}
	var text []byte
	var err error
	if len(data) > 0 && data[0] == primed {
		id, n := binary.Uvarint(data[1:])
		if n <= 0 {
			return nil, fmt.Errorf("%w: a content names no primer", ErrCorrupt)
		}
		p, primerErr := a.primer(ctx, int64(id))
		if primerErr != nil {
			return nil, primerErr
		}
		text, err = p.dec.DecodeAll(data[1+n:], make([]byte, 0, r.size))
	} else {
		text, err = a.codec.unpack(data, base, r.size)
	}
	if err != nil {
		return nil, fmt.Errorf("%w: a content cannot be unpacked: %w", ErrCorrupt, err)
	}
	return text, a.whole(ctx, r, text)
}

// whole says whether a content is as it was stored. One whose sum was damaged
// may still have its hash.
func (a *Archive) whole(ctx context.Context, r row, text []byte) error {
	if int64(xxhash.Sum64(text)) == r.sum {
		return nil
	}
	var hash []byte
	if err := a.db.QueryRow(ctx, `SELECT hash FROM blobs WHERE id = ?`, r.id).Scan(&hash); err != nil {
		return err
	}
	if !bytes.Equal(hash, sum(text)) {
		return fmt.Errorf("%w: the content does not have its hash", ErrCorrupt)
	}
	return nil
}

func (a *Archive) chunks(ctx context.Context, blob int64) ([]byte, error) {
	rows, err := a.db.Query(ctx, `SELECT data FROM blob_chunks WHERE blob_id = ? ORDER BY number`, blob)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []byte
	for rows.Next() {
		var data []byte
		if err := rows.Scan(&data); err != nil {
			return nil, err
		}
		all = append(all, data...)
	}
	return all, rows.Err()
}
