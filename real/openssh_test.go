//go:build real

// Package real tests against systems that nobody here wrote: the OpenSSH client
// and server, FRRouting, and a NETCONF agent. scripts/install installs them.
package real

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"vergekeep/core/dialect"
	"vergekeep/standin"
	"vergekeep/standin/scenario"
	"vergekeep/wire/conversation"
	wire "vergekeep/wire/ssh"
)

// TestAPlainSSHClientCanLogIn types at a stand-in with OpenSSH's own client.
func TestAPlainSSHClientCanLogIn(t *testing.T) {
	fleet := standin.NewFleet()
	defer fleet.Close()
	d := scenario.New().Device("np-acc-2")
	addr, err := fleet.Add(d)
	require.NoError(t, err)
	_, port, err := net.SplitHostPort(addr)
	require.NoError(t, err)
	ask := filepath.Join(t.TempDir(), "password")
	require.NoError(t, os.WriteFile(ask, []byte("#!/bin/sh\necho "+scenario.Password+"\n"), 0o700))
	cmd := exec.CommandContext(t.Context(), "ssh", "-tt", "-p", port, "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", scenario.User+"@127.0.0.1")
	cmd.Env = append(os.Environ(), "SSH_ASKPASS="+ask, "SSH_ASKPASS_REQUIRE=force")
	cmd.Stdin = strings.NewReader("raise\n" + scenario.Elevation + "\nedit\nsection time\nset zone UTC\nup\ndone\nbye\n")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Contains(t, string(out), "np-acc-2 |edit time| ")
	assert.Contains(t, d.Running(""), "  zone UTC\n")
}

// account is a throw-away login on this machine; root makes it.
func account(t *testing.T, name, shell string, groups ...string) string {
	t.Helper()
	const password = "over-the-verge-1"
	_ = exec.Command("userdel", "-r", name).Run()
	args := []string{"-m", "-s", shell}
	if len(groups) > 0 {
		args = append(args, "-G", strings.Join(groups, ","))
	}
	out, err := exec.Command("useradd", append(args, name)...).CombinedOutput()
	require.NoError(t, err, "%s", out)
	t.Cleanup(func() { _ = exec.Command("userdel", "-r", name).Run() })
	set := exec.Command("chpasswd")
	set.Stdin = strings.NewReader(name + ":" + password + "\n")
	out, err = set.CombinedOutput()
	require.NoError(t, err, "%s", out)
	return password
}

// sshd starts OpenSSH's server on a loopback port.
func sshd(t *testing.T, more ...string) (addr string, port int) {
	t.Helper()
	return sshdIn(t, "", "127.0.0.1", freePort(t), more...)
}

func freePort(t *testing.T) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// sshdIn starts it within a network namespace, if one is named.
func sshdIn(t *testing.T, namespace, host string, port int, more ...string) (addr string, _ int) {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.Chmod(dir, 0o755))
	require.NoError(t, os.MkdirAll("/run/sshd", 0o755))
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(key, "")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "key"), pem.EncodeToMemory(block), 0o600))
	config := fmt.Sprintf("ListenAddress %s\nPort %d\nHostKey %s/key\nPidFile %s/pid\nUsePAM no\nStrictModes no\nPasswordAuthentication yes\nKbdInteractiveAuthentication no\nPrintMotd no\nPrintLastLog no\n%s\n",
		host, port, dir, dir, strings.ReplaceAll(strings.Join(more, "\n"), "PORT", fmt.Sprint(port)))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "config"), []byte(config), 0o600))
	args := []string{"/usr/sbin/sshd", "-D", "-e", "-f", filepath.Join(dir, "config")}
	if namespace != "" {
		args = append([]string{"ip", "netns", "exec", namespace}, args...)
	}
	cmd := exec.Command(args[0], args[1:]...)
	log, err := os.Create(filepath.Join(dir, "log"))
	require.NoError(t, err)
	cmd.Stderr = log
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		_ = log.Close()
		if t.Failed() {
			text, _ := os.ReadFile(log.Name())
			t.Logf("sshd: %s", text)
		}
	})
	addr = fmt.Sprintf("%s:%d", host, port)
	waitFor(t, func() bool {
		text, err := os.ReadFile(log.Name())
		return err == nil && strings.Contains(string(text), "Server listening on")
	})
	return addr, port
}

func waitFor(t *testing.T, ready func() bool) {
	t.Helper()
	require.Eventually(t, ready, 30*time.Second, 50*time.Millisecond)
}

// hold logs in and holds the conversation of a dialect.
func hold(t *testing.T, addr, user, password, text string) (conversation.Result, *dialect.Dialect, error) {
	t.Helper()
	d, err := dialect.Parse("real.yaml", text)
	require.NoError(t, err)
	conn, err := wire.Dial(t.Context(), wire.Target{Addresses: []string{addr}, Login: wire.Login{User: user, Password: password}, Connect: time.Minute, Silence: time.Minute})
	if err != nil {
		return conversation.Result{}, d, err
	}
	defer conn.Close()
	r, err := conversation.Run(t.Context(), conn, d, conversation.Settings{Credential: conversation.Credential{User: user, Password: password}})
	return r, d, err
}

const linux = `
format: 1
name: host
title: A host with a shell
reach: { channel: CHANNEL }
prompts: { shell: '(?P<name>[\w-]+)> ' }
conversation:
STATES
captures: [{ datastore: running, from: config }]
complete: { first: '^line 1$', last: '^line 20000$' }
syntax: { reader: indent }
`

func TestOpenSSHServerOverExecAndShell(t *testing.T) {
	// A shell that is no device: a line editor with control sequences of its own.
	password := account(t, "vk-host", "/bin/bash")
	require.NoError(t, os.WriteFile("/home/vk-host/.bash_profile", []byte("PS1='host-1> '\n"), 0o644))
	addr, _ := sshd(t)
	want := 20_000
	for channel, states := range map[string]string{
		"exec": "  start: config\n  states:\n    config: { send: 'seq -f \"line %g\" 1 20000', keep: config, then: done }",
		"pty":  "  start: arrive\n  leave: exit\n  states:\n    arrive: { on: [{ prompt: shell, go: config }] }\n    config: { send: 'seq -f \"line %g\" 1 20000', keep: config, on: [{ prompt: shell, go: done }] }",
	} {
		r, d, err := hold(t, addr, "vk-host", password, strings.NewReplacer("CHANNEL", channel, "STATES", states).Replace(linux))
		require.NoError(t, err, "%s: %s", channel, string(r.Session))
		require.Len(t, r.Answers, 1)
		text := d.CleanText(r.Answers[0].Text)
		assert.Equal(t, want, strings.Count(text, "\n"), channel)
		assert.NoError(t, d.CheckComplete(d.Tree(text)), channel)
	}
	_, _, err := hold(t, addr, "vk-host", "wrong", strings.NewReplacer("CHANNEL", "exec", "STATES", "  start: a\n  states:\n    a: { send: x, keep: config, then: done }").Replace(linux))
	assert.ErrorContains(t, err, "It refused the login of vk-host.")
}
