package search_test

import (
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vergekeep/service/search"
	"vergekeep/service/shelf"
)

func text(name, secret, server string, extra ...string) string {
	return "configuration of " + name + ", changed by noc\nname " + name + "\nraise secret " + secret + "\ninterface port1/1\n  description to desk 1\n  lan access 10\ninterface port1/2\n  lan access 20\n" +
		strings.Join(extra, "") + "time\n  server " + server + "\nend of configuration\n"
}

func ask(t testing.TB, s *search.Service, q search.Question, seeSecrets bool) *search.Answer {
	t.Helper()
	a, err := s.Ask(t.Context(), q, 100, seeSecrets)
	require.NoError(t, err)
	return a
}

func names(counts []search.Count) (list []string) {
	for _, c := range counts {
		list = append(list, fmt.Sprintf("%s %d", strings.TrimSpace(c.Name+strings.Join(c.Path, " > ")), c.Count))
	}
	return list
}

func TestTheNewestAreSearched(t *testing.T) {
	s := shelf.New(t)
	x := search.New(s.Archive, s.Fleet, s.Set, s.Now)
	s.Put(t, "ng-acc-1", "tidegate", text("ng-acc-1", "r4ise", "192.0.2.1"))
	s.Put(t, "ng-acc-2", "tidegate", text("ng-acc-2", "r4ise", "192.0.2.1"))
	s.Put(t, "hh-fw-1", "coaming", "lay port p1 note \"to lan\"\nlay port p1 address 198.18.0.1/27\nlay port p2 address 198.18.0.2/27\nlay rules io rule 10 pass from lan to any\n")
	a := ask(t, x, search.Question{Text: "lan"}, false)
	assert.Equal(t, 6, a.Total)
	assert.Equal(t, []string{"hh-fw-1 2", "ng-acc-1 2", "ng-acc-2 2"}, names(a.Devices))
	assert.Equal(t, []string{"interface port1/1 2", "interface port1/2 2", "port p1 1", "rules io 1"}, names(a.Sections))
	assert.Equal(t, search.Hit{Key: a.Hits[2].Key, Device: "ng-acc-1", Number: 1, Line: 6, Text: "  lan access 10", Path: []string{"interface port1/1"}, Spans: [][2]int{{2, 5}}, Since: 1, SinceTime: shelf.Monday.Add(time.Hour)}, a.Hits[2])

	s.Put(t, "ng-acc-2", "tidegate", text("ng-acc-2", "r4ise", "192.0.2.66"))
	a = ask(t, x, search.Question{Text: `^ *SERVER 192\.0\.2\.\d+$`, Regexp: true, AnyCase: true}, false)
	assert.Equal(t, 2, a.Total)
	assert.Equal(t, []string{"hh-fw-1"}, a.Without)
	assert.Equal(t, []int{1, 2}, []int{a.Hits[0].Since, a.Hits[1].Since})

	a = ask(t, x, search.Question{Text: "server 192.0.2.1", Selector: "ng-*"}, false)
	assert.Equal(t, []string{"ng-acc-1 1"}, names(a.Devices))
	assert.Equal(t, []string{"ng-acc-2"}, a.Without, "who does not have it")
	a = ask(t, x, search.Question{Text: "server", Datastore: "startup"}, false)
	assert.Zero(t, a.Total+a.Searched)
}

func TestSectionsAreFoundByWhatTheyHaveAndLack(t *testing.T) {
	s := shelf.New(t)
	x := search.New(s.Archive, s.Fleet, s.Set, s.Now)
	s.Put(t, "ng-acc-1", "tidegate", text("ng-acc-1", "r4ise", "192.0.2.1", "interface port1/3\n  lan access 10\n  spanning edge\n"))
	s.Put(t, "hh-fw-1", "coaming", "lay port p1 note \"to lan\"\nlay port p1 address 198.18.0.1/27\nlay port p2 address 198.18.0.2/27\n")
	for _, in := range []string{"interface", "interface *"} {
		a := ask(t, x, search.Question{In: in, Have: []string{"lan access *"}, Lack: []string{"description **"}}, false)
		assert.Equal(t, 2, a.Total, in)
		assert.Equal(t, []string{"interface port1/2 1", "interface port1/3 1"}, names(a.Sections))
	}
	a := ask(t, x, search.Question{In: "interface", Lack: []string{"lay port * note *", "description **"}}, false)
	assert.Equal(t, []string{"interface port1/2 1", "interface port1/3 1", "port p2 1"}, names(a.Sections), "on every platform by its own words")
}

func TestATimeAndAllTimesAreSearched(t *testing.T) {
	s := shelf.New(t)
	x := search.New(s.Archive, s.Fleet, s.Set, s.Now)
	for _, server := range []string{"192.0.2.1", "192.0.2.66", "192.0.2.1"} {
		s.Put(t, "ng-acc-1", "tidegate", text("ng-acc-1", "r4ise", server))
	}
	a := ask(t, x, search.Question{Text: "192.0.2.66"}, false)
	assert.Zero(t, a.Total)
	a = ask(t, x, search.Question{Text: "192.0.2.66", Scope: search.At, At: shelf.Monday.Add(150 * time.Minute)}, false)
	require.Len(t, a.Hits, 1)
	assert.Equal(t, 2, a.Hits[0].Number)
	a = ask(t, x, search.Question{Text: "192.0.2.66", Scope: search.History}, false)
	require.Len(t, a.Hits, 1)
	assert.Equal(t, []int{2, 2}, []int{a.Hits[0].Since, a.Hits[0].Last})
	a = ask(t, x, search.Question{Text: "192.0.2.1", Scope: search.History}, false)
	assert.Equal(t, 2, a.Total, "it came, went and came again")
	a = ask(t, x, search.Question{Text: "192.0.2.1", Scope: search.History, From: shelf.Monday.Add(100 * time.Minute), To: shelf.Monday.Add(170 * time.Minute)}, false)
	assert.Zero(t, a.Total, "it was not there in between")
}

func TestWhatCannotBeAsked(t *testing.T) {
	s := shelf.New(t)
	x := search.New(s.Archive, s.Fleet, s.Set, s.Now)
	for says, q := range map[string]search.Question{
		"say what to look for":    {},
		"takes a section":         {Have: []string{"x"}},
		"either a text or":        {In: "interface", Text: "x"},
		"is in the future":        {Text: "x", Scope: search.At, At: shelf.Monday.AddDate(1, 0, 0)},
		"ends before it begins":   {Text: "x", Scope: search.History, From: shelf.Monday, To: shelf.Monday.AddDate(0, 0, -1)},
		"matches every line":      {Text: ".*", Regexp: true},
		"not a section pattern":   {In: "a > ... > b"},
		"is no field of a device": {Text: "x", Selector: "colour=red"},
		"in those of a time":      {In: "interface", Scope: search.History},
		"a step of the path":      {In: "interface", Have: []string{" > "}},
	} {
		_, err := x.Ask(t.Context(), q, 10, false)
		require.ErrorContains(t, err, says, "%+v", q)
	}
}

// TestSearchIsNoOracle asks for pieces of secrets in every way: whoever may not
// see them gets the same answer whatever the secret is.
func TestSearchIsNoOracle(t *testing.T) {
	var services []*search.Service
	var at time.Time
	secrets := []string{"s3cr3t-one", "an0ther-tw0"}
	for _, secret := range secrets {
		s := shelf.New(t)
		services = append(services, search.New(s.Archive, s.Fleet, s.Set, s.Now))
		s.Put(t, "ng-acc-1", "tidegate", text("ng-acc-1", secret, "192.0.2.1"))
		at = s.Now()
	}
	rapid.Check(t, func(rt *rapid.T) {
		guess := rapid.SampledFrom([]string{"s3cr3t", "s3", "one", "an0ther", "raise secret s", "raise secret ", "r4ise", "tw0"}).Draw(rt, "guess")
		expression := rapid.SampledFrom([]string{"%s", "^raise secret [^a]", "secret %s", "raise secret .*%s", "(%s|x)", "raise secret [a-z]", "[^ ]{9,}$", "(?i)%s.*"}).Draw(rt, "expression")
		q := search.Question{Text: guess, AnyCase: rapid.Bool().Draw(rt, "any case"), Scope: rapid.SampledFrom([]search.Scope{search.Now, search.At, search.History}).Draw(rt, "scope")}
		if rapid.Bool().Draw(rt, "regexp") {
			q.Regexp = true
			q.Text = expression
			if strings.Contains(expression, "%s") {
				q.Text = fmt.Sprintf(expression, regexp.QuoteMeta(guess))
			}
		}
		if rapid.IntRange(0, 3).Draw(rt, "section") == 0 {
			q = search.Question{In: rapid.SampledFrom([]string{"raise secret " + guess, "raise secret s*", "raise secret *"}).Draw(rt, "in")}
		}
		var answers []string
		q.At = at
		for i, x := range services {
			a, err := x.Ask(t.Context(), q, 100, false)
			require.NoError(rt, err)
			answers = append(answers, fmt.Sprint(a.Total, a.Devices, a.Without, a.Sections))
			for _, h := range a.Hits {
				require.NotContains(rt, h.Text+strings.Join(h.Path, ""), secrets[i])
			}
		}
		require.Equal(rt, answers[0], answers[1], "%+v", q)
	})
}
