package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"vergekeep/daemon"
	"vergekeep/service/fleet"
	"vergekeep/service/rounds"
	"vergekeep/service/vault"
	"vergekeep/standin"
	"vergekeep/standin/scenario"
)

// child is another process of a benchmark.
func child(ctx context.Context, role, platform string, count int, delay time.Duration) error {
	switch role {
	case "stand-ins":
		return serveStandIns(platform, count, delay, *bad)
	case "service":
		return serviceRound(ctx, platform, count)
	case "large":
		return largeRound(ctx, count)
	}
	return fmt.Errorf("no role %q", role)
}

// serveStandIns prints the addresses and serves until its input ends.
func serveStandIns(platform string, count int, delay time.Duration, bad int) error {
	devices := standin.NewFleet()
	defer devices.Close()
	network := scenario.New()
	model := network.Device("ng-acc-1")
	if platform == "capstan" {
		model = network.Device("hh-core-1")
	}
	w := bufio.NewWriter(os.Stdout)
	var all []*standin.Device
	for i := range count {
		name := fmt.Sprintf("d-%05d", i)
		config := strings.ReplaceAll(model.Config[""], model.Name, name)
		d := &standin.Device{Name: name, Platform: model.Platform, Model: model.Model, Serial: fmt.Sprintf("S%05d", i), Version: model.Version,
			User: scenario.User, Password: scenario.Password, Elevation: scenario.Elevation, Delay: delay, Config: map[string]string{"": config}}
		if bad > 0 && i%bad == bad-1 {
			d.SetFault(hopeless[i/bad%len(hopeless)].fault)
		}
		if spread {
			d.Addr = fmt.Sprintf("127.1.%d.%d:0", i/200, i%200+1)
		}
		addr, err := devices.Add(d)
		if err != nil {
			return err
		}
		all = append(all, d)
		fmt.Fprintln(w, name, addr)
	}
	fmt.Fprintln(w)
	if err := w.Flush(); err != nil {
		return err
	}
	return obey(all, os.Stdin, os.Stdout)
}

// target is a stand-in in the other process.
type target struct{ name, addr string }

// standIns starts the other process; stop ends it.
func standIns(ctx context.Context, platform string, count int, delay time.Duration) ([]target, func(), error) {
	return someBad(ctx, platform, count, delay, 0)
}

// someBad is standIns with a fault in every so-manieth.
func someBad(ctx context.Context, platform string, count int, delay time.Duration, bad int) ([]target, func(), error) {
	list, _, stop, err := someStandIns(ctx, count, "-platform", platform, "-delay", delay.String(), "-bad", strconv.Itoa(bad))
	return list, stop, err
}

// crew is the other process with its stand-ins: it does what it is told.
type crew struct {
	in  io.Writer
	out *bufio.Scanner
}

// tell gives an order, and returns what is answered.
func (c *crew) tell(format string, args ...any) (string, error) {
	if _, err := fmt.Fprintf(c.in, format+"\n", args...); err != nil {
		return "", err
	}
	if !c.out.Scan() {
		return "", errors.New("the stand-ins have gone")
	}
	return c.out.Text(), nil
}

// someStandIns starts the other process.
func someStandIns(ctx context.Context, count int, args ...string) ([]target, *crew, func(), error) {
	cmd := self(ctx, append([]string{"-role", "stand-ins", "-count", strconv.Itoa(count)}, args...)...)
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, nil, nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, nil, nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, nil, nil, err
	}
	stop := func() { _ = in.Close(); _ = cmd.Wait() }
	var list []target
	lines := bufio.NewScanner(out)
	for lines.Scan() && lines.Text() != "" {
		name, addr, _ := strings.Cut(lines.Text(), " ")
		list = append(list, target{name, addr})
	}
	if len(list) != count {
		stop()
		return nil, nil, nil, fmt.Errorf("%d of %d stand-ins started", len(list), count)
	}
	return list, &crew{in, lines}, stop, nil
}

func quiet(dir string, concurrency int) daemon.Config {
	return daemon.Config{Data: dir, Listen: "127.0.0.1:0", Concurrency: concurrency, Log: slog.New(slog.DiscardHandler)}
}

// keep is a service without its listener being served.
func keep(ctx context.Context, dir, platform string, list []target, concurrency int) (*daemon.Daemon, error) {
	return withRecords(ctx, quiet(dir, concurrency), platform, list)
}

// withRecords is a service with records of the stand-ins.
func withRecords(ctx context.Context, conf daemon.Config, platform string, list []target) (*daemon.Daemon, error) {
	daemon.Tune() // as the service does; the bare loop, in this process, has it too
	d, err := daemon.Open(ctx, conf)
	if err != nil {
		return nil, err
	}
	if _, err := d.Vault.Add(ctx, vault.Credential{Name: "k", Username: scenario.User, Secrets: vault.Secrets{Password: scenario.Password, Elevation: scenario.Elevation}}, "bench", time.Now()); err != nil {
		return nil, err
	}
	var wg sync.WaitGroup // together they share commits
	errs := make([]error, len(list))
	for i, t := range list {
		wg.Go(func() {
			_, errs[i] = d.Fleet.Add(ctx, fleet.Device{Name: t.name, Platform: platform, Addresses: []string{t.addr}}, "bench")
		})
	}
	wg.Wait()
	return d, errors.Join(errs...)
}

// round makes one and checks that every visit brought something new.
func round(ctx context.Context, d *daemon.Daemon) (time.Duration, error) {
	begun := time.Now()
	r, err := d.Rounds.Start(ctx, "", "demand", "bench")
	if err != nil {
		return 0, err
	}
	r, err = d.Rounds.Wait(ctx, r.ID)
	took := time.Since(begun)
	if err == nil && (r.New != r.Planned || r.State != rounds.Finished) {
		err = fmt.Errorf("%d of %d visits brought a new revision", r.New, r.Planned)
		if visits, listErr := d.Rounds.Visits(ctx, r.ID); listErr == nil {
			err = fmt.Errorf("%w; %s: %s: %s", err, visits[0].Device, visits[0].Reason, visits[0].What)
		}
	}
	return took, err
}

// cpu is the processor time of this process so far.
func cpu() time.Duration {
	var u syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

const concurrency = 64

func collectVsBare(ctx context.Context) ([]result, error) {
	const devices, pairs = 2000, 7
	list, stop, err := standIns(ctx, "tidegate", devices, 0)
	if err != nil {
		return nil, err
	}
	defer stop()
	var ratios, cpuRatios, ourRates, theirRates, ourCPU, theirCPU []float64
	for i := range pairs + 1 { // the first pair warms up
		dir, err := os.MkdirTemp("", "vergekeep-bench-")
		if err != nil {
			return nil, err
		}
		d, err := keep(ctx, dir, "tidegate", list, concurrency)
		if err != nil {
			return nil, err
		}
		before := cpu()
		took, err := round(ctx, d)
		used := cpu() - before
		if err := errors.Join(err, d.Close(), os.RemoveAll(dir)); err != nil {
			return nil, err
		}
		before = cpu()
		bareTook, err := bareLoop(list, concurrency)
		bareUsed := cpu() - before
		if err != nil {
			return nil, err
		}
		if i == 0 {
			continue
		}
		ratios = append(ratios, bareTook.Seconds()/took.Seconds())
		cpuRatios = append(cpuRatios, used.Seconds()/bareUsed.Seconds())
		ourRates, theirRates = append(ourRates, devices/took.Seconds()), append(theirRates, devices/bareTook.Seconds())
		ourCPU, theirCPU = append(ourCPU, used.Seconds()*1e3/devices), append(theirCPU, bareUsed.Seconds()*1e3/devices)
	}
	return []result{
		{"collect-vs-bare", median(ratios), "goal>=0.90", fmt.Sprintf("ours=%.0f/s theirs=%.0f/s  (median of %d; processor %.2f and %.2f ms a visit)", median(ourRates), median(theirRates), pairs, median(ourCPU), median(theirCPU))},
		{"collect-cpu", median(cpuRatios), "goal<=1.3", fmt.Sprintf("ours=%.2fms theirs=%.2fms  (median of %d)", median(ourCPU), median(theirCPU), pairs)},
	}, nil
}

func collectVsShell(ctx context.Context) ([]result, error) {
	const devices, pairs, wide = 500, 3, 32
	list, stop, err := standIns(ctx, "capstan", devices, 0)
	if err != nil {
		return nil, err
	}
	defer stop()
	dir, err := os.MkdirTemp("", "vergekeep-bench-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	var hosts strings.Builder
	for _, t := range list {
		_, port, _ := strings.Cut(t.addr, ":")
		fmt.Fprintln(&hosts, t.name, port)
	}
	files := map[string]string{
		"hosts":    hosts.String(),
		"password": "#!/bin/sh\necho " + scenario.Password + "\n",
		// What people have: a list, xargs, ssh, a file a device.
		"collect": `#!/bin/sh
export SSH_ASKPASS=$1/password SSH_ASKPASS_REQUIRE=force
exec xargs -P ` + strconv.Itoa(wide) + ` -L 1 sh -c 'ssh -p $2 -o BatchMode=no -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -o LogLevel=ERROR -o PreferredAuthentications=password -o KexAlgorithms=curve25519-sha256 -o HostKeyAlgorithms=ssh-ed25519 -c aes128-gcm@openssh.com ` + scenario.User + `@127.0.0.1 "print running" > $0/$1.cfg' $1/out < $1/hosts
`,
	}
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o700); err != nil {
			return nil, err
		}
	}
	var ratios, ours, theirs []float64
	for range pairs {
		data := filepath.Join(dir, "data")
		d, err := keep(ctx, data, "capstan", list, wide)
		if err != nil {
			return nil, err
		}
		took, err := round(ctx, d)
		if err := errors.Join(err, d.Close(), os.RemoveAll(data)); err != nil {
			return nil, err
		}
		out := filepath.Join(dir, "out")
		if err := errors.Join(os.RemoveAll(out), os.Mkdir(out, 0o700)); err != nil {
			return nil, err
		}
		begun := time.Now()
		if text, err := exec.CommandContext(ctx, filepath.Join(dir, "collect"), dir).CombinedOutput(); err != nil {
			return nil, fmt.Errorf("the shell script: %w: %s", err, text)
		}
		shell := time.Since(begun)
		saved, err := filepath.Glob(filepath.Join(out, "*.cfg"))
		if err != nil || len(saved) != devices {
			return nil, fmt.Errorf("the shell script saved %d of %d files", len(saved), devices)
		}
		if info, err := os.Stat(saved[0]); err != nil || info.Size() < 1000 {
			return nil, errors.New("the shell script saved an empty file")
		}
		ratios = append(ratios, shell.Seconds()/took.Seconds())
		ours, theirs = append(ours, devices/took.Seconds()), append(theirs, devices/shell.Seconds())
	}
	return []result{{"collect-vs-shell", median(ratios), "goal>=4", fmt.Sprintf("ours=%.0f/s theirs=%.0f/s  (median of %d, %d devices)", median(ours), median(theirs), pairs, devices)}}, nil
}

const (
	delayDevices     = 5000
	delayConcurrency = 256
	delayOfAVisit    = 2 * time.Second
)

// roundDelay lets a process of its own make the round, for its memory.
func roundDelay(ctx context.Context) ([]result, error) {
	quick, stop, err := standIns(ctx, "tidegate", 1000, 0)
	if err != nil {
		return nil, err
	}
	bare, err := bareLoop(quick, delayConcurrency)
	stop()
	if err != nil {
		return nil, err
	}
	cmd := self(ctx, "-role", "service", "-count", strconv.Itoa(delayDevices))
	out, err := cmd.Output()
	if err != nil {
		return nil, err
	}
	var seconds float64
	var peak int
	if _, err := fmt.Sscan(string(out), &seconds, &peak); err != nil {
		return nil, fmt.Errorf("the service said %q: %w", out, err)
	}
	waiting := (delayDevices * delayOfAVisit / delayConcurrency).Seconds()
	working := delayDevices * bare.Seconds() / 1000
	least := max(waiting, working)
	return []result{{"round-delay", seconds / least, "goal<=1.15", fmt.Sprintf("ours=%.1fs theirs=%.1fs  (median of 1; peak resident memory %d MB, goal<=400)", seconds, least, peak>>10)}}, nil
}

// serviceRound makes the round and prints its seconds and the peak memory in KiB.
func serviceRound(ctx context.Context, platform string, count int) error {
	list, stop, err := standIns(ctx, platform, count, delayOfAVisit)
	if err != nil {
		return err
	}
	defer stop()
	dir, err := os.MkdirTemp("", "vergekeep-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	d, err := keep(ctx, dir, platform, list, delayConcurrency)
	if err != nil {
		return err
	}
	took, err := round(ctx, d)
	if err != nil {
		return errors.Join(err, d.Close())
	}
	status, err := os.ReadFile("/proc/self/status")
	if err != nil {
		return err
	}
	_, after, _ := strings.Cut(string(status), "VmHWM:")
	fmt.Println(took.Seconds(), strings.Fields(after)[0])
	return d.Close()
}
