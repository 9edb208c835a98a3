//go:build real

package real

import (
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// frr says how FRRouting's shell talks, on a terminal.
const frr = `
format: 1
name: frr
title: FRRouting
reach: { channel: pty }
prompts: { ready: '(?P<name>[\w.-]+)# ' }
errors: ['^% ']
conversation:
  start: arrive
  leave: exit
  states:
    arrive: { on: [{ prompt: ready, go: paging }] }
    paging: { send: terminal length 0, on: [{ prompt: ready, go: config }] }
    config: { send: show running-config, keep: config, on: [{ prompt: ready, go: done }] }
captures: [{ datastore: running, from: config }]
clean:
  - drop-first: '^(Building configuration|Current configuration|!|$)'
complete: { first: '^frr version ', last: '^end$' }
syntax: { reader: indent, comment: ['!'] }
`

// router starts FRRouting with a neighbour.
func router(t *testing.T) {
	t.Helper()
	daemons, err := os.ReadFile("/etc/frr/daemons")
	require.NoError(t, err)
	set := strings.NewReplacer("bgpd=no", "bgpd=yes", "ospfd=no", "ospfd=yes").Replace(string(daemons))
	require.NoError(t, os.WriteFile("/etc/frr/daemons", []byte(set), 0o640))
	out, err := exec.Command("/usr/lib/frr/frrinit.sh", "start").CombinedOutput()
	require.NoError(t, err, "%s", out)
	t.Cleanup(func() { _ = exec.Command("/usr/lib/frr/frrinit.sh", "stop").Run() })
	waitFor(t, func() bool { return exec.Command("vtysh", "-c", "show version").Run() == nil })
	out, err = exec.Command("vtysh", "-c", "configure terminal", "-c", "router bgp 64500", "-c", "neighbor 192.0.2.7 remote-as 64501", "-c", "neighbor 192.0.2.7 password zzpeersecret").CombinedOutput()
	require.NoError(t, err, "%s", out)
}

func TestARealRouter(t *testing.T) {
	router(t)
	password := account(t, "vk-frr", "/usr/bin/vtysh", "frr", "frrvty")
	addr, _ := sshd(t)
	r, d, err := hold(t, addr, "vk-frr", password, frr)
	require.NoError(t, err)
	text := d.CleanText(r.Answers[0].Text)
	require.NoError(t, d.CheckComplete(d.Tree(text)), text)
	assert.Contains(t, text, "router bgp 64500\n neighbor 192.0.2.7 remote-as 64501\n")
	assert.NotContains(t, text, "Building configuration")
	assert.Equal(t, []string{"router bgp 64500"}, d.Tree(text).PathAt(1+strings.Count(text[:strings.Index(text, " neighbor")], "\n")))

	_, _, err = hold(t, addr, "vk-frr", password, strings.Replace(frr, "send: show running-config", "send: show runing-confug", 1))
	assert.ErrorContains(t, err, `It answered "% `)
}
