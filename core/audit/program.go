package audit

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"vergekeep/core/config"
	"vergekeep/core/dialect"
	"vergekeep/core/nearest"
	"vergekeep/core/pattern"
)

// ErrNoSyntax is wrapped where a platform's configurations cannot be asked what a
// rule asks: the rule is then not applicable to it.
var ErrNoSyntax = errors.New("the platform has no syntax for it")

// Program is the rules of policies made ready for one platform: all their patterns
// are looked for in one walk over a configuration. It is immutable.
type Program struct {
	dialect *dialect.Dialect
	rules   []ready
	open    *book // patterns of rules that look at masked text
	secret  *book // and of those that look at secrets
}

// ready is a rule as it runs on one platform.
type ready struct {
	rule  *Rule
	check *compiled
	why   string // why there is no check
}

// book is a set of patterns, each once.
type book struct {
	list  []*pattern.Pattern
	index map[string]int
	set   *pattern.Set
}

func newBook() *book { return &book{index: map[string]int{}} }

func (b *book) add(p *pattern.Pattern) int {
	if i, ok := b.index[p.String()]; ok {
		return i
	}
	i := len(b.list)
	b.list, b.index[p.String()] = append(b.list, p), i
	return i
}

// wanted is a pattern of a check with what relates it to the check's sections.
type wanted struct {
	pattern *pattern.Pattern
	source  string   // as it is written
	at      int      // in the book
	up      int      // headings between its line and the section; -1: it is not below one
	shared  []string // names that it captures and the sections do too
}

// said is a pattern for a person.
func (w *wanted) said() string {
	return strings.TrimPrefix(strings.TrimPrefix(w.source, "> "), "@")
}

// compiled is a check with its patterns and expressions understood.
type compiled struct {
	*Check
	each                   []wanted
	names                  []string // that sections capture
	has, lacks             []wanted // of where
	ifHas, ifLacks         []wanted
	require, forbid, order []wanted
	of                     *wanted // of exactly
	are                    []wanted
	count                  *wanted
	let                    map[string]wanted
	letNames               []string
	expect, where, when    *expression
	unique, key, value     *expression
	kinds                  []names
}

// names is a kind of name with where it is defined and used.
type names struct {
	kind          string
	defined, used []wanted
	always        map[string]bool
	unused        bool // what is asked: that each is used; else that each is defined
}

// relative reports whether a pattern is below the sections of for-each.
func relative(source string) bool { return strings.HasPrefix(source, "> ") }

// plain is a pattern without what only a check understands, to see whether it can
// be read at all.
func plain(source string) string {
	source = strings.TrimPrefix(source, "> ")
	return strings.TrimPrefix(source, "@")
}

// expand writes a pattern that starts with a neutral name ("@interface > mtu *")
// for a platform.
func expand(source string, d *dialect.Dialect) (string, error) {
	if !strings.HasPrefix(source, "@") {
		return source, nil
	}
	name, rest, _ := strings.Cut(source[1:], " > ")
	p := d.Names[strings.TrimSpace(name)]
	if p == nil {
		known := slices.Sorted(maps.Keys(d.Names))
		return "", fmt.Errorf("%w: its dialect maps no name %q.%s", ErrNoSyntax, name, nearest.Hint(name, known))
	}
	if rest == "" {
		return p.String(), nil
	}
	return p.String() + " > " + rest, nil
}

// compile makes a check ready for a platform.
func compile(r *Rule, c *Check, d *dialect.Dialect) (*compiled, error) {
	out := &compiled{Check: c, let: map[string]wanted{}}
	var err error
	one := func(source string) (w wanted) {
		if err != nil || source == "" {
			return w
		}
		w, err = out.want(source, d)
		return w
	}
	list := func(sources []string) (all []wanted) {
		for _, s := range sources {
			all = append(all, one(s))
		}
		return all
	}
	for _, s := range c.ForEach {
		w := one(s)
		if err != nil {
			return nil, err
		}
		out.each = append(out.each, w)
		for _, n := range w.pattern.Captures() {
			if !slices.Contains(out.names, n) {
				out.names = append(out.names, n)
			}
		}
	}
	if c.Where != nil {
		out.has, out.lacks = list(c.Where.Has), list(c.Where.Lacks)
		out.where, err = maybe(c.Where.Expect, c, err)
	}
	if c.If != nil {
		out.ifHas, out.ifLacks = list(c.If.Has), list(c.If.Lacks)
		out.when, err = maybe(c.If.Expect, c, err)
	}
	out.require, out.forbid, out.order = list(c.Require), list(c.Forbid), list(c.InOrder)
	if c.Exactly != nil {
		of := c.Exactly.Of
		if of == "" {
			of = "> **"
		}
		w := one(of)
		out.of, out.are = &w, list(c.Exactly.Are)
	}
	if c.Count != nil {
		w := one(c.Count.Of)
		out.count = &w
	}
	for name, s := range c.Let {
		out.let[name] = one(s)
	}
	out.letNames = slices.Sorted(maps.Keys(c.Let))
	out.expect, err = maybe(c.Expect, c, err)
	out.unique, err = maybe(c.Unique, c, err)
	if c.Agree != nil {
		out.key, err = maybe(c.Agree.Key, c, err)
		out.value, err = maybe(c.Agree.Value, c, err)
	}
	for _, asked := range []struct {
		kinds  []string
		unused bool
	}{{c.Undefined, false}, {c.Unused, true}} {
		for _, kind := range asked.kinds {
			found := false
			for _, ref := range d.References {
				if ref.Name != kind && kind != "any" {
					continue
				}
				found = true
				n := names{kind: ref.Name, unused: asked.unused, always: map[string]bool{}}
				for _, name := range ref.Always {
					n.always[name] = true
				}
				for _, p := range ref.Defined {
					n.defined = append(n.defined, wanted{pattern: p, source: p.String(), up: -1})
				}
				for _, p := range ref.Used {
					n.used = append(n.used, wanted{pattern: p, source: p.String(), up: -1})
				}
				out.kinds = append(out.kinds, n)
			}
			if !found && err == nil {
				err = fmt.Errorf("%w: its dialect says of no %s where it is defined and used", ErrNoSyntax, kind)
			}
		}
	}
	return out, err
}

func maybe(source string, c *Check, before error) (*expression, error) {
	if before != nil || source == "" {
		return nil, before
	}
	return newExpression(source, c.environment())
}

// want understands one pattern of a check.
func (c *compiled) want(source string, d *dialect.Dialect) (wanted, error) {
	w := wanted{source: source, up: -1}
	full := source
	if relative(source) {
		rest := source[2:]
		w.up = strings.Count(rest, " > ") + 1
		if len(c.each) == 0 {
			return w, fmt.Errorf("%q is below a section, and there is no 'for-each' that says of which", source)
		}
		if d.Syntax.Reader == config.Flat {
			return w, fmt.Errorf("%w: its lines stand below no headings; write %q as a whole line", ErrNoSyntax, source)
		}
		if len(c.each) > 1 { // under any of them: the section is looked up by its node
			full = "... > " + rest
		} else {
			full = c.each[0].pattern.String() + " > " + rest
		}
	}
	full, err := expand(full, d)
	if err != nil {
		return w, err
	}
	if w.pattern, err = pattern.Compile(full); err != nil {
		return w, err
	}
	for _, n := range w.pattern.Captures() {
		if slices.Contains(c.names, n) {
			w.shared = append(w.shared, n)
		}
	}
	return w, nil
}

// all is every pattern of a check.
func (c *compiled) all() []*wanted {
	var list []*wanted
	for _, group := range [][]wanted{c.each, c.has, c.lacks, c.ifHas, c.ifLacks, c.require, c.forbid, c.order, c.are} {
		for i := range group {
			list = append(list, &group[i])
		}
	}
	for i := range c.kinds {
		for _, group := range [][]wanted{c.kinds[i].defined, c.kinds[i].used} {
			for j := range group {
				list = append(list, &group[j])
			}
		}
	}
	for _, w := range []*wanted{c.of, c.count} {
		if w != nil {
			list = append(list, w)
		}
	}
	return list
}

// Compile makes a program of rules for a platform. A rule that has no syntax for the
// platform is part of it: it is not applicable.
func Compile(rules []*Rule, d *dialect.Dialect) *Program {
	p := &Program{dialect: d, open: newBook(), secret: newBook()}
	for _, r := range rules {
		if r.keeping != nil {
			p.rules = append(p.rules, ready{rule: r})
			continue
		}
		c := r.checkFor(d.Name)
		if c == nil {
			p.rules = append(p.rules, ready{rule: r, why: "the rule says nothing of the platform " + d.Name})
			continue
		}
		compiled, err := compile(r, c, d)
		if err != nil {
			p.rules = append(p.rules, ready{rule: r, why: err.Error()})
			continue
		}
		b := p.open
		if r.Secrets {
			b = p.secret
		}
		for _, w := range compiled.all() {
			w.at = b.add(w.pattern)
		}
		for name, w := range compiled.let {
			w.at = b.add(w.pattern)
			compiled.let[name] = w
		}
		p.rules = append(p.rules, ready{rule: r, check: compiled})
	}
	for _, b := range []*book{p.open, p.secret} {
		b.set = pattern.NewSet(b.list...)
	}
	return p
}

// Rules are the rules of the program, in their order.
func (p *Program) Rules() []*Rule {
	list := make([]*Rule, len(p.rules))
	for i, r := range p.rules {
		list[i] = r.rule
	}
	return list
}
