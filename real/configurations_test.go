//go:build real

package real

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/core/config"
	"vergekeep/core/dialect"
	"vergekeep/core/diff"
	"vergekeep/wire/git"
)

// configurations are those that FRRouting's source package has in its tests.
func configurations(t *testing.T) []string {
	t.Helper()
	out, err := exec.CommandContext(t.Context(), "../scripts/frr-configurations").Output()
	require.NoError(t, err, "FRRouting's source package could not be fetched")
	paths, err := filepath.Glob(filepath.Join(strings.TrimSpace(string(out)), "*.conf"))
	require.NoError(t, err)
	var list []string
	for _, p := range paths {
		text, err := os.ReadFile(p)
		require.NoError(t, err)
		list = append(list, string(text))
	}
	require.Greater(t, len(list), 1000)
	return list
}

// TestRealConfigurationsHoldTheProperties takes more than a thousand
// configurations that nobody wrote for us through everything that has to hold
// for any text.
func TestRealConfigurationsHoldTheProperties(t *testing.T) {
	list := configurations(t)
	set, err := dialect.Load()
	require.NoError(t, err)
	frr := set["frr"]
	require.NotNil(t, frr)
	random := rand.New(rand.NewPCG(3, 5))
	differing, shuffled := 0, 0
	for i, text := range list {
		view := frr.View(text)
		require.Equal(t, text, view.Tree.Print(), "print(parse(x)) = x")
		require.Equal(t, text, config.Parse(text, config.Guess(text)).Print())
		same := diff.Compare(view.Side(false), frr.View(text).Side(false))
		require.True(t, same.Identical())
		require.Zero(t, same.Stats)
		require.Empty(t, same.Unified("a", "b", 3))
		require.Equal(t, strings.Count(text, "\n"), strings.Count(view.Masked(), "\n"), "masking keeps lines")

		// Against the next one, and against itself with a few lines changed.
		for _, other := range []string{list[(i+1)%len(list)], touched(random, text)} {
			next := frr.View(other)
			for _, mode := range []struct{ a, b diff.Side }{{view.Side(false), next.Side(false)}, {diff.Side{Text: text}, diff.Side{Text: other}}} {
				r := diff.Compare(mode.a, mode.b)
				require.Equal(t, [2]string{text, other}, bothSides(t, r, text, other))
				s := r.Stats
				if mode.a.Structure != nil {
					require.Equal(t, view.ComparisonForm() == next.ComparisonForm(), s.Total()+s.Order+s.Layout == 0, "empty exactly when the forms are equal: %+v", s)
				} else {
					require.Equal(t, text == other, r.Identical())
				}
				if s.Total() > 0 {
					differing++
				}
			}
		}

		// Its sections in another order, where order does not count.
		if other, ok := reordered(random, view.Tree); ok && other != text {
			shuffled++
			s := diff.Compare(view.Side(false), frr.View(other).Side(false)).Stats
			require.Zero(t, s.Total(), "configuration %d: %+v", i, s)
			require.NotZero(t, s.Order+s.Layout)
		}
	}
	t.Logf("%d configurations, %d differing pairs, %d reordered", len(list), differing, shuffled)
	assert.Greater(t, differing, 1000)
	assert.Greater(t, shuffled, 300)
}

// touched is a text with a few lines taken out, doubled or changed.
func touched(random *rand.Rand, text string) string {
	lines := diff.SplitLines(text)
	for range min(len(lines), 3) {
		i := random.IntN(len(lines))
		switch random.IntN(3) {
		case 0:
			lines = slices.Delete(slices.Clone(lines), i, i+1)
		case 1:
			lines = slices.Insert(slices.Clone(lines), i, lines[i])
		default:
			lines = slices.Clone(lines)
			lines[i] = strings.TrimRight(lines[i], "\n") + " 7\n"
		}
		if len(lines) == 0 {
			break
		}
	}
	return strings.Join(lines, "")
}

// bothSides is what the rows of a difference say that the two texts are. Rows
// stand in the order of one side or the other: each says which line it shows.
func bothSides(t *testing.T, r *diff.Result, a, b string) [2]string {
	t.Helper()
	left, right := diff.SplitLines(a), diff.SplitLines(b)
	gotL, gotR := make([]string, len(left)), make([]string, len(right))
	for _, row := range r.Rows(-1) {
		if row.Left > 0 {
			gotL[row.Left-1] = row.LeftText + ending(left[row.Left-1])
		}
		if row.Right > 0 {
			gotR[row.Right-1] = row.RightText + ending(right[row.Right-1])
		}
		if row.Kind == diff.Equal {
			require.Equal(t, left[row.Left-1], right[row.Right-1])
		}
	}
	return [2]string{strings.Join(gotL, ""), strings.Join(gotR, "")}
}

func ending(line string) string { return line[len(strings.TrimRight(line, "\r\n")):] }

// reordered puts the interface and router sections of a tree in each other's
// places, if there are several and each has another heading.
func reordered(random *rand.Rand, tree *config.Tree) (string, bool) {
	var pieces []string
	var movable []int
	count := map[string]int{}
	for _, n := range tree.Children {
		count[n.Text]++
	}
	lines := diff.SplitLines(tree.Source)
	for _, n := range tree.Children {
		text := strings.Join(lines[n.Line-1:n.LastLine], "")
		once := count[n.Text] == 1
		if n.Kind == config.Section && once && strings.HasSuffix(text, "\n") && (strings.HasPrefix(n.Text, "interface ") || strings.HasPrefix(n.Text, "router ")) {
			movable = append(movable, len(pieces))
		}
		pieces = append(pieces, text)
	}
	random.Shuffle(len(movable), func(i, j int) {
		pieces[movable[i]], pieces[movable[j]] = pieces[movable[j]], pieces[movable[i]]
	})
	return strings.Join(pieces, ""), len(movable) > 1
}

// TestRealConfigurationsGoToGitAndBack makes a history of them.
func TestRealConfigurationsGoToGitAndBack(t *testing.T) {
	list := configurations(t)
	where := filepath.Join(t.TempDir(), "r")
	require.NoError(t, git.Init(t.Context(), where, true))
	at := time.Unix(1_790_000_000, 0)
	require.NoError(t, git.Add(t.Context(), where, func(yield func(git.Commit, error) bool) {
		for i, text := range list {
			when := at.Add(time.Duration(i) * time.Minute)
			if !yield(git.Commit{Path: "r1.conf", Author: fmt.Sprintf("author %d", i), At: when, Arrived: when, Title: "x", Text: []byte(text)}, nil) {
				return
			}
		}
	}))
	h, err := git.Read(t.Context(), where)
	require.NoError(t, err)
	defer func() { assert.NoError(t, h.Close()) }()
	var want []int
	for i := range list {
		if i == 0 || list[i] != list[i-1] {
			want = append(want, i)
		}
	}
	require.Len(t, h.Changes, len(want))
	for k, i := range want {
		c := h.Changes[k]
		text, err := h.Text(c, 1<<20)
		require.NoError(t, err)
		require.Equal(t, list[i], string(text))
		assert.Equal(t, fmt.Sprintf("author %d", i), c.Author)
		assert.True(t, at.Add(time.Duration(i)*time.Minute).Equal(c.At))
	}
}
