package form

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var small = NewSchema(`{"type": "object", "required": ["form"], "additionalProperties": false, "properties": {
	"form": {"const": 1}, "rules": {"type": "array", "items": {"type": "object", "properties": {"id": {"type": "string"}, "text": {"type": "string"}}, "additionalProperties": false}}}}`)

func TestComplaintsSayWhere(t *testing.T) {
	d, err := Read("r.yaml", "form: 1\nrules:\n  - id: a\n    texd: x\n  - id: 7\n", "rule", "form: 1", 1000)
	require.NoError(t, err)
	assert.False(t, d.Check(small))
	assert.EqualError(t, d.Err(), "r.yaml:4:5: rules.0.texd: there is no such key; there are id, text. Did you mean text?\nr.yaml:5:9: rules.1.id: it must be text, not a whole number")

	d, err = Read("r.yaml", "form: 1\nrules:\n  - text: |\n      one\n      two wrong\n", "rule", "form: 1", 1000)
	require.NoError(t, err)
	assert.True(t, d.Check(small))
	d.ComplainAt([]string{"rules", "0", "text"}, 2, 5, "what is this")
	d.Complain([]string{"rules", "1"}, "it is not there")
	assert.EqualError(t, d.Err(), "r.yaml:2:1: rules.1: it is not there\nr.yaml:5:11: rules.0.text: what is this")
}

func TestWhatIsNoFile(t *testing.T) {
	for text, says := range map[string]string{
		"":                             "the file is empty",
		"- a\n":                        "it must be a mapping",
		"a: [\n":                       "not YAML",
		"a: &x [1]\nb: *x\n":           "aliases",
		"form: 1\nlong: 0123456789012": "larger than",
	} {
		limit := 1000
		if says == "larger than" {
			limit = 10
		}
		_, err := Read("r.yaml", text, "rule", "form: 1", limit)
		assert.ErrorContains(t, err, says)
	}
}
