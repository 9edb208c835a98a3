package demo

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"vergekeep/core/dialect"
	"vergekeep/core/window"
	"vergekeep/service/changes"
	"vergekeep/standin"
	"vergekeep/standin/scenario"
	"vergekeep/wire/inlet"
)

// quiet is how long a stand-in has to say nothing more before it is captured; its
// operators type fast.
const quiet = 3 * time.Second

// outlet is by which a stand-in tells what happened to it: over the network, but
// during the thirty days, which pass faster than messages travel. What stands in
// the Dry Dock says nothing.
func (d *Demo) outlet(e *scenario.Entry) func(standin.Said) {
	if e.Site == "Dry Dock" {
		return nil
	}
	return func(s standin.Said) {
		if d.Daemon == nil {
			return
		}
		if d.clock.behind.Load() == 0 {
			packets, _ := d.Daemon.Inlet.Addresses()
			standin.Tell(packets[0], packets[1])(s)
			return
		}
		m := inlet.Message{Medium: dialect.BySyslog, Listener: "udp", From: netip.MustParseAddrPort("127.0.0.1:514"), Arrived: d.clock.now(), Raw: []byte(s.Syslog)}
		switch {
		case s.Trap != "":
			m.Medium, m.Trap = dialect.ByTrap, &inlet.Trap{Version: "2c", Community: "skerry-watch", ID: s.Trap, Values: s.Values}
		case s.Notification != "":
			d.Daemon.Signals.Notified(e.Device.Name, dialect.Message{Medium: dialect.ByNotification, Name: s.Notification, Values: s.Values}, m.Arrived)
			return
		}
		d.Daemon.Signals.Take(m)
	}
}

// agreements are the hours in which changes are made at Skerry Line, and what needs
// nobody's verdict.
func (d *Demo) agreements(ctx context.Context) error {
	oslo, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		return err
	}
	from := d.clock.now().AddDate(0, -2, 0)
	daily := func(name, selector string, hour int, length time.Duration) window.Window {
		return window.Window{Name: name, Selector: selector, Start: time.Date(from.Year(), from.Month(), 1, hour, 0, 0, 0, oslo), Length: length, Rule: "FREQ=DAILY"}
	}
	year := time.Now().Year()
	if err := d.Daemon.Changes.SetWindows(ctx, []window.Window{
		daily("desk hours", "role=access role=office role=distribution role=edge", 7, 13*time.Hour),
		daily("core evenings", "role=core", 20, 4*time.Hour),
		daily("firewall evenings", "role=firewall", 18, 3*time.Hour),
		{Name: "turn of the year", Freeze: true, Start: time.Date(year, 12, 20, 0, 0, 0, 0, oslo), Length: 14 * 24 * time.Hour, Remark: "Ferries sail every hour; nothing changes."},
	}, "lead"); err != nil {
		return err
	}
	return d.Daemon.Changes.SetJudgement(ctx, changes.Judgement{
		Name: "daily work", Selector: "role=access role=office role=distribution", Accounts: []string{"neteng", "noc"}, Inside: true, Most: 20,
		Sections: []string{"interface * > description **", "interface * > lan **", "agent > contact **", "... > interface * > mtu *"},
		Verdict:  changes.Authorised, Reference: "standing order 7", Account: "lead",
	})
}

// judge gives the verdicts that people gave during the thirty days; of the last few
// days some are still open.
func (d *Demo) judge(ctx context.Context, now time.Time) error {
	old, _, err := d.Daemon.Changes.List(ctx, changes.Filter{Verdicts: []changes.Verdict{changes.Open}, To: now.AddDate(0, 0, -5), Limit: changes.MaxList})
	if err != nil {
		return err
	}
	slices.Reverse(old)
	for i, c := range old {
		d.clock.set(c.Found.Add(7 * time.Hour))
		verdict, reference, remark := changes.Authorised, fmt.Sprintf("ticket %d", 1900+i), ""
		if slices.Contains(c.Accounts, "noc") && c.Device == "t07-rt-1" {
			continue // nobody wrote it down
		}
		if c.Device == "hh-core-1" {
			reference, remark = "ticket 2041", "larger frames towards Northgate"
		}
		if _, err := d.Daemon.Changes.Judge(ctx, []int64{c.ID}, verdict, reference, remark, "lead"); err != nil {
			return err
		}
	}
	return nil
}
