// Package standard holds configurations against the golden configuration of their
// class. A standard is a YAML file (docs/audit.md teaches it, and
// standard.schema.json describes the form) whose sections are pieces of
// configuration in the device's own syntax, with slots ${…} for what differs from
// device to device. [Parse] reads one, [Standard.Compare] says of a configuration
// what is lacking, surplus, altered or moved, and [Standard.Render] what it should
// have. The package has no clock and reads no files.
package standard

import (
	_ "embed" // the schema
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"vergekeep/core/audit"
	"vergekeep/core/config"
	"vergekeep/core/dialect"
	"vergekeep/core/form"
	"vergekeep/core/nearest"
	"vergekeep/core/pattern"
	"vergekeep/core/selector"
)

// SchemaText is the published JSON Schema of standards.
//
//go:embed standard.schema.json
var SchemaText string

var schema = form.NewSchema(SchemaText)

// MaxSize is how large a standard may be, in bytes.
const MaxSize = 1 << 20

// Standard is the golden configuration of a class of devices.
type Standard struct {
	ID, Title, Description string
	Applies                selector.Selector
	Platform               string
	Slots                  map[string]*Slot
	Sections               []*Section
	Text                   string // the file itself
	Hash                   string // SHA-256 of Text, in hexadecimal
}

// Mode is what a section asks of a configuration.
type Mode string

// The modes.
const (
	Exactly Mode = "exactly"  // this, and nothing else in these sections
	AtLeast Mode = "at-least" // this, whatever else there is
	Absent  Mode = "absent"   // this must not be there
)

// Section is a piece of the golden configuration.
type Section struct {
	ID, Title string
	Severity  audit.Severity
	Is        Mode
	Order     string // counts, free, or "" for what the dialect says
	Optional  bool   // where none of it is there that is well
	Covers    []*pattern.Pattern
	Text      string
	Line      int // of the first line of the text in the file
	Fix       string

	each  *audit.Sections
	tree  *config.Tree
	lines map[*config.Node]*line
}

// line is a node of a section's text made ready to be matched.
type line struct {
	parts []part
	start string // what it begins with, before any slot and any run of blanks
	slots []string
	value config.Span // within the node's words: what the dialect calls its value
	order int         // the dialect's rule by which its order counts
}

// part is a stretch of a line: words as they stand, or a slot.
type part struct{ text, slot string }

type file struct {
	Language                              int
	Standard, Title, Description, Applies string
	Platform                              string
	Slots                                 map[string]*fileSlot
	Sections                              []struct {
		ID, Title, Severity string
		Is                  Mode
		Order               string
		Optional            bool
		Covers              []string
		Each                []string
		Where               *audit.Condition
		Text, Fix           string
	}
}

// A slot in a text is written as a word that no syntax takes apart.
const (
	slotStart = "\x01"
	slotEnd   = "\x02"
)

var slotForm = regexp.MustCompile(`\$(\$?)\{([^{}\n]*)\}?`)

// Parse reads a standard. Its error is a [*form.Error].
func Parse(name, text string, dialects dialect.Set) (*Standard, error) {
	doc, err := form.Read(name, text, "standard", "language: 1", MaxSize)
	if err != nil {
		return nil, err
	}
	if !doc.Check(schema) {
		return nil, doc.Err()
	}
	var f file
	if err := doc.Decode(&f); err != nil {
		return nil, err
	}
	s := &Standard{ID: f.Standard, Title: f.Title, Description: f.Description, Platform: f.Platform, Slots: map[string]*Slot{}, Text: text, Hash: form.Hash(text)}
	s.Applies = doc.Selector(f.Applies, "applies")
	d := dialects[f.Platform]
	if d == nil {
		doc.Complain([]string{"platform"}, "there is no dialect %q.%s", f.Platform, nearest.Hint(f.Platform, dialects.Names()))
		return nil, doc.Err()
	}
	for name, fs := range f.Slots {
		s.Slots[name] = fs.slot(doc, name)
	}
	used := map[string]bool{}
	for i, x := range f.Sections {
		at := []string{"sections", strconv.Itoa(i)}
		sub := func(more ...string) []string { return slices.Concat(at, more) }
		sec := &Section{ID: x.ID, Title: x.Title, Severity: audit.Severity(x.Severity), Is: x.Is, Order: x.Order, Optional: x.Optional, Text: x.Text, Line: doc.LineOf(sub("text")...) + 1, Fix: x.Fix}
		if sec.Severity == "" {
			sec.Severity = audit.Medium
		}
		if sec.Is == "" {
			sec.Is = Exactly
		}
		if slices.ContainsFunc(s.Sections, func(o *Section) bool { return o.ID == sec.ID }) {
			doc.Complain(sub("id"), "there is another section %q", sec.ID)
		}
		for j, source := range x.Covers {
			sec.Covers = append(sec.Covers, doc.Pattern(source, sub("covers", strconv.Itoa(j))...))
		}
		captured := map[string]bool{}
		if len(x.Each) > 0 {
			if sec.each, err = audit.NewSections(x.Each, x.Where, d); err != nil {
				doc.Complain(sub("each"), "%v", err)
				continue
			}
			for _, n := range sec.each.Names() {
				captured[n] = true
			}
		} else if x.Where != nil {
			doc.Complain(sub("where"), "it says which of 'each' are meant, and there is no 'each'")
		}
		from := 0
		source := slotForm.ReplaceAllStringFunc(x.Text, func(m string) string {
			offset := from + strings.Index(x.Text[from:], m)
			from = offset + len(m)
			parts := slotForm.FindStringSubmatch(m)
			if parts[1] != "" { // $${ is a literal ${
				return m[1:]
			}
			n := parts[2]
			line := 1 + strings.Count(x.Text[:offset], "\n")
			column := offset - strings.LastIndexByte(x.Text[:offset], '\n')
			switch {
			case !strings.HasSuffix(m, "}"):
				doc.ComplainAt(sub("text"), line, column, "the slot %q is not closed with }", m)
			case s.Slots[n] == nil && !captured[n]:
				known := make([]string, 0, len(s.Slots))
				for k := range s.Slots {
					known = append(known, k)
				}
				slices.Sort(known)
				doc.ComplainAt(sub("text"), line, column, "there is no slot %q; add it to 'slots', or write $${ for ${ as it stands.%s", n, nearest.Hint(n, known))
			}
			used[n] = true
			return slotStart + n + slotEnd
		})
		if strings.ContainsAny(x.Text, slotStart+slotEnd) {
			doc.Complain(sub("text"), "it holds control characters")
		}
		sec.read(source, d)
		if sec.tree.Unclosed > 0 || sec.tree.Stray > 0 {
			doc.Complain(sub("text"), "a section is not closed, or closed twice")
		}
		s.Sections = append(s.Sections, sec)
	}
	for name := range s.Slots {
		if !used[name] {
			doc.Complain([]string{"slots", name}, "nothing uses the slot")
		}
	}
	if err := doc.Err(); err != nil {
		return nil, err
	}
	return s, nil
}

// read makes the section's text ready to be matched.
func (s *Section) read(source string, d *dialect.Dialect) {
	s.tree = d.Tree(source)
	s.lines = map[*config.Node]*line{}
	look := d.Look(s.tree)
	s.tree.Walk(func(n *config.Node) bool {
		if n.Kind == config.Blank || n.Kind == config.Comment && !strings.HasPrefix(n.Text, "#!") {
			return true
		}
		text := n.Text
		if n.Kind == config.Verbatim {
			text = trimmed(s.tree.Source[n.Head.From:n.Head.To])
		}
		l := &line{parts: split(text)}
		if len(l.parts) > 0 {
			l.start, _, _ = strings.Cut(l.parts[0].text, " ")
		}
		for _, p := range l.parts {
			if p.slot != "" {
				l.slots = append(l.slots, p.slot)
			}
		}
		l.order, l.value = look(n)
		s.lines[n] = l
		return true
	})
}

// trimmed is a block without blanks at the ends of its lines.
func trimmed(block string) string {
	lines := strings.Split(block, "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " \t\r")
	}
	return strings.TrimRight(strings.Join(lines, "\n"), "\n")
}

func split(text string) (parts []part) {
	for text != "" {
		before, rest, found := strings.Cut(text, slotStart)
		if before != "" {
			parts = append(parts, part{text: before})
		}
		if !found {
			break
		}
		name, after, _ := strings.Cut(rest, slotEnd)
		parts = append(parts, part{slot: name})
		text = after
	}
	return parts
}

// Heading is the section's title; its id where it has none.
func (s *Section) Heading() string {
	if s.Title == "" {
		return s.ID
	}
	return s.Title
}

// Name is the section's name among all: "standard/section".
func (s *Standard) Name(sec *Section) string { return fmt.Sprintf("%s/%s", s.ID, sec.ID) }
