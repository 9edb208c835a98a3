package dialect

import (
	"regexp"
	"slices"
	"strconv"
	"strings"

	"vergekeep/core/config"
	"vergekeep/core/pattern"
)

// Signal is a kind of message by which a device tells what happens to it.
// Exactly one of See, Trap and Notification says which messages it is for.
type Signal struct {
	See          *regexp.Regexp // in the text of a syslog message
	Program      *regexp.Regexp // its program; nil for any
	Trap         string         // how the object identifier of an SNMP notification begins
	Notification string         // name of a NETCONF notification (RFC 5277)

	Changed bool // it tells of a change; else it is known to tell of none

	// Where it stands who did it, from where and by which means: of a trap how an
	// object identifier begins, of a notification the name of an element. In See
	// they are groups.
	Account, Source, Method string
}

// Medium is how a message came.
type Medium string

// The media.
const (
	BySyslog       Medium = "syslog"
	ByTrap         Medium = "trap"         // SNMP traps and informs
	ByNotification Medium = "notification" // NETCONF
	ByPost         Medium = "post"         // another system, over HTTP
	ByQuestion     Medium = "question"     // the answer to a cheap question was another one
)

// Message is what a device said of itself.
type Message struct {
	Medium Medium
	Name   string // the program, the object identifier or the notification's name
	Text   string
	Values map[string]string // by object identifier, or by name of element
}

// Told is what a message tells.
type Told struct {
	Changed                 bool
	Account, Source, Method string
	Rule                    int // which of the dialect's it was, from 0
}

// maxSaid bounds what is taken over from a message, in bytes.
const maxSaid = 200

// Understand says what a message tells; known is false where no rule of the
// dialect is for it.
func (d *Dialect) Understand(m Message) (told Told, known bool) {
	for i := range d.Signals {
		s := &d.Signals[i]
		told = Told{Changed: s.Changed, Rule: i}
		switch {
		case m.Medium == BySyslog && s.See != nil:
			if s.Program != nil && !s.Program.MatchString(m.Name) {
				continue
			}
			found := s.See.FindStringSubmatch(m.Text)
			if found == nil {
				continue
			}
			for g, name := range s.See.SubexpNames() {
				switch name {
				case "account":
					told.Account = found[g]
				case "source":
					told.Source = found[g]
				case "method":
					told.Method = found[g]
				}
			}
		case m.Medium == ByTrap && s.Trap != "" && below(m.Name, s.Trap):
			told.Account, told.Source, told.Method = m.below(s.Account), m.below(s.Source), m.below(s.Method)
		case m.Medium == ByNotification && s.Notification == m.Name:
			told.Account, told.Source, told.Method = m.Values[s.Account], m.Values[s.Source], m.Values[s.Method]
		default:
			continue
		}
		told.Account, told.Source, told.Method = bounded(told.Account), bounded(told.Source), bounded(told.Method)
		return told, true
	}
	return Told{}, false
}

func bounded(s string) string {
	s = strings.Join(strings.Fields(strings.ToValidUTF8(s, "\ufffd")), " ")
	if len(s) > maxSaid {
		s = strings.ToValidUTF8(s[:maxSaid], "")
	}
	return s
}

// below reports whether an object identifier is another one or stands below it.
func below(id, under string) bool {
	rest, ok := strings.CutPrefix(id, under)
	return ok && (rest == "" || rest[0] == '.')
}

// below is the value of the first object below an identifier.
func (m *Message) below(under string) string {
	if under == "" {
		return ""
	}
	var found []string
	for id := range m.Values {
		if below(id, under) {
			found = append(found, id)
		}
	}
	if len(found) == 0 {
		return ""
	}
	return m.Values[slices.Min(found)]
}

// Question is a cheap question whose answer is another one after a change: either
// the first group of Match in the answer that the conversation keeps as After, or
// an SNMP object.
type Question struct {
	After  string
	Match  *regexp.Regexp
	Object string
}

// Answer reads the answer from what a visit kept; "" where it holds none.
func (q *Question) Answer(kept map[string]string) string {
	if q == nil || q.Match == nil {
		return ""
	}
	if found := q.Match.FindStringSubmatch(kept[q.After]); found != nil {
		return bounded(found[1])
	}
	return ""
}

// fileSignal mirrors the YAML form.
type fileSignal struct {
	See, Program, Trap, Notification, Means, Account, Source, Method string
}

func (c *checker) signals(f *file, d *Dialect) {
	for i, s := range f.Signals {
		at := []string{"signals", strconv.Itoa(i)}
		kinds := 0
		for _, is := range []string{s.See, s.Trap, s.Notification} {
			if is != "" {
				kinds++
			}
		}
		if kinds != 1 {
			c.Complain(at, "exactly one of 'see', 'trap' and 'notification' says which messages it is for")
			continue
		}
		if s.See == "" && s.Program != "" {
			c.Complain(append(at, "program"), "only syslog messages have a program")
		}
		if s.See != "" && s.Account+s.Source+s.Method != "" {
			c.Complain(at, "in 'see' these are named groups: (?P<account>\\S+)")
		}
		d.Signals = append(d.Signals, Signal{
			See: c.Regexp(s.See, append(at, "see")...), Program: c.whole(s.Program, append(at, "program")...), Trap: s.Trap, Notification: s.Notification,
			Changed: s.Means != "nothing", Account: s.Account, Source: s.Source, Method: s.Method,
		})
	}
	if f.Ask == nil {
		return
	}
	q := &Question{After: f.Ask.After, Object: f.Ask.Object, Match: c.Regexp(f.Ask.Match, "ask", "match")}
	switch {
	case (q.Object != "") == (q.After != ""):
		c.Complain([]string{"ask"}, "either 'after' and 'match' or 'object' say what is asked")
	case q.Object != "":
		if q.Match != nil {
			c.Complain([]string{"ask", "match"}, "the value of an object is taken as it is")
		}
	case q.Match == nil || q.Match.NumSubexp() < 1:
		c.Complain([]string{"ask"}, "it needs a 'match' with one group ( ) around what is another one after a change")
	default:
		c.kept(f, q.After, "ask", "after")
	}
	d.Ask = q
}

// Unknown is the dialect of what has none: it only conceals what may be a secret.
func Unknown() *Dialect {
	d := &Dialect{Syntax: config.Syntax{Reader: config.Flat}}
	d.mark()
	d.shaped, d.own = pattern.NewSet(), pattern.NewSet()
	return d
}
