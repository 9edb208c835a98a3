package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"sort"
	"strings"
	"time"

	"vergekeep/archive"
	"vergekeep/core/audit"
	"vergekeep/core/derive"
	"vergekeep/core/dialect"
	"vergekeep/core/diff"
	"vergekeep/service/audits"
	"vergekeep/service/events"
	"vergekeep/service/fleet"
	reading "vergekeep/service/texts"
	"vergekeep/standin/scenario"
	"vergekeep/store"
)

// fifty is a policy of 50 rules of mixed kinds, with the plainest pattern of each for
// a search through text.
func fifty() (policy string, patterns []string) {
	var b strings.Builder
	b.WriteString("language: 1\npolicy: fifty\ntitle: Fifty rules\nrules:\n")
	n := 0
	rule := func(pattern, body string) {
		n++
		patterns = append(patterns, pattern)
		fmt.Fprintf(&b, "  - id: rule-%d\n    title: Rule %d\n    severity: %s\n%s", n, n, []string{"low", "medium", "high"}[n%3], body)
	}
	for i, line := range []string{"spanning edge", "lan access {lan}", "description **", "counters reset at night", "neighbour-discovery off"} {
		rule(strings.Fields(line)[0], fmt.Sprintf("    on:\n      tidegate: { for-each: ['interface {port}'], require: ['> %s'] }\n", line))
		rule(strings.Fields(line)[0]+" ", fmt.Sprintf("    on:\n      tidegate: { for-each: ['interface {port}'], where: { has: ['> lan access %d'] }, forbid: ['> %s'] }\n      capstan: { for-each: ['taps > tap {tap}'], require: ['> mtu *'] }\n", 10+i%3*10, line))
	}
	for i := range 5 {
		rule("permit|deny", fmt.Sprintf("    on:\n      tidegate: { in-order: ['access-list MGMT > %d permit **', 'access-list MGMT > 90 deny any'] }\n      coaming: { in-order: ['lay rules inside-out rule %d **', 'lay rules inside-out rule 900 drop **'] }\n", 10+i%3*10, 10+i*10))
	}
	for _, across := range []string{
		"unique: device.name", "for-each: ['log > server {server}'], agree: { key: 'device.site', value: server }", "for-each: ['time > zone {zone}'], agree: { key: 'device.role', value: zone }",
		"for-each: ['domain {domain}'], agree: { key: 'device.site', value: domain }", "for-each: ['banner login **'], unique: device.name",
	} {
		rule("^(name|domain|log|banner)", fmt.Sprintf("    on:\n      tidegate: { %s }\n", across))
	}
	for i := range 15 {
		lines := []string{"time > server 192.0.2.1", "log > server *", "agent > contact **", "domain skerry.example", "access > ssh"}
		rule([]string{"192\\.0\\.2\\.1$", "server ", "contact ", "skerry\\.example", "ssh"}[i%5], fmt.Sprintf("    on:\n      tidegate: { require: ['%s'] }\n      sounder: { require: ['router > name *'] }\n", lines[i%5]))
	}
	for i := range 5 {
		rule([]string{"telnet", "mirror", "plain", "public", "any to any"}[i], fmt.Sprintf("    on:\n      tidegate: { forbid: ['%s'] }\n      coaming: { forbid: ['lay rules * rule * pass from any to any **'] }\n", []string{"access > telnet", "interface * > mirror **", "account ** > password plain *", "agent > community public **", "interface * > description"}[i]))
	}
	for range 5 {
		rule("server", "    check: { count: { of: '@time-server', at-least: 1, at-most: 4 } }\n")
	}
	for range 5 {
		rule("idle ", "    on:\n      tidegate: { let: { idle: 'access > idle {value}' }, expect: 'idle.all(i, number(i) <= 15.0)' }\n      capstan: { let: { idle: 'doors > idle {value}' }, expect: 'idle.all(i, number(i) <= 15.0)' }\n")
	}
	return b.String(), patterns
}

const corpusStandard = `language: 1
standard: corpus-access
title: Access switches of the corpus
platform: tidegate
slots:
  own-name: { field: name }
  desk: { type: any }
  lan: { type: one-of, of: [10, 20, 30] }
sections:
  - id: identity
    is: at-least
    text: |
      name ${own-name}
      domain skerry.example
  - id: ports
    is: at-least
    each: ['interface {port}']
    text: |
      interface ${port}
        description to ${desk}
        lan access ${lan}
        spanning edge
  - id: time
    text: |
      time
        server 192.0.2.1
        server 192.0.2.2
        zone Europe/Oslo
`

// audited is an archive of the newest states of a history, with what audits it.
type audited struct {
	*taken
	set   dialect.Set
	fleet *fleet.Fleet
}

func newest(ctx context.Context, devices int) (*audited, error) {
	c := scenario.Corpus{Devices: devices, Nights: 0, Seed: 11}
	h := history{name: "newest", each: func(f func(scenario.State, time.Time) error) error {
		second := 0
		return c.Each(func(s scenario.State) error {
			second++
			return f(s, c.When(0).Add(time.Duration(second)*time.Second))
		})
	}}
	k, err := takeIn(ctx, h)
	if err != nil {
		return nil, err
	}
	set, err := dialect.Load()
	if err != nil {
		k.close()
		return nil, err
	}
	return &audited{k, set, fleet.New(k.db, set, time.Now)}, nil
}

// service is a new one, that has found nothing yet.
func (a *audited) service(ctx context.Context, documents map[audits.Kind]string) (*audits.Service, error) {
	s := audits.New(audits.Config{DB: a.db, Archive: a.archive, Fleet: a.fleet, Texts: func() *reading.Texts { return nil }, Dialects: a.set, Bus: &events.Bus{}, Log: slog.New(slog.DiscardHandler), Now: time.Now})
	err := a.db.Write(ctx, func(tx *store.Tx) error {
		for _, t := range []string{"findings", "audit_states", "documents"} {
			if _, err := tx.Exec(`DELETE FROM ` + t); err != nil {
				return err
			}
		}
		return nil
	})
	for kind, text := range documents {
		if err == nil {
			_, err = s.SetDocument(ctx, kind, "bench", text, "bench", true)
		}
	}
	return s, err
}

func auditFleet(ctx context.Context) (results []result, err error) {
	policy, patterns := fifty()
	a, err := newest(ctx, *devices)
	if err != nil {
		return nil, err
	}
	defer a.close()
	folder, err := os.MkdirTemp("", "vergekeep-bench-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(folder)
	list, err := a.archive.AllNewest(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range list {
		text, err := a.archive.Text(ctx, r)
		if err == nil {
			err = os.WriteFile(filepath.Join(folder, fmt.Sprintf("%05d.cfg", r.Device)), []byte(text), 0o600)
		}
		if err != nil {
			return nil, err
		}
	}
	file := filepath.Join(folder, "patterns")
	if err := os.WriteFile(file, []byte(strings.Join(patterns, "\n")+"\n"), 0o600); err != nil {
		return nil, err
	}
	var ours, theirs, ratios, cpu []float64
	for range 5 {
		s, err := a.service(ctx, map[audits.Kind]string{audits.Policy: policy})
		if err != nil {
			return nil, err
		}
		processor, begun := processorTime(), time.Now()
		if err := s.Work(ctx); err != nil {
			return nil, err
		}
		our := time.Since(begun).Seconds()
		cpu = append(cpu, (processorTime()-processor)*1e6/float64(*devices*len(patterns)))
		begun = time.Now()
		out, err := exec.CommandContext(ctx, "rg", "--no-config", "--sort", "none", "--no-ignore", "-c", "-g", "*.cfg", "-f", file, folder).Output()
		if err != nil || len(out) == 0 {
			return nil, fmt.Errorf("rg: %w", err)
		}
		their := time.Since(begun).Seconds()
		ours, theirs, ratios = append(ours, our), append(theirs, their), append(ratios, our/their)
	}
	var findings, states int
	if err := a.db.QueryRow(ctx, `SELECT (SELECT count(*) FROM findings), (SELECT count(*) FROM audit_states)`).Scan(&findings, &states); err != nil {
		return nil, err
	}
	if states < *devices {
		return nil, fmt.Errorf("%d states of %d devices are stored", states, *devices)
	}
	return []result{{"audit-fleet", median(ratios), "goal<=10", fmt.Sprintf("ours=%.2fs theirs=%.2fs  (median of 5; %d devices, %d rules, %d findings; processor %.1f µs a device and rule)", median(ours), median(theirs), *devices, len(patterns), findings, median(cpu))}}, nil
}

func auditOne(ctx context.Context) ([]result, error) {
	policy, _ := fifty()
	a, err := newest(ctx, *devices)
	if err != nil {
		return nil, err
	}
	defer a.close()
	s, err := a.service(ctx, map[audits.Kind]string{audits.Policy: policy, audits.Standard: corpusStandard})
	if err != nil {
		return nil, err
	}
	if err := s.Work(ctx); err != nil {
		return nil, err
	}
	list, err := a.archive.AllNewest(ctx)
	if err != nil {
		return nil, err
	}
	random := rand.New(rand.NewPCG(1, 2))
	var took []float64
	for range 300 {
		before := list[random.IntN(len(list))]
		if before.Platform() != "tidegate" {
			continue
		}
		text, err := a.archive.Text(ctx, before)
		if err != nil {
			return nil, err
		}
		text = strings.Replace(text, "  spanning edge\n", fmt.Sprintf("  mtu %d\n", 1000+random.IntN(8000)), 1)
		if err := a.put(ctx, before, text); err != nil {
			return nil, err
		}
		a.archive.Touched(before.Device)
		begun := time.Now()
		if err := s.Work(ctx); err != nil {
			return nil, err
		}
		took = append(took, time.Since(begun).Seconds()*1e3)
	}
	sort.Float64s(took)
	return []result{{"audit-one", took[len(took)*99/100], "goal<=10", fmt.Sprintf("ms at the 99th, median %.1f ms  (of %d new revisions of about 800 lines, among %d devices; 50 rules and a standard)", median(took), len(took), *devices)}}, nil
}

// put archives a new state of a device.
func (a *audited) put(ctx context.Context, before archive.Revision, text string) error {
	latest, err := a.archive.Latest(ctx, before.Key)
	if err != nil {
		return err
	}
	dl := a.set[before.Platform()]
	view := dl.View(text)
	p, err := a.archive.Prepare(ctx, archive.Capture{Key: before.Key, Before: &latest, Text: text, Form: view.ComparisonForm(), Dialect: before.Dialect, Origin: archive.Captured, At: time.Now(), Arrived: time.Now(),
		Compare: func(before string) (diff.Stats, bool) { return view.Compare(dl.View(before)) }})
	if err != nil {
		return err
	}
	return a.db.Write(ctx, func(tx *store.Tx) error {
		_, _, err := a.archive.Record(tx, p)
		return err
	})
}

func auditDouble(ctx context.Context) ([]result, error) {
	policy, _ := fifty()
	var took, memory []float64
	for _, n := range []int{*devices, 2 * *devices} {
		a, err := newest(ctx, n)
		if err != nil {
			return nil, err
		}
		var runs []float64
		for range 3 {
			s, err := a.service(ctx, map[audits.Kind]string{audits.Policy: policy})
			if err == nil {
				begun := time.Now()
				err = s.Work(ctx)
				runs = append(runs, time.Since(begun).Seconds())
			}
			if err != nil {
				a.close()
				return nil, err
			}
			var m runtime.MemStats
			runtime.GC()
			runtime.ReadMemStats(&m)
			memory = append(memory, float64(m.HeapAlloc)/(1<<20))
			runtime.KeepAlive(s)
		}
		took = append(took, median(runs))
		a.close()
	}
	return []result{{"audit-double", took[1] / took[0], "goal<=2.1", fmt.Sprintf("%d=%.2fs %d=%.2fs  (median of 3 each; heap afterwards %.0f and %.0f MB)", *devices, took[0], 2**devices, took[1], memory[2], memory[5])}}, nil
}

// deriving drafts a standard from 500 devices of one platform.
func deriving(context.Context) ([]result, error) {
	set, err := dialect.Load()
	if err != nil {
		return nil, err
	}
	d := set["tidegate"]
	var names, list []string
	errEnough := errors.New("enough")
	err = scenario.Corpus{Devices: 1000, Seed: 11}.Each(func(s scenario.State) error {
		if s.Platform != "tidegate" {
			return nil
		}
		names, list = append(names, s.Name), append(list, s.Text)
		if len(list) == 500 {
			return errEnough
		}
		return nil
	})
	if !errors.Is(err, errEnough) {
		return nil, fmt.Errorf("the corpus gave %d texts: %w", len(list), err)
	}
	var took []float64
	var draft *derive.Draft
	lines := 0
	for range 5 {
		begun := time.Now()
		members := make([]derive.Member, len(list))
		lines = 0
		for i := range list {
			members[i] = derive.Member{Name: names[i], Subject: audit.File{Name: names[i], Platform: d.Name}, View: d.View(list[i])}
			lines += members[i].View.Tree.Lines()
		}
		if draft, err = derive.From(members, d, derive.Options{}); err != nil {
			return nil, err
		}
		took = append(took, time.Since(begun).Seconds())
	}
	return []result{{"derive", median(took), "goal<=3", fmt.Sprintf("s, median of 5  (%d devices of %d lines on average; %d lines in common, %d slots, %d odd devices)", len(list), lines/len(list), draft.Common, len(draft.Slots), len(draft.Odd))}}, nil
}
