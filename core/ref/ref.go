// Package ref reads refs: the one way in which every command, call and page
// names a configuration.
//
//	ref       = file | device [ ":" datastore [ "/" part ] ] [ "@" point ] ;
//	file      = a path that starts with "." or has a "/" before any ":" ;
//	device    = name | '"' name '"' ;
//	datastore = "running" | "startup" | "candidate" ;
//	part      = name ;
//	point     = number | "-" number | "baseline" | "live" | "standard"
//	          | date [ "T" time ] | duration | moment ;
//	duration  = number ( "m" | "h" | "d" | "w" ) ;
//	moment    = name ;
//
// A name is letters and digits of any script, blanks inside, and . _ - + ( ).
// The same grammar is published in docs/refs.md.
package ref

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"vergekeep/core/nearest"
)

// Datastores lists the names of the datastores of RFC 6241 and RFC 8342 that a
// ref can name; the first one is meant where none is named.
var Datastores = []string{"running", "startup", "candidate"}

// Kind says how a point is given.
type Kind int

// The kinds of point.
const (
	Latest   Kind = iota // nothing said
	Number               // @12: revision 12
	Back                 // @-1: so many before the latest
	Baseline             // @baseline
	Live                 // @live: captured now
	Standard             // @standard: rendered from its standard
	Time                 // @2026-11-20: in force at that time
	Ago                  // @36h: in force so long ago
	Moment               // @name: a moment that was given a name
)

// Point is a place in the history of a configuration.
type Point struct {
	Kind   Kind
	Number int           // of Number and Back
	Time   time.Time     // of Time
	Ago    time.Duration // of Ago
	Name   string        // of Moment
}

// Ref names one configuration.
type Ref struct {
	File      string // a path; the other fields are then empty
	Device    string
	Datastore string // "running" where none is given
	Part      string
	Point     Point
}

// ErrSyntax is wrapped by every error of [Parse].
var ErrSyntax = errors.New("not a ref")

// MaxLength is how long a ref may be, in bytes.
const MaxLength = 1024

// Parse reads a ref. Times without a zone are in loc.
func Parse(s string, loc *time.Location) (Ref, error) {
	bad := func(format string, args ...any) (Ref, error) {
		return Ref{}, fmt.Errorf("%w: %q: %s", ErrSyntax, clip(s), fmt.Sprintf(format, args...))
	}
	switch {
	case s == "":
		return bad("it is empty; write a device name or a file path such as ./device.cfg")
	case len(s) > MaxLength:
		return bad("it is longer than %d bytes", MaxLength)
	case !utf8.ValidString(s) || strings.ContainsRune(s, 0):
		return bad("it is not UTF-8 text")
	}
	if isFile(s) {
		return Ref{File: s}, nil
	}
	r := Ref{Datastore: Datastores[0]}
	rest := s
	if strings.HasPrefix(rest, `"`) {
		name, after, ok := strings.Cut(rest[1:], `"`)
		if !ok {
			return bad("the quoted name has no closing quote")
		}
		r.Device, rest = name, after
		if rest != "" && rest[0] != ':' && rest[0] != '@' {
			return bad("after the quoted name only : or @ can stand")
		}
	} else if i := strings.IndexAny(rest, ":@"); i >= 0 {
		r.Device, rest = rest[:i], rest[i:]
	} else {
		r.Device, rest = rest, ""
	}
	if err := CheckName(r.Device); err != nil {
		return bad("the device name %v", err)
	}
	rest, point, hasPoint := strings.Cut(rest, "@")
	if strings.HasPrefix(rest, ":") {
		store, part, hasPart := strings.Cut(rest[1:], "/")
		if !isDatastore(store) {
			return bad("%q is no datastore; there are %s.%s", store, strings.Join(Datastores, ", "), nearest.Hint(store, Datastores))
		}
		r.Datastore = store
		if hasPart {
			if err := CheckName(part); err != nil {
				return bad("the part %v", err)
			}
			r.Part = part
		}
	}
	if hasPoint {
		p, err := ParsePoint(point, loc)
		if err != nil {
			return bad("%v", err)
		}
		r.Point = p
	}
	return r, nil
}

// String writes the ref in the form that Parse reads.
func (r Ref) String() string {
	if r.File != "" {
		return r.File
	}
	var b strings.Builder
	if strings.ContainsAny(r.Device, " \t") {
		b.WriteString(`"` + r.Device + `"`)
	} else {
		b.WriteString(r.Device)
	}
	if r.Datastore != Datastores[0] || r.Part != "" {
		b.WriteString(":" + r.Datastore)
		if r.Part != "" {
			b.WriteString("/" + r.Part)
		}
	}
	if p := r.Point.String(); p != "" {
		b.WriteString("@" + p)
	}
	return b.String()
}

// String is the point without its @; "" for the latest.
func (p Point) String() string {
	switch p.Kind {
	case Number:
		return strconv.Itoa(p.Number)
	case Back:
		return "-" + strconv.Itoa(p.Number)
	case Baseline:
		return "baseline"
	case Live:
		return "live"
	case Standard:
		return "standard"
	case Time:
		return p.Time.Format(time.RFC3339Nano)
	case Ago:
		return strconv.FormatInt(int64(p.Ago/time.Minute), 10) + "m"
	case Moment:
		return p.Name
	}
	return ""
}

// CheckName says what is wrong with the name of a device, site, group or part.
func CheckName(name string) error {
	if name == "" {
		return errors.New("is missing")
	}
	if len(name) > 200 {
		return errors.New("is longer than 200 bytes")
	}
	if name != strings.TrimSpace(name) {
		return fmt.Errorf("%q has blanks at an end; take them away", name)
	}
	if strings.HasPrefix(name, ".") || strings.HasPrefix(name, "-") {
		return fmt.Errorf("%q starts with %q; start with a letter or a digit", name, name[:1])
	}
	for _, c := range name {
		if !unicode.IsLetter(c) && !unicode.IsDigit(c) && !unicode.IsMark(c) && !strings.ContainsRune(" ._-+()", c) {
			return fmt.Errorf("%q holds %q; allowed are letters, digits, blanks inside and . _ - + ( )", clip(name), c)
		}
	}
	return nil
}

func isFile(s string) bool {
	if strings.HasPrefix(s, ".") {
		return true
	}
	if strings.HasPrefix(s, `"`) {
		return false
	}
	slash, colon := strings.IndexByte(s, '/'), strings.IndexByte(s, ':')
	at := strings.IndexByte(s, '@')
	return slash >= 0 && (colon < 0 || slash < colon) && (at < 0 || slash < at)
}

func isDatastore(s string) bool {
	for _, d := range Datastores {
		if s == d {
			return true
		}
	}
	return false
}

// layouts are the forms of a time, longest first.
var layouts = []string{time.RFC3339Nano, "2006-01-02T15:04:05", "2006-01-02T15:04", "2006-01-02"}

var units = map[byte]time.Duration{'m': time.Minute, 'h': time.Hour, 'd': 24 * time.Hour, 'w': 7 * 24 * time.Hour}

var words = map[string]Kind{"baseline": Baseline, "live": Live, "standard": Standard}

// ParsePoint reads what stands behind the @ of a ref. Times without a zone are
// in loc.
func ParsePoint(s string, loc *time.Location) (Point, error) {
	if s == "" {
		return Point{}, errors.New("nothing follows the @; write a revision number, -1, a time or live")
	}
	if k, ok := words[s]; ok {
		return Point{Kind: k}, nil
	}
	if n, ok := number(s); ok {
		if n == 0 {
			return Point{}, errors.New("revisions are numbered from 1")
		}
		return Point{Kind: Number, Number: n}, nil
	}
	if n, ok := number(strings.TrimPrefix(s, "-")); ok && s[0] == '-' {
		if n == 0 {
			return Point{}, errors.New("@-0 is the latest; leave it out")
		}
		return Point{Kind: Back, Number: n}, nil
	}
	if unit, ok := units[s[len(s)-1]]; ok {
		if n, ok := number(s[:len(s)-1]); ok {
			if n > int((200*365*24*time.Hour)/unit) {
				return Point{}, fmt.Errorf("%q is too long ago", s)
			}
			return Point{Kind: Ago, Ago: time.Duration(n) * unit}, nil
		}
	}
	if s[0] >= '0' && s[0] <= '9' {
		for _, layout := range layouts {
			if t, err := time.ParseInLocation(layout, s, loc); err == nil {
				return Point{Kind: Time, Time: t}, nil
			}
		}
	}
	if err := CheckName(s); err != nil {
		return Point{}, fmt.Errorf("%q is no point: write a revision number, -1, live, or a time such as 2026-11-20 or 2026-11-20T02:00", s)
	}
	return Point{Kind: Moment, Name: s}, nil
}

// number reads a plain decimal number of at most nine digits.
func number(s string) (int, bool) {
	if s == "" || len(s) > 9 {
		return 0, false
	}
	for i := range len(s) {
		if s[i] < '0' || s[i] > '9' {
			return 0, false
		}
	}
	n, err := strconv.Atoi(s)
	return n, err == nil
}

func clip(s string) string {
	if len(s) <= 80 {
		return s
	}
	return strings.ToValidUTF8(s[:80], "") + "…"
}
