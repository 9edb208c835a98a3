package find

import (
	"bytes"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestWhatIsNoQuery(t *testing.T) {
	for text, c := range map[string]struct {
		q    Query
		says string
	}{
		"nothing":         {Query{}, "it is empty"},
		"too long":        {Query{Text: strings.Repeat("x", MaxQuery+1)}, "longer than 1000 bytes"},
		"two lines":       {Query{Text: "a\nb"}, "one by one"},
		"no expression":   {Query{Text: "a(b", Regexp: true}, "missing closing )"},
		"a look behind":   {Query{Text: "(?<=a)b", Regexp: true}, "RE2"},
		"everything":      {Query{Text: ".*", Regexp: true}, "matches every line"},
		"everything else": {Query{Text: "x*|y", Regexp: true}, "matches every line"},
	} {
		_, err := Compile(c.q)
		require.ErrorIs(t, err, ErrQuery, text)
		assert.ErrorContains(t, err, c.says, text)
	}
}

func queries() *rapid.Generator[Query] {
	return rapid.Custom(func(t *rapid.T) Query {
		q := Query{Regexp: rapid.Bool().Draw(t, "regexp"), AnyCase: rapid.Bool().Draw(t, "any case")}
		plain := rapid.SampledFrom([]string{"lan", "LAN 1", "k", "desk", "Ünit", "ſ", "a.b", "10", " x"})
		if !q.Regexp {
			q.Text = plain.Draw(t, "text")
			return q
		}
		q.Text = rapid.SampledFrom([]string{`^interface`, `lan (access|trunk) \d+`, `x+y?`, `(?i)desk`, `a.b|10`, `d{2,3}`, `[kK]elvin`, `^ +lan`, `Ünit`, `S[a-z]*1$`, `LAN|desk \d?`, `(access|trunk 1)0?`, `x|y|z|a|b|c|d|e|f|1`, `la(n|m)+ ?1`, `(a|k)cc?e`, `[12]0`, `d(e|E)s+k`, `(lan|desk)+1`, `x{1,2}y`}).Draw(t, "expression")
		return q
	})
}

// TestEveryWayOfLookingFindsTheSame holds the short cuts against the plain way.
func TestEveryWayOfLookingFindsTheSame(t *testing.T) {
	word := rapid.SampledFrom([]string{"lan", "LAN", " ", "1", "access ", "trunk 10", "interface", "desk", "DESK", "ünit", "Ünit", "K", "Kelvin", "ſ", "Sx1", "xxy", "a.b", "acb", "ddd", ""})
	rapid.Check(t, func(t *rapid.T) {
		q := queries().Draw(t, "query")
		m, err := Compile(q)
		require.NoError(t, err)
		lines := rapid.SliceOfN(rapid.Map(rapid.SliceOfN(word, 0, 6), func(w []string) string { return strings.Join(w, "") }), 1, 20).Draw(t, "lines")
		source := q.Text
		if !q.Regexp {
			source = regexp.QuoteMeta(source)
		}
		if q.AnyCase {
			source = "(?i)" + source
		}
		plain := regexp.MustCompile(source)
		var want, got []int
		var b Body
		for i, line := range lines {
			require.Equal(t, i, b.Add(line))
			require.Equal(t, line, b.Line(i))
			if plain.MatchString(line) {
				want = append(want, i)
				require.True(t, m.MayBeIn(strings.Join(lines, "\n")))
				require.NotEmpty(t, m.Spans(line))
			}
			require.Equal(t, plain.MatchString(line), m.In(line), "%q in %q", source, line)
		}
		m.Lines(&b, func(i int) { got = append(got, i) })
		require.Equal(t, want, got, "%q in %q", source, lines)
		may := map[int]bool{}
		m.Candidates(&b, func(i int) { may[i] = true })
		for _, i := range want {
			require.True(t, may[i], "%q in %q", source, lines)
		}
	})
}

func TestABodyKeepsEveryPlace(t *testing.T) {
	var b Body
	for i, line := range []string{"LAN Ünit \xff K", "", "lan"} {
		assert.Equal(t, i, b.Add(line))
		assert.Equal(t, line, b.Line(i))
	}
	assert.Equal(t, 3, b.Len())
	assert.Len(t, b.small, len(b.text))
	assert.True(t, bytes.HasPrefix(b.small, []byte("lan Ü")))
	assert.Positive(t, b.Memory())
}

func FuzzCompile(f *testing.F) {
	f.Add("lan (a|b)+", true, true, "lan ab")
	f.Fuzz(func(t *testing.T, text string, re, any bool, line string) {
		m, err := Compile(Query{text, re, any})
		if err != nil {
			return
		}
		for _, s := range m.Spans(line) {
			if s[0] < 0 || s[1] > len(line) || s[0] >= s[1] {
				t.Fatalf("%v in %d bytes", s, len(line))
			}
		}
		m.In(line)
	})
}
