package daemon_test

import (
	"encoding/base64"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/standin/postbox"
)

// TestAComparisonIsMailedWithoutItsSecrets is sent by somebody who may see them.
func TestAComparisonIsMailedWithoutItsSecrets(t *testing.T) {
	box, err := postbox.Open(postbox.Never)
	require.NoError(t, err)
	defer func() { assert.NoError(t, box.Close()) }()
	h := open(t)
	h.add("np-acc-2")
	h.round("")
	lead := h.signIn("lead")
	body := `{"to":["noc@skerry.example"],"comparison":{"left":{"ref":"np-acc-2:startup"},"right":{"name":"./x.cfg","text":"` + base64.StdEncoding.EncodeToString([]byte("name np-acc-2\n")) + `"},"context":-1}}`
	status, said, _ := lead.do("POST", "/api/v1/comparison/mail", body)
	assert.Equal(t, 404, status, said)
	assert.Contains(t, said, "no mail server is set")
	status, said, _ = lead.do("PUT", "/api/v1/mail", `{"server":"192.0.2.1:25","sender":"keep@skerry.example","security":"none"}`)
	assert.Equal(t, 400, status, said)
	status, said, _ = lead.do("PUT", "/api/v1/mail", fmt.Sprintf(`{"server":%q,"sender":"keep@skerry.example","security":"none"}`, box.Address))
	require.Equal(t, 204, status, said)
	status, said, _ = lead.do("GET", "/api/v1/mail", "")
	assert.Equal(t, 200, status)
	assert.Contains(t, said, box.Address)
	status, said, _ = lead.do("POST", "/api/v1/mail/test", `{"to":"lead@skerry.example"}`)
	require.Equal(t, 204, status, said)
	status, said, _ = lead.do("POST", "/api/v1/comparison/mail", body)
	require.Equal(t, 204, status, said)
	letters := box.Letters()
	require.Len(t, letters, 2)
	assert.Contains(t, letters[0].Text, "to see that it arrives")
	parts, err := letters[1].Parts()
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(parts["application/pdf"], "%PDF-"))
	for _, media := range []string{"text/plain", "text/html"} {
		assert.Contains(t, parts[media], "●●●●●●●●")
		for _, secret := range []string{"r4ise", "k33p"} {
			assert.NotContains(t, parts[media], secret)
		}
	}
	box.Refuse(451, "later")
	status, said, _ = lead.do("POST", "/api/v1/comparison/mail", body)
	assert.Equal(t, 502, status)
	assert.Contains(t, said, "later")
}
