package conversation

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/core/dialect"
)

// TestADeviceThatRepeatsWhatIsTypedGivesNothingAway has a password that the
// elevation secret starts with, and a device that shows both.
func TestADeviceThatRepeatsWhatIsTypedGivesNothingAway(t *testing.T) {
	set, err := dialect.Load()
	require.NoError(t, err)
	cred := Credential{User: "keeper", Password: "gull", Elevation: "gull-and-tern"}
	rec := &Recording{Channel: dialect.Pty, Exchanges: []Exchange{
		{Read: "Pass phrase: "},
		{Sent: "gull\n", Read: "gull\nnp-acc-1 | "},
		{Sent: "raise\n", Read: "raise\nRaise secret: "},
		{Sent: "gull-and-tern\n", Read: "gull-and-tern\n?? gull-and-tern is not it, gull\nnp-acc-1 | "},
	}}
	rec.conceal(set["tidegate"], cred, nil)
	file := rec.String()
	for _, secret := range []string{"gull", "tern"} {
		assert.NotContains(t, file, secret)
	}
	assert.Equal(t, "${elevation}\n", rec.Exchanges[3].Sent)
	assert.Equal(t, "raise\nRaise secret: ", string(rec.Exchanges[2].Read))
	assert.Equal(t, "np-acc-1 | ", string(rec.Exchanges[1].Read[len(rec.Exchanges[1].Read)-11:]))
}
