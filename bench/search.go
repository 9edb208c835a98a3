package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"vergekeep/archive"
	"vergekeep/core/config"
	"vergekeep/core/dialect"
	"vergekeep/core/diff"
	"vergekeep/service/fleet"
	"vergekeep/service/search"
)

// searches holds searches against ripgrep on the same texts as files, and
// against git's search for when a text came and went.
func searches(ctx context.Context, k *taken, repo string) ([]result, error) {
	set, err := dialect.Load(dialect.Builtin())
	if err != nil {
		return nil, err
	}
	files, err := os.MkdirTemp("", "vergekeep-bench-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(files)
	newest, err := k.archive.AllNewest(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range newest {
		text, err := k.archive.Text(ctx, r)
		if err == nil {
			err = os.WriteFile(filepath.Join(files, fmt.Sprintf("%05d.cfg", r.Device)), []byte(text), 0o600)
		}
		if err != nil {
			return nil, err
		}
	}
	now := time.Now
	finder := search.New(k.archive, fleet.New(k.db, set, now), set, now)
	begun := time.Now()
	memory, err := finder.Ready(ctx)
	if err != nil {
		return nil, err
	}
	built := time.Since(begun)
	const runs = 15
	rare, err := rareLiteral(ctx, k, newest)
	if err != nil {
		return nil, err
	}
	pair := func(name string, goal string, questions []search.Question, args [][]string) (result, error) {
		var worst result
		for i, q := range questions {
			var ratios, ours, theirs []float64
			var total, counted int
			for run := range runs + 2 {
				begun := time.Now()
				a, err := finder.Ask(ctx, q, 100, true)
				if err != nil {
					return worst, err
				}
				our := time.Since(begun).Seconds() * 1e3
				begun = time.Now()
				out, err := exec.CommandContext(ctx, "rg", append([]string{"--no-config", "--sort", "none", "-N", "--no-heading", "--no-ignore"}, append(args[i], files)...)...).Output()
				their := time.Since(begun).Seconds() * 1e3
				if exit := (*exec.ExitError)(nil); err != nil && (!errors.As(err, &exit) || exit.ExitCode() != 1) {
					return worst, fmt.Errorf("rg: %w", err)
				}
				total, counted = a.Total, bytes.Count(out, []byte("\n"))
				if total != counted {
					return worst, fmt.Errorf("%s: we count %d and ripgrep %d", q.Text, total, counted)
				}
				if run >= 2 {
					ratios, ours, theirs = append(ratios, our/their), append(ours, our), append(theirs, their)
				}
			}
			said := fmt.Sprintf("%q %d hits ours=%.1fms theirs=%.1fms", q.Text, total, median(ours), median(theirs))
			if worst.text != "" {
				said = worst.text + "; " + said
			}
			worst = result{name, max(worst.value, median(ratios)), goal, said}
		}
		worst.text += fmt.Sprintf("  (the worst of %d, median of %d; memory %d MB, built in %.1fs)", len(questions), runs, memory>>20, built.Seconds())
		return worst, nil
	}
	literal, err := pair("search-now-literal", "goal<=0.5",
		[]search.Question{{Text: rare}, {Text: "spanning edge"}}, [][]string{{"-F", rare}, {"-F", "spanning edge"}})
	if err != nil {
		return nil, err
	}
	regex, err := pair("search-now-regex", "goal<=1",
		[]search.Question{{Text: `^ +description to desk 12\d\d `, Regexp: true}, {Text: "SERVER 192.0.2.40", AnyCase: true}, {Text: `STORM-limit|radius \d+`, Regexp: true, AnyCase: true}, {Text: `desk (7|8)7+ in`, Regexp: true}},
		[][]string{{`^ +description to desk 12\d\d `}, {"-i", "-F", "SERVER 192.0.2.40"}, {"-i", `STORM-limit|radius \d+`}, {`desk (7|8)7+ in`}})
	if err != nil {
		return nil, err
	}
	begun = time.Now()
	if memory, err = finder.ReadyForHistory(ctx); err != nil {
		return nil, err
	}
	built = time.Since(begun)
	begun = time.Now()
	a, err := finder.Ask(ctx, search.Question{Text: rare, Scope: search.History}, 100, true)
	if err != nil {
		return nil, err
	}
	our := time.Since(begun).Seconds()
	begun = time.Now()
	out, err := exec.CommandContext(ctx, "git", "-C", repo, "log", "-S", rare, "--format=%ct").Output()
	if err != nil {
		return nil, err
	}
	their := time.Since(begun).Seconds()
	all := result{"search-all", our / their, "goal<=0.05", fmt.Sprintf("ours=%.3fs theirs=%.1fs  (%q, %d lines with since-when, git tells %d commits; one run; memory %d MB, built in %.1fs)", our, their, rare, a.Total, bytes.Count(out, []byte("\n")), memory>>20, built.Seconds())}
	return []result{literal, regex, all}, nil
}

// rareLiteral is a text that the newest configurations have once or twice.
func rareLiteral(ctx context.Context, k *taken, newest []archive.Revision) (string, error) {
	text, err := k.archive.Text(ctx, newest[len(newest)/2])
	if err != nil {
		return "", err
	}
	for line := range strings.Lines(text) {
		if strings.Contains(line, "description to desk") {
			return strings.TrimSpace(line), nil
		}
	}
	return "name s", nil
}

// lineHistory follows the lines of the device with the most revisions.
func lineHistory(ctx context.Context, k *taken, repo string) ([]result, error) {
	var device int64
	var number int
	newest, err := k.archive.AllNewest(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range newest {
		if r.Number > number {
			device, number = r.Device, r.Number
		}
	}
	var name string
	if err := k.db.QueryRow(ctx, `SELECT name FROM devices WHERE id = ?`, device).Scan(&name); err != nil {
		return nil, err
	}
	site, _, _ := strings.Cut(name, "-")
	set, err := dialect.Load(dialect.Builtin())
	if err != nil {
		return nil, err
	}
	var ratios, ours, theirs []float64
	const runs = 9
	for range runs {
		begun := time.Now()
		list, err := k.archive.List(ctx, archive.Key{Device: device, Datastore: "running"})
		if err != nil {
			return nil, err
		}
		l, err := archive.Lineage(ctx, k.archive.Contents(), list, 0, func(r archive.Revision, text string) (string, func(int) []string) {
			view := set[r.Platform()].View(text)
			return view.Steady(), view.Tree.PathAt
		})
		if err != nil || len(l.Now) == 0 {
			return nil, fmt.Errorf("no lines: %w", err)
		}
		our := time.Since(begun).Seconds() * 1e3
		begun = time.Now()
		out, err := exec.CommandContext(ctx, "git", "-C", repo, "blame", "--porcelain", "main", "--", site+"/"+name+".cfg").Output()
		if err != nil || len(out) == 0 {
			return nil, fmt.Errorf("git blame: %w", err)
		}
		their := time.Since(begun).Seconds() * 1e3
		ratios, ours, theirs = append(ratios, our/their), append(ours, our), append(theirs, their)
	}
	return []result{{"line-history", median(ratios), "goal<=0.1", fmt.Sprintf("ours=%.1fms theirs=%.0fms  (%d revisions; median of %d)", median(ours), median(theirs), number, runs)}}, nil
}

// twice takes in a history of twice as many devices.
func twice(ctx context.Context, k *taken, _ string) ([]result, error) {
	measure := func(k *taken) (bytes, seconds float64, err error) {
		set, err := dialect.Load(dialect.Builtin())
		if err != nil {
			return 0, 0, err
		}
		finder := search.New(k.archive, fleet.New(k.db, set, time.Now), set, time.Now)
		if _, err := finder.Ready(ctx); err != nil {
			return 0, 0, err
		}
		var took []float64
		for range 15 {
			begun := time.Now()
			if _, err := finder.Ask(ctx, search.Question{Text: "spanning edge"}, 100, true); err != nil {
				return 0, 0, err
			}
			took = append(took, time.Since(begun).Seconds())
		}
		return float64(k.bytes), median(took), nil
	}
	bytes1, search1, err := measure(k)
	if err != nil {
		return nil, err
	}
	double, err := takeIn(ctx, generated(2**devices))
	if err != nil {
		return nil, err
	}
	defer double.close()
	runtime.GC()
	bytes2, search2, err := measure(double)
	if err != nil {
		return nil, err
	}
	return []result{{"archive-double", max(bytes2/bytes1, search2/search1), "goal<=2.05", fmt.Sprintf("bytes %.2f (%.1f and %.1f MB), search %.2f (%.1f and %.1f ms)", bytes2/bytes1, bytes1/1e6, bytes2/1e6, search2/search1, search1*1e3, search2*1e3)}}, nil
}

// diffTree holds the difference by structure against that by lines, both with
// the reading of the texts, and the worst cases against the ordinary one.
func diffTree(context.Context) ([]result, error) {
	a, b, err := texts()
	if err != nil {
		return nil, err
	}
	set, err := dialect.Load(dialect.Builtin())
	if err != nil {
		return nil, err
	}
	dl := set["tidegate"]
	lines := func(x, y string) *diff.Result {
		return diff.Compare(diff.Side{Text: x, PathAt: config.Paths(x, dl.Syntax)}, diff.Side{Text: y, PathAt: config.Paths(y, dl.Syntax)})
	}
	tree := func(x, y string) *diff.Result {
		var l, r dialect.View
		done := make(chan struct{})
		go func() { defer close(done); l = dl.View(x) }()
		r = dl.View(y)
		<-done
		return diff.Compare(l.Side(false), r.Side(false))
	}
	timed := func(f func(x, y string) *diff.Result, x, y string) float64 {
		begun := time.Now()
		if f(x, y).Identical() {
			return 0
		}
		return time.Since(begun).Seconds() * 1e3
	}
	const runs = 31
	var ratios, ours, theirs []float64
	for range runs {
		our, their := timed(tree, a, b), timed(lines, a, b)
		ratios, ours, theirs = append(ratios, our/their), append(ours, our), append(theirs, their)
	}
	shuffled, none := worst(a)
	var worstRatio []float64
	var said []string
	for name, other := range map[string]string{"shuffled": shuffled, "nothing in common": none} {
		for mode, f := range map[string]func(x, y string) *diff.Result{"structure": tree, "lines": lines} {
			var took, usual []float64
			for range 7 {
				took, usual = append(took, timed(f, a, other)), append(usual, timed(f, a, b))
			}
			worstRatio = append(worstRatio, median(took)/median(usual))
			said = append(said, fmt.Sprintf("%s by %s %.1f (%.0fms)", name, mode, median(took)/median(usual), median(took)))
		}
	}
	top := 0.0
	for _, r := range worstRatio {
		top = max(top, r)
	}
	return []result{
		{"diff-tree", median(ratios), "goal<=3", fmt.Sprintf("ours=%.1fms theirs=%.1fms  (20,000 lines, with the reading of them; median of %d)", median(ours), median(theirs), runs)},
		{"diff-worst", top, "goal<=20", strings.Join(said, "; ") + "  (median of 7)"},
	}, nil
}

// worst is the lines of a text in another order, and other lines.
func worst(a string) (shuffled, none string) {
	lines := diff.SplitLines(a)
	random := rand.New(rand.NewPCG(5, 7))
	random.Shuffle(len(lines), func(i, j int) { lines[i], lines[j] = lines[j], lines[i] })
	var b strings.Builder
	for i := range lines {
		fmt.Fprintf(&b, "other %d %x\n", i, random.Uint64())
	}
	return strings.Join(lines, ""), b.String()
}
