//go:build console

package console_test

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/demo"
	"vergekeep/service/fleet"
)

const password = "a-long-password"

// browser signs in to a demonstration with headless Chromium.
func browser(t *testing.T) (ctx context.Context, d *demo.Demo) {
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
		chromedp.SendKeys(chromedp.CSS(`input[name=account]`), "noc"), chromedp.SendKeys(chromedp.CSS(`input[name=password]`), password),
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

// until waits for an expression to be true.
func until(t *testing.T, ctx context.Context, expression string) {
	t.Helper()
	require.Eventually(t, func() bool { return eval[bool](t, ctx, expression) }, 20*time.Second, 50*time.Millisecond, expression)
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
	"rounds":        "/rounds",
	"round":         "/rounds/35",
	"journal":       "/journal",
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
			until(t, ctx, `!/Looking|Comparing|One moment/.test(document.body.innerText)`)
			assert.Equal(t, theme, eval[string](t, ctx, `document.documentElement.dataset.theme`))
			do(t, ctx, chromedp.Evaluate[chromedp.Void](string(axe)+";window.axeDone=null;axe.run(document,{resultTypes:['violations']}).then(r=>{window.axeDone=r.violations.map(v=>v.id+': '+v.nodes.map(n=>n.html.slice(0,160)+' '+n.failureSummary).slice(0,3).join(' | '))})"))
			until(t, ctx, `window.axeDone !== null`)
			assert.Empty(t, eval[[]string](t, ctx, `window.axeDone`), "%s, %s", name, theme)
		}
	}
}

func TestAPersonFindsWhatChanged(t *testing.T) {
	ctx, d := browser(t)
	until(t, ctx, `/50 of 54 devices have a fresh capture/.test(document.querySelector('h1').innerText)`)
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

func TestARoundIsSeenAsItRuns(t *testing.T) {
	ctx, d := browser(t)
	d.Network.Device("hh-dist-2").Change("neteng", "", true, func(s string) string { return strings.Replace(s, "Europe/Oslo", "UTC", 1) })
	until(t, ctx, `!!document.querySelector('form button.main-button:not([disabled])')`)
	do(t, ctx, chromedp.Click(chromedp.CSS(`form button.main-button`)))
	until(t, ctx, `location.pathname.startsWith('/rounds/')`)
	until(t, ctx, `/is done: 1 new, \d+ unchanged, 4 failed/.test(document.querySelector('h1').innerText)`)
	assert.Contains(t, eval[string](t, ctx, `document.querySelector('main').innerText`), "host-key-changed")
}

func TestTenThousandDevicesAreShown(t *testing.T) {
	ctx, d := browser(t)
	var wg sync.WaitGroup
	for i := range 10_000 {
		wg.Go(func() {
			_, err := d.Daemon.Fleet.Add(t.Context(), fleet.Device{Name: fmt.Sprintf("z-%05d", i), Platform: "tidegate", Address: "192.0.2.1", Site: fmt.Sprintf("Site %03d", i%100)}, "test")
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
