// Package demo runs Verge Keep on Skerry Line: the service, the stand-ins, and
// thirty days of history. The history is not written into the archive: it is
// lived through, with real rounds over the stand-ins under a clock that is set
// to each moment in turn.
package demo

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"log/slog"
	mathrand "math/rand/v2"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"vergekeep/archive"
	"vergekeep/daemon"
	"vergekeep/service/accounts"
	"vergekeep/service/fleet"
	"vergekeep/service/journal"
	"vergekeep/service/rounds"
	"vergekeep/service/vault"
	"vergekeep/standin"
	"vergekeep/standin/scenario"
)

// Options says how the demonstration runs.
type Options struct {
	Listen   string
	Data     string // kept if given; else a folder that goes with the end
	Password string // of all accounts; a random one if empty
	Quiet    bool   // nothing happens by itself
	Version  string
	Log      *slog.Logger
	Out      io.Writer
}

// Demo is a running demonstration.
type Demo struct {
	Daemon   *daemon.Daemon
	Network  *scenario.Network
	Fleet    *standin.Fleet
	Password string

	clock   *clock
	cleanup func() error
}

// clock is the real one, or runs behind it while history is lived through.
type clock struct{ behind atomic.Int64 }

func (c *clock) now() time.Time { return time.Now().Add(-time.Duration(c.behind.Load())).UTC() }

func (c *clock) set(t time.Time) { c.behind.Store(int64(time.Since(t))) }

func (c *clock) real() { c.behind.Store(0) }

// account of the demonstration.
var people = []struct {
	name   string
	rights []accounts.Right
	is     string
}{
	{"lead", accounts.Rights, "may do everything"},
	{"neteng", []accounts.Right{accounts.See, accounts.Operate, accounts.SeeSecrets}, "operates and sees secrets"},
	{"noc", []accounts.Right{accounts.See, accounts.Operate}, "operates; secrets are hidden"},
	{"auditor", []accounts.Right{accounts.See}, "looks; secrets are hidden"},
}

// Start builds the demonstration: accounts, devices and history.
func Start(ctx context.Context, o Options) (_ *Demo, err error) {
	d := &Demo{Network: scenario.New(), Fleet: standin.NewFleet(), Password: o.Password, clock: &clock{}}
	defer func() {
		if err != nil {
			err = errors.Join(err, d.Close())
		}
	}()
	if d.Password == "" {
		b := make([]byte, 9)
		rand.Read(b)
		d.Password = base64.RawURLEncoding.EncodeToString(b)
	}
	if o.Data == "" {
		dir, err := os.MkdirTemp("", "vergekeep-demo-")
		if err != nil {
			return nil, err
		}
		o.Data = dir
		d.cleanup = func() error { return os.RemoveAll(dir) }
	}
	if _, err := os.Stat(filepath.Join(o.Data, "vergekeep.db")); err == nil {
		return nil, fmt.Errorf("%s holds a database already; name a new folder, or serve that one with 'vergekeep serve --data %s'", o.Data, o.Data)
	}
	for _, e := range d.Network.Entries {
		e.Device.SetClock(d.clock.now)
		e.Device.Outlet = d.outlet(e)
		if _, err := d.Fleet.Add(e.Device); err != nil {
			return nil, err
		}
	}
	now := time.Now()
	events := d.Network.History(now)
	d.clock.set(events[0].At.Add(-time.Hour))
	d.Daemon, err = daemon.Open(ctx, daemon.Config{Data: o.Data, Listen: o.Listen, SyslogUDP: "127.0.0.1:0", SyslogTCP: "127.0.0.1:0", Traps: "127.0.0.1:0", Quiet: quiet, Concurrency: 32, Log: o.Log, Now: d.clock.now, Version: o.Version})
	if err != nil {
		return nil, err
	}
	if err := d.records(ctx); err != nil {
		return nil, err
	}
	if err := d.standards(ctx); err != nil {
		return nil, err
	}
	if err := d.live(ctx, events); err != nil {
		return nil, err
	}
	if err := d.judge(ctx, now); err != nil {
		return nil, err
	}
	d.clock.real()
	if err := d.audits(ctx, now); err != nil {
		return nil, err
	}
	for _, e := range d.Network.Entries {
		e.Device.SetDelay(e.Delay)
	}
	return d, d.settings(ctx)
}

// settings are what a team sets up around its devices.
func (d *Demo) settings(ctx context.Context) error {
	// Set anew, so that nothing was missed during the thirty days.
	if err := d.Daemon.Rounds.DeleteSchedule(ctx, "nightly", "lead"); err != nil {
		return err
	}
	for _, sc := range []rounds.Schedule{
		{Name: "nightly", Description: "Everything, each night.", Expression: "0 2 * * *", Zone: "UTC"},
		{Name: "edges", Description: "What faces outside, four times a day.", Expression: "0 */6 * * *", Zone: "UTC", Selector: "group=edges", Spread: 10 * time.Minute},
		{Name: "vessels in port", Description: "When most of them are moored.", Expression: "30 23 * * 0", Zone: "Europe/Oslo", Selector: "site=Vessels", Spread: time.Hour, Tries: 5, Paused: true},
	} {
		if sc.Name == "edges" {
			for _, g := range []fleet.Group{{Name: "edges", Selector: "role=edge", Description: "Routers that face outside."}, {Name: "outside", Selector: "group=edges not site=Vessels", Description: "Edges ashore."}, {Name: "firewalls", Selector: "role=firewall"}} {
				if err := d.Daemon.Fleet.SetGroup(ctx, g, "lead"); err != nil {
					return err
				}
			}
		}
		if _, err := d.Daemon.Rounds.AddSchedule(ctx, sc, "lead"); err != nil {
			return err
		}
	}
	for _, site := range []fleet.Site{{Name: "Vessels", AtOnce: 4}, {Name: "Dry Dock", AtOnce: 2, Closed: []string{"11:00-12:00 Mon-Fri"}, Zone: "Europe/Oslo"}} {
		if err := d.Daemon.Fleet.SetSite(ctx, site, "lead"); err != nil {
			return err
		}
	}
	return nil
}

// records fills in accounts, credential and devices.
func (d *Demo) records(ctx context.Context) error {
	for _, p := range people {
		if _, err := d.Daemon.Accounts.Add(ctx, p.name, d.Password, p.rights, false, journal.System); err != nil {
			return err
		}
	}
	if _, err := d.Daemon.Accounts.SetState(ctx, "admin", "disabled", "lead"); err != nil {
		return err
	}
	if _, err := d.Daemon.Vault.Add(ctx, vault.Credential{Name: "skerry-keeper", Username: scenario.User, Secrets: vault.Secrets{Password: scenario.Password, Elevation: scenario.Elevation}}, "lead", d.clock.now()); err != nil {
		return err
	}
	for _, e := range d.Network.Entries {
		transport := fleet.Usual
		if e.Device.Telnet {
			transport = fleet.Telnet
		}
		if _, err := d.Daemon.Fleet.Add(ctx, fleet.Device{Transport: transport, Name: e.Device.Name, Platform: string(e.Device.Platform), Addresses: []string{e.Device.Addr}, Site: e.Site, Role: e.Role, Labels: e.Labels}, "lead"); err != nil {
			return err
		}
	}
	if err := d.Daemon.Signals.Settle(ctx); err != nil {
		return err
	}
	return d.agreements(ctx)
}

// live goes through events, each at its time.
func (d *Demo) live(ctx context.Context, events []scenario.Event) error {
	for _, e := range events {
		d.clock.set(e.At)
		if e.Do != nil {
			if err := e.Do(d.Fleet); err != nil {
				return fmt.Errorf("%s: %w", e.What, err)
			}
		}
		if e.Trust != "" {
			if _, err := d.Daemon.Fleet.Replace(ctx, e.Trust, "", "swapped for a spare", "neteng"); err != nil {
				return err
			}
		}
		if err := d.Daemon.Signals.Settle(ctx); err != nil {
			return err
		}
		if e.Bless == "*" {
			if _, err := d.Daemon.Audits.Bless(ctx, d.Daemon.Notes, "", false, e.Remark, "lead"); err != nil {
				return err
			}
		}
		if e.Visit == "-" {
			continue
		}
		origin, by := "schedule", journal.System
		if e.Visit != "" {
			origin, by = "demand", "noc"
		}
		r, err := d.Daemon.Rounds.Start(ctx, e.Visit, origin, by)
		if err != nil {
			return fmt.Errorf("%s: %w", e.What, err)
		}
		if _, err := d.Daemon.Rounds.Wait(ctx, r.ID); err != nil {
			return err
		}
		if err := d.Daemon.Changes.Look(ctx); err != nil {
			return err
		}
		d.Daemon.Audits.Recheck()
		if err := d.Daemon.Audits.Work(ctx); err != nil {
			return err
		}
		if e.Bless != "" {
			if err := d.bless(ctx, e); err != nil {
				return err
			}
		}
	}
	return nil
}

// bless makes what a device has now its baseline.
func (d *Demo) bless(ctx context.Context, e scenario.Event) error {
	device, err := d.Daemon.Fleet.Get(ctx, e.Bless)
	if err != nil {
		return err
	}
	newest, err := d.Daemon.Archive.Newest(ctx, device.ID)
	if err != nil {
		return err
	}
	for _, r := range newest {
		if err := d.Daemon.Notes.Bless(ctx, []archive.Revision{r}, []string{fmt.Sprintf("%s:%s@%d", device.Name, r.Datastore, r.Number)}, e.Remark, false, "lead"); err != nil {
			return err
		}
	}
	return nil
}

// Run serves until ctx ends, with something happening now and then.
func (d *Demo) Run(ctx context.Context, quiet bool) error {
	if !quiet {
		ctx, cancel := context.WithCancel(ctx)
		done := make(chan struct{})
		go func() {
			defer close(done)
			d.happen(ctx)
		}()
		defer func() { cancel(); <-done }()
	}
	return d.Daemon.Serve(ctx)
}

// happen changes a device about every minute, as its operator does; the device says
// so itself.
func (d *Demo) happen(ctx context.Context) {
	for {
		select {
		case <-time.After(time.Duration(40+mathrand.IntN(30)) * time.Second):
		case <-ctx.Done():
			return
		}
		name, by, edit, part := d.Network.Something()
		d.Network.Device(name).Change(by, part, true, edit)
	}
}

// Close ends everything.
func (d *Demo) Close() error {
	var errs []error
	if d.Daemon != nil {
		errs = append(errs, d.Daemon.Close())
	}
	d.Fleet.Close()
	if d.cleanup != nil {
		errs = append(errs, d.cleanup())
	}
	return errors.Join(errs...)
}

// Greeting says where the demonstration is and how to get in.
func (d *Demo) Greeting() string {
	text := fmt.Sprintf("\nSkerry Line is up: %d devices, thirty days of history.\n\n   Console   %s\n   Sign in   as lead, neteng, noc or auditor, each with the password %s\n", len(d.Network.Entries), d.Daemon.URL, d.Password)
	for _, p := range people {
		text += fmt.Sprintf("             %-8s %s\n", p.name, p.is)
	}
	device := d.Network.Device("np-acc-2")
	return text + fmt.Sprintf(`
On the command line, in another window:

   ./bin/vergekeep login %s --account neteng
   ./bin/vergekeep device list
   ./bin/vergekeep diff np-acc-2

Change a device behind Verge Keep's back; its password is %s, and to raise it is %s:

   ssh -p %s %s@127.0.0.1      then: raise, edit, section time, set zone UTC, done, bye

Something happens about every minute, and the devices say so themselves. Ctrl-C stops all of it.

`, d.Daemon.URL, scenario.Password, scenario.Elevation, portOf(device.Addr), scenario.User)
}

func portOf(addr string) string {
	for i := len(addr) - 1; i >= 0; i-- {
		if addr[i] == ':' {
			return addr[i+1:]
		}
	}
	return addr
}
