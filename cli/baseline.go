package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"vergekeep/client"
	"vergekeep/client/gen"
)

func (a *app) baselineCommand() *cli.Command {
	return &cli.Command{
		Name: "baseline", Usage: "the revisions that are blessed as known good", Category: "What should be",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list the baselines that are in force", Description: example("vergekeep baseline list"),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ListBaselinesWithResponse(ctx)
					if err := client.Check(r, err); err != nil {
						return err
					}
					now := time.Now()
					t := &table{head: []string{"revision", "in force since", "blessed by", "when", "remark"}, none: "Nothing is blessed yet. 'vergekeep baseline set REF' does it."}
					for _, b := range *r.JSON200 {
						t.add(b.Revision.Ref, when(&b.Revision.FirstSeen, now), b.Account, when(&b.At, now), orDash(deref(b.Remark)))
					}
					return a.print(cmd, r.JSON200, t)
				}),
			},
			{
				Name: "set", Usage: "bless revisions, all or none; REF@baseline is then what they were", ArgsUsage: "REF...",
				Description: example("vergekeep baseline set hh-core-1", "vergekeep baseline set hh-core-1@12 hh-core-1:startup --remark 'after the migration'", "vergekeep diff hh-core-1@baseline hh-core-1"),
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "remark"},
					&cli.BoolFlag{Name: "confirm", Usage: "a suspect revision too, which somebody has looked at"},
				},
				Action: a.with(-1, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					if cmd.Args().Len() == 0 {
						return fmt.Errorf("a ref is missing\nSee '%s --help'", cmd.FullName())
					}
					r, err := c.SetBaselinesWithResponse(ctx, gen.BaselineEdit{Refs: cmd.Args().Slice(), Remark: set(cmd, "remark"), Confirmed: setBool(cmd, "confirm"), Zone: zone()})
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintf(a.Out, "%s blessed.\n", plural(cmd.Args().Len(), "revision"))
					return nil
				}),
			},
			{
				Name: "bless", Usage: "bless what many devices have now; what would be otherwise is shown first", ArgsUsage: "SELECTOR...",
				Description: example("vergekeep baseline bless role=access --authorised --try", "vergekeep baseline bless site=Northgate --authorised --remark 'looked through on Monday' --yes"),
				Flags: []cli.Flag{
					&cli.BoolFlag{Name: "authorised", Usage: "only devices whose last change was authorised, or that never changed"},
					&cli.BoolFlag{Name: "try", Usage: "only show"}, &cli.BoolFlag{Name: "yes", Usage: "do not ask"}, &cli.StringFlag{Name: "remark"},
				},
				Action: a.with(-1, "", a.blessMany),
			},
			{
				Name: "delete", Usage: "take a configuration's baseline away; its history stays", ArgsUsage: "REF", Description: example("vergekeep baseline delete hh-core-1"),
				Flags: []cli.Flag{&cli.StringFlag{Name: "remark"}},
				Action: a.with(1, "a ref", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.DeleteBaselineWithResponse(ctx, &gen.DeleteBaselineParams{Ref: cmd.Args().First(), Remark: set(cmd, "remark")})
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintf(a.Out, "%s has no baseline any more.\n", cmd.Args().First())
					return nil
				}),
			},
		},
	}
}

func (a *app) blessMany(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	if !cmd.Args().Present() {
		return fmt.Errorf("a selector is missing\nSee '%s --help'", cmd.FullName())
	}
	try := true
	in := gen.BlessMany{Selector: strings.Join(cmd.Args().Slice(), " "), Authorised: setBool(cmd, "authorised"), Remark: set(cmd, "remark"), Try: &try}
	r, err := c.BlessManyWithResponse(ctx, in)
	if err := client.Check(r, err); err != nil {
		return err
	}
	t := &table{head: []string{"revision", "now", "what is otherwise", "look out"}, none: "All of them are their own baselines already."}
	n := 0
	for _, b := range *r.JSON200 {
		warning := ""
		switch {
		case b.Suspect != nil:
			warning = a.tint(attention, "suspect, and left out: bless it alone with --confirm")
		case b.Unsaved:
			warning = a.tint(attention, "not saved: after a restart the device comes up otherwise")
		}
		if b.Suspect == nil {
			n++
		}
		t.add(b.Ref, b.State, orDash(b.Far), warning)
	}
	if cmd.Bool("try") || n == 0 {
		return a.print(cmd, r.JSON200, t)
	}
	if !cmd.Bool("yes") {
		if err := a.print(cmd, r.JSON200, t); err != nil {
			return err
		}
		answer, err := a.ask(fmt.Sprintf("Shall %s be blessed? yes or no: ", plural(n, "revision")), false)
		if err != nil {
			return fmt.Errorf("%w\nSay --yes where nobody can be asked", err)
		}
		if answer != "yes" && answer != "y" {
			fmt.Fprintln(a.Out, "Nothing was changed.")
			return nil
		}
	}
	in.Try = nil
	if r, err = c.BlessManyWithResponse(ctx, in); err == nil {
		err = client.Check(r, err)
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(a.Out, "%s blessed.\n", plural(len(*r.JSON200), "revision"))
	return nil
}
