// Package syslog reads messages of the syslog protocol in the form of RFC 5424, in
// the older ones that RFC 3164 describes, and in what devices make of either. It
// never fails: what cannot be understood is the text of the message.
package syslog

import (
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"
)

// Form is which form a message has.
type Form string

// The forms.
const (
	New  Form = "RFC 5424"
	Old  Form = "RFC 3164"
	None Form = "no header"
)

// MaxSize is how many bytes of a message are read; the rest is cut off.
const MaxSize = 8 << 10

// Message is a message.
type Message struct {
	Form     Form `json:"form"`
	Facility int  `json:"facility"` // 0 to 23; -1 where the message has no priority
	Severity int  `json:"severity"` // 0 (emergency) to 7 (debug); -1 likewise
	// Time is what the sender says; zero where it says none. Sure says that it has a
	// year and a zone: without them the arrival rules.
	Time    time.Time `json:"time,omitzero"`
	Sure    bool      `json:"sure"`
	Host    string    `json:"host"`
	App     string    `json:"program"` // the program, or the tag
	Process string    `json:"process"`
	ID      string    `json:"id"` // of the kind of message (RFC 5424, MSGID)
	// Data is the structured data (RFC 5424, 6.3): by element and parameter.
	Data map[string]map[string]string `json:"data,omitempty"`
	Text string                       `json:"text"`
}

// Parse reads a message that arrived at a time. Zone is the sender's where it says
// none itself.
func Parse(raw []byte, arrived time.Time, zone *time.Location) Message {
	s := string(raw[:min(len(raw), MaxSize)])
	if !utf8.ValidString(s) {
		s = strings.ToValidUTF8(s, "\ufffd")
	}
	s = strings.TrimRight(s, "\r\n\x00")
	m := Message{Form: None, Facility: -1, Severity: -1, Text: s}
	rest, ok := m.priority(s)
	if !ok {
		return m
	}
	if body, ok := strings.CutPrefix(rest, "1 "); ok && m.structured(body) {
		m.Form = New
		return m
	}
	m.Form = Old
	m.old(rest, arrived, zone)
	return m
}

// priority reads "<34>".
func (m *Message) priority(s string) (rest string, ok bool) {
	if len(s) < 3 || s[0] != '<' {
		return s, false
	}
	end := strings.IndexByte(s[:min(len(s), 5)], '>')
	if end < 2 {
		return s, false
	}
	n, err := strconv.Atoi(s[1:end])
	if err != nil || n < 0 || n > 191 {
		return s, false
	}
	m.Facility, m.Severity = n/8, n%8
	return s[end+1:], true
}

// structured reads what follows "<34>1 " (RFC 5424, 6).
func (m *Message) structured(s string) bool {
	var fields [5]string // time, host, app, process, id
	for i := range fields {
		field, rest, ok := strings.Cut(s, " ")
		if !ok || field == "" {
			return false
		}
		if s = rest; field != "-" {
			fields[i] = field
		}
	}
	if fields[0] != "" {
		t, err := time.Parse(time.RFC3339Nano, fields[0])
		if err != nil {
			return false
		}
		m.Time, m.Sure = t, true
	}
	data, rest, ok := elements(s)
	if !ok {
		return false
	}
	m.Host, m.App, m.Process, m.ID, m.Data = fields[1], fields[2], fields[3], fields[4], data
	rest = strings.TrimPrefix(rest, " ")
	m.Text = strings.TrimPrefix(rest, "\ufeff")
	return true
}

// elements reads structured data, "-" or [id name="value" …]….
func elements(s string) (data map[string]map[string]string, rest string, ok bool) {
	if rest, ok = strings.CutPrefix(s, "-"); ok {
		return nil, rest, rest == "" || rest[0] == ' '
	}
	for strings.HasPrefix(s, "[") {
		end := strings.IndexAny(s, " ]")
		if end < 2 {
			return nil, s, false
		}
		id, params := s[1:end], map[string]string{}
		s = s[end:]
		for strings.HasPrefix(s, " ") {
			name, after, found := strings.Cut(s[1:], `="`)
			if !found || name == "" || strings.ContainsAny(name, " ]\"") {
				return nil, s, false
			}
			value, left, closed := quoted(after)
			if !closed {
				return nil, s, false
			}
			params[name], s = value, left
		}
		if s, ok = strings.CutPrefix(s, "]"); !ok {
			return nil, s, false
		}
		if data == nil {
			data = map[string]map[string]string{}
		}
		data[id] = params
	}
	return data, s, data != nil && (s == "" || s[0] == ' ')
}

// quoted reads up to the closing quote; ", \ and ] stand behind a \.
func quoted(s string) (value, rest string, ok bool) {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		switch {
		case s[i] == '\\' && i+1 < len(s) && strings.IndexByte(`"\]`, s[i+1]) >= 0:
			i++
			b.WriteByte(s[i])
		case s[i] == '"':
			return b.String(), s[i+1:], true
		default:
			b.WriteByte(s[i])
		}
	}
	return "", s, false
}

// oldTimes are the times of the older forms; those with a year come first.
var oldTimes = []struct {
	layout     string
	year, zone bool
}{
	{"2006-01-02T15:04:05.999999999Z07:00", true, true},
	{"2006-01-02T15:04:05.999999999", true, false},
	{"Jan _2 2006 15:04:05.999999999", true, false},
	{"2006 Jan _2 15:04:05.999999999", true, false},
	{"Jan _2 15:04:05.999999999", false, false},
	{"Jan _2 15:04:05.999999999 2006", true, false},
}

// old reads what follows "<34>" in the older forms: maybe a number and a colon,
// maybe a time, maybe a host, maybe a tag with the number of a process, the text.
func (m *Message) old(s string, arrived time.Time, zone *time.Location) {
	s = strings.TrimLeft(s, " ")
	// Some count their messages: "42: Nov 20 …"; some mark a clock that is not set.
	if n := strings.IndexFunc(s, func(c rune) bool { return c < '0' || c > '9' }); n > 0 && n < 12 && strings.HasPrefix(s[n:], ": ") {
		s = s[n+2:]
	}
	s = strings.TrimLeft(s, "*. ")
	if t, sure, rest, ok := oldTime(s, arrived, zone); ok {
		m.Time, m.Sure = t, sure
		s = strings.TrimLeft(strings.TrimPrefix(rest, ":"), " ")
		// The next word is the host, unless it is a tag already.
		word, after, _ := strings.Cut(s, " ")
		if after != "" && !strings.HasSuffix(word, ":") && !strings.ContainsAny(word, "[=\"") && hostLike(word) {
			m.Host, s = word, after
		}
	}
	m.Text = s
	if tag, text, ok := strings.Cut(s, ": "); ok && tag != "" && len(tag) <= 64 && !strings.ContainsAny(tag, " \"=") {
		m.Text = text
		m.App = tag
		if name, number, ok := strings.Cut(tag, "["); ok && strings.HasSuffix(number, "]") {
			m.App, m.Process = name, strings.TrimSuffix(number, "]")
		}
	}
}

func hostLike(s string) bool {
	return s != "" && !strings.ContainsFunc(s, func(c rune) bool {
		return !(c == '.' || c == '-' || c == '_' || c == ':' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= utf8.RuneSelf)
	})
}

// oldTime reads a time at the start of s. One without a year is of the year that
// brings it nearest to the arrival.
func oldTime(s string, arrived time.Time, zone *time.Location) (t time.Time, sure bool, rest string, ok bool) {
	if zone == nil {
		zone = time.UTC
	}
	for _, f := range oldTimes {
		for _, n := range ends(s, strings.Count(f.layout, " ")) {
			t, err := time.ParseInLocation(f.layout, strings.TrimSuffix(s[:n], ":"), zone)
			if err != nil {
				continue
			}
			if !f.year {
				t = nearestYear(t, arrived.In(zone))
			}
			return t, f.zone, s[n:], true
		}
	}
	return t, false, s, false
}

// ends is where so many words end; a double blank, as before a day of one digit,
// is one.
func ends(s string, blanks int) []int {
	at := 0
	for range blanks {
		i := strings.IndexByte(s[at:], ' ')
		if i < 0 {
			return nil
		}
		at += i + 1
		if at < len(s) && s[at] == ' ' {
			at++
		}
	}
	if at >= len(s) {
		return nil
	}
	if i := strings.IndexByte(s[at:], ' '); i >= 0 {
		return []int{at + i}
	}
	return []int{len(s)}
}

func nearestYear(t, arrived time.Time) time.Time {
	best := t
	for i, year := range []int{arrived.Year(), arrived.Year() - 1, arrived.Year() + 1} {
		c := time.Date(year, t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), t.Location())
		if i == 0 || c.Sub(arrived).Abs() < best.Sub(arrived).Abs() {
			best = c
		}
	}
	return best
}

// Param is one parameter of structured data.
type Param struct{ Name, Value string }

// Format writes a message in the form of RFC 5424: facility 13 (log audit), with one
// element of structured data of the enterprise of examples (RFC 5612).
func Format(severity int, at time.Time, host, app, id, element string, params []Param, text string) string {
	word := func(s string, limit int) string {
		s = strings.Map(func(r rune) rune {
			if r <= ' ' || r > '~' {
				return -1
			}
			return r
		}, s)
		if s == "" {
			return "-"
		}
		return s[:min(len(s), limit)]
	}
	var b strings.Builder
	fmt.Fprintf(&b, "<%d>1 %s %s %s - %s [%s@32473", 13*8+severity, at.UTC().Format("2006-01-02T15:04:05.000Z"), word(host, 255), word(app, 48), word(id, 32), word(element, 20))
	for _, p := range params {
		fmt.Fprintf(&b, ` %s="%s"`, p.Name, escaper.Replace(strings.ToValidUTF8(p.Value, "\ufffd")))
	}
	b.WriteString("] \ufeff" + strings.ReplaceAll(strings.ToValidUTF8(text, "\ufffd"), "\n", " "))
	return b.String()
}

var escaper = strings.NewReplacer(`"`, `\"`, `\`, `\\`, `]`, `\]`)
