package audit

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Offered is what one device says for a rule that looks across devices.
type Offered struct {
	Device string // how it is named in what is said of it
	Offer
}

// Across says what becomes of a rule that looks across devices: the proofs for each
// device, by the place of what it offered. All offers have to be of this one rule.
func Across(offers []Offered) map[int]Proof {
	byKey := map[string][]int{}
	for i, o := range offers {
		byKey[o.Key] = append(byKey[o.Key], i)
	}
	bad := map[int]Proof{}
	for key, list := range byKey {
		if len(list) < 2 {
			continue
		}
		first := offers[list[0]]
		unique := first.Value == "" && first.Rule.isUnique()
		if !unique && !slices.ContainsFunc(list, func(i int) bool { return offers[i].Value != first.Value }) {
			continue
		}
		for _, i := range list {
			p := offers[i].Proof
			p.Says = clash(key, offers, list, i, unique)
			bad[i] = p
		}
	}
	return bad
}

const maxOthers = 5

// clash says what is wrong with one of several offers.
func clash(key string, offers []Offered, list []int, own int, unique bool) string {
	secret := offers[own].Rule.Secrets // then what clashes is not told
	var others []string
	for _, i := range list {
		if i == own || !unique && offers[i].Value == offers[own].Value {
			continue
		}
		o := offers[i].Device
		if !unique && !secret {
			o += fmt.Sprintf(" has %q", offers[i].Value)
		}
		if !slices.Contains(others, o) {
			others = append(others, o)
		}
	}
	slices.Sort(others)
	more := max(len(others)-maxOthers, 0)
	others = others[:len(others)-more]
	who := strings.Join(others, ", ")
	if more > 0 {
		who += fmt.Sprintf(" and %d more", more)
	}
	switch {
	case secret && unique:
		return fmt.Sprintf("what it has is on %s too", who)
	case secret:
		return fmt.Sprintf("has something else than %s", who)
	case unique:
		return fmt.Sprintf("%s is on %s too", key, who)
	}
	return fmt.Sprintf("has %q for %s; %s", offers[own].Value, key, who)
}

func (r *Rule) isUnique() bool {
	if r.general != nil && r.general.Unique != "" {
		return true
	}
	for _, c := range r.on {
		if c.Unique != "" {
			return true
		}
	}
	return false
}

// AcrossDevices reports whether a rule looks across devices.
func (r *Rule) AcrossDevices() bool {
	across := func(c *Check) bool { return c != nil && (c.Unique != "" || c.Agree != nil) }
	if across(r.general) {
		return true
	}
	for _, c := range r.on {
		if across(c) {
			return true
		}
	}
	return false
}

// Settle adds what a rule that looks across devices says of one to its result.
func (r *Result) Settle(proofs []Proof) {
	for _, p := range proofs {
		r.fail(p)
	}
	r.sum()
}

// Audited is what an audit said of one configuration.
type Audited struct {
	Device  string // how it is named in what is said of it
	Results []Result
	Offers  []Offer
}

// Together settles the rules that look across devices, among configurations that are
// audited at once.
func Together(list []Audited) {
	offers, whose := map[string][]Offered{}, map[string][]int{}
	for i, a := range list {
		for _, o := range a.Offers {
			name := o.Rule.Name()
			offers[name], whose[name] = append(offers[name], Offered{a.Device, o}), append(whose[name], i)
		}
	}
	for name, all := range offers {
		proofs := map[int][]Proof{}
		bad := Across(all)
		for _, at := range slices.Sorted(maps.Keys(bad)) {
			proofs[whose[name][at]] = append(proofs[whose[name][at]], bad[at])
		}
		for i, more := range proofs {
			slices.SortStableFunc(more, func(a, b Proof) int { return a.Line - b.Line })
			for k := range list[i].Results {
				if r := &list[i].Results[k]; r.Rule.Name() == name && r.Outcome != NotApplicable {
					r.Settle(more)
				}
			}
		}
	}
}

// AboutKeeping reports whether a rule asks how a configuration is kept, and looks at
// no text.
func (r *Rule) AboutKeeping() bool { return r.keeping != nil }
