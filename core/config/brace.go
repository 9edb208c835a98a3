package config

import "strings"

// parseBrace reads statements that end with ";" and sections in braces. Quotes
// protect both; "#" to the end of the line and "/* … */" are comments.
func parseBrace(t *Tree) {
	b := newBuilder(t)
	src := t.Source
	at := 0 // start of the bytes that no node owns
	for {
		i := at
		for i < len(src) && isBlank(src[i]) {
			i++
		}
		if i == len(src) {
			break
		}
		switch {
		case src[i] == '}':
			end := i + 1
			if end < len(src) && src[end] == ';' {
				end++
			}
			end = restOfLine(src, end)
			if len(b.stack) == 0 {
				t.Stray++
				b.add(Node{Kind: Line, Text: "}", At: span(i, i+1), Head: span(at, end)})
			} else {
				b.close(span(at, end))
			}
			at = end
		case src[i] == '#' || t.isComment(src[i:min(len(src), i+8)]):
			end := strings.IndexByte(src[i:], '\n')
			if end < 0 {
				end = len(src)
			} else {
				end += i + 1
			}
			text := trimRight(src, span(i, end))
			b.add(Node{Kind: Comment, Text: src[text.From:text.To], At: text, Head: span(at, end)})
			at = end
		case strings.HasPrefix(src[i:], "/*"):
			end := strings.Index(within(src[i:]), "*/")
			if end < 0 {
				end = len(src)
				t.Unclosed++
			} else {
				end = restOfLine(src, i+end+2)
			}
			text := trimRight(src, span(i, end))
			b.add(Node{Kind: Comment, Text: src[text.From:text.To], At: text, Head: span(at, end)})
			at = end
		default:
			end, mark := statementEnd(src, i)
			text := trimRight(src, span(i, end))
			n := Node{Kind: Line, Text: src[text.From:text.To], At: text}
			if mark != 0 {
				end++
			} else if end == len(src) {
				t.Unclosed++
			}
			end = restOfLine(src, end)
			n.Head = span(at, end)
			added := b.add(n)
			if mark == '{' {
				b.open(added)
			}
			at = end
		}
	}
	b.finish(at)
}

// statementEnd finds the end of the statement that starts at i: the place of
// its ";" or "{", or the place before a "}" that closes the section around it.
func statementEnd(src string, i int) (end int, mark byte) {
	for i < len(src) {
		switch c := src[i]; c {
		case ';', '{':
			return i, c
		case '}':
			return i, 0
		case '"', '\'':
			if q := closingQuote(src, i); q >= 0 {
				i = q
			}
		}
		i++
	}
	return i, 0
}

// closingQuote is the place of the quote that closes the one at i, or -1.
func closingQuote(src string, i int) int {
	for j := i + 1; j < min(len(src), i+1<<16); j++ {
		switch src[j] {
		case '\\':
			j++
		case src[i]:
			return j
		}
	}
	return -1
}

// restOfLine goes over blanks up to and including a line end; where something
// else stands on the line it stays at i.
func restOfLine(src string, i int) int {
	for j := i; j < len(src); j++ {
		if src[j] == '\n' {
			return j + 1
		}
		if !isBlank(src[j]) {
			return i
		}
	}
	return len(src)
}

func trimRight(src string, s Span) Span {
	for s.To > s.From && isBlank(src[s.To-1]) {
		s.To--
	}
	return s
}
