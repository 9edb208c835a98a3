package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"vergekeep/client"
	"vergekeep/client/gen"
	"vergekeep/core/audit"
	"vergekeep/core/selector"
)

func (a *app) findingCommand() *cli.Command {
	return &cli.Command{
		Name: "finding", Usage: "what audits found wrong, and what proves it", Category: "What should be",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list findings, the most severe first", Description: example("vergekeep finding list", "vergekeep finding list -s site=Northgate --severity high", "vergekeep finding list --rule management-plane/encrypted-access", "vergekeep finding list --control AC-17(2)") +
					"\n\nThe exit status is 1 where some are open.",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "selector", Aliases: []string{"s"}, Usage: "of these devices"},
					&cli.StringFlag{Name: "rule", Usage: "of this policy or standard, or of one rule or section of it: POLICY/RULE"},
					&cli.StringFlag{Name: "severity", Usage: "low, medium, high: this one and above"},
					&cli.StringFlag{Name: "state", Usage: "open, waived, closed or all; open and waived if left out"},
					&cli.StringFlag{Name: "control", Usage: "of rules that refer to this control"},
					&cli.StringFlag{Name: "owner"},
					&cli.IntFlag{Name: "limit", Value: 100, Usage: "at most so many"},
					&cli.BoolFlag{Name: "selector-only", Usage: "print the devices as a selector, for other commands"},
				},
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					limit := cmd.Int("limit")
					p := &gen.ListFindingsParams{Selector: set(cmd, "selector"), Severity: (*gen.Severity)(set(cmd, "severity")), State: (*gen.ListFindingsParamsState)(set(cmd, "state")), Control: set(cmd, "control"), Owner: set(cmd, "owner"), Limit: &limit}
					if document, item, _ := strings.Cut(cmd.String("rule"), "/"); document != "" {
						p.Document = &document
						if item != "" {
							p.Item = &item
						}
					}
					return a.listFindings(ctx, cmd, c, p)
				}),
			},
			{
				Name: "show", Usage: "show one: the lines that prove it, why it matters, what to type", ArgsUsage: "ID", Description: example("vergekeep finding show 12"),
				Action: a.with(1, "the number of a finding", a.showFinding),
			},
			{
				Name: "note", Usage: "say whose findings are, and what is known of them", ArgsUsage: "ID...", Description: example("vergekeep finding note 12 13 --owner neteng --reference 'ticket 2090'"),
				Flags: []cli.Flag{&cli.StringFlag{Name: "owner"}, &cli.StringFlag{Name: "reference"}, &cli.StringFlag{Name: "remark"}},
				Action: a.with(-1, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					ids, err := numbers(cmd, "finding")
					if err != nil {
						return err
					}
					r, err := c.NoteFindingsWithResponse(ctx, gen.FindingNote{Ids: ids, Owner: set(cmd, "owner"), Reference: set(cmd, "reference"), Remark: set(cmd, "remark")})
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintf(a.Out, "%s noted.\n", plural(len(ids), "finding"))
					return nil
				}),
			},
		},
	}
}

func (a *app) listFindings(ctx context.Context, cmd *cli.Command, c *client.Client, p *gen.ListFindingsParams) error {
	r, err := c.ListFindingsWithResponse(ctx, p)
	if err := client.Check(r, err); err != nil {
		return err
	}
	if cmd.Bool("selector-only") {
		names := map[string]bool{}
		for _, f := range r.JSON200.Items {
			names[f.Device] = true
		}
		if len(names) == 0 || len(r.JSON200.Items) < r.JSON200.Total {
			return fmt.Errorf("there are no such devices, or more findings than --limit")
		}
		fmt.Fprintln(a.Out, selector.Of(slices.Collect(maps.Keys(names))))
		return nil
	}
	now := time.Now()
	open := false
	t := &table{head: []string{"id", "severity", "device", "what", "why", "since", "state"}, none: "Nothing is wrong."}
	for _, f := range r.JSON200.Items {
		open = open || f.State == gen.FindingStateOpen
		name := f.Device
		if f.Part != "" {
			name += " " + f.Part
		}
		why, _, _ := strings.Cut(f.Why, "\n")
		t.add(fmt.Sprintf("#%d", f.Id), a.tint(severityTint(string(f.Severity)), string(f.Severity)), name, f.Name, why, when(&f.Opened, now), string(f.State))
	}
	if cmd.Root().String("format") == "table" && r.JSON200.Total > 0 {
		fmt.Fprintf(a.Out, "%s", plural(r.JSON200.Total, "finding"))
		if n := len(r.JSON200.Items); n < r.JSON200.Total {
			fmt.Fprintf(a.Out, ", of which %d are shown", n)
		}
		fmt.Fprint(a.Out, ".\n\n")
	}
	if err := a.print(cmd, r.JSON200, t); err != nil {
		return err
	}
	if open {
		return yes{}
	}
	return nil
}

func (a *app) showFinding(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	ids, err := numbers(cmd, "finding")
	if err != nil {
		return err
	}
	r, err := c.GetFindingWithResponse(ctx, ids[0])
	if err := client.Check(r, err); err != nil {
		return err
	}
	f := r.JSON200
	if cmd.Root().String("format") != "table" {
		return a.print(cmd, f, &table{})
	}
	now := time.Now()
	t := &table{head: []string{"field", "value"}}
	add := func(field, value string) {
		if value != "" {
			t.add(field, value)
		}
	}
	add("finding", fmt.Sprintf("#%d on %s", f.Id, f.Device))
	add("site", f.Site)
	add("what", a.tint(bold, f.Title))
	add("by", f.Name)
	add("severity", a.tint(severityTint(string(f.Severity)), string(f.Severity)))
	add("state", string(f.State))
	since := when(&f.Opened, now)
	if f.Times > 1 {
		since += fmt.Sprintf(", for the %d. time, first %s", f.Times, when(&f.First, now))
	}
	add("open since", since)
	if f.OpenedBy != nil {
		came := fmt.Sprintf("change #%d", *f.OpenedBy)
		if f.Account != nil {
			came += " by " + *f.Account
		}
		add("came by", came)
	}
	if f.Closed != nil {
		add("closed", when(f.Closed, now)+", "+deref(f.ClosedIn))
	}
	add("proved by", f.Ref)
	add("owner", deref(f.Owner))
	add("reference", deref(f.Reference))
	add("remark", deref(f.Remark))
	if w := f.Waiver; w != nil {
		add("waived", fmt.Sprintf("until %s by %s: %s", w.Until.Local().Format("2006-01-02 15:04"), w.Approved, w.Reason))
	}
	if f.Controls != nil {
		for scheme, list := range *f.Controls {
			add("control", scheme+" "+strings.Join(list, ", "))
		}
	}
	if err := a.print(cmd, f, t); err != nil {
		return err
	}
	fmt.Fprintf(a.Out, "\n%s\n", f.Why)
	proofs := make([]audit.Proof, len(f.Proofs))
	for i, p := range f.Proofs {
		proofs[i] = audit.Proof{Line: deref(p.Line), Path: p.Path, Text: deref(p.Text), Says: p.Says}
	}
	a.proofs("  ", proofs, f.More)
	if f.Rationale != nil {
		fmt.Fprintf(a.Out, "\nWhy it matters: %s\n", *f.Rationale)
	}
	if f.Fix != nil {
		if deref(f.FixIsCommands) {
			fmt.Fprintf(a.Out, "\nWhat to type:\n\n    %s\n", strings.ReplaceAll(strings.TrimSpace(*f.Fix), "\n", "\n    "))
		} else {
			fmt.Fprintf(a.Out, "\nWhat to do: %s\n", *f.Fix)
		}
	}
	return nil
}

func (a *app) waiverCommand() *cli.Command {
	return &cli.Command{
		Name: "waiver", Usage: "accepted exceptions: who, why, until when", Category: "What should be",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list waivers, those in force first", Description: example("vergekeep waiver list"),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ListWaiversWithResponse(ctx)
					if err := client.Check(r, err); err != nil {
						return err
					}
					now := time.Now()
					t := &table{head: []string{"id", "for", "devices", "until", "state", "approved by", "reason"}, none: "Nothing is waived."}
					for _, w := range *r.JSON200 {
						_, name, _ := strings.Cut(w.Document, ":")
						where := orAll(w.Selector)
						if w.Finding != nil {
							where = fmt.Sprintf("%s (finding %d)", deref(w.Device), *w.Finding)
						}
						state := string(w.State)
						if w.State == gen.InForce && w.Until.Before(now.AddDate(0, 0, 7)) {
							state = a.tint(attention, "runs out")
						}
						t.add(fmt.Sprint(w.Id), strings.TrimSuffix(name+"/"+w.Item, "/"), where, w.Until.Local().Format("2006-01-02 15:04"), state, w.Approved, w.Reason)
					}
					return a.print(cmd, r.JSON200, t)
				}),
			},
			{
				Name: "grant", Usage: "accept a finding, or a rule on some devices, until a time", ArgsUsage: "[FINDING]",
				Description: example("vergekeep waiver grant 12 --until 2026-12-24 --reason 'until the spare comes' --approved lead", "vergekeep waiver grant --rule management-plane/banner -s role=office --until 2027-03-01 --reason 'no room for one' --approved lead"),
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "rule", Usage: "POLICY/RULE or STANDARD/SECTION"}, &cli.StringFlag{Name: "selector", Aliases: []string{"s"}, Usage: "of the devices, with --rule"},
					&cli.StringFlag{Name: "until", Usage: "2026-12-24 or 2026-12-24T22:00", Required: true}, &cli.StringFlag{Name: "reason", Required: true}, &cli.StringFlag{Name: "approved", Usage: "by whom", Required: true},
				},
				Action: a.with(-1, "", a.grantWaiver),
			},
			{
				Name: "revoke", Usage: "take a waiver back", ArgsUsage: "ID", Description: example("vergekeep waiver revoke 3"),
				Action: a.with(1, "the number of a waiver", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					ids, err := numbers(cmd, "waiver")
					if err != nil {
						return err
					}
					r, err := c.RevokeWaiverWithResponse(ctx, ids[0])
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintf(a.Out, "The waiver %d is taken back.\n", ids[0])
					return nil
				}),
			},
		},
	}
}

func (a *app) grantWaiver(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	until, err := time.ParseInLocation("2006-01-02T15:04", cmd.String("until"), time.Local)
	if err != nil {
		if until, err = time.ParseInLocation("2006-01-02", cmd.String("until"), time.Local); err != nil {
			return fmt.Errorf("%q is no day; write for example 2026-12-24 or 2026-12-24T22:00", cmd.String("until"))
		}
	}
	in := gen.WaiverEdit{Until: until, Reason: cmd.String("reason"), Approved: cmd.String("approved")}
	switch {
	case cmd.Args().Len() == 1 && !cmd.IsSet("rule"):
		ids, err := numbers(cmd, "finding")
		if err != nil {
			return err
		}
		in.Finding = &ids[0]
	case cmd.Args().Len() == 0 && cmd.IsSet("rule"):
		document, item, _ := strings.Cut(cmd.String("rule"), "/")
		kind, err := a.kindOf(ctx, c, document)
		if err != nil {
			return err
		}
		document = kind + ":" + document
		in.Document, in.Item, in.Selector = &document, &item, set(cmd, "selector")
	default:
		return fmt.Errorf("name either one finding or --rule\nSee '%s --help'", cmd.FullName())
	}
	r, err := c.GrantWaiverWithResponse(ctx, in)
	if err := client.Check(r, err); err != nil {
		return err
	}
	fmt.Fprintf(a.Out, "Waived until %s; the number is %d.\n", until.Format("2006-01-02 15:04"), r.JSON200.Id)
	return nil
}

// kindOf says whether a name is a policy's or a standard's.
func (a *app) kindOf(ctx context.Context, c *client.Client, name string) (string, error) {
	if name == "running" || name == "startup" {
		return "baseline", nil
	}
	r, err := c.ListDocumentsWithResponse(ctx, &gen.ListDocumentsParams{})
	if err := client.Check(r, err); err != nil {
		return "", err
	}
	for _, d := range *r.JSON200 {
		if d.Name == name {
			return string(d.Kind), nil
		}
	}
	return "", fmt.Errorf("there is no policy or standard %q", name)
}

func (a *app) driftCommand() *cli.Command {
	return &cli.Command{
		Name: "drift", Usage: "how devices lie to their baselines", Category: "What should be",
		Commands: []*cli.Command{{
			Name: "list", Usage: "list configurations, those that drifted first", Description: example("vergekeep drift list", "vergekeep drift list -s role=core --drifted") + "\n\nThe exit status is 1 where some have drifted.",
			Flags: []cli.Flag{&cli.StringFlag{Name: "selector", Aliases: []string{"s"}}, &cli.BoolFlag{Name: "drifted", Usage: "only those that have"}},
			Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				r, err := c.ListDriftWithResponse(ctx, &gen.ListDriftParams{Selector: set(cmd, "selector")})
				if err := client.Check(r, err); err != nil {
					return err
				}
				now := time.Now()
				counts := map[gen.DriftState]int{}
				t := &table{head: []string{"configuration", "state", "baseline", "how far", "since", "changes", "blessed by"}, none: "There is none: nothing was captured, or the selector picks nothing."}
				for _, d := range *r.JSON200 {
					counts[d.State]++
					if cmd.Bool("drifted") && d.State != gen.Drifted {
						continue
					}
					var changes []string
					for _, id := range d.Changes {
						changes = append(changes, fmt.Sprintf("#%d", id))
					}
					baseline, state, since := "-", string(d.State), "-"
					if d.Baseline != nil {
						baseline = fmt.Sprintf("@%d", *d.Baseline)
					}
					if d.Since != nil {
						since = when(d.Since, now)
					}
					if d.State == gen.Drifted {
						state = a.tint(attention, state)
					}
					t.add(d.Ref, state, baseline, orDash(d.Far), since, orDash(strings.Join(changes, " ")), orDash(deref(d.Account)))
				}
				if cmd.Root().String("format") == "table" && len(*r.JSON200) > 0 {
					fmt.Fprintf(a.Out, "%d hold, %d have drifted, %d have no baseline.\n\n", counts[gen.Holds], counts[gen.Drifted], counts[gen.NoBaseline])
				}
				if err := a.print(cmd, r.JSON200, t); err != nil {
					return err
				}
				if counts[gen.Drifted] > 0 {
					return yes{}
				}
				return nil
			}),
		}},
	}
}
