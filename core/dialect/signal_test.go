package dialect

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const talking = `format: 1
name: lantern
title: Lantern
maker: Lantern Works
reach: { channel: exec }
conversation: { start: a, states: { a: { send: show, keep: a, then: done } } }
captures: [{ datastore: running, from: a }]
complete: { first: '.' }
syntax: { reader: indent }
secrets: [{ pattern: 'key {secret}' }]
signals:
  - { see: '^fan', means: nothing }
  - { see: 'changed by (?P<account>\S+)( from (?P<source>\S+))?', program: 'conf.*' }
  - { trap: 1.3.6.1.4.1.32473.7, account: 1.3.6.1.4.1.32473.8.1, method: 1.3.6.1.4.1.32473.8.2 }
  - { notification: config-change, account: user }
ask: { after: a, match: 'edition (\d+)' }
`

func TestUnderstand(t *testing.T) {
	d, err := Parse("lantern.yaml", talking)
	require.NoError(t, err)
	for name, c := range map[string]struct {
		m     Message
		want  Told
		known bool
	}{
		"changed":         {Message{Medium: BySyslog, Name: "config", Text: "changed by lead from 192.0.2.1"}, Told{true, "lead", "192.0.2.1", "", 1}, true},
		"no source":       {Message{Medium: BySyslog, Name: "conf", Text: "it was changed by lead"}, Told{true, "lead", "", "", 1}, true},
		"another program": {Message{Medium: BySyslog, Name: "xconf", Text: "changed by lead"}, Told{}, false},
		"nothing":         {Message{Medium: BySyslog, Name: "config", Text: "fan changed by lead"}, Told{false, "", "", "", 0}, true},
		"a trap":          {Message{Medium: ByTrap, Name: "1.3.6.1.4.1.32473.7.0.1", Values: map[string]string{"1.3.6.1.4.1.32473.8.1.0": "lead", "1.3.6.1.4.1.32473.8.10.0": "x"}}, Told{true, "lead", "", "", 2}, true},
		"the trap itself": {Message{Medium: ByTrap, Name: "1.3.6.1.4.1.32473.7"}, Told{true, "", "", "", 2}, true},
		"a longer number": {Message{Medium: ByTrap, Name: "1.3.6.1.4.1.32473.71"}, Told{}, false},
		"a notification":  {Message{Medium: ByNotification, Name: "config-change", Values: map[string]string{"user": " lead\n"}}, Told{true, "lead", "", "", 3}, true},
		"another medium":  {Message{Medium: ByPost, Name: "config-change"}, Told{}, false},
		"a long name":     {Message{Medium: BySyslog, Name: "config", Text: "changed by " + strings.Repeat("é", 300)}, Told{true, strings.Repeat("é", 100), "", "", 1}, true},
	} {
		t.Run(name, func(t *testing.T) {
			told, known := d.Understand(c.m)
			assert.Equal(t, c.known, known)
			assert.Equal(t, c.want, told)
		})
	}
	assert.Equal(t, "12", d.Ask.Answer(map[string]string{"a": "name x\nedition 12\n"}))
	assert.Empty(t, d.Ask.Answer(map[string]string{"a": "nothing"}))
	var none *Question
	assert.Empty(t, none.Answer(nil))
}

func TestWhatIsNoSignal(t *testing.T) {
	for old, c := range map[string]struct{ with, says string }{
		"see: '^fan', means: nothing":             {"means: nothing", "exactly one of"},
		"see: '^fan', means":                      {"see: '^fan', trap: 1.2.3, means", "exactly one of"},
		"notification: config-change, account":    {"notification: config-change, program: x, account", "only syslog messages have a program"},
		"{ see: '^fan', means: nothing }":         {"{ see: '^fan', account: x }", "named groups"},
		"ask: { after: a, match":                  {"ask: { after: b, match", "no state keeps"},
		"ask: { after: a, match: 'edition (":      {"ask: { after: a, match: 'edition (?:", "one group"},
		"ask: { after: a, match: 'edition (\\d+)": {"ask: { object: 1.2.3, match: 'x", "taken as it is"},
		"see: 'changed by":                        {"see: 'changed (by", "regular expression"},
		"trap: 1.3.6.1.4.1.32473.7,":              {"trap: linkDown,", "trap"},
	} {
		_, err := Parse("lantern.yaml", strings.Replace(talking, old, c.with, 1))
		assert.ErrorContains(t, err, c.says, c.with)
	}
}

func TestTheUnknownDialectConceals(t *testing.T) {
	assert.NotContains(t, Unknown().Conceal("app: password hunter22 was refused"), "hunter22")
	assert.Equal(t, "all is well", Unknown().Conceal("all is well"))
}

// FuzzUnderstand has a device say whatever it may.
func FuzzUnderstand(f *testing.F) {
	d, err := Parse("lantern.yaml", talking)
	require.NoError(f, err)
	f.Add("config", "changed by lead from x")
	f.Fuzz(func(t *testing.T, name, text string) {
		told, _ := d.Understand(Message{Medium: BySyslog, Name: name, Text: text})
		if len(told.Account) > maxSaid || strings.ContainsAny(told.Account, "\n\r") {
			t.Fatalf("%q", told.Account)
		}
	})
}
