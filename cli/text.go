package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"vergekeep/client"
	"vergekeep/client/gen"
	"vergekeep/core/config"
	"vergekeep/core/diff"
	"vergekeep/core/ref"
)

// maxFile is how large a file to compare may be.
const maxFile = 64 << 20

func zone() *string {
	name := time.Local.String()
	if name == "Local" {
		name = "UTC"
		if target, err := os.Readlink("/etc/localtime"); err == nil {
			if _, after, ok := strings.Cut(target, "zoneinfo/"); ok {
				name = after
			}
		}
	}
	return &name
}

func readFile(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return "", err
	}
	if info.IsDir() {
		return "", fmt.Errorf("%s is a folder", path)
	}
	var b strings.Builder // it hands its bytes over without copying them
	b.Grow(int(min(info.Size(), maxFile)) + bytes.MinRead)
	if _, err := io.Copy(&b, io.LimitReader(f, maxFile+1)); err != nil {
		return "", err
	}
	if b.Len() > maxFile {
		return "", fmt.Errorf("%s is larger than %d MiB", path, maxFile>>20)
	}
	return b.String(), nil
}

func (a *app) configuration(ctx context.Context, cmd *cli.Command, source string) (*gen.Configuration, error) {
	c, err := a.connect(cmd)
	if err != nil {
		return nil, err
	}
	r, err := c.GetConfigurationWithResponse(ctx, &gen.GetConfigurationParams{Ref: source, Zone: zone()})
	if err := client.Check(r, err); err != nil {
		return nil, noDevice(err, source)
	}
	return r.JSON200, nil
}

// noDevice reminds of files where somebody may have meant one.
func noDevice(err error, source string) error {
	if client.IsStatus(err, http.StatusNotFound) {
		if _, statErr := os.Stat(source); statErr == nil {
			return fmt.Errorf("%w For the file of that name write ./%s", err, source)
		}
	}
	return err
}

func (a *app) showCommand() *cli.Command {
	return &cli.Command{
		Name: "show", Usage: "print a configuration", ArgsUsage: "REF", Category: "Every day",
		Description: example("vergekeep show ng-acc-1", "vergekeep show ng-acc-1@-1", "vergekeep show ng-acc-1:startup@2026-11-20", "vergekeep show hh-fw-1:running/guests@live"),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if err := exactly(cmd, 1, "a ref"); err != nil {
				return err
			}
			r, err := ref.Parse(cmd.Args().First(), time.Local)
			if err != nil {
				return err
			}
			if r.File != "" {
				text, err := readFile(r.File)
				if err != nil {
					return err
				}
				_, err = io.WriteString(a.Out, text)
				return err
			}
			conf, err := a.configuration(ctx, cmd, cmd.Args().First())
			if err != nil {
				return err
			}
			switch cmd.Root().String("format") {
			case "table":
				if conf.Masked && isTerminal(a.Err) {
					fmt.Fprintln(a.Err, "Secrets are hidden; to see them takes the right see-secrets.")
				}
				_, err = io.WriteString(a.Out, conf.Text)
				return err
			case "csv":
				return errors.New("a configuration is no table; take --format json or yaml")
			}
			return a.print(cmd, conf, nil)
		},
	}
}

func (a *app) historyCommand() *cli.Command {
	return &cli.Command{
		Name: "history", Usage: "list the revisions of a configuration, newest first", ArgsUsage: "DEVICE[:DATASTORE[/PART]]", Category: "Every day",
		Description: example("vergekeep history np-acc-2", "vergekeep history hh-fw-1:running/guests"),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if err := exactly(cmd, 1, "a device"); err != nil {
				return err
			}
			r, err := ref.Parse(cmd.Args().First(), time.Local)
			if err != nil {
				return err
			}
			if r.File != "" || r.Point.Kind != ref.Latest {
				return fmt.Errorf("%s names one configuration; a history is of a device, or of a device's datastore", r)
			}
			c, err := a.connect(cmd)
			if err != nil {
				return err
			}
			store := gen.ListRevisionsParamsDatastore(r.Datastore)
			list, err := c.ListRevisionsWithResponse(ctx, r.Device, &gen.ListRevisionsParams{Datastore: &store, Part: &r.Part})
			if err := client.Check(list, err); err != nil {
				return err
			}
			revisions := *list.JSON200
			if len(revisions) == 0 {
				// The service knows what there is instead.
				if _, err := a.configuration(ctx, cmd, r.String()); err != nil {
					return err
				}
			}
			now := time.Now()
			t := &table{head: []string{"revision", "in force since", "last seen", "lines", "differs", "remark"}, none: "Nothing has been captured yet."}
			for _, rev := range revisions {
				t.add(fmt.Sprintf("@%d", rev.Number), when(&rev.FirstSeen, now), when(&rev.LastSeen, now), strconv.Itoa(rev.Lines), marks(rev.Stats), remark(rev))
			}
			return a.print(cmd, revisions, t)
		},
	}
}

// marks writes counts with the marks that stand before the lines.
func marks(s gen.Stats) string {
	var parts []string
	for _, m := range []struct {
		n    int
		mark string
	}{{s.Changed, "~"}, {s.Removed, "−"}, {s.Added, "+"}, {s.Moved, "↕"}} {
		if m.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", m.n, m.mark))
		}
	}
	return strings.Join(parts, "  ")
}

func (a *app) diffCommand() *cli.Command {
	return &cli.Command{
		Name: "diff", Usage: "compare two configurations", ArgsUsage: "REF [REF]", Category: "Every day",
		Description: example("vergekeep diff np-acc-2@-1 np-acc-2", "vergekeep diff np-acc-2             the last change", "vergekeep diff dd-acc-1:startup dd-acc-1",
			"vergekeep diff ng-acc-1 ng-acc-1@live", "vergekeep diff ./before.cfg ./after.cfg --unified") +
			"\n\nMarks: + added, − removed, ~ changed, ↕ moved. The exit status is 1 where something differs.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "unified", Aliases: []string{"u"}, Usage: "the unified format, which patch accepts"},
			&cli.IntFlag{Name: "context", Aliases: []string{"C"}, Value: -1, Usage: "equal lines around each difference (3 for the unified format, else none)", HideDefault: true},
		},
		Action: a.diff,
	}
}

// comparison is what is printed, wherever it was computed.
type comparison struct {
	left, right string // names
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
		if cmd.Bool("unified") {
			around = 3
		}
	}
	var cmp *comparison
	if refs[0].File != "" || refs[1].File != "" {
		cmp, err = a.compareHere(ctx, cmd, refs, around)
	} else {
		cmp, err = a.compareThere(ctx, cmd, refs, around)
	}
	if err != nil {
		return err
	}
	if err := a.printComparison(cmd, cmp); err != nil {
		return err
	}
	if cmp.stats.Total() > 0 || !cmp.identical && refs[0].File != "" && refs[1].File != "" {
		return yes{}
	}
	return nil
}

// compareHere compares where at least one side is a file.
func (a *app) compareHere(ctx context.Context, cmd *cli.Command, refs [2]ref.Ref, around int) (*comparison, error) {
	var sides [2]diff.Side
	var names [2]string
	for i, r := range refs {
		names[i] = r.String()
		if r.File != "" {
			text, err := readFile(r.File)
			if err != nil {
				return nil, err
			}
			sides[i].Text = text
		} else {
			conf, err := a.configuration(ctx, cmd, r.String())
			if err != nil {
				return nil, err
			}
			sides[i].Text, names[i] = conf.Text, conf.Revision.Ref
		}
		sides[i].PathAt = config.Paths(sides[i].Text, config.Guess(sides[i].Text))
	}
	if cmd.Bool("unified") {
		sides[0].PathAt, sides[1].PathAt = nil, nil // nobody will see them
	}
	result := diff.Compare(sides[0], sides[1])
	out := &comparison{
		left: names[0], right: names[1], stats: result.Stats, identical: result.Identical(),
		unified: func() string { return result.Unified(names[0], names[1], around) },
	}
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

// compareThere lets the service compare.
func (a *app) compareThere(ctx context.Context, cmd *cli.Command, refs [2]ref.Ref, around int) (*comparison, error) {
	c, err := a.connect(cmd)
	if err != nil {
		return nil, err
	}
	r, err := c.CompareWithResponse(ctx, &gen.CompareParams{Left: refs[0].String(), Right: refs[1].String(), Context: &around, Zone: zone()})
	if err := client.Check(r, err); err != nil {
		return nil, err
	}
	return fromWire(r.JSON200), nil
}

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
		stats:   diff.Stats{Added: s.Added, Removed: s.Removed, Changed: s.Changed, Moved: s.Moved, Volatile: s.Volatile, Undecidable: s.Undecidable},
		unified: func() string { return w.Unified }, wire: func() any { return w },
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
