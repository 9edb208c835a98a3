package diff

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vergekeep/core/config"
)

func lineage(texts ...string) *Lineage {
	l := &Lineage{}
	for i, text := range texts {
		l.Add(i+1, text, config.Parse(text, config.Syntax{}).PathAt)
	}
	return l
}

func TestALineKnowsItsStory(t *testing.T) {
	l := lineage(
		"interface a\n  mtu 1\n  lan 10\ntime\n  zone X\n",
		"interface a\n  mtu 2\n  lan 10\ntime\n  zone X\n",
		"time\n  zone X\ninterface a\n  mtu 2\n", // moved, and one line less
		"time\n  zone X\ninterface a\n  mtu 2\n  lan 10\n",
	)
	since := map[string]int{}
	for _, life := range l.Now {
		since[strings.TrimSpace(l.Lives[life].Text)] = l.Lives[life].From
	}
	assert.Equal(t, map[string]int{"interface a": 1, "mtu 2": 2, "lan 10": 4, "time": 1, "zone X": 1}, since)
	lan := l.Lives[l.Now[4]]
	require.NotZero(t, lan.Before)
	assert.Equal(t, Life{Text: "  lan 10", Path: []string{"interface a"}, From: 1, Last: 2}, l.Lives[lan.Before-1])
	mtu := l.Lives[l.Now[3]]
	require.NotZero(t, mtu.Was)
	assert.Equal(t, "  mtu 1", l.Lives[mtu.Was-1].Text)
	assert.Equal(t, 1, l.Lives[mtu.Was-1].Last)
}

// TestLivesCoverExactlyTheTexts rebuilds every revision's lines from the lives.
func TestLivesCoverExactlyTheTexts(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		revisions := rapid.SliceOfN(texts(), 1, 8).Draw(t, "revisions")
		l := lineage(revisions...)
		for i, text := range revisions {
			want := map[string]int{}
			for _, line := range SplitLines(text) {
				want[strings.TrimSpace(line)]++
			}
			got := map[string]int{}
			for _, life := range l.Lives {
				if life.Standing(i + 1) {
					got[strings.TrimSpace(life.Text)]++
				}
			}
			require.Equal(t, want, got, "@%d of %q", i+1, revisions)
		}
		last := SplitLines(revisions[len(revisions)-1])
		require.Len(t, l.Now, len(last))
		for i, life := range l.Now {
			require.Equal(t, strings.TrimSpace(last[i]), strings.TrimSpace(l.Lives[life].Text))
			require.Zero(t, l.Lives[life].Last)
		}
	})
}
