package report

import (
	"encoding/json"
	"encoding/xml"
	"fmt"
	"net/url"
	"strings"
	"time"

	"vergekeep/core/audit"
)

// Audited is what a policy or standard said of one item on one file, for review
// pipelines.
type Audited struct {
	File     string
	Name     string // policy/rule or standard/section
	Title    string
	Severity audit.Severity
	Outcome  audit.Outcome
	Why      string
	Proofs   []audit.Proof
	Help     string // rationale and fix
}

type sarifText struct {
	Text string `json:"text"`
}

// SARIF writes results in the Static Analysis Results Interchange Format (OASIS,
// version 2.1.0). Rules that hold or do not apply have results of these kinds too, so
// that a reader sees what was asked.
func SARIF(list []Audited, version string) ([]byte, error) {
	type region struct {
		StartLine int `json:"startLine"`
		EndLine   int `json:"endLine,omitempty"`
	}
	type location struct {
		Physical struct {
			Artifact struct {
				URI string `json:"uri"`
			} `json:"artifactLocation"`
			Region *region `json:"region,omitempty"`
		} `json:"physicalLocation"`
	}
	type rule struct {
		ID    string     `json:"id"`
		Short sarifText  `json:"shortDescription"`
		Help  *sarifText `json:"help,omitempty"`
	}
	type result struct {
		RuleID    string     `json:"ruleId"`
		RuleIndex int        `json:"ruleIndex"`
		Kind      string     `json:"kind"`
		Level     string     `json:"level"`
		Message   sarifText  `json:"message"`
		Locations []location `json:"locations"`
	}
	rules, index := []rule{}, map[string]int{}
	results := []result{}
	kinds := map[audit.Outcome]string{audit.Pass: "pass", audit.Fail: "fail", audit.Undecidable: "open", audit.NotApplicable: "notApplicable"}
	levels := map[audit.Severity]string{audit.High: "error", audit.Medium: "warning", audit.Low: "note"}
	for _, a := range list {
		at, known := index[a.Name]
		if !known {
			at = len(rules)
			index[a.Name] = at
			r := rule{ID: a.Name, Short: sarifText{a.Title}}
			if a.Help != "" {
				r.Help = &sarifText{a.Help}
			}
			rules = append(rules, r)
		}
		level := "none" // 3.27.10: anything but a failure
		if a.Outcome == audit.Fail {
			level = levels[a.Severity]
		}
		one := func(message string, line, last int) {
			var l location
			l.Physical.Artifact.URI = (&url.URL{Path: strings.ReplaceAll(a.File, "\\", "/")}).String() // 3.4.3: RFC 3986
			if line > 0 {
				l.Physical.Region = &region{line, max(last, line)}
			}
			results = append(results, result{a.Name, at, kinds[a.Outcome], level, sarifText{message}, []location{l}})
		}
		if a.Outcome == audit.Fail && len(a.Proofs) > 0 {
			for _, p := range a.Proofs {
				one(a.Title+": "+p.Says, p.Line, p.LastLine)
			}
			continue
		}
		message := a.Title
		if a.Why != "" {
			message += ": " + a.Why
		}
		one(message, 0, 0)
	}
	return json.MarshalIndent(map[string]any{
		"$schema": "https://json.schemastore.org/sarif-2.1.0.json", "version": "2.1.0",
		"runs": []any{map[string]any{
			"tool":    map[string]any{"driver": map[string]any{"name": "vergekeep", "version": version, "rules": rules}},
			"results": results, "columnKind": "unicodeCodePoints",
		}},
	}, "", "  ")
}

// JUnit writes results in the XML form that pipelines read test results in: a suite a
// file, a case a rule.
func JUnit(list []Audited, took time.Duration) ([]byte, error) {
	type failure struct {
		Message string `xml:"message,attr"`
		Type    string `xml:"type,attr"`
		Text    string `xml:",chardata"`
	}
	type skipped struct {
		Message string `xml:"message,attr,omitempty"`
	}
	type testCase struct {
		Class   string   `xml:"classname,attr"`
		Name    string   `xml:"name,attr"`
		Failure *failure `xml:"failure,omitempty"`
		Error   *failure `xml:"error,omitempty"`
		Skipped *skipped `xml:"skipped,omitempty"`
	}
	type suite struct {
		Name     string     `xml:"name,attr"`
		Tests    int        `xml:"tests,attr"`
		Failures int        `xml:"failures,attr"`
		Errors   int        `xml:"errors,attr"`
		Skipped  int        `xml:"skipped,attr"`
		Cases    []testCase `xml:"testcase"`
	}
	type suites struct {
		XMLName  xml.Name `xml:"testsuites"`
		Name     string   `xml:"name,attr"`
		Tests    int      `xml:"tests,attr"`
		Failures int      `xml:"failures,attr"`
		Errors   int      `xml:"errors,attr"`
		Time     string   `xml:"time,attr"`
		Suites   []*suite `xml:"testsuite"`
	}
	all := suites{Name: "vergekeep audit", Time: fmt.Sprintf("%.3f", took.Seconds())}
	by := map[string]*suite{}
	for _, a := range list {
		s := by[a.File]
		if s == nil {
			s = &suite{Name: a.File}
			by[a.File] = s
			all.Suites = append(all.Suites, s)
		}
		class, _, _ := strings.Cut(a.Name, "/")
		c := testCase{Class: class, Name: a.Title + " (" + a.Name + ")"}
		s.Tests++
		switch a.Outcome {
		case audit.Fail:
			var text strings.Builder
			for _, p := range a.Proofs {
				fmt.Fprintf(&text, "%s:%d: %s", a.File, p.Line, p.Says)
				if p.Text != "" {
					fmt.Fprintf(&text, ": %s", p.Text)
				}
				text.WriteByte('\n')
			}
			c.Failure = &failure{plain(a.Why), string(a.Severity), plain(text.String())}
			s.Failures++
		case audit.Undecidable:
			c.Error = &failure{Message: plain(a.Why), Type: "undecidable"}
			s.Errors++
		case audit.NotApplicable:
			c.Skipped = &skipped{plain(a.Why)}
			s.Skipped++
		}
		s.Cases = append(s.Cases, c)
	}
	for _, s := range all.Suites {
		all.Tests, all.Failures, all.Errors = all.Tests+s.Tests, all.Failures+s.Failures, all.Errors+s.Errors
	}
	out, err := xml.MarshalIndent(all, "", "  ")
	return append([]byte(xml.Header), append(out, '\n')...), err
}

// plain is text without characters that XML cannot hold.
func plain(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '\t' || r == '\n' || r >= 0x20 && r != 0xfffe && r != 0xffff {
			return r
		}
		return '\ufffd'
	}, strings.ToValidUTF8(s, "\ufffd"))
}
