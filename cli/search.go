package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"vergekeep/client"
	"vergekeep/client/gen"
	"vergekeep/core/diff"
)

func questionFlags() []cli.Flag {
	return []cli.Flag{
		&cli.BoolFlag{Name: "regexp", Aliases: []string{"e"}, Usage: "the text is a regular expression (RE2)"},
		&cli.BoolFlag{Name: "any-case", Aliases: []string{"i"}, Usage: "capital and small letters are the same"},
		&cli.StringFlag{Name: "in", Usage: "look for sections: a section pattern, or a neutral name such as interface"},
		&cli.StringSliceFlag{Name: "have", Usage: "of sections: a line that they have; may be given again"},
		&cli.StringSliceFlag{Name: "lack", Usage: "of sections: a line that they lack; may be given again"},
		&cli.StringFlag{Name: "selector", Aliases: []string{"s"}, Usage: "only these devices"},
		&cli.StringFlag{Name: "datastore", Usage: "running, startup or candidate; all if left out"},
		&cli.StringFlag{Name: "at", Usage: "what was in force at a time: 2026-11-20T02:00, 36h, or a moment"},
		&cli.BoolFlag{Name: "history", Usage: "all revisions there ever were"},
		&cli.StringFlag{Name: "from", Usage: "of the history: not before this time"},
		&cli.StringFlag{Name: "to", Usage: "of the history: not after this time"},
		&cli.BoolFlag{Name: "without", Usage: "the devices that do not have it"},
	}
}

func question(cmd *cli.Command) (gen.Question, error) {
	q := gen.Question{Regexp: some(cmd.Bool("regexp")), AnyCase: some(cmd.Bool("any-case")), In: set(cmd, "in"), Selector: set(cmd, "selector"), Datastore: set(cmd, "datastore"),
		At: set(cmd, "at"), From: set(cmd, "from"), To: set(cmd, "to"), Without: some(cmd.Bool("without")), Zone: zone(), Scope: some(gen.Now)}
	if text := strings.Join(cmd.Args().Slice(), " "); text != "" {
		q.Text = &text
	}
	if have := cmd.StringSlice("have"); len(have) > 0 {
		q.Have = &have
	}
	if lack := cmd.StringSlice("lack"); len(lack) > 0 {
		q.Lack = &lack
	}
	switch history := cmd.Bool("history") || q.From != nil || q.To != nil; {
	case history && q.At != nil:
		return q, errors.New("--at is one time and --history all of them; take one")
	case history:
		q.Scope = some(gen.History)
	case q.At != nil:
		q.Scope = some(gen.At)
	}
	return q, nil
}

func (a *app) searchCommand() *cli.Command {
	return &cli.Command{
		Name: "search", Usage: "find lines and sections in the configurations of all devices", ArgsUsage: "[TEXT]", Category: "Every day",
		Description: example("vergekeep search 192.0.2.66", "vergekeep search --regexp '^ *server 192\\.0\\.2\\.'", "vergekeep search 'mirror to' --history", "vergekeep search community --without --selector site=northgate",
			"vergekeep search --in interface --lack 'description **'", "vergekeep search --saved no-guard") +
			"\n\nThe exit status is 1 where nothing was found. A search that was saved can be a selector: search=NAME.",
		Flags: append(questionFlags(),
			&cli.IntFlag{Name: "limit", Value: 100, Usage: "at most so many hits are shown; all are counted"},
			&cli.BoolFlag{Name: "count", Usage: "only how many, by device"},
			&cli.BoolFlag{Name: "by-section", Usage: "only how many, by section"},
			&cli.BoolFlag{Name: "selector-only", Usage: "print the devices as a selector, for other commands"},
			&cli.StringFlag{Name: "saved", Usage: "ask a search that was saved"},
			&cli.StringFlag{Name: "save", Usage: "save the search under this name"},
			&cli.StringFlag{Name: "forget", Usage: "delete a search that was saved"},
			&cli.BoolFlag{Name: "list", Usage: "the searches that were saved"},
		),
		Action: a.search,
	}
}

func (a *app) search(ctx context.Context, cmd *cli.Command) error {
	c, err := a.connect(cmd)
	if err != nil {
		return err
	}
	if name := cmd.String("forget"); name != "" {
		r, err := c.DeleteSearchWithResponse(ctx, name)
		return client.Check(r, err)
	}
	if cmd.Bool("list") {
		return a.savedSearches(ctx, cmd, c)
	}
	q, err := question(cmd)
	if err != nil {
		return err
	}
	if name := cmd.String("saved"); name != "" {
		if q, err = savedQuestion(ctx, c, name); err != nil {
			return err
		}
	}
	q.Limit = some(min(max(int(cmd.Int("limit")), 0), 1000))
	if name := cmd.String("save"); name != "" {
		r, err := c.SaveSearchWithResponse(ctx, name, q)
		if err := client.Check(r, err); err != nil {
			return err
		}
		fmt.Fprintf(a.Err, "Saved; ask it again with 'vergekeep search --saved %s', or pick its devices with search=%s.\n", quoted(name), quoted(name))
	}
	r, err := c.SearchWithResponse(ctx, q)
	if err := client.Check(r, err); err != nil {
		return err
	}
	return a.printFound(cmd, q, r.JSON200)
}

func savedQuestion(ctx context.Context, c *client.Client, name string) (gen.Question, error) {
	r, err := c.ListSearchesWithResponse(ctx)
	if err := client.Check(r, err); err != nil {
		return gen.Question{}, err
	}
	for _, s := range *r.JSON200 {
		if strings.EqualFold(s.Name, name) {
			return s.Question, nil
		}
	}
	return gen.Question{}, fmt.Errorf("no search is saved as %q; 'vergekeep search --list' lists them", name)
}

func (a *app) savedSearches(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	r, err := c.ListSearchesWithResponse(ctx)
	if err := client.Check(r, err); err != nil {
		return err
	}
	now := time.Now()
	t := &table{head: []string{"name", "looks for", "where", "by", "saved"}, none: "No search is saved yet; save one with 'vergekeep search TEXT --save NAME'."}
	for _, s := range *r.JSON200 {
		t.add(s.Name, asked(s.Question), orAll(deref(s.Question.Selector)), s.Account, when(&s.At, now))
	}
	return a.print(cmd, r.JSON200, t)
}

// asked says what a question looks for.
func asked(q gen.Question) string {
	text := deref(q.Text)
	if in := deref(q.In); in != "" {
		text = in
		for _, h := range deref(q.Have) {
			text += " with '" + h + "'"
		}
		for _, l := range deref(q.Lack) {
			text += " without '" + l + "'"
		}
	}
	return text
}

func (a *app) printFound(cmd *cli.Command, q gen.Question, x *gen.Found) error {
	none := func() error {
		if x.Total == 0 && !deref(q.Without) || deref(q.Without) && len(x.Without) == 0 {
			return yes{}
		}
		return nil
	}
	if cmd.Bool("selector-only") {
		if x.Selector == "" {
			return errors.New("there are no such devices, or too many to name; save the search and use search=NAME")
		}
		fmt.Fprintln(a.Out, x.Selector)
		return none()
	}
	now := time.Now()
	t := &table{head: []string{"device", "line", "section", "text", "since"}, none: a.found(q, x)}
	switch {
	case deref(q.Without):
		t.head = []string{"device"}
		for _, name := range x.Without {
			t.add(name)
		}
	case cmd.Bool("count"):
		t.head = []string{"device", "hits"}
		for _, d := range x.Devices {
			t.add(d.Device, fmt.Sprint(d.Count))
		}
	case cmd.Bool("by-section"):
		t.head = []string{"section", "hits"}
		for _, s := range x.Sections {
			t.add(heading(s.Path), fmt.Sprint(s.Count))
		}
	default:
		for _, h := range x.Hits {
			t.add(h.Ref, number(h.Line), strings.Join(h.Path, " > "), strings.TrimSpace(h.Text), stood(h, now))
		}
		if cmd.Root().String("format") == "table" && len(x.Hits) > 0 {
			w := bufio.NewWriter(a.Out)
			a.writeHits(w, x, now)
			fmt.Fprintf(w, "\n%s\n", a.found(q, x))
			return w.Flush()
		}
	}
	if err := a.print(cmd, x, t); err != nil {
		return err
	}
	if cmd.Root().String("format") == "table" && len(t.rows) > 0 {
		fmt.Fprintln(a.Err, a.found(q, x))
	}
	return none()
}

// found says what was found, in a sentence.
func (a *app) found(q gen.Question, x *gen.Found) string {
	text := fmt.Sprintf("%s in %s; %s looked through.", plural(x.Total, "hit"), plural(len(x.Devices), "device"), plural(x.Searched, "configuration"))
	switch {
	case deref(q.Without):
		text = fmt.Sprintf("%s %s not have it; %s looked through.", plural(len(x.Without), "device"), map[bool]string{true: "does", false: "do"}[len(x.Without) == 1], plural(x.Searched, "configuration"))
	case x.Total > len(x.Hits) && len(x.Hits) > 0:
		text += fmt.Sprintf(" The first %d are shown.", len(x.Hits))
	}
	if !x.Complete {
		text += " There is more: narrow the search."
	}
	if x.Masked {
		text += " Secrets were not searched."
	}
	return text
}

// stood says since when a line stands, or when it stood.
func stood(h gen.Hit, now time.Time) string {
	if h.Since == nil {
		return ""
	}
	text := fmt.Sprintf("@%d %s", *h.Since, when(h.SinceTime, now))
	if h.Last != nil {
		text += fmt.Sprintf(" to @%d %s", *h.Last, when(h.LastTime, now))
	}
	return text
}

// writeHits writes hits under their configuration and section.
func (a *app) writeHits(w io.Writer, x *gen.Found, now time.Time) {
	device, section := "", ""
	for _, h := range x.Hits {
		path := strings.Join(h.Path, " > ")
		if of, _, _ := strings.Cut(h.Ref, "@"); of != device {
			if device != "" {
				fmt.Fprintln(w)
			}
			fmt.Fprintln(w, a.tint(bold, of))
			device, section = of, "\x00"
		}
		if path != section {
			section = path
			if path != "" {
				fmt.Fprintf(w, "       %s\n", a.tint(faint, path))
			}
		}
		var words []diff.Span
		for _, s := range deref(h.Spans) {
			words = append(words, diff.FromUTF16(h.Text, diff.Span{From: s.From, To: s.To}))
		}
		since := stood(h, now)
		if since != "" {
			since = "   since " + since
		}
		fmt.Fprintf(w, "%s  %s%s\n", a.tint(faint, pad(number(h.Line), 5)), a.emphasise(h.Text, words), a.tint(faint, since))
	}
}
