package fleet

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func fates(lines []Line) []string {
	var out []string
	for _, l := range lines {
		out = append(out, fmt.Sprintf("%d %s %s: %s", l.Line, l.Name, l.Fate, l.What))
	}
	return out
}

const list = "\ufeffName, Address ,platform,site,labels\n" +
	" ng-acc-1 ,192.0.2.11, tidegate ,Northgate,\"lab, spare\"\n" +
	"\n" +
	"Front desk switch,\"192.0.2.12, 2001:db8::12\",tidegate,Northgate,\n" +
	"ng-acc-3,192.0.2.13,tidegat,Northgate,\n" +
	"NG-ACC-1,192.0.2.14,tidegate,,\n"

func TestADryRunTellsEveryLinesFate(t *testing.T) {
	f := testFleet(t)
	lines, err := f.Take(t.Context(), Import{Text: list, DryRun: true}, "noc")
	require.NoError(t, err)
	assert.Equal(t, []string{
		"2 ng-acc-1 add: tidegate at 192.0.2.11:22",
		"4 Front desk switch add: tidegate at 192.0.2.12:22, [2001:db8::12]:22",
		`5 ng-acc-3 refuse: there is no dialect for the platform "tidegat"; there are ` + dialects(f) + `. Did you mean tidegate?`,
		"6 NG-ACC-1 refuse: line 2 has the same name",
	}, fates(lines))
	assert.Empty(t, names(t, f, ""), "a dry run does nothing")

	_, err = f.Take(t.Context(), Import{Text: list}, "noc")
	require.NoError(t, err)
	assert.Equal(t, []string{"Front desk switch", "ng-acc-1"}, names(t, f, ""))
	assert.Equal(t, []string{"ng-acc-1"}, names(t, f, "label=spare label=x"))

	lines, err = f.Take(t.Context(), Import{Text: "name;site\nng-acc-1;Northgate\nfront desk switch;Ness Point\nnew-1;x\n"}, "noc")
	require.NoError(t, err)
	assert.Equal(t, FateUnchanged, lines[0].Fate)
	assert.Equal(t, FateRefuse, lines[1].Fate, "a change has to be asked for")
	assert.Equal(t, FateRefuse, lines[2].Fate, "a new one needs an address")
	lines, err = f.Take(t.Context(), Import{Text: "name,site\nfront desk switch,Ness Point\n", Change: true}, "noc")
	require.NoError(t, err)
	assert.Equal(t, []string{"2 front desk switch change: name: Front desk switch to front desk switch; site: Northgate to Ness Point"}, fates(lines))
}

func dialects(f *Fleet) string {
	out := ""
	for i, n := range f.dialects.Names() {
		if i > 0 {
			out += ", "
		}
		out += n
	}
	return out
}

func TestYAMLAndJSONAreReadToo(t *testing.T) {
	for _, text := range []string{
		"devices:\n  - name: ng-acc-1\n    address: [192.0.2.11, sw1]\n    platform: tidegate\n    labels: [lab]\n    patience: 3\n    old-algorithms: yes\n",
		`[{"name":"ng-acc-1","address":["192.0.2.11","sw1"],"platform":"tidegate","labels":["lab"],"patience":3,"old_algorithms":true,"site":null}]`,
	} {
		f := testFleet(t)
		_, err := f.Take(t.Context(), Import{Text: text}, "noc")
		require.NoError(t, err)
		d, err := f.Get(t.Context(), "ng-acc-1")
		require.NoError(t, err)
		assert.Equal(t, []string{"192.0.2.11:22", "sw1:22"}, d.Addresses)
		assert.Equal(t, 3, d.Patience)
		assert.True(t, d.OldAlgorithms)
	}
}

func TestWhatIsNoListSaysWhereAndWhy(t *testing.T) {
	f := testFleet(t)
	for text, says := range map[string]string{
		"":                           "it is empty",
		"name\n":                     "holds no device",
		"adress,name\n1,2\n":         "Did you mean address",
		"name,name\na,b\n":           "stands twice",
		"address\n192.0.2.1\n":       "among them name",
		"name,address\na,b,c\n":      "line 2 has 3 fields",
		"name\n\"a\n":                "line",
		"- name: a\n  sight: x\n":    "no field \"sight\"",
		"- a\n":                      "line 1: a device is a list of fields",
		"- name: {a: b}\n":           "name is a word",
		"[":                          "line 1",
		"{\"name\": \"a\"}":          "must be a list",
		"name,address\n,192.0.2.1\n": "line 2 has no name",
	} {
		_, err := f.Take(t.Context(), Import{Text: text, DryRun: true}, "noc")
		require.ErrorIs(t, err, ErrImport, "%q", text)
		assert.ErrorContains(t, err, says, "%q", text)
	}
}

func TestWhatVanishesFromAnImportIsPausedNotDeleted(t *testing.T) {
	f := testFleet(t)
	take := func(text string, want ...string) {
		t.Helper()
		lines, err := f.Take(t.Context(), Import{Text: text, Source: "inventory"}, "noc")
		require.NoError(t, err)
		assert.Equal(t, want, fates(lines))
	}
	add(t, f, "by-hand", "Northgate", "")
	both := "name,address,platform\na-1,192.0.2.1,tidegate\na-2,192.0.2.2,tidegate\n"
	take(both, "2 a-1 add: tidegate at 192.0.2.1:22", "3 a-2 add: tidegate at 192.0.2.2:22")
	take(both, "2 a-1 unchanged: ", "3 a-2 unchanged: ")
	take("name,address,platform\na-1,192.0.2.9,tidegate\n", "2 a-1 change: address: 192.0.2.1:22 to 192.0.2.9:22", "0 a-2 pause: it is no longer in the import inventory")
	assert.Equal(t, []string{"a-2"}, names(t, f, "state=paused"))
	take(both, "2 a-1 change: address: 192.0.2.9:22 to 192.0.2.1:22", "3 a-2 change: state: paused to active")
	assert.Equal(t, []string{"by-hand"}, names(t, f, "not source=inventory"))

	// What somebody paused by hand stays so.
	paused := string(Paused)
	_, err := f.Edit(t.Context(), "a-1", 0, Change{State: &paused}, "noc")
	require.NoError(t, err)
	take(both, "2 a-1 unchanged: ", "3 a-2 unchanged: ")
	assert.Equal(t, []string{"a-1"}, names(t, f, "state=paused"))
}

func FuzzParseImport(f *testing.F) {
	f.Add(list)
	f.Add("- name: a\n")
	f.Fuzz(func(t *testing.T, text string) {
		records, err := parseImport(text, "")
		if err == nil && len(records) == 0 {
			t.Fatal("neither a list nor an error")
		}
	})
}
