// Package selector reads and applies the one small expression that picks
// devices.
//
//	selector = { [ "not" ] term } ;
//	term     = key ( "=" | "<" | "<=" | ">" | ">=" ) value | name ;
//	value    = word | '"' text '"' ;
//
// Terms with different keys must all hold; of several terms with the same key
// and "=" one must; "not" takes the next term away. "*" and "?" in a value match
// as in file names. "<" and its kin compare as versions do, number by number. A
// bare word is short for name=word. The empty selector picks every device.
package selector

import (
	"errors"
	"fmt"
	"sort"
	"strconv"
	"strings"
	"unicode"

	"vergekeep/core/glob"
	"vergekeep/core/nearest"
)

// Keys are the fields that a selector can ask for.
var Keys = []string{
	"name", "site", "role", "platform", "label", "group", "pair", "address", "transport", "via",
	"state", "freshness", "problem", "unsaved", "model", "serial", "version", "source", "search",
}

// Subject is what a selector is asked about. Field returns all values of a key;
// a device has several labels, for example.
type Subject interface {
	Field(key string) []string
}

// Selector is a parsed selector.
type Selector struct {
	source string
	terms  []term
}

type term struct {
	not   bool
	key   string
	op    string
	value string
}

// ErrSyntax is wrapped by every error of [Parse].
var ErrSyntax = errors.New("not a selector")

// MaxLength is how long a selector may be, in bytes.
const MaxLength = 16 << 10

// Parse reads a selector.
func Parse(s string) (Selector, error) {
	sel := Selector{source: strings.TrimSpace(s)}
	bad := func(format string, args ...any) (Selector, error) {
		return Selector{}, fmt.Errorf("%w: %s", ErrSyntax, fmt.Sprintf(format, args...))
	}
	if len(s) > MaxLength {
		return bad("it is longer than %d bytes", MaxLength)
	}
	fields, err := split(s)
	if err != nil {
		return bad("%v", err)
	}
	not := false
	for _, f := range fields {
		if f.text == "not" && !f.quoted {
			if not {
				return bad(`"not" stands twice`)
			}
			not = true
			continue
		}
		t := term{not: not, key: "name", op: "=", value: f.text}
		not = false
		if i := strings.IndexAny(f.text, "=<>"); i >= 0 && i < f.quoteAt {
			t.key, t.value = f.text[:i], f.text[i+1:]
			t.op = f.text[i : i+1]
			if t.op != "=" && strings.HasPrefix(t.value, "=") {
				t.op, t.value = t.op+"=", t.value[1:]
			}
		}
		if !known(t.key) {
			return bad("%q is no field of a device; there are %s.%s", t.key, strings.Join(Keys, ", "), nearest.Hint(t.key, Keys))
		}
		if t.value == "" {
			return bad("nothing follows %s%s", t.key, t.op)
		}
		sel.terms = append(sel.terms, t)
	}
	if not {
		return bad(`nothing follows "not"`)
	}
	return sel, nil
}

// String is the selector as written.
func (s Selector) String() string { return s.source }

// Values is what the selector compares a key with.
func (s Selector) Values(key string) []string {
	var values []string
	for _, t := range s.terms {
		if t.key == key {
			values = append(values, t.value)
		}
	}
	return values
}

// CheckLasting says why a selector cannot be kept with something that picks
// devices again and again: what a search finds is only known when it is asked.
func CheckLasting(source string) error {
	s, err := Parse(source)
	if names := s.Values("search"); len(names) > 0 {
		return fmt.Errorf("%w: search=%s can pick devices for one command, and not for good; name a group or labels instead", ErrSyntax, names[0])
	}
	return err
}

// Empty reports whether the selector picks everything because it says nothing.
func (s Selector) Empty() bool { return len(s.terms) == 0 }

// Match reports whether the selector picks d.
func (s Selector) Match(d Subject) bool {
	var wanted, found []string // keys with "=", and those of them that held
	for _, t := range s.terms {
		holds := t.holds(d)
		switch {
		case t.not:
			if holds {
				return false
			}
		case t.op != "=":
			if !holds {
				return false
			}
		default:
			wanted = append(wanted, t.key)
			if holds {
				found = append(found, t.key)
			}
		}
	}
	for _, key := range wanted {
		if !contains(found, key) {
			return false
		}
	}
	return true
}

func (t term) holds(d Subject) bool {
	for _, v := range d.Field(t.key) {
		if t.op == "=" {
			if glob.Match(strings.ToLower(t.value), strings.ToLower(v)) {
				return true
			}
			continue
		}
		if v == "" {
			continue
		}
		c := CompareVersions(v, t.value)
		if t.op[0] == '<' && c < 0 || t.op[0] == '>' && c > 0 || len(t.op) == 2 && c == 0 {
			return true
		}
	}
	return false
}

// Of writes a selector that picks exactly the devices with these names.
func Of(names []string) string {
	sorted := append([]string(nil), names...)
	sort.Strings(sorted)
	for i, n := range sorted {
		if strings.ContainsFunc(n, unicode.IsSpace) {
			n = `"` + n + `"`
		}
		sorted[i] = "name=" + n
	}
	return strings.Join(sorted, " ")
}

// CompareVersions compares a and b piece by piece: runs of digits as numbers,
// the rest as text. The result is negative, zero or positive.
func CompareVersions(a, b string) int {
	x, y := pieces(a), pieces(b)
	for i := 0; i < len(x) && i < len(y); i++ {
		n, errN := strconv.ParseUint(x[i], 10, 64)
		m, errM := strconv.ParseUint(y[i], 10, 64)
		switch {
		case errN == nil && errM == nil && n != m:
			if n < m {
				return -1
			}
			return 1
		case (errN != nil || errM != nil) && x[i] != y[i]:
			return strings.Compare(x[i], y[i])
		}
	}
	return len(x) - len(y)
}

func pieces(s string) []string {
	var out []string
	digit := false
	start := -1
	for i, c := range s {
		isDigit, isLetter := c >= '0' && c <= '9', unicode.IsLetter(c)
		if start >= 0 && (isDigit != digit || !isDigit && !isLetter) {
			out = append(out, s[start:i])
			start = -1
		}
		if start < 0 && (isDigit || isLetter) {
			start, digit = i, isDigit
		}
	}
	if start >= 0 {
		out = append(out, s[start:])
	}
	return out
}

type field struct {
	text    string
	quoteAt int // where in text the first quoted character stands
	quoted  bool
}

// split takes a selector apart at blanks; quotes hold text together.
func split(s string) ([]field, error) {
	var fields []field
	var b strings.Builder
	f, in, open := field{}, false, false
	flush := func() {
		if in {
			f.text = b.String()
			if !f.quoted {
				f.quoteAt = len(f.text)
			}
			fields = append(fields, f)
		}
		b.Reset()
		f, in = field{}, false
	}
	for _, c := range s {
		switch {
		case c == '"':
			if !f.quoted {
				f.quoted, f.quoteAt = true, b.Len()
			}
			open, in = !open, true
		case unicode.IsSpace(c) && !open:
			flush()
		default:
			b.WriteRune(c)
			in = true
		}
	}
	if open {
		return nil, errors.New("a quote is not closed")
	}
	flush()
	return fields, nil
}

func known(key string) bool { return contains(Keys, key) }

func contains(list []string, s string) bool {
	for _, x := range list {
		if x == s {
			return true
		}
	}
	return false
}
