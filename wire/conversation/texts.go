package conversation

import (
	"strings"

	"vergekeep/core/dialect"
	"vergekeep/core/reason"
)

// Text is a configuration that a conversation brought, whole.
type Text struct {
	Datastore, Part string
	View            dialect.View
}

// Kept is the first answer of each name.
func (r Result) Kept() map[string]string {
	kept := map[string]string{}
	for _, a := range r.Answers {
		if _, ok := kept[a.Name]; !ok {
			kept[a.Name] = a.Text
		}
	}
	return kept
}

// Texts makes configurations of the answers, cleaned and checked for signs of
// completeness. Its error has the reason Incomplete; what was whole before it is
// returned too.
func (r Result) Texts(d *dialect.Dialect) ([]Text, error) {
	var list []Text
	for _, c := range d.Captures {
		for _, a := range r.Answers {
			if a.Name != c.From || a.Text == "" && c.Optional {
				continue
			}
			part := strings.ReplaceAll(c.Part, "${item}", a.Item)
			name := strings.TrimSpace(c.Datastore + " " + part)
			text, err := dialect.Convert(c.Convert, a.Text)
			if err != nil {
				return list, reason.New(reason.Incomplete, "Its %s configuration was refused: %w.", name, err)
			}
			view := d.View(d.CleanText(text))
			if err := d.CheckComplete(view.Tree); err != nil {
				return list, reason.New(reason.Incomplete, "Its %s configuration was refused: %w.", name, err)
			}
			list = append(list, Text{c.Datastore, part, view})
		}
	}
	if len(list) == 0 {
		return nil, reason.New(reason.Incomplete, "It gave no configuration at all.")
	}
	return list, nil
}
