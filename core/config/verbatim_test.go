package config

import (
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestLiteralStartNeverRulesOutAMatch(t *testing.T) {
	for expr, start := range map[string]string{
		`^banner \S+ until (\S+)$`: "banner ", `^ab?c`: "a", `^ab|cd`: "", `banner`: "", `^(?i)banner`: "", `^x+`: "", `^note: `: "note", `^text`: "text", `^`: "",
	} {
		assert.Equal(t, start, literalStart(regexp.MustCompile(expr)), expr)
	}
}
