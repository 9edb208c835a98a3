package dialect

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// withVariants is a built-in dialect with variants behind it.
func withVariants(t *testing.T, variants string) (*Dialect, error) {
	t.Helper()
	return Parse("my.yaml", builtins(t)["tidegate"].Text+"\nvariants:\n"+variants)
}

const oldOnes = `  - name: before version 4
    version: '^[1-3]\.'
    change:
      prompts: { basic: '(?P<name>[\w.-]+): ' }
      conversation:
        states:
          running: { send: 'list configuration' }
  - name: small ones
    model: '^TG-12'
    change:
      complete: { min-lines: 2 }
`

func TestAVariantIsTheFileWithItsChanges(t *testing.T) {
	d, err := withVariants(t, oldOnes)
	require.NoError(t, err)
	for _, c := range []struct {
		plate Nameplate
		want  string
	}{
		{Nameplate{}, ""},
		{Nameplate{Model: "TG-2400", Version: "4.1.9"}, ""},
		{Nameplate{Model: "TG-2400", Version: "3.9"}, "before version 4"},
		{Nameplate{Model: "TG-1200", Version: "3.9"}, "before version 4"}, // the first that fits
		{Nameplate{Model: "TG-1200"}, "small ones"},
	} {
		assert.Equal(t, c.want, d.For(c.plate).Variant, "%+v", c.plate)
	}
	old := d.Variants[0].Dialect
	assert.Equal(t, "list configuration", old.Conversation.States["running"].Send)
	assert.Equal(t, d.Conversation.States["running"].Keep, old.Conversation.States["running"].Keep, "what it does not name stays")
	assert.NotEqual(t, "list configuration", d.Conversation.States["running"].Send, "the file itself is as it was")
	assert.Equal(t, d.Conversation.States["paging"], old.Conversation.States["paging"])
	assert.Equal(t, 2, d.Variants[1].Dialect.Complete.MinLines)
	assert.Equal(t, d.Version, old.Version)
	assert.Equal(t, d.Masked(running), old.Masked(running))
}

func TestComplaintsAboutVariants(t *testing.T) {
	for name, c := range map[string]struct{ variants, says string }{
		"for everybody":        {"  - name: a\n    change: { errors: ['^no'] }\n", "it needs a model or a version"},
		"no expression":        {"  - name: a\n    model: '('\n    change: { errors: ['^no'] }\n", "variants.0.model: not a regular expression"},
		"twice":                {oldOnes + "  - name: small ones\n    model: x\n    change: { errors: ['^no'] }\n", `there are two variants "small ones"`},
		"how text is read":     {"  - name: a\n    model: x\n    change: { syntax: { reader: brace } }\n", "syntax"},
		"secrets":              {"  - name: a\n    model: x\n    change: { secrets: [] }\n", "secrets"},
		"nothing":              {"  - name: a\n    model: x\n    change: {}\n", "variants.0.change"},
		"a state that is none": {"  - name: a\n    model: x\n    change: { conversation: { start: nowhere } }\n", `there is no state "nowhere"`},
		"another type":         {"  - name: a\n    model: x\n    change: { conversation: { states: 7 } }\n", "conversation.states"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := withVariants(t, c.variants)
			require.ErrorContains(t, err, c.says)
		})
	}
	// The complaint names the line in the variant, not the one that it lies over.
	_, err := withVariants(t, "  - name: a\n    model: x\n    change:\n      conversation:\n        start: nowhere\n")
	require.ErrorContains(t, err, fmt.Sprintf("my.yaml:%d:9: conversation.start", strings.Count(builtins(t)["tidegate"].Text, "\n")+7))
}
