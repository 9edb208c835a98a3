package daemon_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/archive"
	"vergekeep/core/ref"
	"vergekeep/daemon"
	"vergekeep/service/accounts"
	"vergekeep/service/audits"
	"vergekeep/service/fleet"
	"vergekeep/service/rounds"
	"vergekeep/service/vault"
	"vergekeep/standin"
	"vergekeep/standin/scenario"
)

const password = "a-long-password"

// logs collects what the service logs.
type logs struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *logs) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *logs) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

// house is a running service with stand-ins of Skerry Line.
type house struct {
	*daemon.Daemon
	t       *testing.T
	dir     string
	log     *logs
	network *scenario.Network
	devices *standin.Fleet
	stop    func()
	tune    func(*daemon.Config) // may be nil
}

func config(dir string, log io.Writer) daemon.Config {
	return daemon.Config{Data: dir, Listen: "127.0.0.1:0", Concurrency: 8, Version: "test", Log: slog.New(slog.NewTextHandler(log, &slog.HandlerOptions{Level: slog.LevelDebug}))}
}

func open(t *testing.T, names ...string) *house {
	t.Helper()
	return openWith(t, nil, names...)
}

// openWith is open with another configuration.
func openWith(t *testing.T, tune func(*daemon.Config), names ...string) *house {
	t.Helper()
	h := &house{t: t, dir: t.TempDir(), log: &logs{}, network: scenario.New(), devices: standin.NewFleet(), tune: tune}
	t.Cleanup(h.devices.Close)
	h.start()
	t.Cleanup(func() { h.stop() })
	for name, rights := range map[string][]accounts.Right{"lead": accounts.Rights, "noc": {accounts.See, accounts.Operate}, "auditor": {accounts.See}} {
		_, err := h.Accounts.Add(t.Context(), name, password, rights, false, "test")
		require.NoError(t, err)
	}
	_, err := h.Vault.Add(t.Context(), vault.Credential{Name: "keeper", Username: scenario.User, Secrets: vault.Secrets{Password: scenario.Password, Elevation: scenario.Elevation}}, "test", time.Now())
	require.NoError(t, err)
	for _, name := range names {
		h.add(name)
	}
	return h
}

func (h *house) start() {
	h.t.Helper()
	c := config(h.dir, h.log)
	if h.tune != nil {
		h.tune(&c)
	}
	d, err := daemon.Open(h.t.Context(), c)
	require.NoError(h.t, err)
	h.Daemon = d
	ctx, cancel := context.WithCancel(context.Background())
	served := make(chan error, 1)
	go func() { served <- d.Serve(ctx) }()
	h.stop = sync.OnceFunc(func() {
		cancel()
		assert.NoError(h.t, <-served)
		assert.NoError(h.t, d.Close())
	})
}

func (h *house) add(name string) *standin.Device {
	h.t.Helper()
	d := h.network.Device(name)
	addr, err := h.devices.Add(d)
	require.NoError(h.t, err)
	_, err = h.Fleet.Add(h.t.Context(), fleet.Device{Name: name, Platform: string(d.Platform), Addresses: []string{addr}, Site: "Northgate"}, "test")
	require.NoError(h.t, err)
	return d
}

// round visits and waits.
func (h *house) round(selector string) ([]rounds.Visit, rounds.Round) {
	h.t.Helper()
	r, err := h.Rounds.Start(h.t.Context(), selector, "demand", "test")
	require.NoError(h.t, err)
	r, err = h.Rounds.Wait(h.t.Context(), r.ID)
	require.NoError(h.t, err)
	visits, err := h.Rounds.Visits(h.t.Context(), r.ID)
	require.NoError(h.t, err)
	return visits, r
}

func (h *house) sizes() int {
	r, err := h.Archive.Check(h.t.Context())
	require.NoError(h.t, err)
	require.Empty(h.t, r.Faults)
	return r.Revisions
}

// caller is an HTTP client with a session.
type caller struct {
	t    *testing.T
	url  string
	http http.Client
	head http.Header
}

func (h *house) signIn(account string) *caller {
	h.t.Helper()
	c := &caller{t: h.t, url: h.URL, head: http.Header{}}
	status, body, head := c.do("POST", "/api/v1/session", fmt.Sprintf(`{"account":%q,"password":%q}`, account, password))
	require.Equal(h.t, 200, status, body)
	cookie, _, _ := strings.Cut(head.Get("Set-Cookie"), ";")
	assert.Contains(h.t, head.Get("Set-Cookie"), "HttpOnly; SameSite=Strict")
	c.head.Set("Cookie", cookie)
	return c
}

func (c *caller) do(method, path, body string) (int, string, http.Header) {
	c.t.Helper()
	r, err := http.NewRequestWithContext(c.t.Context(), method, c.url+path, strings.NewReader(body))
	require.NoError(c.t, err)
	r.Header = c.head.Clone()
	if body != "" && r.Header.Get("Content-Type") == "" {
		r.Header.Set("Content-Type", "application/json")
	}
	resp, err := c.http.Do(r)
	require.NoError(c.t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(c.t, err)
	return resp.StatusCode, string(text), resp.Header
}

func TestEveryFailureHasItsReasonAndArchivesNothing(t *testing.T) {
	h := open(t, "np-acc-1", "np-acc-2", "hh-core-1", "hh-fw-1", "t07-rt-1")
	_, r := h.round("")
	require.Equal(t, 5, r.New)
	before := h.sizes()

	// Each device fails in its own way; the others are not held up.
	h.network.Device("np-acc-1").SetFault(standin.CutShort)
	h.network.Device("np-acc-2").SetFault(standin.ForeignNames)
	h.network.Device("hh-core-1").NewHostKey()
	h.network.Device("hh-fw-1").SetPassword("another")
	h.devices.Remove(h.network.Device("t07-rt-1"))
	visits, r := h.round("")
	assert.Equal(t, 5, r.Failed)
	want := map[string]string{"np-acc-1": "incomplete", "np-acc-2": "other-device", "hh-core-1": "host-key-changed", "hh-fw-1": "credential-refused", "t07-rt-1": "refused"}
	for _, v := range visits {
		assert.Equal(t, want[v.Device], string(v.Reason), v.What)
		assert.NotEmpty(t, v.Reason.Advice())
		assert.True(t, strings.HasSuffix(v.What, "."), "a sentence: %s", v.What)
	}
	assert.Equal(t, before, h.sizes(), "nothing was archived")

	// What was said in a failed visit is kept for a look.
	d, err := h.Fleet.Get(t.Context(), "np-acc-1")
	require.NoError(t, err)
	said, err := h.Rounds.Session(t.Context(), r.ID, d.ID)
	require.NoError(t, err)
	assert.Contains(t, said, "list config running")

	// A replaced box is accepted once somebody says so.
	_, err = h.Fleet.Trust(t.Context(), "name=hh-core-1", "new supervisor card", false, "test")
	require.NoError(t, err)
	_, r = h.round("name=hh-core-1")
	assert.Equal(t, 1, r.Unchanged)
}

func TestNoCredentialAndPausedAndUnknown(t *testing.T) {
	h := open(t)
	d := h.network.Device("ng-acc-1")
	addr, err := h.devices.Add(d)
	require.NoError(t, err)
	_, err = h.Fleet.Add(t.Context(), fleet.Device{Name: "another", Platform: "tidegate", Addresses: []string{addr}}, "test")
	require.NoError(t, err)
	visits, _ := h.round("another")
	assert.Equal(t, "other-device", string(visits[0].Reason), "its own name contradicts the record")
	paused := "paused"
	_, err = h.Fleet.Edit(t.Context(), "another", 0, fleet.Change{State: &paused}, "test")
	require.NoError(t, err)
	visits, r := h.round("another")
	assert.Equal(t, rounds.PassedOver, visits[0].Outcome)
	assert.Equal(t, 1, r.PassedOver)
	_, err = h.Rounds.Start(t.Context(), "anoter", "demand", "test")
	require.ErrorIs(t, err, fleet.ErrNobody)
	assert.ErrorContains(t, err, "Did you mean another?")
}

func TestALargeShrinkIsReadAgainAndMarked(t *testing.T) {
	h := open(t, "ng-acc-1")
	h.round("")
	h.network.Device("ng-acc-1").SetFault(standin.Shrunk)
	_, r := h.round("")
	assert.Equal(t, 1, r.New)
	d, err := h.Fleet.Get(t.Context(), "ng-acc-1")
	require.NoError(t, err)
	newest, err := h.Archive.Newest(t.Context(), d.ID)
	require.NoError(t, err)
	for _, rev := range newest {
		assert.Contains(t, rev.Suspect, "Reading it again gave the same")
	}
}

func TestARestartGoesOnWhereItWasInterrupted(t *testing.T) {
	h := open(t)
	for i := 1; i <= 6; i++ {
		h.add(fmt.Sprintf("ng-acc-%d", i)).SetDelay(300 * time.Millisecond)
	}
	for i := 1; i <= 20; i++ {
		h.add(fmt.Sprintf("t%02d-rt-1", i)).SetDelay(300 * time.Millisecond)
	}
	r, err := h.Rounds.Start(t.Context(), "", "demand", "test")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		now, err := h.Rounds.Get(t.Context(), r.ID)
		return err == nil && now.New > 0
	}, time.Minute, 5*time.Millisecond)
	h.stop()
	h.start()
	defer h.stop()
	require.Eventually(t, func() bool {
		r, err = h.Rounds.Get(t.Context(), r.ID)
		return err == nil && r.State == rounds.Finished
	}, time.Minute, 10*time.Millisecond)
	assert.Equal(t, 26, r.New, "every device once: %+v", r)
	assert.Equal(t, 6*2+20*2, h.sizes())
}

func TestCancelPassesOverWhatIsLeft(t *testing.T) {
	h := open(t)
	for i := 1; i <= 20; i++ {
		h.add(fmt.Sprintf("t%02d-rt-1", i)).SetDelay(time.Minute)
	}
	r, err := h.Rounds.Start(t.Context(), "", "demand", "test")
	require.NoError(t, err)
	r, err = h.Rounds.Cancel(t.Context(), r.ID, "noc")
	require.NoError(t, err)
	assert.Equal(t, rounds.Cancelled, r.State)
	assert.Equal(t, 20, r.PassedOver+r.Failed)
	assert.Zero(t, h.sizes())
}

// TestNoSecretShowsAnywhere plants marked secrets and looks for them in
// everything that leaves the service for somebody without the right.
func TestNoSecretShowsAnywhere(t *testing.T) {
	h := open(t, "np-acc-2", "hh-core-1", "hh-fw-1", "t07-rt-1")
	marked := regexp.MustCompile(`zz[a-z]*secret`)
	plant := map[string][2]string{"np-acc-2": {"r4ise-03", "zzraisesecret"}, "hh-core-1": {"noc-{c0re}-1", "zzphrasesecret"}, "t07-rt-1": {"t1ckets-07", "zzpersonsecret"}}
	h.round("")
	for name, p := range plant {
		h.network.Device(name).Change("x", "", false, func(s string) string {
			require.Contains(t, s, p[0])
			return strings.Replace(s, p[0], p[1], 1)
		})
	}
	h.network.Device("hh-fw-1").Change("x", "main", false, func(s string) string { return strings.Replace(s, "t8nnel-1", "zzkeysecret", 1) })
	h.round("")
	h.network.Device("np-acc-2").SetFault(standin.CutShort)
	_, failed := h.round("")
	// Audits look at all of it: a rule that sees secrets, a standard with a guess, and
	// baselines from before.
	for kind, text := range map[audits.Kind]string{
		audits.Policy:   "language: 1\npolicy: all\ntitle: All\nrules:\n  - { id: r, title: R, severity: low, secrets: true, on: { tidegate: { forbid: ['raise secret zz*', '...  > **'] }, capstan: { for-each: ['people > person {name}'], forbid: ['> phrase {value}'], unique: name } } }\n",
		audits.Standard: "language: 1\nstandard: guess\ntitle: Guess\nplatform: tidegate\nslots:\n  any: { type: any }\nsections:\n  - id: a\n    text: |\n      raise secret ${any}\n      account noc level 5\n        password sealed x\n",
	} {
		_, err := h.Audits.SetDocument(t.Context(), kind, "x", text, "lead", true)
		require.NoError(t, err)
	}
	for _, name := range []string{"np-acc-2", "hh-core-1", "t07-rt-1"} {
		d, err := h.Fleet.Get(t.Context(), name)
		require.NoError(t, err)
		r, err := h.Archive.Resolve(t.Context(), archive.Key{Device: d.ID, Datastore: "running"}, ref.Point{Kind: ref.Number, Number: 1}, time.Now())
		require.NoError(t, err)
		require.NoError(t, h.Notes.Bless(t.Context(), []archive.Revision{r}, []string{name}, "", false, "lead"))
	}
	h.Audits.Recheck()
	require.NoError(t, h.Audits.Work(t.Context()))

	paths := []string{"/metrics", "/api/v1/devices", "/api/v1/journal", "/api/v1/rounds", fmt.Sprintf("/api/v1/rounds/%d", failed.ID), "/api/v1/dialects", "/api/v1/schedules", "/api/v1/coming",
		"/api/v1/groups", "/api/v1/sites", "/api/v1/jump-hosts", "/api/v1/imports", "/api/v1/freshness", "/api/v1/findings?state=all", "/api/v1/drift", "/api/v1/notices",
		"/api/v1/audits/results?device=hh-core-1", "/api/v1/standards/compare?device=np-acc-2", "/api/v1/configuration?ref=np-acc-2@standard"}
	for _, ref := range []string{"np-acc-2", "hh-core-1", "hh-fw-1:running/main", "t07-rt-1"} {
		name, _, _ := strings.Cut(ref, ":")
		paths = append(paths, "/api/v1/configuration?ref="+ref, "/api/v1/comparison?context=-1&left="+ref+"@-1&right="+ref, "/api/v1/devices/"+name, "/api/v1/devices/"+name+"/revisions")
	}
	auditor, lead := h.signIn("auditor"), h.signIn("lead")
	found := 0
	for _, path := range paths {
		status, body, _ := auditor.do("GET", path, "")
		assert.Equal(t, 200, status, path+body)
		assert.Empty(t, marked.FindAllString(body, -1), path)
		_, body, _ = lead.do("GET", path, "")
		found += len(marked.FindAllString(body, -1))
	}
	assert.GreaterOrEqual(t, found, 8, "whoever may see secrets sees them")
	_, body, _ := auditor.do("GET", "/api/v1/findings", "")
	assert.Contains(t, body, "all/r")
	assert.Contains(t, body, "guess/a")
	assert.Contains(t, body, "drifted from @1")
	_, body, _ = auditor.do("POST", "/api/v1/standards/derive", `{"selector":"name=np-acc-2"}`)
	assert.Contains(t, body, "it takes two devices")
	status, _, _ := auditor.do("GET", fmt.Sprintf("/api/v1/rounds/%d/session?device=np-acc-2", failed.ID), "")
	assert.Equal(t, 403, status)
	for _, secret := range []string{scenario.Password, scenario.Elevation, password} {
		assert.NotContains(t, h.log.String(), secret)
	}
	assert.Empty(t, marked.FindAllString(h.log.String(), -1))
	h.stop()
	for _, file := range []string{"vergekeep.db", "vergekeep.db-wal"} {
		if data, err := os.ReadFile(filepath.Join(h.dir, file)); err == nil {
			assert.NotContains(t, string(data), scenario.Password, "credentials are encrypted at rest")
			assert.NotContains(t, string(data), scenario.Elevation)
		}
	}
}

func TestRightsAndBadRequests(t *testing.T) {
	h := open(t, "np-acc-2")
	h.round("")
	nobody := &caller{t: t, url: h.URL, head: http.Header{}}
	noc, auditor := h.signIn("noc"), h.signIn("auditor")
	for _, c := range []struct {
		who                *caller
		method, path, body string
		status             int
		says               string
	}{
		{nobody, "GET", "/api/v1/devices", "", 401, "Nobody is signed in"},
		{auditor, "GET", "/api/v1/devices?limit=1", "", 200, `"total":1`},
		{auditor, "POST", "/api/v1/rounds", `{"selector":""}`, 403, "lacks the right operate"},
		{noc, "GET", "/api/v1/accounts", "", 403, "lacks the right administer"},
		{noc, "POST", "/api/v1/rounds", `{"selector":"sight=x"}`, 400, "no field of a device"},
		{noc, "POST", "/api/v1/rounds", `{"selector":"name=nobody"}`, 422, "matches no device"},
		{noc, "POST", "/api/v1/rounds", `{"selector":1}`, 400, "must be a string"},
		{noc, "POST", "/api/v1/rounds", `{"selector":"","more":1}`, 400, "more"},
		{noc, "POST", "/api/v1/rounds", `{`, 400, "contract"},
		{noc, "POST", "/api/v1/rounds", `{"selector":"` + strings.Repeat("x", 2<<20) + `"}`, 413, "1 MiB"},
		{noc, "POST", "/api/v1/devices", `{"name":"a/b","platform":"tidegate","address":"192.0.2.1"}`, 400, "allowed are letters"},
		{noc, "POST", "/api/v1/devices", `{"name":"x","platform":"tidgate","address":"192.0.2.1"}`, 400, "Did you mean tidegate?"},
		{noc, "POST", "/api/v1/devices", `{"name":"x","platform":"tidegate","address":"192.0.2.1:99999"}`, 400, "no port"},
		{noc, "POST", "/api/v1/devices", `{"name":"NP-acc-2","platform":"tidegate","address":"192.0.2.1"}`, 409, "exists"},
		{noc, "GET", "/api/v1/devices/np-acc-3", "", 404, "Did you mean np-acc-2?"},
		{noc, "GET", "/api/v1/devices?limit=99999", "", 400, "limit"},
		{noc, "GET", "/api/v1/devices?cursor=!!", "", 400, "cursor"},
		{noc, "GET", "/api/v1/configuration?ref=np-acc-2@9", "", 404, "the revisions are @1 to @1"},
		{noc, "GET", "/api/v1/configuration?ref=np-acc-2:candidate", "", 404, "there are np-acc-2, np-acc-2:startup"},
		{noc, "GET", "/api/v1/configuration?ref=np-acc-2:runing", "", 400, "Did you mean running?"},
		{noc, "GET", "/api/v1/configuration?ref=./x", "", 400, "file on your machine"},
		{auditor, "GET", "/api/v1/configuration?ref=np-acc-2@live", "", 502, "needs the right operate"},
		{noc, "GET", "/api/v1/configuration?ref=np-acc-2@live", "", 200, `"masked":true`},
		{noc, "GET", "/api/v1/rounds/77", "", 404, "no such round"},
		{noc, "GET", "/api/v1/rounds/x", "", 400, ""},
		{noc, "GET", "/api/v1/nothing", "", 404, "nothing at this address"},
		{noc, "DELETE", "/api/v1/devices", "", 405, ""},
	} {
		status, body, head := c.who.do(c.method, c.path, c.body)
		name := c.method + " " + c.path + " " + c.body[:min(len(c.body), 80)]
		assert.Equal(t, c.status, status, "%s: %s", name, body)
		assert.Contains(t, body, c.says, name)
		if status >= 400 {
			assert.Equal(t, "application/problem+json", head.Get("Content-Type"), name)
			assert.True(t, json.Valid([]byte(body)), name)
		}
	}
	foreign := h.signIn("noc")
	foreign.head.Set("Sec-Fetch-Site", "cross-site")
	status, _, _ := foreign.do("POST", "/api/v1/rounds", `{"selector":""}`)
	assert.Equal(t, 403, status, "a page of another site cannot act for somebody")
	foreign.head.Set("Content-Type", "text/plain")
	foreign.head.Del("Sec-Fetch-Site")
	status, _, _ = foreign.do("POST", "/api/v1/rounds", `{"selector":""}`)
	assert.Equal(t, 415, status)
}

func TestOneTimePasswordsTokensAndSlowDown(t *testing.T) {
	h := open(t)
	require.NotEmpty(t, h.FirstPassword, "the first start makes an administrator")
	c := &caller{t: t, url: h.URL, head: http.Header{}}
	status, body, head := c.do("POST", "/api/v1/session", fmt.Sprintf(`{"account":"admin","password":%q}`, h.FirstPassword))
	require.Equal(t, 200, status, body)
	assert.Contains(t, body, `"mustChangePassword":true`)
	cookie, _, _ := strings.Cut(head.Get("Set-Cookie"), ";")
	c.head.Set("Cookie", cookie)
	status, _, _ = c.do("GET", "/api/v1/accounts", "")
	assert.Equal(t, 403, status, "nothing before it is changed")
	status, body, _ = c.do("PUT", "/api/v1/session/password", fmt.Sprintf(`{"old":%q,"new":"another-password"}`, h.FirstPassword))
	require.Equal(t, 204, status, body)
	status, _, _ = c.do("GET", "/api/v1/accounts", "")
	assert.Equal(t, 200, status)

	_, body, _ = c.do("POST", "/api/v1/tokens", `{"name":"laptop"}`)
	var made struct {
		Token  struct{ ID int64 }
		Secret string
	}
	require.NoError(t, json.Unmarshal([]byte(body), &made))
	bearer := &caller{t: t, url: h.URL, head: http.Header{"Authorization": {"Bearer " + made.Secret}}}
	status, _, _ = bearer.do("GET", "/api/v1/devices", "")
	assert.Equal(t, 200, status)
	status, _, _ = c.do("DELETE", fmt.Sprintf("/api/v1/tokens/%d", made.Token.ID), "")
	assert.Equal(t, 204, status)
	status, _, _ = bearer.do("GET", "/api/v1/devices", "")
	assert.Equal(t, 401, status, "revoked")

	for i := range 5 {
		status, _, head = c.do("POST", "/api/v1/session", `{"account":"lead","password":"wrong"}`)
		if i < 3 {
			assert.Equal(t, 401, status)
		}
	}
	assert.Equal(t, 429, status)
	assert.NotEmpty(t, head.Get("Retry-After"))

	_, err := h.Accounts.SetState(t.Context(), "admin", "disabled", "test")
	require.NoError(t, err)
	_, err = h.Accounts.SetState(t.Context(), "lead", "disabled", "test")
	assert.ErrorIs(t, err, accounts.ErrLast)
}

func TestEventsTellOfARoundAsItHappens(t *testing.T) {
	h := open(t, "np-acc-2")
	c := h.signIn("noc")
	r, err := http.NewRequestWithContext(t.Context(), "GET", h.URL+"/api/v1/events", nil)
	require.NoError(t, err)
	r.Header = c.head
	resp, err := c.http.Do(r)
	require.NoError(t, err)
	defer resp.Body.Close()
	_, err = resp.Body.Read(make([]byte, 100)) // it listens
	require.NoError(t, err)
	h.round("")
	var seen []byte
	for !bytes.Contains(seen, []byte("round-ended")) {
		buf := make([]byte, 4096)
		n, err := resp.Body.Read(buf)
		require.NoError(t, err)
		seen = append(seen, buf[:n]...)
	}
	// Other events, such as that word of the round is there, may come between.
	order := regexp.MustCompile(`event: (\S+-(?:started|ended))`).FindAllStringSubmatch(string(seen), -1)
	require.Len(t, order, 3)
	assert.Equal(t, []string{"round-started", "visit-ended", "round-ended"}, []string{order[0][1], order[1][1], order[2][1]})
}

func TestWhereItListens(t *testing.T) {
	for listen, says := range map[string]string{"0.0.0.0:0": "no TLS certificate", ":0": "no TLS certificate", "nowhere": "no address"} {
		c := config(t.TempDir(), io.Discard)
		c.Listen = listen
		_, err := daemon.Open(t.Context(), c)
		require.ErrorIs(t, err, daemon.ErrListen)
		assert.ErrorContains(t, err, says)
	}
	c := config(t.TempDir(), io.Discard)
	c.Listen, c.AllowPlain = "0.0.0.0:0", true
	d, err := daemon.Open(t.Context(), c)
	require.NoError(t, err)
	require.NoError(t, d.Close())
}

func TestTheVaultsKeyIsNeeded(t *testing.T) {
	h := open(t)
	h.stop()
	key := filepath.Join(h.dir, "vault.key")
	require.NoError(t, os.Rename(key, key+".away"))
	_, err := daemon.Open(t.Context(), config(h.dir, io.Discard))
	require.ErrorIs(t, err, vault.ErrKey)
	assert.NoFileExists(t, key, "no new key is made over sealed credentials")
	require.NoError(t, os.WriteFile(key, bytes.Repeat([]byte{1}, 32), 0o600))
	_, err = daemon.Open(t.Context(), config(h.dir, io.Discard))
	require.ErrorIs(t, err, vault.ErrKey)
}

func TestHealthReadinessAndMetrics(t *testing.T) {
	h := open(t, "np-acc-2")
	h.round("")
	c := &caller{t: t, url: h.URL, head: http.Header{}}
	for path, says := range map[string]string{"/healthz": "alive", "/readyz": "ready", "/metrics": `vergekeep_visits_total{outcome="new"} 1`} {
		status, body, _ := c.do("GET", path, "")
		assert.Equal(t, 200, status)
		assert.Contains(t, body, says)
	}
}

func TestAFaultyDialectStopsTheStart(t *testing.T) {
	c := config(t.TempDir(), io.Discard)
	c.Dialects = t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(c.Dialects, "mine.yaml"), []byte("format: 1\nname: mine\n"), 0o600))
	_, err := daemon.Open(t.Context(), c)
	require.Error(t, err)
	assert.ErrorContains(t, err, "mine.yaml:1:")
}

// TestManyReadersWaitForNobody asks for more than there are connections.
func TestManyReadersWaitForNobody(t *testing.T) {
	h := open(t, "np-acc-2")
	done := make(chan struct{})
	var wg sync.WaitGroup
	for range 200 {
		wg.Go(func() {
			_, err := h.Fleet.Get(t.Context(), "np-acc-2")
			assert.NoError(t, err)
		})
	}
	go func() { wg.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(time.Minute):
		t.Fatal("readers wait for each other")
	}
}

func TestNothingIsLeftBehind(t *testing.T) {
	h := open(t, "np-acc-2")
	h.round("")
	address := strings.TrimPrefix(h.URL, "http://")
	h.stop()
	_, err := net.DialTimeout("tcp", address, time.Second)
	assert.Error(t, err, "nobody listens any more")
}

func TestARoundThatStartsWithTheServiceRunsOnce(t *testing.T) {
	h := open(t, "np-acc-2")
	h.network.Device("np-acc-2").SetDelay(300 * time.Millisecond)
	r, err := h.Rounds.Start(t.Context(), "", "demand", "test")
	require.NoError(t, err)
	require.NoError(t, h.Rounds.Resume(t.Context()), "the service looks for rounds that another process left over")
	r, err = h.Rounds.Wait(t.Context(), r.ID)
	require.NoError(t, err)
	assert.Equal(t, 1, r.New)
	var visits int
	require.NoError(t, h.Database().QueryRow(t.Context(), `SELECT count(*) FROM visits`).Scan(&visits))
	assert.Equal(t, 1, visits)
}
