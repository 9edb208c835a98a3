package archive

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"fmt"

	"github.com/klauspost/compress/zstd"

	"vergekeep/store"
)

const (
	// maxDepth is how many bases may stand behind one stored content.
	maxDepth = 32
	// chunkSize is the most bytes that stand in one row.
	chunkSize = 1 << 20
	// maxContent bounds what a damaged row can make us allocate.
	maxContent = 256 << 20
	// window is how far the compressor looks back.
	window = 1 << 20
	// dictionaryID marks contents compressed against a base.
	dictionaryID = 1
)

// codec compresses with Zstandard (RFC 8878); against a base, the base's bytes
// are the dictionary.
type codec struct {
	enc *zstd.Encoder
	dec *zstd.Decoder
}

func newCodec() (*codec, error) {
	enc, err := zstd.NewWriter(nil, zstd.WithWindowSize(window), zstd.WithEncoderConcurrency(2), zstd.WithEncoderLevel(zstd.SpeedFastest))
	if err != nil {
		return nil, err
	}
	dec, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(2), zstd.WithDecoderMaxMemory(maxContent))
	return &codec{enc, dec}, err
}

func (c *codec) pack(text, base string) ([]byte, error) {
	if base == "" {
		return c.enc.EncodeAll([]byte(text), nil), nil
	}
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

func (c *codec) unpack(data []byte, base string) ([]byte, error) {
	if base == "" {
		return c.dec.DecodeAll(data, nil)
	}
	dec, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(maxContent), zstd.WithDecoderDictRaw(dictionaryID, []byte(base)))
	if err != nil {
		return nil, err
	}
	defer dec.Close()
	return dec.DecodeAll(data, nil)
}

// packed is a content ready to be stored.
type packed struct {
	data  []byte
	base  int64
	depth int
}

// pack compresses text, against the revision before it where that pays.
func (a *Archive) pack(ctx context.Context, text, before string, latest *Revision) (packed, error) {
	alone, err := a.codec.pack(text, "")
	if err != nil || latest == nil || before == "" {
		return packed{data: alone}, err
	}
	var depth int
	if err := a.db.QueryRow(ctx, `SELECT depth FROM blobs WHERE id = ?`, latest.blob).Scan(&depth); err != nil {
		return packed{}, err
	}
	if depth+1 >= maxDepth {
		return packed{data: alone}, nil
	}
	against, err := a.codec.pack(text, before)
	if err != nil || len(against) >= len(alone) {
		return packed{data: alone}, err
	}
	return packed{against, latest.blob, depth + 1}, nil
}

func (a *Archive) putBlob(tx *store.Tx, p *Prepared) (int64, error) {
	b := p.blob
	var base any
	if b.base != 0 {
		base = b.base
	}
	data := b.data
	if len(data) > chunkSize {
		data = nil
	}
	res, err := tx.Exec(`INSERT INTO blobs (hash, size, base_id, depth, data) VALUES (?, ?, ?, ?, ?) ON CONFLICT (hash) DO NOTHING`, p.hash[:], len(p.capture.Text), base, b.depth, data)
	if err != nil {
		return 0, fmt.Errorf("storing a content: %w", err)
	}
	var id int64
	if n, err := res.RowsAffected(); err != nil || n == 0 { // it is stored already
		err = errors.Join(err, tx.QueryRow(`SELECT id FROM blobs WHERE hash = ?`, p.hash[:]).Scan(&id))
		return id, err
	}
	if id, err = res.LastInsertId(); err != nil || data != nil {
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

// Text is the exact text of a revision. It is checked against its hash; the
// error then wraps [ErrCorrupt].
func (a *Archive) Text(ctx context.Context, r Revision) (string, error) {
	text, err := a.content(ctx, r.blob, 0)
	if err != nil {
		return "", err
	}
	if sha256.Sum256(text) != r.Hash {
		return "", fmt.Errorf("%w: the content does not have its hash", ErrCorrupt)
	}
	return string(text), nil
}

func (a *Archive) content(ctx context.Context, blob int64, depth int) ([]byte, error) {
	if depth > maxDepth {
		return nil, fmt.Errorf("%w: more than %d contents depend on each other", ErrCorrupt, maxDepth)
	}
	var base sql.NullInt64
	var data []byte
	var size int
	err := a.db.QueryRow(ctx, `SELECT base_id, data, size FROM blobs WHERE id = ?`, blob).Scan(&base, &data, &size)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, fmt.Errorf("%w: a content is missing", ErrCorrupt)
	}
	if err != nil {
		return nil, err
	}
	if data == nil {
		if data, err = a.chunks(ctx, blob); err != nil {
			return nil, err
		}
	}
	before := ""
	if base.Valid {
		b, err := a.content(ctx, base.Int64, depth+1)
		if err != nil {
			return nil, err
		}
		before = string(b)
	}
	text, err := a.codec.unpack(data, before)
	if err != nil {
		return nil, fmt.Errorf("%w: a content cannot be unpacked: %w", ErrCorrupt, err)
	}
	return text, nil
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
