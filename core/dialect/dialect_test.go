package dialect

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"vergekeep/core/form"
)

func builtins(t testing.TB) Set {
	set, err := Load()
	require.NoError(t, err)
	return set
}

func TestBuiltInDialectsAreFine(t *testing.T) {
	assert.Equal(t, []string{"capstan", "coaming", "frr", "linux-nftables", "netconf", "openvswitch", "restconf", "sounder", "tidegate"}, builtins(t).Names())
}

// TestComplaints holds faulty files in testdata/faulty; the complaints wanted
// stand in each behind "# want: ".
func TestComplaints(t *testing.T) {
	files, err := filepath.Glob("testdata/faulty/*.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, f := range files {
		t.Run(filepath.Base(f), func(t *testing.T) {
			text, err := os.ReadFile(f)
			require.NoError(t, err)
			_, err = Parse("my.yaml", string(text))
			var fault *form.Error
			require.ErrorAs(t, err, &fault)
			said := ""
			for _, c := range fault.Complaints {
				c.Column = 0 // it follows from the line
				said += c.String() + "\n"
			}
			wanted := 0
			for line := range strings.Lines(string(text)) {
				if want, ok := strings.CutPrefix(strings.TrimSpace(line), "# want: "); ok {
					wanted++
					assert.Contains(t, said, want)
				}
			}
			require.NotZero(t, wanted)
			assert.Len(t, fault.Complaints, wanted, fault.Error())
		})
	}
}

func TestAFolderReplacesABuiltInAndAFaultyFileHidesNoOther(t *testing.T) {
	good := strings.Replace(builtins(t)["capstan"].Text, "title: Capstan core routers", "title: Ours", 1)
	set, err := Load(fstest.MapFS{"capstan.yaml": {Data: []byte(good)}, "broken.yaml": {Data: []byte("format: 2\n")}})
	var fault *form.Error
	require.ErrorAs(t, err, &fault)
	assert.Equal(t, "Ours", set["capstan"].Title)
	assert.Len(t, set, 9)
}

const running = `configuration of x, changed 2026-11-20 by noc
name x
clock-drift 0.31
raise secret r4ise
account noc level 5
  password plain hunter2
account neteng level 9
  password sealed a1b2c3
agent
  community k33p read
end of configuration
`

func TestMaskedHidesEverySecretAndKeepsTheLines(t *testing.T) {
	d := builtins(t)["tidegate"]
	masked := d.Masked(running)
	for _, secret := range []string{"r4ise", "hunter2", "a1b2c3", "k33p"} {
		assert.NotContains(t, masked, secret)
	}
	assert.Contains(t, masked, "  community "+Mask+" read\n")
	assert.Equal(t, strings.Count(running, "\n"), strings.Count(masked, "\n"))
}

func TestComparisonFormLeavesOutWhatDoesNotCount(t *testing.T) {
	d := builtins(t)["tidegate"]
	other := strings.NewReplacer("2026-11-20", "2026-11-21", "0.31", "0.77", "a1b2c3", "ffffff").Replace(running)
	assert.Equal(t, d.View(running).ComparisonForm(), d.View(other).ComparisonForm())
	assert.NotEqual(t, d.View(running).ComparisonForm(), d.View(strings.Replace(running, "hunter2", "hunter3", 1)).ComparisonForm(), "a secret that is not re-salted counts")
	assert.NotEqual(t, d.View(running).ComparisonForm(), d.View(strings.Replace(running, "name x", "name y", 1)).ComparisonForm())
}

func TestSignsOfCompleteness(t *testing.T) {
	set := builtins(t)
	require.NoError(t, set["tidegate"].CheckComplete(set["tidegate"].Tree(running)))
	for text, says := range map[string]string{
		"": "it is empty",
		strings.TrimSuffix(running, "end of configuration\n"):              "without the end of a configuration",
		"name x\nend of configuration\n":                                   "does not start as",
		"configuration of x, c\nbanner m until %%\nend of configuration\n": "",
	} {
		err := set["tidegate"].CheckComplete(set["tidegate"].Tree(text))
		if says == "" {
			assert.NoError(t, err, "a verbatim block without an end hides nothing")
			continue
		}
		require.ErrorIs(t, err, ErrIncomplete)
		assert.ErrorContains(t, err, says)
	}
	assert.ErrorContains(t, set["capstan"].CheckComplete(set["capstan"].Tree("# capstan 7\na {\n  b;\n# end of x\n")), "1 sections are not closed")
	assert.ErrorIs(t, set["sounder"].CheckComplete(set["sounder"].Tree("<router x=\"\">\n<a>\n</router>\n")), ErrIncomplete)
}

func TestErrorsQuoteNothingOfAConfiguration(t *testing.T) {
	d := builtins(t)["tidegate"]
	err := d.CheckComplete(d.Tree("configuration of x, y\nraise secret r4ise\n"))
	require.Error(t, err)
	assert.NotContains(t, err.Error(), "r4ise")
}

func TestCleanTextJoinsWrappedLines(t *testing.T) {
	d := builtins(t)["coaming"]
	assert.Equal(t, "; context a of b\nlay x abcdef\n", d.CleanText("\r\n; context a of b\r\nlay x abc\\\r\n    de\\\r\n    f\r\n\r\n"))
}

// TestOurReadingOfTheSchemaIsTheLibrarys breaks the built-in dialects in many
// ways and asks a full implementation of JSON Schema what it thinks.
func TestOurReadingOfTheSchemaIsTheLibrarys(t *testing.T) {
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(SchemaText))
	require.NoError(t, err)
	compiler := jsonschema.NewCompiler()
	require.NoError(t, compiler.AddResource("dialect.schema.json", doc))
	library, err := compiler.Compile("dialect.schema.json")
	require.NoError(t, err)
	breakages := []func(string) string{
		func(s string) string { return s },
		func(s string) string { return strings.Replace(s, "format: 1", "format: 2", 1) },
		func(s string) string { return strings.Replace(s, "format: 1", "format: one", 1) },
		func(s string) string { return strings.Replace(s, "name:", "nam:", 1) },
		func(s string) string { return strings.Replace(s, "channel: ", "channel: x", 1) },
		func(s string) string { return strings.Replace(s, "start: ", "start: [x] #", 1) },
		func(s string) string { return strings.Replace(s, "closed: true", "closed: yes please", 1) },
		func(s string) string { return strings.Replace(s, "go: ", "gone: ", 1) },
		func(s string) string { return strings.Replace(s, "prompt: ", "see: x, prompt: ", 1) },
		func(s string) string { return strings.Replace(s, "from: ", "from: 3 #", 1) },
		func(s string) string { return strings.Replace(s, "datastore: running", "datastore: jogging", 1) },
		func(s string) string { return strings.Replace(s, "complete:", "complete: {}\ncompleted:", 1) },
		func(s string) string { return strings.Replace(s, "  channel: pty", "  channel: pty\n  width: 0", 1) },
		func(s string) string {
			return strings.Replace(s, "  channel: pty", "  channel: pty\n  silence: soon", 1)
		},
		func(s string) string { return s + "extra: 1\n" },
	}
	refused := 0
	for name, d := range builtins(t) {
		for i, broken := range breakages {
			var root yaml.Node
			if yaml.Unmarshal([]byte(broken(d.Text)), &root) != nil {
				continue
			}
			var plain any
			require.NoError(t, root.Decode(&plain))
			text, err := json.Marshal(plain)
			require.NoError(t, err)
			value, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
			require.NoError(t, err)
			c := &form.Document{File: "x", Root: root.Content[0]}
			theirs := library.Validate(value)
			assert.Equal(t, theirs == nil, c.Check(schema), "%s, breakage %d: %v, %v", name, i, theirs, c.Err())
			if theirs != nil {
				refused++
			}
		}
	}
	assert.Greater(t, refused, 20)
}

func FuzzParseDialect(f *testing.F) {
	for _, d := range builtins(f) {
		f.Add(d.Text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		d, err := Parse("f.yaml", text)
		var fault *form.Error
		if err != nil && !errors.As(err, &fault) {
			t.Fatalf("an error without file and line: %v", err)
		}
		if err == nil {
			d.Masked(running)
		}
	})
}

func FuzzText(f *testing.F) {
	set := builtins(f)
	f.Add(running)
	f.Fuzz(func(t *testing.T, text string) {
		for _, d := range set {
			clean := d.CleanText(text)
			_ = d.CheckComplete(d.Tree(clean))
			d.View(clean).ComparisonForm()
			if strings.Count(d.Masked(clean), "\n") != strings.Count(clean, "\n") {
				t.Fatalf("%s: masking changed the lines of %q", d.Name, clean)
			}
		}
	})
}
