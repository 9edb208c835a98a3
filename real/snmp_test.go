//go:build real

package real

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/core/reason"
	"vergekeep/wire/snmp"
)

// agent starts an SNMP agent on a loopback port, with a community and a user.
func agent(t *testing.T) (port int) {
	t.Helper()
	l, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	port = l.LocalAddr().(*net.UDPAddr).Port
	require.NoError(t, l.Close())
	dir := t.TempDir()
	conf := filepath.Join(dir, "snmpd.conf")
	require.NoError(t, os.WriteFile(conf, fmt.Appendf(nil, `agentaddress udp:127.0.0.1:%d
rocommunity see-the-sea
createUser watcher SHA-256 gull-gull-gull AES tern-tern-tern
createUser elder SHA gull-gull-gull
rouser watcher authpriv
rouser elder authnopriv
sysname ng-fw-7
`, port), 0o600))
	cmd := exec.Command("/usr/sbin/snmpd", "-f", "-Lf", filepath.Join(dir, "log"), "-C", "-c", conf, "-p", filepath.Join(dir, "pid"))
	cmd.Env = append(os.Environ(), "SNMP_PERSISTENT_DIR="+dir)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	require.Eventually(t, func() bool {
		_, err := snmp.Ask(t.Context(), snmp.Target{Address: fmt.Sprintf("127.0.0.1:%d", port), Community: "see-the-sea", Timeout: 200 * time.Millisecond})
		return err == nil
	}, time.Minute, 50*time.Millisecond)
	return port
}

func TestAnSNMPAgentSaysWhatItIs(t *testing.T) {
	at := fmt.Sprintf("127.0.0.1:%d", agent(t))
	for name, c := range map[string]struct {
		target snmp.Target
		want   reason.Code
	}{
		"community":             {snmp.Target{Community: "see-the-sea"}, ""},
		"user, SHA-256 and AES": {snmp.Target{User: "watcher", Authentication: "gull-gull-gull", Privacy: "tern-tern-tern"}, ""},
		"user, SHA-1":           {snmp.Target{User: "elder", Authentication: "gull-gull-gull"}, ""},
		"another community":     {snmp.Target{Community: "wrong"}, reason.ConnectTimeout},
		"no such user":          {snmp.Target{User: "nobody", Authentication: "gull-gull-gull"}, reason.CredentialRefused},
		"a wrong pass phrase":   {snmp.Target{User: "watcher", Authentication: "gannet-gannet", Privacy: "tern-tern-tern"}, reason.CredentialRefused},
	} {
		t.Run(name, func(t *testing.T) {
			c.target.Address, c.target.Timeout = at, 20*time.Second
			if c.want == reason.ConnectTimeout {
				c.target.Timeout = 500 * time.Millisecond
			}
			s, err := snmp.Ask(t.Context(), c.target)
			assert.Equal(t, c.want, reason.Of(err, ""), "%v", err)
			if c.want == "" {
				require.NoError(t, err)
				assert.Equal(t, "ng-fw-7", s.Name)
				assert.Equal(t, "1.3.6.1.4.1.8072.3.2.10", s.ObjectID)
				assert.Regexp(t, "^Linux ", s.Descr)
			}
		})
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := snmp.Ask(ctx, snmp.Target{Address: at, Community: "see-the-sea", Timeout: time.Second})
	require.ErrorIs(t, err, context.Canceled)
}
