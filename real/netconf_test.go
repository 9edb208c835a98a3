//go:build real

package real

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/core/reason"
)

// netconfAgent starts netconfd behind OpenSSH and returns its address and the
// password of vk-netconf.
func netconfAgent(t *testing.T) (addr, password string) {
	t.Helper()
	password = account(t, "vk-netconf", "/bin/bash")
	addr, port := sshd(t, `Subsystem netconf "/usr/sbin/netconf-subsystem --ncxserver-sockname=PORT@/tmp/ncxserver.sock"`, "AllowUsers vk-netconf vk-watch")
	_ = os.Remove("/tmp/ncxserver.sock")
	startup := filepath.Join(t.TempDir(), "startup.xml")
	require.NoError(t, os.WriteFile(startup, []byte(`<config xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"/>`), 0o644))
	agent := exec.Command("netconfd", "--module=ietf-interfaces", "--module=ietf-system", "--target=candidate", "--with-startup=true",
		"--superuser=vk-netconf", "--startup="+startup, fmt.Sprintf("--port=%d", port), "--log="+filepath.Join(t.TempDir(), "log"))
	require.NoError(t, agent.Start())
	t.Cleanup(func() { _ = agent.Process.Kill(); _ = agent.Wait() })
	waitFor(t, func() bool { _, err := os.Stat("/tmp/ncxserver.sock"); return err == nil })
	return addr, password
}

const agentDialect = `
format: 1
name: agent
title: A NETCONF agent
reach: { channel: netconf }
conversation:
  start: running
  states:
    running: { rpc: '<get-config><source><running/></source></get-config>', keep: running, then: startup }
    startup:
      needs: urn:ietf:params:netconf:capability:startup:1.0
      rpc: '<get-config><source><startup/></source></get-config>'
      keep: startup
      then: wrong
      otherwise: done
    wrong: { rpc: '<get-config><source><nowhere/></source></get-config>', keep: wrong, tolerate: true, then: done }
captures: [{ datastore: running, from: running }]
complete: { closed: true }
syntax: { reader: xml }
`

// TestARealNetconfAgent captures running and startup from netconfd.
func TestARealNetconfAgent(t *testing.T) {
	addr, password := netconfAgent(t)
	r, d, err := hold(t, addr, "vk-netconf", password, agentDialect)
	if reason.Of(err, "") == reason.Hung {
		// It loses an operation that arrives together with the hello, as happens on
		// a busy machine; a round tries such a device again.
		t.Log("a second try:", err)
		r, d, err = hold(t, addr, "vk-netconf", password, agentDialect)
	}
	require.NoError(t, err)
	require.Len(t, r.Answers, 3, "running, startup, and an error that was tolerated")
	running := d.CleanText(r.Answers[0].Text)
	assert.Contains(t, running, "urn:ietf:params:xml:ns:yang:ietf-netconf-acm")
	assert.NoError(t, d.CheckComplete(d.Tree(running)))
	assert.Empty(t, r.Answers[2].Text)
}
