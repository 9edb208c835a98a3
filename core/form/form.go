// Package form reads the files that people write for us: YAML that is held against
// a JSON Schema, with file, line and column of everything that is wrong with it.
package form

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"regexp"
	"sort"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"vergekeep/core/pattern"
	"vergekeep/core/selector"
)

// Complaint is one thing that is wrong with a file.
type Complaint struct {
	File         string
	Line, Column int // from 1; a column of 0 is not known
	What         string
}

func (c Complaint) String() string {
	if c.Column == 0 {
		return fmt.Sprintf("%s:%d: %s", c.File, c.Line, c.What)
	}
	return fmt.Sprintf("%s:%d:%d: %s", c.File, c.Line, c.Column, c.What)
}

// Error is everything that is wrong with a file, or with several.
type Error struct{ Complaints []Complaint }

func (e *Error) Error() string {
	lines := make([]string, len(e.Complaints))
	for i, c := range e.Complaints {
		lines[i] = c.String()
	}
	return strings.Join(lines, "\n")
}

// Document is a file that is being read.
type Document struct {
	File string
	Root *yaml.Node

	text       string
	complaints []Complaint
}

const (
	maxDepth = 30
	maxNodes = 20_000
)

// Read reads a file of one kind, which starts with the key that names its version.
// Its error is an [*Error].
func Read(file, text, kind, first string, maxSize int) (*Document, error) {
	d := &Document{File: file, text: text}
	if len(text) > maxSize {
		return nil, d.Fail(1, "the file is larger than %d KiB", maxSize>>10)
	}
	var root yaml.Node
	if err := yaml.Unmarshal([]byte(text), &root); err != nil {
		return nil, d.notYAML(err)
	}
	if len(root.Content) == 0 {
		return nil, d.Fail(1, "the file is empty")
	}
	d.Root = root.Content[0]
	if d.Root.Kind != yaml.MappingNode {
		return nil, d.Fail(d.Root.Line, "this is no %s: it must be a mapping that starts with '%s'", kind, first)
	}
	if n := countNodes(d.Root, 0); n < 0 || n > maxNodes {
		return nil, d.Fail(1, "the file is nested too deeply, uses aliases, or has too many entries")
	}
	return d, nil
}

// Fail notes what is wrong at a line.
func (d *Document) Fail(line int, format string, args ...any) error {
	d.complaints = append(d.complaints, Complaint{File: d.File, Line: line, What: fmt.Sprintf(format, args...)})
	return &Error{d.complaints}
}

func (d *Document) failAt(n *yaml.Node, format string, args ...any) {
	d.complaints = append(d.complaints, Complaint{d.File, n.Line, n.Column, fmt.Sprintf(format, args...)})
}

// Complain notes what is wrong at a place, which is named by its path in the
// document.
func (d *Document) Complain(path []string, format string, args ...any) {
	at, _ := find(d.Root, path)
	d.failAt(at, "%s: %s", strings.Join(path, "."), fmt.Sprintf(format, args...))
}

// ComplainAt is Complain for a place within a text of several lines: line and
// column, from 1, are counted from the text's own first line.
func (d *Document) ComplainAt(path []string, line, column int, format string, args ...any) {
	key, text := find(d.Root, path)
	at := Complaint{d.File, key.Line, key.Column, fmt.Sprintf("%s: %s", strings.Join(path, "."), fmt.Sprintf(format, args...))}
	if text.Style == yaml.LiteralStyle {
		at.Line, at.Column = text.Line+line, column+d.indent(text)
	}
	d.complaints = append(d.complaints, at)
}

// indent is by how much a text of several lines is indented in the file.
func (d *Document) indent(n *yaml.Node) int {
	lines := strings.Split(d.text, "\n")
	for i, own := range strings.Split(n.Value, "\n") {
		if at := n.Line + i; strings.TrimSpace(own) != "" && at < len(lines) {
			return max(strings.Index(lines[at], own), 0)
		}
	}
	return 0
}

// LineOf is the line of a place, or of the deepest part of its path that is there.
func (d *Document) LineOf(path ...string) int {
	key, _ := find(d.Root, path)
	return key.Line
}

// Err is everything that is wrong, in order of line; nil for nothing.
func (d *Document) Err() error {
	if len(d.complaints) == 0 {
		return nil
	}
	sort.SliceStable(d.complaints, func(i, j int) bool { return d.complaints[i].Line < d.complaints[j].Line })
	return &Error{d.complaints}
}

// Decode fills in a value. Its error is an [*Error].
func (d *Document) Decode(into any) error {
	if err := d.Root.Decode(into); err != nil {
		return d.notYAML(err)
	}
	return nil
}

// Regexp compiles an expression; nil for none, and for one that is wrong.
func (d *Document) Regexp(source string, path ...string) *regexp.Regexp {
	if source == "" {
		return nil
	}
	re, err := regexp.Compile(source)
	if err != nil {
		d.Complain(path, "not a regular expression (RE2): %s", strings.TrimPrefix(err.Error(), "error parsing regexp: "))
		return nil
	}
	return re
}

// Pattern compiles a section pattern.
func (d *Document) Pattern(source string, path ...string) *pattern.Pattern {
	p, err := pattern.Compile(source)
	if err != nil {
		d.Complain(path, "%v", err)
	}
	return p
}

// Selector reads a selector of a document, which has to mean something at any time.
func (d *Document) Selector(source string, path ...string) selector.Selector {
	s, err := selector.Parse(source)
	if err == nil {
		err = selector.CheckLasting(source)
	}
	if err != nil {
		d.Complain(path, "%v", err)
	}
	return s
}

// Hash is the SHA-256 of a text, in hexadecimal: what versions of documents are known by.
func Hash(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

var yamlLine = regexp.MustCompile(`line (\d+): (.*)`)

func (d *Document) notYAML(err error) error {
	line, what := 1, err.Error()
	if m := yamlLine.FindStringSubmatch(what); m != nil {
		line, _ = strconv.Atoi(m[1])
		what = m[2]
	}
	return d.Fail(max(line, 1), "not YAML: %s", strings.TrimPrefix(what, "yaml: "))
}

// countNodes is -1 where the document is too deep or holds an alias.
func countNodes(n *yaml.Node, depth int) int {
	if depth > maxDepth || n.Kind == yaml.AliasNode {
		return -1
	}
	total := 1
	for _, c := range n.Content {
		k := countNodes(c, depth+1)
		if k < 0 {
			return -1
		}
		total += k
	}
	return total
}

// find is the deepest part of path that is there: its key, where it has one, as that
// is where it begins, and its value.
func find(n *yaml.Node, path []string) (at, value *yaml.Node) {
	at = n
	for _, p := range path {
		var next *yaml.Node
		switch n.Kind {
		case yaml.MappingNode:
			for i := 0; i+1 < len(n.Content); i += 2 {
				if n.Content[i].Value == p {
					at, next = n.Content[i], n.Content[i+1]
				}
			}
		case yaml.SequenceNode:
			if i, err := strconv.Atoi(p); err == nil && i >= 0 && i < len(n.Content) {
				next = n.Content[i]
				at = next
			}
		}
		if next == nil {
			break
		}
		n = next
	}
	return at, n
}
