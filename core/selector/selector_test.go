package selector

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type device map[string][]string

func (d device) Field(key string) []string { return d[key] }

var acc = device{"name": {"ng-acc-4"}, "site": {"Northgate"}, "role": {"access"}, "label": {"lab", "poe"}, "version": {"4.1.9"}, "platform": {"tidegate"}, "serial": {""}}

func TestMatch(t *testing.T) {
	for source, want := range map[string]bool{
		"":                           true,
		"site=Northgate role=access": true,
		"site=northgate":             true,
		"site=Northgate role=core":   false,
		"role=core role=access":      true,
		"name=ng-*":                  true,
		"name=ng-acc-?":              true,
		"ng-acc-4":                   true,
		"ng-acc-5":                   false,
		"not label=lab":              false,
		"not label=core":             true,
		"label=poe not site=Dry*":    true,
		"version<4.2":                true,
		"version<4.1.10":             true,
		"version<4.1.9":              false,
		"version<=4.1.9":             true,
		"version>=4 version<5":       true,
		"version>=4.2 version<5":     false,
		`site="Northgate"`:           true,
		"serial<9":                   false,
	} {
		s, err := Parse(source)
		require.NoError(t, err, source)
		assert.Equal(t, want, s.Match(acc), source)
	}
}

func TestErrors(t *testing.T) {
	for source, says := range map[string]string{
		"siet=x": "Did you mean site?", "site=": "nothing follows site=", "not": `nothing follows "not"`, "not not site=x": "stands twice", `name="a`: "not closed",
	} {
		_, err := Parse(source)
		require.ErrorIs(t, err, ErrSyntax, source)
		assert.ErrorContains(t, err, says, source)
	}
}

func TestOfPicksExactlyThese(t *testing.T) {
	s, err := Parse(Of([]string{"Front desk", "ng-acc-4"}))
	require.NoError(t, err)
	assert.True(t, s.Match(device{"name": {"Front desk"}}))
	assert.True(t, s.Match(acc))
	assert.False(t, s.Match(device{"name": {"Front"}}))
}

func TestCompareVersions(t *testing.T) {
	ordered := []string{"", "1", "1.2", "1.2a", "1.2b", "1.10", "1.10.1", "2rc1"}
	for i := range ordered {
		for j := range ordered {
			got := CompareVersions(ordered[i], ordered[j])
			assert.Equal(t, i < j, got < 0, "%s %s", ordered[i], ordered[j])
			assert.Equal(t, i == j, got == 0, "%s %s", ordered[i], ordered[j])
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add(`site=x not "a b" version<=3`)
	f.Fuzz(func(t *testing.T, s string) {
		if sel, err := Parse(s); err == nil {
			sel.Match(acc)
		}
		if CompareVersions(s, s) != 0 {
			t.Fatal("a version differs from itself")
		}
	})
}
