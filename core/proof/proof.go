// Package proof is the procedure by which somebody who does not trust the
// service, on another machine, convinces himself that a configuration was in the
// archive at a time and was not altered since. docs/proof.md publishes it.
//
// Each revision is a link of its configuration's chain: the SHA-256 over the link
// before and everything in the revision's row that never changes, its times among
// it. The ends of all chains, the heads, are written to a file that is signed
// with Ed25519 (RFC 8032) by a key which the service never sees. As one's own
// signature proves no time, a time-stamping authority (RFC 3161) can put its own
// beside it, or the file is sent to somebody else.
package proof

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"
)

// The forms of the files; another form has another number.
const (
	HeadsForm = "vergekeep heads 1"
	ProofForm = "vergekeep proof 1"
)

// ErrProof is wrapped where something does not prove what it should.
var ErrProof = errors.New("this proves nothing")

// Row is what of a revision its link is made of.
type Row struct {
	Device    int64  `json:"device"`
	Number    int    `json:"number"`
	Arrived   int64  `json:"arrived"`   // microseconds since 1970-01-01 in UTC, as the other time
	FirstSeen int64  `json:"firstSeen"` // since when it was in force
	SameAs    int    `json:"sameAs"`
	Datastore string `json:"datastore"`
	Part      string `json:"part"`
	Dialect   string `json:"dialect"`
	Origin    string `json:"origin"`
	Suspect   string `json:"suspect"`
	Author    string `json:"author"`
	Hash      string `json:"hash"`     // SHA-256 of the text, in hexadecimal
	FormHash  string `json:"formHash"` // the first 16 bytes of the SHA-256 of the comparison form
}

// Link is the chain's next hash: SHA-256 over the link before (nothing for the
// first), five numbers of 64 bits (big-endian), six texts, each after its length
// in bytes as a number of 32 bits, and the bytes of both hashes.
func (r Row) Link(before []byte) ([]byte, error) {
	hash, err := hex.DecodeString(r.Hash)
	if err != nil || len(hash) != sha256.Size {
		return nil, fmt.Errorf("%w: %q is no SHA-256", ErrProof, r.Hash)
	}
	form, err := hex.DecodeString(r.FormHash)
	if err != nil || len(form) != 16 {
		return nil, fmt.Errorf("%w: %q is no hash of a comparison form", ErrProof, r.FormHash)
	}
	b := append(make([]byte, 0, 256), before...)
	for _, n := range []int64{r.Device, int64(r.Number), r.Arrived, r.FirstSeen, int64(r.SameAs)} {
		b = binary.BigEndian.AppendUint64(b, uint64(n))
	}
	for _, s := range []string{r.Datastore, r.Part, r.Dialect, r.Origin, r.Suspect, r.Author} {
		b = append(binary.BigEndian.AppendUint32(b, uint32(len(s))), s...)
	}
	sum := sha256.Sum256(append(append(b, hash...), form...))
	return sum[:], nil
}

// Head is the end of a configuration's chain.
type Head struct {
	Device    int64  `json:"device"`
	Name      string `json:"name"`
	Datastore string `json:"datastore"`
	Part      string `json:"part"`
	Number    int    `json:"number"` // of the last revision
	Chain     string `json:"chain"`
}

// Heads is what is signed.
type Heads struct {
	Form  string    `json:"form"`
	At    time.Time `json:"at"`
	Heads []Head    `json:"heads"`
}

// Signed is the heads with the signature over their very bytes.
type Signed struct {
	Heads     []byte `json:"heads"`           // the JSON of Heads
	Signature []byte `json:"signature"`       // Ed25519 over Heads
	Key       []byte `json:"key"`             // the public key
	Stamp     []byte `json:"stamp,omitempty"` // a time-stamp token over Signature (RFC 3161)
}

// Sign signs heads.
func Sign(h Heads, key ed25519.PrivateKey) (Signed, error) {
	data, err := json.Marshal(h)
	if err != nil {
		return Signed{}, err
	}
	return Signed{Heads: data, Signature: ed25519.Sign(key, data), Key: key.Public().(ed25519.PublicKey)}, nil
}

// Open checks a signature by a key that is known to be the right one, and gives
// what was signed. Without a key the one in the file is taken, which proves that
// the file is whole and not who made it.
func (s Signed) Open(key ed25519.PublicKey) (Heads, error) {
	var h Heads
	if len(key) == 0 {
		key = s.Key
	}
	if len(key) != ed25519.PublicKeySize || !ed25519.Verify(key, s.Heads, s.Signature) {
		return h, fmt.Errorf("%w: the signature is not of this key, or what was signed was altered", ErrProof)
	}
	if err := json.Unmarshal(s.Heads, &h); err != nil {
		return h, fmt.Errorf("%w: what was signed cannot be read: %w", ErrProof, err)
	}
	if h.Form != HeadsForm {
		return h, fmt.Errorf("%w: its form is %q and not %q", ErrProof, h.Form, HeadsForm)
	}
	return h, nil
}

// Proof is a text with the rows of the chain from it to the end.
type Proof struct {
	Form   string `json:"form"`
	Name   string `json:"name"` // the revision's ref
	Text   []byte `json:"text"`
	Before string `json:"before"` // the link before the first row, "" if there is none
	Rows   []Row  `json:"rows"`
}

// Shown is what a proof shows together with signed heads.
type Shown struct {
	Since   time.Time // since when the text was in force, by the service's own clock
	Arrived time.Time
	Number  int
	Later   int       // revisions behind it in the chain
	Signed  time.Time // when the heads were signed, by the clock of whoever signed
}

// Against checks a proof against heads that were signed.
func (p Proof) Against(h Heads) (Shown, error) {
	bad := func(format string, args ...any) (Shown, error) {
		return Shown{}, fmt.Errorf("%w: %s", ErrProof, fmt.Sprintf(format, args...))
	}
	if p.Form != ProofForm {
		return bad("its form is %q and not %q", p.Form, ProofForm)
	}
	if len(p.Rows) == 0 {
		return bad("it has no rows")
	}
	first := p.Rows[0]
	sum := sha256.Sum256(p.Text)
	if hex.EncodeToString(sum[:]) != first.Hash {
		return bad("the text does not have the hash of @%d", first.Number)
	}
	chain, err := hex.DecodeString(p.Before)
	if err != nil {
		return bad("the link before cannot be read")
	}
	if (first.Number == 1) != (len(chain) == 0) {
		return bad("the link before @%d is missing, or is one too many", first.Number)
	}
	var head *Head
	for i := range h.Heads {
		x := &h.Heads[i]
		if x.Device == first.Device && x.Datastore == first.Datastore && x.Part == first.Part {
			head = x
		}
	}
	if head == nil {
		return bad("the heads that were signed do not name this configuration")
	}
	for i, r := range p.Rows {
		if r.Number != first.Number+i || r.Device != first.Device || r.Datastore != first.Datastore || r.Part != first.Part {
			return bad("row %d is not the next one of this chain", i+1)
		}
		if chain, err = r.Link(chain); err != nil {
			return Shown{}, err
		}
		if r.Number == head.Number {
			if hex.EncodeToString(chain) != head.Chain {
				return bad("the chain does not lead to the head that was signed: something was altered since")
			}
			return Shown{Since: time.UnixMicro(first.FirstSeen).UTC(), Arrived: time.UnixMicro(first.Arrived).UTC(), Number: first.Number, Later: head.Number - first.Number, Signed: h.At}, nil
		}
	}
	if head.Number < first.Number {
		return bad("@%d came after the heads were signed, which end at @%d", first.Number, head.Number)
	}
	return bad("its rows end before the head that was signed, @%d", head.Number)
}
