package cli

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
)

func TestNothingOfADeviceDrivesTheTerminal(t *testing.T) {
	for text, want := range map[string]string{
		"lan 10\n\tname ü ● 日本\n":                 "lan 10\n\tname ü ● 日本\n",
		alarm + "failed" + plainColour + "\n":     alarm + "failed" + plainColour + "\n",
		"\x1b]0;title\x07\x1b[2J\x1b[31;1mx":      "␛]0;title␇␛[2J␛[31;1mx",
		"hidden\rshown\b\x7f\x00":                 "hidden␍shown␈␡␀",
		"caf\xe9 \u009b2J \u202egnp.exe \u2066 x": "caf\ufffd \ufffd2J \ufffdgnp.exe \ufffd x",
		"\x1b": "␛",
		"":     "",
	} {
		assert.Equal(t, want, harmless(text), "%q", text)
	}
}

func FuzzHarmless(f *testing.F) {
	f.Add("\x1b[31mx\x1b[0m\x1b[9m\xff")
	f.Fuzz(func(t *testing.T, text string) {
		shown := harmless(text)
		rest := shown
		for _, o := range ours {
			rest = strings.ReplaceAll(rest, o, "")
		}
		if strings.ContainsFunc(rest, drives) || !utf8.ValidString(shown) {
			t.Fatalf("%q is shown as %q", text, shown)
		}
		if harmless(shown) != shown {
			t.Fatalf("%q changes again", shown)
		}
	})
}
