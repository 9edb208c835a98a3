package search_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vergekeep/service/search"
	"vergekeep/service/shelf"
)

// TestHistoryMissesNothing puts texts and asks for pieces of them, between and
// afterwards: whoever ever had a line with the piece is found, nobody else is.
func TestHistoryMissesNothing(t *testing.T) {
	s := shelf.New(t)
	x := search.New(s.Archive, s.Fleet, s.Set, s.Now)
	run := 0
	rapid.Check(t, func(t2 *rapid.T) {
		run++
		had := map[string][]string{} // by device: all lines ever
		word := rapid.StringMatching(`[a-c]{1,4}`)
		var asked []string
		for step := range rapid.IntRange(1, 12).Draw(t2, "steps") {
			name := fmt.Sprintf("d%d-%d", run, rapid.IntRange(0, 2).Draw(t2, "device"))
			lines := rapid.SliceOfN(rapid.Map(rapid.SliceOfN(word, 1, 2), func(w []string) string { return strings.Join(w, " ") }), 0, 6).Draw(t2, "lines")
			text := strings.Join(append(lines, fmt.Sprintf("step %d", step)), "\n")
			if rapid.Bool().Draw(t2, "ends") {
				text += "\n"
			}
			s.Put(t, name, "tidegate", text)
			had[name] = append(had[name], lines...)
			if rapid.IntRange(0, 2).Draw(t2, "ask") > 0 && step < 11 {
				continue
			}
			asked = append(asked, word.Draw(t2, "word"))
			for _, piece := range asked {
				var want []string
				for name, lines := range had {
					if slices.ContainsFunc(lines, func(l string) bool { return strings.Contains(l, piece) }) {
						want = append(want, name)
					}
				}
				slices.Sort(want)
				a, err := x.Ask(t.Context(), search.Question{Text: piece, Scope: search.History, Selector: fmt.Sprintf("name=d%d-*", run)}, 1000, true)
				if err != nil {
					t2.Fatal(err)
				}
				var got []string
				for _, d := range a.Devices {
					got = append(got, d.Name)
				}
				if !slices.Equal(got, want) {
					t2.Fatalf("%q: %v instead of %v", piece, got, want)
				}
			}
		}
	})
	fresh := search.New(s.Archive, s.Fleet, s.Set, s.Now)
	for _, piece := range []string{"a", "ab", "cab a"} {
		grown := ask(t, x, search.Question{Text: piece, Scope: search.History}, true)
		built := ask(t, fresh, search.Question{Text: piece, Scope: search.History}, true)
		require.Equal(t, built.Devices, grown.Devices, "built at once or bit by bit")
	}
}
