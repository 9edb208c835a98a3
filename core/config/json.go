package config

import "strings"

// parseJSON reads objects and arrays. The heading of a member is its name; a
// leaf is its name and its value. Like the other readers it validates nothing.
func parseJSON(t *Tree) {
	b := newBuilder(t)
	src := t.Source
	at := 0
	for {
		i := at
		for i < len(src) && (isBlank(src[i]) || src[i] == ',') {
			i++
		}
		if i == len(src) {
			break
		}
		if c := src[i]; c == '}' || c == ']' {
			end := jsonRest(src, i+1)
			if len(b.stack) == 0 {
				t.Stray++
				b.add(Node{Kind: Line, Text: src[i : i+1], At: span(i, i+1), Head: span(at, end)})
			} else {
				b.close(span(at, end))
			}
			at = end
			continue
		}
		start, name := i, ""
		if src[i] == '"' {
			if q := closingQuote(src, i); q > 0 {
				colon := q + 1
				for colon < len(src) && isBlank(src[colon]) {
					colon++
				}
				if colon < len(src) && src[colon] == ':' {
					name = src[i+1 : q]
					i = colon + 1
					for i < len(src) && isBlank(src[i]) {
						i++
					}
				}
			}
		}
		if i < len(src) && (src[i] == '{' || src[i] == '[') {
			end := jsonRest(src, i+1)
			if name == "" {
				name = src[i : i+1]
			}
			b.open(b.add(Node{Text: name, At: span(start, i+1), Head: span(at, end)}))
			at = end
			continue
		}
		end := jsonScalarEnd(src, i)
		value := trimRight(src, span(i, end))
		n := Node{Kind: Line, Text: strings.TrimSpace(name + " " + src[value.From:value.To]), At: span(start, max(int(value.To), start+1)), Value: value}
		end = jsonRest(src, max(end, start+1))
		n.Head = span(at, end)
		b.add(n)
		at = end
	}
	b.finish(at)
}

// jsonScalarEnd is the end of the value at i. A text may be unfinished: it then
// ends with its line.
func jsonScalarEnd(src string, i int) int {
	if i < len(src) && src[i] == '"' {
		if q := closingQuote(src, i); q > 0 {
			return q + 1
		}
	}
	for i < len(src) && !strings.ContainsRune(",]}\n", rune(src[i])) {
		i++
	}
	return i
}

// jsonRest takes a comma and the rest of an empty line.
func jsonRest(src string, i int) int {
	j := i
	for j < len(src) && (src[j] == ' ' || src[j] == '\t') {
		j++
	}
	if j < len(src) && src[j] == ',' {
		i = j + 1
	}
	return restOfLine(src, i)
}
