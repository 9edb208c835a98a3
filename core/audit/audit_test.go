package audit

import (
	"errors"
	"io/fs"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/core/dialect"
	"vergekeep/core/form"
)

func dialects(t testing.TB) dialect.Set {
	set, err := dialect.Load()
	require.NoError(t, err)
	return set
}

func TestShippedPoliciesHoldTheirExamples(t *testing.T) {
	names, err := fs.Glob(Builtin(), "*.yaml")
	require.NoError(t, err)
	require.Len(t, names, 2)
	for _, name := range names {
		text, err := fs.ReadFile(Builtin(), name)
		require.NoError(t, err)
		p, err := Parse(name, string(text))
		require.NoError(t, err)
		require.NoError(t, p.Platforms(name, dialects(t)))
		tried, err := p.Try(dialects(t))
		require.NoError(t, err)
		for _, x := range tried {
			assert.True(t, x.Good, "%s:%d: %s: is %s, not %s: %s", name, x.Example.Line, x.Rule.Name(), x.Result.Outcome, x.Example.Is, x.Result.Why)
		}
	}
}

// held audits a text with rules.
func held(t testing.TB, rules, platform, text string) ([]Result, []Offer) {
	t.Helper()
	p, err := Parse("p.yaml", "language: 1\npolicy: p\ntitle: P\nrules:\n"+rules)
	require.NoError(t, err)
	require.NoError(t, p.Platforms("p.yaml", dialects(t)))
	d := dialects(t)[platform]
	of := File{Name: "ng-acc-1", Platform: platform, Fields: map[string][]string{"site": {"Northgate"}, "version": {"4.1.9"}}}
	return Compile(p.Rules, d).Run(Input{Subject: of, View: d.View(text), Main: true, Kept: &Kept{Freshness: "stale", Unsaved: true, OpenChanges: 2, OldestOpen: 10 * 86400}})
}

const access = "name ng-acc-1\nraise secret hush\naccount noc level 5\n  password plain hush\nlan 10\n  name office\nlan 20\n  name tickets\ninterface a\n  lan access 10\n  mtu 1500\n  spanning edge\ninterface b\n  lan access 30\n  mtu 9000\ninterface up\n  lan trunk 10,20\n  address 192.0.2.1/24\naccess-list M\n  10 permit any\n  90 deny any\naccess\n  idle ten\n"

func TestWhatRulesSay(t *testing.T) {
	for name, c := range map[string]struct {
		rule    string
		outcome Outcome
		why     string
		lines   []int
	}{
		"required, there":             {"check: { require: ['access-list M'] }", Pass, "", nil},
		"required, lacking":           {"check: { require: ['access-list N'] }", Fail, "lacks access-list N", []int{0}},
		"forbidden":                   {"check: { forbid: ['interface * > spanning *'] }", Fail, "must not be there", []int{12}},
		"in each section":             {"check: { for-each: ['interface {p}'], where: { has: ['> lan access *'] }, require: ['> spanning edge'] }", Fail, "lacks spanning edge", []int{13}},
		"in each, none meant":         {"check: { for-each: ['interface {p}'], where: { has: ['> shut'] }, require: ['> x'] }", NotApplicable, "nothing here that it is about", nil},
		"by a neutral name":           {"check: { for-each: ['@interface'], where: { lacks: ['> lan trunk *'] }, require: ['> mtu *'] }", Pass, "", nil},
		"no neutral name":             {"check: { require: ['@bgp'] }", NotApplicable, "maps no name", nil},
		"exactly":                     {"check: { exactly: { of: 'access-list M > **', are: ['access-list M > 10 permit any'] } }", Fail, "is one too many", []int{21}},
		"exactly in a section":        {"check: { for-each: ['access-list M'], exactly: { are: ['> 10 **', '> 20 **'] } }", Fail, "2 places: lacks 20 **", []int{19, 21}},
		"in order":                    {"check: { in-order: ['access-list M > 90 **', 'access-list M > 10 **'] }", Fail, "has to stand behind access-list M > 90 **", []int{20}},
		"too few":                     {"check: { count: { of: 'lan *', at-least: 3 } }", Fail, "has 2 of lan *; at least 3", []int{0}},
		"too many":                    {"check: { count: { of: 'interface *', at-most: 2 } }", Fail, "at most 2 may be there", []int{16}},
		"a number":                    {"check: { for-each: ['interface {p}'], let: { mtu: '> mtu {value}' }, expect: 'mtu.all(m, number(m) < 2000.0)', says: too large }", Fail, "too large", []int{15}},
		"no number":                   {"check: { let: { idle: 'access > idle {value}' }, expect: 'idle.all(i, number(i) < 15.0)' }", Undecidable, "\"ten\" is no number", nil},
		"a network":                   {"check: { let: { a: 'interface * > address {value}' }, expect: \"a.all(x, within(x, '192.0.2.0/24') && network(x) == '192.0.2.0/24' && prefix_length(x) == 24 && address(x) == '192.0.2.1')\" }", Pass, "", nil},
		"a version":                   {"check: { expect: \"older(device.version, '4.2') && device.site == 'Northgate'\" }", Pass, "", nil},
		"an expression without end":   {"check: { let: { m: '... > {value..}'}, expect: 'm.all(a, m.all(b, m.all(c, m.all(d, m.all(e, a + b + c + d + e != \"\")))))' }", Undecidable, "", nil},
		"only if":                     {"check: { if: { has: ['routing **'] }, require: ['x'] }", NotApplicable, "there is no routing **", nil},
		"a name that nothing defines": {"check: { undefined: [lan] }", Fail, "the lan 30 is used, and nothing defines it", []int{14}},
		"a name that nothing uses":    {"check: { unused: [lan, access-list] }", Fail, "2 places: the lan 20 is defined, and nothing uses it", []int{7, 19}},
		"no such kind of name":        {"check: { undefined: [group] }", NotApplicable, "says of no group", nil},
		"another platform":            {"on: { capstan: { require: ['x'] } }", NotApplicable, "says nothing of the platform tidegate", nil},
		"another device":              {"applies: role=core, check: { require: ['x'] }", NotApplicable, "not for this device", nil},
		"a secret is masked":          {"check: { forbid: ['raise secret hush', 'account ** > password plain hush'] }", Pass, "", nil},
		"what holds a secret":         {"check: { forbid: ['account ** > password plain *'] }", Fail, "must not be there", []int{4}},
		"a secret that is asked for":  {"secrets: true, check: { forbid: ['raise secret hush'] }", Fail, "must not be there", []int{2}},
		"fresh":                       {"keeping: { what: fresh }", Fail, "it is stale", []int{0}},
		"saved":                       {"keeping: { what: saved }", Fail, "was not saved", []int{0}},
		"a baseline":                  {"keeping: { what: baseline }", Fail, "no baseline", []int{0}},
		"judged":                      {"keeping: { what: judged, older: 168h }", Fail, "2 changes wait for a verdict; the oldest was found 10 days ago", []int{0}},
	} {
		t.Run(name, func(t *testing.T) {
			results, _ := held(t, "  - { id: r, title: R, severity: low, "+c.rule+" }\n", "tidegate", access)
			require.Len(t, results, 1)
			r := results[0]
			assert.Equal(t, c.outcome, r.Outcome, r.Why)
			assert.Contains(t, r.Why, c.why)
			var lines []int
			for _, p := range r.Proofs {
				lines = append(lines, p.Line)
				assert.NotContains(t, p.Text, "hush")
			}
			assert.Equal(t, c.lines, lines)
		})
	}
}

func TestAcrossDevicesNoSecretIsTold(t *testing.T) {
	rules := "  - { id: u, title: U, severity: low, secrets: true, check: { for-each: ['raise secret {s}'], unique: s } }\n  - { id: a, title: A, severity: low, secrets: true, check: { for-each: ['raise secret {s}'], agree: { key: '\"x\"', value: s } } }\n  - { id: e, title: E, severity: low, secrets: true, check: { for-each: ['raise secret {s}'], expect: 'number(s) > 1.0' } }\n"
	results, one := held(t, rules, "tidegate", access)
	_, two := held(t, rules, "tidegate", "raise secret hush-hush\n")
	assert.Equal(t, Undecidable, results[2].Outcome)
	assert.NotContains(t, results[2].Why, "hush")
	for i := range 2 {
		both := []Offered{{"a", one[i]}, {"b", one[i]}, {"c", two[i]}}
		proofs := Across(both)
		require.NotEmpty(t, proofs)
		for _, p := range proofs {
			assert.NotContains(t, p.Says+p.Text, "hush")
		}
	}
}

func TestWhatIsNoPolicy(t *testing.T) {
	head := "language: 1\npolicy: p\ntitle: P\nrules:\n"
	for name, c := range map[string]struct{ text, says string }{
		"no check":              {head + "  - { id: a, title: A, severity: low }\n", "p.yaml:5:5: rules.0: either 'keeping'"},
		"both":                  {head + "  - { id: a, title: A, severity: low, keeping: { what: fresh }, check: { require: [a] } }\n", "either 'keeping'"},
		"twice":                 {head + "  - { id: a, title: A, severity: low, check: { require: [a] } }\n  - { id: a, title: B, severity: low, check: { require: [a] } }\n", "another rule \"a\", at line 5"},
		"a pattern":             {head + "  - { id: a, title: A, severity: low, check: { require: ['{}'] } }\n", "a capture has no name"},
		"below nothing":         {head + "  - { id: a, title: A, severity: low, check: { require: ['> a'] } }\n", "no 'for-each'"},
		"where of nothing":      {head + "  - { id: a, title: A, severity: low, check: { where: { has: [a] }, require: [b] } }\n", "write 'if'"},
		"an expression":         {head + "  - { id: a, title: A, severity: low, check: { expect: 'mtu > 1' } }\n", "undeclared reference to 'mtu'"},
		"a let without a value": {head + "  - { id: a, title: A, severity: low, check: { let: { m: 'mtu *' }, expect: 'size(m) > 1' } }\n", "captures nothing as {value}"},
		"a severity":            {head + "  - { id: a, title: A, severity: grave, check: { require: [a] } }\n", "must be one of low, medium, high"},
		"a selector":            {head + "  - { id: a, title: A, severity: low, applies: rule=x, check: { require: [a] } }\n", "Did you mean role?"},
		"a platform":            {head + "  - { id: a, title: A, severity: low, on: { tidegat: { require: [a] } } }\n", "Did you mean tidegate?"},
		"a time":                {head + "  - { id: a, title: A, severity: low, keeping: { what: judged, older: long } }\n", "write for example 336h"},
	} {
		t.Run(name, func(t *testing.T) {
			p, err := Parse("p.yaml", c.text)
			if err == nil {
				err = p.Platforms("p.yaml", dialects(t))
			}
			var wrong *form.Error
			require.ErrorAs(t, err, &wrong)
			assert.ErrorContains(t, err, c.says)
		})
	}
}

func FuzzParsePolicy(f *testing.F) {
	text, err := fs.ReadFile(Builtin(), "management-plane.yaml")
	require.NoError(f, err)
	f.Add(string(text))
	f.Add("language: 1\npolicy: p\ntitle: P\nrules:\n  - { id: a, title: A, severity: low, check: { for-each: ['a {b}'], let: { c: '> d {value..}' }, expect: 'c == []' } }\n")
	set := dialects(f)
	f.Fuzz(func(t *testing.T, text string) {
		p, err := Parse("p.yaml", text)
		var wrong *form.Error
		if err != nil && !errors.As(err, &wrong) {
			t.Fatalf("an error without file and line: %v", err)
		}
		if err == nil {
			for _, d := range set {
				Compile(p.Rules, d).Run(Input{Subject: File{Name: "x", Platform: d.Name}, View: d.View(access), Main: true})
			}
		}
	})
}
