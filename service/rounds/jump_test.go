package rounds

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/core/reason"
	"vergekeep/service/fleet"
	"vergekeep/service/vault"
	"vergekeep/standin"
)

// TestAJumpHostsCredentialRestsToo: twenty devices behind a jump host that
// refuses must not mean twenty refusals.
func TestAJumpHostsCredentialRestsToo(t *testing.T) {
	p := newPlace(t)
	hosts := standin.NewFleet()
	defer hosts.Close()
	addr, err := hosts.Add(&standin.Device{Name: "jump", Platform: standin.Tidegate, User: "noc", Password: "right"})
	require.NoError(t, err)
	for name, password := range map[string]string{"devices": "x", "jump": "wrong"} {
		_, err := p.vault.Add(t.Context(), vault.Credential{Name: name, Username: "noc", Secrets: vault.Secrets{Password: password}}, "noc", p.now())
		require.NoError(t, err)
	}
	require.NoError(t, p.fleet.SetJump(t.Context(), fleet.Jump{Name: "far", Address: addr, Credential: "jump"}, "noc"))
	for i := range 20 {
		_, err := p.fleet.Add(t.Context(), fleet.Device{Name: fmt.Sprintf("d-%02d", i), Platform: "tidegate", Addresses: []string{fmt.Sprintf("127.0.0.1:%d", i+1)}, Via: "far"}, "noc")
		require.NoError(t, err)
	}
	_, err = p.Start(t.Context(), "", "demand", "noc")
	require.NoError(t, err)
	_, visits := p.newest(t)
	for _, v := range visits {
		assert.Equal(t, reason.JumpFailed, v.Reason, v.What)
	}
	c, err := p.vault.Get(t.Context(), "jump")
	require.NoError(t, err)
	assert.Equal(t, 3, c.Refusals)
	assert.True(t, c.RestsUntil.After(p.now()))
}
