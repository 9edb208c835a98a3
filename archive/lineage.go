package archive

import (
	"context"
	"errors"
	"slices"

	"vergekeep/core/diff"
)

// Lineage follows the lines of a configuration through its revisions, which
// come newest first, up to the one with a number (0 for the newest). See says
// how the text of a revision is seen, and which headings are above its lines.
// Drafts and what was thinned out are passed over.
func Lineage(ctx context.Context, c *Contents, revisions []Revision, upTo int, see func(Revision, string) (string, func(line int) []string)) (*diff.Lineage, error) {
	l := &diff.Lineage{}
	for _, r := range slices.Backward(revisions) {
		if r.Origin == Drafted && r.Number != upTo {
			continue
		}
		text, err := c.Text(ctx, r)
		if errors.Is(err, ErrThinned) {
			continue
		}
		if err != nil {
			return nil, err
		}
		seen, pathAt := see(r, text)
		l.Add(r.Number, seen, pathAt)
		if r.Number == upTo {
			break
		}
	}
	return l, nil
}
