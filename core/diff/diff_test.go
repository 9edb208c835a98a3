package diff

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vergekeep/core/config"
)

// apply carries out edits, to check that they lead from a to b.
func apply(a, b []string, edits []Edit) []string {
	var out []string
	i := 0
	for _, e := range edits {
		out = append(out, a[i:e.A0]...)
		out = append(out, b[e.B0:e.B1]...)
		i = e.A1
	}
	return append(out, a[i:]...)
}

func texts() *rapid.Generator[string] {
	line := rapid.SampledFrom([]string{"a\n", "b\n", "  c 1\n", "  c 2\n", "}\n", "\n", "e f g\n", "x"})
	return rapid.Custom(func(t *rapid.T) string {
		return strings.Join(rapid.SliceOfN(line, 0, 40).Draw(t, "lines"), "")
	})
}

func TestEditsLeadFromLeftToRight(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, b := SplitLines(texts().Draw(t, "a")), SplitLines(texts().Draw(t, "b"))
		edits := Edits(a, b)
		require.Equal(t, strings.Join(b, ""), strings.Join(apply(a, b, edits), ""))
		for i := 1; i < len(edits); i++ {
			require.Greater(t, edits[i].A0, edits[i-1].A1-1)
		}
	})
}

func TestRowsHoldEveryLineOnce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, b := texts().Draw(t, "a"), texts().Draw(t, "b")
		r := Compare(side(a), side(b))
		left, right := 0, 0
		for _, row := range r.Rows(-1) {
			if row.Left > 0 {
				require.Equal(t, left+1, row.Left)
				left++
			}
			if row.Right > 0 {
				require.Equal(t, right+1, row.Right)
				right++
			}
		}
		require.Equal(t, len(SplitLines(a)), left)
		require.Equal(t, len(SplitLines(b)), right)
	})
}

// TestPatchAcceptsUnified hands the unified form to the real patch.
func TestPatchAcceptsUnified(t *testing.T) {
	patch, err := exec.LookPath("patch")
	require.NoError(t, err, "patch is needed: scripts/install installs it")
	dir := t.TempDir()
	n := 0
	rapid.Check(t, func(t *rapid.T) {
		if n++; n > 60 {
			return // a process each: enough is enough
		}
		a, b := texts().Draw(t, "a"), texts().Draw(t, "b")
		u := Compare(side(a), side(b)).Unified("a", "b", rapid.IntRange(0, 3).Draw(t, "context"))
		if u == "" {
			require.Equal(t, a, b)
			return
		}
		file := filepath.Join(dir, "a")
		require.NoError(t, os.WriteFile(file, []byte(a), 0o600))
		cmd := exec.Command(patch, "--quiet", "--no-backup-if-mismatch", file)
		cmd.Stdin = strings.NewReader(u)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s\n%s", out, u)
		got, err := os.ReadFile(file)
		if os.IsNotExist(err) {
			got = nil // patch removes a file that becomes empty
		}
		require.Equal(t, b, string(got), u)
	})
}

func side(text string) Side {
	return Side{Text: text, PathAt: config.Parse(text, config.Syntax{}).PathAt}
}

const before = `interface port1/23
  description to desk 14
  lan access 20
interface port1/24
  description to np-edge-1
  lan trunk 10,20,30
  spanning guard root
  storm-limit broadcast 1.00
access-list MGMT
  10 permit 192.0.2.0/24
  20 permit 203.0.113.0/28
  30 permit 198.51.100.7
  90 deny any
time
  server 192.0.2.1
  zone Europe/Oslo
`

const after = `interface port1/23
  description to desk 14
  lan access 20
interface port1/24
  description to np-edge-1
  lan trunk 10,20,30,99
  spanning guard root
  mirror to port1/3
access-list MGMT
  10 permit 192.0.2.0/24
  30 permit 198.51.100.7
  20 permit 203.0.113.0/28
  90 deny any
time
  server 192.0.2.66
  zone Europe/Oslo
`

func TestCompareTellsWhatAnEngineerWouldSay(t *testing.T) {
	r := Compare(side(before), side(after))
	assert.Equal(t, Stats{Added: 1, Removed: 1, Changed: 2, Moved: 1}, r.Stats)
	var said []string
	for _, row := range r.Rows(0) {
		if row.Kind != Skipped && row.Kind != Equal {
			said = append(said, string(row.Kind)+" ["+strings.Join(row.Path, "/")+"] "+strings.TrimSpace(row.LeftText)+" | "+strings.TrimSpace(row.RightText))
		}
	}
	assert.Equal(t, []string{
		"changed [interface port1/24] lan trunk 10,20,30 | lan trunk 10,20,30,99",
		"removed [interface port1/24] storm-limit broadcast 1.00 | ",
		"added [interface port1/24]  | mirror to port1/3",
		"moved [access-list MGMT] 20 permit 203.0.113.0/28 | ",
		"moved [access-list MGMT]  | 20 permit 203.0.113.0/28",
		"changed [time] server 192.0.2.1 | server 192.0.2.66",
	}, said)
	assert.Len(t, Sections(r.Rows(0)), 3)
}

func TestSameLineUnderAnotherHeadingIsNoMove(t *testing.T) {
	a := "interface port1/1\n  disabled\n  mtu 1500\ninterface port1/2\n  mtu 1600\n"
	b := "interface port1/1\n  mtu 1500\ninterface port1/2\n  disabled\n  mtu 1600\n"
	assert.Equal(t, Stats{Added: 1, Removed: 1}, Compare(side(a), side(b)).Stats)
}

func TestWholeSectionMoves(t *testing.T) {
	syntax := config.Syntax{Reader: config.Brace}
	brace := func(text string) Side { return Side{Text: text, PathAt: config.Parse(text, syntax).PathAt} }
	a := "a {\n  x 1;\n  y 2;\n}\nb {\n  x 3;\n}\nc {\n  z 1;\n}\n"
	b := "b {\n  x 3;\n}\nc {\n  z 1;\n}\na {\n  x 1;\n  y 2;\n}\n"
	s := Compare(brace(a), brace(b)).Stats
	assert.Equal(t, Stats{Moved: 4}, s, "heading, two lines, and the closing mark that goes with them")
}

func TestWhatDoesNotCountIsSetAside(t *testing.T) {
	l, r := side("changed 02:10\nname x\nsecret aaa\n"), side("changed 02:11\nname y\nsecret bbb\n")
	l.Forms = map[int]Form{1: {Volatile: true}, 3: {Text: "secret"}}
	r.Forms = map[int]Form{1: {Volatile: true}, 3: {Text: "secret"}}
	assert.Equal(t, Stats{Changed: 1, Volatile: 1, Undecidable: 1}, Compare(l, r).Stats)
}

func TestWordsUnderlineOnlyWhatChanged(t *testing.T) {
	left, right := words("  <mtu>1500</mtu>", "  <mtu>9000</mtu>")
	assert.Equal(t, []Span{{7, 11}}, left)
	assert.Equal(t, []Span{{7, 11}}, right)
}

func FuzzCompare(f *testing.F) {
	f.Add(before, after)
	f.Add("", "x")
	f.Fuzz(func(t *testing.T, a, b string) {
		r := Compare(side(a), side(b))
		lines := SplitLines(b)
		if got := strings.Join(apply(SplitLines(a), lines, r.edits), ""); got != b {
			t.Fatalf("edits lead to %q", got)
		}
		r.Rows(3)
		r.Unified("a", "b", 3)
	})
}
