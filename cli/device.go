package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"vergekeep/client"
	"vergekeep/client/gen"
)

func (a *app) deviceCommand() *cli.Command {
	return &cli.Command{
		Name: "device", Usage: "the fleet's records", Category: "Fleet",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list devices, those with a problem first", ArgsUsage: "[SELECTOR]",
				Description: example("vergekeep device list site=Northgate role=access", "vergekeep device list 'not freshness=fresh'"),
				Action:      a.deviceList,
			},
			{
				Name: "add", Usage: "add a device", ArgsUsage: "NAME",
				Description: example("vergekeep device add ng-acc-7 --platform tidegate --address 192.0.2.17 --site Northgate --role access"),
				Flags: append(recordFlags(),
					&cli.StringFlag{Name: "platform", Required: true, Usage: "one of 'vergekeep dialect list'"},
					&cli.StringFlag{Name: "address", Required: true, Usage: "host or host:port; several are separated by commas"},
					&cli.StringFlag{Name: "serial", Usage: "what it must say it is; learnt at the first visit if left out"},
				),
				Action: a.deviceAdd,
			},
			{
				Name: "show", Usage: "show a device: what it is, how it is, what is kept of it", ArgsUsage: "NAME",
				Description: example("vergekeep device show np-acc-2"),
				Action:      a.deviceShow,
			},
			{
				Name: "edit", Usage: "change a device's record", ArgsUsage: "NAME",
				Description: example("vergekeep device edit ng-acc-7 --site Northgate --address 192.0.2.18"),
				Flags:       append(recordFlags(), &cli.StringFlag{Name: "platform"}, &cli.StringFlag{Name: "address"}, &cli.StringFlag{Name: "name", Usage: "a new name; its history goes on"}),
				Action: func(ctx context.Context, cmd *cli.Command) error {
					edit := gen.DeviceEdit{
						Name: set(cmd, "name"), Site: set(cmd, "site"), Role: set(cmd, "role"), Platform: set(cmd, "platform"), Address: set(cmd, "address"),
						Transport: (*gen.DeviceEditTransport)(set(cmd, "transport")), Via: set(cmd, "via"), Pair: set(cmd, "pair"), Zone: set(cmd, "zone"),
						OldAlgorithms: setBool(cmd, "old-algorithms"), Patience: setInt(cmd, "patience"),
					}
					if cmd.IsSet("label") {
						labels := cmd.StringSlice("label")
						edit.Labels = &labels
					}
					return a.deviceEdit(ctx, cmd, edit, "is changed")
				},
			},
			a.deviceImport(), a.deviceExport(), a.deviceNameplate(),
			a.deviceState("pause", "stop visiting a device", "vergekeep device pause v-guillemot-r", gen.DeviceEdit{State: state(gen.DeviceEditStatePaused)}, "is paused"),
			a.deviceState("resume", "visit a paused or retired device again", "vergekeep device resume v-guillemot-r", gen.DeviceEdit{State: state(gen.DeviceEditStateActive)}, "is visited again"),
			a.deviceState("retire", "keep a device for its history only", "vergekeep device retire ng-acc-6", gen.DeviceEdit{State: state(gen.DeviceEditStateRetired)}, "is retired; its history stays"),
			{
				Name: "trust", Usage: "accept the host keys that devices showed and that were refused", ArgsUsage: "SELECTOR",
				Description: example("vergekeep device trust ng-acc-5 --why 'new supervisor card'", "vergekeep device trust problem=host-key-changed site=Northgate --why 'upgrade of last night'"),
				Flags:       []cli.Flag{why(), &cli.BoolFlag{Name: "add", Usage: "keep the keys on record beside it, as for both members of a pair"}},
				Action: a.with(0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					sel := selectorOf(cmd.Args().Slice())
					if sel == "" {
						return fmt.Errorf("a selector is missing\nSee '%s --help'", cmd.FullName())
					}
					r, err := c.AcceptHostKeysWithResponse(ctx, gen.KeyAcceptance{Selector: sel, Why: cmd.String("why"), Add: setBool(cmd, "add")})
					if err := client.Check(r, err); err != nil {
						return err
					}
					t := &table{head: []string{"name", "host key on record now"}}
					for _, d := range *r.JSON200 {
						t.add(d.Name, strings.Join(deref(d.HostKeys), ", "))
					}
					return a.print(cmd, r.JSON200, t)
				}),
			},
			{
				Name: "replace", Usage: "a spare takes over name and history: new serial number and host key", ArgsUsage: "NAME",
				Description: example("vergekeep device replace ng-acc-3 --serial TG24-00999 --why 'power supply burnt out'"),
				Flags:       []cli.Flag{why(), &cli.StringFlag{Name: "serial", Usage: "what the spare must say it is; learnt at its first visit if left out"}},
				Action: a.with(1, "the device's name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.ReplaceDeviceWithResponse(ctx, cmd.Args().First(), gen.Replacement{Serial: set(cmd, "serial"), Why: cmd.String("why")})
					if err := client.Check(r, err); err != nil {
						return err
					}
					fmt.Fprintf(a.Out, "%s may show a new host key and serial number at its next visit; its history goes on.\n", r.JSON200.Name)
					return nil
				}),
			},
			{
				Name: "login", Usage: "log in to a device and out again, capturing nothing", ArgsUsage: "NAME", Description: example("vergekeep device login ng-acc-1"),
				Action: a.with(1, "the device's name", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
					r, err := c.TryLoginWithResponse(ctx, cmd.Args().First())
					if err := client.Check(r, err); err != nil {
						return err
					}
					x := r.JSON200
					if cmd.Root().String("format") != "table" {
						return a.print(cmd, x, &table{})
					}
					fmt.Fprintf(a.Out, "%s let us in with the credential %s, in %.1f ms.\n", x.Device, x.Credential, x.TookMs)
					if x.HostKey != nil {
						fmt.Fprintf(a.Out, "Host key %s.\n", *x.HostKey)
					}
					if x.OldInUse != nil {
						fmt.Fprintln(a.Out, a.tint(attention, "It uses algorithms that are no longer thought safe: "+*x.OldInUse+"."))
					}
					return nil
				}),
			},
		},
	}
}

// recordFlags are the fields of a record that add and edit share.
func recordFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "site"}, &cli.StringFlag{Name: "role"}, &cli.StringSliceFlag{Name: "label"},
		&cli.StringFlag{Name: "zone", Usage: "time zone of its clock, where its messages name none"},
		&cli.StringFlag{Name: "pair", Usage: "name of the pair or stack that it belongs to"},
		&cli.StringFlag{Name: "transport", Usage: "telnet or console, where it is not what the platform says; both are unprotected"},
		&cli.StringFlag{Name: "via", Usage: "the jump host"},
		&cli.BoolFlag{Name: "old-algorithms", Usage: "allow algorithms that are no longer thought safe"},
		&cli.IntFlag{Name: "patience", Usage: "so many times the usual time limits, 1 to 20"},
	}
}

func state(s gen.DeviceEditState) *gen.DeviceEditState { return &s }

func (a *app) deviceState(name, usage, sample string, edit gen.DeviceEdit, said string) *cli.Command {
	return &cli.Command{
		Name: name, Usage: usage, ArgsUsage: "NAME", Description: example(sample),
		Action: func(ctx context.Context, cmd *cli.Command) error { return a.deviceEdit(ctx, cmd, edit, said) },
	}
}

func (a *app) deviceEdit(ctx context.Context, cmd *cli.Command, edit gen.DeviceEdit, said string) error {
	if err := exactly(cmd, 1, "the device's name"); err != nil {
		return err
	}
	c, err := a.connect(cmd)
	if err != nil {
		return err
	}
	r, err := c.EditDeviceWithResponse(ctx, cmd.Args().First(), &gen.EditDeviceParams{}, edit)
	if err := client.Check(r, err); err != nil {
		return err
	}
	t := deviceTable()
	a.deviceRow(t, *r.JSON200, time.Now())
	if cmd.Root().String("format") == "table" {
		fmt.Fprintf(a.Out, "%s %s.\n", r.JSON200.Name, said)
		return nil
	}
	return a.print(cmd, r.JSON200, t)
}

// devices fetches all devices of a selector, page by page.
func devices(ctx context.Context, c *client.Client, selector string) ([]gen.Device, error) {
	limit := 2000
	params := &gen.ListDevicesParams{Selector: &selector, Limit: &limit}
	all := []gen.Device{}
	for {
		r, err := c.ListDevicesWithResponse(ctx, params)
		if err := client.Check(r, err); err != nil {
			return nil, err
		}
		all = append(all, r.JSON200.Items...)
		if r.JSON200.Next == nil {
			return all, nil
		}
		params.Cursor = r.JSON200.Next
	}
}

func deviceTable() *table {
	return &table{head: []string{"name", "site", "role", "platform", "freshness", "last change", "what is wrong"}, none: "No device matches."}
}

func (a *app) deviceRow(t *table, d gen.Device, now time.Time) {
	wrong := ""
	if d.Problem != nil {
		wrong = fmt.Sprintf("%s (for %s)", strings.TrimSuffix(d.Problem.What, "."), since(now.Sub(d.Problem.Since)))
	}
	switch {
	case d.State != gen.DeviceStateActive:
		wrong = string(d.State)
	case wrong == "" && d.Suspect != nil:
		wrong = "suspect: " + strings.TrimSuffix(*d.Suspect, ".")
	}
	fresh := string(d.Freshness)
	if d.Freshness != gen.Fresh {
		fresh = a.tint(attention, fresh)
	}
	t.add(d.Name, orDash(d.Site), orDash(d.Role), d.Platform, fresh, when(d.LastChange, now), a.tint(alarm, wrong))
}

func (a *app) deviceList(ctx context.Context, cmd *cli.Command) error {
	c, err := a.connect(cmd)
	if err != nil {
		return err
	}
	list, err := devices(ctx, c, selectorOf(cmd.Args().Slice()))
	if err != nil {
		return err
	}
	t, now := deviceTable(), time.Now()
	rank := func(d gen.Device) int {
		switch {
		case d.Problem != nil:
			return 0
		case d.Suspect != nil:
			return 1
		}
		return 2
	}
	slices.SortStableFunc(list, func(x, y gen.Device) int { return rank(x) - rank(y) })
	for _, d := range list {
		a.deviceRow(t, d, now)
	}
	return a.print(cmd, list, t)
}

func (a *app) deviceAdd(ctx context.Context, cmd *cli.Command) error {
	if err := exactly(cmd, 1, "the device's name"); err != nil {
		return err
	}
	c, err := a.connect(cmd)
	if err != nil {
		return err
	}
	in := gen.NewDevice{
		Name: cmd.Args().First(), Platform: cmd.String("platform"), Address: cmd.String("address"), Site: set(cmd, "site"), Role: set(cmd, "role"), Serial: set(cmd, "serial"),
		Transport: (*gen.NewDeviceTransport)(set(cmd, "transport")), Via: set(cmd, "via"), Pair: set(cmd, "pair"), Zone: set(cmd, "zone"), OldAlgorithms: setBool(cmd, "old-algorithms"), Patience: setInt(cmd, "patience"),
	}
	if labels := cmd.StringSlice("label"); len(labels) > 0 {
		in.Labels = &labels
	}
	r, err := c.AddDeviceWithResponse(ctx, in)
	if err := client.Check(r, err); err != nil {
		return err
	}
	if cmd.Root().String("format") == "table" {
		fmt.Fprintf(a.Out, "%s is in the fleet. Capture it with 'vergekeep capture %s'.\n", r.JSON201.Name, quoted(r.JSON201.Name))
		return nil
	}
	t := deviceTable()
	a.deviceRow(t, *r.JSON201, time.Now())
	return a.print(cmd, r.JSON201, t)
}

func quoted(name string) string {
	if strings.Contains(name, " ") {
		return "'\"" + name + "\"'"
	}
	return name
}

func (a *app) deviceShow(ctx context.Context, cmd *cli.Command) error {
	if err := exactly(cmd, 1, "the device's name"); err != nil {
		return err
	}
	c, err := a.connect(cmd)
	if err != nil {
		return err
	}
	r, err := c.GetDeviceWithResponse(ctx, cmd.Args().First())
	if err := client.Check(r, err); err != nil {
		return err
	}
	d, now := r.JSON200.Device, time.Now()
	t := &table{head: []string{"configuration", "revision", "in force since", "last seen", "lines", "remark"}, none: "Nothing has been captured yet."}
	for _, rev := range r.JSON200.Configurations {
		name, _, _ := strings.Cut(rev.Ref, "@")
		t.add(name, fmt.Sprintf("@%d", rev.Number), when(&rev.FirstSeen, now), when(&rev.LastSeen, now), fmt.Sprint(rev.Lines), remark(rev))
	}
	if cmd.Root().String("format") != "table" {
		return a.print(cmd, r.JSON200, t)
	}
	facts := &strings.Builder{}
	fact := func(name, value string) {
		if value != "" {
			fmt.Fprintf(facts, "%-14s %s\n", name, value)
		}
	}
	fmt.Fprintln(a.Out, a.tint(bold, d.Name)+"  "+strings.TrimSpace(d.Site+", "+d.Role))
	if p := d.Problem; p != nil {
		fmt.Fprintf(a.Out, "%s\n%s\n", a.tint(alarm, fmt.Sprintf("For %s: %s", since(now.Sub(p.Since)), p.What)), p.Advice)
	}
	if u := r.JSON200.Unsaved; u != nil && statsTotal(*u) > 0 {
		fmt.Fprintln(a.Out, a.tint(attention, fmt.Sprintf("%s would be lost at a restart; see 'vergekeep diff %s:startup %s'.", plural(statsTotal(*u), "line"), quoted(d.Name), quoted(d.Name))))
	}
	fact("freshness", string(d.Freshness))
	fact("platform", d.Platform)
	fact("address", d.Address)
	fact("labels", strings.Join(d.Labels, ", "))
	fact("model", deref(d.Model))
	fact("serial", deref(d.Serial))
	fact("version", deref(d.Version))
	fact("uptime", deref(d.Uptime))
	fact("pair", deref(d.Pair))
	fact("time zone", deref(d.Zone))
	fact("groups", strings.Join(deref(d.Groups), ", "))
	if d.Transport != nil {
		fact("transport", a.tint(attention, string(*d.Transport)+", unprotected"))
	}
	fact("through", deref(d.Via))
	fact("host key", strings.Join(deref(d.HostKeys), ", "))
	if d.OfferedKey != nil {
		fact("refused key", a.tint(alarm, *d.OfferedKey))
	}
	if d.OldInUse != nil {
		fact("old algorithms", a.tint(attention, *d.OldInUse))
	}
	var reached []string
	for _, s := range r.JSON200.Schedules {
		if s.Next != nil {
			reached = append(reached, fmt.Sprintf("%s, next %s", s.Name, s.Next.Local().Format("Mon 2 Jan 15:04")))
		}
	}
	fact("schedules", orDash(strings.Join(reached, "; ")))
	if len(r.JSON200.SameSerial) > 0 {
		fact("same serial", a.tint(alarm, "also on the record of "+strings.Join(r.JSON200.SameSerial, ", ")))
	}
	if len(r.JSON200.Nameplates) > 1 {
		p := r.JSON200.Nameplates[1]
		fact("before "+r.JSON200.Nameplates[0].Since.Local().Format("2 Jan"), strings.Join(nonEmpty(deref(p.Model), deref(p.Serial), deref(p.Version)), ", "))
	}
	fact("last visit", when(d.LastVisit, now))
	fact("last good", when(d.LastGood, now))
	fmt.Fprintln(a.Out, facts.String())
	return a.print(cmd, nil, t)
}

func nonEmpty(list ...string) []string {
	return slices.DeleteFunc(list, func(s string) bool { return s == "" })
}

func statsTotal(s gen.Stats) int { return s.Added + s.Removed + s.Changed + s.Moved }

func remark(r gen.Revision) string {
	var said []string
	if r.SameAs != nil {
		said = append(said, fmt.Sprintf("same as @%d", *r.SameAs))
	}
	if r.Suspect != nil {
		said = append(said, "suspect: "+*r.Suspect)
	}
	if r.Origin != gen.Captured {
		said = append(said, string(r.Origin))
	}
	if r.Author != nil {
		said = append(said, "by "+*r.Author)
	}
	if n := r.Note; n != nil {
		if deref(n.Pinned) {
			said = append(said, "pinned")
		}
		if n.Name != nil {
			said = append(said, quoted(*n.Name))
		}
		if n.Remark != nil {
			said = append(said, *n.Remark)
		}
	}
	if deref(r.Thinned) {
		said = append(said, "only its hash is kept")
	}
	if s := r.Stats; r.Number > 1 && r.Origin == gen.Captured && s.Added+s.Removed+s.Changed+s.Moved == 0 {
		said = append(said, "only order, blanks or secrets differ")
	}
	return strings.Join(said, "; ")
}
