package texts

import (
	"context"
	"errors"
	"fmt"

	"vergekeep/core/dialect"
	"vergekeep/core/diff"
	"vergekeep/core/pattern"
)

// ErrComparison says that two configurations cannot be compared as asked.
var ErrComparison = errors.New("it cannot be compared like this")

// Source is one side of a comparison: a ref, or a text that somebody brought.
type Source struct {
	Ref  string
	Text *string
	Name string // of Text: the file's
}

// Request says what is compared, and how.
type Request struct {
	Left, Right Source
	Expected    []string // section patterns of what is expected to differ
	ByLines     bool     // line by line: position counts, whatever the dialect says
	Strict      bool     // what each device has of its own counts between two devices
	Platform    string   // of two texts that somebody brought
}

// Comparison is two configurations and what differs.
type Comparison struct {
	Left, Right *Configuration
	Result      *diff.Result
	Structural  bool // sections and lines were matched by what they are
}

const maxExpected = 50

// Compare compares two configurations.
func (t *Texts) Compare(ctx context.Context, q Request, c Caller) (*Comparison, error) {
	if len(q.Expected) > maxExpected {
		return nil, fmt.Errorf("%w: there are %d patterns of what is expected; at most %d can be", ErrComparison, len(q.Expected), maxExpected)
	}
	expected := make([]*pattern.Pattern, len(q.Expected))
	for i, source := range q.Expected {
		var err error
		if expected[i], err = pattern.Compile(source); err != nil {
			return nil, err
		}
	}
	if q.Platform != "" && t.dialects[q.Platform] == nil {
		return nil, fmt.Errorf("%w: no dialect %q is loaded", ErrComparison, q.Platform)
	}
	var sides [2]*Configuration
	for i, source := range []Source{q.Left, q.Right} {
		if source.Text != nil {
			continue
		}
		got, err := t.Get(ctx, source.Ref, c)
		if err != nil {
			return nil, err
		}
		sides[i] = got
	}
	for i, source := range []Source{q.Left, q.Right} {
		if source.Text == nil {
			continue
		}
		platform := q.Platform
		if other := sides[1-i]; platform == "" && other != nil && other.file == "" {
			platform = other.Revision.Platform()
		}
		sides[i] = &Configuration{raw: *source.Text, file: source.Name}
		if sides[i].file == "" {
			sides[i].file = "file"
		}
		if err := t.read(ctx, sides[i], platform, c); err != nil {
			return nil, err
		}
	}
	if !c.SeeSecrets && (sides[0].file != "" || sides[1].file != "") {
		// A text of one's own would be an oracle: what is masked is compared.
		for _, s := range sides {
			s.raw = s.Shown
			if err := t.read(ctx, s, s.platform, c); err != nil {
				return nil, err
			}
		}
	}
	left, right := sides[0], sides[1]
	own := !q.Strict && left.file == "" && right.file == "" && left.Device.ID != right.Device.ID
	out := &Comparison{Left: left, Right: right, Structural: !q.ByLines}
	l, r := left.side(own, expected), right.side(own, expected)
	if q.ByLines {
		l.Structure, r.Structure = nil, nil
	}
	out.Result = diff.Compare(l, r)
	return out, nil
}

// side is the true text: masked ones would hide that a secret changed. What is
// expected is looked for in the text as the caller may see it, or patterns would
// be an oracle.
func (c *Configuration) side(own bool, expected []*pattern.Pattern) diff.Side {
	s := c.view.Side(own)
	if len(expected) > 0 {
		own, asked := s.Structure.Expected, dialect.Within(c.Tree, expected)
		s.Structure.Expected = func(line int) bool { return asked(line) || own != nil && own(line) }
	}
	return s
}

// Row is a row of a comparison as the caller may see it.
type Row struct {
	diff.Row
	SecretChanged bool // what changed is a secret, and it is hidden
}

// Rows are the rows of the comparison with secrets masked for whoever may not
// see them.
func (c *Comparison) Rows(context int) []Row {
	rows := c.Result.Rows(context)
	out := make([]Row, len(rows))
	for i, row := range rows {
		out[i].Row = row
		hidden := false
		if row.Left > 0 && c.Left.hides(row.Left) {
			out[i].LeftText, hidden = c.Left.shownLine(row.Left), true
		}
		if row.Right > 0 && c.Right.hides(row.Right) {
			out[i].RightText, hidden = c.Right.shownLine(row.Right), true
		}
		if hidden {
			out[i].SecretChanged = row.Kind == diff.Changed && out[i].LeftText == out[i].RightText
			out[i].LeftWords, out[i].RightWords = nil, nil
		}
		// Headings can hold secrets too.
		switch {
		case row.Right > 0 && c.Right.Masked:
			out[i].Path = c.Right.Tree.PathAt(row.Right)
		case row.Right == 0 && row.Left > 0 && c.Left.Masked:
			out[i].Path = c.Left.Tree.PathAt(row.Left)
		}
	}
	return out
}

// Unified is the comparison in the unified format. Where secrets are hidden it
// is made of the masked texts, so that nothing hidden shows; a secret that
// changed then does not appear, and hidden says how many such lines there are.
func (c *Comparison) Unified(context int) (text string, hidden int) {
	result := c.Result
	if c.Left.Masked || c.Right.Masked {
		result = diff.Compare(diff.Side{Text: c.Left.Shown}, diff.Side{Text: c.Right.Shown})
		for _, row := range c.Rows(0) {
			if row.SecretChanged {
				hidden++
			}
		}
	}
	return result.Unified(c.Left.Name(), c.Right.Name(), context), hidden
}

// IsFile reports whether it is a text that somebody brought.
func (c *Configuration) IsFile() bool { return c.file != "" }

// Neutral reports whether a row lies within what the dialect knows by a neutral
// name ("user", "access-list").
func (c *Comparison) Neutral(row Row, name string) bool {
	p := func(side *Configuration) *pattern.Pattern {
		if side.view.Dialect() == nil {
			return nil
		}
		return side.view.Dialect().Names[name]
	}
	if l := p(c.Left); l != nil && row.Left > 0 && dialect.Within(c.Left.view.Tree, []*pattern.Pattern{l})(row.Left) {
		return true
	}
	r := p(c.Right)
	return r != nil && row.Right > 0 && dialect.Within(c.Right.view.Tree, []*pattern.Pattern{r})(row.Right)
}

// Within reports whether all that counts lies within patterns.
func (c *Comparison) Within(patterns []*pattern.Pattern) bool {
	left, right := dialect.Within(c.Left.Tree, patterns), dialect.Within(c.Right.Tree, patterns)
	for _, row := range c.Rows(0) {
		if row.Kind == diff.Equal || row.Kind == diff.Skipped || row.Aside != diff.Counts {
			continue
		}
		if row.Left > 0 && !left(row.Left) || row.Right > 0 && !right(row.Right) {
			return false
		}
	}
	return true
}
