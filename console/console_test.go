//go:build console

package console_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/demo"
	"vergekeep/service/fleet"
	"vergekeep/standin"
)

const password = "a-long-password"

// browser signs in to a demonstration with headless Chromium.
func browser(t *testing.T) (ctx context.Context, d *demo.Demo) { return browserOf(t, "noc") }

func browserOf(t *testing.T, account string) (ctx context.Context, d *demo.Demo) {
	t.Helper()
	d, err := demo.Start(t.Context(), demo.Options{Listen: "127.0.0.1:0", Password: password, Quiet: true, Version: "test", Log: slog.New(slog.DiscardHandler), Out: io.Discard})
	require.NoError(t, err)
	served, stopped := make(chan error, 1), make(chan struct{})
	serving, stop := context.WithCancel(context.Background())
	go func() { served <- d.Run(serving, true); close(stopped) }()
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox,
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true))
	ctx, stopBrowser := chromedp.NewExecAllocator(context.Background(), options...)
	ctx, stopTab := chromedp.NewContext(ctx)
	t.Cleanup(func() {
		stopTab()
		stopBrowser()
		stop()
		<-stopped
		assert.NoError(t, <-served)
		assert.NoError(t, d.Close())
	})
	// The browser lives as long as the context of its first use.
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)))
	do(t, ctx, chromedp.Navigate(d.Daemon.URL), see(`input[name=account]`),
		chromedp.SendKeys(chromedp.CSS(`input[name=account]`), account), chromedp.SendKeys(chromedp.CSS(`input[name=password]`), password),
		chromedp.Click(chromedp.CSS(`form button`)), see(`nav`))
	return ctx, d
}

func do(t *testing.T, ctx context.Context, steps ...chromedp.Action[chromedp.Void]) {
	t.Helper()
	limited, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	require.NoError(t, chromedp.Do(limited, steps...))
}

func see(css string) chromedp.Action[chromedp.Void] { return chromedp.WaitVisible(chromedp.CSS(css)) }

// until waits for an expression to be true; what it looks at may not be there yet.
func until(t *testing.T, ctx context.Context, expression string) {
	t.Helper()
	safe := `(() => { try { return !!(` + expression + `) } catch { return false } })()`
	require.Eventually(t, func() bool { return eval[bool](t, ctx, safe) }, time.Minute, 50*time.Millisecond, expression)
}

func eval[T any](t *testing.T, ctx context.Context, expression string) T {
	t.Helper()
	limited, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	v, err := chromedp.Run(limited, chromedp.Evaluate[T](expression))
	require.NoError(t, err, expression)
	return v
}

var pages = map[string]string{
	"fleet":         "/fleet",
	"fleet grouped": "/fleet?group=site",
	"device":        "/device?name=hh-dist-1",
	"problem":       "/device?name=dd-edge-1",
	"compare":       "/compare?left=np-acc-2%40-1&right=np-acc-2",
	"unified":       "/compare?left=hh-fw-1:running/guests%401&right=hh-fw-1:running/guests&as=unified",
	"compare table": "/compare?left=t07-rt-1&right=t06-rt-1&as=table&expected=router+%3E+watch+%3E+level+*",
	"identical":     "/compare?left=np-acc-2&right=np-acc-2",
	"search":        "/search?q=192.0.2.66",
	"search start":  "/search",
	"who lacks it":  "/search?in=interface&lack=description+**&without=1",
	"past":          "/past?at=3d",
	"rounds":        "/rounds",
	"round":         "/rounds/35",
	"visit":         "/rounds/35/visit?device=dd-edge-1",
	"journal":       "/journal",
	"today":         "/today",
	"schedules":     "/schedules",
	"groups":        "/groups",
	"add":           "/add",
	"credentials":   "/credentials",
	"changes":       "/changes?from=7d",
	"a change":      "/changes?from=24h&change=164",
	"patterns":      "/changes?from=30d&group=patterns",
	"windows":       "/windows",
	"signals":       "/signals",
	"subscriptions": "/subscriptions",
	"audit":         "/audit?document=standard:access-switch&rule=access-switch/uplink",
	"waivers":       "/waivers",
	"drift":         "/drift",
	"standards":     "/standards",
	"a policy":      "/standards/document?kind=policy&name=keeping",
	"nowhere":       "/nowhere",
}

func TestEveryPageIsAccessibleInBothThemes(t *testing.T) {
	ctx, d := browser(t)
	axe, err := os.ReadFile("node_modules/axe-core/axe.min.js")
	require.NoError(t, err)
	for name, path := range pages {
		for _, theme := range []string{"light", "dark"} {
			t.Log(name, theme)
			do(t, ctx, chromedp.Evaluate[chromedp.Void](`localStorage.setItem('theme', '`+theme+`')`), chromedp.Navigate(d.Daemon.URL+path), see(`main h1`))
			until(t, ctx, `!/Looking|Comparing|Searching …|One moment/.test(document.body.innerText)`)
			assert.Equal(t, theme, eval[string](t, ctx, `document.documentElement.dataset.theme`))
			do(t, ctx, chromedp.Evaluate[chromedp.Void](string(axe)+";window.axeDone=null;axe.run(document,{resultTypes:['violations']}).then(r=>{window.axeDone=r.violations.map(v=>v.id+': '+v.nodes.map(n=>n.html.slice(0,160)+' '+n.failureSummary).slice(0,3).join(' | '))})"))
			until(t, ctx, `window.axeDone !== null`)
			assert.Empty(t, eval[[]string](t, ctx, `window.axeDone`), "%s, %s", name, theme)
		}
	}
}

func TestAPersonFindsWhatChanged(t *testing.T) {
	ctx, d := browser(t)
	until(t, ctx, `/50 of 54 devices have a fresh capture; 2 are late, 2 stale/.test(document.querySelector('h1')?.innerText)`)
	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/fleet"))
	until(t, ctx, `/50 of 54 devices have a fresh capture/.test(document.querySelector('h1')?.innerText)`)
	assert.Equal(t, "v-guillemot-r", eval[string](t, ctx, `document.querySelector('[role=row] a').innerText`), "the stalest first")

	// The selector box, and an address that can be sent to a colleague.
	do(t, ctx, chromedp.SendKeys(chromedp.CSS(`input[data-search]`), "site=Northgate role=access\r"))
	until(t, ctx, `/of 6 devices/.test(document.querySelector('h1').innerText)`)
	assert.Contains(t, eval[string](t, ctx, `location.search`), "Northgate")
	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/fleet?selector=sight%3Dx"))
	until(t, ctx, `/no field of a device/.test(document.body.innerText)`)

	// A device, then its last change.
	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/device?name=np-acc-2"), see(`[aria-label=Configuration] span`))
	assert.Contains(t, eval[string](t, ctx, `document.querySelector('[aria-label=Configuration]').innerText`), "●●●●●●●●")
	before := eval[float64](t, ctx, `document.querySelectorAll('[aria-label=Configuration] > div').length`)
	do(t, ctx, chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('button')].find(b => b.innerText === 'Fold sections').click()`))
	until(t, ctx, fmt.Sprintf(`document.querySelectorAll('[aria-label=Configuration] > div').length < %f`, before))
	do(t, ctx, chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('a')].find(a => a.innerText === 'Compare with @1').click()`), see(`[aria-label=Differences]`))
	until(t, ctx, `/4 differences in 2 sections/.test(document.querySelector('h1').innerText)`)
	text := eval[string](t, ctx, `document.querySelector('[aria-label=Differences]').innerText`)
	assert.Contains(t, text, "lan trunk 10,20,30,99")
	assert.Contains(t, text, "mirror to port1/3")

	// n goes to the next difference.
	do(t, ctx, chromedp.Evaluate[chromedp.Void](`document.activeElement.blur(); document.body.dispatchEvent(new KeyboardEvent('keydown', {key: 'n', bubbles: true}))`))
	until(t, ctx, `/2 of 3/.test(document.body.innerText)`)
}

// TestTheArchiveAnswersQuestions goes the way of the demonstration's stories: who
// still uses a server, since when a line stands, what two siblings differ in, and
// what was otherwise three days ago.
func TestTheArchiveAnswersQuestions(t *testing.T) {
	ctx, d := browser(t)
	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/search"), chromedp.WaitVisible(chromedp.CSS(`input[data-search]`)), chromedp.SendKeys(chromedp.CSS(`input[data-search]`), "192.0.2.66\r"))
	until(t, ctx, `/1 line in 1 device; 106 configurations/.test(document.querySelector('h1').innerText)`)
	assert.Contains(t, eval[string](t, ctx, `document.querySelector('main').innerText`), "Secrets were not searched.")
	do(t, ctx, chromedp.Click(chromedp.CSS(`main section div.mono a`)))
	until(t, ctx, `location.pathname === '/device' && location.search.includes('line=132')`)
	until(t, ctx, `/today/.test(document.querySelector('[aria-label=Configuration] .bg-attention-tint')?.innerText)`)
	title := eval[string](t, ctx, `document.querySelector('[aria-label=Configuration] .bg-attention-tint span').title`)
	assert.Contains(t, title, "Since @2")
	assert.Contains(t, title, "It was: server 192.0.2.1")

	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/compare?left=t07-rt-1&right=t06-rt-1&as=table"))
	until(t, ctx, `/4 differences in 4 sections. 7 lines set aside./.test(document.querySelector('h1').innerText)`)
	assert.Contains(t, eval[string](t, ctx, `document.querySelector('table').innerText`), "198.51.100.9")
	do(t, ctx, chromedp.SendKeys(chromedp.CSS(`input[aria-label="Section pattern to treat as equal"]`), "router > time > server *\r"))
	until(t, ctx, `/3 differences in 3 sections/.test(document.querySelector('h1').innerText)`)
	assert.Contains(t, eval[string](t, ctx, `location.search`), "expected=", "the address can be sent to a colleague")

	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/past?at=3d"))
	until(t, ctx, `/configurations differ from .*; \d+ are the same/.test(document.querySelector('h1').innerText)`)
	assert.Contains(t, eval[string](t, ctx, `document.querySelector('table').innerText`), "hh-fw-1:running/guests")
	do(t, ctx, chromedp.SendKeys(chromedp.CSS(`input[aria-label="Name of this moment"]`), "before the migration\r"))
	until(t, ctx, `[...document.querySelectorAll('datalist option')].some(o => o.value === 'before the migration')`)
	status := eval[float64](t, ctx, `(() => { const x = new XMLHttpRequest(); x.open('GET', '/api/v1/comparison/document?left=np-acc-2@1&right=np-acc-2&as=pdf', false); x.send(); return x.status + (x.responseText.startsWith('%PDF') ? 1 : 0) })()`)
	assert.InDelta(t, 201, status, 0, "a PDF")
}

func TestARoundIsSeenAsItRuns(t *testing.T) {
	ctx, d := browser(t)
	d.Network.Device("hh-dist-2").Change("neteng", "", true, func(s string) string { return strings.Replace(s, "Europe/Oslo", "UTC", 1) })
	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/fleet"))
	until(t, ctx, `!!document.querySelector('form button.main-button:not([disabled])')`)
	do(t, ctx, chromedp.Click(chromedp.CSS(`form button.main-button`)))
	until(t, ctx, `location.pathname.startsWith('/rounds/')`)
	until(t, ctx, `/is done: 1 new, \d+ unchanged, 4 failed/.test(document.querySelector('h1').innerText)`)
	assert.Contains(t, eval[string](t, ctx, `document.querySelector('main').innerText`), "host-key-changed")
}

func TestAListIsTakenInAndAScheduleAdded(t *testing.T) {
	ctx, d := browser(t)
	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/add"), see(`textarea`))
	do(t, ctx, chromedp.SendKeys(chromedp.CSS(`textarea`), "name,address,platform\nz-new-1,192.0.2.99,tidegate\nz-new-2,192.0.2.98,tidegat\n"))
	do(t, ctx, chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('button')].find(b => b.innerText === 'Dry run').click()`))
	until(t, ctx, `/1 would be added, 0 changed, 0 unchanged, 1 refused/.test(document.body.innerText)`)
	assert.Contains(t, eval[string](t, ctx, `document.body.innerText`), "Did you mean tidegate?")
	do(t, ctx, chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('button')].find(b => b.innerText === 'Take it in').click()`))
	until(t, ctx, `/1 added/.test(document.body.innerText)`)
	_, err := d.Daemon.Fleet.Get(t.Context(), "z-new-1")
	require.NoError(t, err)
	// The account noc may not change schedules: the page says so.
	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/schedules"))
	until(t, ctx, `/The next round is/.test(document.querySelector('h1')?.innerText)`)
	assert.True(t, eval[bool](t, ctx, `document.querySelector('button.main-button').disabled`))
}

// press clicks the first button with that text.
func press(t *testing.T, ctx context.Context, text string) {
	t.Helper()
	button := fmt.Sprintf(`[...document.querySelectorAll('button')].find(b => b.innerText.trim() === %q)`, text)
	until(t, ctx, `!!`+button)
	do(t, ctx, chromedp.Evaluate[chromedp.Void](button+`.click()`))
}

// fill types into the field with that label.
func fill(t *testing.T, ctx context.Context, label, text string) {
	t.Helper()
	field := fmt.Sprintf(`[...document.querySelectorAll('label')].find(l => l.innerText.trim().startsWith(%q))?.querySelector('input')`, label)
	until(t, ctx, `!!`+field)
	do(t, ctx, chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`(() => { const f = %s; f.value = %q; f.dispatchEvent(new Event('input', {bubbles: true})) })()`, field, text)))
}

func TestAVisitIsToldStepByStep(t *testing.T) {
	ctx, d := browser(t)
	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/rounds/35"), see(`[aria-label="The visit to dd-edge-1 step by step"]`),
		chromedp.Click(chromedp.CSS(`[aria-label="The visit to dd-edge-1 step by step"]`)))
	until(t, ctx, `/Step by step/.test(document.body.innerText)`)
	text := eval[string](t, ctx, `document.querySelector('main').innerText`)
	assert.Contains(t, text, `running: sends "list config running"`)
	assert.Contains(t, text, "What it said last")
	assert.NotContains(t, text, "r4ise")
	assert.True(t, eval[bool](t, ctx, `[...document.querySelectorAll('button')].find(b => b.innerText === 'Show all that was said').disabled`), "noc may not see secrets")
	// The device's page leads there too.
	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/device?name=dd-edge-1"))
	until(t, ctx, `!!document.querySelector('a[href="/rounds/35/visit?device=dd-edge-1"]')`)
	until(t, ctx, `document.querySelector('section[aria-label=Visits]').innerText.includes('failed')`)
	assert.Contains(t, eval[string](t, ctx, `document.querySelector('section[aria-label=Schedules]').innerText`), "nightly")
}

func TestBytesThatAreNoTextAreShownAsNumbers(t *testing.T) {
	ctx, d := browser(t)
	d.Network.Device("ng-acc-1").SetFault(standin.BadText)
	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/device?name=ng-acc-1"))
	press(t, ctx, "Capture now")
	until(t, ctx, `/\bff fe\b|\bff\b/.test(document.querySelector('[aria-label=Configuration] [title^="These bytes"]')?.innerText)`)
}

func TestALeadKeepsSchedulesJumpHostsAndCredentials(t *testing.T) {
	ctx, d := browserOf(t, "lead")
	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/schedules"))
	press(t, ctx, "Copy")
	fill(t, ctx, "Name", "edges by day")
	fill(t, ctx, "Five fields", "0 9 * * 1-5")
	do(t, ctx, chromedp.Evaluate[chromedp.Void](`document.querySelector('form button').click()`))
	until(t, ctx, `/0 9 \* \* 1-5/.test(document.querySelector('table').innerText)`)
	list, err := d.Daemon.Rounds.Schedules(t.Context())
	require.NoError(t, err)
	assert.Len(t, list, 4)

	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/groups"))
	until(t, ctx, `/Jump hosts/.test(document.body.innerText)`)
	do(t, ctx, chromedp.Evaluate[chromedp.Void](`window.onlyJumps = [...document.querySelectorAll('section')].at(-1); [...document.querySelectorAll('section')].slice(0, -1).forEach(s => s.remove())`))
	fill(t, ctx, "Name", "harbour-gate")
	fill(t, ctx, "Address", "192.0.2.5")
	fill(t, ctx, "Credential", "skerry-keeper")
	press(t, ctx, "Set")
	until(t, ctx, `/harbour-gate/.test(document.querySelector('table')?.innerText)`)

	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/credentials"))
	press(t, ctx, "Add a credential")
	do(t, ctx, chromedp.Evaluate[chromedp.Void](`(() => { const s = document.querySelector('select'); s.value = 'community'; s.dispatchEvent(new Event('change', {bubbles: true})) })()`))
	fill(t, ctx, "Name", "watcher")
	fill(t, ctx, "Community", "see-the-sea")
	press(t, ctx, "Add")
	until(t, ctx, `/watcher[\s\S]*community[\s\S]*asks, never logs in/.test(document.querySelector('table').innerText)`)

	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/add"))
	until(t, ctx, `/Lists kept in step/.test(document.body.innerText)`)
	file := filepath.Join(t.TempDir(), "list.csv")
	require.NoError(t, os.WriteFile(file, []byte("name,address,platform\nz-kept-1,192.0.2.99,tidegate\n"), 0o600))
	do(t, ctx, chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('section')].filter(s => !/Lists kept/.test(s.innerText)).forEach(s => s.remove())`))
	fill(t, ctx, "Name", "the list")
	fill(t, ctx, "From", "file:"+file)
	press(t, ctx, "Set")
	press(t, ctx, "Preview")
	until(t, ctx, `/the list: 1 would be added/.test(document.body.innerText)`)
	press(t, ctx, "Run now")
	until(t, ctx, `/the list: 1 added/.test(document.body.innerText)`)
	_, err = d.Daemon.Fleet.Get(t.Context(), "z-kept-1")
	require.NoError(t, err)
}

func TestTenThousandDevicesAreShown(t *testing.T) {
	ctx, d := browser(t)
	var wg sync.WaitGroup
	for i := range 10_000 {
		wg.Go(func() {
			_, err := d.Daemon.Fleet.Add(t.Context(), fleet.Device{Name: fmt.Sprintf("z-%05d", i), Platform: "tidegate", Addresses: []string{"192.0.2.1"}, Site: fmt.Sprintf("Site %03d", i%100)}, "test")
			assert.NoError(t, err)
		})
	}
	wg.Wait()
	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/fleet?sort=name"))
	until(t, ctx, `/of 10,054 devices/.test(document.querySelector('h1')?.innerText)`)
	rows := eval[float64](t, ctx, `document.querySelectorAll('[role=row]').length`)
	assert.Less(t, rows, 80.0, "only what is in view is drawn")
	do(t, ctx, chromedp.Evaluate[chromedp.Void](`window.scrollTo(0, document.body.scrollHeight)`))
	until(t, ctx, `[...document.querySelectorAll('[role=row] a')].some(a => a.innerText === 'z-09999')`)
	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/fleet?group=site&sort=name"))
	until(t, ctx, `/Dry Dock/.test(document.querySelector('[role=table]')?.innerText)`)
}

func TestTheFirstPageIsSmallAndComesFromTheServiceOnly(t *testing.T) {
	ctx, d := browser(t)
	until(t, ctx, `performance.getEntriesByType('resource').length > 3`)
	foreign := eval[[]string](t, ctx, `performance.getEntriesByType('resource').map(r => r.name).filter(n => !n.startsWith(location.origin))`)
	assert.Empty(t, foreign)
	scripts := eval[[]string](t, ctx, `performance.getEntriesByType('resource').map(r => r.name).filter(n => n.endsWith('.js'))`)
	total := 0
	for _, s := range scripts {
		r, err := http.NewRequestWithContext(t.Context(), "GET", s, nil)
		require.NoError(t, err)
		r.Header.Set("Accept-Encoding", "gzip")
		resp, err := http.DefaultTransport.RoundTrip(r)
		require.NoError(t, err)
		n, err := io.Copy(io.Discard, resp.Body)
		require.NoError(t, err)
		require.NoError(t, resp.Body.Close())
		total += int(n)
	}
	assert.Positive(t, total)
	assert.Less(t, total, 250_000, "%d bytes of compressed JavaScript from %s", total, d.Daemon.URL)
}

// TestPagesMeetTheirBudgets measures with Lighthouse on the built console; scores below are of 100.
func TestPagesMeetTheirBudgets(t *testing.T) {
	const least, busy = 95, 60
	ctx, d := browser(t)
	require.NoError(t, chromedp.Cancel(ctx), "its own browser would only be in the way")
	body := strings.NewReader(`{"account":"noc","password":"` + password + `"}`)
	r, err := http.Post(d.Daemon.URL+"/api/v1/session", "application/json", body)
	require.NoError(t, err)
	require.NoError(t, r.Body.Close())
	require.NotEmpty(t, r.Cookies(), "signing in: %s", r.Status)
	measure := func(theme string, paths ...string) {
		args := []string{"measure.mjs", "/usr/bin/chromium", r.Cookies()[0].Name + "=" + r.Cookies()[0].Value, theme, strconv.Itoa(least)}
		for _, path := range paths {
			args = append(args, d.Daemon.URL+path)
		}
		// A page takes some fifteen seconds, and more on a busy machine.
		limited, cancel := context.WithTimeout(t.Context(), time.Minute+time.Duration(len(paths))*30*time.Second)
		defer cancel()
		cmd := exec.CommandContext(limited, "node", args...)
		cmd.Dir = "budgets"
		cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) } // it ends its browser too
		cmd.WaitDelay = 10 * time.Second
		var complaints bytes.Buffer
		cmd.Stderr = &complaints
		out, err := cmd.Output()
		require.NoError(t, err, complaints.String())
		lines := strings.Split(strings.TrimSpace(string(out)), "\n")
		require.Len(t, lines, len(paths))
		for _, line := range lines {
			var page struct {
				URL      string
				Scores   map[string]int
				Lacking  []string
				Slowdown float64
				Speed    float64
				Error    string
			}
			require.NoError(t, json.Unmarshal([]byte(line), &page), line)
			require.Empty(t, page.Error, page.URL)
			require.Len(t, page.Scores, 3)
			t.Log(page.URL, theme, page.Scores, "machine's speed", page.Speed, "weighed", page.Slowdown, strings.Join(page.Lacking, "; "))
			for category, score := range page.Scores {
				least := least
				// What only took long may be the machine's doing: a shared one gave 79 and 83
				// where a quiet one gives 100. What jumps is the page's own.
				if category == "performance" && !strings.Contains(strings.Join(page.Lacking, " "), "layout-shift") {
					least = busy
				}
				assert.GreaterOrEqual(t, score, least, "%s of %s, %s: %s", category, page.URL, theme, strings.Join(page.Lacking, "; "))
			}
		}
	}
	light := maps.Clone(pages)
	for _, another := range []string{"compare table", "identical", "search start", "who lacks it", "fleet grouped"} { // the same pages once more
		delete(light, another)
	}
	measure("light", slices.Sorted(maps.Values(light))...)
	measure("dark", pages["fleet"], pages["compare"], pages["device"])
}

// TestAPersonJudgesAChange finds what happened at night, says whose it was, and sees
// the next change come by itself.
func TestAPersonJudgesAChange(t *testing.T) {
	ctx, d := browser(t)
	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/changes?from=30d&verdict=open"), see(`[data-change]`))
	until(t, ctx, `/\d+ changes on \d+ devices/.test(document.querySelector('h1').innerText)`)
	line := `document.querySelector('[data-change="164"]')`
	until(t, ctx, `/np-acc-2[^]*by svc-night[^]*outside agreed hours/.test(`+line+`?.innerText)`)
	do(t, ctx, chromedp.Evaluate[chromedp.Void](line+`.querySelector('button').click()`), see(`[data-change="164"] [aria-label=Differences] span`))
	until(t, ctx, `/lan trunk 10,20,30,99/.test(`+line+`.innerText)`)
	do(t, ctx, chromedp.Evaluate[chromedp.Void](`[...`+line+`.querySelectorAll('button')].find(b => /I am on it/.test(b.innerText)).click()`))
	until(t, ctx, `/is on it, since/.test(`+line+`.innerText)`)
	do(t, ctx, chromedp.Evaluate[chromedp.Void](`[...`+line+`.querySelectorAll('button')].find(b => /It was authorised/.test(b.innerText)).click()`),
		chromedp.SendKeys(chromedp.CSS(`[data-change="164"] form input`), "ticket 2077\r"))
	until(t, ctx, `!`+line) // it is no longer open
	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/changes?from=30d&change=164"), see(`[data-change]`))
	until(t, ctx, `/authorised, ticket 2077/.test(`+line+`?.innerText)`)

	// A device says that it was changed: the page shows it by itself.
	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/changes?from=24h"), see(`h1`))
	until(t, ctx, `/changed|changes? on/.test(document.querySelector('h1').innerText)`)
	d.Network.Device("hh-dist-2").Change("neteng", "", false, func(s string) string { return strings.Replace(s, "Europe/Oslo", "UTC", 1) })
	until(t, ctx, `/hh-dist-2[^]*by neteng/.test(document.querySelector('[data-change]')?.innerText)`)
	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/signals"), see(`h1`))
	until(t, ctx, `/hh-dist-2[^]*change #/.test(document.body.innerText)`)
	do(t, ctx, chromedp.SendKeys(chromedp.CSS(`form input`), "<189>Nov 20 02:14:07 np-acc-2 config[812]: changed by neteng\r"))
	until(t, ctx, `/The configuration of np-acc-2 has changed, by neteng/.test(document.body.innerText)`)

	// What would be told, before anybody gets it.
	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/subscriptions"), see(`tbody td`))
	until(t, ctx, `/nobody gets mail yet/.test(document.querySelector('h1').innerText)`)
	do(t, ctx, chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('tr')].find(r => r.querySelector('b')?.innerText === 'outside agreed hours').querySelector('button').click()`))
	until(t, ctx, `/changed outside agreed hours|changed in the freeze/.test(document.querySelector('pre')?.innerText)`)
}

// TestAnAuditorGoesFromTheGridToTheLine asks what is wrong at Ness Point, follows it
// to the line on the device, sees what is waived and what drifted, and tries a rule.
func TestAnAuditorGoesFromTheGridToTheLine(t *testing.T) {
	ctx, d := browser(t)
	click := func(what string) {
		t.Helper()
		do(t, ctx, chromedp.Evaluate[chromedp.Void](what+`.click()`))
	}
	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/audit"), see(`table button`))
	until(t, ctx, `/% of what was asked holds; \d+ severe findings/.test(document.querySelector('h1').innerText)`)
	row := `[...document.querySelectorAll('tbody tr')].find(r => r.querySelector('th')?.innerText === 'Ness Point')`
	until(t, ctx, `!!`+row)
	click(row + `.querySelectorAll('td button')[3]`)
	until(t, ctx, `/findings of access-switch at Ness Point/.test(document.querySelector('h2.mr-2').innerText)`)
	click(`document.querySelector('[data-rule="access-switch/uplink"] button')`)
	until(t, ctx, `/lan trunk 10,20,30,99/.test(document.querySelector('[data-finding]')?.innerText)`)
	until(t, ctx, `/by change #164/.test(document.querySelector('[data-finding]')?.innerText.replace(/\s+/g, ' '))`)
	click(`document.querySelector('[data-finding] li a')`)
	until(t, ctx, `/np-acc-2/.test(document.querySelector('h1')?.innerText) && /uplink/.test(document.querySelector('[aria-label=Configuration]')?.innerText)`)
	until(t, ctx, `/What should be[^]*No port is mirrored/.test(document.body.innerText)`)

	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/waivers"), see(`tbody tr`))
	until(t, ctx, `/1 exception in force; 1 runs out within a week/.test(document.querySelector('h1').innerText)`)
	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/drift"), see(`[data-drift]`))
	until(t, ctx, `/no longer as blessed/.test(document.querySelector('h1').innerText)`)
	before := `document.querySelectorAll('[data-drift]').length`
	do(t, ctx, chromedp.Evaluate[chromedp.Void](`window.drifted = `+before))
	click(`document.querySelector('[data-drift="np-acc-2"] button')`)
	until(t, ctx, before+` === window.drifted - 1`)

	do(t, ctx, chromedp.Navigate(d.Daemon.URL+"/standards/document?kind=policy"), see(`textarea`))
	until(t, ctx, `/hold, \d+ do not/.test(document.querySelector('h1').innerText)`)
	do(t, ctx, chromedp.SendKeys(chromedp.CSS(`textarea`), "\n  - { id: x, title: X, sevrity: low, check: { require: [a] } }"))
	until(t, ctx, `/Did you mean severity/.test(document.querySelector('[aria-label=Tried]').innerText)`)
}
