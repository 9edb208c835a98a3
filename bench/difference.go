package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"vergekeep/core/config"
	"vergekeep/core/diff"
	"vergekeep/demo"
)

// texts are two files of 20,000 lines with 400 scattered edits, or the largest
// text of the corpus with such edits.
func texts() (string, string, error) {
	random := rand.New(rand.NewPCG(7, 11))
	var lines []string
	if *corpus != "" {
		largest, size := "", int64(-1)
		err := filepath.WalkDir(*corpus, func(path string, d os.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			info, err := d.Info()
			if err == nil && info.Size() > size {
				largest, size = path, info.Size()
			}
			return err
		})
		if err != nil {
			return "", "", err
		}
		data, err := os.ReadFile(largest)
		if err != nil {
			return "", "", err
		}
		lines = strings.SplitAfter(string(data), "\n")
	}
	for i := 0; *corpus == "" && len(lines) < 20_000; i++ {
		lines = append(lines, fmt.Sprintf("interface port%d/%d\n", i/48, i%48), fmt.Sprintf("  description to desk %d\n", random.IntN(5000)),
			fmt.Sprintf("  lan access %d\n", []int{10, 20, 30}[random.IntN(3)]), "  spanning edge\n", "  storm-limit broadcast 1.00\n")
	}
	before := strings.Join(lines, "")
	for range 400 {
		i := random.IntN(len(lines))
		switch random.IntN(3) {
		case 0:
			lines[i] = fmt.Sprintf("  description changed %d\n", random.IntN(1000))
		case 1:
			lines[i] += fmt.Sprintf("  mirror to port%d\n", random.IntN(1000))
		default:
			lines[i] = ""
		}
	}
	return before, strings.Join(lines, ""), nil
}

func diffVsGNU(ctx context.Context) ([]result, error) {
	const runs = 31
	a, b, err := texts()
	if err != nil {
		return nil, err
	}
	dir, err := os.MkdirTemp("", "vergekeep-bench-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	if err := errors.Join(os.WriteFile(filepath.Join(dir, "a"), []byte(a), 0o600), os.WriteFile(filepath.Join(dir, "b"), []byte(b), 0o600)); err != nil {
		return nil, err
	}
	binary, err := filepath.Abs("bin/vergekeep")
	if err != nil {
		return nil, err
	}
	// GNU diff takes a short cut when its output goes to /dev/null: read it.
	timed := func(name string, args ...string) (float64, int, error) {
		cmd := exec.CommandContext(ctx, name, args...)
		cmd.Dir = dir
		begun := time.Now()
		out, err := cmd.Output()
		took := time.Since(begun)
		var exit *exec.ExitError
		if errors.As(err, &exit) && exit.ExitCode() == 1 {
			err = nil
		}
		return took.Seconds() * 1e3, len(out), err
	}
	var ratios, coreRatios, ours, theirs, core []float64
	for i := range runs + 2 {
		our, n, err := timed(binary, "diff", "./a", "./b")
		if err != nil || n == 0 {
			return nil, fmt.Errorf("our diff printed %d bytes: %w", n, err)
		}
		their, n, err := timed("diff", "-u", "a", "b")
		if err != nil || n == 0 {
			return nil, fmt.Errorf("GNU diff printed %d bytes: %w", n, err)
		}
		begun := time.Now()
		r := diff.Compare(diff.Side{Text: a, PathAt: config.Paths(a, config.Guess(a))}, diff.Side{Text: b, PathAt: config.Paths(b, config.Guess(b))})
		unified := r.Unified("a", "b", 3)
		in := time.Since(begun).Seconds() * 1e3
		if unified == "" {
			return nil, errors.New("no difference")
		}
		if i < 2 {
			continue
		}
		ratios, coreRatios = append(ratios, our/their), append(coreRatios, in/their)
		ours, theirs, core = append(ours, our), append(theirs, their), append(core, in)
	}
	return []result{
		{"diff-vs-gnu", median(ratios), "goal<=2", fmt.Sprintf("ours=%.1fms theirs=%.1fms  (median of %d)", median(ours), median(theirs), runs)},
		{"diff-core", median(coreRatios), "goal<=0.5", fmt.Sprintf("ours=%.1fms theirs=%.1fms  (median of %d)", median(core), median(theirs), runs)},
	}, nil
}

// start measures from exec to ready, with the demonstration's archive.
func start(ctx context.Context) ([]result, error) {
	const runs = 7
	dir, err := os.MkdirTemp("", "vergekeep-bench-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	data := filepath.Join(dir, "data")
	d, err := demo.Start(ctx, demo.Options{Listen: "127.0.0.1:0", Data: data, Quiet: true, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return nil, err
	}
	if err := d.Close(); err != nil {
		return nil, err
	}
	var took []float64
	for range runs {
		cmd := exec.CommandContext(ctx, "bin/vergekeep", "serve", "--syslog-udp=", "--syslog-tcp=", "--traps=", "--data", data, "--listen", "127.0.0.1:0")
		log, err := cmd.StderrPipe()
		if err != nil {
			return nil, err
		}
		begun := time.Now()
		if err := cmd.Start(); err != nil {
			return nil, err
		}
		lines := bufio.NewScanner(log)
		ready, last := false, ""
		for !ready && lines.Scan() {
			last = lines.Text()
			ready = strings.Contains(last, "msg=ready")
		}
		took = append(took, time.Since(begun).Seconds()*1e3)
		_ = cmd.Process.Signal(syscall.SIGINT)
		for lines.Scan() {
			continue
		}
		if err := cmd.Wait(); err != nil || !ready {
			return nil, fmt.Errorf("the service did not get ready: %w: %s", err, last)
		}
	}
	info, err := os.Stat("bin/vergekeep")
	if err != nil {
		return nil, err
	}
	return []result{{"start", median(took), "(ms, for information)", fmt.Sprintf("binary=%.1fMB  (median of %d)", float64(info.Size())/1e6, runs)}}, nil
}
