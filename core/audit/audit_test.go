package audit

import (
	"io/fs"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/core/dialect"
)

func dialects(t testing.TB) dialect.Set {
	set, err := dialect.Load()
	require.NoError(t, err)
	return set
}

func TestShippedPoliciesHoldTheirExamples(t *testing.T) {
	names, err := fs.Glob(Builtin(), "*.yaml")
	require.NoError(t, err)
	require.Len(t, names, 2)
	for _, name := range names {
		text, err := fs.ReadFile(Builtin(), name)
		require.NoError(t, err)
		p, err := Parse(name, string(text))
		require.NoError(t, err)
		require.NoError(t, p.Platforms(name, dialects(t)))
		tried, err := p.Try(dialects(t))
		require.NoError(t, err)
		for _, x := range tried {
			assert.True(t, x.Good, "%s:%d: %s: is %s, not %s: %s", name, x.Example.Line, x.Rule.Name(), x.Result.Outcome, x.Example.Is, x.Result.Why)
		}
	}
}
