package syslog

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/iotest"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var arrived = time.Date(2026, 11, 20, 2, 14, 9, 0, time.UTC)

func TestMessagesOfAllForms(t *testing.T) {
	at := time.Date(2026, 11, 20, 2, 14, 7, 0, time.UTC)
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	for raw, want := range map[string]Message{
		"<165>1 2026-11-20T03:14:07.25+01:00 np-acc-2 config 812 CHANGED [who account=\"neteng\" from=\"198.51.100.\\\"7\\]\"][x@32473] \ufeffchanged by neteng": {
			Form: New, Facility: 20, Severity: 5, Time: at.Add(250 * time.Millisecond), Sure: true, Host: "np-acc-2", App: "config", Process: "812", ID: "CHANGED",
			Data: map[string]map[string]string{"who": {"account": "neteng", "from": `198.51.100."7]`}, "x@32473": {}}, Text: "changed by neteng"},
		"<165>1 - - - - - -":                                  {Form: New, Facility: 20, Severity: 5},
		"<34>1 - np-acc-2 - - - - hi\n":                       {Form: New, Facility: 4, Severity: 2, Host: "np-acc-2", Text: "hi"},
		"<189>Nov 20 02:14:07 np-acc-2 config[812]: changed":  {Form: Old, Facility: 23, Severity: 5, Time: at, Host: "np-acc-2", App: "config", Process: "812", Text: "changed"},
		"<189>Nov  9 02:14:07 np-acc-2 config: changed":       {Form: Old, Facility: 23, Severity: 5, Time: at.AddDate(0, 0, -11), Host: "np-acc-2", App: "config", Text: "changed"},
		"<189>42: *Nov 20 2026 02:14:07.5: cfg-agent: by noc": {Form: Old, Facility: 23, Severity: 5, Time: at.Add(500 * time.Millisecond), App: "cfg-agent", Text: "by noc"},
		"<13>2026-11-20T02:14:07Z np-acc-2 changed by neteng": {Form: Old, Facility: 1, Severity: 5, Time: at, Sure: true, Host: "np-acc-2", Text: "changed by neteng"},
		"<13>Dec 31 23:59:59 np-acc-2 x":                      {Form: Old, Facility: 1, Severity: 5, Time: time.Date(2026, 12, 31, 23, 59, 59, 0, time.UTC), Host: "np-acc-2", Text: "x"},
		"<13>commit by neteng":                                {Form: Old, Facility: 1, Severity: 5, Text: "commit by neteng"},
		"<999>x":                                              {Form: None, Facility: -1, Severity: -1, Text: "<999>x"},
		"no header at all":                                    {Form: None, Facility: -1, Severity: -1, Text: "no header at all"},
		"":                                                    {Form: None, Facility: -1, Severity: -1},
		"<13>1 yesterday np-acc-2 a b c - x":                  {Form: Old, Facility: 1, Severity: 5, Text: "1 yesterday np-acc-2 a b c - x"},
		"<13>\xff\xfe\x00":                                    {Form: Old, Facility: 1, Severity: 5, Text: "\ufffd"},
	} {
		got := Parse([]byte(raw), arrived, nil)
		assert.True(t, want.Time.Equal(got.Time), "%q: %s", raw, got.Time)
		want.Time, got.Time = time.Time{}, time.Time{}
		assert.Equal(t, want, got, "%q", raw)
	}
	// A clock that says no zone is of the device's own; at the turn of the year the
	// nearest one counts.
	got := Parse([]byte("<13>Nov 20 03:14:07 np-acc-2 x"), arrived, oslo)
	assert.True(t, at.Equal(got.Time))
	assert.False(t, got.Sure)
	got = Parse([]byte("<13>Dec 31 23:59:59 np-acc-2 x"), time.Date(2027, 1, 1, 0, 0, 3, 0, time.UTC), nil)
	assert.Equal(t, 2026, got.Time.Year())
}

func TestStreamsOfEitherFraming(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var stream strings.Builder
		var want []string
		for i := range rapid.IntRange(0, 20).Draw(t, "messages") {
			text := "<13>" + rapid.StringMatching(`[ -~ä]{0,40}`).Draw(t, "text")
			if rapid.IntRange(0, 30).Draw(t, "long") == 0 {
				text += strings.Repeat("x", MaxSize)
			}
			if rapid.Bool().Draw(t, "counted") {
				fmt.Fprintf(&stream, "%d %s", len(text), text)
			} else {
				stream.WriteString(text + "\n")
			}
			_ = i
			want = append(want, text[:min(len(text), MaxSize)])
		}
		f := NewFrames(iotest.HalfReader(strings.NewReader(stream.String())))
		for _, w := range want {
			got, err := f.Next()
			require.NoError(t, err)
			require.Equal(t, w, strings.TrimSuffix(string(got), "\n"))
		}
		_, err := f.Next()
		require.ErrorIs(t, err, io.EOF)
	})
}

func TestAStreamThatIsNone(t *testing.T) {
	for stream, want := range map[string]error{
		"12x <13>": ErrFraming, "9999999 <13>x": ErrFraming, "20 <13>short": io.ErrUnexpectedEOF, "12": io.ErrUnexpectedEOF, "\n\n\x00": io.EOF,
	} {
		_, err := NewFrames(strings.NewReader(stream)).Next()
		assert.ErrorIs(t, err, want, stream)
	}
	lost := errors.New("lost")
	_, err := NewFrames(iotest.ErrReader(lost)).Next()
	assert.ErrorIs(t, err, lost)
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(`<165>1 2026-11-20T03:14:07Z h a p i [x y="z"] t`))
	f.Add([]byte("<189>42: *Nov 20 2026 02:14:07.5: x: y"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		m := Parse(raw, arrived, nil)
		if !utf8.ValidString(m.Text+m.Host+m.App) || m.Facility > 23 || m.Severity > 7 || len(m.Text) > 3*MaxSize {
			t.Fatalf("%+v", m)
		}
	})
}

func FuzzFrames(f *testing.F) {
	f.Add([]byte("5 <13>x<13>y\n"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		frames := NewFrames(strings.NewReader(string(raw)))
		for range len(raw) + 1 {
			m, err := frames.Next()
			if err != nil {
				return
			}
			if len(m) > MaxSize {
				t.Fatalf("%d bytes", len(m))
			}
		}
		t.Fatal("more messages than bytes")
	})
}
