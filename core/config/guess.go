package config

import "strings"

// Guess picks a reader for a text of unknown origin, such as a file on disk, by
// its first character and by whether braces end its lines.
func Guess(text string) Syntax {
	switch start := strings.TrimLeft(text, " \t\r\n\ufeff"); {
	case strings.HasPrefix(start, "<"):
		return Syntax{Reader: XML}
	case strings.HasPrefix(start, "{"), strings.HasPrefix(start, "["):
		return Syntax{Reader: JSON}
	}
	opened, closed := false, false
	for line := range strings.Lines(text[:min(len(text), 64<<10)]) {
		line = strings.TrimSpace(line)
		opened = opened || strings.HasSuffix(line, "{")
		closed = closed || line == "}" || line == "};"
	}
	if opened && closed {
		return Syntax{Reader: Brace}
	}
	return Syntax{Reader: Indent}
}
