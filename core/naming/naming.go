// Package naming reads and writes the names of files that hold configurations.
// A pattern is a path with fields in braces:
//
//	{device}/{date}.cfg          ng-acc-1/2026-11-20.cfg
//	{date}/{site}/{device}.txt   20261120/Northgate/ng-acc-1.txt
//	{device}_{date}_{time}*      ng-acc-1_2026-11-20_02-00.cfg
//
// The fields are device, site, address, datastore, part, date and time; "*" is
// anything within one folder or name. A date is year, month and day with "-", "."
// or nothing between them, a time hours, minutes and maybe seconds with "-", ":",
// "." or nothing.
package naming

import (
	"errors"
	"fmt"
	pathpkg "path"
	"regexp"
	"strings"
	"time"
)

// ErrPattern is wrapped where a pattern makes no sense.
var ErrPattern = errors.New("not a pattern of file names")

// Pattern is a compiled pattern.
type Pattern struct {
	source string
	fields []string // in the order of the groups of re
	re     *regexp.Regexp
}

var fields = map[string]string{
	"device": `[^/]+?`, "site": `[^/]+?`, "address": `[0-9A-Fa-f.:]+`, "datastore": `running|startup|candidate`, "part": `[^/]+?`,
	"date": `\d{4}[-.]?\d{2}[-.]?\d{2}`, "time": `\d{2}[-:.]?\d{2}(?:[-:.]?\d{2})?`,
}

// Fields are the names of the fields.
var Fields = []string{"device", "site", "address", "datastore", "part", "date", "time"}

var piece = regexp.MustCompile(`\{[^{}]*\}|\*`)

// Compile reads a pattern.
func Compile(source string) (*Pattern, error) {
	bad := func(format string, args ...any) (*Pattern, error) {
		return nil, fmt.Errorf("%w: %q: %s", ErrPattern, source, fmt.Sprintf(format, args...))
	}
	if source == "" || len(source) > 500 {
		return bad("it has to have 1 to 500 characters")
	}
	p := &Pattern{source: source}
	var re strings.Builder
	re.WriteString(`^(?:.*/)?`)
	at := 0
	seen := map[string]bool{}
	for _, m := range piece.FindAllStringIndex(source, -1) {
		re.WriteString(regexp.QuoteMeta(source[at:m[0]]))
		at = m[1]
		if source[m[0]] == '*' {
			re.WriteString(`[^/]*?`)
			continue
		}
		name := source[m[0]+1 : m[1]-1]
		expr, ok := fields[name]
		switch {
		case !ok:
			return bad("there is no field {%s}; there are %s", name, strings.Join(Fields, ", "))
		case seen[name]:
			return bad("{%s} stands twice", name)
		}
		seen[name] = true
		p.fields = append(p.fields, name)
		re.WriteString("(" + expr + ")")
	}
	if rest := source[at:]; strings.ContainsAny(rest, "{}") {
		return bad("a brace is not closed")
	} else {
		re.WriteString(regexp.QuoteMeta(rest) + "$")
	}
	if !seen["device"] && !seen["address"] {
		return bad("nothing in it says whose configuration it is; it takes {device} or {address}")
	}
	var err error
	p.re, err = regexp.Compile(re.String())
	return p, err
}

// Has reports whether the pattern has a field.
func (p *Pattern) Has(field string) bool {
	for _, f := range p.fields {
		if f == field {
			return true
		}
	}
	return false
}

// Name is what the name of a file says.
type Name struct {
	Device, Site, Address, Datastore, Part string
	At                                     time.Time // zero where the pattern has no date
}

// Read takes a path apart; slashes separate its folders. It is false where the
// path is not like the pattern, or its date is none.
func (p *Pattern) Read(path string, loc *time.Location) (Name, bool) {
	m := p.re.FindStringSubmatch(path)
	if m == nil {
		return Name{}, false
	}
	var n Name
	date, clock := "", ""
	for i, f := range p.fields {
		switch v := m[i+1]; f {
		case "device":
			n.Device = v
		case "site":
			n.Site = v
		case "address":
			n.Address = v
		case "datastore":
			n.Datastore = v
		case "part":
			n.Part = v
		case "date":
			date = digits(v)
		case "time":
			clock = digits(v)
		}
	}
	if date == "" {
		return n, true
	}
	if len(clock) == 4 {
		clock += "00"
	} else if clock == "" {
		clock = "000000"
	}
	at, err := time.ParseInLocation("20060102150405", date+clock, loc)
	n.At = at
	return n, err == nil
}

func digits(s string) string {
	return strings.Map(func(c rune) rune {
		if c < '0' || c > '9' {
			return -1
		}
		return c
	}, s)
}

// Write is the path of a name; blanks and slashes within a field become "_".
func (p *Pattern) Write(n Name) string {
	value := map[string]string{
		"device": n.Device, "site": n.Site, "address": n.Address, "datastore": n.Datastore, "part": n.Part,
		"date": n.At.Format("2006-01-02"), "time": n.At.Format("15-04-05"),
	}
	return piece.ReplaceAllStringFunc(p.source, func(f string) string {
		if f == "*" {
			return ""
		}
		return clean(value[f[1:len(f)-1]])
	})
}

func clean(v string) string {
	v = strings.NewReplacer("/", "_", "\\", "_", " ", "_", ":", "_", "\x00", "_", "\n", "_").Replace(v)
	if v == "" || v == "." || v == ".." {
		return "_"
	}
	return v
}

// Path is Write for a configuration that is kept beside others of its device:
// what the pattern has no field for, a datastore other than running or a part,
// goes before the ending, as in "hh-fw-1.guests.cfg".
func (p *Pattern) Path(n Name) string {
	path := p.Write(n)
	beforeEnding := func(word string) {
		ending := pathpkg.Ext(path)
		path = strings.TrimSuffix(path, ending) + "." + clean(word) + ending
	}
	if !p.Has("datastore") && n.Datastore != "running" && n.Datastore != "" {
		beforeEnding(n.Datastore)
	}
	if !p.Has("part") && n.Part != "" {
		beforeEnding(n.Part)
	}
	return path
}
