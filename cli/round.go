package cli

import (
	"context"
	"fmt"
	"io"
	"sort"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"vergekeep/client"
	"vergekeep/client/gen"
)

func (a *app) captureCommand() *cli.Command {
	return &cli.Command{
		Name: "capture", Usage: "capture configurations now, and wait", ArgsUsage: "SELECTOR", Category: "Every day",
		Description: example("vergekeep capture ng-acc-1", "vergekeep capture site=Northgate", "vergekeep capture --all"),
		Flags:       []cli.Flag{&cli.BoolFlag{Name: "all", Usage: "every device"}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			sel := selectorOf(cmd.Args().Slice())
			if sel == "" && !cmd.Bool("all") {
				return fmt.Errorf("a selector is missing; for every device write --all\nSee '%s --help'", cmd.FullName())
			}
			return a.round(ctx, cmd, sel, true)
		},
	}
}

func (a *app) roundCommand() *cli.Command {
	return &cli.Command{
		Name: "round", Usage: "runs over a set of devices", Category: "Keeping",
		Commands: []*cli.Command{
			{
				Name: "start", Usage: "start a round and wait for it", ArgsUsage: "[SELECTOR]",
				Description: example("vergekeep round start", "vergekeep round start site=Vessels --detach", "vergekeep round start problem=any"),
				Flags: []cli.Flag{
					&cli.BoolFlag{Name: "detach", Usage: "do not wait"},
					&cli.IntFlag{Name: "tries", Usage: "visits to a device while it fails for a reason that may pass; 1 if left out"},
					&cli.BoolFlag{Name: "record", Usage: "keep the steps, and what was said, of good visits too"},
					&cli.StringFlag{Name: "as", Usage: "user name for this round alone; its password is asked for and not stored"},
				},
				Action: func(ctx context.Context, cmd *cli.Command) error {
					return a.round(ctx, cmd, selectorOf(cmd.Args().Slice()), !cmd.Bool("detach"))
				},
			},
			{
				Name: "list", Usage: "list rounds, newest first", Description: example("vergekeep round list"),
				Flags:  []cli.Flag{&cli.IntFlag{Name: "limit", Value: 20, Usage: "how many"}},
				Action: a.roundList,
			},
			{
				Name: "show", Usage: "show a round: failures with reasons first", ArgsUsage: "[NUMBER]",
				Description: example("vergekeep round show", "vergekeep round show 31 --visits"),
				Flags:       []cli.Flag{&cli.BoolFlag{Name: "visits", Usage: "every visit, not only what needs somebody"}},
				Action: func(ctx context.Context, cmd *cli.Command) error {
					c, id, err := a.roundID(ctx, cmd)
					if err != nil {
						return err
					}
					r, err := c.GetRoundWithResponse(ctx, id)
					if err := client.Check(r, err); err != nil {
						return err
					}
					return a.summary(cmd, r.JSON200, cmd.Bool("visits"))
				},
			},
			{
				Name: "cancel", Usage: "stop a running round", ArgsUsage: "NUMBER", Description: example("vergekeep round cancel 31"),
				Action: func(ctx context.Context, cmd *cli.Command) error {
					c, id, err := a.roundID(ctx, cmd)
					if err != nil {
						return err
					}
					r, err := c.CancelRoundWithResponse(ctx, id)
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintf(a.Out, "Round %d: %s.\n", r.JSON200.Id, r.JSON200.State)
					return nil
				},
			},
			{
				Name: "visit", Usage: "tell a visit step by step", ArgsUsage: "NUMBER DEVICE",
				Description: example("vergekeep round visit 31 dd-edge-1"),
				Action: a.ofVisit(func(ctx context.Context, cmd *cli.Command, c *client.Client, id int64, device string) error {
					r, err := c.GetVisitWithResponse(ctx, id, &gen.GetVisitParams{Device: device})
					if err := client.Check(r, err); err != nil {
						return err
					}
					return a.story(cmd, r.JSON200)
				}),
			},
			{
				Name: "session", Usage: "show all that was said in a visit that failed, or in a round that records", ArgsUsage: "NUMBER DEVICE",
				Description: example("vergekeep round session 31 dd-edge-1"),
				Action: a.ofVisit(func(ctx context.Context, cmd *cli.Command, c *client.Client, id int64, device string) error {
					r, err := c.GetVisitSessionWithResponse(ctx, id, &gen.GetVisitSessionParams{Device: device})
					if err := client.Check(r, err); err != nil {
						return err
					}
					_, err = a.Out.Write(r.Body)
					return err
				}),
			},
		},
	}
}

// ofVisit makes an action that needs a round's number and a device's name.
func (a *app) ofVisit(f func(context.Context, *cli.Command, *client.Client, int64, string) error) cli.ActionFunc {
	return a.with(2, "the round's number or the device's name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
		id, err := strconv.ParseInt(cmd.Args().First(), 10, 64)
		if err != nil {
			return fmt.Errorf("%q is no number of a round; see 'vergekeep round list'", cmd.Args().First())
		}
		return f(ctx, cmd, c, id, cmd.Args().Get(1))
	})
}

// story prints a visit: what came of it, its steps, and what was said last.
func (a *app) story(cmd *cli.Command, s *gen.VisitStory) error {
	if cmd.Root().String("format") != "table" {
		return a.print(cmd, s, &table{})
	}
	v := s.Visit
	took := ""
	if v.TookMs != nil {
		took = ", after " + time.Duration(float64(*v.TookMs)*float64(time.Millisecond)).Round(time.Millisecond).String()
	}
	fmt.Fprintf(a.Out, "%s in round %d, %s: %s%s.\n", v.Device, s.Round, when(v.Started, time.Now()), v.Outcome, took)
	if v.What != nil {
		fmt.Fprintf(a.Out, "%s: %s\n%s\n", a.tint(alarm, deref(v.Reason)), *v.What, deref(v.Advice))
	}
	if len(s.Steps) > 0 {
		fmt.Fprintln(a.Out)
		writeSteps(a.Out, s.Steps)
	} else {
		fmt.Fprintln(a.Out, "The steps of a good visit are kept where its round records: 'vergekeep round start --record'.")
	}
	if len(s.LastLines) > 0 {
		fmt.Fprintln(a.Out, "\nIt said last (what may be secret is hidden):")
		for _, l := range s.LastLines {
			fmt.Fprintln(a.Out, "  "+a.tint(faint, "│")+" "+l)
		}
	}
	if s.Session {
		fmt.Fprintf(a.Out, "\nAll that was said: vergekeep round session %d %s\n", s.Round, quoted(v.Device))
	}
	return nil
}

// writeSteps prints steps with the milliseconds at which each was taken.
func writeSteps(w io.Writer, steps []gen.VisitStep) {
	for _, s := range steps {
		fmt.Fprintf(w, "  %6d ms  %s\n", s.AfterMs, s.What)
	}
}

// roundID is the round that the first argument names; without one the newest.
func (a *app) roundID(ctx context.Context, cmd *cli.Command) (*client.Client, int64, error) {
	if err := atMost(cmd, 1); err != nil {
		return nil, 0, err
	}
	c, err := a.connect(cmd)
	if err != nil {
		return nil, 0, err
	}
	if arg := cmd.Args().First(); arg != "" {
		id, err := strconv.ParseInt(arg, 10, 64)
		if err != nil || id < 1 {
			return nil, 0, fmt.Errorf("%q is no number of a round; see 'vergekeep round list'", arg)
		}
		return c, id, nil
	}
	limit := 1
	r, err := c.ListRoundsWithResponse(ctx, &gen.ListRoundsParams{Limit: &limit})
	if err := client.Check(r, err); err != nil {
		return nil, 0, err
	}
	if len(r.JSON200.Items) == 0 {
		return nil, 0, fmt.Errorf("there has been no round yet; start one with 'vergekeep round start'")
	}
	return c, r.JSON200.Items[0].Id, nil
}

func (a *app) round(ctx context.Context, cmd *cli.Command, sel string, wait bool) error {
	c, err := a.connect(cmd)
	if err != nil {
		return err
	}
	in := gen.NewRound{Selector: sel, Tries: setInt(cmd, "tries"), Record: setBool(cmd, "record")}
	if user := cmd.String("as"); user != "" {
		password, err := a.ask("Password of "+user+": ", true)
		if err != nil {
			return err
		}
		in.Credential = &gen.OnceCredential{Username: user, Password: password}
	}
	r, err := c.StartRoundWithResponse(ctx, in)
	if err := client.Check(r, err); err != nil {
		return err
	}
	if !wait {
		fmt.Fprintf(a.Out, "Round %d has started over %s. See 'vergekeep round show %d'.\n", r.JSON201.Id, plural(r.JSON201.Planned, "device"), r.JSON201.Id)
		return nil
	}
	p := newProgress(a.Err, r.JSON201.Planned)
	detail, err := c.WaitForRound(ctx, r.JSON201.Id, p.visit)
	p.end()
	if err != nil {
		if ctx.Err() != nil {
			fmt.Fprintf(a.Err, "Round %d goes on without you; see 'vergekeep round show %d'.\n", r.JSON201.Id, r.JSON201.Id)
		}
		return err
	}
	return a.summary(cmd, detail, false)
}

// summary prints a round as a sentence and a table of what needs somebody. It
// ends the command with statusYes where visits failed.
func (a *app) summary(cmd *cli.Command, r *gen.RoundDetail, all bool) error {
	t := &table{head: []string{"device", "site", "outcome", "took", "why"}}
	for _, v := range r.Visits {
		took := "-"
		if v.TookMs != nil {
			took = time.Duration(float64(*v.TookMs) * float64(time.Millisecond)).Round(time.Millisecond).String()
		}
		t.add(v.Device, orDash(v.Site), string(v.Outcome), took, deref(v.What))
	}
	if cmd.Root().String("format") != "table" {
		if err := a.print(cmd, r, t); err != nil {
			return err
		}
	} else {
		fmt.Fprintln(a.Out, RoundSentence(r.Round))
		if all {
			fmt.Fprintln(a.Out)
			if err := t.write(a.Out); err != nil {
				return err
			}
		} else if err := a.reasons(r); err != nil {
			return err
		}
	}
	if r.Round.Failed > 0 {
		return yes{}
	}
	return nil
}

// RoundSentence says how a round stands.
func RoundSentence(r gen.Round) string {
	var parts []string
	count := func(n int, one, many string) {
		switch {
		case n == 1:
			parts = append(parts, "1 "+one)
		case n > 1:
			parts = append(parts, fmt.Sprintf("%d %s", n, many))
		}
	}
	count(r.New, "has a new revision", "have new revisions")
	count(r.Unchanged, "is unchanged", "are unchanged")
	count(r.Failed, "failed", "failed")
	count(r.PassedOver, "was passed over", "were passed over")
	what := strings.Join(parts, ", ")
	if what == "" {
		what = "nothing yet"
	}
	switch {
	case r.State == gen.RoundStateRunning:
		return fmt.Sprintf("Round %d is running: %d of %s done; %s.", r.Id, r.New+r.Unchanged+r.Failed+r.PassedOver, plural(r.Planned, "device"), what)
	case r.Ended != nil:
		took := r.Ended.Sub(r.Started).Round(100 * time.Millisecond)
		if took < time.Second {
			took = r.Ended.Sub(r.Started).Round(time.Millisecond)
		}
		word := "took"
		if r.State == gen.RoundStateCancelled {
			word = "was cancelled after"
		}
		return fmt.Sprintf("Round %d over %s %s %s: %s.", r.Id, plural(r.Planned, "device"), word, took, what)
	}
	return fmt.Sprintf("Round %d: %s.", r.Id, what)
}

// reasons groups what did not go well by its reason.
func (a *app) reasons(r *gen.RoundDetail) error {
	type group struct {
		advice  string
		visits  []gen.Visit
		outcome gen.VisitOutcome
	}
	groups := map[string]*group{}
	for _, v := range r.Visits {
		if v.Reason == nil {
			continue
		}
		g := groups[*v.Reason]
		if g == nil {
			g = &group{advice: deref(v.Advice), outcome: v.Outcome}
			groups[*v.Reason] = g
		}
		g.visits = append(g.visits, v)
	}
	var names []string
	for n := range groups {
		names = append(names, n)
	}
	sort.Slice(names, func(i, j int) bool {
		if x, y := groups[names[i]].outcome, groups[names[j]].outcome; x != y {
			return x == gen.VisitOutcomeFailed
		}
		if x, y := len(groups[names[i]].visits), len(groups[names[j]].visits); x != y {
			return x > y
		}
		return names[i] < names[j]
	})
	for _, n := range names {
		g := groups[n]
		colour := alarm
		if g.outcome == gen.VisitOutcomePassedOver {
			colour = faint
		}
		fmt.Fprintf(a.Out, "\n%s  %s\n", a.tint(colour, n), g.advice)
		t := &table{head: []string{"  device", "site", "what happened"}}
		for _, v := range g.visits {
			t.add("  "+v.Device, orDash(v.Site), deref(v.What))
		}
		if err := t.write(a.Out); err != nil {
			return err
		}
	}
	if r.Round.Failed > 0 {
		fmt.Fprintf(a.Out, "\nOne of them step by step: vergekeep round visit %d DEVICE\n", r.Round.Id)
	}
	return nil
}

func (a *app) roundList(ctx context.Context, cmd *cli.Command) error {
	c, err := a.connect(cmd)
	if err != nil {
		return err
	}
	limit := cmd.Int("limit")
	r, err := c.ListRoundsWithResponse(ctx, &gen.ListRoundsParams{Limit: &limit})
	if err := client.Check(r, err); err != nil {
		return err
	}
	now := time.Now()
	t := &table{head: []string{"round", "started", "by", "over", "state", "new", "unchanged", "failed", "passed over"}, none: "There has been no round yet."}
	for _, x := range r.JSON200.Items {
		failed := strconv.Itoa(x.Failed)
		if x.Failed > 0 {
			failed = a.tint(alarm, failed)
		}
		over := x.Selector
		if over == "" {
			over = "all"
		}
		t.add(strconv.FormatInt(x.Id, 10), when(&x.Started, now), x.Account, over, string(x.State),
			strconv.Itoa(x.New), strconv.Itoa(x.Unchanged), failed, strconv.Itoa(x.PassedOver))
	}
	return a.print(cmd, r.JSON200.Items, t)
}

// progress is a bar on a terminal; elsewhere it shows nothing.
type progress struct {
	mu                    sync.Mutex
	w                     io.Writer
	planned, done, failed int
	drawn                 time.Time
}

func newProgress(w io.Writer, planned int) *progress {
	if !isTerminal(w) {
		w = nil
	}
	p := &progress{w: w, planned: planned}
	p.draw()
	return p
}

func (p *progress) visit(v gen.Visit) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.done++
	if v.Outcome == gen.VisitOutcomeFailed {
		p.failed++
	}
	if time.Since(p.drawn) > 50*time.Millisecond || p.done == p.planned {
		p.draw()
	}
}

func (p *progress) draw() {
	if p.w == nil || p.planned == 0 {
		return
	}
	p.drawn = time.Now()
	const width = 30
	full := width * p.done / p.planned
	line := fmt.Sprintf("\r%s%s %d of %d", strings.Repeat("█", full), strings.Repeat("░", width-full), p.done, p.planned)
	if p.failed > 0 {
		line += fmt.Sprintf(", %d failed", p.failed)
	}
	fmt.Fprint(p.w, line)
}

func (p *progress) end() {
	if p.w != nil {
		fmt.Fprint(p.w, "\r\x1b[K")
	}
}
