package scenario

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/core/dialect"
)

// TestTheCorpusIsALargeNetwork holds what the benchmarks say of it.
func TestTheCorpusIsALargeNetwork(t *testing.T) {
	set, err := dialect.Load(dialect.Builtin())
	require.NoError(t, err)
	c := Corpus{Devices: 100, Nights: 20, Seed: 7}
	var states, lines, size int
	latest := map[string]string{}
	require.NoError(t, c.Each(func(s State) error {
		states++
		size += len(s.Text)
		lines += strings.Count(s.Text, "\n")
		if before, ok := latest[s.Name]; ok {
			assert.NotEqual(t, before, s.Text)
		} else {
			require.NoError(t, set[s.Platform].CheckComplete(set[s.Platform].Tree(s.Text)), s.Name)
		}
		latest[s.Name] = s.Text
		return nil
	}))
	assert.Equal(t, 100+20*5, states)
	assert.InDelta(t, 800, lines/states, 60)
	assert.InDelta(t, 23_000, size/states, 4000)
	again := map[string]string{}
	require.NoError(t, c.Each(func(s State) error { again[s.Name] = s.Text; return nil }))
	assert.Equal(t, latest, again)
}
