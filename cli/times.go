package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"vergekeep/client"
	"vergekeep/client/gen"
	"vergekeep/core/ref"
)

func (a *app) linesCommand() *cli.Command {
	return &cli.Command{
		Name: "lines", Usage: "since when each line of a configuration stands", ArgsUsage: "REF", Category: "Every day",
		Description: example("vergekeep lines np-acc-2", "vergekeep lines hh-fw-1:running/guests@2026-11-20", "vergekeep lines np-acc-2 --younger-than 7d"),
		Flags:       []cli.Flag{&cli.StringFlag{Name: "younger-than", Usage: "only lines that came after this: 7d, 36h, 2026-11-20, or a moment"}},
		Action: a.with(1, "a ref", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			r, err := c.GetLinesWithResponse(ctx, &gen.GetLinesParams{Ref: cmd.Args().First(), Zone: zone()})
			if err := client.Check(r, err); err != nil {
				return noDevice(err, cmd.Args().First())
			}
			var after time.Time
			if s := cmd.String("younger-than"); s != "" {
				p, err := ref.ParsePoint(s, time.Local)
				if err != nil {
					return err
				}
				switch p.Kind {
				case ref.Time:
					after = p.Time
				case ref.Ago:
					after = time.Now().Add(-p.Ago)
				default:
					return fmt.Errorf("%q is no time; write for example 7d, 36h or 2026-11-20", s)
				}
			}
			x := r.JSON200
			by := map[int]gen.Revision{}
			for _, rev := range x.Revisions {
				by[rev.Number] = rev
			}
			now := time.Now()
			t := &table{head: []string{"since", "when", "by", "line", "text", "before"}, none: "No line is that young."}
			for i, l := range x.Lines {
				rev := by[l.Since]
				if rev.FirstSeen.Before(after) {
					continue
				}
				t.add(fmt.Sprintf("@%d", l.Since), when(&rev.FirstSeen, now), orDash(deref(rev.Author)), fmt.Sprint(i+1), l.Text, lineStory(l, by, now))
			}
			return a.print(cmd, x, t)
		}),
	}
}

// lineStory says what a line was before.
func lineStory(l gen.LineLife, by map[int]gen.Revision, now time.Time) string {
	var said []string
	if l.Was != nil {
		said = append(said, "was: "+*l.Was)
	}
	for _, b := range deref(l.Before) {
		from, last := by[b.From], by[b.Last]
		said = append(said, fmt.Sprintf("also @%d to @%d (%s to %s)", b.From, b.Last, when(&from.FirstSeen, now), when(&last.LastSeen, now)))
	}
	return strings.Join(said, "; ")
}

func (a *app) fleetCommand() *cli.Command {
	return &cli.Command{
		Name: "fleet", Usage: "the whole network at a time", Category: "Every day",
		Commands: []*cli.Command{{
			Name: "at", Usage: "what was in force at a time: as a list, a folder of files, or compared with another time", ArgsUsage: "TIME",
			Description: example("vergekeep fleet at 2026-11-01T02:00", "vergekeep fleet at 2026-11-20T18:00 --against 2026-11-23T07:00   Friday evening and this morning",
				"vergekeep fleet at 'before the core migration' --against now", "vergekeep fleet at 9d --output ./nine-days-ago --selector site=northgate"),
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "selector", Aliases: []string{"s"}, Usage: "only these devices"},
				&cli.StringFlag{Name: "against", Usage: "another time to compare with; now for this moment"},
				&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "write the configurations as files into this folder, which must not exist yet"},
			},
			Action: a.fleetAt,
		}},
	}
}

func (a *app) fleetAt(ctx context.Context, cmd *cli.Command) error {
	if err := exactly(cmd, 1, "a time"); err != nil {
		return err
	}
	c, err := a.connect(cmd)
	if err != nil {
		return err
	}
	at := cmd.Args().First()
	if other := cmd.String("against"); other != "" {
		to := &other
		if other == "now" {
			to = nil
		}
		r, err := c.CompareFleetWithResponse(ctx, &gen.CompareFleetParams{From: at, To: to, Selector: set(cmd, "selector"), Zone: zone()})
		if err := client.Check(r, err); err != nil {
			return err
		}
		return a.printFleetComparison(cmd, r.JSON200)
	}
	r, err := c.ListFleetAtWithResponse(ctx, &gen.ListFleetAtParams{At: &at, Selector: set(cmd, "selector"), Zone: zone()})
	if err := client.Check(r, err); err != nil {
		return err
	}
	x := r.JSON200
	if folder := cmd.String("output"); folder != "" {
		return a.fleetFiles(ctx, c, x, folder)
	}
	now := time.Now()
	t := &table{head: []string{"ref", "site", "in force since", "last seen", "lines"}, none: "Nothing had been captured yet."}
	if len(x.Without) == 0 {
		t.none = "The selector matches no device."
	}
	for _, d := range x.Configurations {
		t.add(d.Revision.Ref, orDash(d.Site), when(&d.Revision.FirstSeen, now), when(&d.Revision.LastSeen, now), fmt.Sprint(d.Revision.Lines))
	}
	if err := a.print(cmd, x, t); err != nil {
		return err
	}
	if len(x.Without) > 0 && cmd.Root().String("format") == "table" {
		of := strings.Join(x.Without, ", ")
		if len(x.Without) > 8 {
			of = plural(len(x.Without), "device")
		}
		fmt.Fprintf(a.Err, "Nothing had been captured yet of %s.\n", of)
	}
	return nil
}

func (a *app) printFleetComparison(cmd *cli.Command, x *gen.FleetComparison) error {
	now := time.Now()
	t := &table{head: []string{"device", "site", "then", "later", "changes", "differs"}, none: fmt.Sprintf("Nothing differs between %s and %s: %s are the same.", when(&x.From, now), when(&x.To, now), plural(x.Same, "configuration"))}
	for _, d := range x.Items {
		left, right, name, differs := "nothing yet", "-", d.Device, "new"
		if d.Left != nil {
			left = fmt.Sprintf("@%d", d.Left.Number)
			differs = "only order, blanks or what changes by itself"
			if m := marks(*d.Stats); m != "" {
				differs = m
			}
		}
		if d.Right != nil {
			right = fmt.Sprintf("@%d %s", d.Right.Number, when(&d.Right.FirstSeen, now))
			name, _, _ = strings.Cut(d.Right.Ref, "@")
		}
		t.add(name, orDash(d.Site), left, right, fmt.Sprint(deref(d.Revisions)), differs)
	}
	if err := a.print(cmd, x, t); err != nil {
		return err
	}
	if len(x.Items) == 0 {
		return nil
	}
	if cmd.Root().String("format") == "table" {
		fmt.Fprintf(a.Err, "%s differ between %s and %s; %d are the same.\n", plural(len(x.Items), "configuration"), when(&x.From, now), when(&x.To, now), x.Same)
	}
	return yes{}
}

// fleetFiles writes configurations as files: site/device, with the datastore and
// part in the name where it is not the running one.
func (a *app) fleetFiles(ctx context.Context, c *client.Client, x *gen.FleetAt, folder string) error {
	if err := os.Mkdir(folder, 0o700); err != nil {
		if errors.Is(err, os.ErrExist) {
			return fmt.Errorf("%s exists already; name a folder that does not", folder)
		}
		return err
	}
	for _, d := range x.Configurations {
		r, err := c.GetConfigurationWithResponse(ctx, &gen.GetConfigurationParams{Ref: d.Revision.Ref})
		if err := client.Check(r, err); err != nil {
			return err
		}
		name := d.Device
		if d.Revision.Datastore != "running" || d.Revision.Part != "" {
			name += "." + d.Revision.Datastore
		}
		if d.Revision.Part != "" {
			name += "." + d.Revision.Part
		}
		path := filepath.Join(folder, d.Site)
		if err := os.MkdirAll(path, 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(path, name+".cfg"), []byte(textOf(r.JSON200)), 0o600); err != nil {
			return err
		}
	}
	fmt.Fprintf(a.Err, "%s written to %s.\n", plural(len(x.Configurations), "configuration"), folder)
	return nil
}

func (a *app) momentCommand() *cli.Command {
	return &cli.Command{
		Name: "moment", Usage: "times of the whole fleet that have a name", Category: "Every day",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list them, the newest first", Description: example("vergekeep moment list"),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ListMomentsWithResponse(ctx)
					if err := client.Check(r, err); err != nil {
						return err
					}
					now := time.Now()
					t := &table{head: []string{"name", "when", "remark", "by"}, none: "No moment has a name yet; name this one with 'vergekeep moment set NAME'."}
					for _, m := range *r.JSON200 {
						t.add(m.Name, when(&m.At, now), orDash(m.Remark), m.Account)
					}
					return a.print(cmd, r.JSON200, t)
				}),
			},
			{
				Name: "set", Usage: "give a time a name, which refs can then use", ArgsUsage: "NAME",
				Description: example("vergekeep moment set 'before the core migration'", "vergekeep moment set audit-2026 --at 2026-11-20T18:00 --remark 'what the auditor saw'", "vergekeep diff 'hh-core-1@before the core migration' hh-core-1"),
				Flags:       []cli.Flag{&cli.StringFlag{Name: "at", Usage: "the time; now if left out"}, &cli.StringFlag{Name: "remark"}},
				Action: a.with(1, "a name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.SetMomentWithResponse(ctx, cmd.Args().First(), gen.MomentEdit{At: set(cmd, "at"), Remark: set(cmd, "remark"), Zone: zone()})
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintf(a.Err, "%q is %s.\n", r.JSON200.Name, r.JSON200.At.Local().Format("2006-01-02 15:04:05"))
					return nil
				}),
			},
			{
				Name: "delete", Usage: "take a name away; the archive stays as it is", ArgsUsage: "NAME", Description: example("vergekeep moment delete audit-2026"),
				Action: a.with(1, "a name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.DeleteMomentWithResponse(ctx, cmd.Args().First())
					return client.Check(r, err)
				}),
			},
		},
	}
}

func (a *app) noteCommand() *cli.Command {
	return &cli.Command{
		Name: "note", Usage: "pin a revision, name it, or remark on it", ArgsUsage: "REF", Category: "Every day",
		Description: example("vergekeep note hh-core-1@12 --pin --name 'before the migration'", "vergekeep note np-acc-2 --remark 'asked neteng on the telephone'", "vergekeep note np-acc-2 --clear"),
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "pin", Usage: "it is never thinned out"},
			&cli.StringFlag{Name: "name", Usage: "a name, which refs to this device can use"},
			&cli.StringFlag{Name: "remark"},
			&cli.BoolFlag{Name: "clear", Usage: "take the note away"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if err := exactly(cmd, 1, "a ref"); err != nil {
				return err
			}
			if !cmd.IsSet("pin") && !cmd.IsSet("name") && !cmd.IsSet("remark") && !cmd.Bool("clear") {
				return errors.New("say what to note: --pin, --name, --remark, or --clear")
			}
			conf, err := a.configuration(ctx, cmd, cmd.Args().First(), nil)
			if err != nil {
				return err
			}
			n := gen.Note{}
			if was := conf.Revision.Note; was != nil && !cmd.Bool("clear") {
				n = gen.Note{Pinned: was.Pinned, Name: was.Name, Remark: was.Remark}
			}
			if cmd.IsSet("pin") {
				n.Pinned = some(cmd.Bool("pin"))
			}
			if s := set(cmd, "name"); s != nil {
				n.Name = s
			}
			if s := set(cmd, "remark"); s != nil {
				n.Remark = s
			}
			c, err := a.connect(cmd)
			if err != nil {
				return err
			}
			r, err := c.SetNoteWithResponse(ctx, &gen.SetNoteParams{Ref: conf.Revision.Ref}, n)
			if err := client.Check(r, err); err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "Noted on %s.\n", r.JSON200.Ref)
			return nil
		},
	}
}

func (a *app) nearestCommand() *cli.Command {
	return &cli.Command{
		Name: "nearest", Usage: "whose configuration a stray file is, and which revision it is nearest to", ArgsUsage: "FILE",
		Description: example("vergekeep archive nearest ./from-the-field.cfg"),
		Flags:       []cli.Flag{&cli.StringFlag{Name: "selector", Aliases: []string{"s"}, Usage: "only among these devices"}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if err := exactly(cmd, 1, "a file"); err != nil {
				return err
			}
			text, err := readFile(cmd.Args().First())
			if err != nil {
				return err
			}
			c, err := a.connect(cmd)
			if err != nil {
				return err
			}
			r, err := c.FindNearestWithResponse(ctx, gen.StrayText{Text: []byte(text), Selector: set(cmd, "selector")})
			if err := client.Check(r, err); err != nil {
				return err
			}
			list := *r.JSON200
			now := time.Now()
			t := &table{head: []string{"revision", "alike", "in force since"}, none: "It has no line in common with any configuration."}
			for _, n := range list {
				alike := fmt.Sprintf("%.0f %%", 100*n.Alike)
				if n.Identical {
					alike = "identical"
				}
				t.add(n.Revision.Ref, alike, when(&n.Revision.FirstSeen, now))
			}
			if err := a.print(cmd, list, t); err != nil || len(list) == 0 || cmd.Root().String("format") != "table" {
				return err
			}
			w := bufio.NewWriter(a.Err)
			fmt.Fprintf(w, "See what differs with 'vergekeep diff %s %s'.\n", list[0].Revision.Ref, dotted(cmd.Args().First()))
			return w.Flush()
		},
	}
}

// dotted writes a path so that it is read as one.
func dotted(path string) string {
	if strings.HasPrefix(path, ".") || strings.Contains(path, "/") {
		return path
	}
	return "./" + path
}
