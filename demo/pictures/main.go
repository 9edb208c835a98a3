// Command pictures takes every picture of docs/screenshots again from the demo
// data: pages with headless Chromium, terminal output from a real terminal
// window. It is what 'make screenshots' runs.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"vergekeep/demo"
)

const password = "pictures-of-skerry"

func main() {
	out := flag.String("out", "docs/screenshots", "folder of the pictures")
	only := flag.String("only", "", "take only those whose name holds this")
	width := flag.Int("width", 1280, "of pages")
	flag.Parse()
	if err := run(context.Background(), *out, *only, *width); err != nil {
		fmt.Fprintln(os.Stderr, "pictures:", err)
		os.Exit(1)
	}
}

// page is a picture of a page.
type page struct {
	name, path, theme string
	wait              string // a selector that is there when the page is
	then              []chromedp.Action[chromedp.Void]
}

func pages() []page {
	compare := "/compare?" + url.Values{"left": {"np-acc-2@-1"}, "right": {"np-acc-2"}}.Encode()
	moved := "/compare?" + url.Values{"left": {"hh-fw-1:running/guests@1"}, "right": {"hh-fw-1:running/guests"}, "as": {"unified"}}.Encode()
	return []page{
		{"today-light", "/today", "light", "svg rect", nil},
		{"changes-light", "/changes?from=24h", "light", "[data-change]", []chromedp.Action[chromedp.Void]{
			chromedp.Click(chromedp.CSS(`[data-change] button`)), chromedp.WaitVisible(chromedp.CSS(`[aria-label=Differences] span`))}},
		{"changes-dark-patterns", "/changes?from=30d&group=patterns", "dark", "table[aria-label] td", nil},
		{"subscriptions-light", "/subscriptions", "light", "tbody td", nil},
		{"audit-light", "/audit?document=standard:access-switch&site=Ness+Point&rule=access-switch/uplink", "light", "[data-finding]", nil},
		{"drift-dark", "/drift", "dark", "[data-drift]", nil},
		{"standard-light", "/standards/document?kind=policy&name=management-plane", "light", "main section li, main section p", nil},
		{"fleet-light", "/fleet", "light", "[role=row] a", nil},
		{"device-light", "/device?name=hh-dist-1", "light", "[aria-label=Configuration] span", nil},
		{"compare-dark", compare, "dark", "[aria-label=Differences] span", nil},
		{"compare-light-unified", moved, "light", "[aria-label=Differences] span", nil},
		{"round-light", "/rounds/35", "light", "main", nil},
		{"search-light", "/search?in=interface&lack=description+**", "light", "main section p", nil},
		{"past-dark", "/past?at=3d", "dark", "tbody td", nil},
	}
}

// terminal is a picture of a terminal.
type terminal struct{ name, command string }

func terminals(binary string) []terminal {
	return []terminal{
		{"terminal-tour", binary + " demo --tour 2>&1 | tail -n 46"},
		{"terminal-diff", binary + " diff np-acc-2; echo; " + binary + " diff hh-fw-1:running/guests"},
		{"terminal-changes", binary + " change list --from 3d --limit 12; echo; " + binary + " change show 164; echo; " + binary + " change patterns --by account; echo; " + binary + " window list"},
		{"terminal-archive", binary + " search 192.0.2.66; echo; " + binary + " lines np-acc-2 --younger-than 2d; echo; " + binary + " fleet at 3d --against now --selector role=firewall; echo; " + binary + " diff t07-rt-1 t06-rt-1 --parameters; echo; " + binary + " history hh-dist-1"},
	}
}

func run(ctx context.Context, out, only string, width int) error {
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	d, err := demo.Start(ctx, demo.Options{Listen: "127.0.0.1:0", Password: password, Quiet: true, Version: "0.1", Log: slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelError})), Out: io.Discard})
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	served := make(chan error, 1)
	go func() { served <- d.Run(ctx, true) }()
	err = takePages(ctx, d.Daemon.URL, out, only, width)
	// The round that a picture has started would be in the way of the next.
	if list, listErr := d.Daemon.Rounds.List(ctx, 0, 1); listErr == nil && len(list) > 0 {
		if _, waitErr := d.Daemon.Rounds.Wait(ctx, list[0].ID); waitErr != nil {
			err = errors.Join(err, waitErr)
		}
	}
	err = errors.Join(err, takeTerminals(ctx, d.Daemon.URL, out, only))
	cancel()
	return errors.Join(err, <-served, d.Close())
}

func takePages(ctx context.Context, base, out, only string, width int) error {
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox,
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true), chromedp.WindowSize(width, 800))
	ctx, stop := chromedp.NewExecAllocator(ctx, options...)
	defer stop()
	ctx, stop = chromedp.NewContext(ctx)
	defer stop()
	height := int64(800)
	if width > 1280 {
		height = 1080
	}
	first, done := context.WithTimeout(ctx, time.Minute)
	defer done()
	if err := chromedp.Do(first,
		chromedp.EmulateViewport(int64(width), height),
		chromedp.Navigate(base), chromedp.WaitVisible(chromedp.CSS(`input[name=account]`)),
		chromedp.SendKeys(chromedp.CSS(`input[name=account]`), "noc"), chromedp.SendKeys(chromedp.CSS(`input[name=password]`), password),
		chromedp.Click(chromedp.CSS(`form button`)), chromedp.WaitVisible(chromedp.CSS(`nav`))); err != nil {
		return fmt.Errorf("signing in: %w", err)
	}
	for _, p := range pages() {
		if !strings.Contains(p.name, only) {
			continue
		}
		limited, done := context.WithTimeout(ctx, 30*time.Second)
		actions := append([]chromedp.Action[chromedp.Void]{
			chromedp.Evaluate[chromedp.Void](`localStorage.setItem('theme', '` + p.theme + `')`),
			chromedp.Navigate(base + p.path), chromedp.WaitVisible(chromedp.CSS(p.wait)),
		}, p.then...)
		err := chromedp.Do(limited, append(actions, chromedp.Sleep(700*time.Millisecond))...)
		var png []byte
		if err == nil {
			png, err = chromedp.Run(limited, chromedp.CaptureScreenshot())
		}
		done()
		if err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
		if err := os.WriteFile(filepath.Join(out, p.name+".png"), png, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// takeTerminals runs commands in xterm under a virtual display.
func takeTerminals(ctx context.Context, base, out, only string) error {
	binary, err := filepath.Abs("bin/vergekeep")
	if err != nil {
		return err
	}
	login := filepath.Join(os.TempDir(), fmt.Sprintf("vergekeep-pictures-%d.json", os.Getpid()))
	defer os.Remove(login)
	display := ":97"
	x := exec.CommandContext(ctx, "Xvfb", display, "-screen", "0", "1280x800x24")
	if err := x.Start(); err != nil {
		return fmt.Errorf("a virtual display: %w", err)
	}
	defer func() { _ = x.Process.Kill(); _ = x.Wait() }()
	env := append(os.Environ(), "DISPLAY="+display, "VERGEKEEP_LOGIN="+login, "TERM=xterm-256color")
	sign := exec.CommandContext(ctx, binary, "login", base, "--account", "noc")
	sign.Env, sign.Stdin = env, strings.NewReader(password+"\n")
	if text, err := sign.CombinedOutput(); err != nil {
		return fmt.Errorf("signing in: %w: %s", err, text)
	}
	// The project's own folder stands for the place where a reader would be.
	short := strings.NewReplacer(binary, "vergekeep")
	for _, t := range terminals(binary) {
		if !strings.Contains(t.name, only) {
			continue
		}
		done := filepath.Join(os.TempDir(), fmt.Sprintf("vergekeep-picture-%d.done", os.Getpid()))
		script := fmt.Sprintf("printf '\\033[1m$ %%s\\033[0m\\n' %q; %s; touch %s; sleep 60", short.Replace(t.command), t.command, done)
		window := exec.CommandContext(ctx, "xterm", "-geometry", "158x47+0+0", "-fa", "DejaVu Sans Mono", "-fs", "10", "-bg", "#FDFCF9", "-fg", "#1B2631", "-b", "12", "-e", "bash", "-c", script)
		window.Env = env
		if err := window.Start(); err != nil {
			return fmt.Errorf("a terminal: %w", err)
		}
		for range 300 {
			if _, err := os.Stat(done); err == nil {
				break
			}
			time.Sleep(100 * time.Millisecond)
		}
		time.Sleep(500 * time.Millisecond)
		shot := exec.CommandContext(ctx, "import", "-window", "root", filepath.Join(out, t.name+".png"))
		shot.Env = env
		text, err := shot.CombinedOutput()
		_ = window.Process.Kill()
		_ = window.Wait()
		_ = os.Remove(done)
		if err != nil {
			return fmt.Errorf("%s: %w: %s", t.name, err, text)
		}
	}
	return nil
}
