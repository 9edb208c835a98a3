package syslog

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// What is written can be read.
func TestWhatIsWrittenCanBeRead(t *testing.T) {
	at := time.Date(2026, 11, 20, 2, 14, 7, 123_000_000, time.UTC)
	rapid.Check(t, func(t *rapid.T) {
		value, text := rapid.StringMatching(`[ -~é\\"\]]{0,40}`).Draw(t, "value"), rapid.StringMatching(`[!-~é][ -~é]{0,60}`).Draw(t, "text")
		m := Parse([]byte(Format(4, at, "keep.skerry.example", "vergekeep", "outside", "vergekeep", []Param{{"device", value}}, text)), at, time.UTC)
		assert.Equal(t, New, m.Form)
		assert.Equal(t, 13, m.Facility)
		assert.Equal(t, 4, m.Severity)
		assert.True(t, m.Sure)
		assert.True(t, at.Equal(m.Time))
		assert.Equal(t, "outside", m.ID)
		assert.Equal(t, value, m.Data["vergekeep@32473"]["device"])
		assert.Equal(t, text, m.Text)
	})
	m := Parse([]byte(Format(5, at, "", "a b", "", "vergekeep", nil, "one\ntwo")), at, time.UTC)
	assert.Equal(t, "ab", m.App)
	assert.Equal(t, "one two", m.Text)
}
