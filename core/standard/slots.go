package standard

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"vergekeep/core/form"
	"vergekeep/core/selector"
)

// Slot is what may stand in a place of a standard, and where its value comes from.
// One that has no source is captured: it takes what the device has.
type Slot struct {
	Type     Type
	Min, Max float64
	Of       []string
	Match    *regexp.Regexp

	Value     string            // for all devices
	Field     string            // of the device's record: name, site, role, …
	By        string            // the field by which Table is looked up
	Table     map[string]string // by value of the field, * for all others
	PerDevice bool              // from a table with a row a device, which whoever compares has
}

// Type is what a slot's value has to be.
type Type string

// The types. All but any are one word.
const (
	Word    Type = "word"
	Address Type = "address" // IPv4 or IPv6
	Prefix  Type = "prefix"  // an address with a length
	Number  Type = "number"
	OneOf   Type = "one-of"
	Matches Type = "pattern"
	Any     Type = "any" // any words, to the end of the line
)

type fileSlot struct {
	Type      Type
	Min, Max  *float64
	Of        []string
	Match     string
	Value     *string
	Field, By string
	Table     map[string]string
	PerDevice bool `yaml:"per-device"`
}

func (f *fileSlot) slot(doc *form.Document, name string) *Slot {
	at := func(more ...string) []string { return slices.Concat([]string{"slots", name}, more) }
	if f == nil {
		return &Slot{Type: Word}
	}
	s := &Slot{Type: f.Type, Min: -1e18, Max: 1e18, Of: f.Of, Field: f.Field, By: f.By, Table: f.Table, PerDevice: f.PerDevice}
	if s.Type == "" {
		s.Type = Word
	}
	if f.Min != nil {
		s.Min = *f.Min
	}
	if f.Max != nil {
		s.Max = *f.Max
	}
	if f.Match != "" {
		if s.Match = doc.Regexp(f.Match, at("match")...); s.Match != nil {
			s.Match = regexp.MustCompile(`^(?:` + f.Match + `)$`)
		}
	}
	switch {
	case s.Type == OneOf && len(s.Of) == 0:
		doc.Complain(at(), "one-of needs 'of': the values that are well")
	case s.Type == Matches && f.Match == "":
		doc.Complain(at(), "pattern needs 'match': a regular expression for the whole value")
	case s.Min > s.Max:
		doc.Complain(at("min"), "it is more than 'max'")
	case (s.By != "") != (len(s.Table) > 0):
		doc.Complain(at(), "'by' and 'table' go together: by which field the table is looked up")
	}
	sources := 0
	for _, is := range []bool{f.Value != nil, s.Field != "", s.By != "", s.PerDevice} {
		if is {
			sources++
		}
	}
	if sources > 1 {
		doc.Complain(at(), "at most one of 'value', 'field', 'table' and 'per-device' says where its value comes from")
	}
	for key, field := range map[string]string{"field": s.Field, "by": s.By} {
		if field != "" && !slices.Contains(selector.Keys, field) {
			doc.Complain(at(key), "%q is no field of a device; there are %s", field, strings.Join(selector.Keys, ", "))
		}
	}
	if f.Value != nil {
		if s.Value = *f.Value; s.Value == "" {
			doc.Complain(at("value"), "it is empty")
		} else if err := s.Check(s.Value); err != nil {
			doc.Complain(at("value"), "%v", err)
		}
	}
	for key, v := range s.Table {
		if err := s.Check(v); err != nil {
			doc.Complain(at("table", key), "%v", err)
		}
	}
	return s
}

// Captured reports whether the slot takes what the device has.
func (s *Slot) Captured() bool {
	return s.Value == "" && s.Field == "" && s.By == "" && !s.PerDevice
}

// Check says why a value does not fit the slot.
func (s *Slot) Check(v string) error {
	if s.Type != Any && strings.ContainsAny(v, " \t\n") || v == "" {
		return fmt.Errorf("%q is not one word", v)
	}
	bare := strings.Trim(v, `"'`)
	switch s.Type {
	case Address:
		if _, err := netip.ParseAddr(bare); err != nil {
			return fmt.Errorf("%q is no address", v)
		}
	case Prefix:
		if _, err := netip.ParsePrefix(bare); err != nil {
			return fmt.Errorf("%q is no prefix, such as 192.0.2.0/24", v)
		}
	case Number:
		n, err := strconv.ParseFloat(bare, 64)
		if err != nil {
			return fmt.Errorf("%q is no number", v)
		}
		if n < s.Min || n > s.Max {
			return fmt.Errorf("%s is not within %s", v, s.span())
		}
	case OneOf:
		if !slices.Contains(s.Of, v) && !slices.Contains(s.Of, bare) {
			return fmt.Errorf("%q is none of %s", v, strings.Join(s.Of, ", "))
		}
	case Matches:
		if s.Match != nil && !s.Match.MatchString(bare) {
			return fmt.Errorf("%q does not match %s", v, s.Match)
		}
	}
	return nil
}

func (s *Slot) span() string {
	word := func(f float64) string { return strconv.FormatFloat(f, 'f', -1, 64) }
	switch {
	case s.Min == -1e18:
		return "up to " + word(s.Max)
	case s.Max == 1e18:
		return word(s.Min) + " or more"
	}
	return word(s.Min) + " to " + word(s.Max)
}

// Values is what is known of a device's slots from elsewhere: those with
// per-device.
type Values map[string]string

// given is the value of a slot that has a source. It is false where the source has
// none for this device.
func (s *Slot) given(name string, d selector.Subject, own Values) (string, bool) {
	field := func(key string) string {
		if list := d.Field(key); len(list) > 0 {
			return list[0]
		}
		return ""
	}
	v := s.Value
	switch {
	case s.Field != "":
		v = field(s.Field)
	case s.By != "":
		is := field(s.By)
		found := false
		for key, x := range s.Table {
			if strings.EqualFold(key, is) {
				v, found = x, true
			}
		}
		if !found {
			v = s.Table["*"]
		}
	case s.PerDevice:
		v = own[name]
	}
	return v, v != ""
}
