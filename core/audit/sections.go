package audit

import (
	"vergekeep/core/config"
	"vergekeep/core/dialect"
	"vergekeep/core/pattern"
)

// Sections finds the sections of configurations that a for-each and its condition
// mean, for whoever does something with each of them.
type Sections struct {
	check *compiled
	book  *book
}

// NewSections understands a for-each. Its error says what is wrong with it, or is
// [ErrNoSyntax].
func NewSections(forEach []string, where *Condition, d *dialect.Dialect) (*Sections, error) {
	c, err := compile(&Rule{}, &Check{ForEach: forEach, Where: where}, d)
	if err != nil {
		return nil, err
	}
	s := &Sections{c, newBook()}
	for _, w := range c.all() {
		w.at = s.book.add(w.pattern)
	}
	s.book.set = pattern.NewSet(s.book.list...)
	return s, nil
}

// Names is what the sections capture.
func (s *Sections) Names() []string { return s.check.names }

// Found is one section: what it captured, and its first node.
type Found struct {
	Captured map[string]string
	Node     *config.Node
}

// Find is the sections of a configuration, in the order of the text.
func (s *Sections) Find(tree *config.Tree, of Subject) ([]Found, error) {
	hits := make([][]pattern.Match, len(s.book.list))
	s.book.set.Find(tree, func(i int, m pattern.Match) { hits[i] = append(hits[i], m) })
	r := run{Result: &Result{}, c: s.check, shown: &mask{view: dialect.View{Tree: tree}}, hits: hits, device: describe(of), shared: map[string]*sectionSet{}}
	var list []Found
	sections := r.sections().list
	for i := range sections {
		is, err := r.meant(&sections[i])
		if err != nil {
			return nil, err
		}
		if is {
			list = append(list, Found{sections[i].captured(), sections[i].nodes[0]})
		}
	}
	return list, nil
}
