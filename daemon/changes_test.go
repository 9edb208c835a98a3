package daemon_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/core/window"
	"vergekeep/daemon"
	"vergekeep/service/vault"
	"vergekeep/standin"
	"vergekeep/standin/postbox"
	"vergekeep/wire/outlet"
)

// listening is a service that takes signals and needs little quiet.
func listening(c *daemon.Config) {
	c.SyslogUDP, c.SyslogTCP, c.Traps, c.Quiet = "127.0.0.1:0", "127.0.0.1:0", "127.0.0.1:0", 150*time.Millisecond
}

// tells lets a device tell of itself over the network.
func (h *house) tells(d *standin.Device) {
	packets, _ := h.Inlet.Addresses()
	d.Outlet = standin.Tell(packets[0], packets[1])
}

func (h *house) say(line string) {
	h.t.Helper()
	packets, _ := h.Inlet.Addresses()
	c, err := net.Dial("udp", packets[0])
	require.NoError(h.t, err)
	defer c.Close()
	_, err = c.Write([]byte(line))
	require.NoError(h.t, err)
}

type seen struct {
	ID                          int64
	Device, Place, Verdict      string
	Accounts, Sources, Sections []string
	Signals                     int
	First, Last, Since, Found   *time.Time
	Severity, Reference, Taker  string
	Undoes                      int64
	Texts                       []struct{ Before, Ref string }
}

func (c *caller) changes(query string) []seen {
	c.t.Helper()
	status, said, _ := c.do("GET", "/api/v1/changes?"+query, "")
	require.Equal(c.t, 200, status, said)
	var page struct{ Items []seen }
	require.NoError(c.t, json.Unmarshal([]byte(said), &page))
	return page.Items
}

// until waits, a minute at the most.
func (h *house) until(what string, is func() bool) {
	h.t.Helper()
	require.Eventually(h.t, is, time.Minute, 20*time.Millisecond, what)
}

func TestASignalBecomesAChange(t *testing.T) {
	for name, c := range map[string]struct{ device, part, before, after string }{
		"syslog by UDP":        {"np-acc-2", "", "zone Europe/Oslo", "zone UTC"},
		"syslog of RFC 5424":   {"hh-core-1", "", "mtu 9000;", "mtu 9100;"},
		"a trap":               {"hh-fw-1", "main", "lay system zone Europe/Oslo", "lay system zone UTC"},
		"a NETCONF one":        {"t01-rt-1", "", "<mtu>1500</mtu>", "<mtu>1400</mtu>"},
		"another system's one": {"dd-acc-1", "", "zone Europe/Oslo", "zone UTC"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := openWith(t, listening)
			d := h.add(c.device)
			h.tells(d)
			if name == "another system's one" {
				d.Outlet = nil
			}
			h.round("")
			require.NoError(t, h.Signals.Settle(t.Context()))
			noc := h.signIn("noc")
			assert.Empty(t, noc.changes(""), "the first capture is no change")
			if d.Platform == standin.Sounder {
				h.until("it listens", func() bool { now, _ := h.Signals.Listening(); return now == 1 })
			}
			before := time.Now().Add(-time.Second)
			d.Change("neteng", c.part, false, func(s string) string {
				require.Contains(t, s, c.before)
				return strings.Replace(s, c.before, c.after, 1)
			})
			if name == "another system's one" {
				status, said, _ := noc.do("POST", "/api/v1/signals", `{"specversion":"1.0","id":"1","source":"desk","type":"example.change","subject":"dd-acc-1","data":{"account":"neteng","address":"198.51.100.11","text":"typed by neteng"}}`)
				require.Equal(t, 202, status, said)
			}
			h.until("the change is there", func() bool {
				list := noc.changes("")
				return len(list) == 1 && list[0].Signals > 0 && len(list[0].Sections) > 0
			})
			x := noc.changes("")[0]
			assert.Equal(t, []string{"neteng"}, x.Accounts)
			assert.Equal(t, []string{standin.Desk("neteng")}, x.Sources)
			assert.Equal(t, "none", x.Place)
			assert.Equal(t, "open", x.Verdict)
			require.NotNil(t, x.First)
			assert.True(t, x.First.After(before) && !x.Found.Before(*x.First), "%s, found %s", x.First, x.Found)
			require.Len(t, x.Texts, 1)
			assert.NotEmpty(t, x.Texts[0].Before)
			status, said, _ := noc.do("GET", "/api/v1/signals?"+url.Values{"change": {fmt.Sprint(x.ID)}}.Encode(), "")
			assert.Equal(t, 200, status)
			assert.Contains(t, said, `"state":"changed"`)
			// It is put back: that undoes it.
			d.Change("lead", c.part, false, func(s string) string { return strings.Replace(s, c.after, c.before, 1) })
			if d.Outlet == nil {
				noc.do("POST", "/api/v1/signals", `{"specversion":"1.0","id":"2","source":"desk","type":"example.change","subject":"dd-acc-1","data":{"account":"lead"}}`)
			}
			h.until("it is undone", func() bool { list := noc.changes(""); return len(list) == 2 && list[0].Undoes == x.ID })
		})
	}
}

func TestSignalsThatAreNone(t *testing.T) {
	h := openWith(t, listening, "np-acc-2", "np-acc-1") // one address for two: the name decides
	h.round("")
	require.NoError(t, h.Signals.Settle(t.Context()))
	rounds := func() int {
		list, err := h.Rounds.List(t.Context(), 0, 100)
		require.NoError(t, err)
		return len(list)
	}
	for _, line := range []string{
		"<189>Nov 20 02:14:07 nobody config[812]: changed by neteng",
		"<189>Nov 20 02:14:07 np-acc-2 config[812]: changed by keeper",          // our own account
		"<189>Nov 20 02:14:07 np-acc-2 keeper: signed in: neteng",               // known to be none
		"<189>Nov 20 02:14:07 np-acc-2 fan[1]: changed by neteng, said the fan", // another program
		"\x00\xff no message at all", "", "<189>",
	} {
		h.say(line)
	}
	h.until("all have come", func() bool { received, _, _, _ := h.Signals.Counts(); return received >= 6 })
	time.Sleep(time.Second) // silence itself is waited for
	assert.Equal(t, 1, rounds(), "nothing was captured")
	noc := h.signIn("noc")
	status, said, _ := noc.do("GET", "/api/v1/senders", "")
	require.Equal(t, 200, status, "%s %s", said, h.log)
	assert.Contains(t, said, `"host":"nobody"`)
	status, said, _ = noc.do("GET", "/api/v1/signals", "")
	require.Equal(t, 200, status)
	assert.Contains(t, said, `"state":"ours"`)

	// The stranger turns out to be the switch, seen through another's address.
	lead := h.signIn("lead")
	status, said, _ = lead.do("PUT", "/api/v1/senders/gate", `{"device":"np-acc-2","address":"127.0.0.1","host":"nobody"}`)
	require.Equal(t, 204, status, said)
	h.say("<189>Nov 20 02:14:07 nobody config[812]: changed by neteng")
	h.until("it was captured, and nothing had changed", func() bool {
		_, said, _ := noc.do("GET", "/api/v1/signals?state=nothing", "")
		return strings.Contains(said, `"account":"neteng"`)
	})
	assert.Empty(t, noc.changes(""))
	_, said, _ = noc.do("GET", "/api/v1/senders", "")
	var senders struct{ Strangers []struct{ Host string } }
	require.NoError(t, json.Unmarshal([]byte(said), &senders))
	for _, s := range senders.Strangers {
		assert.NotEqual(t, "nobody", s.Host)
	}
}

// TestAStormCostsADeviceItsBudgetAndNoMore sends thousands of messages that all tell
// of a change.
func TestAStormCostsADeviceItsBudgetAndNoMore(t *testing.T) {
	h := openWith(t, listening, "np-acc-2", "hh-core-1")
	h.round("")
	require.NoError(t, h.Signals.Settle(t.Context()))
	packets, _ := h.Inlet.Addresses()
	c, err := net.Dial("udp", packets[0])
	require.NoError(t, err)
	defer c.Close()
	for burst := range 20 { // quiet comes again and again
		for i := range 200 {
			_, err := fmt.Fprintf(c, "<189>Nov 20 02:14:07 np-acc-2 config[812]: changed by forger%d from 203.0.113.%d over ssh", burst, i%3)
			require.NoError(t, err)
		}
		time.Sleep(250 * time.Millisecond)
	}
	h.until("all were taken", func() bool { received, _, _, _ := h.Signals.Counts(); return received >= 3500 })
	list, err := h.Rounds.List(t.Context(), 0, 1000)
	require.NoError(t, err)
	assert.LessOrEqual(t, len(list), 8, "six captures at the most, and the first round")
	noc := h.signIn("noc")
	_, said, _ := noc.do("GET", "/api/v1/signals?limit=2000", "")
	assert.Less(t, strings.Count(said, `"id":`), 100, "what is alike is one row")
	assert.Empty(t, noc.changes(""))
	// Another device is captured meanwhile.
	d := h.network.Device("hh-core-1")
	h.tells(d)
	d.Change("lead", "", false, func(s string) string { return strings.Replace(s, "mtu 9000;", "mtu 9100;", 1) })
	h.until("the other one's change", func() bool { return len(noc.changes("selector=name%3Dhh-core-1")) == 1 })
}

// TestWhatADeviceSaysShowsNoSecret puts one into a message.
func TestWhatADeviceSaysShowsNoSecret(t *testing.T) {
	h := openWith(t, listening, "np-acc-2")
	h.round("")
	require.NoError(t, h.Signals.Settle(t.Context()))
	h.say("<189>Nov 20 02:14:07 np-acc-2 config[812]: changed by neteng from 198.51.100.7 over ssh: raise secret qu1ntupl3")
	h.say("<189>Nov 20 02:14:07 a-stranger app: password qu1ntupl3 was refused")
	h.until("both were taken", func() bool { received, _, _, _ := h.Signals.Counts(); return received == 2 })
	lead := h.signIn("lead")
	h.until("it is listed", func() bool {
		_, said, _ := lead.do("GET", "/api/v1/signals", "")
		return strings.Contains(said, "neteng")
	})
	for _, path := range []string{"/signals", "/senders", "/changes", "/notices", "/journal"} {
		_, said, _ := lead.do("GET", "/api/v1"+path, "")
		assert.NotContains(t, said, "qu1ntupl3", path)
	}
	assert.NotContains(t, h.log.String(), "qu1ntupl3")
}

// TestWordOfAChangeIsSentOnce has a mail server that is down, and a hook that answers
// 500.
func TestWordOfAChangeIsSentOnce(t *testing.T) {
	var ahead atomic.Int64
	h := openWith(t, func(c *daemon.Config) {
		listening(c)
		c.Now = func() time.Time { return time.Now().Add(time.Duration(ahead.Load())) }
	}, "np-acc-2")
	box, err := postbox.Open(postbox.Never)
	require.NoError(t, err)
	defer func() { assert.NoError(t, box.Close()) }()
	var mu sync.Mutex
	var taken []string
	down := true
	key := "a-key-of-some-length"
	hook := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		body, err := io.ReadAll(r.Body)
		assert.NoError(t, err)
		assert.NoError(t, outlet.Verify(r, "http://"+r.Host+r.URL.String(), body, []byte(key)))
		assert.ErrorIs(t, outlet.Verify(r, "http://"+r.Host+r.URL.String(), body, []byte("another")), outlet.ErrSignature)
		if down {
			http.Error(w, "not today", http.StatusInternalServerError)
			return
		}
		taken = append(taken, string(body))
	}))
	defer hook.Close()
	logs, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer logs.Close()

	lead := h.signIn("lead")
	put := func(path, body string) {
		t.Helper()
		status, said, _ := lead.do("PUT", "/api/v1"+path, body)
		require.Equal(t, 204, status, said)
	}
	_, err = h.Vault.Add(t.Context(), vault.Credential{Name: "desk-key", Username: "desk", Selector: "name=nobody", Secrets: vault.Secrets{Token: key}}, "test", time.Now())
	require.NoError(t, err)
	put("/mail", fmt.Sprintf(`{"server":%q,"sender":"keep@skerry.example","security":"none"}`, box.Address))
	put("/channels/team", `{"kind":"mail","target":"noc@skerry.example, lead@skerry.example"}`)
	put("/channels/desk", fmt.Sprintf(`{"kind":"hook","target":%q,"credential":"desk-key"}`, hook.URL+"/hooks?x=1"))
	put("/channels/logs", fmt.Sprintf(`{"kind":"syslog","target":"udp://%s"}`, logs.LocalAddr()))
	put("/subscriptions/desk", `{"events":["change"],"channel":"desk"}`)
	put("/subscriptions/logs", `{"events":["change"],"channel":"logs"}`)
	put("/windows/once", `{"start":"2020-01-01T00:00","minutes":60,"zone":"UTC"}`)
	box.Refuse(451, "later")

	d := h.network.Device("np-acc-2")
	h.tells(d)
	h.round("")
	require.NoError(t, h.Signals.Settle(t.Context()))
	d.Change("svc-night", "", false, func(s string) string {
		return strings.Replace(strings.Replace(s, "zone Europe/Oslo", "zone UTC", 1), "raise secret r4ise", "raise secret n3wsecret", 1)
	})
	h.until("the change is there", func() bool {
		list := lead.changes("")
		return len(list) == 1 && list[0].Place == string(window.Outside)
	})
	states := func() string {
		_, said, _ := lead.do("GET", "/api/v1/deliveries", "")
		var page struct {
			Items []struct{ Channel, State string }
		}
		require.NoError(t, json.Unmarshal([]byte(said), &page))
		count := map[string]int{}
		for _, x := range page.Items {
			count[x.Channel+" "+x.State]++
		}
		return fmt.Sprint(count)
	}
	// "outside agreed hours" and "severe changes" (a secret is another one) go to the team.
	h.until("each was tried", func() bool { return states() == "map[desk waiting:1 logs sent:1 team waiting:2]" })
	line := make([]byte, 4096)
	require.NoError(t, logs.SetReadDeadline(time.Now().Add(time.Minute)))
	n, _, err := logs.ReadFrom(line)
	require.NoError(t, err)
	assert.Contains(t, string(line[:n]), `device="np-acc-2"`)
	assert.NotContains(t, string(line[:n]), "n3wsecret")

	// For an hour nothing goes.
	for range 4 {
		ahead.Add(int64(20 * time.Minute))
		require.NoError(t, h.Notify.Work(t.Context()))
	}
	assert.Empty(t, box.Letters())
	box.Refuse(0, "")
	mu.Lock()
	down = false
	mu.Unlock()
	ahead.Add(int64(2 * time.Hour))
	for range 3 {
		require.NoError(t, h.Notify.Work(t.Context()))
	}
	assert.Equal(t, "map[desk sent:1 logs sent:1 team sent:2]", states())
	letters := box.Letters()
	require.Len(t, letters, 2)
	for _, l := range letters {
		parts, err := l.Parts()
		require.NoError(t, err)
		for _, media := range []string{"text/plain", "text/html"} {
			assert.Contains(t, parts[media], "svc-night")
			assert.Contains(t, strings.NewReplacer("<u>", "", "</u>", "").Replace(parts[media]), "zone UTC")
			assert.NotContains(t, parts[media], "n3wsecret")
			assert.NotContains(t, parts[media], "r4ise")
		}
	}
	mu.Lock()
	require.Len(t, taken, 1)
	var event struct {
		SpecVersion, ID, Type, Subject string
		Data                           struct{ Change struct{ Place, Text string } }
	}
	require.NoError(t, json.Unmarshal([]byte(taken[0]), &event))
	mu.Unlock()
	assert.Equal(t, "1.0", event.SpecVersion)
	assert.Equal(t, "vergekeep.outside", event.Type)
	assert.Equal(t, "np-acc-2", event.Subject)
	assert.Equal(t, "outside", event.Data.Change.Place)
	assert.NotContains(t, taken[0], "n3wsecret")

	// A hook that answers 500 for days is given up, listed, and can be tried again.
	mu.Lock()
	down = true
	mu.Unlock()
	d.Change("svc-night", "", false, func(s string) string { return strings.Replace(s, "zone UTC", "zone Europe/Oslo", 1) })
	h.until("the second change", func() bool { return len(lead.changes("")) == 2 })
	require.NoError(t, h.Notify.Work(t.Context()))
	for range 30 {
		ahead.Add(int64(4 * time.Hour))
		require.NoError(t, h.Notify.Work(t.Context()))
	}
	lead = h.signIn("lead") // the session of days ago has ended
	assert.Contains(t, states(), "desk dead:1")
	status, said, _ := lead.do("GET", "/api/v1/deliveries?state=dead", "")
	require.Equal(t, 200, status)
	assert.Contains(t, said, "500 Internal Server Error not today")
	var dead struct{ Items []struct{ ID int64 } }
	require.NoError(t, json.Unmarshal([]byte(said), &dead))
	mu.Lock()
	down = false
	mu.Unlock()
	status, said, _ = lead.do("POST", fmt.Sprintf("/api/v1/deliveries/%d/retry", dead.Items[0].ID), "")
	require.Equal(t, 204, status, said)
	require.NoError(t, h.Notify.Work(t.Context()))
	assert.NotContains(t, states(), "dead")
	mu.Lock()
	defer mu.Unlock()
	assert.Len(t, taken, 2)
}

// TestWhatIsAnnouncedIsAuthorised, and what is not stays open.
func TestWhatIsAnnouncedIsAuthorised(t *testing.T) {
	h := openWith(t, listening, "np-acc-2")
	d := h.network.Device("np-acc-2")
	h.tells(d)
	h.round("")
	require.NoError(t, h.Signals.Settle(t.Context()))
	noc := h.signIn("noc")
	from, to := time.Now().UTC().Add(-time.Hour), time.Now().UTC().Add(time.Hour)
	body := func(account string) string {
		return fmt.Sprintf(`{"from":%q,"to":%q,"reference":"ticket 2077","accounts":[%q],"sections":["time > **"]}`, from.Format(time.RFC3339), to.Format(time.RFC3339), account)
	}
	status, said, _ := noc.do("PUT", "/api/v1/announcements/clock", body("neteng"))
	require.Equal(t, 204, status, said)
	change := func(by, old, with string) seen {
		t.Helper()
		n := len(noc.changes(""))
		d.Change(by, "", false, func(s string) string {
			require.Contains(t, s, old)
			return strings.Replace(s, old, with, 1)
		})
		h.until("the change is there", func() bool {
			list := noc.changes("")
			return len(list) == n+1 && len(list[0].Sections) > 0 && list[0].Signals > 0
		})
		return noc.changes("")[0]
	}
	x := change("neteng", "zone Europe/Oslo", "zone UTC")
	assert.Equal(t, "authorised", x.Verdict)
	assert.Equal(t, "ticket 2077", x.Reference)
	assert.Equal(t, "open", change("lead", "zone UTC", "zone Europe/Oslo").Verdict, "another account")
	x = change("neteng", "storm-limit broadcast 1.00", "storm-limit broadcast 2.00")
	assert.Equal(t, "open", x.Verdict, "another section")

	// A person says what it was.
	status, said, _ = noc.do("POST", "/api/v1/changes/taking", fmt.Sprintf(`{"ids":[%d],"on":true}`, x.ID))
	require.Equal(t, 200, status, said)
	assert.Equal(t, "noc", noc.changes("taken=true")[0].Taker)
	status, said, _ = noc.do("POST", "/api/v1/changes/verdicts", fmt.Sprintf(`{"ids":[%d],"verdict":"authorised"}`, x.ID))
	assert.Equal(t, 422, status, said)
	status, said, _ = noc.do("POST", "/api/v1/changes/verdicts", fmt.Sprintf(`{"ids":[%d],"verdict":"unauthorised","remark":"nobody knows of it"}`, x.ID))
	require.Equal(t, 200, status, said)
	assert.Len(t, noc.changes("verdict=open"), 1)
	assert.Len(t, noc.changes("account=neteng&section=interface"), 1)
	auditor := h.signIn("auditor")
	status, _, _ = auditor.do("POST", "/api/v1/changes/verdicts", fmt.Sprintf(`{"ids":[%d],"verdict":"open"}`, x.ID))
	assert.Equal(t, 403, status)
	status, said, head := auditor.do("GET", "/api/v1/changes/report?form=pdf&from=1d", "")
	assert.Equal(t, 200, status)
	assert.Equal(t, "application/pdf", head.Get("Content-Type"))
	assert.True(t, strings.HasPrefix(said, "%PDF-"))
	status, said, _ = auditor.do("GET", "/api/v1/changes/report?form=csv&from=1d", "")
	assert.Equal(t, 200, status)
	assert.Equal(t, 4, strings.Count(said, "\n"))
	status, said, _ = auditor.do("GET", "/api/v1/changes/overview?from=1d", "")
	assert.Equal(t, 200, status)
	assert.Contains(t, said, `"changes":3,"name":"np-acc-2"`)
	// What an open change points at is not thinned out.
	pointed, err := h.Changes.Pointed(t.Context())
	require.NoError(t, err)
	assert.Len(t, pointed, 2)
}

// TestADeviceThatSaysNothingIsAsked finds its change by the cheap question.
func TestADeviceThatSaysNothingIsAsked(t *testing.T) {
	h := openWith(t, listening, "np-acc-2")
	h.round("")
	require.NoError(t, h.Signals.Settle(t.Context()))
	noc := h.signIn("noc")
	status, said, _ := noc.do("POST", "/api/v1/asking", `{"selector":"name=np-acc-2"}`)
	require.Equal(t, 200, status, said)
	assert.Contains(t, said, `"changed":false`)
	h.network.Device("np-acc-2").Change("neteng", "", false, func(s string) string { return strings.Replace(s, "zone Europe/Oslo", "zone UTC", 1) })
	status, said, _ = noc.do("POST", "/api/v1/asking", `{"selector":"name=np-acc-2"}`)
	require.Equal(t, 200, status, said)
	assert.Contains(t, said, `"changed":true`)
	h.until("the change is there", func() bool { return len(noc.changes("")) == 1 })
	x := noc.changes("")[0]
	assert.Empty(t, x.Accounts, "nobody knows by whom")
	h.until("it is asked again", func() bool {
		_, said, _ := noc.do("POST", "/api/v1/asking", `{"selector":"name=np-acc-2"}`)
		return strings.Contains(said, `"changed":false`)
	})
}

// TestCloudEventsAreTaken in the forms that other systems send them in.
func TestCloudEventsAreTaken(t *testing.T) {
	h := openWith(t, listening, "np-acc-2")
	h.round("")
	lead := h.signIn("lead")
	status, said, _ := lead.do("PUT", "/api/v1/senders/desk", `{"device":"np-acc-2","key":"a-key-of-the-desk"}`)
	require.Equal(t, 204, status, said)
	send := func(head map[string]string, body string) (int, string) {
		t.Helper()
		r, err := http.NewRequest(http.MethodPost, h.URL+"/api/v1/signals", strings.NewReader(body))
		require.NoError(t, err)
		r.Header = lead.head.Clone()
		for k, v := range head {
			r.Header.Set(k, v)
		}
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer answer.Body.Close()
		said, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer.StatusCode, string(said)
	}
	structured := map[string]string{"Content-Type": "application/cloudevents+json"}
	binary := map[string]string{"Content-Type": "application/json", "Ce-Specversion": "1.0", "Ce-Id": "1", "Ce-Source": "desk", "Ce-Type": "example.change", "Ce-Subject": "np-acc-2"}
	for name, c := range map[string]struct {
		head   map[string]string
		body   string
		status int
		says   string
	}{
		"structured":      {structured, `{"specversion":"1.0","id":"1","source":"desk","type":"x","subject":"np-acc-2","data":{"account":"neteng"}}`, 202, `"account":"neteng"`},
		"binary":          {binary, `{"account":"neteng","text":"password qu1ntupl3"}`, 202, `"device":"np-acc-2"`},
		"by a key":        {structured, `{"specversion":"1.0","id":"1","source":"desk","type":"x","data":{"key":"a-key-of-the-desk"}}`, 202, `"device":"np-acc-2"`},
		"by another key":  {structured, `{"specversion":"1.0","id":"1","source":"desk","type":"x","data":{"key":"another"}}`, 404, "no such device"},
		"nobody":          {structured, `{"specversion":"1.0","id":"1","source":"desk","type":"x","subject":"nobody"}`, 404, "no such device"},
		"no subject":      {structured, `{"specversion":"1.0","id":"1","source":"desk","type":"x"}`, 400, "subject names the device"},
		"no version":      {structured, `{"id":"1","subject":"np-acc-2"}`, 400, "specversion 1.0"},
		"another version": {structured, `{"specversion":"0.3","subject":"np-acc-2"}`, 400, "specversion"},
		"another kind":    {map[string]string{"Content-Type": "text/plain"}, `x`, 415, ""},
	} {
		status, said := send(c.head, c.body)
		assert.Equal(t, c.status, status, "%s: %s", name, said)
		assert.Contains(t, said, c.says, name)
		assert.NotContains(t, said, "qu1ntupl3", name)
	}
}
