package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"time"

	"vergekeep/archive"
	"vergekeep/daemon"
	"vergekeep/service/accounts"
	"vergekeep/service/changes"
	"vergekeep/service/fleet"
	"vergekeep/service/rounds"
	"vergekeep/standin"
	"vergekeep/store"
)

// obey does what the other process is told on its input, a line each:
//
//	tell ADDRESS              where their syslog goes
//	change NAME               somebody changes one
//	flood SECONDS RATE EVERY  so many messages a second; every so-manieth is a change
func obey(all []*standin.Device, in io.Reader, out io.Writer) error {
	by := map[string]*standin.Device{}
	for _, d := range all {
		by[d.Name] = d
	}
	to := ""
	edits := 0
	edit := func(d *standin.Device) {
		edits++
		d.Change("neteng", "", false, func(s string) string {
			i := strings.Index(s, "  description to desk")
			if i < 0 {
				return s + fmt.Sprintf("lan %d\n  name made by hand\n", 1000+edits)
			}
			end := i + strings.IndexByte(s[i:], '\n')
			return s[:i] + fmt.Sprintf("  description to desk %d", 100_000+edits) + s[end:]
		})
	}
	lines := bufio.NewScanner(in)
	for lines.Scan() {
		words := strings.Fields(lines.Text())
		answer := "done"
		switch {
		case len(words) == 2 && words[0] == "tell":
			to = words[1]
			for _, d := range all {
				d.Outlet = standin.Tell(to, "")
			}
		case len(words) == 2 && words[0] == "change" && by[words[1]] != nil:
			edit(by[words[1]])
		case len(words) == 4 && words[0] == "flood":
			sent, err := flood(all, to, words[1:], edit)
			if err != nil {
				return err
			}
			answer = strconv.Itoa(sent)
		default:
			return fmt.Errorf("no such order: %q", words)
		}
		if _, err := fmt.Fprintln(out, answer); err != nil {
			return err
		}
	}
	return lines.Err()
}

// flood sends messages from the addresses of all devices.
func flood(all []*standin.Device, to string, words []string, edit func(*standin.Device)) (sent int, err error) {
	var n [3]int
	for i, w := range words {
		if n[i], err = strconv.Atoi(w); err != nil {
			return 0, err
		}
	}
	seconds, rate, every := n[0], n[1], n[2]
	target, err := net.ResolveUDPAddr("udp", to)
	if err != nil {
		return 0, err
	}
	conns := make([]*net.UDPConn, len(all))
	for i, d := range all {
		at, err := netip.ParseAddrPort(d.Addr)
		if err != nil {
			return 0, err
		}
		if conns[i], err = net.DialUDP("udp", &net.UDPAddr{IP: at.Addr().AsSlice()}, target); err != nil {
			return 0, err
		}
		defer conns[i].Close()
		d.Outlet = func(s standin.Said) {
			if _, err := conns[i].Write([]byte(s.Syslog)); err == nil {
				sent++
			}
		}
	}
	begun := time.Now()
	for {
		due := int(time.Since(begun).Seconds() * float64(rate))
		if due > seconds*rate {
			due = seconds * rate
		}
		for sent < due {
			i := (sent*7919 + sent/every) % len(all)
			if sent%every == every-1 {
				edit(all[i])
				continue
			}
			if _, err := fmt.Fprintf(conns[i], "<190>Nov 20 02:14:07 %s port[331]: port1/%d is up, 1000 full", all[i].Name, sent%24); err != nil {
				return sent, err
			}
			sent++
		}
		if due == seconds*rate {
			return sent, nil
		}
		time.Sleep(time.Millisecond)
	}
}

// watching is a service that serves and takes signals, with stand-ins that have been
// captured once.
func watching(ctx context.Context, count int, quietTime time.Duration, args ...string) (d *daemon.Daemon, c *crew, token string, stop func(), err error) {
	list, c, gone, err := someStandIns(ctx, count, args...)
	if err != nil {
		return nil, nil, "", nil, err
	}
	dir, err := os.MkdirTemp("", "vergekeep-bench-")
	if err != nil {
		return nil, nil, "", nil, err
	}
	conf := quiet(dir, 32)
	conf.SyslogUDP, conf.Quiet = "127.0.0.1:0", quietTime
	if d, err = withRecords(ctx, conf, "tidegate", list); err != nil {
		return nil, nil, "", nil, err
	}
	if _, err := round(ctx, d); err != nil {
		return nil, nil, "", nil, err
	}
	if token, err = tokenOf(ctx, d); err != nil {
		return nil, nil, "", nil, err
	}
	serving, end := context.WithCancel(ctx)
	served := make(chan error, 1)
	go func() { served <- d.Serve(serving) }()
	packets, _ := d.Inlet.Addresses()
	if _, err := c.tell("tell %s", packets[0]); err != nil {
		end()
		return nil, nil, "", nil, err
	}
	return d, c, token, func() {
		end()
		<-served
		_ = d.Close()
		gone()
		_ = os.RemoveAll(dir)
	}, d.Signals.Settle(ctx)
}

func tokenOf(ctx context.Context, d *daemon.Daemon) (string, error) {
	acc, err := d.Accounts.Add(ctx, "bench", "a-long-password", []accounts.Right{accounts.See}, false, "bench")
	if err != nil {
		return "", err
	}
	_, token, err := d.Accounts.NewToken(ctx, acc, "bench")
	return token, err
}

func get(url, token string) ([]byte, error) {
	r, err := http.NewRequest(http.MethodGet, url, nil)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Authorization", "Bearer "+token)
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	body, err := io.ReadAll(answer.Body)
	if err == nil && answer.StatusCode != http.StatusOK {
		err = fmt.Errorf("%s: %s", answer.Status, body)
	}
	return body, err
}

func percentile(values []float64, p float64) float64 {
	s := append([]float64(nil), values...)
	sort.Float64s(s)
	return s[min(int(p*float64(len(s))), len(s)-1)]
}

// signalToChange measures from a packet's arrival to the change over HTTP.
func signalToChange(ctx context.Context) ([]result, error) {
	const devices, times, quietTime = 50, 500, 50 * time.Millisecond
	d, c, token, stop, err := watching(ctx, devices, quietTime)
	if err != nil {
		return nil, err
	}
	defer stop()
	list, err := d.Fleet.Pick(ctx, "")
	if err != nil {
		return nil, err
	}
	// What a device itself takes to answer, as a client sees it that does nothing else.
	var bare []float64
	for range 50 {
		x := list[rand.IntN(len(list))]
		begun := time.Now()
		if err := bareVisit(target{x.Name, x.Addresses[0]}); err != nil {
			return nil, err
		}
		bare = append(bare, time.Since(begun).Seconds()*1e3)
	}
	var took []float64
	for i := range times {
		name := list[i%len(list)].Name
		if _, err := c.tell("change %s", name); err != nil {
			return nil, err
		}
		until := time.Now().Add(time.Minute)
		for {
			body, err := get(d.URL+"/api/v1/changes?limit=1&selector=name%3D"+name, token)
			if err != nil {
				return nil, err
			}
			seen := time.Now()
			var page struct {
				Total int
				Items []struct {
					Signals int
					First   time.Time
				}
			}
			if err := json.Unmarshal(body, &page); err != nil {
				return nil, err
			}
			if page.Total == i/len(list)+1 && page.Items[0].Signals > 0 {
				took = append(took, (seen.Sub(page.Items[0].First)-quietTime).Seconds()*1e3-median(bare))
				break
			}
			if seen.After(until) {
				return nil, fmt.Errorf("the change of %s did not come", name)
			}
			time.Sleep(time.Millisecond)
		}
		// Each device has a budget of captures; it is not what is measured here.
		if i%(len(list)*5) == len(list)*5-1 {
			d.Signals.Forgive()
		}
	}
	return []result{{"signal-to-change", percentile(took, 0.99), "goal<=150", fmt.Sprintf("ms at the 99th, median %.0f ms  (of %d; less %s of quiet and %.0f ms that a device takes to answer a bare client)", median(took), times, quietTime, median(bare))}}, nil
}

// residentMemory is what this process has in memory, in MB.
func residentMemory() float64 {
	status, err := os.ReadFile("/proc/self/status")
	if err != nil {
		return 0
	}
	for line := range strings.Lines(string(status)) {
		if v, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			kb, _ := strconv.ParseFloat(strings.Fields(v)[0], 64)
			return kb / 1000
		}
	}
	return 0
}

// kernelDrops is what the kernel could not hand over on a UDP port.
func kernelDrops(port int) (drops int) {
	table, err := os.ReadFile("/proc/net/udp")
	if err != nil {
		return -1
	}
	for line := range strings.Lines(string(table)) {
		f := strings.Fields(line)
		if len(f) > 12 && strings.HasSuffix(f[1], fmt.Sprintf(":%04X", port)) {
			n, _ := strconv.Atoi(f[len(f)-1])
			drops += n
		}
	}
	return drops
}

// signalFlood measures how much of a flood is received.
func signalFlood(ctx context.Context) ([]result, error) {
	const devices, seconds, rate, every = 1000, 30, 20_000, 500
	d, c, _, stop, err := watching(ctx, devices, 2*time.Second, "-spread")
	if err != nil {
		return nil, err
	}
	defer stop()
	packets, _ := d.Inlet.Addresses()
	at, err := netip.ParseAddrPort(packets[0])
	if err != nil {
		return nil, err
	}
	before, begun := residentMemory(), cpu()
	most := before
	done := make(chan struct{})
	watch := make(chan struct{})
	go func() {
		defer close(watch)
		for {
			select {
			case <-done:
				return
			case <-time.After(100 * time.Millisecond):
				most = max(most, residentMemory())
			}
		}
	}()
	said, err := c.tell("flood %d %d %d", seconds, rate, every)
	if err != nil {
		return nil, err
	}
	sent, err := strconv.Atoi(said)
	if err != nil {
		return nil, err
	}
	var received, understood int64
	for range 100 { // what still stands in the kernel's buffer
		received, understood, _, _ = d.Signals.Counts()
		if int(received) >= sent {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	used := cpu() - begun
	want := sent / every
	var found int
	for range 600 {
		if _, found, err = d.Changes.List(ctx, changes.Filter{Limit: 1}); err != nil {
			return nil, err
		}
		list, listErr := d.Signals.List(ctx, "", "waiting", 0, 0, 1)
		if listErr != nil {
			return nil, listErr
		}
		if len(list) == 0 {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	close(done)
	<-watch
	return []result{{"signal-flood", float64(received) / float64(sent), "goal>=0.999", fmt.Sprintf("received %d of %d at %d/s, kernel dropped %d; memory +%.0f MB (goal<=100); %d of %d changes understood, %d found; processor %.1f s of %d s",
		received, sent, rate, kernelDrops(int(at.Port())), most-before, understood, want, found, used.Seconds(), seconds)}}, nil
}

// changePage measures what the changes page asks for: 30 days out of a year.
func changePage(ctx context.Context) ([]result, error) {
	h := generated(*devices)
	random := rand.New(rand.NewPCG(3, 5))
	list := changes.New(changes.Config{})
	accountNames, places := []string{"neteng", "noc", "lead", "svc-night", ""}, []string{"inside", "inside", "inside", "outside", "perhaps", "none"}
	total := 0
	k, err := takeInWith(ctx, h, func(tx *store.Tx, before *archive.Revision, r archive.Revision) error {
		if before == nil {
			return nil
		}
		id, err := list.Filed(tx, rounds.Filing{Device: fleet.Device{ID: r.Device, LastGood: before.FirstSeen}, At: r.FirstSeen, New: []rounds.Found{{Before: before, Revision: r}}})
		if err != nil {
			return err
		}
		total++
		at, account := store.Stamp(r.FirstSeen), accountNames[random.IntN(len(accountNames))]
		first := int64(0)
		if account != "" {
			first = at - 20_000_000
		}
		verdict := "authorised"
		if random.IntN(20) == 0 {
			verdict = "open"
		}
		_, err = tx.Exec(`UPDATE changes SET looked = 1, told = 1, first_at = ?1, last_at = ?1, signals = 1, accounts = ?2, sources = '198.51.100.7', place = ?3, severity = ?4, sections = ?5, verdict = ?6 WHERE id = ?7`,
			first, account, places[random.IntN(len(places))], random.IntN(3), fmt.Sprintf("interface port1/%d\ntime", random.IntN(24)), verdict, id)
		return err
	})
	if err != nil {
		return nil, err
	}
	defer func() { _ = os.RemoveAll(k.dir) }()
	if err := k.db.Close(); err != nil {
		return nil, err
	}
	if err := os.Rename(filepath.Join(k.dir, "keep.db"), filepath.Join(k.dir, "vergekeep.db")); err != nil {
		return nil, err
	}
	d, err := daemon.Open(ctx, quiet(k.dir, 1))
	if err != nil {
		return nil, err
	}
	token, err := tokenOf(ctx, d)
	if err != nil {
		return nil, err
	}
	serving, end := context.WithCancel(ctx)
	served := make(chan error, 1)
	go func() { served <- d.Serve(serving) }()
	defer func() {
		end()
		<-served
		_ = d.Close()
	}()
	newest, _, err := d.Changes.List(ctx, changes.Filter{Limit: 1})
	if err != nil || len(newest) == 0 {
		return nil, errors.Join(err, errors.New("there are no changes"))
	}
	q := url.Values{"from": {newest[0].Found.AddDate(0, 0, -30).Format(time.RFC3339)}, "to": {newest[0].Found.Format(time.RFC3339)}}
	_, within, err := d.Changes.List(ctx, changes.Filter{From: newest[0].Found.AddDate(0, 0, -30), To: newest[0].Found, Limit: 1})
	if err != nil {
		return nil, err
	}
	const calls = 200
	var both, alone []float64
	for range calls {
		begun := time.Now()
		if _, err := get(d.URL+"/api/v1/changes?limit=300&"+q.Encode(), token); err != nil {
			return nil, err
		}
		alone = append(alone, time.Since(begun).Seconds()*1e3)
		if _, err := get(d.URL+"/api/v1/changes/overview?"+q.Encode(), token); err != nil {
			return nil, err
		}
		both = append(both, time.Since(begun).Seconds()*1e3)
	}
	return []result{{"change-page", percentile(both, 0.99), "goal<=100", fmt.Sprintf("ms at the 99th of %d, median %.0f ms, for list and overview one after the other; the list alone %.0f ms  (%d changes of %d)", calls, median(both), percentile(alone, 0.99), within, total)}}, nil
}
