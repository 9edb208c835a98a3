package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"time"

	"vergekeep/core/dialect"
	"vergekeep/daemon"
	"vergekeep/service/rounds"
	"vergekeep/standin"
)

// hopeless are faults, and what of the dialect's time limits each uses up.
var hopeless = []struct {
	fault standin.Fault
	limit func(dialect.Reach) time.Duration
}{
	{standin.Mute, connect}, {standin.HalfLogin, connect},
	{standin.MuteShell, silence}, {standin.NoPrompt, silence}, {standin.Hang, silence},
	{standin.HangUp, nil}, {standin.CutShort, nil}, {standin.ErrorAnswer, nil}, {standin.NotAllowed, nil}, {standin.Busy, nil},
	{standin.NotSSH, nil}, {standin.ResetAtOnce, nil}, {standin.ResetAtLogin, nil}, {standin.ResetAtShell, nil},
	{standin.ServerDown, nil}, {standin.AsksForCode, nil}, {standin.Expired, nil}, {standin.OldOnly, nil}, {standin.ForeignNames, nil}, {standin.Moving, nil},
}

func connect(r dialect.Reach) time.Duration { return r.Connect }
func silence(r dialect.Reach) time.Duration { return r.Silence }

const (
	largeDevices     = 10_000
	largeConcurrency = 256
	largeDelay       = time.Second
	largeBad         = 33 // every so-manieth: 3%
)

// any makes a round in which visits may fail.
func anyRound(ctx context.Context, d *daemon.Daemon) (time.Duration, rounds.Round, error) {
	begun := time.Now()
	r, err := d.Rounds.Start(ctx, "", "demand", "bench")
	if err == nil {
		r, err = d.Rounds.Wait(ctx, r.ID)
	}
	return time.Since(begun), r, err
}

func round10k(ctx context.Context) ([]result, error) {
	quick, stop, err := standIns(ctx, "tidegate", 1000, 0)
	if err != nil {
		return nil, err
	}
	bare, err := bareLoop(quick, largeConcurrency)
	stop()
	if err != nil {
		return nil, err
	}
	out, err := self(ctx, "-role", "large", "-count", strconv.Itoa(largeDevices), "-bad", strconv.Itoa(largeBad)).Output()
	if err != nil {
		return nil, err
	}
	var seconds, waiting float64
	var peak, files, routines int
	if _, err := fmt.Sscan(string(out), &seconds, &waiting, &peak, &files, &routines); err != nil {
		return nil, fmt.Errorf("the service said %q: %w", out, err)
	}
	least := max(waiting, largeDevices*bare.Seconds()/1000)
	return []result{{"round-10k", seconds / least, "goal<=1.2", fmt.Sprintf("ours=%.1fs theirs=%.1fs  (second night; peak resident memory %d MB, goal<=500; %+d files and %+d goroutines at the end)", seconds, least, peak>>10, files, routines)}}, nil
}

// largeRound makes two rounds and prints of the second the seconds, the
// unavoidable seconds, the peak memory in KiB, and how many files and
// goroutines there are more than before.
func largeRound(ctx context.Context, count int) error {
	list, stop, err := someBad(ctx, "tidegate", count, largeDelay, *bad)
	if err != nil {
		return err
	}
	defer stop()
	dir, err := os.MkdirTemp("", "vergekeep-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	d, err := keep(ctx, dir, "tidegate", list, largeConcurrency)
	if err != nil {
		return err
	}
	set, err := dialect.Load()
	if err != nil {
		return err
	}
	reach := set["tidegate"].Reach
	total, failing := time.Duration(0), 0
	for i := range count {
		if i%*bad != *bad-1 {
			total += largeDelay
			continue
		}
		failing++
		if limit := hopeless[i / *bad % len(hopeless)].limit; limit != nil {
			total += limit(reach)
		}
	}
	if _, _, err := anyRound(ctx, d); err != nil {
		return errors.Join(err, d.Close())
	}
	time.Sleep(time.Second)
	files, routines := open(), runtime.NumGoroutine()
	took, r, err := anyRound(ctx, d)
	if err == nil && (r.Failed != failing || r.New+r.Unchanged != count-failing) {
		err = fmt.Errorf("%d failed, %d were expected: %+v", r.Failed, failing, r)
	}
	if err != nil {
		return errors.Join(err, d.Close())
	}
	time.Sleep(time.Second)
	status, err := os.ReadFile("/proc/self/status")
	if err != nil {
		return err
	}
	_, after, _ := strings.Cut(string(status), "VmHWM:")
	fmt.Println(took.Seconds(), (total / largeConcurrency).Seconds(), strings.Fields(after)[0], open()-files, runtime.NumGoroutine()-routines)
	return d.Close()
}

// open is how many files this process has open.
func open() int {
	list, _ := os.ReadDir("/proc/self/fd")
	return len(list)
}

// slowNeighbours measures until the last of the healthy devices is archived.
func slowNeighbours(ctx context.Context) ([]result, error) {
	const healthy, bad = 1000, 100
	until := func(count, every int) (float64, error) {
		list, stop, err := someBad(ctx, "tidegate", count, 0, every)
		if err != nil {
			return 0, err
		}
		defer stop()
		dir, err := os.MkdirTemp("", "vergekeep-bench-")
		if err != nil {
			return 0, err
		}
		defer os.RemoveAll(dir)
		d, err := keep(ctx, dir, "tidegate", list, largeConcurrency)
		if err != nil {
			return 0, err
		}
		defer d.Close()
		begun := time.Now()
		r, err := d.Rounds.Start(ctx, "", "demand", "bench")
		if err != nil {
			return 0, err
		}
		for {
			now, err := d.Rounds.Get(ctx, r.ID)
			if err != nil {
				return 0, err
			}
			if now.New >= healthy {
				took := time.Since(begun).Seconds()
				_, err = d.Rounds.Cancel(ctx, r.ID, "bench")
				return took, err
			}
			if now.State != rounds.Running {
				return 0, fmt.Errorf("only %d of the healthy were captured: %+v", now.New, now)
			}
			time.Sleep(5 * time.Millisecond)
		}
	}
	var ratios, with, without []float64
	for range 3 {
		alone, err := until(healthy, 0)
		if err != nil {
			return nil, err
		}
		among, err := until(healthy+bad, (healthy+bad)/bad)
		if err != nil {
			return nil, err
		}
		ratios, with, without = append(ratios, among/alone), append(with, among), append(without, alone)
	}
	return []result{{"slow-neighbours", median(ratios), "goal<=1.1", fmt.Sprintf("with=%.2fs without=%.2fs  (median of 3)", median(with), median(without))}}, nil
}

// unchangedNight is by how much the database grows in a round that finds
// nothing new.
func unchangedNight(ctx context.Context) ([]result, error) {
	list, stop, err := standIns(ctx, "tidegate", largeDevices, 0)
	if err != nil {
		return nil, err
	}
	defer stop()
	dir, err := os.MkdirTemp("", "vergekeep-bench-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	sizes := []int64{}
	for night := range 3 {
		var d *daemon.Daemon
		if night == 0 {
			d, err = keep(ctx, dir, "tidegate", list, largeConcurrency)
		} else {
			d, err = daemon.Open(ctx, quiet(dir, largeConcurrency))
		}
		if err != nil {
			return nil, err
		}
		_, r, err := anyRound(ctx, d)
		if err == nil && night > 0 && r.Unchanged != largeDevices {
			err = fmt.Errorf("%d of %d were unchanged", r.Unchanged, largeDevices)
		}
		// Closing writes everything back from the log.
		if err := errors.Join(err, d.Close()); err != nil {
			return nil, err
		}
		info, err := os.Stat(filepath.Join(dir, "vergekeep.db"))
		if err != nil {
			return nil, err
		}
		sizes = append(sizes, info.Size())
	}
	grown := float64(sizes[2]-sizes[1]) / largeDevices
	return []result{{"unchanged-night", grown, "goal<=32", fmt.Sprintf("(bytes a device; %d devices, all tables and indexes)", largeDevices)}}, nil
}

func double(ctx context.Context) ([]result, error) {
	took := map[int]float64{}
	for _, count := range []int{500, 4000, 8000} { // the first one warms up
		list, stop, err := standIns(ctx, "tidegate", count, 0)
		if err != nil {
			return nil, err
		}
		dir, err := os.MkdirTemp("", "vergekeep-bench-")
		if err != nil {
			return nil, err
		}
		d, err := keep(ctx, dir, "tidegate", list, concurrency)
		if err != nil {
			return nil, err
		}
		t, err := round(ctx, d)
		stop()
		if err := errors.Join(err, d.Close(), os.RemoveAll(dir)); err != nil {
			return nil, err
		}
		took[count] = t.Seconds()
	}
	return []result{{"double", took[8000] / took[4000], "goal<=2.1", fmt.Sprintf("8000=%.1fs 4000=%.1fs  (median of 1)", took[8000], took[4000])}}, nil
}
