package glob

import (
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestItAgreesWithTheExpression holds it against a regular expression of the same
// meaning.
func TestItAgreesWithTheExpression(t *testing.T) {
	letter := rapid.SampledFrom([]string{"a", "b", "ä", "*", "?", ".", "["})
	text := func(of *rapid.Generator[string], n int) *rapid.Generator[string] {
		return rapid.Map(rapid.SliceOfN(of, 0, n), func(l []string) string { return strings.Join(l, "") })
	}
	rapid.Check(t, func(t *rapid.T) {
		pattern := text(letter, 8).Draw(t, "pattern")
		s := text(rapid.SampledFrom([]string{"a", "b", "ä", ".", "["}), 10).Draw(t, "s")
		source := regexp.QuoteMeta(pattern)
		source = strings.ReplaceAll(strings.ReplaceAll(source, `\*`, "(?s:.*)"), `\?`, "(?s:.)")
		require.Equal(t, regexp.MustCompile("^"+source+"$").MatchString(s), Match(pattern, s), "%q and %q", pattern, s)
	})
}

func TestManyStarsTakeNoTime(t *testing.T) {
	begun := time.Now()
	assert.False(t, Match(strings.Repeat("a*", 500)+"b", strings.Repeat("a", 5000)))
	assert.Less(t, time.Since(begun), time.Minute)
}

func FuzzMatch(f *testing.F) {
	f.Add("ng-*", "ng-acc-1")
	f.Add("?\xff*", "\xff\xfe")
	f.Fuzz(func(t *testing.T, pattern, s string) {
		if len(pattern) > 100 || len(s) > 1000 {
			return
		}
		if !Match("*", s) || !Match(s+"*", s+s) && !strings.ContainsAny(s, "*?") {
			t.Fatalf("%q", s)
		}
		if Match(pattern, s) && !Match("*"+pattern, s) {
			t.Fatalf("%q matches %q, but not with a star before it", pattern, s)
		}
	})
}
