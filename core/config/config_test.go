package config

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var syntaxes = map[string]Syntax{
	"indent": {Reader: Indent, Comment: []string{"--"}, Verbatim: []VerbatimRule{{regexp.MustCompile(`^banner \S+ until (\S+)$`), "${1}"}}},
	"brace":  {Reader: Brace},
	"flat":   {Reader: Flat, Comment: []string{";"}, Groups: [][]string{{"lay", "*"}, {"lay", "rules", "*"}}},
	"xml":    {Reader: XML, Keys: map[string]string{"interface": "name"}},
	"json":   {Reader: JSON},
}

// check holds what must be true of every tree.
func check(t require.TestingT, src string, syntax Syntax) {
	tree := Parse(src, syntax)
	require.Equal(t, src, tree.Print(), "printing gives back the same bytes")
	at := int32(0)
	var walk func(nodes []*Node, parent *Node)
	walk = func(nodes []*Node, parent *Node) {
		for _, n := range nodes {
			require.Same(t, parent, n.Parent)
			require.Equal(t, at, n.Head.From, "nodes leave no byte out")
			at = n.Head.To
			walk(n.Children, n)
			if n.Tail.To > n.Tail.From {
				require.Equal(t, at, n.Tail.From)
				at = n.Tail.To
			}
			require.LessOrEqual(t, n.Line, n.LastLine)
			require.LessOrEqual(t, int(n.LastLine), tree.Lines())
			tree.Words(n)
			n.Path()
		}
	}
	walk(tree.Children, nil)
	for line := 0; line <= tree.Lines()+1; line++ {
		tree.PathAt(line)
		tree.LineAt(line)
	}
}

func TestAnyTextComesBackUnchanged(t *testing.T) {
	pieces := rapid.SampledFrom([]string{"interface a\n", "  mtu 1\n", "\tx\n", "\n", "a {", "}", ";", "\"", "'", "\\", "# c\n", "/* ", "*/", "<a>", "</a>", "<b/>", "<name>x</name>",
		"<!--", "-->", "<![CDATA[", "]]>", "{\"k\": [1,", "]", ":", ",", "lay x y\n", "lay rules r rule 1\n", "; c\n", "banner m until %%\n", "%%\n", "\r\n", "\x00", "\xff", "é"})
	for name, syntax := range syntaxes {
		t.Run(name, rapid.MakeCheck(func(t *rapid.T) {
			check(t, strings.Join(rapid.SliceOfN(pieces, 0, 30).Draw(t, "pieces"), ""), syntax)
		}))
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"a\n  b\n", "a { b \"}\"; }", "<a><name>x</name></a>", `{"a": {"b": [1, "}"]}}`, "lay a b\n"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, src string) {
		for _, syntax := range syntaxes {
			check(t, src, syntax)
		}
	})
}

// outline is a tree as indented lines, for comparing.
func outline(tree *Tree) string {
	var b strings.Builder
	var walk func([]*Node, int)
	walk = func(nodes []*Node, depth int) {
		for _, n := range nodes {
			if n.Kind != Blank {
				b.WriteString(strings.Repeat(".", depth) + n.Text + "\n")
			}
			walk(n.Children, depth+1)
		}
	}
	walk(tree.Children, 0)
	return b.String()
}

func TestReaders(t *testing.T) {
	for name, c := range map[string]struct{ src, want string }{
		"indent": {"interface a\n  mtu 1\n  sub\n    deep\n\ntime\n  zone x\n", "interface a\n.mtu 1\n.sub\n..deep\ntime\n.zone x\n"},
		"brace":  {"system {\n  name x;\n  note \"a { b\";\n}\n# done\n", "system\n.name x\n.note \"a { b\"\n# done\n"},
		"flat":   {"lay system name x\nlay rules in rule 1 pass\nlay rules in rule 2 drop\n", "system\n.lay system name x\nrules in\n.lay rules in rule 1 pass\n.lay rules in rule 2 drop\n"},
		"xml":    {"<r>\n  <interface>\n    <name>wan0</name>\n    <mtu>1500</mtu>\n  </interface>\n  <off/>\n</r>\n", "r\n.interface wan0\n..name wan0\n..mtu 1500\n.off\n"},
		"json":   {"{\n  \"a\": {\n    \"b\": 1,\n    \"c\": \"x\"\n  }\n}\n", "{\n.a\n..b 1\n..c \"x\"\n"},
	} {
		t.Run(name, func(t *testing.T) { assert.Equal(t, c.want, outline(Parse(c.src, syntaxes[name]))) })
	}
}

func TestVerbatimBlockIsOneNode(t *testing.T) {
	tree := Parse("banner login until %%\n  interface fake\nend\n%%\ninterface a\n  mtu 1\n", syntaxes["indent"])
	require.Len(t, tree.Children, 2)
	assert.Equal(t, Verbatim, tree.Children[0].Kind)
	assert.EqualValues(t, 4, tree.Children[0].LastLine)
	assert.Equal(t, []string{"banner login until %%"}, tree.PathAt(3))
	assert.Equal(t, []string{"interface a"}, tree.PathAt(6))
}

func TestUnclosedIsNoticed(t *testing.T) {
	assert.Equal(t, 1, Parse("a {\n  b;\n", syntaxes["brace"]).Unclosed)
	assert.Equal(t, 1, Parse("a;\n}\n", syntaxes["brace"]).Stray)
	assert.Equal(t, 2, Parse("<a><b>", syntaxes["xml"]).Unclosed)
	assert.Zero(t, Parse("a { b { c; } }\n", syntaxes["brace"]).Unclosed)
}

func TestGuess(t *testing.T) {
	for text, want := range map[string]Reader{"": Indent, "  <a/>": XML, "{\"a\":1}": JSON, "a {\n}\n": Brace, "a\n  b {\n": Indent, "interface a\n": Indent} {
		assert.Equal(t, want, Guess(text).Reader, text)
	}
}

func TestPathsAgreeWithTheTree(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		lines := rapid.SliceOfN(rapid.SampledFrom([]string{"a\n", "  b\n", "    c\n", "  d\n", "\n", " e\n"}), 0, 20).Draw(t, "lines")
		text := strings.Join(lines, "")
		tree, lazy := Parse(text, Syntax{}), Paths(text, Syntax{})
		for i, line := range lines {
			if strings.TrimSpace(line) != "" {
				require.Equal(t, tree.PathAt(i+1), lazy(i+1), "line %d of %q", i+1, text)
			}
		}
	})
}
