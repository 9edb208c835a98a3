package cli

import (
	"context"
	"fmt"
	"os"
	"time"

	"github.com/urfave/cli/v3"

	"vergekeep/client"
	"vergekeep/client/gen"
)

func (a *app) windowCommand() *cli.Command {
	return &cli.Command{
		Name: "window", Usage: "agreed hours for changes, and hours in which nothing may change", Category: "Every day",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list agreed hours", Description: example("vergekeep window list"),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ListWindowsWithResponse(ctx)
					if err := client.Check(r, err); err != nil {
						return err
					}
					return a.windows(cmd, *r.JSON200, r.JSON200, "No hours are agreed, so that no change is outside them. See 'vergekeep window set --help'.")
				}),
			},
			{
				Name: "set", Usage: "agree on hours", ArgsUsage: "NAME",
				Description: example("vergekeep window set 'core nights' -s role=core --start 2026-11-24T22:00 --length 4h --rule 'FREQ=WEEKLY;BYDAY=TU,TH'",
					"vergekeep window set 'turn of the year' --freeze --start 2026-12-20T00:00 --length 336h") +
					"\n\nThe rule is a recurrence rule of calendars (RFC 5545, 3.3.10). Each opening lasts as long as any other, also in the night in which\nclocks are changed.",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "selector", Aliases: []string{"s"}, Usage: "for these devices"},
					&cli.StringFlag{Name: "start", Required: true, Usage: "of the first opening: 2026-11-24T22:00"},
					&cli.DurationFlag{Name: "length", Required: true, Usage: "of each opening: 4h"},
					&cli.StringFlag{Name: "rule", Usage: "when it opens again"},
					&cli.StringFlag{Name: "zone", Usage: "time zone; this machine's if left out"},
					&cli.StringSliceFlag{Name: "except", Usage: "an opening that does not come: 2026-12-24T22:00; may be given again"},
					&cli.BoolFlag{Name: "freeze", Usage: "nothing may change in it"},
					&cli.StringFlag{Name: "remark"},
				},
				Action: a.with(1, "a name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					length := cmd.Duration("length")
					if length < time.Minute || length%time.Minute != 0 {
						return fmt.Errorf("--length is in whole minutes, at least one")
					}
					in := gen.WindowEdit{Start: cmd.String("start"), Minutes: int(length / time.Minute), Rule: set(cmd, "rule"), Zone: set(cmd, "zone"), Selector: set(cmd, "selector"), Freeze: setBool(cmd, "freeze"), Remark: set(cmd, "remark"), Except: setList(cmd, "except")}
					if in.Zone == nil {
						in.Zone = zone()
					}
					r, err := c.SetWindowWithResponse(ctx, cmd.Args().First(), in)
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintln(a.Out, "Agreed, for changes that are found from now on.")
					return nil
				}),
			},
			{
				Name: "delete", Usage: "take agreed hours away", ArgsUsage: "NAME", Description: example("vergekeep window delete 'core nights'"),
				Action: a.with(1, "the name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.DeleteWindowWithResponse(ctx, cmd.Args().First())
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintln(a.Out, "Gone; changes keep what was said of them.")
					return nil
				}),
			},
			{
				Name: "import", Usage: "read windows from a calendar (.ics)", ArgsUsage: "FILE", Description: example("vergekeep window import ./agreed.ics -s site=Northgate --try"),
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "selector", Aliases: []string{"s"}, Usage: "of events that name none"},
					&cli.BoolFlag{Name: "freeze", Usage: "all of them are freezes"},
					&cli.BoolFlag{Name: "try", Usage: "show what would come, and change nothing"},
				},
				Action: a.with(1, "a file", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					text, err := os.ReadFile(cmd.Args().First())
					if err != nil {
						return err
					}
					r, err := c.ImportWindowsWithResponse(ctx, gen.Calendar{Text: string(text), Selector: set(cmd, "selector"), Freeze: setBool(cmd, "freeze"), Try: setBool(cmd, "try"), Zone: zone()})
					if err := client.Check(r, err); err != nil {
						return err
					}
					return a.windows(cmd, *r.JSON200, r.JSON200, "The calendar holds no events.")
				}),
			},
			{
				Name: "export", Usage: "write the windows as a calendar (.ics)", Description: example("vergekeep window export > windows.ics"),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ExportWindowsWithResponse(ctx)
					if err := client.Check(r, err); err != nil {
						return err
					}
					return a.deliver(cmd, r.Body)
				}),
			},
		},
	}
}

func (a *app) windows(cmd *cli.Command, list []gen.Window, raw any, none string) error {
	t := &table{head: []string{"name", "what", "devices", "when", "next", "remark"}, none: none}
	now := time.Now()
	for _, w := range list {
		what, next := "window", "never again"
		if w.Freeze {
			what = "freeze"
		}
		switch {
		case deref(w.Open):
			next = a.tint(bold, "open now")
		case w.Next != nil:
			next = w.Next.Local().Format("Mon 2 Jan 15:04")
			if w.Next.Year() != now.Year() {
				next = w.Next.Local().Format("2006-01-02 15:04")
			}
		}
		t.add(w.Name, what, orAll(w.Selector), w.Said, next, orDash(deref(w.Remark)))
	}
	return a.print(cmd, raw, t)
}
