//go:build real

package real

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/core/audit"
	"vergekeep/core/config"
	"vergekeep/core/derive"
	"vergekeep/core/dialect"
	"vergekeep/core/standard"
	"vergekeep/service/audits"
)

// found is what the audits of a service find on a device, by rule.
func (k *keep) found(name string) map[string]string {
	k.t.Helper()
	require.NoError(k.t, k.Audits.Work(k.t.Context()))
	list, _, err := k.Audits.Findings(k.t.Context(), audits.Filter{Selector: "name=" + name})
	require.NoError(k.t, err)
	out := map[string]string{}
	for _, f := range list {
		out[f.Name()] = f.Why
	}
	return out
}

// TestStandardsOfRealConfigurations makes a standard of each section of real
// configurations: the configuration it is of has no drift, one without one of its
// lines lacks that line, and findings point at the lines that they are about.
func TestStandardsOfRealConfigurations(t *testing.T) {
	set, err := dialect.Load()
	require.NoError(t, err)
	frr := set["frr"]
	random := rand.New(rand.NewPCG(7, 11))
	of := audit.File{Name: "x", Platform: "frr"}
	disturbed, sections := 0, 0
	for _, text := range configurations(t) {
		view := frr.View(text)
		masked := frr.Tree(view.Masked())
		for _, n := range masked.Children {
			if n.Kind != config.Section || len(n.Children) == 0 || strings.Contains(masked.Source[n.Head.From:n.Tail.To], "\t") {
				continue
			}
			piece := ""
			for line := n.Line; line <= n.LastLine; line++ {
				piece += "      " + strings.ReplaceAll(masked.LineAt(int(line)), "${", "$${") + "\n"
			}
			// A heading that stands twice is met where it stands first.
			twice := 0
			for _, m := range masked.Children {
				if m.Text == n.Text {
					twice++
				}
			}
			if twice > 1 || strings.Contains(piece, "\x01") || n.Line > 1 && strings.HasPrefix(masked.LineAt(int(n.Line)), " ") {
				continue
			}
			sections++
			s, err := standard.Parse("s.yaml", "language: 1\nstandard: s\ntitle: S\nplatform: frr\nsections:\n  - id: x\n    text: |\n"+piece, set)
			require.NoError(t, err, piece)
			r := s.Compare(standard.Input{Subject: of, View: view})
			require.Empty(t, r.Sections[0].Deviations, "%s\n%s", piece, text)
			// One of its lines goes.
			c := n.Children[random.IntN(len(n.Children))]
			if c.Kind != config.Line {
				continue
			}
			lines := strings.SplitAfter(text, "\n")
			without := strings.Join(append(append([]string{}, lines[:c.Line-1]...), lines[c.Line:]...), "")
			r = s.Compare(standard.Input{Subject: of, View: frr.View(without)})
			require.NotEmpty(t, r.Sections[0].Deviations, "%s without %q", piece, c.Text)
			disturbed++
			for _, d := range r.Sections[0].Deviations {
				if d.Have != "" {
					require.Equal(t, d.Have, strings.TrimSpace(frr.Tree(frr.View(without).Masked()).LineAt(d.Line)))
				}
			}
		}
	}
	assert.Greater(t, sections, 2000)
	assert.Greater(t, disturbed, 1500)
	t.Logf("%d sections, %d disturbed", sections, disturbed)
}

// TestADerivedStandardOfRealConfigurations derives from twenty routers with one real
// configuration, of which two have lost a line: they are the odd ones, by that line.
func TestADerivedStandardOfRealConfigurations(t *testing.T) {
	set, err := dialect.Load()
	require.NoError(t, err)
	frr := set["frr"]
	random := rand.New(rand.NewPCG(13, 17))
	tried := 0
	for _, text := range configurations(t) {
		tree := frr.Tree(text)
		var lines []*config.Node
		tree.Walk(func(n *config.Node) bool {
			if n.Kind == config.Line && n.Parent != nil && n.Line == n.LastLine {
				lines = append(lines, n)
			}
			return true
		})
		if len(lines) < 30 || tried == 40 {
			continue
		}
		tried++
		lost := map[string]string{}
		var members []derive.Member
		for i := range 20 {
			name := fmt.Sprintf("router-%02d", i)
			own := text
			if i == 4 || i == 9 {
				n := lines[random.IntN(len(lines))]
				all := strings.SplitAfter(text, "\n")
				own = strings.Join(append(append([]string{}, all[:n.Line-1]...), all[n.Line:]...), "")
				lost[name] = n.Text
			}
			members = append(members, derive.Member{Name: name, Subject: audit.File{Name: name, Platform: "frr"}, View: frr.View(own)})
		}
		draft, err := derive.From(members, frr, derive.Options{})
		require.NoError(t, err, text)
		require.LessOrEqual(t, len(draft.Odd), 2, "%s\n%+v", text, draft.Odd)
		for _, o := range draft.Odd {
			require.Contains(t, lost, o.Device, "%s\n%s\n%+v", text, draft.Text, o)
		}
	}
	assert.Greater(t, tried, 20)
}
