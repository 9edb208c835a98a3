// Command bench measures Verge Keep against what people would use instead,
// both in the same run and in turns, and prints one line each:
//
//	ratio NAME VALUE goal<=N|goal>=N  ours=… theirs=…  (median of N)
//
// 'make bench' runs it; -name picks one, -corpus takes the texts for the
// differences from a folder. The table goes to docs/benchmarks.md.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"runtime/pprof"
	"sort"
	"strings"
	"time"
)

// result is a measured line.
type result struct {
	name  string
	value float64
	goal  string
	text  string
}

// benchmark measures one or several lines.
type benchmark struct {
	names string // separated by blanks
	run   func(context.Context) ([]result, error)
}

var bad = flag.Int("bad", 0, "of a child: every so-manieth stand-in has a fault")

// spread gives each stand-in of a child an address of its own.
var spread bool

var group = flag.Bool("group", false, "with -name: print everything that is measured with it")

var devices = flag.Int("devices", 2000, "how many devices the large history has")

var corpus = flag.String("corpus", "", "folder of texts for the differences; a git repository is taken as the history too")

func main() {
	name := flag.String("name", "", "run only this one")
	role := flag.String("role", "", "what a child process does")
	count := flag.Int("count", 0, "of a child: how many stand-ins or devices")
	delay := flag.Duration("delay", 0, "of a child: the stand-ins' delay")
	profile := flag.String("profile", "", "file for a processor profile")
	flag.BoolVar(&spread, "spread", false, "of a child: each stand-in has an address of its own")
	platform := flag.String("platform", "tidegate", "of a child: the stand-ins' platform")
	flag.Parse()
	ctx := context.Background()
	if *role != "" {
		if err := child(ctx, *role, *platform, *count, *delay); err != nil {
			fmt.Fprintln(os.Stderr, *role+":", err)
			os.Exit(1)
		}
		return
	}
	if *profile != "" {
		f, err := os.Create(*profile)
		if err == nil {
			err = pprof.StartCPUProfile(f)
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		defer pprof.StopCPUProfile()
	}
	var table []result
	for _, b := range []benchmark{
		{"collect-vs-bare collect-cpu", collectVsBare},
		{"collect-vs-shell", collectVsShell},
		{"round-delay", roundDelay},
		{"round-10k", round10k},
		{"slow-neighbours", slowNeighbours},
		{"unchanged-night", unchangedNight},
		{"double", double},
		{"archive-size archive-write read-old search-now-literal search-now-regex search-all line-history archive-double", inTheArchive},
		{"diff-tree diff-worst", diffTree},
		{"diff-vs-gnu diff-core", diffVsGNU},
		{"signal-to-change", signalToChange},
		{"signal-flood", signalFlood},
		{"change-page", changePage},
		{"audit-fleet", auditFleet},
		{"audit-one", auditOne},
		{"derive", deriving},
		{"audit-double", auditDouble},
		{"start", start},
	} {
		if *name != "" && !strings.Contains(" "+b.names+" ", " "+*name+" ") {
			continue
		}
		fmt.Fprintln(os.Stderr, "measuring", b.names)
		lines, err := b.run(ctx)
		if err != nil {
			fmt.Fprintln(os.Stderr, b.names+":", err)
			os.Exit(1)
		}
		for _, r := range lines {
			if *name == "" || *name == r.name || *group {
				fmt.Println(r)
			}
		}
		table = append(table, lines...)
	}
	if *name == "" {
		if err := write(table); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	}
}

func (r result) String() string {
	return fmt.Sprintf("ratio %-16s %.2f %s  %s", r.name, r.value, r.goal, r.text)
}

func write(table []result) error {
	var b strings.Builder
	model := "unknown processor"
	if info, err := os.ReadFile("/proc/cpuinfo"); err == nil {
		for line := range strings.Lines(string(info)) {
			if v, ok := strings.CutPrefix(line, "model name\t: "); ok {
				model = strings.TrimSpace(v)
				break
			}
		}
	}
	fmt.Fprintf(&b, "# Benchmarks\n\nMeasured with `make bench` on %s; %d processors (%s), %s, %s/%s.\nEach line is measured in one run, ours and theirs in turns; `docs/measuring.md` says how.\n\n```\n",
		time.Now().Format("2 January 2006"), runtime.NumCPU(), model, runtime.Version(), runtime.GOOS, runtime.GOARCH)
	for _, r := range table {
		fmt.Fprintln(&b, r)
	}
	b.WriteString("```\n")
	return os.WriteFile("docs/benchmarks.md", []byte(b.String()), 0o644)
}

func median(values []float64) float64 {
	s := append([]float64(nil), values...)
	sort.Float64s(s)
	return s[len(s)/2]
}

// self starts this program again in another role.
func self(ctx context.Context, args ...string) *exec.Cmd {
	path, err := os.Executable()
	if err != nil {
		path = os.Args[0]
	}
	cmd := exec.CommandContext(ctx, path, args...)
	cmd.Stderr = os.Stderr
	return cmd
}
