package pattern

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/core/config"
)

const text = `interface port1/1
  counters 17 packets
  description to desk 1
account noc level 5
  password plain hunter2
account neteng level 9
  password plain "two words"
`

func TestFind(t *testing.T) {
	tree := config.Parse(text, config.Syntax{})
	for source, lines := range map[string][]int{
		"interface *":                       {1},
		"interface * > counters **":         {2},
		"interface port1/* > counters **":   {2},
		"interface lan* > counters **":      {},
		"account ** > password plain *":     {5, 7},
		"... > password **":                 {5, 7},
		"password **":                       {},
		"account noc ** > password {p..}":   {5},
		"interface * > description to desk": {},
	} {
		p, err := Compile(source)
		require.NoError(t, err)
		got := []int{}
		NewSet(p).Find(tree, func(_ int, m Match) { got = append(got, int(m.Node.Line)) })
		assert.Equal(t, lines, got, source)
	}
}

func TestCapturesKnowTheirPlace(t *testing.T) {
	p, err := Compile("account {who} ** > password plain {secret}")
	require.NoError(t, err)
	var found []Match
	NewSet(p).Find(config.Parse(text, config.Syntax{}), func(_ int, m Match) { found = append(found, m) })
	require.Len(t, found, 2)
	w, _ := found[1].Get("secret")
	assert.Equal(t, `"two words"`, w.Text)
	assert.Equal(t, `"two words"`, text[w.At.From:w.At.To])
}

func TestErrorsSayWhatIsWrong(t *testing.T) {
	for source, says := range map[string]string{
		"a > ... > b": "can only stand at the start", "a > ": "is empty", "...": "needs a line", "a ** b": "at the end of a step", "a {} b": "has no name", "{x..} y": "at the end of a step",
	} {
		_, err := Compile(source)
		require.ErrorIs(t, err, ErrSyntax, source)
		assert.ErrorContains(t, err, says, source)
	}
}

func FuzzCompile(f *testing.F) {
	f.Add("a * > b ** ", "a 1\n  b 2\n")
	f.Fuzz(func(_ *testing.T, source, text string) {
		if p, err := Compile(source); err == nil {
			NewSet(p).Find(config.Parse(text, config.Syntax{}), func(int, Match) {})
		}
	})
}
