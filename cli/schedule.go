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

func (a *app) scheduleCommand() *cli.Command {
	times := []cli.Flag{
		&cli.StringFlag{Name: "cron", Usage: "five fields: minute, hour, day of the month, month, day of the week"},
		&cli.StringFlag{Name: "nightly", Usage: "each night at HH:MM"},
		&cli.StringFlag{Name: "weekly", Usage: "once a week: \"Sun 03:00\""},
		&cli.StringFlag{Name: "monthly", Usage: "once a month: \"1 03:00\""},
		&cli.StringFlag{Name: "zone", Usage: "time zone, such as Europe/Oslo; UTC if left out"},
		&cli.StringFlag{Name: "for", Usage: "selector; all devices if left out"},
		&cli.StringFlag{Name: "description"},
		&cli.IntFlag{Name: "spread", Usage: "minutes over which the visits begin, so that no link is flooded"},
		&cli.IntFlag{Name: "tries", Usage: "visits to a device while it fails for a reason that may pass; 3 if left out"},
		&cli.StringFlag{Name: "missed", Usage: "run or skip what fell due while the service was down; run if left out"},
	}
	state := func(name, usage string, paused bool, said string) *cli.Command {
		return &cli.Command{
			Name: name, Usage: usage, ArgsUsage: "NAME", Description: example("vergekeep schedule " + name + " nightly"),
			Action: a.with(1, "the schedule's name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				r, err := c.EditScheduleWithResponse(ctx, cmd.Args().First(), gen.ScheduleEdit{Paused: &paused})
				if err := client.Check(r, err); err != nil {
					return err
				}
				fmt.Fprintf(a.Out, "%s %s.\n", r.JSON200.Name, said)
				return nil
			}),
		}
	}
	return &cli.Command{
		Name: "schedule", Usage: "when rounds happen by themselves", Category: "Keeping",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list schedules", Description: example("vergekeep schedule list"),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ListSchedulesWithResponse(ctx)
					if err := client.Check(r, err); err != nil {
						return err
					}
					return a.printSchedules(cmd, *r.JSON200, r.JSON200)
				}),
			},
			{
				Name: "next", Usage: "list the coming rounds, and how many devices each meets", Description: example("vergekeep schedule next --count 5"),
				Flags: []cli.Flag{&cli.IntFlag{Name: "count", Value: 10, Usage: "how many"}},
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					count := cmd.Int("count")
					r, err := c.ListComingWithResponse(ctx, &gen.ListComingParams{Count: &count})
					if err := client.Check(r, err); err != nil {
						return err
					}
					t := &table{head: []string{"when", "schedule", "devices"}, none: "No round is coming: there is no schedule that is not paused."}
					for _, x := range *r.JSON200 {
						t.add(x.At.Local().Format("Mon 2 Jan 15:04 MST"), x.Schedule, fmt.Sprint(x.Devices))
					}
					return a.print(cmd, r.JSON200, t)
				}),
			},
			{
				Name: "add", Usage: "add a schedule", ArgsUsage: "NAME",
				Description: example("vergekeep schedule add vessels --nightly 03:30 --zone Europe/Oslo --for site=Vessels --spread 30", "vergekeep schedule add edges --cron '0 */6 * * *' --for role=edge"),
				Flags:       times,
				Action: a.with(1, "the schedule's name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					expression, err := cronOf(cmd)
					if err != nil {
						return err
					}
					if expression == nil {
						return fmt.Errorf("say when: --nightly, --weekly, --monthly or --cron\nSee '%s --help'", cmd.FullName())
					}
					in := gen.NewSchedule{
						Name: cmd.Args().First(), Expression: *expression, Zone: set(cmd, "zone"), Selector: set(cmd, "for"), Description: set(cmd, "description"),
						SpreadMinutes: setInt(cmd, "spread"), Tries: setInt(cmd, "tries"), Missed: (*gen.NewScheduleMissed)(set(cmd, "missed")),
					}
					r, err := c.AddScheduleWithResponse(ctx, in)
					if err := client.Check(r, err); err != nil {
						return err
					}
					return a.printSchedules(cmd, []gen.Schedule{*r.JSON201}, r.JSON201)
				}),
			},
			{
				Name: "edit", Usage: "change a schedule", ArgsUsage: "NAME", Description: example("vergekeep schedule edit nightly --nightly 01:30 --zone Europe/Oslo"),
				Flags: append(times, &cli.StringFlag{Name: "name", Usage: "a new name"}),
				Action: a.with(1, "the schedule's name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					expression, err := cronOf(cmd)
					if err != nil {
						return err
					}
					in := gen.ScheduleEdit{
						Name: set(cmd, "name"), Expression: expression, Zone: set(cmd, "zone"), Selector: set(cmd, "for"), Description: set(cmd, "description"),
						SpreadMinutes: setInt(cmd, "spread"), Tries: setInt(cmd, "tries"), Missed: (*gen.ScheduleEditMissed)(set(cmd, "missed")),
					}
					r, err := c.EditScheduleWithResponse(ctx, cmd.Args().First(), in)
					if err := client.Check(r, err); err != nil {
						return err
					}
					return a.printSchedules(cmd, []gen.Schedule{*r.JSON200}, r.JSON200)
				}),
			},
			{
				Name: "copy", Usage: "make a paused copy of a schedule, to change", ArgsUsage: "NAME NEW", Description: example("vergekeep schedule copy nightly weekends"),
				Action: a.with(2, "the schedule's name or the copy's", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					all, err := c.ListSchedulesWithResponse(ctx)
					if err := client.Check(all, err); err != nil {
						return err
					}
					for _, x := range *all.JSON200 {
						if !strings.EqualFold(x.Name, cmd.Args().First()) {
							continue
						}
						in := gen.NewSchedule{
							Name: cmd.Args().Get(1), Expression: x.Expression, Zone: &x.Zone, Selector: &x.Selector, Description: &x.Description,
							SpreadMinutes: &x.SpreadMinutes, Tries: &x.Tries, Missed: (*gen.NewScheduleMissed)(&x.Missed), Paused: new(true),
						}
						r, err := c.AddScheduleWithResponse(ctx, in)
						if err := client.Check(r, err); err != nil {
							return err
						}
						return a.printSchedules(cmd, []gen.Schedule{*r.JSON201}, r.JSON201)
					}
					return fmt.Errorf("there is no schedule %q; see 'vergekeep schedule list'", cmd.Args().First())
				}),
			},
			state("pause", "let a schedule rest", true, "rests"),
			state("resume", "let a paused schedule fall due again", false, "falls due again"),
			{
				Name: "delete", Usage: "take a schedule away", ArgsUsage: "NAME", Description: example("vergekeep schedule delete weekends"),
				Action: a.with(1, "the schedule's name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.DeleteScheduleWithResponse(ctx, cmd.Args().First())
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintf(a.Out, "%s is gone.\n", cmd.Args().First())
					return nil
				}),
			},
		},
	}
}

// cronOf makes a cron expression of what the flags say; nil if they say nothing.
func cronOf(cmd *cli.Command) (*string, error) {
	clock := func(s string) (string, error) {
		at, err := time.Parse("15:04", s)
		if err != nil {
			return "", fmt.Errorf("%q is no time of the day; write for example 02:30", s)
		}
		return fmt.Sprintf("%d %d", at.Minute(), at.Hour()), nil
	}
	var given []string
	for _, flag := range []string{"cron", "nightly", "weekly", "monthly"} {
		if cmd.IsSet(flag) {
			given = append(given, flag)
		}
	}
	if len(given) > 1 {
		return nil, fmt.Errorf("--%s and --%s do not go together", given[0], given[1])
	}
	if len(given) == 0 {
		return nil, nil
	}
	value := cmd.String(given[0])
	first, rest, _ := strings.Cut(strings.TrimSpace(value), " ")
	var out string
	var err error
	switch given[0] {
	case "cron":
		out = value
	case "nightly":
		out, err = clock(value)
		out += " * * *"
	case "weekly":
		out, err = clock(strings.TrimSpace(rest))
		out += " * * " + first
	case "monthly":
		out, err = clock(strings.TrimSpace(rest))
		out += " " + first + " * *"
	}
	if err != nil && given[0] != "nightly" {
		err = fmt.Errorf("--%s: %w, such as --weekly \"Sun 03:00\" or --monthly \"1 03:00\"", given[0], err)
	}
	return &out, err
}

func (a *app) printSchedules(cmd *cli.Command, list []gen.Schedule, raw any) error {
	t := &table{head: []string{"name", "when", "zone", "over", "spread", "tries", "missed", "next"}, none: "There is no schedule. Add one with 'vergekeep schedule add'."}
	for _, s := range list {
		next := a.tint(attention, "paused")
		if s.Next != nil {
			next = s.Next.Local().Format("Mon 2 Jan 15:04 MST")
		}
		spread := "at once"
		if s.SpreadMinutes > 0 {
			spread = fmt.Sprintf("%d min", s.SpreadMinutes)
		}
		t.add(s.Name, s.Expression, s.Zone, orAll(s.Selector), spread, fmt.Sprint(s.Tries), string(s.Missed), next)
	}
	return a.print(cmd, raw, t)
}
