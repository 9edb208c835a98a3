package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"vergekeep/cli"
	"vergekeep/client"
	"vergekeep/client/gen"
	"vergekeep/daemon"
	"vergekeep/service/accounts"
	"vergekeep/service/journal"
	"vergekeep/standin"
	"vergekeep/standin/scenario"
)

// ErrTour is wrapped where a step of the tour did not show what it should.
var ErrTour = errors.New("the tour did not go as it should")

// Tour runs a complete example and ends by itself: capture, change, capture,
// difference, over HTTP as any client would, with one device of each platform.
func Tour(ctx context.Context, c cli.Console, log *slog.Logger, version string) error {
	t := &tour{c: c, out: c.Out}
	dir, err := os.MkdirTemp("", "vergekeep-tour-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	network, devices := scenario.New(), standin.NewFleet()
	defer devices.Close()
	d, err := daemon.Open(ctx, daemon.Config{Data: dir, Listen: "127.0.0.1:0", Concurrency: 8, Log: log, Version: version})
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	served := make(chan error, 1)
	go func() { served <- d.Serve(ctx) }()
	err = t.run(ctx, d, network, devices)
	cancel()
	return errors.Join(err, <-served, d.Close())
}

type tour struct {
	c   cli.Console
	out io.Writer
	n   int
}

func (t *tour) step(format string, args ...any) {
	t.n++
	fmt.Fprintf(t.out, "\n%d. %s\n\n", t.n, fmt.Sprintf(format, args...))
}

func (t *tour) want(ok bool, format string, args ...any) error {
	if ok {
		return nil
	}
	return fmt.Errorf("%w: step %d: %s", ErrTour, t.n, fmt.Sprintf(format, args...))
}

// tourDevices are one of each platform, with what is typed at it later.
var tourDevices = []string{"np-acc-2", "hh-core-1", "hh-fw-1", "t07-rt-1"}

func (t *tour) run(ctx context.Context, d *daemon.Daemon, network *scenario.Network, devices *standin.Fleet) error {
	const password = "a-tour-of-the-verge"
	if _, err := d.Accounts.Add(ctx, "neteng", password, []accounts.Right{accounts.See, accounts.Operate, accounts.Administer}, false, journal.System); err != nil {
		return err
	}
	api, err := client.New(d.URL, "")
	if err != nil {
		return err
	}
	in, err := api.SignInWithResponse(ctx, gen.SignIn{Account: "neteng", Password: password})
	if err := client.Check(in, err); err != nil {
		return err
	}

	t.step("A service at %s, a credential, and four devices: one of each platform.", d.URL)
	user, secret, elevation := scenario.User, scenario.Password, scenario.Elevation
	cred, err := api.AddCredentialWithResponse(ctx, gen.NewCredential{Name: "skerry-keeper", Username: &user, Password: &secret, Elevation: &elevation})
	if err := client.Check(cred, err); err != nil {
		return err
	}
	for _, name := range tourDevices {
		device := network.Device(name)
		addr, err := devices.Add(device)
		if err != nil {
			return err
		}
		r, err := api.AddDeviceWithResponse(ctx, gen.NewDevice{Name: name, Platform: string(device.Platform), Address: addr})
		if err := client.Check(r, err); err != nil {
			return err
		}
		fmt.Fprintf(t.out, "   %-10s %-9s %s\n", name, device.Platform, addr)
	}

	t.step("The first round captures what there is.")
	first, err := t.round(ctx, api)
	if err != nil {
		return err
	}
	if err := t.want(first.Round.New == len(tourDevices), "%d devices have a new revision, not %d", first.Round.New, len(tourDevices)); err != nil {
		return err
	}

	t.step("The second finds nothing new, though headers and sealed passwords are written anew each time.")
	second, err := t.round(ctx, api)
	if err != nil {
		return err
	}
	if err := t.want(second.Round.Unchanged == len(tourDevices), "%d devices are unchanged, not %d", second.Round.Unchanged, len(tourDevices)); err != nil {
		return err
	}

	t.step("Behind its back somebody logs in to np-acc-2 and types:")
	if err := t.typeAt(network.Device("np-acc-2")); err != nil {
		return err
	}

	t.step("The third round notices.")
	third, err := t.round(ctx, api)
	if err != nil {
		return err
	}
	if err := t.want(third.Round.New == 1 && third.Round.Unchanged == len(tourDevices)-1, "one device should have a new revision, %d have", third.Round.New); err != nil {
		return err
	}

	t.step("What changed:")
	cmp, err := api.CompareWithResponse(ctx, &gen.CompareParams{Left: "np-acc-2@-1", Right: "np-acc-2", Context: new(0)})
	if err := client.Check(cmp, err); err != nil {
		return err
	}
	cli.PrintComparison(t.c, cmp.JSON200)
	s := cmp.JSON200.Stats
	if err := t.want(s.Changed == 1 && s.Added == 1 && s.Removed == 1 && s.Moved == 0 && len(cmp.JSON200.Sections) >= 2, "the differences are %+v", s); err != nil {
		return err
	}

	t.step("It was not saved: running against startup.")
	unsaved, err := api.CompareWithResponse(ctx, &gen.CompareParams{Left: "np-acc-2:startup", Right: "np-acc-2", Context: new(0)})
	if err := client.Check(unsaved, err); err != nil {
		return err
	}
	if err := t.want(unsaved.JSON200.Stats.Added+unsaved.JSON200.Stats.Removed+unsaved.JSON200.Stats.Changed == 3, "the differences are %+v", unsaved.JSON200.Stats); err != nil {
		return err
	}
	fmt.Fprintln(t.out, "   3 lines would be lost at a restart.")

	t.step("Secrets stay hidden from whoever lacks the right to see them.")
	conf, err := api.GetConfigurationWithResponse(ctx, &gen.GetConfigurationParams{Ref: "np-acc-2"})
	if err := client.Check(conf, err); err != nil {
		return err
	}
	hidden := 0
	for line := range strings.Lines(conf.JSON200.Text) {
		if strings.Contains(line, "●") {
			fmt.Fprint(t.out, "   ", line)
			hidden++
		}
	}
	if err := t.want(conf.JSON200.Masked && hidden >= 4 && !strings.Contains(conf.JSON200.Text, "r4dius"), "%d lines are masked", hidden); err != nil {
		return err
	}

	t.step("And the archive is whole.")
	check, err := api.CheckArchiveWithResponse(ctx)
	if err := client.Check(check, err); err != nil {
		return err
	}
	fmt.Fprintf(t.out, "   %d revisions read and compared with their hashes, no fault.\n", check.JSON200.Revisions)
	return t.want(len(check.JSON200.Faults) == 0, "the check found %v", check.JSON200.Faults)
}

func (t *tour) round(ctx context.Context, api *client.Client) (*gen.RoundDetail, error) {
	r, err := api.StartRoundWithResponse(ctx, gen.NewRound{})
	if err := client.Check(r, err); err != nil {
		return nil, err
	}
	detail, err := api.WaitForRound(ctx, r.JSON201.Id, nil)
	if err != nil {
		return nil, err
	}
	fmt.Fprintln(t.out, "   "+cli.RoundSentence(detail.Round))
	return detail, t.want(detail.Round.Failed == 0, "%d visits failed", detail.Round.Failed)
}

// typeAt logs in over SSH, as a person would, and changes three lines.
func (t *tour) typeAt(d *standin.Device) error {
	conn, err := ssh.Dial("tcp", d.Addr, &ssh.ClientConfig{
		User: scenario.User, Auth: []ssh.AuthMethod{ssh.Password(scenario.Password)}, Timeout: 5 * time.Second,
		HostKeyCallback: ssh.InsecureIgnoreHostKey(), //nolint:gosec // a stand-in of this very process
	})
	if err != nil {
		return err
	}
	defer conn.Close()
	s, err := conn.NewSession()
	if err != nil {
		return err
	}
	defer s.Close()
	typed := []string{
		"raise", scenario.Elevation, "edit",
		"section interface port1/24", "set lan trunk 10,20,30,99", "clear spanning", "up",
		"section time", "set server 192.0.2.66", "up",
		"done", "bye",
	}
	for i, line := range typed {
		if i != 1 {
			fmt.Fprintln(t.out, "   "+line)
		}
	}
	s.Stdin = strings.NewReader(strings.Join(typed, "\n") + "\n")
	if err := s.RequestPty("vt100", 24, 200, ssh.TerminalModes{}); err != nil {
		return err
	}
	if err := s.Shell(); err != nil {
		return err
	}
	return s.Wait()
}
