// Package audit holds configurations against rules. Rules stand in policies, YAML
// files for people who do not program (docs/audit.md teaches how, and
// policy.schema.json describes the form): section patterns that have to be there,
// or must not, in a section or in each that matches; how many, in which order,
// nothing else; values by an expression; what has to be unique among devices, or
// the same at both ends; names that nothing defines or uses; and how a
// configuration is kept. [Parse] reads a policy, [Compile] makes a program of many
// for one platform, and [Program.Run] gives the results for one configuration, with
// the lines that prove them. The package has no clock and reads no files.
package audit

import (
	_ "embed" // the schema
	"fmt"
	"slices"
	"strconv"
	"time"

	"go.yaml.in/yaml/v3"

	"vergekeep/core/dialect"
	"vergekeep/core/form"
	"vergekeep/core/nearest"
	"vergekeep/core/pattern"
	"vergekeep/core/selector"
)

// SchemaText is the published JSON Schema of policy files.
//
//go:embed policy.schema.json
var SchemaText string

var schema = form.NewSchema(SchemaText)

// MaxSize is how large a policy file may be, in bytes.
const MaxSize = 512 << 10

// Policy is a named set of rules.
type Policy struct {
	ID, Title, Description string
	Applies                selector.Selector // devices that it is for
	Rules                  []*Rule
	Text                   string // the file itself
	Hash                   string // SHA-256 of Text, in hexadecimal
}

// Severity is how much it matters.
type Severity string

// The severities.
const (
	Low    Severity = "low"
	Medium Severity = "medium"
	High   Severity = "high"
)

// Severities are all of them, the least first.
var Severities = []Severity{Low, Medium, High}

// Rule is one thing that has to hold.
type Rule struct {
	Policy, ID       string
	Title, Rationale string
	Severity         Severity
	Controls         map[string][]string // by scheme
	Applies          selector.Selector
	Fix              map[string]string // by platform; "" for words
	Secrets          bool              // it looks at secrets: only its outcome is shown
	Line             int               // in the file
	Hash             string            // of what it says: another one is another version

	general  *Check // for every platform, with neutral names, where on has none
	on       map[string]*Check
	keeping  *Keeping
	examples []Example
}

// Name is the rule's name among all: "policy/rule".
func (r *Rule) Name() string { return r.Policy + "/" + r.ID }

// FixFor is what to do on a platform, and whether these are commands.
func (r *Rule) FixFor(platform string) (text string, commands bool) {
	if s, ok := r.Fix[platform]; ok {
		return s, true
	}
	return r.Fix[""], false
}

// Keeping is what a rule asks of how a configuration is kept.
type Keeping struct {
	What  string        // fresh, baseline, saved, judged
	Older time.Duration // of judged: changes older than that have a verdict
}

// Check is what has to hold in a configuration, as it is written in the file.
type Check struct {
	ForEach   []string `yaml:"for-each"`
	Where     *Condition
	If        *Condition
	Require   []string
	Forbid    []string
	Exactly   *Exactly
	InOrder   []string `yaml:"in-order"`
	Count     *Count
	Let       map[string]string
	Expect    string
	Says      string // what is wrong where Expect does not hold
	Unique    string
	Agree     *Agree
	Undefined []string // kinds of name that must be defined where they are used
	Unused    []string // kinds of name that must be used where they are defined
}

// Condition says where a check is about something.
type Condition struct {
	Has, Lacks []string
	Expect     string
}

// Exactly says that the lines that match Of are those that match one of Are, and
// that there is one for each of these.
type Exactly struct {
	Of  string
	Are []string
}

// Count says how many there have to be; what is nil does not matter.
type Count struct {
	Of      string
	AtLeast *int `yaml:"at-least"`
	AtMost  *int `yaml:"at-most"`
}

// Agree says that where the key is the same on several devices the value is too.
type Agree struct{ Key, Value string }

// Example is a text that must pass, or must not.
type Example struct {
	Platform, Text string
	Is             Outcome
	Line           int
}

type file struct {
	Language    int
	Policy      string
	Title       string
	Description string
	Applies     string
	Rules       []yaml.Node
}

type fileRule struct {
	ID, Title, Severity, Rationale string
	Controls                       map[string][]string
	Applies                        string
	Secrets                        bool
	Check                          *Check
	On                             map[string]*Check
	Keeping                        *struct{ What, Older string }
	Fix                            yaml.Node
	Examples                       []struct {
		Platform, Text string
		Is             Outcome
	}
}

// Parse reads a policy file. Its error is a [*form.Error]. Whether patterns and
// expressions make sense on a platform is said by [Policy.Check].
func Parse(name, text string) (*Policy, error) {
	doc, err := form.Read(name, text, "policy", "language: 1", MaxSize)
	if err != nil {
		return nil, err
	}
	if !doc.Check(schema) {
		return nil, doc.Err()
	}
	var f file
	if err := doc.Decode(&f); err != nil {
		return nil, err
	}
	p := &Policy{ID: f.Policy, Title: f.Title, Description: f.Description, Text: text, Hash: form.Hash(text)}
	p.Applies = doc.Selector(f.Applies, "applies")
	known := map[string]int{}
	for i := range f.Rules {
		at := []string{"rules", strconv.Itoa(i)}
		sub := func(more ...string) []string { return slices.Concat(at, more) }
		var fr fileRule
		if err := f.Rules[i].Decode(&fr); err != nil {
			doc.Complain(at, "%v", err)
			continue
		}
		raw, err := yaml.Marshal(&f.Rules[i])
		if err != nil {
			return nil, err
		}
		r := &Rule{Policy: p.ID, ID: fr.ID, Title: fr.Title, Severity: Severity(fr.Severity), Rationale: fr.Rationale, Controls: fr.Controls, Secrets: fr.Secrets,
			general: fr.Check, on: fr.On, Line: doc.LineOf(at...), Hash: form.Hash(string(raw))[:16]}
		if other, twice := known[r.ID]; twice {
			doc.Complain(sub("id"), "there is another rule %q, at line %d", r.ID, other)
		}
		known[r.ID] = r.Line
		r.Applies = doc.Selector(fr.Applies, sub("applies")...)
		if fr.Fix.Kind == yaml.ScalarNode {
			r.Fix = map[string]string{"": fr.Fix.Value}
		} else if err := fr.Fix.Decode(&r.Fix); err != nil {
			doc.Complain(sub("fix"), "%v", err)
		}
		if words, ok := r.Fix["words"]; ok {
			delete(r.Fix, "words")
			r.Fix[""] = words
		}
		if k := fr.Keeping; k != nil {
			r.keeping = &Keeping{What: k.What}
			if k.What == "judged" {
				older, err := time.ParseDuration(k.Older)
				if err != nil || older < 0 {
					doc.Complain(sub("keeping", "older"), "%q is no time; write for example 336h for fourteen days", k.Older)
				}
				r.keeping.Older = older
			}
		}
		for j, e := range fr.Examples {
			r.examples = append(r.examples, Example{e.Platform, e.Text, e.Is, doc.LineOf(sub("examples", strconv.Itoa(j))...)})
		}
		r.write(doc, at)
		p.Rules = append(p.Rules, r)
	}
	return p, doc.Err()
}

// write complains of patterns and expressions that can be told wrong without a
// platform.
func (r *Rule) write(doc *form.Document, at []string) {
	check := func(c *Check, at []string) {
		sub := func(more ...string) []string { return slices.Concat(at, more) }
		one := func(source string, path ...string) {
			if source == "" {
				return
			}
			if _, err := pattern.Compile(plain(source)); err != nil {
				doc.Complain(sub(path...), "%v", err)
			}
		}
		list := func(sources []string, path ...string) {
			for i, s := range sources {
				one(s, append(slices.Clone(path), strconv.Itoa(i))...)
			}
		}
		list(c.ForEach, "for-each")
		list(c.Require, "require")
		list(c.Forbid, "forbid")
		list(c.InOrder, "in-order")
		for name, cond := range map[string]*Condition{"where": c.Where, "if": c.If} {
			if cond != nil {
				list(cond.Has, name, "has")
				list(cond.Lacks, name, "lacks")
			}
		}
		if c.Exactly != nil {
			one(c.Exactly.Of, "exactly", "of")
			list(c.Exactly.Are, "exactly", "are")
		}
		if c.Count != nil {
			one(c.Count.Of, "count", "of")
		}
		for name, s := range c.Let {
			one(s, "let", name)
			if p, err := pattern.Compile(plain(s)); err == nil && !slices.Contains(p.Captures(), "value") {
				doc.Complain(sub("let", name), "it captures nothing as {value} or {value..}")
			}
		}
		env := c.environment()
		expression := func(source string, path ...string) {
			if source == "" {
				return
			}
			if _, err := newExpression(source, env); err != nil {
				doc.Complain(sub(path...), "%v", err)
			}
		}
		expression(c.Expect, "expect")
		expression(c.Unique, "unique")
		if c.Agree != nil {
			expression(c.Agree.Key, "agree", "key")
			expression(c.Agree.Value, "agree", "value")
		}
		for name, cond := range map[string]*Condition{"where": c.Where, "if": c.If} {
			if cond != nil {
				expression(cond.Expect, name, "expect")
			}
		}
		if c.Where != nil && len(c.ForEach) == 0 {
			doc.Complain(sub("where"), "it says which of the sections of 'for-each' are meant; for a whole configuration write 'if'")
		}
		if len(c.ForEach) == 0 {
			for _, s := range slices.Concat(c.Require, c.Forbid, c.InOrder) {
				if relative(s) {
					doc.Complain(at, "%q is below a section, and there is no 'for-each' that says of which", s)
				}
			}
		}
	}
	if r.general != nil {
		check(r.general, slices.Concat(at, []string{"check"}))
	}
	for platform, c := range r.on {
		check(c, slices.Concat(at, []string{"on", platform}))
	}
	if (r.general != nil || len(r.on) > 0) == (r.keeping != nil) {
		doc.Complain(at, "either 'keeping' says what has to hold, or 'check' for every platform and 'on' for those where it is otherwise")
	}
}

// Platforms complains of platforms that a policy names and nobody knows, and says
// what is wrong with it on those that are known.
func (p *Policy) Platforms(name string, known dialect.Set) error {
	doc, err := form.Read(name, p.Text, "policy", "language: 1", MaxSize)
	if err != nil {
		return err
	}
	names := known.Names()
	for i, r := range p.Rules {
		at := []string{"rules", strconv.Itoa(i)}
		for platform, c := range r.on {
			where := slices.Concat(at, []string{"on", platform})
			k, ok := known[platform]
			if !ok {
				doc.Complain(where, "there is no dialect %q.%s", platform, nearest.Hint(platform, names))
				continue
			}
			if _, err := compile(r, c, k); err != nil {
				doc.Complain(where, "%v", err)
			}
		}
		for j, e := range r.examples {
			if _, ok := known[e.Platform]; !ok {
				doc.Complain(slices.Concat(at, []string{"examples", strconv.Itoa(j), "platform"}), "there is no dialect %q.%s", e.Platform, nearest.Hint(e.Platform, names))
			}
		}
	}
	return doc.Err()
}

// checkFor is what a rule asks of a platform; nil where it has no syntax for it.
func (r *Rule) checkFor(platform string) *Check {
	if c := r.on[platform]; c != nil {
		return c
	}
	return r.general
}

func (s Severity) rank() int { return slices.Index(Severities, s) }

// Compare orders severities, the least first.
func (s Severity) Compare(t Severity) int { return s.rank() - t.rank() }

func said(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}
