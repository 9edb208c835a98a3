package cli

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"vergekeep/client"
	"vergekeep/client/gen"
)

// deletion is the verb that takes something of a name away.
func (a *app) deletion(sample, said string, f func(context.Context, *client.Client, string) error) *cli.Command {
	return &cli.Command{
		Name: "delete", Usage: "take one away", ArgsUsage: "NAME", Description: example(sample),
		Action: a.with(1, "the name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			if err := f(ctx, c, cmd.Args().First()); err != nil {
				return err
			}
			fmt.Fprintln(a.Out, said)
			return nil
		}),
	}
}

func (a *app) channelCommand() *cli.Command {
	return &cli.Command{
		Name: "channel", Usage: "where word of what happens can go", Category: "Keeping",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list channels", Description: example("vergekeep channel list"),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ListChannelsWithResponse(ctx)
					if err := client.Check(r, err); err != nil {
						return err
					}
					t := &table{head: []string{"name", "kind", "to", "signed by"}}
					for _, x := range *r.JSON200 {
						t.add(x.Name, string(x.Kind), orDash(x.Target), orDash(x.Credential))
					}
					return a.print(cmd, r.JSON200, t)
				}),
			},
			{
				Name: "set", Usage: "make or change a channel", ArgsUsage: "NAME",
				Description: example("vergekeep channel set team --mail noc@skerry.example", "vergekeep channel set desk --hook https://desk.skerry.example/hooks/changes --credential desk-key",
					"vergekeep channel set logs --syslog tls://logs.skerry.example:6514", "vergekeep channel set team --console") +
					"\n\nThe channel 'team' is there from the first start, with subscriptions; give it an address and all of them go there. A hook is sent CloudEvents;\nwith a credential its token signs them (RFC 9421, hmac-sha256).",
				Flags: []cli.Flag{
					&cli.StringSliceFlag{Name: "mail", Usage: "to this address; may be given again"},
					&cli.StringFlag{Name: "hook", Usage: "to this web address"},
					&cli.StringFlag{Name: "syslog", Usage: "to this server: udp://, tcp:// or tls://host:port"},
					&cli.BoolFlag{Name: "console", Usage: "to the list of notices alone"},
					&cli.StringFlag{Name: "credential", Usage: "of a hook: whose token signs"},
				},
				Action: a.with(1, "a name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					in := gen.ChannelEdit{Credential: set(cmd, "credential")}
					kinds := 0
					if list := cmd.StringSlice("mail"); len(list) > 0 {
						target := strings.Join(list, ", ")
						in.Kind, in.Target = "mail", &target
						kinds++
					}
					for _, kind := range []string{"hook", "syslog"} {
						if cmd.IsSet(kind) {
							in.Kind, in.Target = gen.ChannelEditKind(kind), set(cmd, kind)
							kinds++
						}
					}
					if cmd.Bool("console") {
						in.Kind = "console"
						kinds++
					}
					if kinds != 1 {
						return errors.New("say one of --mail, --hook, --syslog and --console")
					}
					r, err := c.SetChannelWithResponse(ctx, cmd.Args().First(), in)
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintf(a.Out, "Set. Try it with 'vergekeep channel test %s'.\n", cmd.Args().First())
					return nil
				}),
			},
			{
				Name: "test", Usage: "send a message, to see that it arrives", ArgsUsage: "NAME", Description: example("vergekeep channel test team"),
				Action: a.with(1, "the name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.TestChannelWithResponse(ctx, cmd.Args().First())
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintln(a.Out, "It was taken.")
					return nil
				}),
			},
			a.deletion("vergekeep channel delete desk", "Gone.", func(ctx context.Context, c *client.Client, name string) error {
				r, err := c.DeleteChannelWithResponse(ctx, name)
				return client.Check(r, err)
			}),
		},
	}
}

func (a *app) subscriptionCommand() *cli.Command {
	flags := []cli.Flag{
		&cli.StringSliceFlag{Name: "event", Usage: "outside, change, round-failures, round or freshness; may be given again"},
		&cli.StringFlag{Name: "selector", Aliases: []string{"s"}, Usage: "of these devices"},
		&cli.StringFlag{Name: "severity", Usage: "of changes: low, medium, high: this one and above"},
		&cli.StringFlag{Name: "channel", Value: "team", Usage: "where it goes"},
		&cli.StringFlag{Name: "digest", Usage: "once a day at this time (07:00), or by a cron expression; at once if left out"},
		&cli.BoolFlag{Name: "idle", Usage: "a digest says so where nothing happened"},
		&cli.StringFlag{Name: "quiet", Usage: "hours in which nothing is sent: 22:00-06:00"},
		&cli.IntFlag{Name: "per-hour", Usage: "at most so many; what is more comes together (20 if left out)"},
		&cli.StringFlag{Name: "zone", Usage: "time zone; this machine's if left out"},
		&cli.StringFlag{Name: "subject", Usage: "a template (Go's text/template) with .Sentence, .Text, .Notices, .Count, .Device, .URL"},
		&cli.StringFlag{Name: "body", Usage: "likewise"},
		&cli.BoolFlag{Name: "paused", Usage: "it rests"},
	}
	read := func(cmd *cli.Command) (gen.SubscriptionEdit, error) {
		in := gen.SubscriptionEdit{Channel: cmd.String("channel"), Selector: set(cmd, "selector"), Severity: (*gen.Severity)(set(cmd, "severity")), Idle: setBool(cmd, "idle"), Quiet: set(cmd, "quiet"), PerHour: setInt(cmd, "per-hour"),
			Zone: set(cmd, "zone"), Subject: set(cmd, "subject"), Body: set(cmd, "body"), Paused: setBool(cmd, "paused"), Digest: set(cmd, "digest")}
		for _, e := range cmd.StringSlice("event") {
			in.Events = append(in.Events, gen.Happening(e))
		}
		if len(in.Events) == 0 {
			return in, errors.New("say at least one --event")
		}
		if in.Zone == nil {
			in.Zone = zone()
		}
		if in.Digest != nil {
			if at, err := time.Parse("15:04", *in.Digest); err == nil {
				daily := fmt.Sprintf("%d %d * * *", at.Minute(), at.Hour())
				in.Digest = &daily
			}
		}
		return in, nil
	}
	return &cli.Command{
		Name: "subscription", Usage: "who wants to know of what", Category: "Keeping",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list subscriptions", Description: example("vergekeep subscription list"),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ListSubscriptionsWithResponse(ctx)
					if err := client.Check(r, err); err != nil {
						return err
					}
					t := &table{head: []string{"name", "of", "devices", "from", "to", "when", "quiet", "at most"}, none: "Nobody is told of anything."}
					for _, x := range *r.JSON200 {
						events := make([]string, len(x.Events))
						for i, e := range x.Events {
							events[i] = string(e)
						}
						when := "at once"
						if x.Digest != "" {
							when = "digest " + x.Digest + " " + x.Zone
						}
						if x.Paused {
							when = "paused"
						}
						t.add(x.Name, strings.Join(events, ", "), orAll(x.Selector), string(x.Severity), x.Channel, when, orDash(x.Quiet), fmt.Sprintf("%d an hour", x.PerHour))
					}
					return a.print(cmd, r.JSON200, t)
				}),
			},
			{
				Name: "set", Usage: "make or change a subscription", ArgsUsage: "NAME",
				Description: example("vergekeep subscription set 'firewalls at once' --event change -s role=firewall", "vergekeep subscription set 'each morning' --event change --event freshness --digest 07:00 --idle", "vergekeep subscription set nights --event outside --quiet 22:00-06:00 --severity high"),
				Flags:       flags,
				Action: a.with(1, "a name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					in, err := read(cmd)
					if err != nil {
						return err
					}
					r, err := c.SetSubscriptionWithResponse(ctx, cmd.Args().First(), in)
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintln(a.Out, "Set.")
					return nil
				}),
			},
			{
				Name: "preview", Usage: "show the message that it would have sent about the newest things that it is for", Description: example("vergekeep subscription preview --event outside", "vergekeep subscription preview --event change --digest 07:00"),
				Flags: flags,
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					in, err := read(cmd)
					if err != nil {
						return err
					}
					r, err := c.PreviewSubscriptionWithResponse(ctx, in)
					if err := client.Check(r, err); err != nil {
						return err
					}
					if cmd.Root().String("format") != "table" {
						return a.print(cmd, r.JSON200, &table{head: []string{"subject", "text"}, rows: [][]string{{r.JSON200.Subject, r.JSON200.Text}}})
					}
					fmt.Fprintf(a.Out, "Subject: %s\n\n%s", r.JSON200.Subject, r.JSON200.Text)
					return nil
				}),
			},
			a.deletion("vergekeep subscription delete nights", "Gone.", func(ctx context.Context, c *client.Client, name string) error {
				r, err := c.DeleteSubscriptionWithResponse(ctx, name)
				return client.Check(r, err)
			}),
		},
	}
}

func (a *app) noticeCommand() *cli.Command {
	limit := &cli.IntFlag{Name: "limit", Value: 50, Usage: "at most so many"}
	return &cli.Command{
		Name: "notice", Usage: "what happened, and what became of telling it", Category: "Keeping",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list what happened, newest first", Description: example("vergekeep notice list"), Flags: []cli.Flag{limit},
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					n := cmd.Int("limit")
					r, err := c.ListNoticesWithResponse(ctx, &gen.ListNoticesParams{Limit: &n})
					if err := client.Check(r, err); err != nil {
						return err
					}
					t := &table{head: []string{"when", "what", "said"}, none: "Nothing happened."}
					now := time.Now()
					for _, x := range r.JSON200.Items {
						t.add(when(&x.At, now), x.Kind, x.Title)
					}
					return a.print(cmd, r.JSON200, t)
				}),
			},
			{
				Name: "deliveries", Usage: "list what is to be sent, or was, newest first", Description: example("vergekeep notice deliveries --state dead"),
				Flags: []cli.Flag{limit, &cli.StringFlag{Name: "state", Usage: "waiting, sent or dead (refused for good, or tried for three days)"}},
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					n := cmd.Int("limit")
					r, err := c.ListDeliveriesWithResponse(ctx, &gen.ListDeliveriesParams{Limit: &n, State: (*gen.ListDeliveriesParamsState)(set(cmd, "state"))})
					if err := client.Check(r, err); err != nil {
						return err
					}
					t := &table{head: []string{"delivery", "made", "subscription", "to", "things", "state", "tries", "next", "trouble"}, none: "Nothing was to be sent."}
					now := time.Now()
					for _, x := range r.JSON200.Items {
						next := "-"
						if x.State == "waiting" {
							next = when(&x.Due, now)
						}
						state := string(x.State)
						if x.State == "dead" {
							state = a.tint(alarm, "DEAD")
						}
						t.add(fmt.Sprint(x.Id), when(&x.Made, now), x.Subscription, x.Channel, fmt.Sprint(x.Notices), state, fmt.Sprint(x.Tries), next, orDash(deref(x.Trouble)))
					}
					return a.print(cmd, r.JSON200, t)
				}),
			},
			{
				Name: "retry", Usage: "try a delivery again now", ArgsUsage: "DELIVERY", Description: example("vergekeep notice retry 17"),
				Action: a.with(1, "the number of a delivery", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					id, err := strconv.ParseInt(cmd.Args().First(), 10, 64)
					if err != nil || id < 1 {
						return fmt.Errorf("%q is no number of a delivery; 'vergekeep notice deliveries' shows them", cmd.Args().First())
					}
					r, err := c.RetryDeliveryWithResponse(ctx, id)
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintln(a.Out, "It is tried again.")
					return nil
				}),
			},
		},
	}
}

// formOf is the form that a file's ending names.
func formOf(file string) (string, error) {
	switch form := file[strings.LastIndexByte(file, '.')+1:]; form {
	case "html", "pdf", "csv", "json":
		return form, nil
	}
	return "", fmt.Errorf("%q names no form; end it with .html, .pdf, .csv or .json", file)
}

func (a *app) changeReport() *cli.Command {
	return &cli.Command{
		Name: "report", Usage: "write a report of changes, or have it made by itself",
		Commands: []*cli.Command{
			{
				Name: "write", Usage: "write a report, without secrets", Description: example("vergekeep change report write --from 7d -o week.pdf", "vergekeep change report write --from 2026-11-01 --to 2026-11-08 -s role=firewall -o firewalls.csv"),
				Flags: append(changeFilters(), &cli.StringFlag{Name: "output", Aliases: []string{"o"}, Required: true, Usage: "the file; its ending says which: .html .pdf .csv .json", TakesFile: true}),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					p, err := changeParams(cmd)
					if err != nil {
						return err
					}
					ending, err := formOf(cmd.String("output"))
					if err != nil {
						return err
					}
					form := gen.ReportChangesParamsForm(ending)
					r, err := c.ReportChangesWithResponse(ctx, &gen.ReportChangesParams{Selector: p.Selector, From: p.From, To: p.To, Account: p.Account, Section: p.Section, Place: p.Place, Verdict: p.Verdict, Severity: p.Severity, Lines: p.Lines, Taken: p.Taken, Zone: p.Zone, Form: &form})
					if err := client.Check(r, err); err != nil {
						return err
					}
					return a.deliver(cmd, r.Body)
				}),
			},
			{
				Name: "list", Usage: "list reports that are made by themselves", Description: example("vergekeep change report list"),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ListReportsWithResponse(ctx)
					if err := client.Check(r, err); err != nil {
						return err
					}
					t := &table{head: []string{"name", "when", "tells of", "devices", "form", "to"}, none: "No report is made by itself."}
					for _, x := range *r.JSON200 {
						t.add(x.Name, x.Expression+" "+x.Zone, plural(x.Hours, "hour"), orAll(x.Selector), x.Form, x.Channel)
					}
					return a.print(cmd, r.JSON200, t)
				}),
			},
			{
				Name: "set", Usage: "have a report made by itself, and mailed", ArgsUsage: "NAME", Description: example("vergekeep change report set 'each Monday' --at '0 7 * * 1' --span 168h --form pdf --channel team"),
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "at", Required: true, Usage: "when, as a cron expression"},
					&cli.DurationFlag{Name: "span", Value: 7 * 24 * time.Hour, Usage: "how far back it tells"},
					&cli.StringFlag{Name: "form", Value: "pdf", Usage: "html, pdf or csv"},
					&cli.StringFlag{Name: "channel", Value: "team", Usage: "where it goes; one that is mailed"},
					&cli.StringFlag{Name: "selector", Aliases: []string{"s"}, Usage: "of these devices"},
					&cli.StringFlag{Name: "zone", Usage: "time zone; this machine's if left out"},
				},
				Action: a.with(1, "a name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					in := gen.ReportEdit{Expression: cmd.String("at"), Hours: int(cmd.Duration("span") / time.Hour), Form: gen.ReportEditForm(cmd.String("form")), Channel: cmd.String("channel"), Selector: set(cmd, "selector"), Zone: set(cmd, "zone")}
					if in.Zone == nil {
						in.Zone = zone()
					}
					r, err := c.SetReportWithResponse(ctx, cmd.Args().First(), in)
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintln(a.Out, "Set.")
					return nil
				}),
			},
			a.deletion("vergekeep change report delete 'each Monday'", "Gone.", func(ctx context.Context, c *client.Client, name string) error {
				r, err := c.DeleteReportWithResponse(ctx, name)
				return client.Check(r, err)
			}),
		},
	}
}

// questions are the verbs about cheap questions.
func (a *app) questionCommand() *cli.Command {
	return &cli.Command{
		Name: "question", Usage: "devices that are asked every few minutes whether they were changed",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list the questions", Description: example("vergekeep signal question list"),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ListCheapQuestionsWithResponse(ctx)
					if err := client.Check(r, err); err != nil {
						return err
					}
					t := &table{head: []string{"name", "devices", "every", "set by"}, none: "Nobody is asked. Devices that say nothing by themselves can be: see 'vergekeep signal question set --help'."}
					for _, x := range *r.JSON200 {
						t.add(x.Name, orAll(x.Selector), plural(x.Minutes, "minute"), x.Account)
					}
					return a.print(cmd, r.JSON200, t)
				}),
			},
			{
				Name: "set", Usage: "ask devices every few minutes", ArgsUsage: "NAME",
				Description: example("vergekeep signal question set 'the silent ones' -s 'site=\"Dry Dock\"' --every 5m") + "\n\nWhat is asked is the cheap question of their dialect: when, or how often, they were changed. Each device has a moment of its own.",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "selector", Aliases: []string{"s"}, Usage: "these devices"},
					&cli.DurationFlag{Name: "every", Value: 5 * time.Minute, Usage: "how often"},
				},
				Action: a.with(1, "a name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.SetCheapQuestionWithResponse(ctx, cmd.Args().First(), gen.CheapQuestionEdit{Selector: set(cmd, "selector"), Minutes: int(cmd.Duration("every") / time.Minute)})
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintln(a.Out, "They are asked from now on.")
					return nil
				}),
			},
			a.deletion("vergekeep signal question delete 'the silent ones'", "They are asked no longer.", func(ctx context.Context, c *client.Client, name string) error {
				r, err := c.DeleteCheapQuestionWithResponse(ctx, name)
				return client.Check(r, err)
			}),
		},
	}
}

func (a *app) askCommand() *cli.Command {
	return &cli.Command{
		Name: "ask", Usage: "ask devices now whether they were changed", ArgsUsage: "SELECTOR", Description: example("vergekeep signal ask 'site=\"Dry Dock\"'") + "\n\nOne that was is captured.",
		Action: a.with(1, "a selector", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			r, err := c.AskNowWithResponse(ctx, gen.Asking{Selector: cmd.Args().First()})
			if err := client.Check(r, err); err != nil {
				return err
			}
			t := &table{head: []string{"device", "changed", "answer"}}
			for _, x := range *r.JSON200 {
				changed, answer := "no", x.Answer
				switch {
				case x.Trouble != nil:
					changed, answer = "unknown", *x.Trouble
				case x.Changed:
					changed = a.tint(attention, "yes")
				}
				t.add(x.Device, changed, answer)
			}
			return a.print(cmd, r.JSON200, t)
		}),
	}
}
