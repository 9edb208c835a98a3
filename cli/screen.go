package cli

import (
	"io"
	"os"
	"strings"
	"unicode"
	"unicode/utf8"
)

// screen is a terminal to which nothing gets but text and our own colours: what
// stands in a device's configuration must not move the cursor, hide lines or do
// whatever else a terminal can be told. Where the output is no terminal, bytes stay
// as they are.
type screen struct{ file *os.File }

// ours are the sequences that we write.
var ours = []string{plainColour, bold, faint, underline, noUnderline, alarm, attention, addedTint, removedTint, movedTint}

// Write implements [io.Writer].
func (s *screen) Write(p []byte) (int, error) {
	if _, err := io.WriteString(s.file, harmless(string(p))); err != nil {
		return 0, err
	}
	return len(p), nil
}

// harmless is a text in which every control character but line ends, tabs and our
// own colours is shown as a picture of it, and so is what turns the direction of
// writing around.
func harmless(text string) string {
	if !strings.ContainsFunc(text, drives) && utf8.ValidString(text) {
		return text
	}
	var b strings.Builder
	b.Grow(len(text))
	for len(text) > 0 {
		if text[0] == '\x1b' {
			sequence := ""
			for _, o := range ours {
				if strings.HasPrefix(text, o) {
					sequence = o
				}
			}
			if sequence != "" {
				b.WriteString(sequence)
				text = text[len(sequence):]
				continue
			}
		}
		c, n := utf8.DecodeRuneInString(text)
		switch {
		case c == utf8.RuneError, c > 0x7f && drives(c):
			b.WriteRune(utf8.RuneError)
		case !drives(c):
			b.WriteString(text[:n])
		case c < ' ':
			b.WriteRune('\u2400' + c) // the pictures of control characters
		default:
			b.WriteRune('\u2421')
		}
		text = text[n:]
	}
	return b.String()
}

// drives reports whether a terminal takes a character for more than text.
func drives(c rune) bool {
	switch {
	case c == '\n', c == '\t':
		return false
	case unicode.IsControl(c):
		return true
	}
	return '\u202a' <= c && c <= '\u202e' || '\u2066' <= c && c <= '\u2069'
}
