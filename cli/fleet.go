package cli

import (
	"cmp"
	"context"
	"encoding/csv"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/crypto/ssh"

	"vergekeep/client"
	"vergekeep/client/gen"
)

// isEncrypted reports whether a private key needs a passphrase.
func isEncrypted(key []byte) bool {
	_, err := ssh.ParseRawPrivateKey(key)
	_, missing := err.(*ssh.PassphraseMissingError)
	return missing
}

func (a *app) groupCommand() *cli.Command {
	show := func(cmd *cli.Command, list []gen.Group, raw any) error {
		t := &table{head: []string{"name", "selector", "devices", "description"}, none: "There is no group. Make one with 'vergekeep group set NAME SELECTOR'."}
		for _, g := range list {
			t.add(g.Name, g.Selector, fmt.Sprint(g.Devices), orDash(g.Description))
		}
		return a.print(cmd, raw, t)
	}
	return &cli.Command{
		Name: "group", Usage: "selectors with a name", Category: "Fleet",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list groups, with how many devices each has", Description: example("vergekeep group list"),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ListGroupsWithResponse(ctx)
					if err := client.Check(r, err); err != nil {
						return err
					}
					return show(cmd, *r.JSON200, r.JSON200)
				}),
			},
			{
				Name: "set", Usage: "make or change a group; it may name others", ArgsUsage: "NAME SELECTOR", Description: example("vergekeep group set edges role=edge", "vergekeep group set outside group=edges site=Vessels"),
				Flags: []cli.Flag{&cli.StringFlag{Name: "description"}},
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					if cmd.Args().Len() < 2 {
						return fmt.Errorf("the group's name or its selector is missing\nSee '%s --help'", cmd.FullName())
					}
					r, err := c.SetGroupWithResponse(ctx, cmd.Args().First(), gen.NewGroup{Selector: selectorOf(cmd.Args().Tail()), Description: set(cmd, "description")})
					if err := client.Check(r, err); err != nil {
						return err
					}
					return show(cmd, []gen.Group{*r.JSON200}, r.JSON200)
				}),
			},
			{
				Name: "delete", Usage: "take a group away; its devices stay", ArgsUsage: "NAME", Description: example("vergekeep group delete edges"),
				Action: a.with(1, "the group's name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.DeleteGroupWithResponse(ctx, cmd.Args().First())
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintf(a.Out, "%s is gone; its devices stay.\n", cmd.Args().First())
					return nil
				}),
			},
		},
	}
}

func (a *app) siteCommand() *cli.Command {
	show := func(cmd *cli.Command, list []gen.Site, raw any) error {
		t := &table{head: []string{"name", "devices", "at once", "closed hours", "zone"}, none: "No device names a site."}
		for _, s := range list {
			atOnce := "any"
			if s.AtOnce > 0 {
				atOnce = fmt.Sprint(s.AtOnce)
			}
			t.add(s.Name, fmt.Sprint(s.Devices), atOnce, orDash(strings.Join(s.Closed, ", ")), s.Zone)
		}
		return a.print(cmd, raw, t)
	}
	return &cli.Command{
		Name: "site", Usage: "what holds for all devices of a site", Category: "Fleet",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list sites", Description: example("vergekeep site list"),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ListSitesWithResponse(ctx)
					if err := client.Check(r, err); err != nil {
						return err
					}
					return show(cmd, *r.JSON200, r.JSON200)
				}),
			},
			{
				Name: "set", Usage: "set how many visits a site takes at a time, and when rounds rest there", ArgsUsage: "NAME",
				Description: example("vergekeep site set Vessels --at-once 2", "vergekeep site set 'Dry Dock' --closed '07:00-16:00 Mon-Fri' --zone Europe/Oslo"),
				Flags: []cli.Flag{
					&cli.IntFlag{Name: "at-once", Usage: "most visits at a time; 0 for no limit"},
					&cli.StringSliceFlag{Name: "closed", Usage: "hours in which rounds rest"}, &cli.StringFlag{Name: "zone", Usage: "time zone of the hours"},
				},
				Action: a.with(1, "the site's name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					in := gen.NewSite{AtOnce: setInt(cmd, "at-once"), Zone: set(cmd, "zone")}
					if closed := cmd.StringSlice("closed"); len(closed) > 0 {
						in.Closed = &closed
					}
					r, err := c.SetSiteWithResponse(ctx, cmd.Args().First(), in)
					if err := client.Check(r, err); err != nil {
						return err
					}
					return show(cmd, []gen.Site{*r.JSON200}, r.JSON200)
				}),
			},
		},
	}
}

func (a *app) jumpCommand() *cli.Command {
	show := func(cmd *cli.Command, list []gen.JumpHost, raw any) error {
		t := &table{head: []string{"name", "address", "through", "credential", "at once", "host key"}, none: "There is no jump host."}
		for _, j := range list {
			atOnce := "any"
			if j.AtOnce > 0 {
				atOnce = fmt.Sprint(j.AtOnce)
			}
			t.add(j.Name, j.Address, orDash(deref(j.Via)), j.Credential, atOnce, orDash(strings.Join(j.HostKeys, ", ")))
		}
		return a.print(cmd, raw, t)
	}
	return &cli.Command{
		Name: "jump-host", Usage: "hosts through which devices are reached", Category: "Fleet",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list jump hosts", Description: example("vergekeep jump-host list"),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ListJumpHostsWithResponse(ctx)
					if err := client.Check(r, err); err != nil {
						return err
					}
					return show(cmd, *r.JSON200, r.JSON200)
				}),
			},
			{
				Name: "set", Usage: "make or change a jump host", ArgsUsage: "NAME", Description: example("vergekeep jump-host set harbour --address 192.0.2.200 --credential harbour-jump --at-once 16"),
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "address", Required: true}, &cli.StringFlag{Name: "credential", Required: true, Usage: "name of the one that logs in to it"},
					&cli.StringFlag{Name: "via", Usage: "the jump host before it"}, &cli.IntFlag{Name: "at-once", Usage: "most visits through it at a time; 0 for no limit"},
				},
				Action: a.with(1, "the jump host's name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.SetJumpHostWithResponse(ctx, cmd.Args().First(), gen.NewJumpHost{Address: cmd.String("address"), Credential: cmd.String("credential"), Via: set(cmd, "via"), AtOnce: setInt(cmd, "at-once")})
					if err := client.Check(r, err); err != nil {
						return err
					}
					return show(cmd, []gen.JumpHost{*r.JSON200}, r.JSON200)
				}),
			},
			{
				Name: "trust", Usage: "let a jump host show a new host key at its next use", ArgsUsage: "NAME", Description: example("vergekeep jump-host trust harbour --why 'new hardware'"), Flags: []cli.Flag{why()},
				Action: a.with(1, "the jump host's name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.TrustJumpHostWithResponse(ctx, cmd.Args().First(), gen.Why{Why: cmd.String("why")})
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintf(a.Out, "%s may show a new host key at its next use.\n", cmd.Args().First())
					return nil
				}),
			},
			{
				Name: "delete", Usage: "take a jump host away that nothing goes through", ArgsUsage: "NAME", Description: example("vergekeep jump-host delete harbour"),
				Action: a.with(1, "the jump host's name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.DeleteJumpHostWithResponse(ctx, cmd.Args().First())
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

func (a *app) importCommand() *cli.Command {
	show := func(cmd *cli.Command, list []gen.SteadyImport, raw any) error {
		t := &table{head: []string{"name", "from", "when", "last run", "what came of it"}, none: "No list of devices is kept in step."}
		for _, i := range list {
			said := deref(i.LastSaid)
			if deref(i.LastFailed) {
				said = a.tint(alarm, said)
			}
			t.add(i.Name, i.From, i.Expression+" "+i.Zone, when(i.LastRun, time.Now()), orDash(said))
		}
		return a.print(cmd, raw, t)
	}
	run := func(name, usage string, preview bool) *cli.Command {
		return &cli.Command{
			Name: name, Usage: usage, ArgsUsage: "NAME", Description: example("vergekeep import " + name + " inventory"),
			Action: a.with(1, "the import's name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				r, err := c.RunImportWithResponse(ctx, cmd.Args().First(), &gen.RunImportParams{Preview: &preview})
				if err := client.Check(r, err); err != nil {
					return err
				}
				return a.importReport(cmd, r.JSON200)
			}),
		}
	}
	return &cli.Command{
		Name: "import", Usage: "lists of devices that are kept in step with where they come from", Category: "Fleet",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list imports and how they went", Description: example("vergekeep import list"),
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ListImportsWithResponse(ctx)
					if err := client.Check(r, err); err != nil {
						return err
					}
					return show(cmd, *r.JSON200, r.JSON200)
				}),
			},
			{
				Name: "set", Usage: "keep a list in step; devices that vanish from it are paused", ArgsUsage: "NAME FROM",
				Description: example("vergekeep import set inventory https://inventory.skerry.example/devices.csv", "vergekeep import set wiring git:/srv/network.git#devices.yaml --cron '*/15 * * * *'"),
				Flags:       []cli.Flag{&cli.StringFlag{Name: "cron", Usage: "when; each hour if left out"}, &cli.StringFlag{Name: "zone"}},
				Action: a.with(2, "the import's name or where it is from", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.SetImportWithResponse(ctx, cmd.Args().First(), gen.NewSteadyImport{From: cmd.Args().Get(1), Expression: set(cmd, "cron"), Zone: set(cmd, "zone")})
					if err := client.Check(r, err); err != nil {
						return err
					}
					return show(cmd, []gen.SteadyImport{*r.JSON200}, r.JSON200)
				}),
			},
			run("preview", "show what would become of each line now", true),
			run("run", "take the list in now", false),
			{
				Name: "delete", Usage: "stop keeping a list in step; its devices stay", ArgsUsage: "NAME", Description: example("vergekeep import delete inventory"),
				Action: a.with(1, "the import's name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.DeleteImportWithResponse(ctx, cmd.Args().First())
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintf(a.Out, "%s is gone; its devices stay.\n", cmd.Args().First())
					return nil
				}),
			},
		},
	}
}

// importReport shows the fate of each line, those that need somebody first.
func (a *app) importReport(cmd *cli.Command, r *gen.ImportReport) error {
	t := &table{head: []string{"line", "name", "fate", "what"}}
	for _, shown := range []gen.ImportLineFate{gen.ImportLineFateRefuse, gen.ImportLineFatePause, gen.ImportLineFateChange, gen.ImportLineFateAdd} {
		for _, l := range r.Lines {
			if l.Fate != shown {
				continue
			}
			fate, line := string(l.Fate), fmt.Sprint(l.Line)
			switch l.Fate {
			case gen.ImportLineFateRefuse:
				fate = a.tint(alarm, fate)
			case gen.ImportLineFatePause:
				fate = a.tint(attention, fate)
			}
			if l.Line == 0 {
				line = "-"
			}
			t.add(line, orDash(l.Name), fate, deref(l.What))
		}
	}
	if cmd.Root().String("format") == "table" {
		verb := "would be"
		if r.Applied {
			verb = "are"
		}
		fmt.Fprintf(a.Out, "%d %s added, %d changed, %d unchanged, %d refused", r.Added, verb, r.Changed, r.Unchanged, r.Refused)
		if r.Paused > 0 {
			fmt.Fprintf(a.Out, ", %d paused", r.Paused)
		}
		fmt.Fprintln(a.Out, ".")
		if len(t.rows) > 0 {
			fmt.Fprintln(a.Out)
		}
	}
	if cmd.Root().String("format") != "table" || len(t.rows) > 0 {
		if err := a.print(cmd, r, t); err != nil {
			return err
		}
	}
	if r.Refused > 0 {
		return yes{}
	}
	return nil
}

func (a *app) deviceImport() *cli.Command {
	return &cli.Command{
		Name: "import", Usage: "take in a list of devices: CSV, YAML or JSON", ArgsUsage: "FILE",
		Description: example("vergekeep device import ./devices.csv --dry-run", "vergekeep device import ./devices.yaml --change"),
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "dry-run", Usage: "only show what would become of each line"},
			&cli.BoolFlag{Name: "change", Usage: "change records that exist and differ"},
		},
		Action: a.with(1, "the file", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			text, err := readFile(cmd.Args().First())
			if err != nil {
				return err
			}
			r, err := c.ImportDevicesWithResponse(ctx, gen.Import{Text: text, DryRun: setBool(cmd, "dry-run"), Change: setBool(cmd, "change")})
			if err := client.Check(r, err); err != nil {
				return err
			}
			return a.importReport(cmd, r.JSON200)
		}),
	}
}

// listColumns are the fields of a list of devices that can be imported again.
var listColumns = []string{"name", "address", "platform", "site", "role", "labels", "pair", "transport", "via", "patience", "old-algorithms", "serial", "state", "zone"}

func (a *app) deviceExport() *cli.Command {
	return &cli.Command{
		Name: "export", Usage: "print a list of devices that can be imported again", ArgsUsage: "[SELECTOR]",
		Description: example("vergekeep device export site=Northgate > northgate.csv", "vergekeep --format yaml device export"),
		Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			list, err := devices(ctx, c, selectorOf(cmd.Args().Slice()))
			if err != nil {
				return err
			}
			rows := make([]map[string]string, 0, len(list))
			for _, d := range list {
				row := map[string]string{
					"name": d.Name, "address": d.Address, "platform": d.Platform, "site": d.Site, "role": d.Role, "labels": strings.Join(d.Labels, ", "),
					"pair": deref(d.Pair), "transport": string(deref(d.Transport)), "via": deref(d.Via), "serial": deref(d.Serial), "state": string(d.State), "zone": deref(d.Zone),
				}
				if d.Patience != nil {
					row["patience"] = fmt.Sprint(*d.Patience)
				}
				if deref(d.OldAlgorithms) {
					row["old-algorithms"] = "yes"
				}
				rows = append(rows, row)
			}
			if format := cmd.Root().String("format"); format == "json" || format == "yaml" {
				for _, row := range rows {
					for k, v := range row {
						if v == "" {
							delete(row, k)
						}
					}
				}
				return a.print(cmd, rows, &table{})
			}
			w := csv.NewWriter(a.Out)
			_ = w.Write(listColumns)
			for _, row := range rows {
				fields := make([]string, len(listColumns))
				for i, column := range listColumns {
					fields[i] = row[column]
				}
				_ = w.Write(fields)
			}
			w.Flush()
			return w.Error()
		}),
	}
}

func (a *app) enrolCommand() *cli.Command {
	return &cli.Command{
		Name: "enrol", Usage: "find out what is at an address, and make a record of it", ArgsUsage: "ADDRESS...", Category: "Fleet",
		Description: example("vergekeep enrol 192.0.2.17", "vergekeep enrol 192.0.2.0/28 --per-second 2 --add --site Northgate", "vergekeep enrol --list ./addresses.txt"),
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "add", Usage: "make records of what was recognised for sure, and take the first captures"},
			&cli.StringFlag{Name: "list", Usage: "a file with one address a line"},
			&cli.StringFlag{Name: "site"}, &cli.StringFlag{Name: "role"}, &cli.StringFlag{Name: "via", Usage: "the jump host"},
			&cli.BoolFlag{Name: "telnet", Usage: "try Telnet too where SSH does not answer; it is unprotected"},
			&cli.IntFlag{Name: "per-second", Usage: "addresses a second; 5 if left out"},
			&cli.IntSliceFlag{Name: "port", Usage: "a port to try at addresses without one; 22 if left out; may be repeated"},
			&cli.IntFlag{Name: "snmp-port", Usage: "where to ask by SNMP, if a credential is for that; 161 if left out"},
		},
		Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			in := gen.Enrolment{Addresses: cmd.Args().Slice(), Site: set(cmd, "site"), Role: set(cmd, "role"), Via: set(cmd, "via"), Telnet: setBool(cmd, "telnet"), PerSecond: setInt(cmd, "per-second"), Add: setBool(cmd, "add"), SnmpPort: setInt(cmd, "snmp-port")}
			if ports := cmd.IntSlice("port"); len(ports) > 0 {
				in.Ports = &ports
			}
			if path := cmd.String("list"); path != "" {
				text, err := readFile(path)
				if err != nil {
					return err
				}
				for line := range strings.Lines(text) {
					if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "#") {
						in.Addresses = append(in.Addresses, line)
					}
				}
			}
			if len(in.Addresses) == 0 {
				return fmt.Errorf("an address is missing\nSee '%s --help'", cmd.FullName())
			}
			r, err := c.EnrolWithResponse(ctx, in)
			if err := client.Check(r, err); err != nil {
				return err
			}
			return a.enrolled(cmd, *r.JSON200)
		}),
	}
}

func (a *app) enrolled(cmd *cli.Command, list []gen.Enrolled) error {
	t := &table{head: []string{"address", "platform", "sure", "name", "model", "serial", "version", "what came of it"}, none: "Nothing answered."}
	failed := false
	for _, e := range list {
		came := strings.Join(deref(e.Because), "; ")
		switch {
		case e.What != nil:
			failed = true
			came = a.tint(alarm, deref(e.What)+" "+deref(e.Advice))
		case deref(e.Added):
			came = "added, and being captured"
		}
		sure := "-"
		if e.Sure > 0 {
			sure = fmt.Sprintf("%d of 100", e.Sure)
		}
		t.add(e.Address, orDash(deref(e.Platform)), sure, orDash(deref(e.Name)), orDash(deref(e.Model)), orDash(deref(e.Serial)), orDash(deref(e.Version)), came)
	}
	if err := a.print(cmd, list, t); err != nil {
		return err
	}
	if failed {
		return yes{}
	}
	return nil
}

func (a *app) freshnessCommand() *cli.Command {
	return &cli.Command{
		Name: "freshness", Usage: "are we covered? how old the last good captures are against what the schedules promise", ArgsUsage: "[SELECTOR]", Category: "Every day",
		Description: example("vergekeep freshness", "vergekeep freshness site=Vessels"),
		Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			sel := selectorOf(cmd.Args().Slice())
			r, err := c.GetFreshnessWithResponse(ctx, &gen.GetFreshnessParams{Selector: &sel})
			if err := client.Check(r, err); err != nil {
				return err
			}
			x := r.JSON200
			t := &table{head: []string{"site", "fresh", "late", "stale", "no capture yet"}}
			number := func(n int, colour string) string {
				if n == 0 {
					return "-"
				}
				return a.tint(colour, fmt.Sprint(n))
			}
			fresh := 0
			for _, s := range x.Sites {
				if s.Counts.Late+s.Counts.Stale+s.Counts.None == 0 && cmd.Root().String("format") == "table" {
					fresh++
					continue
				}
				t.add(orDash(s.Site), fmt.Sprint(s.Counts.Fresh), number(s.Counts.Late, attention), number(s.Counts.Stale, alarm), number(s.Counts.None, alarm))
			}
			if cmd.Root().String("format") != "table" {
				return a.print(cmd, x, t)
			}
			n := x.Counts
			total := n.Fresh + n.Late + n.Stale + n.None
			fmt.Fprintf(a.Out, "%d of %s have a fresh capture.", n.Fresh, plural(total, "device"))
			if total > n.Fresh {
				fmt.Fprintf(a.Out, " %d are late, %d stale, %d have none yet.", n.Late, n.Stale, n.None)
			}
			fmt.Fprintln(a.Out)
			if len(t.rows) > 0 {
				fmt.Fprintln(a.Out)
				if err := t.write(a.Out); err != nil {
					return err
				}
				fmt.Fprintf(a.Out, "All are fresh at the other %s.\n", plural(fresh, "site"))
			}
			for _, p := range x.Problems {
				where := "at " + plural(len(p.Sites), "site")
				if len(p.Sites) == 1 {
					where = "all at " + p.Sites[0]
				}
				names := strings.Join(p.Names, ", ")
				if p.Devices > len(p.Names) {
					names += ", …"
				}
				fmt.Fprintf(a.Out, "\n%d × %s, %s: %s. %s\n  vergekeep device list problem=%s\n", p.Devices, a.tint(alarm, p.Reason), where, names, p.Advice, p.Reason)
			}
			if total > n.Fresh {
				return yes{}
			}
			return nil
		}),
	}
}

// nameplate counts or lists what devices said about themselves.
func (a *app) deviceNameplate() *cli.Command {
	return &cli.Command{
		Name: "nameplate", Usage: "what devices said about themselves, or how many share a value", ArgsUsage: "[SELECTOR]",
		Description: example("vergekeep device nameplate site=Northgate", "vergekeep device nameplate --count version", "vergekeep --format csv device nameplate", "vergekeep --format csv device nameplate --history site=Northgate"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "count", Usage: "count devices by model, version, platform, site or role"},
			&cli.BoolFlag{Name: "history", Usage: "what each said from when on, newest first: a changed version or serial number is a change too"},
		},
		Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			list, err := devices(ctx, c, selectorOf(cmd.Args().Slice()))
			if err != nil {
				return err
			}
			if by := cmd.String("count"); by != "" {
				return a.countBy(cmd, list, by)
			}
			if cmd.Bool("history") {
				return a.plates(ctx, cmd, c, list)
			}
			t := &table{head: []string{"name", "platform", "model", "serial", "version", "uptime"}, none: "No device matches."}
			holders := map[string][]string{}
			for _, d := range list {
				t.add(d.Name, d.Platform, orDash(deref(d.Model)), orDash(deref(d.Serial)), orDash(deref(d.Version)), orDash(deref(d.Uptime)))
				if d.Serial != nil {
					holders[*d.Serial] = append(holders[*d.Serial], d.Name)
				}
			}
			if err := a.print(cmd, list, t); err != nil {
				return err
			}
			if cmd.Root().String("format") == "table" {
				for _, d := range list {
					if names := holders[deref(d.Serial)]; len(names) > 1 && names[0] == d.Name {
						fmt.Fprintln(a.Err, a.tint(attention, fmt.Sprintf("The serial number %s is on %d records: %s.", *d.Serial, len(names), strings.Join(names, ", "))))
					}
				}
			}
			return nil
		}),
	}
}

// plates prints what devices said about themselves from when on.
func (a *app) plates(ctx context.Context, cmd *cli.Command, c *client.Client, list []gen.Device) error {
	type plate struct {
		Device string `json:"device"`
		gen.Nameplate
	}
	t := &table{head: []string{"device", "since", "name", "model", "serial", "version"}, none: "No device has said anything about itself yet."}
	rows := []plate{}
	for _, d := range list {
		r, err := c.GetDeviceWithResponse(ctx, d.Name)
		if err := client.Check(r, err); err != nil {
			return err
		}
		for _, p := range r.JSON200.Nameplates {
			rows = append(rows, plate{d.Name, p})
			t.add(d.Name, p.Since.Format(time.RFC3339), orDash(deref(p.Name)), orDash(deref(p.Model)), orDash(deref(p.Serial)), orDash(deref(p.Version)))
		}
	}
	return a.print(cmd, rows, t)
}

func (a *app) countBy(cmd *cli.Command, list []gen.Device, by string) error {
	fields := map[string]func(gen.Device) string{
		"model": func(d gen.Device) string { return deref(d.Model) }, "version": func(d gen.Device) string { return deref(d.Version) },
		"platform": func(d gen.Device) string { return d.Platform }, "site": func(d gen.Device) string { return d.Site }, "role": func(d gen.Device) string { return d.Role },
	}
	of, ok := fields[by]
	if !ok {
		return fmt.Errorf("devices are counted by model, version, platform, site or role, not by %q", by)
	}
	type counted struct {
		Value   string `json:"value"`
		Devices int    `json:"devices"`
	}
	count := map[string]int{}
	for _, d := range list {
		count[of(d)]++
	}
	var rows []counted
	for v, n := range count {
		rows = append(rows, counted{v, n})
	}
	slices.SortFunc(rows, func(x, y counted) int {
		return cmp.Or(cmp.Compare(y.Devices, x.Devices), cmp.Compare(x.Value, y.Value))
	})
	t := &table{head: []string{by, "devices"}, none: "No device matches."}
	for _, r := range rows {
		t.add(orDash(r.Value), fmt.Sprint(r.Devices))
	}
	return a.print(cmd, rows, t)
}
