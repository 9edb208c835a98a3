package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"vergekeep/client"
	"vergekeep/client/gen"
	"vergekeep/core/audit"
	"vergekeep/core/dialect"
	"vergekeep/core/standard"
)

func (a *app) writeJSON(v any) error {
	e := json.NewEncoder(a.Out)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// documentCommands are what policies and standards have in common.
func (a *app) documentCommands(kind gen.DocumentKind, items, file string) []*cli.Command {
	k := string(kind)
	return []*cli.Command{
		{
			Name: "list", Usage: "list those that count", Description: example("vergekeep " + k + " list"),
			Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				r, err := c.ListDocumentsWithResponse(ctx, &gen.ListDocumentsParams{Kind: &kind})
				if err := client.Check(r, err); err != nil {
					return err
				}
				now := time.Now()
				t := &table{head: []string{"name", "title", items, "devices", "from", "since", "by"}, none: "There is none yet. 'vergekeep " + k + " set FILE' keeps one."}
				for _, d := range *r.JSON200 {
					from := orDash(d.Source)
					if d.Revision != nil {
						from += " " + (*d.Revision)[:min(len(*d.Revision), 10)]
					}
					t.add(d.Name, d.Title, fmt.Sprint(d.Items), orAll(d.Applies), from, when(&d.At, now), d.Account)
				}
				return a.print(cmd, r.JSON200, t)
			}),
		},
		{
			Name: "show", Usage: "print the file of one", ArgsUsage: "NAME", Description: example("vergekeep " + k + " show " + file),
			Action: a.with(1, "a name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				r, err := c.GetDocumentWithResponse(ctx, kind, cmd.Args().First())
				if err := client.Check(r, err); err != nil {
					return err
				}
				if cmd.Root().String("format") != "table" {
					return a.print(cmd, r.JSON200, &table{})
				}
				_, err = fmt.Fprint(a.Out, deref(r.JSON200.Text))
				return err
			}),
		},
		{
			Name: "check", Usage: "check files without a service; says file, line and column of all that is wrong", ArgsUsage: "FILE...", Description: example("vergekeep " + k + " check ./" + file + ".yaml"),
			Flags: []cli.Flag{&cli.StringFlag{Name: "dialects", Usage: "a folder of dialects of your own"}},
			Action: func(_ context.Context, cmd *cli.Command) error {
				if !cmd.Args().Present() {
					return fmt.Errorf("a file is missing\nSee '%s --help'", cmd.FullName())
				}
				set, err := dialectsOf(cmd.String("dialects"))
				if err != nil {
					return err
				}
				policies, standards := cmd.Args().Slice(), []string(nil)
				if kind == gen.Standard {
					policies, standards = nil, policies
				}
				rules, golden, err := readDocuments(set, policies, standards)
				if err != nil {
					return err
				}
				for _, p := range rules {
					fmt.Fprintf(a.Out, "policy %s is fine: %s\n", p.ID, plural(len(p.Rules), "rule"))
				}
				for _, s := range golden {
					fmt.Fprintf(a.Out, "standard %s is fine: %s\n", s.ID, plural(len(s.Sections), "section"))
				}
				return nil
			},
		},
		{
			Name: "try", Usage: "what a file would find, before it counts", ArgsUsage: "FILE", Description: example("vergekeep " + k + " try ./" + file + ".yaml --on site=Northgate"),
			Flags: []cli.Flag{&cli.StringFlag{Name: "on", Usage: "a selector"}, &cli.IntFlag{Name: "limit", Value: 40, Usage: "changes of state to list"}},
			Action: a.with(1, "a file", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				return a.tryDocument(ctx, cmd, c, kind)
			}),
		},
		{
			Name: "set", Usage: "keep a file: it counts from now on; what would change is shown first", ArgsUsage: "FILE", Description: example("vergekeep "+k+" set ./"+file+".yaml", "vergekeep "+k+" set ./"+file+".yaml --yes"),
			Flags: []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "do not ask"}, &cli.IntFlag{Name: "limit", Value: 20, Usage: "changes of state to list"}},
			Action: a.with(1, "a file", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				if !cmd.Bool("yes") {
					if err := a.tryDocument(ctx, cmd, c, kind); err != nil {
						return err
					}
					answer, err := a.ask("Shall it count from now on? yes or no: ", false)
					if err != nil {
						return fmt.Errorf("%w\nSay --yes where nobody can be asked", err)
					}
					if answer != "yes" && answer != "y" {
						fmt.Fprintln(a.Out, "Nothing was changed.")
						return nil
					}
				}
				text, err := readFile(cmd.Args().First())
				if err != nil {
					return err
				}
				file := cmd.Args().First()
				r, err := c.SetDocumentWithResponse(ctx, kind, gen.DocumentEdit{File: &file, Text: text})
				if err := client.Check(r, err); err != nil {
					return err
				}
				fmt.Fprintf(a.Out, "The %s %s counts.\n", k, r.JSON200.Name)
				return nil
			}),
		},
		{
			Name: "delete", Usage: "it counts no more; its versions stay", ArgsUsage: "NAME", Description: example("vergekeep " + k + " delete " + file),
			Action: a.with(1, "a name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				r, err := c.DeleteDocumentWithResponse(ctx, kind, cmd.Args().First())
				if err := client.Check(r, err); err != nil {
					return err
				}
				fmt.Fprintf(a.Out, "The %s %s counts no more.\n", k, cmd.Args().First())
				return nil
			}),
		},
	}
}

func (a *app) tryDocument(ctx context.Context, cmd *cli.Command, c *client.Client, kind gen.DocumentKind) error {
	text, err := readFile(cmd.Args().First())
	if err != nil {
		return err
	}
	file := cmd.Args().First()
	in := gen.DocumentTry{File: &file, Text: text}
	if on := cmd.String("on"); on != "" {
		in.Selector = &on
	}
	r, err := c.TryDocumentWithResponse(ctx, kind, in)
	if err := client.Check(r, err); err != nil {
		return err
	}
	x := r.JSON200
	t := &table{head: []string{"device", "item", "now", "then", "why"}, none: "No state would be another one."}
	for i, y := range x.Changes {
		if i == cmd.Int("limit") {
			break
		}
		name := y.Device
		if y.Part != "" {
			name += " " + y.Part
		}
		t.add(name, y.Item, orDash(string(deref(y.Before))), orDash(string(deref(y.After))), y.Why)
	}
	if cmd.Root().String("format") == "table" {
		fmt.Fprintf(a.Out, "The %s %s would be for %s: %d hold, %d do not, %d cannot be decided, %d do not apply.\n", kind, x.Name, plural(x.Devices, "device"), x.Pass, x.Fail, x.Undecidable, x.NotApplicable)
		for _, w := range x.Warnings {
			fmt.Fprintf(a.Out, "%s\n", a.tint(attention, w))
		}
		fmt.Fprintln(a.Out)
	}
	if err := a.print(cmd, x, t); err != nil {
		return err
	}
	if rest := len(x.Changes) + x.More - cmd.Int("limit"); rest > 0 && cmd.Root().String("format") == "table" {
		fmt.Fprintf(a.Out, "and %d more; --limit shows them\n", rest)
	}
	return nil
}

func (a *app) policyCommand() *cli.Command {
	schema := audit.SchemaText
	return &cli.Command{
		Name: "policy", Usage: "compliance rules", Category: "What should be",
		Commands: append(a.documentCommands(gen.Policy, "rules", "management-plane"),
			&cli.Command{
				Name: "test", Usage: "run the examples of policy files, without a service", ArgsUsage: "FILE...", Description: example("vergekeep policy test ./my-rules.yaml"),
				Flags: []cli.Flag{&cli.StringFlag{Name: "dialects", Usage: "a folder of dialects of your own"}},
				Action: func(_ context.Context, cmd *cli.Command) error {
					if !cmd.Args().Present() {
						return fmt.Errorf("a file is missing\nSee '%s --help'", cmd.FullName())
					}
					set, err := dialectsOf(cmd.String("dialects"))
					if err != nil {
						return err
					}
					return a.testPolicies(set, cmd.Args().Slice())
				},
			},
			a.sourceCommand(),
			schemaCommand(a, "policy", schema)),
	}
}

// sourceCommand is about the repositories that policies and standards come from.
func (a *app) sourceCommand() *cli.Command {
	told := func(x *gen.DocumentSource) error {
		if !x.Failed {
			fmt.Fprintf(a.Out, "%s counts as it is at %s.\n", x.Name, short(deref(x.Revision)))
			return nil
		}
		fmt.Fprintf(a.Out, "%s\nWhat is faulty does not count; the last good version of it goes on.\n", x.Said)
		return yes{}
	}
	return &cli.Command{
		Name: "source", Usage: "git repositories whose policies and standards count",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list them", Description: example("vergekeep policy source list"),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ListDocumentSourcesWithResponse(ctx)
					if err := client.Check(r, err); err != nil {
						return err
					}
					now := time.Now()
					t := &table{head: []string{"name", "repository", "path", "commit", "read", "trouble"}, none: "There is none yet. 'vergekeep policy source set' names one."}
					for _, x := range *r.JSON200 {
						said, _, _ := strings.Cut(x.Said, "\n")
						t.add(x.Name, x.Remote, orDash(x.Path), short(deref(x.Revision)), when(x.Read, now), orDash(said))
					}
					return a.print(cmd, r.JSON200, t)
				}),
			},
			{
				Name: "set", Usage: "have the policies and standards of a repository count; it is read again every five minutes", ArgsUsage: "NAME REPOSITORY", Description: example("vergekeep policy source set team git@git.skerry.example:network/rules.git --path audit"),
				Flags: []cli.Flag{&cli.StringFlag{Name: "path", Usage: "a folder within the repository"}},
				Action: a.with(2, "a name and a repository", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.SetDocumentSourceWithResponse(ctx, cmd.Args().First(), gen.DocumentSourceEdit{Remote: cmd.Args().Get(1), Path: set(cmd, "path")})
					if err := client.Check(r, err); err != nil {
						return err
					}
					return told(r.JSON200)
				}),
			},
			{
				Name: "read", Usage: "read one again now", ArgsUsage: "NAME", Description: example("vergekeep policy source read team"),
				Action: a.with(1, "a name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ReadDocumentSourceWithResponse(ctx, cmd.Args().First())
					if err := client.Check(r, err); err != nil {
						return err
					}
					return told(r.JSON200)
				}),
			},
			{
				Name: "delete", Usage: "its documents count no more", ArgsUsage: "NAME", Description: example("vergekeep policy source delete team"),
				Action: a.with(1, "a name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.DeleteDocumentSourceWithResponse(ctx, cmd.Args().First())
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintf(a.Out, "The documents of %s count no more.\n", cmd.Args().First())
					return nil
				}),
			},
		},
	}
}

func short(revision string) string { return orDash(revision[:min(len(revision), 12)]) }

func schemaCommand(a *app, kind, text string) *cli.Command {
	return &cli.Command{
		Name: "schema", Usage: "print the JSON Schema of the files", Description: example("vergekeep " + kind + " schema > " + kind + ".schema.json"),
		Action: func(context.Context, *cli.Command) error {
			_, err := fmt.Fprint(a.Out, text)
			return err
		},
	}
}

func (a *app) testPolicies(set dialect.Set, files []string) error {
	policies, _, err := readDocuments(set, files, nil)
	if err != nil {
		return err
	}
	good, bad, without := 0, 0, 0
	for _, p := range policies {
		tried, err := p.Try(set)
		if err != nil {
			return err
		}
		has := map[string]bool{}
		for _, x := range tried {
			has[x.Rule.ID] = true
			if x.Good {
				good++
				continue
			}
			bad++
			fmt.Fprintf(a.Out, "%s, line %d: the example should be %s, and is %s: %s\n", x.Rule.Name(), x.Example.Line, x.Example.Is, x.Result.Outcome, orDash(x.Result.Why))
			a.proofs("    ", x.Result.Proofs, x.Result.More)
		}
		without += len(p.Rules) - len(has)
	}
	fmt.Fprintf(a.Out, "%s as they should, %d do not.", plural(good, "example")+" do", bad)
	if without > 0 {
		fmt.Fprintf(a.Out, " %s without an example.", plural(without, "rule"))
	}
	fmt.Fprintln(a.Out)
	if bad > 0 {
		return yes{}
	}
	return nil
}

func (a *app) standardCommand() *cli.Command {
	return &cli.Command{
		Name: "standard", Usage: "golden configurations of classes of devices", Category: "What should be",
		Commands: append(a.documentCommands(gen.Standard, "sections", "access-switch"),
			&cli.Command{
				Name: "compare", Usage: "hold a device against a standard: what is lacking, surplus, altered, section by section", ArgsUsage: "DEVICE [STANDARD]",
				Description: example("vergekeep standard compare ng-acc-1", "vergekeep standard compare ng-acc-1 access-switch") + "\n\nThe exit status is 1 where they differ.",
				Action:      a.with(-1, "", a.compareStandard),
			},
			&cli.Command{
				Name: "derive", Usage: "draft a standard from what the devices of a class have in common, and name the odd ones out", ArgsUsage: "SELECTOR...",
				Description: example("vergekeep standard derive role=office", "vergekeep standard derive role=access site=Northgate --id access-switch -o access-switch.yaml") + "\n\nThe draft is printed, or written to a file; the odd ones are told beside it.",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "id", Usage: "name of the standard"}, &cli.StringFlag{Name: "title"},
					&cli.FloatFlag{Name: "share", Value: 0.8, Usage: "of the devices that have to have a line"},
					&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "write the draft to this file"},
				},
				Action: a.with(-1, "", a.derive),
			},
			&cli.Command{
				Name: "from", Usage: "draft a standard from sections of one good device, what is its own as slots", ArgsUsage: "REF",
				Description: example("vergekeep standard from ng-acc-1 --only 'interface port1/24' --only time", "vergekeep standard from ng-acc-1@3 --id access-switch --applies role=access -o access-switch.yaml") + "\n\nSlots stand for its name, its site, its addresses and those that its interfaces have.",
				Flags: []cli.Flag{
					&cli.StringSliceFlag{Name: "only", Usage: "pattern of the sections; all without"},
					&cli.StringFlag{Name: "applies", Usage: "selector of the devices that it is for"},
					&cli.StringFlag{Name: "id", Usage: "name of the standard"}, &cli.StringFlag{Name: "title"},
					&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "write the draft to this file"},
				},
				Action: a.with(1, "a ref", a.draft),
			},
			&cli.Command{
				Name: "value", Usage: "set a device's values of slots that have one for each device", ArgsUsage: "STANDARD DEVICE SLOT=VALUE...", Description: example("vergekeep standard value access-switch ng-acc-1 uplink=port1/24"),
				Action: a.with(-1, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					if cmd.Args().Len() < 3 {
						return fmt.Errorf("a standard, a device and values are missing\nSee '%s --help'", cmd.FullName())
					}
					values := map[string]string{}
					for _, x := range cmd.Args().Slice()[2:] {
						slot, v, ok := strings.Cut(x, "=")
						if !ok {
							return fmt.Errorf("%q is no value of a slot; write SLOT=VALUE, and SLOT= to take it away", x)
						}
						values[slot] = v
					}
					r, err := c.SetSlotValuesWithResponse(ctx, cmd.Args().First(), gen.SlotValues{Device: cmd.Args().Get(1), Values: values})
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintln(a.Out, "Set.")
					return nil
				}),
			},
			schemaCommand(a, "standard", standard.SchemaText)),
	}
}

func (a *app) compareStandard(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	if n := cmd.Args().Len(); n < 1 || n > 2 {
		return fmt.Errorf("a device is missing\nSee '%s --help'", cmd.FullName())
	}
	p := &gen.CompareStandardParams{Device: cmd.Args().First()}
	if name := cmd.Args().Get(1); name != "" {
		p.Standard = &name
	}
	r, err := c.CompareStandardWithResponse(ctx, p)
	if err := client.Check(r, err); err != nil {
		return err
	}
	x := r.JSON200
	differs := false
	t := &table{head: []string{"section", "outcome", "agree", "kind", "line", "should be", "is"}}
	for _, s := range x.Sections {
		agree := fmt.Sprintf("%d of %d", s.Agreed, s.Lines)
		if len(s.Deviations) == 0 {
			t.add(s.Id, string(s.Outcome), agree, "", "", "", s.Why)
		}
		for i, d := range s.Deviations {
			differs = true
			id, outcome, line := s.Id, string(s.Outcome), ""
			if i > 0 {
				id, outcome, agree = "", "", ""
			}
			if d.Line != nil {
				line = fmt.Sprint(*d.Line)
			}
			want, _, more := strings.Cut(deref(d.Want), "\n")
			if more {
				want += " …"
			}
			t.add(id, outcome, agree, string(d.Kind), line, a.tint(addedTint, want), a.tint(removedTint, deref(d.Have)))
		}
	}
	if cmd.Root().String("format") == "table" {
		fmt.Fprintf(a.Out, "%s against the standard %s: %d of %d lines agree.\n\n", cmd.Args().First(), x.Standard, x.Agreed, x.Lines)
	}
	if err := a.print(cmd, x, t); err != nil {
		return err
	}
	if differs {
		return yes{}
	}
	return nil
}

func (a *app) derive(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	if !cmd.Args().Present() {
		return fmt.Errorf("a selector is missing\nSee '%s --help'", cmd.FullName())
	}
	share := float32(cmd.Float("share"))
	r, err := c.DeriveStandardWithResponse(ctx, gen.DeriveRequest{Selector: strings.Join(cmd.Args().Slice(), " "), Id: set(cmd, "id"), Title: set(cmd, "title"), Share: &share})
	if err := client.Check(r, err); err != nil {
		return err
	}
	x := r.JSON200
	said, err := a.writeDraft(cmd, x)
	if err != nil || said == nil {
		return err
	}
	fmt.Fprintf(said, "\n%s have %s in common; %s.\n", plural(x.Devices, "device"), plural(x.Common, "line"), plural(len(x.Slots), "slot"))
	if len(x.Odd) == 0 {
		fmt.Fprintln(said, "None is odd.")
		return nil
	}
	fmt.Fprintf(said, "%s odd:\n", plural(len(x.Odd), "device")+isAre(len(x.Odd)))
	for _, o := range x.Odd {
		fmt.Fprintf(said, "  %s\n", a.tint(bold, o.Device))
		for _, d := range o.Deviations {
			words := fmt.Sprintf("lacks %s", deref(d.Deviation.Want))
			switch d.Deviation.Kind {
			case gen.DeviationKindSurplus:
				words = "has " + deref(d.Deviation.Have)
			case gen.DeviationKindAltered:
				words = fmt.Sprintf("has %s, where others have %s", deref(d.Deviation.Have), deref(d.Deviation.Want))
			case gen.DeviationKindMoved:
				words = deref(d.Deviation.Have) + " stands elsewhere"
			}
			words, _, _ = strings.Cut(words, "\n")
			where := strings.Join(d.Deviation.Path, " > ")
			if where != "" {
				where = "in " + where + ": "
			}
			fmt.Fprintf(said, "    %s%s  %s\n", where, words, a.tint(faint, fmt.Sprintf("— %d of %d have it so", d.With, x.Devices)))
		}
	}
	return nil
}

func (a *app) draft(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	in := gen.DraftRequest{Ref: cmd.Args().First(), Id: set(cmd, "id"), Title: set(cmd, "title"), Applies: set(cmd, "applies")}
	if only := cmd.StringSlice("only"); len(only) > 0 {
		in.Only = &only
	}
	r, err := c.DraftStandardWithResponse(ctx, &gen.DraftStandardParams{Zone: zone()}, in)
	if err := client.Check(r, err); err != nil {
		return err
	}
	said, err := a.writeDraft(cmd, r.JSON200)
	if err != nil || said == nil {
		return err
	}
	fmt.Fprintf(said, "\n%s; %s.\n", plural(r.JSON200.Common, "line"), plural(len(r.JSON200.Slots), "slot"))
	for _, s := range r.JSON200.Slots {
		fmt.Fprintf(said, "  %s  %s\n", s.Name, a.tint(faint, s.Type+": "+s.Line))
	}
	return nil
}

// writeDraft writes a draft where it is wanted, and says where the rest may be told; nil
// for nowhere.
func (a *app) writeDraft(cmd *cli.Command, x *gen.Draft) (io.Writer, error) {
	if cmd.Root().String("format") != "table" {
		return nil, a.print(cmd, x, &table{})
	}
	if file := cmd.String("output"); file != "" {
		return a.Out, os.WriteFile(file, []byte(x.Text), 0o644)
	}
	_, err := fmt.Fprint(a.Out, x.Text)
	return a.Err, err
}

func isAre(n int) string {
	if n == 1 {
		return " is"
	}
	return " are"
}
