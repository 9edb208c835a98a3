package conversation

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestScreenShowsWhatAPersonWouldSee(t *testing.T) {
	for in, want := range map[string]string{
		"a\r\nb\n":                         "a\nb\n",
		"a\x00b":                           "ab",
		"\x1b[31mred\x1b[0m":               "red",
		"\x1b]0;title\x07x\x1b]0;t\x1b\\y": "xy",
		"\x1b(Bx":                          "x",
		"ab\b\bcd":                         "cd",
		"-- more --\r          \rnext\r\n": "next\n",
		"-- more --\r\x1b[Knext\n":         "next\n",
		"-- more --\x1b[2Kx":               "x",
		"12345\rab\n":                      "ab345\n",
		"tab\there \n":                     "tab\there \n",
		"\r\r\nx":                          "\nx",
		"a\x1b[":                           "a",
	} {
		s := &screen{}
		s.write([]byte(in))
		assert.Equal(t, want, string(s.buf), "%q", in)
	}
}

func TestScreenDoesNotCareHowTextIsCut(t *testing.T) {
	pieces := rapid.SampledFrom([]string{"abc", "\r\n", "\n", "\r", "\b", "\x1b[K", "\x1b[2K", "\x1b[1;31m", "   ", "\x00", "\x1b]x\x07", "é", "\t"})
	rapid.Check(t, func(t *rapid.T) {
		text := strings.Join(rapid.SliceOfN(pieces, 0, 40).Draw(t, "pieces"), "")
		whole, cut := &screen{}, &screen{}
		whole.write([]byte(text))
		for i := range len(text) {
			cut.write([]byte{text[i]})
		}
		if string(whole.buf) != string(cut.buf) || whole.line != cut.line {
			t.Fatalf("%q: %q and %q", text, whole.buf, cut.buf)
		}
	})
}

func FuzzScreen(f *testing.F) {
	f.Add([]byte("a\r\n\x1b[Kb\b"))
	f.Fuzz(func(t *testing.T, in []byte) {
		s := &screen{}
		s.write(in)
		if s.line > len(s.buf) || len(s.buf) > len(in) || strings.ContainsAny(string(s.buf), "\x00\x1b\b") {
			t.Fatalf("%q became %q", in, s.buf)
		}
	})
}
