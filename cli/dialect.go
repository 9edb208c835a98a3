package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"vergekeep/client"
	"vergekeep/client/gen"
	"vergekeep/core/dialect"
	"vergekeep/wire/conversation"
)

func (a *app) dialectNew() *cli.Command {
	return &cli.Command{
		Name: "new", Usage: "print a dialect to start from, with what to fill in", ArgsUsage: "NAME",
		Description: example("vergekeep dialect new lantern > lantern.yaml", "vergekeep dialect new lantern --channel exec --reader brace > lantern.yaml"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "channel", Value: "pty", Usage: "pty, exec, netconf or https"},
			&cli.StringFlag{Name: "reader", Value: "indent", Usage: "indent, brace, flat, xml or json"},
		},
		Action: func(_ context.Context, cmd *cli.Command) error {
			if err := exactly(cmd, 1, "the dialect's name"); err != nil {
				return err
			}
			text, ok := skeletons[cmd.String("channel")]
			if !ok {
				return fmt.Errorf("the channel is pty, exec, netconf or https, not %q", cmd.String("channel"))
			}
			text = strings.NewReplacer("NAME", cmd.Args().First(), "READER", cmd.String("reader")).Replace(skeletonHead + text + skeletonTail)
			if _, err := dialect.Parse(cmd.Args().First()+".yaml", text); err != nil {
				return err
			}
			_, err := io.WriteString(a.Out, text)
			return err
		},
	}
}

const skeletonHead = `# What this platform is, and which versions were tried.
format: 1
name: NAME
title: NAME devices
maker: who makes it

`

const skeletonTail = `
captures:
  - { datastore: running, from: running }

complete:
  # What a whole configuration starts and ends with. Without a sign of
  # completeness, half of one could be archived.
  min-lines: 3
  # first: '^configuration of '
  # last: '^end$'

# nameplate:
#   serial: { from: system, match: '(?m)^serial +(\S+)$' }

syntax:
  reader: READER
  comment: ['#']

# Lines that change by themselves, and places that hold a secret.
# volatile:
#   - 'clock-drift *'
# secrets:
#   - { pattern: 'account ** > password {secret}' }
`

var skeletons = map[string]string{
	"pty": `reach:
  channel: pty

prompts:
  # The whole last line, blanks included. The name must stay the same.
  ready: '(?P<name>\S+)> '

# pagers:
#   - { see: '--more--', key: ' ' }

errors:
  - '^error'

conversation:
  start: arrive
  leave: exit
  states:
    arrive:
      on:
        - { prompt: ready, go: running }
    running:
      send: show configuration
      keep: running
      on:
        - { prompt: ready, go: done }
`,
	"exec": `reach:
  channel: exec

errors:
  - '^error'

conversation:
  start: running
  states:
    running:
      send: show configuration
      keep: running
      then: done
`,
	"netconf": `reach:
  channel: netconf

conversation:
  start: running
  states:
    running:
      rpc: '<get-config><source><running/></source></get-config>'
      keep: running
      then: done
`,
	"https": `reach:
  channel: https

conversation:
  start: running
  states:
    running:
      get: '${restconf}/data?content=config'
      accept: application/yang-data+json
      keep: running
      then: done
`,
}

func (a *app) dialectTry() *cli.Command {
	return &cli.Command{
		Name: "try", Usage: "visit a device with a dialect file, step by step, archiving nothing", ArgsUsage: "DEVICE FILE",
		Description: example("vergekeep dialect try ng-acc-1 ./lantern.yaml", "vergekeep dialect try ng-acc-1 ./lantern.yaml --record ./lantern-3.session.yaml"),
		Flags:       []cli.Flag{&cli.StringFlag{Name: "record", Usage: "a file for the session, its secrets concealed, to replay it without the device"}},
		Action: a.with(2, "the device's name or the file", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			text, err := readFile(cmd.Args().Get(1))
			if err != nil {
				return err
			}
			record := cmd.IsSet("record")
			r, err := c.TryDialectWithResponse(ctx, gen.DialectTrial{Device: cmd.Args().First(), Text: text, Record: &record})
			if err := client.Check(r, err); err != nil {
				return err
			}
			x := r.JSON200
			if path := cmd.String("record"); path != "" {
				if x.Recording == nil {
					return fmt.Errorf("this session cannot be recorded: the device copies its configuration out by itself")
				}
				if err := os.WriteFile(path, []byte(*x.Recording), 0o600); err != nil {
					return err
				}
			}
			if cmd.Root().String("format") != "table" {
				if err := a.print(cmd, x, &table{}); err != nil {
					return err
				}
			} else {
				writeSteps(a.Out, x.Steps)
				for _, k := range x.Captures {
					fmt.Fprintf(a.Out, "%s: %s in %s at the top; %d hold a secret, %d change by themselves.\n", k.Name, plural(k.Lines, "line"), plural(k.Sections, "section"), k.SecretLines, k.VolatileLines)
				}
				if plate := nonEmpty(deref(x.Name), deref(x.Model), deref(x.Serial), deref(x.Version)); len(plate) > 0 {
					fmt.Fprintln(a.Out, "Nameplate: "+strings.Join(plate, ", ")+".")
				}
				if x.What != nil {
					fmt.Fprintf(a.Out, "%s: %s\n%s\n", a.tint(alarm, deref(x.Reason)), *x.What, deref(x.Advice))
				} else {
					fmt.Fprintf(a.Out, "It would be archived. That took %.0f ms.\n", x.TookMs)
				}
			}
			if x.What != nil {
				return yes{}
			}
			return nil
		}),
	}
}

func (a *app) dialectReplay() *cli.Command {
	return &cli.Command{
		Name: "replay", Usage: "hold a recorded session again with a dialect file, without the device", ArgsUsage: "SESSION FILE",
		Description: example("vergekeep dialect replay ./lantern-3.session.yaml ./lantern.yaml"),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if err := exactly(cmd, 2, "the session's file or the dialect's"); err != nil {
				return err
			}
			session, err := readFile(cmd.Args().First())
			if err != nil {
				return err
			}
			rec, err := conversation.ParseRecording(session)
			if err != nil {
				return fmt.Errorf("%s: %w", cmd.Args().First(), err)
			}
			text, err := readFile(cmd.Args().Get(1))
			if err != nil {
				return err
			}
			d, err := dialect.Parse(cmd.Args().Get(1), text)
			if err != nil {
				return err
			}
			return a.replay(ctx, rec, d)
		},
	}
}

// replay tells the steps of a replay and what it would bring. It ends the command
// with statusYes where a visit of this kind would fail.
func (a *app) replay(ctx context.Context, rec *conversation.Recording, d *dialect.Dialect) error {
	r, err := conversation.Replay(ctx, rec, d, func(format string, args ...any) { fmt.Fprintf(a.Out, "  "+format+"\n", args...) })
	if p := d.ReadNameplate(r.Kept()); err == nil {
		if now := d.For(p); now.Variant != d.Variant {
			fmt.Fprintf(a.Out, "It is of the variant %q.\n", now.Variant)
			return a.replay(ctx, rec, now)
		}
		if plate := nonEmpty(p.Name, p.Model, p.Serial, p.Version); len(plate) > 0 {
			fmt.Fprintln(a.Out, "Nameplate: "+strings.Join(plate, ", ")+".")
		}
	}
	if err == nil {
		var texts []conversation.Text
		texts, err = r.Texts(d)
		for _, t := range texts {
			fmt.Fprintf(a.Out, "%s: %s in %s at the top; %d hold a secret.\n", strings.TrimSuffix(t.Datastore+"/"+t.Part, "/"), plural(t.View.Tree.Lines(), "line"), plural(len(t.View.Tree.Children), "section"), len(t.View.Secret))
		}
	}
	if err != nil {
		fmt.Fprintln(a.Out, a.tint(alarm, err.Error()))
		return yes{}
	}
	fmt.Fprintln(a.Out, "It would be archived.")
	return nil
}
