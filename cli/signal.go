package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"vergekeep/client"
	"vergekeep/client/gen"
	"vergekeep/core/syslog"
)

func (a *app) signalCommand() *cli.Command {
	return &cli.Command{
		Name: "signal", Usage: "what tells that a device's configuration may have changed", Category: "Keeping",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list signals, newest first",
				Description: example("vergekeep signal list", "vergekeep signal list -s site=Northgate --state nothing"),
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "selector", Aliases: []string{"s"}, Usage: "of these devices"},
					&cli.StringFlag{Name: "state", Usage: "waiting (for the capture), changed, nothing (the capture found nothing changed), ours (we did it ourselves)"},
					&cli.IntFlag{Name: "change", Usage: "of this change"},
					&cli.IntFlag{Name: "limit", Value: 50, Usage: "at most so many"},
				},
				Action: a.with(0, "", a.signalList),
			},
			a.questionCommand(),
			a.askCommand(),
			{
				Name: "senders", Usage: "show where messages come from, and senders that nobody knows", Description: example("vergekeep signal senders"),
				Action: a.with(0, "", a.signalSenders),
			},
			{
				Name: "assign", Usage: "say whose messages some are, where neither address nor host name says so", ArgsUsage: "NAME",
				Description: example("vergekeep signal assign 'behind the gate' --device np-edge-1 --address 203.0.113.9 --host router", "vergekeep signal assign 'log host' --relay --address 192.0.2.20", "vergekeep signal assign tickets --device hh-core-1 --key env:SIGNAL_KEY"),
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "device", Usage: "whose they are"},
					&cli.BoolFlag{Name: "relay", Usage: "they are many devices': the host name in them says whose"},
					&cli.StringFlag{Name: "address", Usage: "that they come from"},
					&cli.StringFlag{Name: "host", Usage: "host name in them"},
					&cli.StringFlag{Name: "key", Usage: "that comes with them: an SNMP community, or the key of a CloudEvent; env:NAME reads it from the environment"},
					&cli.StringFlag{Name: "listener", Usage: "the start of the listener's name, as 'signal senders' shows it"},
				},
				Action: a.with(1, "a name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					if cmd.Bool("relay") == (cmd.String("device") != "") {
						return errors.New("say either --device or --relay")
					}
					in := gen.SenderEdit{Device: set(cmd, "device"), Address: set(cmd, "address"), Host: set(cmd, "host"), Key: set(cmd, "key"), Listener: set(cmd, "listener")}
					if name, ok := strings.CutPrefix(deref(in.Key), "env:"); ok {
						key := a.Env(name)
						if key == "" {
							return fmt.Errorf("the environment has no %s", name)
						}
						in.Key = &key
					}
					r, err := c.SetSenderWithResponse(ctx, cmd.Args().First(), in)
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintln(a.Out, "Understood from now on.")
					return nil
				}),
			},
			{
				Name: "unassign", Usage: "take an assignment away", ArgsUsage: "NAME", Description: example("vergekeep signal unassign 'log host'"),
				Action: a.with(1, "the name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.DeleteSenderWithResponse(ctx, cmd.Args().First())
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintln(a.Out, "Gone.")
					return nil
				}),
			},
			{
				Name: "test", Usage: "show what would be understood of a syslog message", ArgsUsage: "LINE",
				Description: example("vergekeep signal test '<189>Nov 20 02:14:07 np-acc-2 config[812]: changed by neteng from 198.51.100.7 over ssh'",
					"vergekeep signal test '<189>Nov 20 02:14:07 x config: changed by y' --dialect tidegate", "vergekeep signal test --here '<34>1 2026-11-20T02:14:07Z gate sshd 41 - - hello'") +
					"\n\nNothing else happens. With --here only the header is read, and no service is needed.",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "sender", Usage: "the address that it would come from"},
					&cli.StringFlag{Name: "dialect", Usage: "whose rules are tried; those of the device that sends it if left out"},
					&cli.BoolFlag{Name: "here", Usage: "read the header, and ask no service"},
					&cli.StringFlag{Name: "zone", Value: "UTC", Usage: "with --here: the device's time zone, where the message names none"},
				},
				Action: a.signalTest,
			},
		},
	}
}

func (a *app) signalTest(ctx context.Context, cmd *cli.Command) error {
	if err := exactly(cmd, 1, "a line"); err != nil {
		return err
	}
	zone, err := time.LoadLocation(cmd.String("zone"))
	if err != nil {
		return fmt.Errorf("%q is no time zone; write for example Europe/Oslo", cmd.String("zone"))
	}
	m := syslog.Parse([]byte(cmd.Args().First()), time.Now(), zone)
	t := &table{head: []string{"field", "value"}}
	add := func(field, value string) {
		if value != "" {
			t.add(field, value)
		}
	}
	add("form", string(m.Form))
	if m.Facility >= 0 {
		add("facility", fmt.Sprint(m.Facility))
		add("severity", fmt.Sprintf("%d (%s)", m.Severity, severities[m.Severity]))
	}
	if !m.Time.IsZero() {
		said := m.Time.Format("2006-01-02 15:04:05 MST")
		if !m.Sure {
			said += ", of which the message has no zone or no year"
		}
		add("time", said)
	}
	add("host", m.Host)
	add("program", m.App)
	add("process", m.Process)
	add("id", m.ID)
	for _, id := range slices.Sorted(maps.Keys(m.Data)) {
		for _, name := range slices.Sorted(maps.Keys(m.Data[id])) {
			add(id+" "+name, m.Data[id][name])
		}
	}
	add("text", m.Text)
	if cmd.Bool("here") {
		return a.print(cmd, m, t)
	}
	c, err := a.connect(cmd)
	if err != nil {
		return err
	}
	r, err := c.TestSignalWithResponse(ctx, gen.SignalTrial{Line: cmd.Args().First(), Sender: set(cmd, "sender"), Dialect: set(cmd, "dialect")})
	if err := client.Check(r, err); err != nil {
		return err
	}
	u := r.JSON200
	device := u.Device
	if device == "" {
		device = "nobody that is known; see 'vergekeep signal assign --help'"
	}
	add("from", device)
	switch {
	case u.Dialect == "":
		add("means", "unknown, as nobody's dialect is known; try --dialect")
	case u.Rule == 0:
		add("means", "nothing: no signal of the dialect "+u.Dialect+" fits")
	case !u.Changed:
		add("means", fmt.Sprintf("no change, by signal %d of the dialect %s", u.Rule, u.Dialect))
	case u.Ours:
		add("means", "our own doing: it is ignored")
	default:
		add("means", fmt.Sprintf("its configuration has changed, by signal %d of the dialect %s", u.Rule, u.Dialect))
	}
	add("account", u.Account)
	add("from address", u.Source)
	add("method", u.Method)
	return a.print(cmd, u, t)
}

// signalStates are the words for what became of a signal.
var signalStates = map[gen.SignalState]string{"waiting": "waits for the capture", "changed": "", "nothing": "nothing had changed", "ours": "our own doing"}

func (a *app) signalList(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	limit := cmd.Int("limit")
	p := &gen.ListSignalsParams{Selector: set(cmd, "selector"), State: (*gen.SignalState)(set(cmd, "state")), Limit: &limit}
	if cmd.IsSet("change") {
		id := int64(cmd.Int("change"))
		p.Change = &id
	}
	r, err := c.ListSignalsWithResponse(ctx, p)
	if err := client.Check(r, err); err != nil {
		return err
	}
	t := &table{head: []string{"when", "device", "by", "from", "method", "medium", "times", "outcome"}, none: "No signals."}
	now := time.Now()
	for _, g := range r.JSON200.Items {
		outcome := signalStates[g.State]
		if g.Change != nil {
			outcome = fmt.Sprintf("change #%d", *g.Change)
		}
		t.add(when(&g.At, now), g.Device, orDash(g.Account), orDash(g.Source), orDash(g.Method), string(g.Medium), fmt.Sprint(g.Count), outcome)
	}
	return a.print(cmd, r.JSON200, t)
}

func (a *app) signalSenders(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	r, err := c.ListSendersWithResponse(ctx)
	if err := client.Check(r, err); err != nil {
		return err
	}
	x := r.JSON200
	if cmd.Root().String("format") == "table" {
		for _, l := range x.Listeners {
			fmt.Fprintf(a.Out, "Listens on %s.\n", l)
		}
		fmt.Fprintf(a.Out, "%s since the start: %d told of a change, %d of nobody that is known.\n\n", plural(int(x.Received), "message"), x.Understood, x.Unknown)
	}
	t := &table{head: []string{"name", "whose", "address", "host", "listener", "times", "last", "sample"}, none: "Address and host name say whose all messages are."}
	now := time.Now()
	for _, s := range x.Senders {
		whose, host := s.Device, s.Host
		if whose == "" {
			whose = "a relay"
		}
		if s.HasKey {
			host = strings.TrimSpace(host + " with a key")
		}
		t.add(s.Name, whose, orDash(s.Address), orDash(host), orDash(s.Listener), "", "", "")
	}
	for _, s := range x.Strangers {
		t.add("-", a.tint(attention, "nobody known"), s.Address, orDash(s.Host), s.Listener, fmt.Sprint(s.Count), when(&s.Last, now), s.Sample)
	}
	return a.print(cmd, x, t)
}

// severities are the words of RFC 5424, 6.2.1.
var severities = [...]string{"emergency", "alert", "critical", "error", "warning", "notice", "informational", "debug"}
