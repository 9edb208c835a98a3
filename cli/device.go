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
		Name: "device", Usage: "the fleet's records", Category: "Keeping",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list devices, those with a problem first", ArgsUsage: "[SELECTOR]",
				Description: example("vergekeep device list site=Northgate role=access", "vergekeep device list 'not freshness=fresh'"),
				Action:      a.deviceList,
			},
			{
				Name: "add", Usage: "add a device", ArgsUsage: "NAME",
				Description: example("vergekeep device add ng-acc-7 --platform tidegate --address 192.0.2.17 --site Northgate --role access"),
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "platform", Required: true, Usage: "one of 'vergekeep dialect list'"},
					&cli.StringFlag{Name: "address", Required: true, Usage: "host or host:port"},
					&cli.StringFlag{Name: "site"}, &cli.StringFlag{Name: "role"},
					&cli.StringSliceFlag{Name: "label"},
					&cli.StringFlag{Name: "serial", Usage: "what it must say it is; learnt at the first visit if left out"},
				},
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
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "site"}, &cli.StringFlag{Name: "role"}, &cli.StringFlag{Name: "address"}, &cli.StringSliceFlag{Name: "label"},
				},
				Action: func(ctx context.Context, cmd *cli.Command) error {
					edit := gen.DeviceEdit{}
					for flag, field := range map[string]**string{"site": &edit.Site, "role": &edit.Role, "address": &edit.Address} {
						if cmd.IsSet(flag) {
							v := cmd.String(flag)
							*field = &v
						}
					}
					if cmd.IsSet("label") {
						labels := cmd.StringSlice("label")
						edit.Labels = &labels
					}
					return a.deviceEdit(ctx, cmd, edit, "edited")
				},
			},
			a.deviceState("pause", "stop visiting a device", "vergekeep device pause v-guillemot-r", gen.DeviceEdit{State: state(gen.DeviceEditStatePaused)}, "is paused"),
			a.deviceState("resume", "visit a paused device again", "vergekeep device resume v-guillemot-r", gen.DeviceEdit{State: state(gen.DeviceEditStateActive)}, "is visited again"),
			a.deviceState("trust", "accept a new host key and serial number: the box was replaced or reset", "vergekeep device trust ng-acc-5", gen.DeviceEdit{Trust: new(true)}, "may show a new host key and serial number at its next visit"),
		},
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
	case d.State == gen.DeviceStatePaused:
		wrong = "paused"
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
	in := gen.NewDevice{Name: cmd.Args().First(), Platform: cmd.String("platform"), Address: cmd.String("address")}
	for flag, field := range map[string]**string{"site": &in.Site, "role": &in.Role, "serial": &in.Serial} {
		if v := cmd.String(flag); v != "" {
			*field = &v
		}
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
			fmt.Fprintf(facts, "%-12s %s\n", name, value)
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
	fact("host key", deref(d.HostKey))
	fact("last visit", when(d.LastVisit, now))
	fact("last good", when(d.LastGood, now))
	fmt.Fprintln(a.Out, facts.String())
	return a.print(cmd, nil, t)
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
	return strings.Join(said, "; ")
}
