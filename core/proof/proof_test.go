package proof

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var at = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

func text(i int) []byte { return fmt.Appendf(nil, "lan %d\n", i) }

func row(i int) Row {
	sum, form := sha256.Sum256(text(i)), sha256.Sum256(fmt.Appendf(nil, "form %d", i))
	return Row{Device: 7, Number: i, Arrived: at.UnixMicro() + int64(i), FirstSeen: at.UnixMicro(), Datastore: "running", Dialect: "tidegate 1", Origin: "captured", Hash: hex.EncodeToString(sum[:]), FormHash: hex.EncodeToString(form[:16])}
}

// chained makes a chain of n revisions, the heads, and the proof of one of them.
func chained(t testing.TB, n, of int) (Heads, Proof) {
	t.Helper()
	p := Proof{Form: ProofForm, Name: fmt.Sprintf("ng-acc-1@%d", of), Text: text(of)}
	var chain []byte
	for i := 1; i <= n; i++ {
		if i == of {
			p.Before = hex.EncodeToString(chain)
		}
		if i >= of {
			p.Rows = append(p.Rows, row(i))
		}
		var err error
		chain, err = row(i).Link(chain)
		require.NoError(t, err)
	}
	other := Head{Device: 8, Datastore: "running", Number: 1, Chain: "00"}
	return Heads{Form: HeadsForm, At: at.Add(time.Hour), Heads: []Head{other, {Device: 7, Name: "ng-acc-1", Datastore: "running", Number: n, Chain: hex.EncodeToString(chain)}}}, p
}

func TestEveryRevisionOfAChainIsProved(t *testing.T) {
	for n := 1; n <= 5; n++ {
		for of := 1; of <= n; of++ {
			h, p := chained(t, n, of)
			shown, err := p.Against(h)
			require.NoError(t, err)
			assert.Equal(t, Shown{Since: at, Arrived: at.Add(time.Duration(of) * time.Microsecond), Number: of, Later: n - of, Signed: at.Add(time.Hour)}, shown)
		}
	}
}

// TestNothingThatWasAlteredIsProved changes one thing at a time, of what the proof
// holds and of the heads.
func TestNothingThatWasAlteredIsProved(t *testing.T) {
	for name, alter := range map[string]func(h *Heads, p *Proof){
		"the text":              func(_ *Heads, p *Proof) { p.Text = append(p.Text, 'x') },
		"the text and its hash": func(_ *Heads, p *Proof) { p.Text, p.Rows[0].Hash = text(9), row(9).Hash },
		"the time":              func(_ *Heads, p *Proof) { p.Rows[0].FirstSeen-- },
		"a later row":           func(_ *Heads, p *Proof) { p.Rows[2].Author = "somebody" },
		"a row left out":        func(_ *Heads, p *Proof) { p.Rows = append(p.Rows[:1], p.Rows[2:]...) },
		"the last row left out": func(_ *Heads, p *Proof) { p.Rows = p.Rows[:2] },
		"all rows left out":     func(_ *Heads, p *Proof) { p.Rows = nil },
		"another device's row":  func(_ *Heads, p *Proof) { p.Rows[1].Device = 8 },
		"the link before":       func(_ *Heads, p *Proof) { p.Before = hex.EncodeToString(make([]byte, 32)) },
		"no link before":        func(_ *Heads, p *Proof) { p.Before = "" },
		"no hexadecimal":        func(_ *Heads, p *Proof) { p.Before = "x" },
		"a hash that is none":   func(_ *Heads, p *Proof) { p.Rows[1].Hash = "00" },
		"a form that is none":   func(_ *Heads, p *Proof) { p.Rows[1].FormHash = "zz" },
		"the form of the file":  func(_ *Heads, p *Proof) { p.Form = "other" },
		"the head":              func(h *Heads, _ *Proof) { h.Heads[1].Chain = h.Heads[0].Chain },
		"the head's number":     func(h *Heads, _ *Proof) { h.Heads[1].Number = 3 },
		"an older head":         func(h *Heads, _ *Proof) { h.Heads[1].Number = 1 },
		"no head":               func(h *Heads, _ *Proof) { h.Heads = h.Heads[:1] },
	} {
		t.Run(name, func(t *testing.T) {
			h, p := chained(t, 4, 2)
			alter(&h, &p)
			_, err := p.Against(h)
			require.ErrorIs(t, err, ErrProof)
		})
	}
}

func TestASignatureIsOfItsKeyAlone(t *testing.T) {
	public, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	stranger, _, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	h, _ := chained(t, 3, 1)
	s, err := Sign(h, private)
	require.NoError(t, err)
	for _, key := range []ed25519.PublicKey{public, nil} {
		opened, err := s.Open(key)
		require.NoError(t, err)
		assert.Equal(t, h, opened)
	}
	for _, key := range []ed25519.PublicKey{stranger, public[:5]} {
		_, err = s.Open(key)
		require.ErrorIs(t, err, ErrProof)
	}
	altered := s
	altered.Heads = append([]byte(nil), s.Heads...)
	altered.Heads[20] ^= 1
	_, err = altered.Open(public)
	require.ErrorIs(t, err, ErrProof)
	for _, data := range []string{"no json", `{"form":"other"}`} {
		odd := Signed{Heads: []byte(data), Signature: ed25519.Sign(private, []byte(data))}
		_, err = odd.Open(public)
		require.ErrorIs(t, err, ErrProof)
	}
}

// TestTwoRowsNeverShareALink moves bytes from one field to the next.
func TestTwoRowsNeverShareALink(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		field := rapid.StringMatching(`[ab\x00]{0,3}`)
		draw := func(name string) Row {
			r := row(1)
			r.Part, r.Suspect, r.Author = field.Draw(t, name+" part"), field.Draw(t, name+" suspect"), field.Draw(t, name+" author")
			return r
		}
		a, b := draw("a"), draw("b")
		x, err := a.Link(nil)
		require.NoError(t, err)
		y, err := b.Link(nil)
		require.NoError(t, err)
		require.Equal(t, a == b, string(x) == string(y), "%+v %+v", a, b)
	})
}

// FuzzProof reads files that somebody sent.
func FuzzProof(f *testing.F) {
	h, p := chained(f, 3, 2)
	data, err := json.Marshal(p)
	require.NoError(f, err)
	f.Add(data)
	f.Fuzz(func(t *testing.T, data []byte) {
		var p Proof
		if json.Unmarshal(data, &p) != nil {
			return
		}
		shown, err := p.Against(h)
		if err == nil && string(p.Text) != string(text(shown.Number)) {
			t.Fatalf("%q was proved to be @%d", p.Text, shown.Number)
		}
	})
}
