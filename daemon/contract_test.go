package daemon_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/api/gen"
)

// operation is one that the contract names.
type operation struct {
	method, path, right string
	*openapi3.Operation
}

func operations(t *testing.T) []operation {
	t.Helper()
	spec, err := gen.GetSpec()
	require.NoError(t, err)
	var list []operation
	for path, item := range spec.Paths.Map() {
		for method, op := range item.Operations() {
			right, _ := op.Extensions["x-right"].(string)
			list = append(list, operation{method, "/api/v1" + path, right, op})
		}
	}
	require.GreaterOrEqual(t, len(list), 60)
	return list
}

// address is the operation's path with something in its places.
func (o operation) address(name string) string {
	path := strings.NewReplacer("{name}", name, "{id}", "1").Replace(o.path)
	query := "?"
	for _, p := range o.Parameters {
		if choices := p.Value.Schema.Value.Enum; p.Value.In == "path" && len(choices) > 0 {
			path = strings.ReplaceAll(path, "{"+p.Value.Name+"}", fmt.Sprint(choices[0]))
		}
		if p.Value.In == "query" && p.Value.Required {
			given := name
			if choices := p.Value.Schema.Value.Enum; len(choices) > 0 {
				given = fmt.Sprint(choices[0])
			}
			query += p.Value.Name + "=" + given + "&"
		}
	}
	return path + strings.TrimRight(query, "?&")
}

// TestEveryOperationAsksForItsRight tries each operation as nobody, and as an
// account that has every right but the one that the contract asks for.
func TestEveryOperationAsksForItsRight(t *testing.T) {
	h := open(t)
	nobody := &caller{t: t, url: h.URL, head: http.Header{}}
	for _, o := range operations(t) {
		if o.right == "none" || o.right == "" || o.right == "signed-in" {
			continue
		}
		body := ""
		if o.RequestBody != nil {
			body = "{}"
		}
		status, said, _ := nobody.do(o.method, o.address("x"), body)
		assert.Equal(t, 401, status, "%s %s: %s", o.method, o.path, said)
	}
	lacking := map[string]*caller{}
	for _, right := range []string{"see", "operate", "see-secrets", "administer"} {
		lacking[right] = h.without(right)
	}
	tried := map[string]int{}
	for _, o := range operations(t) {
		who := lacking[o.right]
		if who == nil || strings.HasSuffix(o.path, "/events") {
			continue
		}
		body := ""
		if o.RequestBody != nil {
			body = "{}"
		}
		status, said, _ := who.do(o.method, o.address("x"), body)
		tried[o.right]++
		if status != 400 { // what is no request at all may be told before
			assert.Equal(t, 403, status, "%s %s asks for %s: %s", o.method, o.path, o.right, said)
			assert.Contains(t, said, o.right)
		}
	}
	for right, n := range tried {
		t.Logf("%d operations take the right %s", n, right)
		assert.Positive(t, n)
	}
}

// TestEveryBodyIsChecked sends each operation bodies that are none.
func TestEveryBodyIsChecked(t *testing.T) {
	h := open(t)
	lead := h.signIn("lead")
	for _, o := range operations(t) {
		if o.RequestBody == nil {
			continue
		}
		name := o.method + " " + o.path
		media := o.RequestBody.Value.Content["application/json"]
		if media == nil {
			continue
		}
		bad := map[string]string{
			"nothing at all":   "",
			"no JSON":          "{",
			"a list":           "[]",
			"an unknown field": `{"no-such-field":1}`,
			"two documents":    "{} {}",
		}
		for field, s := range media.Schema.Value.Properties {
			if s.Value.Type.Is("string") {
				bad["another type in "+field] = fmt.Sprintf(`{%q:{"x":1}}`, field)
			}
			if n := s.Value.MaxLength; n != nil && *n < 20000 {
				bad["too long a "+field] = fmt.Sprintf(`{%q:%q}`, field, strings.Repeat("x", int(*n)+1))
			}
		}
		if list := media.Schema.Value.Required; len(list) > 0 {
			bad["nothing that is required"] = "{}"
		}
		for what, body := range bad {
			if what == "nothing at all" && !o.RequestBody.Value.Required {
				continue
			}
			status, said, head := lead.do(o.method, o.address("x"), body)
			assert.Contains(t, []int{400, 413, 415}, status, "%s with %s: %s", name, what, said)
			assert.Equal(t, "application/problem+json", head.Get("Content-Type"), name)
			var problem struct{ Title, Detail string }
			require.NoError(t, json.Unmarshal([]byte(said), &problem), name)
			assert.NotEmpty(t, problem.Title, "%s with %s", name, what)
		}
	}
}

// TestWhatIsNotThereIsSaid asks for things of a name that nothing has.
func TestWhatIsNotThereIsSaid(t *testing.T) {
	h := open(t, "np-acc-2")
	lead := h.signIn("lead")
	seen := 0
	for _, o := range operations(t) {
		if !strings.Contains(o.path, "{name}") && !strings.Contains(o.path, "{id}") || o.method == "PUT" {
			continue
		}
		address := strings.ReplaceAll(o.address("no-such-thing"), "/1", "/987654")
		body := ""
		if o.RequestBody != nil {
			body = smallest(o.RequestBody.Value.Content["application/json"].Schema.Value)
		}
		status, said, _ := lead.do(o.method, address, body)
		assert.Contains(t, []int{404, 204}, status, "%s %s with %s: %s", o.method, address, body, said)
		if status == 404 {
			seen++
		}
	}
	assert.Greater(t, seen, 15)
}

// smallest is a body with nothing in it but what must be.
func smallest(s *openapi3.Schema) string {
	body := map[string]any{}
	for _, field := range s.Required {
		p := s.Properties[field].Value
		switch {
		case len(p.Enum) > 0:
			body[field] = p.Enum[0]
		case p.Type.Is("string"):
			body[field] = "xxxxxxxxxxxx"
		case p.Type.Is("integer"):
			body[field] = 1
		case p.Type.Is("boolean"):
			body[field] = true
		case p.Type.Is("array"):
			body[field] = []string{"x"}
		}
	}
	text, _ := json.Marshal(body)
	return string(text)
}

// TestTheContractIsWhatIsServed holds every answer of a tour through the API
// against the schema that the contract gives for it.
func TestTheContractIsWhatIsServed(t *testing.T) {
	h := open(t, "np-acc-2", "hh-fw-1")
	_, r := h.round("")
	lead := h.signIn("lead")
	do := func(method, path, body string) {
		t.Helper()
		status, said, _ := lead.do(method, "/api/v1"+path, body)
		require.Less(t, status, 300, "%s %s: %s", method, path, said)
	}
	do("PUT", "/groups/edges", `{"selector":"role=edge"}`)
	do("PUT", "/sites/Northgate", `{"atOnce":2,"closed":["11:00-12:00"],"zone":"UTC"}`)
	do("PUT", "/jump-hosts/gate", `{"address":"192.0.2.5","credential":"keeper"}`)
	do("POST", "/schedules", `{"name":"noon","expression":"0 12 * * *"}`)
	do("POST", "/tokens", `{"name":"laptop"}`)
	spec, err := gen.GetSpec()
	require.NoError(t, err)
	checked := 0
	for path, item := range spec.Paths.Map() {
		op := item.Get
		if op == nil || strings.HasSuffix(path, "/events") {
			continue
		}
		o := operation{"GET", "/api/v1" + path, "", op}
		address := strings.Replace(o.address("np-acc-2"), "/1", fmt.Sprintf("/%d", r.ID), 1)
		address = strings.NewReplacer("/credentials/np-acc-2", "/credentials/keeper").Replace(address)
		status, said, head := lead.do("GET", address, "")
		media := op.Responses.Value("200").Value.Content["application/json"]
		if media == nil || status != 200 {
			assert.Contains(t, []int{200, 404}, status, "%s: %s", address, said)
			continue
		}
		assert.Contains(t, head.Get("Content-Type"), "application/json", address)
		var value any
		require.NoError(t, json.Unmarshal([]byte(said), &value), address)
		assert.NoError(t, media.Schema.Value.VisitJSON(value), address)
		checked++
	}
	t.Logf("%d answers are as the contract says", checked)
	assert.Greater(t, checked, 20)
}

// without signs in an account that has all rights but one.
func (h *house) without(right string) *caller {
	h.t.Helper()
	list := slices.DeleteFunc(slices.Clone(allRights), func(r string) bool { return r == right })
	name := "all-but-" + right
	lead := h.signIn("lead")
	body, err := json.Marshal(map[string]any{"name": name, "rights": list, "password": password})
	require.NoError(h.t, err)
	status, said, _ := lead.do("POST", "/api/v1/accounts", string(body))
	require.Equal(h.t, 201, status, said)
	c := &caller{t: h.t, url: h.URL, head: http.Header{}}
	status, said, head := c.do("POST", "/api/v1/session", fmt.Sprintf(`{"account":%q,"password":%q}`, name, password))
	require.Equal(h.t, 200, status, said)
	cookie, _, _ := strings.Cut(head.Get("Set-Cookie"), ";")
	c.head.Set("Cookie", cookie)
	status, said, _ = c.do("PUT", "/api/v1/session/password", fmt.Sprintf(`{"old":%q,"new":"another-password"}`, password))
	require.Equal(h.t, 204, status, said)
	return c
}

var allRights = []string{"see", "operate", "see-secrets", "administer"}
