package audits

import (
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/archive"
	"vergekeep/core/audit"
	"vergekeep/service/events"
	"vergekeep/service/fleet"
	"vergekeep/service/notes"
	"vergekeep/service/shelf"
	"vergekeep/service/texts"
	"vergekeep/store"
)

// house is a service over a shelf.
type house struct {
	*shelf.Shelf
	*Service
	t     *testing.T
	notes *notes.Service
}

func open(t *testing.T) *house {
	s := shelf.New(t)
	h := &house{Shelf: s, t: t, notes: notes.New(s.DB, s.Archive, s.Now)}
	read := texts.New(s.Archive, s.Fleet, s.Rounds, s.Set, h.notes, s.Now)
	h.Service = New(Config{DB: s.DB, Archive: s.Archive, Fleet: s.Fleet, Texts: func() *texts.Texts { return read }, Dialects: s.Set, Bus: &events.Bus{}, Log: slog.New(slog.DiscardHandler), Now: s.Now})
	return h
}

const text = "configuration of x, changed 2026-11-20 by noc\nname %s\nlog\n  server 192.0.2.40\naccess\n  ssh\n  permit %s\naccess-list MGMT\n  10 permit any\ninterface lan1\n  address %s\nend of configuration\n"

func (h *house) put(name, body string) {
	h.t.Helper()
	h.Put(h.t, name, "tidegate", body)
	require.NoError(h.t, h.Work(h.t.Context()))
}

func (h *house) set(kind Kind, body string) {
	h.t.Helper()
	_, err := h.SetDocument(h.t.Context(), kind, "x", body, "test", true)
	require.NoError(h.t, err)
	require.NoError(h.t, h.Work(h.t.Context()))
}

// found is the findings in a state, in short.
func (h *house) found(state string) (out []string) {
	h.t.Helper()
	list, total, err := h.Findings(h.t.Context(), Filter{State: state})
	require.NoError(h.t, err)
	require.Equal(h.t, total, len(list))
	for _, f := range list {
		out = append(out, fmt.Sprintf("%s %s: %s", f.Device, f.Name(), f.Why))
	}
	return out
}

const rules = `language: 1
policy: p
title: P
rules:
  - { id: defined, title: Names are defined, severity: high, controls: { nist-sp-800-53: [CM-2] }, check: { undefined: [access-list] } }
  - { id: log, title: Logs are sent, severity: low, check: { count: { of: '@log-server', at-least: 1 } } }
  - id: unique
    title: Addresses are unique
    severity: medium
    on:
      tidegate: { for-each: ['interface {port} > address {address}'], unique: 'network(address)' }
`

func TestFindingsOpenCloseAndOpenAgain(t *testing.T) {
	h := open(t)
	h.set(Policy, rules)
	h.put("a", fmt.Sprintf(text, "a", "MGMT", "192.0.2.1/24"))
	assert.Empty(t, h.found(""))
	h.put("a", fmt.Sprintf(text, "a", "MGTM", "192.0.2.1/24"))
	assert.Equal(t, []string{"a p/defined: the access-list MGTM is used, and nothing defines it"}, h.found(""))
	list, _, err := h.Findings(t.Context(), Filter{})
	require.NoError(t, err)
	require.Len(t, list[0].Proofs, 1)
	assert.Equal(t, 7, list[0].Proofs[0].Line)
	assert.Equal(t, "permit MGTM", list[0].Proofs[0].Text)
	assert.Equal(t, 2, list[0].Number)
	h.put("a", fmt.Sprintf(text, "a", "MGMT", "192.0.2.1/24"))
	assert.Empty(t, h.found(""))
	list, _, err = h.Findings(t.Context(), Filter{State: "closed"})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, 3, list[0].ClosedIn)
	h.put("a", fmt.Sprintf(text, "a", "MGTM", "192.0.2.1/24"))
	list, _, err = h.Findings(t.Context(), Filter{Control: "CM-2"})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, 2, list[0].Times)
	assert.True(t, list[0].First.Before(list[0].Opened))

	// A rule that says something else is another one; a policy that goes takes what it
	// found with it.
	h.set(Policy, strings.Replace(rules, "undefined: [access-list]", "unused: [access-list]", 1))
	assert.Equal(t, []string{"a p/defined: the access-list MGMT is defined, and nothing uses it"}, h.found(""))
	require.NoError(t, h.DeleteDocument(t.Context(), Policy, "p", "test"))
	require.NoError(t, h.Work(t.Context()))
	assert.Empty(t, h.found(""))
}

func TestWhatClashesIsFoundOnBothAndMendedOnBoth(t *testing.T) {
	for _, restart := range []bool{false, true} {
		t.Run(fmt.Sprintf("restart %v", restart), func(t *testing.T) {
			h := open(t)
			h.set(Policy, rules)
			h.put("a", fmt.Sprintf(text, "a", "MGMT", "192.0.2.1/24"))
			h.put("b", fmt.Sprintf(text, "b", "MGMT", "198.51.100.1/24"))
			assert.Empty(t, h.found(""))
			if restart {
				old := h.Service
				h.Service = New(old.Config)
			}
			h.put("b", fmt.Sprintf(text, "b", "MGMT", "192.0.2.2/24"))
			assert.ElementsMatch(t, []string{"a p/unique: 192.0.2.0/24 is on b too", "b p/unique: 192.0.2.0/24 is on a too"}, h.found(""))
			if restart {
				h.Service = New(h.Service.Config)
			}
			h.put("a", fmt.Sprintf(text, "a", "MGMT", "203.0.113.1/24"))
			assert.Empty(t, h.found(""))
			assert.Len(t, h.found("closed"), 2)
		})
	}
}

// What is retired is asked nothing, clashes with nobody, and counts in no score.
func TestWhatIsRetiredIsAuditedNoMore(t *testing.T) {
	for _, restart := range []bool{false, true} {
		t.Run(fmt.Sprintf("restart %v", restart), func(t *testing.T) {
			h := open(t)
			h.set(Policy, rules)
			h.put("a", fmt.Sprintf(text, "a", "MGMT", "192.0.2.1/24"))
			h.put("b", fmt.Sprintf(text, "b", "MGTM", "192.0.2.2/24"))
			assert.Len(t, h.found(""), 3)
			if restart {
				h.Service = New(h.Service.Config)
			}
			d, err := h.Fleet.Get(t.Context(), "b")
			require.NoError(t, err)
			retired := string(fleet.Retired)
			_, err = h.Fleet.Edit(t.Context(), "b", d.Edition, fleet.Change{State: &retired}, "test")
			require.NoError(t, err)
			h.Recheck()
			require.NoError(t, h.Work(t.Context()))
			assert.Empty(t, h.found(""))
			_, err = h.Audit(t.Context(), "")
			require.NoError(t, err)
			assert.Empty(t, h.found(""))
			scores, _, err := h.Scores(t.Context(), "", ByDevice, time.Time{})
			require.NoError(t, err)
			require.Len(t, scores, 1)
			assert.Equal(t, "a", scores[0].Name)
			active := string(fleet.Active)
			_, err = h.Fleet.Edit(t.Context(), "b", d.Edition+1, fleet.Change{State: &active}, "test")
			require.NoError(t, err)
			h.Recheck()
			require.NoError(t, h.Work(t.Context()))
			assert.Len(t, h.found(""), 3, "once it is back, all of it is")
		})
	}
}

func TestAllAtOnceAndOneByOneAreTheSame(t *testing.T) {
	one, all := open(t), open(t)
	one.set(Policy, rules)
	for i := range 30 {
		list := "MGMT"
		if i%4 == 0 {
			list = "OTHER"
		}
		body := fmt.Sprintf(text, fmt.Sprint("d", i), list, fmt.Sprintf("192.0.%d.1/24", i%7))
		one.put(fmt.Sprint("d", i), body)
		all.Put(t, fmt.Sprint("d", i), "tidegate", body)
	}
	all.set(Policy, rules)
	assert.ElementsMatch(t, one.found(""), all.found(""))
	before := all.found("")
	n, err := all.Audit(t.Context(), "")
	require.NoError(t, err)
	assert.Equal(t, 30, n)
	assert.Equal(t, before, all.found(""))
}

// What is judged again at the same revision came by the hour, the document or a
// neighbour: by no change.
func TestWhatIsFoundLaterCameByNoChange(t *testing.T) {
	h := open(t)
	h.set(Policy, rules)
	came := func() (out []string) {
		list, _, err := h.Findings(t.Context(), Filter{})
		require.NoError(t, err)
		for _, f := range list {
			out = append(out, fmt.Sprintf("%s %s by %d", f.Device, f.Item, f.OpenedBy))
		}
		return out
	}
	change := func(name, body string) {
		h.Put(t, name, "tidegate", body)
		d, err := h.Fleet.Get(t.Context(), name)
		require.NoError(t, err)
		r, err := h.Archive.Latest(t.Context(), archive.Key{Device: d.ID, Datastore: "running"})
		require.NoError(t, err)
		require.NoError(t, h.DB.Write(t.Context(), func(tx *store.Tx) error {
			res, err := tx.Exec(`INSERT INTO changes (device_id, round_id, since, found_at, added, removed, changed, moved) VALUES (?, 0, 0, 0, 0, 0, 1, 0)`, d.ID)
			require.NoError(t, err)
			id, err := res.LastInsertId()
			require.NoError(t, err)
			_, err = tx.Exec(`INSERT INTO change_texts (configuration_id, number, before, change_id) VALUES (?, ?, ?, ?)`, r.Configuration(), r.Number, r.Number-1, id)
			return err
		}))
		require.NoError(t, h.Work(t.Context()))
	}
	h.put("a", fmt.Sprintf(text, "a", "MGMT", "192.0.2.1/24"))
	h.put("b", fmt.Sprintf(text, "b", "MGMT", "198.51.100.1/24"))
	change("a", fmt.Sprintf(text, "a", "MGTM", "192.0.2.1/24"))
	assert.Equal(t, []string{"a defined by 1"}, came())
	change("b", fmt.Sprintf(text, "b", "MGMT", "192.0.2.2/24"))
	assert.ElementsMatch(t, []string{"a defined by 1", "a unique by 0", "b unique by 2"}, came(), "of two that clash, the one that changed brought it")
}

func TestStandardsAndBaselines(t *testing.T) {
	h := open(t)
	h.set(Standard, "language: 1\nstandard: s\ntitle: S\nplatform: tidegate\nsections:\n  - id: log\n    severity: high\n    text: |\n      log\n        server 192.0.2.40\n")
	h.put("a", fmt.Sprintf(text, "a", "MGMT", "192.0.2.1/24"))
	assert.Empty(t, h.found(""))
	d, err := h.Fleet.Get(t.Context(), "a")
	require.NoError(t, err)
	r, err := h.Archive.Latest(t.Context(), archive.Key{Device: d.ID, Datastore: "running"})
	require.NoError(t, err)
	require.NoError(t, h.notes.Bless(t.Context(), []archive.Revision{r}, []string{"a@1"}, "", false, "lead"))
	h.put("a", strings.Replace(fmt.Sprintf(text, "a", "MGMT", "192.0.2.1/24"), "192.0.2.40", "192.0.2.41", 1))
	assert.Equal(t, []string{
		`a s/log: has "server 192.0.2.41" for "server 192.0.2.40"`, "a running/baseline: drifted from @1: 1 changed",
	}, h.found(""))
	h.put("a", fmt.Sprintf(text, "a", "MGMT", "192.0.2.1/24"))
	assert.Empty(t, h.found(""), "it is as it was")
}

func TestWaiversRunOut(t *testing.T) {
	h := open(t)
	h.set(Policy, rules)
	h.put("a", fmt.Sprintf(text, "a", "MGTM", "192.0.2.1/24"))
	list, _, err := h.Findings(t.Context(), Filter{})
	require.NoError(t, err)
	given, err := h.Grant(t.Context(), Waiver{FindingID: list[0].ID, Reason: "until the spare comes", Approved: "lead", Until: h.Now().Add(24 * time.Hour), Account: "noc"})
	require.NoError(t, err)
	assert.Empty(t, h.found("open"))
	assert.Len(t, h.found("waived"), 1)
	assert.Len(t, h.found(""), 1, "what is waived stays visible")
	granted, err := h.Waivers(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "p/defined on a", granted[0].What())
	assert.Equal(t, granted, []Waiver{given})
	h.Forward(25 * time.Hour)
	assert.Len(t, h.found("open"), 1)
	assert.Empty(t, h.found("waived"))
	w, err := h.Grant(t.Context(), Waiver{Document: "policy:p", Item: "defined", Selector: "name=a", Reason: "again", Approved: "lead", Until: h.Now().Add(24 * time.Hour), Account: "noc"})
	require.NoError(t, err)
	assert.Len(t, h.found("waived"), 1)
	require.NoError(t, h.Revoke(t.Context(), w.ID, "lead"))
	assert.Empty(t, h.found("waived"))

	for name, w := range map[string]Waiver{
		"no reason":     {FindingID: 1, Approved: "lead", Until: h.Now().Add(time.Hour)},
		"nobody":        {FindingID: 1, Reason: "x", Until: h.Now().Add(time.Hour)},
		"over":          {FindingID: 1, Reason: "x", Approved: "lead", Until: h.Now()},
		"for ever":      {FindingID: 1, Reason: "x", Approved: "lead", Until: h.Now().AddDate(3, 0, 0)},
		"of what":       {Reason: "x", Approved: "lead", Until: h.Now().Add(time.Hour)},
		"no such one":   {FindingID: 77, Reason: "x", Approved: "lead", Until: h.Now().Add(time.Hour)},
		"no such rule":  {Document: "policy:p", Item: "x", Reason: "x", Approved: "lead", Until: h.Now().Add(time.Hour)},
		"no such thing": {Document: "policy:q", Reason: "x", Approved: "lead", Until: h.Now().Add(time.Hour)},
	} {
		_, err := h.Grant(t.Context(), w)
		assert.Error(t, err, name)
	}
}

func TestTheKeepingIsAudited(t *testing.T) {
	h := open(t)
	require.NoError(t, h.Bootstrap(t.Context()))
	require.NoError(t, h.Bootstrap(t.Context()), "once")
	docs, err := h.Documents(t.Context(), Policy)
	require.NoError(t, err)
	require.Len(t, docs, 2)
	_, err = h.Fleet.Add(t.Context(), fleet.Device{Name: "never", Platform: "tidegate", Addresses: []string{"192.0.2.1:22"}}, "test")
	require.NoError(t, err)
	require.NoError(t, h.Work(t.Context()))
	assert.Contains(t, h.found(""), "never keeping/fresh: its last good capture is older than promised: it is no capture yet")
	assert.Contains(t, h.found(""), "never keeping/baseline: it has no baseline")
}

func TestAFindingShowsNoSecret(t *testing.T) {
	h := open(t)
	h.set(Policy, "language: 1\npolicy: q\ntitle: Q\nrules:\n  - { id: r, title: R, severity: low, secrets: true, on: { tidegate: { forbid: ['agent > community public **'] } } }\n")
	h.put("a", "configuration of x, changed 2026-11-20 by noc\nname a\nagent\n  community public read\nend of configuration\n")
	list, _, err := h.Findings(t.Context(), Filter{})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.NotContains(t, fmt.Sprint(list), "public read")
	assert.Contains(t, list[0].Proofs[0].Text, "●●●●")
	assert.Equal(t, audit.Low, list[0].Severity)
}

func TestTryingSaysWhatWouldBeOtherwise(t *testing.T) {
	h := open(t)
	h.put("a", fmt.Sprintf(text, "a", "MGMT", "192.0.2.1/24"))
	h.put("b", fmt.Sprintf(text, "b", "MGTM", "192.0.2.2/24"))
	trial, err := h.Try(t.Context(), Policy, "p.yaml", rules, "", true)
	require.NoError(t, err)
	assert.Equal(t, 2, trial.Devices)
	var said []string
	for _, x := range trial.Changes {
		said = append(said, x.Device+" "+x.Item+" "+string(x.Before)+">"+string(x.After))
	}
	assert.ElementsMatch(t, []string{"a unique >fail", "b defined >fail", "b unique >fail"}, said)
	assert.Empty(t, h.found("all"), "trying keeps nothing")
	h.set(Policy, rules)
	trial, err = h.Try(t.Context(), Policy, "p.yaml", rules, "", true)
	require.NoError(t, err)
	assert.Empty(t, trial.Changes)

	const one = "language: 1\nstandard: one\ntitle: S\nplatform: tidegate\nsections:\n  - id: log\n    text: |\n      log\n        server 192.0.2.40\n"
	h.set(Standard, one)
	trial, err = h.Try(t.Context(), Standard, "two.yaml", strings.NewReplacer("standard: one", "standard: two", "192.0.2.40", "192.0.2.41").Replace(one), "", true)
	require.NoError(t, err)
	require.Len(t, trial.Warnings, 1)
	assert.Contains(t, trial.Warnings[0], "one/log claims a too")
	trial, err = h.Try(t.Context(), Standard, "two.yaml", strings.Replace(one, "standard: one", "standard: two", 1), "", true)
	require.NoError(t, err)
	assert.Empty(t, trial.Warnings, "they want the same")

	_, err = h.Try(t.Context(), Policy, "s.yaml", "language: 1\npolicy: s\ntitle: S\nrules:\n  - { id: r, title: R, severity: low, secrets: true, on: { tidegate: { forbid: ['agent > community x **'] } } }\n", "", false)
	assert.ErrorIs(t, err, ErrSecrets)
}

func TestDocumentsOfARepository(t *testing.T) {
	h := open(t)
	h.put("a", fmt.Sprintf(text, "a", "MGTM", "192.0.2.1/24"))
	repo := t.TempDir()
	say := func(args ...string) {
		out, err := exec.Command("git", append([]string{"-C", repo, "-c", "user.name=x", "-c", "user.email=x@skerry.example"}, args...)...).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	write := func(name, body string) {
		require.NoError(t, os.MkdirAll(filepath.Join(repo, "audit"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(repo, "audit", name), []byte(body), 0o644))
		say("add", "-A")
		say("commit", "-qm", "x")
	}
	say("init", "-q")
	write("rules.yaml", rules)
	write("notes.txt", "no document")
	x, err := h.SetSource(t.Context(), Source{Name: "team", Remote: repo, Path: "audit", Account: "lead"})
	require.NoError(t, err)
	require.False(t, x.Failed, x.LastSaid)
	require.Len(t, x.Revision, 40)
	require.NoError(t, h.Work(t.Context()))
	assert.Len(t, h.found(""), 1)
	d, err := h.Document(t.Context(), Policy, "p")
	require.NoError(t, err)
	assert.Equal(t, x.Revision, d.Revision)
	assert.Equal(t, "team", d.Source)

	// A mistake does not count: the last good version goes on.
	write("rules.yaml", strings.Replace(rules, "severity: high", "severity: grave", 1))
	x, err = h.ReadSource(t.Context(), "team")
	require.NoError(t, err)
	assert.True(t, x.Failed)
	assert.Contains(t, x.LastSaid, "audit/rules.yaml:5:")
	require.NoError(t, h.Work(t.Context()))
	assert.Len(t, h.found(""), 1)

	// Nor does a rule that could tell of secrets: a repository has no rights.
	write("more.yaml", "language: 1\npolicy: more\ntitle: M\nrules:\n  - { id: r, title: R, severity: low, secrets: true, check: { forbid: ['raise secret x'] } }\n")
	write("rules.yaml", strings.Replace(rules, "undefined: [access-list]", "unused: [access-list]", 1))
	n, err := h.Audit(t.Context(), "") // it is read before
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	list, err := h.Sources(t.Context())
	require.NoError(t, err)
	assert.Contains(t, list[0].LastSaid, "looks at secrets")
	assert.Equal(t, []string{"a p/defined: the access-list MGMT is defined, and nothing uses it"}, h.found(""))

	// What is there no more counts no more; a repository that is gone changes nothing.
	require.NoError(t, os.Rename(repo, repo+"-away"))
	x, err = h.ReadSource(t.Context(), "team")
	require.NoError(t, err)
	assert.True(t, x.Failed)
	require.NoError(t, h.Work(t.Context()))
	assert.Len(t, h.found(""), 1)
	require.NoError(t, os.Rename(repo+"-away", repo))
	say("rm", "-q", "audit/rules.yaml")
	say("commit", "-qm", "x")
	_, err = h.ReadSource(t.Context(), "team")
	require.NoError(t, err)
	require.NoError(t, h.Work(t.Context()))
	assert.Empty(t, h.found(""))
	for _, bad := range []Source{{Name: "x"}, {Name: "x", Remote: "--upload-pack=x"}, {Name: "x", Remote: repo, Path: "../.."}, {Name: "shipped", Remote: repo}, {Name: "", Remote: repo}} {
		_, err := h.SetSource(t.Context(), bad)
		assert.ErrorIs(t, err, ErrSource)
	}
	require.NoError(t, h.DeleteSource(t.Context(), "team", "lead"))
	assert.ErrorIs(t, h.DeleteSource(t.Context(), "team", "lead"), ErrUnknown)
}
