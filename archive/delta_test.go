package archive

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestToldTextsComeBack(t *testing.T) {
	piece := rapid.SampledFrom([]string{"a", "b", "line\n", "another line\n", "\n", strings.Repeat("x", 70) + "\n", "é\n"})
	rapid.Check(t, func(t *rapid.T) {
		text := strings.Join(rapid.SliceOfN(piece, 0, 30).Draw(t, "text"), "")
		base := strings.Join(rapid.SliceOfN(piece, 0, 30).Draw(t, "base"), "")
		got, err := apply(delta(text, base), base, len(text))
		require.NoError(t, err)
		require.Equal(t, text, string(got))
	})
}

func TestASmallChangeTakesFewBytes(t *testing.T) {
	var b strings.Builder
	for i := range 5000 {
		fmt.Fprintf(&b, "interface port%d\n  description to somewhere\n", i)
	}
	base := b.String()
	text := strings.Replace(strings.Replace(base, "port7\n", "port7\n  disabled\n", 1), "port4000\n  description to somewhere", "port4000\n  description to nowhere", 1)
	assert.Less(t, len(delta(text, base)), 40)
}

// FuzzApply holds what damaged bytes can do: an error at worst, and little memory.
func FuzzApply(f *testing.F) {
	f.Add([]byte{told}, "base")
	f.Add(delta("one\ntwo\n", "one\nthree\n"), "one\nthree\n")
	f.Add([]byte{told, 0xff, 0xff, 0xff, 0xff, 0x0f, 0, 0}, "base")
	f.Fuzz(func(t *testing.T, data []byte, base string) {
		if len(data) == 0 {
			return
		}
		if text, err := apply(data, base, 10); err == nil && len(text) > len(base)+len(data) {
			t.Fatalf("%d bytes of %d and %d", len(text), len(base), len(data))
		}
	})
}
