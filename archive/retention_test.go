package archive_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vergekeep/archive"
	"vergekeep/core/proof"
	"vergekeep/store"
)

const day = 24 * time.Hour

func TestPoliciesThatMakeNoSense(t *testing.T) {
	for _, p := range []archive.Policy{{All: time.Hour}, {All: -day}, {Daily: 30 * day}, {All: 90 * day, Daily: 30 * day}} {
		require.ErrorIs(t, p.Check(), archive.ErrPolicy, "%+v", p)
	}
	require.NoError(t, archive.Policy{}.Check())
}

// TestThinningNeverTouchesWhatItMustKeep thins histories at random: what must
// stay is there word for word, the chain holds, and the rest keeps its hash.
func TestThinningNeverTouchesWhatItMustKeep(t *testing.T) {
	n := 0
	rapid.Check(t, func(rt *rapid.T) {
		if n++; n > 25 {
			return // a database each: enough is enough
		}
		db, a, k := open(t)
		count := rapid.IntRange(1, 70).Draw(rt, "revisions")
		lines := strings.SplitAfter(strings.Repeat("interface x\n  mtu 1500\n", 60), "\n")
		texts := map[int]string{}
		at := start
		for i := range count {
			lines[rapid.IntRange(0, 100).Draw(rt, "line")] = fmt.Sprintf("changed %d\n", rapid.IntRange(0, 30).Draw(rt, "to"))
			text := strings.Join(lines, "")
			at = at.Add(time.Duration(rapid.IntRange(1, 80).Draw(rt, "hours")) * time.Hour)
			if r, isNew := put(t, db, a, k, text, text, at); isNew {
				texts[i] = text
				texts[-r.Number] = text
			}
		}
		list, err := a.List(t.Context(), k)
		require.NoError(rt, err)
		noted := map[int]bool{}
		for _, r := range list {
			if rapid.IntRange(0, 9).Draw(rt, "note") == 0 {
				noted[r.Number] = true
				require.NoError(rt, db.Write(t.Context(), func(tx *store.Tx) error {
					return a.SetNote(tx, r, archive.Note{Pinned: true}, at)
				}))
			}
			if rapid.IntRange(0, 9).Draw(rt, "bless") == 0 { // or was, once another one is
				noted[r.Number] = true
				require.NoError(rt, db.Write(t.Context(), func(tx *store.Tx) error { return a.Bless(tx, r, "", "lead", at) }))
			}
		}
		p := archive.Policy{All: 10 * day, Daily: time.Duration(rapid.SampledFrom([]int{0, 20, 60}).Draw(rt, "daily")) * day}
		now := at.Add(time.Duration(rapid.IntRange(0, 60).Draw(rt, "later")) * day)
		surplus, err := a.Surplus(t.Context(), p, nil, nil, now)
		require.NoError(rt, err)
		gone := map[int]bool{}
		for _, r := range surplus {
			gone[r.Number] = true
			require.False(rt, noted[r.Number])
			require.NotEqual(rt, list[0].Number, r.Number, "the newest")
			require.NotEqual(rt, 1, r.Number)
			require.Greater(rt, now.Sub(r.FirstSeen), p.All)
		}
		if held, err := a.Surplus(t.Context(), p, map[int64]bool{1: true}, nil, now); assert.NoError(rt, err) {
			require.Empty(rt, held, "what is held stays")
		}
		_, err = a.Thin(t.Context(), surplus)
		require.NoError(rt, err)
		report, err := a.Check(t.Context())
		require.NoError(rt, err)
		require.Empty(rt, report.Faults)
		after, err := a.List(t.Context(), k)
		require.NoError(rt, err)
		require.Len(rt, after, len(list))
		for i, r := range after {
			require.Equal(rt, list[i].Hash, r.Hash, "the hash stays behind")
			require.Equal(rt, gone[r.Number], r.Thinned)
			text, err := a.Text(t.Context(), r)
			if gone[r.Number] {
				require.ErrorIs(rt, err, archive.ErrThinned)
				continue
			}
			require.NoError(rt, err)
			require.Equal(rt, texts[-r.Number], text)
		}
		again, err := a.Surplus(t.Context(), p, nil, nil, now)
		require.NoError(rt, err)
		require.Empty(rt, again, "nothing is left to thin")
	})
}

func TestAProofConvincesAndNothingElseDoes(t *testing.T) {
	db, a, k := open(t)
	for i := range 5 {
		text := fmt.Sprintf("name %d\n", i)
		put(t, db, a, k, text, text, start.AddDate(0, 0, i))
	}
	heads, err := a.Heads(t.Context(), start.AddDate(0, 0, 9), func(int64) string { return "ng-acc-1" })
	require.NoError(t, err)
	put(t, db, a, k, "name 5\n", "name 5\n", start.AddDate(0, 0, 10)) // after the signing
	list, err := a.List(t.Context(), k)
	require.NoError(t, err)
	for _, r := range list {
		p, err := a.Proof(t.Context(), r, fmt.Sprintf("ng-acc-1@%d", r.Number))
		require.NoError(t, err)
		shown, err := p.Against(heads)
		if r.Number == 6 {
			require.ErrorContains(t, err, "came after the heads were signed")
			continue
		}
		require.NoError(t, err, r.Number)
		assert.Equal(t, proof.Shown{Since: r.FirstSeen, Arrived: r.Arrived, Number: r.Number, Later: 5 - r.Number, Signed: heads.At}, shown)

		for name, alter := range map[string]func(*proof.Proof){
			"the text":     func(p *proof.Proof) { p.Text = append(p.Text, 'x') },
			"a time":       func(p *proof.Proof) { p.Rows[0].FirstSeen++ },
			"an author":    func(p *proof.Proof) { p.Rows[0].Author = "lead" },
			"text and row": func(p *proof.Proof) { p.Text = []byte("name 7\n"); p.Rows[0].Hash = strings.Repeat("ab", 32) },
			"a row less":   func(p *proof.Proof) { p.Rows = p.Rows[1:] },
			"no rows":      func(p *proof.Proof) { p.Rows = nil },
			"a cut":        func(p *proof.Proof) { p.Before = ""; p.Rows[0].Number = 1 },
			"another form": func(p *proof.Proof) { p.Form = "x" },
			"a device":     func(p *proof.Proof) { p.Rows[0].Device = 2 },
			"no hash":      func(p *proof.Proof) { p.Rows[len(p.Rows)-1].FormHash = "zz" },
		} {
			q := p
			q.Rows = append([]proof.Row(nil), p.Rows...)
			q.Text = append([]byte(nil), p.Text...)
			alter(&q)
			if name == "a cut" && r.Number == 1 || name == "no hash" && r.Number < 6 {
				continue // the very same, or behind the head
			}
			_, err := q.Against(heads)
			require.ErrorIs(t, err, proof.ErrProof, "%s of @%d", name, r.Number)
		}
	}
}
