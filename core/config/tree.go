package config

import (
	"regexp"
	"sort"
	"strings"
)

// Reader names one of the ways in which configurations are written.
type Reader string

// The readers.
const (
	Indent Reader = "indent" // sections are what is indented below a heading
	Brace  Reader = "brace"  // sections stand in { }, statements end with ;
	Flat   Reader = "flat"   // every line holds its full path
	XML    Reader = "xml"    // elements
	JSON   Reader = "json"   // objects and arrays
)

// Syntax is a reader with its parameters. The zero value reads indentation.
type Syntax struct {
	Reader   Reader
	Comment  []string          // prefixes of a line that is a comment
	Verbatim []VerbatimRule    // blocks that are one node (indent, flat)
	Groups   [][]string        // flat: leading words that make a section; "*" is any word
	Keys     map[string]string // xml: element name to the child that identifies it
}

// VerbatimRule says where a verbatim block starts and ends.
type VerbatimRule struct {
	// Start matches the first line, without its line end.
	Start *regexp.Regexp
	// End is the text of the last line; "${1}" in it stands for what the first
	// group of Start matched. The block ends at the first line that contains it.
	End string
}

// Kind says what a node is.
type Kind uint8

// The kinds of node.
const (
	Line     Kind = iota // one statement
	Section              // a heading with children
	Verbatim             // a block that is never looked into
	Blank                // nothing but white space
	Comment              // a remark
	Group                // a section that only the reader sees (flat); it owns no bytes
)

// Span is a half-open range of bytes in the source.
type Span struct{ From, To int32 }

func span(from, to int) Span { return Span{int32(from), int32(to)} }

// Node is a piece of a configuration. Head, the nodes of Children and Tail lie
// one after the other in the source and leave no byte out.
type Node struct {
	Kind     Kind
	Line     int32  // number of the first line, from 1
	LastLine int32  // number of the last line, closing mark included
	At       Span   // where Text stands; empty where Text was put together
	Value    Span   // xml and json leaves: where the value stands
	Head     Span   // all bytes before the children
	Tail     Span   // all bytes after the children: a closing mark
	Text     string // its words, without indentation, marks and line end
	Parent   *Node  // nil for a top-level node
	Children []*Node
}

// Tree is a parsed configuration.
type Tree struct {
	Source   string
	Syntax   Syntax
	Children []*Node
	Unclosed int  // sections or blocks that the text leaves open
	Stray    int  // closing marks with nothing to close
	tail     Span // what follows the last node
	starts   []int
	heads    []*Node // by line: the node that the line belongs to

	verbatimStarts []string // by verbatim rule: what its first line starts with
}

// Parse reads src. It never fails: what cannot be understood is a [Line].
func Parse(src string, syntax Syntax) *Tree {
	t := &Tree{Source: src, Syntax: syntax, starts: lineStarts(src)}
	for _, rule := range syntax.Verbatim {
		t.verbatimStarts = append(t.verbatimStarts, literalStart(rule.Start))
	}
	switch syntax.Reader {
	case Brace:
		parseBrace(t)
	case Flat:
		parseFlat(t)
	case XML:
		parseXML(t)
	case JSON:
		parseJSON(t)
	default:
		parseIndent(t)
	}
	t.index()
	return t
}

// Print writes the tree out again, node by node. For an unchanged tree the
// result is the source, byte for byte.
func (t *Tree) Print() string {
	var b strings.Builder
	b.Grow(len(t.Source))
	var walk func([]*Node)
	walk = func(nodes []*Node) {
		for _, n := range nodes {
			b.WriteString(t.Source[n.Head.From:n.Head.To])
			walk(n.Children)
			b.WriteString(t.Source[n.Tail.From:n.Tail.To])
		}
	}
	walk(t.Children)
	b.WriteString(t.Source[t.tail.From:t.tail.To])
	return b.String()
}

// Walk calls f for every node from the top down, in the order of the text. It
// does not go below a node for which f returns false.
func (t *Tree) Walk(f func(*Node) bool) { walk(t.Children, f) }

func walk(nodes []*Node, f func(*Node) bool) {
	for _, n := range nodes {
		if f(n) {
			walk(n.Children, f)
		}
	}
}

// Lines is how many lines the source has; a last line without a line end counts.
func (t *Tree) Lines() int { return len(t.starts) }

// LineAt is the text of line n (from 1) without its line end, "" outside.
func (t *Tree) LineAt(n int) string {
	if n < 1 || n > len(t.starts) {
		return ""
	}
	end := len(t.Source)
	if n < len(t.starts) {
		end = t.starts[n]
	}
	return strings.TrimRight(t.Source[t.starts[n-1]:end], "\r\n")
}

// LineStart is the offset of the first byte of line n (from 1); behind the last
// line it is the length of the source.
func (t *Tree) LineStart(n int) int {
	if n > len(t.starts) {
		return len(t.Source)
	}
	return t.starts[n-1]
}

// NodeAt is the node that line n (from 1) belongs to: the one that starts on
// it, or the one whose block or closing mark covers it. It is nil outside.
func (t *Tree) NodeAt(n int) *Node {
	if n < 1 || n > len(t.heads) {
		return nil
	}
	return t.heads[n-1]
}

// PathAt is the path of headings above line n (from 1), outermost first. A
// heading is not part of its own path; a closing mark is below its heading.
func (t *Tree) PathAt(n int) []string {
	node := t.NodeAt(n)
	if node == nil {
		return nil
	}
	if int(node.Line) == n {
		return node.Path()
	}
	if node.Kind == Verbatim || node.Kind == Section {
		return append(node.Path(), node.Text)
	}
	return node.Path()
}

// Path is the headings above the node, outermost first.
func (n *Node) Path() []string {
	depth := 0
	for p := n.Parent; p != nil; p = p.Parent {
		depth++
	}
	if depth == 0 {
		return nil
	}
	path := make([]string, depth)
	for p := n.Parent; p != nil; p = p.Parent {
		depth--
		path[depth] = p.Text
	}
	return path
}

// LineOf is the number of the line (from 1) that holds the byte at offset.
func (t *Tree) LineOf(offset int) int {
	return sort.Search(len(t.starts), func(i int) bool { return t.starts[i] > offset })
}

// Word is one word of a node and where it stands in the source.
type Word struct {
	Text string
	At   Span
}

// Words are the node's words. Quotes hold a word together and stay part of it.
// A leaf of XML or JSON has its name and its value as one word each.
func (t *Tree) Words(n *Node) []Word {
	if t.Syntax.Reader == XML || t.Syntax.Reader == JSON {
		name, _, _ := strings.Cut(n.Text, " ")
		words := []Word{{Text: name}}
		if n.Value.To > n.Value.From {
			words = append(words, Word{t.Source[n.Value.From:n.Value.To], n.Value})
		} else if _, rest, ok := strings.Cut(n.Text, " "); ok {
			words = append(words, Word{Text: rest})
		}
		return words
	}
	return splitWords(t.Source, n.At)
}

func splitWords(src string, at Span) []Word {
	words := make([]Word, 0, 4)
	for w, ok := nextWord(src, at); ok; w, ok = nextWord(src, at) {
		words = append(words, w)
		at.From = w.At.To
	}
	return words
}

// NextWord is the first of the node's words at or after the offset at, for
// callers that need only the first few; [Tree.Words] has the others. It is false
// behind the last one, and for XML and JSON, whose leaves have no words of their own.
func (t *Tree) NextWord(n *Node, at int32) (Word, bool) {
	if t.Syntax.Reader == XML || t.Syntax.Reader == JSON {
		return Word{}, false
	}
	return nextWord(t.Source, Span{max(at, n.At.From), n.At.To})
}

func nextWord(src string, at Span) (Word, bool) {
	i, end := int(at.From), int(at.To)
	for i < end && (src[i] == ' ' || src[i] == '\t') {
		i++
	}
	if i >= end {
		return Word{}, false
	}
	from := i
	for i < end && src[i] != ' ' && src[i] != '\t' {
		if q := src[i]; q == '"' || q == '\'' {
			if closing := strings.IndexByte(src[i+1:end], q); closing >= 0 {
				i += closing + 2
				continue
			}
		}
		i++
	}
	return Word{src[from:i], span(from, i)}, true
}

func lineStarts(src string) []int {
	if src == "" {
		return nil
	}
	starts := make([]int, 1, len(src)/16+2)
	for i := 0; ; {
		next := strings.IndexByte(src[i:], '\n')
		if next < 0 {
			break
		}
		i += next + 1
		if i < len(src) {
			starts = append(starts, i)
		}
	}
	return starts
}

// index fills in line numbers and the node of each line.
func (t *Tree) index() {
	t.heads = make([]*Node, len(t.starts))
	x := indexer{t: t, line: 1, next: len(t.Source) + 1}
	if len(t.starts) > 1 {
		x.next = t.starts[1]
	}
	x.visit(t.Children)
}

type indexer struct {
	t    *Tree
	line int // that the last offset stood on
	next int // offset of the line after it
}

// lineOf is the line of an offset; offsets come in ascending order.
func (x *indexer) lineOf(offset int32) int32 {
	for int(offset) >= x.next {
		x.line++
		x.next = len(x.t.Source) + 1
		if x.line < len(x.t.starts) {
			x.next = x.t.starts[x.line]
		}
	}
	return int32(x.line)
}

func (x *indexer) claim(n *Node, from, to int32) {
	for l := from; l <= to && int(l) <= len(x.t.heads); l++ {
		if x.t.heads[l-1] == nil {
			x.t.heads[l-1] = n
		}
	}
}

func (x *indexer) visit(nodes []*Node) {
	for _, n := range nodes {
		if n.Kind != Group {
			first := n.Head.From
			headStart := x.lineOf(first)
			if n.At.To > n.At.From {
				first = n.At.From
			}
			n.Line = x.lineOf(first)
			n.LastLine = n.Line
			if n.Head.To > n.Head.From {
				n.LastLine = x.lineOf(n.Head.To - 1)
			}
			x.claim(n, n.Line, n.LastLine)
			x.claim(n, headStart, n.Line)
		}
		if len(n.Children) > 0 {
			x.visit(n.Children)
			if n.Kind == Group {
				n.Line = n.Children[0].Line
			}
			n.LastLine = max(n.LastLine, n.Children[len(n.Children)-1].LastLine)
		}
		if n.Tail.To > n.Tail.From {
			from := x.lineOf(n.Tail.From)
			n.LastLine = max(n.LastLine, x.lineOf(n.Tail.To-1))
			x.claim(n, from, n.LastLine)
		}
	}
}

// builder appends nodes to a tree and keeps the stack of open sections.
type builder struct {
	t       *Tree
	stack   []*Node
	pending [][]*Node // by depth: the children so far; pending[0] are the top-level nodes
	slab    []Node
	arena   []*Node // room for lists of children
}

func newBuilder(t *Tree) *builder {
	return &builder{t: t, pending: make([][]*Node, 1, 8)}
}

func (b *builder) add(n Node) *Node {
	if len(b.slab) == 0 {
		b.slab = make([]Node, max(16, min(len(b.t.starts)+1, 256)))
	}
	p := &b.slab[0]
	b.slab = b.slab[1:]
	*p = n
	p.Tail = Span{n.Head.To, n.Head.To}
	depth := len(b.stack)
	if depth > 0 {
		p.Parent = b.stack[depth-1]
	}
	b.pending[depth] = append(b.pending[depth], p)
	return p
}

// open makes n, which is the last node added but for blank ones, the innermost
// section. The blank ones become its children.
func (b *builder) open(n *Node) {
	siblings := b.pending[len(b.stack)]
	at := len(siblings) - 1
	for siblings[at] != n {
		siblings[at].Parent = n
		at--
	}
	n.Kind = Section
	b.pending[len(b.stack)] = siblings[:at+1]
	b.stack = append(b.stack, n)
	if len(b.pending) <= len(b.stack) {
		b.pending = append(b.pending, nil)
	}
	b.pending[len(b.stack)] = append(b.pending[len(b.stack)][:0], siblings[at+1:]...)
}

// close ends the innermost section, with its closing mark at tail.
func (b *builder) close(tail Span) {
	n := b.stack[len(b.stack)-1]
	n.Children = b.keep(b.pending[len(b.stack)])
	n.Tail = tail
	b.stack = b.stack[:len(b.stack)-1]
}

// keep copies a list that is complete.
func (b *builder) keep(list []*Node) []*Node {
	if len(list) == 0 {
		return nil
	}
	if len(list) > len(b.arena) {
		b.arena = make([]*Node, max(len(list), min(len(b.t.starts)+1, 256)))
	}
	kept := b.arena[:len(list):len(list)]
	b.arena = b.arena[len(list):]
	copy(kept, list)
	return kept
}

// finish closes what is open at the end of the source.
func (b *builder) finish(at int) {
	b.t.Unclosed += len(b.stack)
	for len(b.stack) > 0 {
		b.close(span(at, at))
	}
	b.t.Children = b.keep(b.pending[0])
	b.t.tail = span(at, len(b.t.Source))
	if at == len(b.t.Source) || len(b.t.Children) == 0 {
		return
	}
	// The rest belongs to the last top-level node, so that no line is without one.
	last := b.t.Children[len(b.t.Children)-1]
	if int(last.Tail.To) == at {
		if last.Tail.From == last.Tail.To {
			last.Tail.From = int32(at)
		}
		last.Tail.To = int32(len(b.t.Source))
		b.t.tail = span(len(b.t.Source), len(b.t.Source))
	}
}
