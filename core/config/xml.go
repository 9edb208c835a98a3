package config

import "strings"

// parseXML reads elements. It is a view for people who compare and search, not
// a validator: names are matched as written, entities stay as they are, and
// what is not well formed is kept as plain text.
func parseXML(t *Tree) {
	b := newBuilder(t)
	src := t.Source
	at := 0
	for {
		i := at
		for i < len(src) && isBlank(src[i]) {
			i++
		}
		if i == len(src) {
			break
		}
		if src[i] != '<' {
			end := strings.IndexByte(src[i:], '<')
			if end < 0 {
				end = len(src)
			} else {
				end += i
			}
			text := trimRight(src, span(i, end))
			b.add(Node{Kind: Line, Text: src[text.From:text.To], At: text, Value: text, Head: span(at, end)})
			at = end
			continue
		}
		if end, ok := xmlAside(src, i); ok {
			end = restOfLine(src, end)
			text := trimRight(src, span(i, end))
			b.add(Node{Kind: Comment, Text: src[text.From:text.To], At: text, Head: span(at, end)})
			at = end
			continue
		}
		end := tagEnd(src, i)
		if end < 0 {
			t.Unclosed++
			b.add(Node{Kind: Line, Text: trimSpace(src[i:]), At: trimRight(src, span(i, len(src))), Head: span(at, len(src))})
			at = len(src)
			break
		}
		name := tagName(src[i:end])
		if strings.HasPrefix(name, "/") {
			end = restOfLine(src, end)
			if k := len(b.stack); k > 0 && tagName(src[b.stack[k-1].At.From:b.stack[k-1].Head.To]) == name[1:] {
				b.close(span(at, end))
			} else {
				t.Stray++
				b.add(Node{Kind: Line, Text: src[i:end], At: trimRight(src, span(i, end)), Head: span(at, end)})
			}
			at = end
			continue
		}
		n := Node{Kind: Line, Text: name, At: span(i, end)}
		if src[end-2] == '/' {
			n.Head = span(at, restOfLine(src, end))
			at = int(n.Head.To)
			b.add(n)
			continue
		}
		if close, valueEnd, ok := leafEnd(src, end, name); ok {
			n.Value = span(end, valueEnd)
			if value := trimSpace(src[end:valueEnd]); value != "" {
				n.Text += " " + value
			}
			n.At.To = int32(close)
			n.Head = span(at, restOfLine(src, close))
			at = int(n.Head.To)
			b.add(n)
			continue
		}
		n.Head = span(at, restOfLine(src, end))
		at = int(n.Head.To)
		b.open(b.add(n))
	}
	b.finish(at)
	t.nameByKeys()
}

// nameByKeys gives each element that has an identifying child that child's
// value as part of its heading: "interface" becomes "interface eth0".
func (t *Tree) nameByKeys() {
	if len(t.Syntax.Keys) == 0 {
		return
	}
	t.Walk(func(n *Node) bool {
		key, ok := t.Syntax.Keys[n.Text]
		if n.Kind != Section || !ok {
			return true
		}
		for _, c := range n.Children {
			if rest, ok := strings.CutPrefix(c.Text, key+" "); ok {
				n.Text += " " + rest
				break
			}
		}
		return true
	})
}

func trimSpace(s string) string { return strings.TrimSpace(s) }

// within bounds how far the end of a quote or comment is looked for, so that
// hostile input costs linear time.
func within(s string) string { return s[:min(len(s), 1<<16)] }

// xmlAside is the end of a comment, declaration, instruction or CDATA at i.
func xmlAside(src string, i int) (int, bool) {
	for _, m := range [][2]string{{"<!--", "-->"}, {"<?", "?>"}, {"<![CDATA[", "]]>"}, {"<!", ">"}} {
		if strings.HasPrefix(src[i:], m[0]) {
			if end := strings.Index(within(src[i+len(m[0]):]), m[1]); end >= 0 {
				return i + len(m[0]) + end + len(m[1]), true
			}
			return 0, false
		}
	}
	return 0, false
}

// tagEnd is the place after the ">" of the tag at i, or -1.
func tagEnd(src string, i int) int {
	for j := i + 1; j < len(src); j++ {
		switch c := src[j]; c {
		case '>':
			return j + 1
		case '<':
			return -1
		case '"', '\'':
			q := strings.IndexByte(src[j+1:], c)
			if q < 0 {
				return -1
			}
			j += q + 1
		}
	}
	return -1
}

func tagName(tag string) string {
	name := strings.TrimLeft(tag, "<")
	if i := strings.IndexAny(name, " \t\r\n>"); i >= 0 {
		name = name[:i]
	}
	if len(name) > 1 {
		name = strings.TrimSuffix(name, "/")
	}
	return name
}

// leafEnd looks for text and then </name> right after the start tag.
func leafEnd(src string, from int, name string) (close, valueEnd int, ok bool) {
	lt := strings.IndexByte(src[from:], '<')
	if lt < 0 {
		return 0, 0, false
	}
	valueEnd = from + lt
	want := "</" + name + ">"
	if !strings.HasPrefix(src[valueEnd:], want) {
		return 0, 0, false
	}
	return valueEnd + len(want), valueEnd, true
}
