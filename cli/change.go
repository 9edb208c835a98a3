package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"vergekeep/client"
	"vergekeep/client/gen"
	"vergekeep/core/ref"
	"vergekeep/core/selector"
)

// changeFilters are the options that say which changes are meant.
func changeFilters() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "selector", Aliases: []string{"s"}, Usage: "of these devices"},
		&cli.StringFlag{Name: "from", Usage: "found since: 24h, 7d, 2026-11-20, a moment, last-round or last-window"},
		&cli.StringFlag{Name: "to", Usage: "found until"},
		&cli.StringFlag{Name: "account", Usage: "made by somebody with this in the name"},
		&cli.StringFlag{Name: "section", Usage: "touching a section with this in its heading"},
		&cli.StringSliceFlag{Name: "place", Usage: "inside, outside, perhaps, freeze or none of the agreed hours; may be given again"},
		&cli.StringSliceFlag{Name: "verdict", Usage: "open, authorised or unauthorised; may be given again"},
		&cli.StringFlag{Name: "severity", Usage: "low, medium, high: this one and above"},
		&cli.IntFlag{Name: "lines", Usage: "of at least so many lines"},
		&cli.BoolFlag{Name: "taken", Usage: "that somebody is on"},
		&cli.BoolFlag{Name: "untaken", Usage: "that nobody is on"},
	}
}

func changeParams(cmd *cli.Command) (*gen.ListChangesParams, error) {
	p := &gen.ListChangesParams{Selector: set(cmd, "selector"), From: set(cmd, "from"), To: set(cmd, "to"), Account: set(cmd, "account"), Section: set(cmd, "section"), Severity: (*gen.Severity)(set(cmd, "severity")), Lines: setInt(cmd, "lines"), Zone: zone()}
	if list := cmd.StringSlice("place"); len(list) > 0 {
		places := make([]gen.Place, len(list))
		for i, v := range list {
			places[i] = gen.Place(v)
		}
		p.Place = &places
	}
	if list := cmd.StringSlice("verdict"); len(list) > 0 {
		verdicts := make([]gen.Verdict, len(list))
		for i, v := range list {
			verdicts[i] = gen.Verdict(v)
		}
		p.Verdict = &verdicts
	}
	switch yes, no := true, false; {
	case cmd.Bool("taken") && cmd.Bool("untaken"):
		return nil, errors.New("--taken and --untaken leave nothing over; give one of them")
	case cmd.Bool("taken"):
		p.Taken = &yes
	case cmd.Bool("untaken"):
		p.Taken = &no
	}
	return p, nil
}

func (a *app) changeCommand() *cli.Command {
	return &cli.Command{
		Name: "change", Usage: "what changed, by whom, and whether it was authorised", Category: "Every day",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list changes, newest first",
				Description: example("vergekeep change list --from 24h", "vergekeep change list --waiting", "vergekeep change list --place outside --place freeze --from 7d", "vergekeep change list -s role=firewall --section rules --from last-window") +
					"\n\nThe exit status is 1 where changes are listed whose verdict is open.",
				Flags: append(changeFilters(),
					&cli.BoolFlag{Name: "waiting", Usage: "those that wait for a verdict, oldest first"},
					&cli.IntFlag{Name: "limit", Value: 50, Usage: "at most so many"}),
				Action: a.with(0, "", a.changeList),
			},
			{
				Name: "show", Usage: "show one change: who, when, and what differs", ArgsUsage: "ID", Description: example("vergekeep change show 412"),
				Action: a.with(1, "the number of a change", a.changeShow),
			},
			a.changeJudge("authorise", "say that changes were authorised, and by what", gen.VerdictAuthorised, "vergekeep change authorise 412 --reference 'ticket 2041'"),
			a.changeJudge("reject", "say that changes were not authorised", gen.VerdictUnauthorised, "vergekeep change reject 412 --remark 'nobody knows of it; put back by neteng'"),
			a.changeJudge("reopen", "take a verdict back", gen.VerdictOpen, "vergekeep change reopen 412"),
			a.changeTake("take", "say that you are on changes", true),
			a.changeTake("leave", "say that you are no longer on them", false),
			{
				Name: "patterns", Usage: "which devices, accounts, sections and hours have most changes, and what is made and undone",
				Description: example("vergekeep change patterns --from 30d", "vergekeep change patterns --from 7d -s role=access --by account"),
				Flags:       append(changeFilters(), &cli.StringFlag{Name: "by", Value: "device", Usage: "device, account, section, hour or undone"}),
				Action:      a.with(0, "", a.changePatterns),
			},
			a.changeReport(),
			a.changeRule(),
			a.changeAnnounce(),
		},
	}
}

// places are the words for how a change lies to agreed hours.
var places = map[gen.Place]string{"inside": "inside", "outside": "OUTSIDE", "perhaps": "perhaps", "freeze": "IN A FREEZE", "none": "-"}

// changeWhen says when a change happened, as well as that is known.
func changeWhen(x *gen.Change, now time.Time) string {
	if x.First != nil {
		return when(x.Last, now)
	}
	from, to := when(&x.Since, now), when(&x.Found, now)
	if x.Since.Local().Format("2006-01-02") == x.Found.Local().Format("2006-01-02") {
		to = x.Found.Local().Format("15:04")
	}
	return from + " to " + to
}

func changeBy(x *gen.Change) string {
	if len(x.Accounts) == 0 {
		return "-"
	}
	by := strings.Join(x.Accounts, ", ")
	if len(x.Sources) > 0 {
		by += " from " + x.Sources[0]
	}
	return by
}

func changeVerdict(x *gen.Change) string {
	said := string(x.Verdict)
	if x.Verdict == gen.VerdictOpen && x.Taker != nil {
		return "open, " + *x.Taker + " is on it"
	}
	if x.Reference != nil {
		said += ", " + *x.Reference
	}
	return said
}

func (a *app) changeRow(t *table, x *gen.Change, now time.Time) {
	place := places[x.Place]
	if x.Place == "outside" || x.Place == "freeze" {
		place = a.tint(alarm, place)
	}
	sections := strings.Join(x.Sections[:min(len(x.Sections), 2)], "; ")
	if n := len(x.Sections) - 2; n > 0 {
		sections += fmt.Sprintf("; %d more", n)
	}
	if x.Undoes != nil {
		sections += fmt.Sprintf(" (undoes #%d)", *x.Undoes)
	}
	t.add(fmt.Sprintf("#%d", x.Id), x.Device, changeWhen(x, now), changeBy(x), place, marks(x.Stats), string(x.Severity), changeVerdict(x), sections)
}

var changeHead = []string{"change", "device", "when", "by", "agreed hours", "differences", "severity", "verdict", "where"}

func (a *app) changeList(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	p, err := changeParams(cmd)
	if err != nil {
		return err
	}
	if cmd.Bool("waiting") {
		if p.Verdict != nil {
			return errors.New("--waiting are those whose verdict is open; leave --verdict out")
		}
		p.Verdict = &[]gen.Verdict{gen.VerdictOpen}
		oldest := gen.ListChangesParamsOrder("oldest")
		p.Order = &oldest
	}
	limit := cmd.Int("limit")
	if limit < 1 || limit > 1000 {
		return errors.New("--limit is 1 to 1000")
	}
	p.Limit = &limit
	r, err := c.ListChangesWithResponse(ctx, p)
	if err := client.Check(r, err); err != nil {
		return err
	}
	t := &table{head: changeHead, none: "Nothing changed."}
	if cmd.Bool("waiting") {
		t.none = "No change waits for a verdict."
	}
	now, open, outside := time.Now(), 0, 0
	for i := range r.JSON200.Items {
		x := &r.JSON200.Items[i]
		a.changeRow(t, x, now)
		if x.Verdict == gen.VerdictOpen {
			open++
		}
		if x.Place == "outside" || x.Place == "freeze" {
			outside++
		}
	}
	if err := a.print(cmd, r.JSON200, t); err != nil {
		return err
	}
	if cmd.Root().String("format") == "table" && len(t.rows) > 0 {
		said := plural(r.JSON200.Total, "change")
		if len(t.rows) < r.JSON200.Total {
			said = fmt.Sprintf("%d of %s", len(t.rows), said)
		}
		fmt.Fprintf(a.Err, "%s; of these %d outside agreed hours, %d open.\n", said, outside, open)
	}
	if open > 0 {
		return yes{}
	}
	return nil
}

// numbers reads arguments that are numbers of things, with or without a #.
func numbers(cmd *cli.Command, thing string) ([]int64, error) {
	var ids []int64
	for _, arg := range cmd.Args().Slice() {
		id, err := strconv.ParseInt(strings.TrimPrefix(arg, "#"), 10, 64)
		if err != nil || id < 1 {
			return nil, fmt.Errorf("%q is no number of a %s; 'vergekeep %s list' shows them", arg, thing, thing)
		}
		ids = append(ids, id)
	}
	if len(ids) == 0 {
		return nil, fmt.Errorf("the number of a %s is missing\nSee '%s --help'", thing, cmd.FullName())
	}
	return ids, nil
}

func (a *app) changeShow(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	ids, err := numbers(cmd, "change")
	if err != nil {
		return err
	}
	r, err := c.GetChangeWithResponse(ctx, ids[0])
	if err := client.Check(r, err); err != nil {
		return err
	}
	x := r.JSON200
	t := &table{head: []string{"field", "value"}}
	fact := func(name, value string) {
		if value != "" && value != "-" {
			t.add(name, value)
		}
	}
	exact := func(at *time.Time) string {
		if at == nil {
			return ""
		}
		return at.Local().Format("2006-01-02 15:04:05")
	}
	fact("change", fmt.Sprintf("#%d of %s", x.Id, x.Device))
	fact("site", x.Site)
	if x.First != nil {
		fact("happened", exact(x.First)+" to "+exact(x.Last)+fmt.Sprintf(", by %s", plural(x.Signals, "signal")))
	} else {
		fact("happened", "between "+exact(&x.Since)+" and "+exact(&x.Found)+"; no signal tells more")
	}
	fact("found", exact(&x.Found)+fmt.Sprintf(", round %d", deref(x.Round)))
	fact("by", strings.Join(x.Accounts, ", "))
	fact("from", strings.Join(x.Sources, ", "))
	fact("method", strings.Join(x.Methods, ", "))
	place := places[x.Place]
	if x.Window != nil {
		place += " (" + *x.Window + ")"
	}
	fact("agreed hours", place)
	fact("severity", string(x.Severity))
	fact("differences", marks(x.Stats))
	for _, s := range x.Sections {
		fact("section", s)
	}
	if x.Undoes != nil {
		fact("undoes", fmt.Sprintf("change #%d", *x.Undoes))
	}
	fact("suspect", deref(x.Suspect))
	verdict := changeVerdict(x)
	if x.Judge != nil {
		verdict += fmt.Sprintf(", by %s, %s", *x.Judge, exact(x.Judged))
	}
	if x.Rule != nil {
		verdict += ", by the rule " + *x.Rule
	}
	fact("verdict", verdict)
	fact("remark", deref(x.Remark))
	if x.Taker != nil {
		fact("taken", "by "+*x.Taker+" since "+exact(x.Taken))
	}
	if err := a.print(cmd, x, t); err != nil || cmd.Root().String("format") != "table" {
		return err
	}
	for _, text := range x.Texts {
		if text.Before == nil {
			fmt.Fprintf(a.Out, "\n%s is new.\n", text.Ref)
			continue
		}
		none := 0
		cmp, err := a.askComparison(ctx, cmd, c, gen.ComparisonRequest{Left: gen.Source{Ref: text.Before}, Right: gen.Source{Ref: &text.Ref}, Context: &none, Zone: zone()}, [2]ref.Ref{})
		if err != nil {
			return err
		}
		fmt.Fprintln(a.Out)
		a.writeComparison(a.Out, cmp)
	}
	return nil
}

func (a *app) changeJudge(name, usage string, v gen.Verdict, sample string) *cli.Command {
	flags := []cli.Flag{&cli.StringFlag{Name: "remark", Usage: "what else there is to say"}}
	if v == gen.VerdictAuthorised {
		flags = append(flags, &cli.StringFlag{Name: "reference", Usage: "a ticket, a work order, a name", Required: true},
			&cli.BoolFlag{Name: "bless", Usage: "what the devices have now becomes their baseline, where their last change is authorised"})
	}
	return &cli.Command{
		Name: name, Usage: usage, ArgsUsage: "ID...", Description: example(sample), Flags: flags,
		Action: a.with(-1, "the number of a change", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			ids, err := numbers(cmd, "change")
			if err != nil {
				return err
			}
			in := gen.Judging{Ids: ids, Verdict: v, Remark: set(cmd, "remark")}
			if v == gen.VerdictAuthorised {
				in.Reference = set(cmd, "reference")
			}
			r, err := c.JudgeChangesWithResponse(ctx, in)
			if err := client.Check(r, err); err != nil {
				return err
			}
			for _, x := range *r.JSON200 {
				fmt.Fprintf(a.Out, "#%d of %s is %s.\n", x.Id, x.Device, changeVerdict(&x))
			}
			if v != gen.VerdictAuthorised {
				return nil
			}
			return a.moveBaselines(ctx, cmd, c, *r.JSON200)
		}),
	}
}

// moveBaselines blesses what devices have now that changes were authorised, or says
// how that is done.
func (a *app) moveBaselines(ctx context.Context, cmd *cli.Command, c *client.Client, list []gen.Change) error {
	var names []string
	for _, x := range list {
		if !slices.Contains(names, x.Device) {
			names = append(names, x.Device)
		}
	}
	authorised, try := true, !cmd.Bool("bless")
	r, err := c.BlessManyWithResponse(ctx, gen.BlessMany{Selector: selector.Of(names), Authorised: &authorised, Remark: set(cmd, "reference"), Try: &try})
	if err != nil || r.JSON200 == nil { // the verdict stands; there is nothing to bless
		return nil
	}
	var drifted []string
	for _, b := range *r.JSON200 {
		if b.Suspect == nil && b.Baseline != nil {
			drifted = append(drifted, b.Ref)
		}
	}
	switch {
	case len(drifted) == 0:
	case !try:
		fmt.Fprintf(a.Out, "The baseline is now %s.\n", strings.Join(drifted, ", "))
	default:
		fmt.Fprintf(a.Out, "The baseline is still the one from before; 'vergekeep baseline set %s' moves it, and --bless does so with the verdict.\n", strings.Join(drifted, " "))
	}
	return nil
}

func (a *app) changeTake(name, usage string, on bool) *cli.Command {
	return &cli.Command{
		Name: name, Usage: usage, ArgsUsage: "ID...", Description: example("vergekeep change " + name + " 412 413"),
		Action: a.with(-1, "the number of a change", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			ids, err := numbers(cmd, "change")
			if err != nil {
				return err
			}
			r, err := c.TakeChangesWithResponse(ctx, gen.Taking{Ids: ids, On: on})
			if err := client.Check(r, err); err != nil {
				return err
			}
			for _, x := range *r.JSON200 {
				said := "nobody is on it"
				if x.Taker != nil {
					said = *x.Taker + " is on it"
				}
				fmt.Fprintf(a.Out, "#%d of %s: %s.\n", x.Id, x.Device, said)
			}
			return nil
		}),
	}
}

func (a *app) changePatterns(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	p, err := changeParams(cmd)
	if err != nil {
		return err
	}
	r, err := c.OverviewChangesWithResponse(ctx, &gen.OverviewChangesParams{Selector: p.Selector, From: p.From, To: p.To, Account: p.Account, Section: p.Section, Place: p.Place, Verdict: p.Verdict, Severity: p.Severity, Lines: p.Lines, Taken: p.Taken, Zone: p.Zone})
	if err := client.Check(r, err); err != nil {
		return err
	}
	x := r.JSON200
	t := &table{none: "Nothing changed."}
	counted := func(head string, list []gen.Count) {
		t.head = []string{head, "changes", "outside", ""}
		most := 1
		for _, n := range list {
			most = max(most, n.Changes)
		}
		for _, n := range list {
			t.add(n.Name, fmt.Sprint(n.Changes), orDash(strings.TrimPrefix(fmt.Sprint(n.Outside), "0")), bar(n.Changes, most))
		}
	}
	switch by := cmd.String("by"); by {
	case "device":
		counted("device", x.ByDevice)
	case "account":
		counted("account", x.ByAccount)
		if x.Unknown > 0 {
			t.add("(no signal says who)", fmt.Sprint(x.Unknown), "", "")
		}
	case "section":
		counted("section", x.BySection)
	case "hour":
		t.head = []string{"hour", "mon", "tue", "wed", "thu", "fri", "sat", "sun"}
		for h := range 24 {
			cells := []string{fmt.Sprintf("%02d:00", h)}
			for _, day := range x.ByHour {
				cells = append(cells, orDash(strings.TrimPrefix(fmt.Sprint(day[h]), "0")))
			}
			t.add(cells...)
		}
	case "undone":
		t.head = []string{"device", "undone", "last"}
		for _, f := range x.Flapping {
			t.add(f.Device, fmt.Sprint(f.Undone), when(&f.Last, time.Now()))
		}
		t.none = "Nothing was undone."
	default:
		return fmt.Errorf("--by is device, account, section, hour or undone, not %q", by)
	}
	if cmd.Root().String("format") == "table" {
		fmt.Fprintf(a.Out, "%s on %s since %s: %d outside agreed hours, %d open, of %d nobody knows by whom.\n\n", plural(x.Changes, "change"), plural(x.Devices, "device"), x.From.Local().Format("2006-01-02 15:04"), x.Outside, x.Open, x.Unknown)
	}
	return a.print(cmd, x, t)
}

// bar draws a number against the most.
func bar(n, most int) string { return strings.Repeat("▇", (n*24+most-1)/most) }

func (a *app) changeRule() *cli.Command {
	return &cli.Command{
		Name: "rule", Usage: "what gives a verdict by itself",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list the rules", Description: example("vergekeep change rule list"),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ListVerdictRulesWithResponse(ctx)
					if err := client.Check(r, err); err != nil {
						return err
					}
					t := &table{head: []string{"name", "verdict", "reference", "devices", "by", "sections", "only inside", "at most"}, none: "No rule gives a verdict; people do."}
					for _, x := range *r.JSON200 {
						inside, most := "-", "-"
						if x.Inside {
							inside = "yes"
						}
						if x.Most > 0 {
							most = plural(x.Most, "line")
						}
						t.add(x.Name, string(x.Verdict), orDash(deref(x.Reference)), orAll(x.Selector), orDash(strings.Join(x.Accounts, " ")), orDash(strings.Join(x.Sections, "; ")), inside, most)
					}
					return a.print(cmd, r.JSON200, t)
				}),
			},
			{
				Name: "set", Usage: "make or change a rule", ArgsUsage: "NAME",
				Description: example("vergekeep change rule set 'desk moves' -s role=access --account neteng --account noc --inside --section 'interface * > description **' --reference 'standing order 7'"),
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "selector", Aliases: []string{"s"}, Usage: "on these devices"},
					&cli.StringSliceFlag{Name: "account", Usage: "made by this account and by none that is not named; * and ? match; may be given again"},
					&cli.StringSliceFlag{Name: "section", Usage: "a section pattern: nothing outside these changed; may be given again"},
					&cli.BoolFlag{Name: "inside", Usage: "only inside a window"},
					&cli.IntFlag{Name: "most", Usage: "of at most so many lines"},
					&cli.StringFlag{Name: "reference", Usage: "what authorises it"},
					&cli.BoolFlag{Name: "unauthorised", Usage: "the verdict is unauthorised"},
					&cli.StringFlag{Name: "remark"},
				},
				Action: a.with(1, "a name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					in := gen.VerdictRuleEdit{Selector: set(cmd, "selector"), Inside: setBool(cmd, "inside"), Most: setInt(cmd, "most"), Reference: set(cmd, "reference"), Remark: set(cmd, "remark"), Verdict: "authorised"}
					if cmd.Bool("unauthorised") {
						in.Verdict = "unauthorised"
					}
					in.Accounts, in.Sections = setList(cmd, "account"), setList(cmd, "section")
					r, err := c.SetVerdictRuleWithResponse(ctx, cmd.Args().First(), in)
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintln(a.Out, "In force for changes that come; verdicts that were given stay.")
					return nil
				}),
			},
			{
				Name: "delete", Usage: "take a rule away", ArgsUsage: "NAME", Description: example("vergekeep change rule delete 'desk moves'"),
				Action: a.with(1, "the name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.DeleteVerdictRuleWithResponse(ctx, cmd.Args().First())
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintln(a.Out, "Gone; verdicts that it gave stay.")
					return nil
				}),
			},
		},
	}
}

func setList(cmd *cli.Command, flag string) *[]string {
	list := cmd.StringSlice(flag)
	if len(list) == 0 {
		return nil
	}
	return &list
}

func (a *app) changeAnnounce() *cli.Command {
	return &cli.Command{
		Name: "announcement", Usage: "changes that are announced, and authorised when they come",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list what is announced", Description: example("vergekeep change announcement list"),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ListAnnouncementsWithResponse(ctx)
					if err := client.Check(r, err); err != nil {
						return err
					}
					t := &table{head: []string{"name", "from", "to", "reference", "devices", "by", "sections"}, none: "Nothing is announced."}
					for _, x := range *r.JSON200 {
						t.add(x.Name, x.From.Local().Format("2006-01-02 15:04"), x.To.Local().Format("2006-01-02 15:04"), x.Reference, orAll(x.Selector), orDash(strings.Join(x.Accounts, " ")), orDash(strings.Join(x.Sections, "; ")))
					}
					return a.print(cmd, r.JSON200, t)
				}),
			},
			{
				Name: "set", Usage: "announce a change", ArgsUsage: "NAME",
				Description: example("vergekeep change announcement set 'new trunk' --from 2026-11-24T22:00 --to 2026-11-25T02:00 --reference 'ticket 2077' -s name=ng-edge-1 --account neteng"),
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "from", Required: true, Usage: "when it may begin: 2026-11-24T22:00"},
					&cli.StringFlag{Name: "to", Required: true, Usage: "when it is over"},
					&cli.StringFlag{Name: "reference", Required: true, Usage: "a ticket, a work order, a name"},
					&cli.StringFlag{Name: "selector", Aliases: []string{"s"}, Usage: "on these devices"},
					&cli.StringSliceFlag{Name: "account", Usage: "by this account; may be given again"},
					&cli.StringSliceFlag{Name: "section", Usage: "a section pattern: nothing outside these; may be given again"},
					&cli.IntFlag{Name: "most", Usage: "of at most so many lines"},
					&cli.StringFlag{Name: "remark"},
				},
				Action: a.with(1, "a name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.SetAnnouncementWithResponse(ctx, cmd.Args().First(), gen.AnnouncementEdit{From: cmd.String("from"), To: cmd.String("to"), Zone: zone(), Reference: cmd.String("reference"), Selector: set(cmd, "selector"),
						Accounts: setList(cmd, "account"), Sections: setList(cmd, "section"), Most: setInt(cmd, "most"), Remark: set(cmd, "remark")})
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintln(a.Out, "Announced: what comes and fits is authorised.")
					return nil
				}),
			},
			{
				Name: "delete", Usage: "take an announcement back", ArgsUsage: "NAME", Description: example("vergekeep change announcement delete 'new trunk'"),
				Action: a.with(1, "the name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.DeleteAnnouncementWithResponse(ctx, cmd.Args().First())
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintln(a.Out, "Gone; verdicts that it gave stay.")
					return nil
				}),
			},
		},
	}
}
