package nearest

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestWhatSomebodyMeant(t *testing.T) {
	names := []string{"np-acc-2", "hh-core-1", "running", "Tidegate"}
	for said, want := range map[string]string{
		"np-acc-22": "np-acc-2", "runing": "running", "RUNNING": "running", "tidegat": "Tidegate", "hh-coer-1": "hh-core-1", "something else": "", "": "", "x": "",
	} {
		assert.Equal(t, want, Of(said, names), said)
	}
	assert.Equal(t, " Did you mean running?", Hint("runing", names))
	assert.Empty(t, Hint("runing", nil))
}

// plain is the distance as its definition says.
func plain(a, b []rune) int {
	switch {
	case len(a) == 0:
		return len(b)
	case len(b) == 0:
		return len(a)
	case a[0] == b[0]:
		return plain(a[1:], b[1:])
	}
	return 1 + min(plain(a[1:], b), plain(a, b[1:]), plain(a[1:], b[1:]))
}

func TestTheDistanceIsThatOfItsDefinition(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		word := rapid.StringMatching(`[abä]{0,6}`)
		a, b := word.Draw(t, "a"), word.Draw(t, "b")
		limit := rapid.IntRange(0, 8).Draw(t, "limit")
		require.Equal(t, min(plain([]rune(a), []rune(b)), limit), distance(a, b, limit), "%q %q", a, b)
	})
}
