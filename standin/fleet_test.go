package standin_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"vergekeep/standin"
	"vergekeep/standin/scenario"
)

func login(t *testing.T, addr string) (*ssh.Client, error) {
	t.Helper()
	return ssh.Dial("tcp", addr, &ssh.ClientConfig{User: scenario.User, Auth: []ssh.AuthMethod{ssh.Password(scenario.Password)}, HostKeyCallback: ssh.InsecureIgnoreHostKey(), Timeout: time.Minute})
}

func TestTenThousandFitInOneProcess(t *testing.T) {
	fleet := standin.NewFleet()
	defer fleet.Close()
	const many = 10_000
	addrs := make([]string, many)
	for i := range addrs {
		var err error
		addrs[i], err = fleet.Add(&standin.Device{Name: fmt.Sprintf("d-%05d", i), Platform: standin.Capstan, Serial: fmt.Sprint(i), User: scenario.User, Password: scenario.Password, Config: map[string]string{"": "a;\n"}})
		require.NoError(t, err, "device %d; 'ulimit -Hn' must be above %d", i, many)
	}
	for _, i := range []int{0, 4711, many - 1} {
		c, err := login(t, addrs[i])
		require.NoError(t, err)
		s, err := c.NewSession()
		require.NoError(t, err)
		out, err := s.Output("print identity")
		require.NoError(t, err)
		assert.Contains(t, string(out), fmt.Sprintf("name: d-%05d\n", i))
		require.NoError(t, c.Close())
	}
}

// TestCommandsThatChange types what an engineer would type at each platform.
func TestCommandsThatChange(t *testing.T) {
	fleet := standin.NewFleet()
	defer fleet.Close()
	network := scenario.New()
	core := network.Device("hh-core-1")
	addr, err := fleet.Add(core)
	require.NoError(t, err)
	c, err := login(t, addr)
	require.NoError(t, err)
	defer c.Close()
	run := func(command string) (string, error) {
		s, err := c.NewSession()
		require.NoError(t, err)
		out, err := s.Output(command)
		return string(out), err
	}
	_, err = run("put ports / te-0/1 / mtu 1500")
	assert.Error(t, err, "without a workspace")
	for _, command := range []string{"workspace open", "put ports / te-0/1 / mtu 1500", "remove system / domain x"} {
		_, err := run(command)
		require.NoError(t, err, command)
	}
	assert.Contains(t, core.Running(""), "    te-0/1 {\n        note \"to hh-dist-2\";\n        mtu 9000;", "not before it is applied")
	_, err = run("apply")
	require.NoError(t, err)
	assert.Contains(t, core.Running(""), "    te-0/1 {\n        note \"to hh-dist-2\";\n        mtu 1500;")
	assert.NotContains(t, core.Running(""), "domain")
	out, err := run("fly me to the moon")
	assert.Error(t, err)
	assert.Contains(t, out, "refused: unknown words")
}
