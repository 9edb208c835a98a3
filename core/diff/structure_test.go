package diff_test

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vergekeep/core/dialect"
	"vergekeep/core/diff"
	"vergekeep/core/pattern"
)

var loaded = sync.OnceValues(func() (dialect.Set, error) { return dialect.Load(dialect.Builtin()) })

func builtin(t testing.TB, name string) *dialect.Dialect {
	t.Helper()
	set, err := loaded()
	require.NoError(t, err)
	require.Contains(t, set, name)
	return set[name]
}

// told writes the rows that differ, a line each.
func told(rows []diff.Row) string {
	marks := map[diff.Kind]string{diff.Removed: "-", diff.Added: "+", diff.Changed: "~", diff.Moved: ">"}
	var b strings.Builder
	for _, r := range rows {
		if r.Kind == diff.Equal || r.Kind == diff.Skipped {
			continue
		}
		text := r.RightText
		if r.Right == 0 {
			text = r.LeftText
		} else if r.Kind == diff.Changed {
			text = strings.TrimSpace(r.LeftText) + " => " + strings.TrimSpace(r.RightText)
		}
		fmt.Fprintf(&b, "%s %s", marks[r.Kind], strings.Join(append(slices.Clone(r.Path), strings.TrimSpace(text)), " | "))
		if r.Kind == diff.Moved && r.Aside == "" {
			fmt.Fprintf(&b, " (%d %d)", r.Left+r.Right, r.Other)
		}
		if r.Aside != "" {
			fmt.Fprintf(&b, " [%s]", r.Aside)
		}
		b.WriteByte('\n')
	}
	return b.String()
}

func TestStructure(t *testing.T) {
	for name, c := range map[string]struct {
		dialect, left, right, want string
	}{
		"interfaces in another order": {"tidegate", "interface a\n  mtu 1\ninterface b\n  mtu 2\ntime\n  zone X\n", "interface b\n  mtu 2\ninterface a\n  mtu 3\ntime\n  zone X\n",
			"> interface a [order]\n~ interface a | mtu 1 => mtu 3\n"},
		"a value that shares no word": {"tidegate", "interface a\n  description old words here\n  mtu 1\n", "interface a\n  mtu 1\n  description quite another text\n",
			"~ interface a | description old words here => description quite another text\n"},
		"a rule that moved": {"tidegate", "access-list M\n  10 permit a\n  20 permit b\n  30 permit c\n", "access-list M\n  10 permit a\n  30 permit c\n  20 permit b\n",
			"> access-list M | 20 permit b (3 4)\n> access-list M | 20 permit b (4 3)\n"},
		"a rule that moved, flat": {"coaming", "lay system name x\nlay rules io rule 10 pass a\nlay rules io rule 20 drop b\n", "lay system name x\nlay rules io rule 20 drop b\nlay rules io rule 10 pass a\n",
			"> rules io | lay rules io rule 10 pass a (2 3)\n> rules io | lay rules io rule 10 pass a (3 2)\n"},
		"a flat section in two places": {"coaming", "lay port p1 note a\nlay list x net 1\nlay port p1 address 7\n", "lay port p1 note a\nlay port p1 address 8\nlay list x net 1\n",
			"~ port p1 | lay port p1 address 7 => lay port p1 address 8\n"},
		"a new section": {"capstan", "ports {\n    a {\n        mtu 1;\n    }\n}\n", "ports {\n    a {\n        mtu 1;\n    }\n    b {\n        mtu 1;\n    }\n}\n",
			"+ ports | b {\n+ ports | b | mtu 1;\n+ ports | b | }\n"},
		"elements in another order": {"sounder", "<router>\n <interfaces>\n  <interface>\n   <name>a</name>\n   <mtu>1</mtu>\n  </interface>\n  <interface>\n   <name>b</name>\n  </interface>\n </interfaces>\n</router>\n",
			"<router>\n <interfaces>\n  <interface>\n   <name>b</name>\n  </interface>\n  <interface>\n   <name>a</name>\n   <mtu>2</mtu>\n  </interface>\n </interfaces>\n</router>\n",
			"> router | interfaces | <interface> [order]\n~ router | interfaces | interface a | <mtu>1</mtu> => <mtu>2</mtu>\n"},
		"what changes by itself, and a secret": {"tidegate", "clock-drift 0.3\nraise secret one\naccount a level 1\n  password sealed s1\n", "clock-drift 0.4\nraise secret two\naccount a level 1\n  password sealed s2\n",
			"~ clock-drift 0.3 => clock-drift 0.4 [volatile]\n~ raise secret one => raise secret two\n~ account a level 1 | password sealed s1 => password sealed s2 [undecidable]\n"},
		"blanks":                       {"tidegate", "time\n  zone X\n\nlog\n", "time \n  zone X\nlog\n", "~ time => time [layout]\n- time |  [layout]\n"},
		"a section that became a line": {"tidegate", "time\n  zone X\nlog\n", "time\nlog\n", "- time | zone X\n"},
		"equal":                        {"tidegate", "time\n  zone X\n", "time\n  zone X\n", ""},
		"nothing on one side":          {"tidegate", "", "time\n  zone X\n", "+ time\n+ time | zone X\n"},
		"a block of text": {"tidegate", "banner login until %\n one\n two\n%\nlog\n", "banner login until %\n one\n  two\n%\nlog\n",
			"~ banner login until % | two => two\n"},
	} {
		t.Run(name, func(t *testing.T) {
			d := builtin(t, c.dialect)
			r := diff.Compare(d.View(c.left).Side(false), d.View(c.right).Side(false))
			assert.Equal(t, c.want, told(r.Rows(-1)))
		})
	}
}

func TestWhatIsExpectedIsSetAside(t *testing.T) {
	d := builtin(t, "tidegate")
	left := "name a\ninterface wan1\n  address 192.0.2.1/31\n  mtu 1500\nlan 40\n  name x\n"
	right := "name b\ninterface wan1\n  address 192.0.2.3/31\n  mtu 9000\n"
	lan, err := pattern.Compile("lan *")
	require.NoError(t, err)
	side := func(text string) diff.Side {
		v := d.View(text)
		s := v.Side(true)
		own, asked := s.Structure.Expected, dialect.Within(v.Tree, []*pattern.Pattern{lan})
		s.Structure.Expected = func(line int) bool { return own(line) || asked(line) }
		return s
	}
	r := diff.Compare(side(left), side(right))
	assert.Equal(t, diff.Stats{Changed: 1, Expected: 4}, r.Stats)
	assert.Equal(t, "~ name a => name b [expected]\n~ interface wan1 | address 192.0.2.1/31 => address 192.0.2.3/31 [expected]\n~ interface wan1 | mtu 1500 => mtu 9000\n- lan 40 [expected]\n- lan 40 | name x [expected]\n", told(r.Rows(-1)))
}

// configurations draws texts that have something of every syntax.
func configurations() *rapid.Generator[string] {
	line := rapid.SampledFrom([]string{"interface a\n", "interface b\n", "  mtu 1\n", "  mtu 2\n", "  description x y\n", "access-list M\n", "  10 permit a\n", "  20 permit b\n", "\n", " \n", "-- note\n",
		"banner login until %\n", "%\n", "clock-drift 1\n", "clock-drift 2\n", "a {\n", "  b c;\n", "}\n", "<x><y>1</y>\n", "</x>\n", "<y>2</y>\n", "raise secret s\n", "account a\n", "  password sealed t\n", "  password sealed u\n", "lay rules r rule 1 x\n", "lay rules r rule 2 x\n", "lay port p note n\n", "{\"a\": [1,\n", "2]}\n", "x"})
	return rapid.Custom(func(t *rapid.T) string { return strings.Join(rapid.SliceOfN(line, 0, 30).Draw(t, "lines"), "") })
}

var names = []string{"tidegate", "capstan", "coaming", "sounder", "restconf"}

func TestStructureHoldsEveryLineOnce(t *testing.T) {
	for _, name := range names {
		d := builtin(t, name)
		rapid.Check(t, func(t *rapid.T) {
			a, b := configurations().Draw(t, "a"), configurations().Draw(t, "b")
			r := diff.Compare(d.View(a).Side(rapid.Bool().Draw(t, "own")), d.View(b).Side(false))
			left, right := diff.SplitLines(a), diff.SplitLines(b)
			seenL, seenR := map[int]bool{}, map[int]bool{}
			for _, row := range r.Rows(-1) {
				if row.Left > 0 {
					require.False(t, seenL[row.Left], "left %d twice", row.Left)
					seenL[row.Left] = true
					require.Equal(t, strings.TrimRight(left[row.Left-1], "\r\n"), row.LeftText)
				}
				if row.Right > 0 {
					require.False(t, seenR[row.Right], "right %d twice", row.Right)
					seenR[row.Right] = true
					require.Equal(t, strings.TrimRight(right[row.Right-1], "\r\n"), row.RightText)
				}
				if row.Kind == diff.Equal {
					require.Equal(t, left[row.Left-1], right[row.Right-1])
				}
			}
			require.Len(t, seenL, len(left))
			require.Len(t, seenR, len(right))
		})
	}
}

// TestNothingDiffersExactlyWhenTheFormsAreEqual holds the structure against the
// comparison form, by which the archive decides.
func TestNothingDiffersExactlyWhenTheFormsAreEqual(t *testing.T) {
	for _, name := range names {
		d := builtin(t, name)
		rapid.Check(t, func(t *rapid.T) {
			a := configurations().Draw(t, "a")
			b := configurations().Draw(t, "b")
			if rapid.Bool().Draw(t, "near") { // a line taken out or doubled
				lines := diff.SplitLines(a)
				if len(lines) > 0 {
					i := rapid.IntRange(0, len(lines)-1).Draw(t, "i")
					n := rapid.IntRange(0, 2).Draw(t, "n")
					b = strings.Join(slices.Concat(lines[:i], slices.Repeat(lines[i:i+1], n), lines[i+1:]), "")
				}
			}
			va, vb := d.View(a), d.View(b)
			s := diff.Compare(va.Side(false), vb.Side(false)).Stats
			require.Equal(t, va.ComparisonForm() == vb.ComparisonForm(), s.Total()+s.Order+s.Layout == 0, "%+v\n%q\n%q", s, va.ComparisonForm(), vb.ComparisonForm())
		})
	}
}

// TestAnotherOrderIsToldAsThat shuffles what has no order.
func TestAnotherOrderIsToldAsThat(t *testing.T) {
	d := builtin(t, "tidegate")
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(2, 30).Draw(t, "n")
		sections := make([]string, n)
		for i := range sections {
			sections[i] = fmt.Sprintf("interface port%d\n  mtu %d\n  description desk\n", i, i%3)
		}
		other := rapid.Permutation(sections).Draw(t, "order")
		r := diff.Compare(d.View(strings.Join(sections, "")).Side(false), d.View(strings.Join(other, "")).Side(false))
		require.Zero(t, r.Stats.Total())
		require.Equal(t, slices.Equal(sections, other), r.Stats.Order == 0)
		require.Equal(t, slices.Equal(sections, other), r.Identical())
	})
}

// TestThePairsThatStayAreAsManyAsCanBe moves one rule of a list.
func TestThePairsThatStayAreAsManyAsCanBe(t *testing.T) {
	d := builtin(t, "coaming")
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(2, 40).Draw(t, "n")
		rules := make([]string, n)
		for i := range rules {
			rules[i] = fmt.Sprintf("lay rules in rule %d pass from office to any\n", i*10)
		}
		from, to := rapid.IntRange(0, n-1).Draw(t, "from"), rapid.IntRange(0, n-1).Draw(t, "to")
		moved := slices.Insert(slices.Delete(slices.Clone(rules), from, from+1), to, rules[from])
		r := diff.Compare(d.View(strings.Join(rules, "")).Side(false), d.View(strings.Join(moved, "")).Side(false))
		want := diff.Stats{Moved: 1}
		if from == to {
			want = diff.Stats{}
		}
		require.Equal(t, want, r.Stats)
	})
}

func FuzzStructure(f *testing.F) {
	f.Add("interface a\n mtu 1\n", "interface a\n mtu 2\n", uint8(0))
	f.Add("<a><b/></a>", "<a>\n<b>1</b></a>\n", uint8(3))
	f.Add("{\"a\":{\"b\":[1,2]}}", "{\"a\":{\"b\":[2,1]}}", uint8(4))
	f.Fuzz(func(t *testing.T, a, b string, which uint8) {
		d := builtin(t, names[int(which)%len(names)])
		r := diff.Compare(d.View(a).Side(true), d.View(b).Side(true))
		lines := 0
		for _, row := range r.Rows(-1) {
			if row.Left > 0 {
				lines++
			}
			if row.Right > 0 {
				lines++
			}
		}
		if want := len(diff.SplitLines(a)) + len(diff.SplitLines(b)); lines != want {
			t.Fatalf("%d lines instead of %d", lines, want)
		}
	})
}
