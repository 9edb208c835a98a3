package report

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/core/audit"
)

func found() *Audit {
	return &Audit{
		Sentence: "94 % of what was asked holds; 1 finding on 1 device.", Made: time.Date(2026, 11, 26, 9, 0, 0, 0, time.UTC), By: "lead",
		Tables: []Scores{{By: "site", Rows: []Score{{Name: "Northgate", Passed: 9, Failed: 1, Share: 0.9, Before: -1}, {Name: "Ness <Point>", Passed: 999, Failed: 1, Share: 0.999, Before: 1}}}},
		Rules: []AuditRule{{Name: "p/r", Title: "=1+1 <b>", Severity: "high", Controls: "x AC-1", Fixes: []Fix{{"", "Mend it."}, {"tidegate", "edit\n  ssh\n"}},
			Places: []AuditPlace{{Device: "ng-acc-1", Site: "Northgate", Since: time.Date(2026, 11, 20, 2, 10, 0, 0, time.UTC), Came: "by change #7 of noc", Proofs: []audit.Proof{{Line: 5, Path: []string{"access"}, Text: "telnet", Says: "must not be there"}, {Says: "lacks ssh"}}, More: 3}}}},
	}
}

func TestReportsOfAudits(t *testing.T) {
	var page, paper, table bytes.Buffer
	require.NoError(t, found().HTML(&page))
	for _, want := range []string{"Ness &lt;Point&gt;", "=1&#43;1 &lt;b&gt;", "line 5 in access: telnet  — must not be there", "What to type on tidegate", "99 %", "and 3 more", "by change #7 of noc"} {
		assert.Contains(t, page.String(), want)
	}
	require.NoError(t, found().PDF(&paper))
	assert.True(t, strings.HasPrefix(paper.String(), "%PDF-"))
	require.NoError(t, found().CSV(&table))
	rows, err := csv.NewReader(&table).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 3, "a line a place")
	assert.Equal(t, "'=1+1 <b>", rows[1][1], "a spreadsheet computes nothing of it")
	assert.Equal(t, []string{"5", "access", "telnet", "must not be there"}, rows[1][11:])
}

func TestPipelineForms(t *testing.T) {
	list := []Audited{
		{File: "a.cfg", Name: "p/r", Title: "R", Severity: audit.High, Outcome: audit.Fail, Why: "2 places", Proofs: []audit.Proof{{Line: 5, LastLine: 5, Says: "x\x01"}, {Says: "y"}}, Help: "h"},
		{File: "a.cfg", Name: "p/s", Title: "S", Severity: audit.Low, Outcome: audit.Pass},
		{File: "b.cfg", Name: "p/r", Title: "R", Severity: audit.High, Outcome: audit.Undecidable, Why: "who knows"},
		{File: "b.cfg", Name: "p/s", Title: "S", Severity: audit.Low, Outcome: audit.NotApplicable, Why: "no"},
	}
	data, err := SARIF(list, "1")
	require.NoError(t, err)
	var log struct {
		Runs []struct {
			Tool struct {
				Driver struct{ Rules []struct{ ID string } }
			}
			Results []struct {
				RuleIndex   int
				Kind, Level string
				Locations   []struct {
					PhysicalLocation struct{ Region *struct{ StartLine int } }
				}
			}
		}
	}
	require.NoError(t, json.Unmarshal(data, &log))
	run := log.Runs[0]
	require.Len(t, run.Tool.Driver.Rules, 2)
	require.Len(t, run.Results, 5)
	assert.Equal(t, 5, run.Results[0].Locations[0].PhysicalLocation.Region.StartLine)
	assert.Nil(t, run.Results[1].Locations[0].PhysicalLocation.Region)
	var kinds []string
	for _, r := range run.Results {
		kinds = append(kinds, r.Kind+" "+r.Level)
	}
	assert.Equal(t, []string{"fail error", "fail error", "pass none", "open none", "notApplicable none"}, kinds)

	for file, uri := range map[string]string{"np acc%2.cfg": "np%20acc%252.cfg", `backup\np.cfg`: "backup/np.cfg", "a:b.cfg": "./a:b.cfg", "/srv/a.cfg": "/srv/a.cfg"} {
		data, err := SARIF([]Audited{{File: file}}, "1")
		require.NoError(t, err)
		assert.Contains(t, string(data), `"uri": "`+uri+`"`)
	}

	data, err = JUnit(list, time.Second)
	require.NoError(t, err)
	var suites struct {
		Tests    int `xml:"tests,attr"`
		Failures int `xml:"failures,attr"`
		Errors   int `xml:"errors,attr"`
	}
	require.NoError(t, xml.Unmarshal(data, &suites), "no character that XML cannot hold")
	assert.Equal(t, [3]int{4, 1, 1}, [3]int{suites.Tests, suites.Failures, suites.Errors})
}
