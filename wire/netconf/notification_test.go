package netconf

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const changed = `<notification xmlns="urn:ietf:params:xml:ns:netconf:notification:1.0"><eventTime>2026-11-20T02:14:07Z</eventTime>
<netconf-config-change xmlns="urn:ietf:params:xml:ns:yang:ietf-netconf-notifications"><changed-by><username>neteng</username><session-id>4</session-id><source-host>198.51.100.7</source-host></changed-by>
<datastore>running</datastore><edit><target>/router</target><operation>merge</operation></edit><edit><target>/router/name</target></edit></netconf-config-change></notification>`

func TestNotification(t *testing.T) {
	n, err := ReadNotification([]byte(changed))
	require.NoError(t, err)
	assert.Equal(t, Notification{"netconf-config-change", time.Date(2026, 11, 20, 2, 14, 7, 0, time.UTC),
		map[string]string{"username": "neteng", "session-id": "4", "source-host": "198.51.100.7", "datastore": "running", "target": "/router", "operation": "merge"}}, n)
	// The service itself did it: there is no user name (RFC 6470, changed-by).
	n, err = ReadNotification([]byte(`<notification><eventTime>x</eventTime><netconf-config-change><changed-by><server/></changed-by></netconf-config-change></notification>`))
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"server": ""}, n.Values)
	assert.Zero(t, n.At)
	for _, bad := range []string{"", "<notification/>", "<notification><eventTime>x</eventTime></notification>", "<notification><x>", "<notification>\x00"} {
		_, err := ReadNotification([]byte(bad))
		assert.ErrorIs(t, err, ErrProtocol, "%q", bad)
	}
	_, err = ReadNotification([]byte("<rpc-reply/>"))
	assert.ErrorIs(t, err, errOther)
}

// FuzzNotification reads whatever may come.
func FuzzNotification(f *testing.F) {
	f.Add([]byte(changed))
	f.Fuzz(func(t *testing.T, msg []byte) {
		if n, err := ReadNotification(msg); err == nil && (n.Name == "" || len(n.Values) > maxValues) {
			t.Fatalf("%+v", n)
		}
	})
}
