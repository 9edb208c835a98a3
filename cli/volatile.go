package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"vergekeep/client"
	"vergekeep/client/gen"
)

func (a *app) volatileCommand() *cli.Command {
	where := []cli.Flag{
		&cli.StringFlag{Name: "platform", Usage: "only in configurations of this platform"},
		&cli.StringFlag{Name: "selector", Aliases: []string{"s"}, Usage: "only in those of these devices"},
	}
	return &cli.Command{
		Name: "volatile", Usage: "lines that change by themselves, and what else does not count", Category: "Keeping",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list what does not count, besides what dialects say", Description: example("vergekeep volatile list"),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ListVolatilesWithResponse(ctx)
					if err := client.Check(r, err); err != nil {
						return err
					}
					t := &table{head: []string{"name", "pattern", "platform", "devices", "set by", "since", "remark"}, none: "Nothing is set aside besides what dialects say. See 'vergekeep volatile preview --help'."}
					for _, v := range *r.JSON200 {
						t.add(v.Name, v.Pattern, orDash(v.Platform), orAll(v.Selector), v.Account, when(&v.At, time.Now()), orDash(deref(v.Remark)))
					}
					return a.print(cmd, r.JSON200, t)
				}),
			},
			{
				Name: "preview", Usage: "show which past changes would not have been any", ArgsUsage: "PATTERN",
				Description: example("vergekeep volatile preview 'time > **'", "vergekeep volatile preview '... > last-seen **' --platform tidegate --since 90d"),
				Flags:       append([]cli.Flag{&cli.StringFlag{Name: "since", Value: "30d", Usage: "how far back: a time, as in a ref"}}, where...),
				Action: a.with(1, "a section pattern", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.PreviewVolatileWithResponse(ctx, gen.VolatileTrial{Pattern: cmd.Args().First(), Platform: set(cmd, "platform"), Selector: set(cmd, "selector"), Since: optional(cmd.String("since")), Zone: zone()})
					if err := client.Check(r, err); err != nil {
						return err
					}
					x := r.JSON200
					t := &table{head: []string{"change", "seen", "differences"}, none: "None of them would vanish."}
					now := time.Now()
					for _, rev := range x.Changes {
						t.add(rev.Ref, when(&rev.FirstSeen, now), orDash(marks(rev.Stats)))
					}
					if cmd.Root().String("format") == "table" {
						fmt.Fprintf(a.Out, "%d of %s since %s would not have been any.\n", len(x.Changes), plural(x.Looked, "change"), x.Since.Local().Format("2006-01-02 15:04"))
					}
					return a.print(cmd, x, t)
				}),
			},
			{
				Name: "set", Usage: "set lines aside: they stay in the text, and are no change", ArgsUsage: "NAME PATTERN",
				Description: example("vergekeep volatile set clock 'time > drift *' --platform tidegate", "vergekeep volatile set counters '... > hits *' -s group=firewalls --remark 'agreed 2026-11-20'") +
					"\n\nA line that holds a secret counts nevertheless.",
				Flags: append([]cli.Flag{&cli.StringFlag{Name: "remark"}}, where...),
				Action: a.with(2, "a name or a section pattern", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.SetVolatileWithResponse(ctx, cmd.Args().First(), gen.VolatileEdit{Pattern: cmd.Args().Get(1), Platform: set(cmd, "platform"), Selector: set(cmd, "selector"), Remark: set(cmd, "remark")})
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintf(a.Out, "Set aside from now on; what was archived stays.\n")
					return nil
				}),
			},
			{
				Name: "delete", Usage: "make lines count again", ArgsUsage: "NAME", Description: example("vergekeep volatile delete clock"),
				Action: a.with(1, "the name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.DeleteVolatileWithResponse(ctx, cmd.Args().First())
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintf(a.Out, "%s counts again.\n", cmd.Args().First())
					return nil
				}),
			},
		},
	}
}
