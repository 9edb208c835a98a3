package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"vergekeep/client"
	"vergekeep/client/gen"
	"vergekeep/core/config"
	"vergekeep/core/dialect"
	"vergekeep/core/diff"
	"vergekeep/core/nearest"
	"vergekeep/core/pattern"
	"vergekeep/core/ref"
	"vergekeep/core/report"
)

func (a *app) diffCommand() *cli.Command {
	return &cli.Command{
		Name: "diff", Usage: "compare two configurations", ArgsUsage: "REF [REF]", Category: "Every day",
		Description: example("vergekeep diff np-acc-2@-1 np-acc-2", "vergekeep diff np-acc-2             the last change", "vergekeep diff dd-acc-1:startup dd-acc-1",
			"vergekeep diff ng-acc-1 ng-acc-1@live", "vergekeep diff t07-rt-1 t08-rt-1       two devices, what is each one's own set aside",
			"vergekeep diff ng-edge-1@9d ng-edge-1 --output friday.pdf", "vergekeep diff ./from-the-field.cfg ng-edge-1", "vergekeep diff ./before.cfg ./after.cfg --unified") +
			"\n\nMarks: + added, − removed, ~ changed, ↕ moved. Sections are compared with what they are on the other side, wherever they stand there;\norder counts only where it decides. The exit status is 1 where something differs.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "sections", Usage: "only the sections that differ, with counts"},
			&cli.BoolFlag{Name: "parameters", Usage: "a table: section, parameter, left, right"},
			&cli.BoolFlag{Name: "unified", Aliases: []string{"u"}, Usage: "the unified format, which patch accepts"},
			&cli.IntFlag{Name: "context", Aliases: []string{"C"}, Value: -1, Usage: "equal lines around each difference (3 for the unified format, else none)", HideDefault: true},
			&cli.BoolFlag{Name: "whole", Usage: "equal lines too, all of them"},
			&cli.StringSliceFlag{Name: "expect", Usage: "a section pattern of what is expected to differ, such as 'interface * > description **'; may be given again"},
			&cli.BoolFlag{Name: "strict", Usage: "between two devices their own names and addresses count too"},
			&cli.BoolFlag{Name: "by-lines", Usage: "line by line, as if every place mattered"},
			&cli.StringFlag{Name: "platform", Usage: "of files: the dialect that they are read with"},
			&cli.StringSliceFlag{Name: "mail", Usage: "send it to this address too, with secrets masked; may be given again"},
			&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "write a document; its ending says which: .html .pdf .csv .txt .diff .json", TakesFile: true},
		},
		Action: a.diff,
	}
}

// comparison is what is printed, wherever it was computed.
type comparison struct {
	left, right string // names
	sides       [2]report.Side
	masked      bool
	stats       diff.Stats
	sections    int
	identical   bool
	rows        []row
	unified     func() string
	hidden      int
	wire        func() any
}

type row struct {
	diff.Row
	secret bool
}

func (a *app) diff(ctx context.Context, cmd *cli.Command) error {
	if cmd.Args().Len() < 1 {
		return fmt.Errorf("two refs are missing\nSee '%s --help'", cmd.FullName())
	}
	if err := atMost(cmd, 2); err != nil {
		return err
	}
	var refs [2]ref.Ref
	var err error
	for i, arg := range cmd.Args().Slice() {
		if refs[i], err = ref.Parse(arg, time.Local); err != nil {
			return err
		}
	}
	if cmd.Args().Len() == 1 {
		if refs[0].File != "" {
			return errors.New("a file is compared with something else: name a second ref")
		}
		if refs[0].Point.Kind != ref.Latest {
			return errors.New("a single ref is compared with the revision before it and names no point; write both refs")
		}
		refs[1] = refs[0]
		refs[0].Point = ref.Point{Kind: ref.Back, Number: 1}
	}
	around := cmd.Int("context")
	if around < 0 {
		around = 0
		if cmd.Bool("unified") || cmd.String("output") != "" {
			around = 3
		}
	}
	if cmd.Bool("whole") {
		around = -1
	}
	for _, source := range cmd.StringSlice("expect") {
		if _, err := pattern.Compile(source); err != nil {
			return err
		}
	}
	if len(cmd.StringSlice("mail")) > 0 && refs[0].File != "" && refs[1].File != "" {
		return errors.New("the service mails only what has something of its own in it: of two files write a document with --output")
	}
	var cmp *comparison
	if refs[0].File != "" && refs[1].File != "" {
		cmp, err = a.compareHere(cmd, refs, around)
	} else {
		cmp, err = a.compareThere(ctx, cmd, refs, around)
	}
	if err != nil {
		return err
	}
	if err := a.printComparison(cmd, cmp); err != nil {
		return err
	}
	if cmp.stats.Total() > 0 || !cmp.identical && refs[0].File != "" && refs[1].File != "" && cmp.stats.Expected == 0 {
		return yes{}
	}
	return nil
}

// compareHere compares two files, which takes no service.
func (a *app) compareHere(cmd *cli.Command, refs [2]ref.Ref, around int) (*comparison, error) {
	var sides [2]diff.Side
	var platform *dialect.Dialect
	if name := cmd.String("platform"); name != "" {
		set, err := dialect.Load()
		if err != nil {
			return nil, err
		}
		if platform = set[name]; platform == nil {
			return nil, fmt.Errorf("there is no built-in dialect %q; there are %s.%s", name, strings.Join(set.Names(), ", "), nearest.Hint(name, set.Names()))
		}
	}
	var expected []*pattern.Pattern
	for _, source := range cmd.StringSlice("expect") {
		p, err := pattern.Compile(source)
		if err != nil {
			return nil, err
		}
		expected = append(expected, p)
	}
	out := &comparison{left: refs[0].String(), right: refs[1].String()}
	for i, r := range refs {
		text, err := readFile(r.File)
		if err != nil {
			return nil, err
		}
		switch {
		case platform != nil:
			sides[i] = platform.View(text).Side(false)
		case len(expected) > 0:
			tree := config.Parse(text, config.Guess(text))
			sides[i] = diff.Side{Text: text, PathAt: tree.PathAt, Structure: &diff.Structure{Tree: tree}}
		case cmd.Bool("unified"):
			sides[i].Text = text // nobody will see the headings
		default:
			sides[i] = diff.Side{Text: text, PathAt: config.Paths(text, config.Guess(text))}
		}
		if s := sides[i].Structure; s != nil {
			if len(expected) > 0 {
				s.Expected = dialect.Within(s.Tree, expected)
			}
			if cmd.Bool("by-lines") {
				sides[i].Structure = nil
			}
		}
		if cmd.String("output") != "" {
			sum := sha256.Sum256([]byte(text))
			out.sides[i] = report.Side{Name: r.String(), Hash: hex.EncodeToString(sum[:]), Lines: len(diff.SplitLines(text))}
		}
	}
	result := diff.Compare(sides[0], sides[1])
	out.stats, out.identical = result.Stats, result.Identical()
	out.unified = func() string { return result.Unified(out.left, out.right, around) }
	if cmd.Bool("unified") {
		return out, nil
	}
	rows := result.Rows(around)
	out.sections = len(diff.Sections(rows))
	for _, r := range rows {
		out.rows = append(out.rows, row{Row: r})
	}
	out.wire = func() any { return localComparison(out) }
	return out, nil
}

// compareThere lets the service compare, which gets the file where one is named.
func (a *app) compareThere(ctx context.Context, cmd *cli.Command, refs [2]ref.Ref, around int) (*comparison, error) {
	c, err := a.connect(cmd)
	if err != nil {
		return nil, err
	}
	q, err := request(cmd, refs, around)
	if err != nil {
		return nil, err
	}
	return a.askComparison(ctx, cmd, c, q, refs)
}

// askComparison lets the service compare as asked.
func (a *app) askComparison(ctx context.Context, cmd *cli.Command, c *client.Client, q gen.ComparisonRequest, refs [2]ref.Ref) (*comparison, error) {
	r, err := c.CompareTextsWithResponse(ctx, q)
	if err := client.Check(r, err); err != nil {
		for _, x := range refs {
			err = noDevice(err, x.String())
		}
		return nil, err
	}
	if to := cmd.StringSlice("mail"); len(to) > 0 {
		m, err := c.MailComparisonWithResponse(ctx, gen.MailedComparison{To: to, Comparison: q})
		if err := client.Check(m, err); err != nil {
			return nil, err
		}
		fmt.Fprintf(a.Err, "Sent to %s.\n", strings.Join(to, ", "))
	}
	return fromWire(r.JSON200), nil
}

// request is what the service is asked.
func request(cmd *cli.Command, refs [2]ref.Ref, around int) (gen.ComparisonRequest, error) {
	by := gen.ComparisonRequestByStructure
	if cmd.Bool("by-lines") {
		by = gen.ComparisonRequestByLines
	}
	q := gen.ComparisonRequest{Context: &around, Zone: zone(), By: &by, Expected: some(cmd.StringSlice("expect")), Strict: some(cmd.Bool("strict")), Platform: set(cmd, "platform")}
	for i, side := range []*gen.Source{&q.Left, &q.Right} {
		name := refs[i].String()
		if refs[i].File == "" {
			side.Ref = &name
			continue
		}
		text, err := readFile(refs[i].File)
		if err != nil {
			return q, err
		}
		bytes := []byte(text)
		side.Name, side.Text = &name, &bytes
	}
	return q, nil
}

func some[T any](v T) *T { return &v }

func fromWire(w *gen.Comparison) *comparison {
	now := time.Now()
	name := func(s gen.Side) string {
		if s.Revision == nil {
			return s.Name
		}
		return fmt.Sprintf("%s (%s)", s.Name, when(&s.Revision.FirstSeen, now))
	}
	s := w.Stats
	out := &comparison{
		left: name(w.Left), right: name(w.Right), identical: w.Identical, sections: len(w.Sections), hidden: w.HiddenSecrets,
		stats: diff.Stats{Added: s.Added, Removed: s.Removed, Changed: s.Changed, Moved: s.Moved, Volatile: s.Volatile, Undecidable: s.Undecidable,
			Order: deref(s.Order), Layout: deref(s.Layout), Expected: deref(s.Expected)},
		masked:  w.Left.Masked || w.Right.Masked,
		unified: func() string { return w.Unified }, wire: func() any { return w },
	}
	for i, side := range []gen.Side{w.Left, w.Right} {
		out.sides[i] = report.Side{Name: side.Name, Lines: side.Lines}
		if r := side.Revision; r != nil {
			out.sides[i].Since, out.sides[i].Seen, out.sides[i].Hash = r.FirstSeen, r.LastSeen, r.Hash
		}
	}
	for _, r := range w.Rows {
		x := row{Row: diff.Row{Kind: diff.Kind(r.Kind), Left: deref(r.Left), Right: deref(r.Right), LeftText: deref(r.LeftText), RightText: deref(r.RightText),
			Path: deref(r.Path), Aside: diff.Aside(deref(r.Aside)), Other: deref(r.Other), Count: deref(r.Count)}, secret: deref(r.SecretChanged)}
		for _, s := range deref(r.LeftWords) {
			x.LeftWords = append(x.LeftWords, diff.FromUTF16(x.LeftText, diff.Span{From: s.From, To: s.To}))
		}
		for _, s := range deref(r.RightWords) {
			x.RightWords = append(x.RightWords, diff.FromUTF16(x.RightText, diff.Span{From: s.From, To: s.To}))
		}
		out.rows = append(out.rows, x)
	}
	return out
}

// localComparison is the contract's form of a comparison that was made here.
func localComparison(c *comparison) gen.Comparison {
	some := func(n int) *int {
		if n == 0 {
			return nil
		}
		return &n
	}
	s := c.stats
	out := gen.Comparison{Left: gen.Side{Name: c.left}, Right: gen.Side{Name: c.right}, Identical: c.identical, Unified: c.unified(), Rows: []gen.Row{}, Sections: []gen.SectionStats{},
		Stats: gen.Stats{Added: s.Added, Removed: s.Removed, Changed: s.Changed, Moved: s.Moved}}
	spans := func(line string, list []diff.Span) *[]gen.Span {
		if len(list) == 0 {
			return nil
		}
		units := []gen.Span{}
		for _, s := range list {
			u := s.UTF16(line)
			units = append(units, gen.Span{From: u.From, To: u.To})
		}
		return &units
	}
	for _, r := range c.rows {
		x := gen.Row{Kind: gen.RowKind(r.Kind), Left: some(r.Left), Right: some(r.Right), Other: some(r.Other), Count: some(r.Count),
			LeftWords: spans(r.LeftText, r.LeftWords), RightWords: spans(r.RightText, r.RightWords)}
		if r.Left > 0 && r.Kind != diff.Skipped {
			x.LeftText = &r.LeftText
		}
		if r.Right > 0 && r.Kind != diff.Skipped {
			x.RightText = &r.RightText
		}
		if len(r.Path) > 0 {
			x.Path = &r.Path
		}
		out.Rows = append(out.Rows, x)
	}
	return out
}
