//go:build real

package real

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"log/slog"
	"math/big"
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

	"vergekeep/daemon"
	"vergekeep/service/changes"
	"vergekeep/service/fleet"
	"vergekeep/service/notify"
	"vergekeep/service/post"
	"vergekeep/service/rounds"
	"vergekeep/service/vault"
	"vergekeep/standin"
	"vergekeep/standin/postbox"
	"vergekeep/standin/scenario"
	"vergekeep/wire/netconf"
)

// watching is a service that serves and takes signals by every way.
func watching(t *testing.T) *keep {
	t.Helper()
	dir := t.TempDir()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour), DNSNames: []string{"localhost"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	raw, err := x509.MarshalECPrivateKey(key)
	require.NoError(t, err)
	cert, private := filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	require.NoError(t, os.WriteFile(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o644))
	require.NoError(t, os.WriteFile(private, pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: raw}), 0o600))
	d, err := daemon.Open(t.Context(), daemon.Config{Data: filepath.Join(dir), Listen: "127.0.0.1:0", Cert: cert, Key: private, Concurrency: 8, Log: slog.New(slog.DiscardHandler), Quiet: 500 * time.Millisecond,
		SyslogUDP: "127.0.0.1:0", SyslogTCP: "127.0.0.1:0", SyslogTLS: "127.0.0.1:0", Traps: "127.0.0.1:0"})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	served := make(chan error, 1)
	go func() { served <- d.Serve(ctx) }()
	t.Cleanup(func() {
		cancel()
		assert.NoError(t, <-served)
		assert.NoError(t, d.Close())
	})
	t.Setenv("WATCH_CERT", cert)
	return &keep{d, t}
}

// change waits for the newest change to have signals.
func (k *keep) change(n int) changes.Change {
	k.t.Helper()
	var list []changes.Change
	require.Eventually(k.t, func() bool {
		var err error
		list, _, err = k.Changes.List(k.t.Context(), changes.Filter{})
		return err == nil && len(list) == n && list[0].Signals > 0 && len(list[0].Sections) > 0
	}, time.Minute, 50*time.Millisecond)
	return list[0]
}

// device adds a stand-in, and captures it.
func (k *keep) standIn(name string) *standin.Device {
	k.t.Helper()
	f := standin.NewFleet()
	k.t.Cleanup(f.Close)
	d := scenario.New().Device(name)
	addr, err := f.Add(d)
	require.NoError(k.t, err)
	k.credential("keeper", "", scenario.User, vault.Secrets{Password: scenario.Password, Elevation: scenario.Elevation})
	k.device(fleet.Device{Name: name, Platform: string(d.Platform), Addresses: []string{addr}})
	k.round(rounds.Plan{})
	require.NoError(k.t, k.Signals.Settle(k.t.Context()))
	return d
}

// rsyslog runs with a configuration.
func rsyslog(t *testing.T, config string) {
	t.Helper()
	dir := t.TempDir()
	file := filepath.Join(dir, "rsyslog.conf")
	require.NoError(t, os.WriteFile(file, []byte(fmt.Sprintf("global(workDirectory=%q)\n%s", dir, config)), 0o600))
	cmd := exec.Command("rsyslogd", "-n", "-f", file, "-i", filepath.Join(dir, "pid"))
	var said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &said, &said
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		if t.Failed() {
			t.Logf("rsyslogd: %s", said.String())
		}
	})
}

// forward is an action that hands everything on by TCP, framed by counting, or by
// TLS.
func forward(t *testing.T, address string, tls bool) string {
	t.Helper()
	host, port, err := net.SplitHostPort(address)
	require.NoError(t, err)
	if !tls {
		return fmt.Sprintf(`action(type="omfwd" target=%q port=%q protocol="tcp" TCP_Framing="octet-counted" template="RSYSLOG_SyslogProtocol23Format")`+"\n", host, port)
	}
	return fmt.Sprintf(`global(DefaultNetstreamDriverCAFile=%q)
action(type="omfwd" target=%q port=%q protocol="tcp" TCP_Framing="octet-counted" StreamDriver="gtls" StreamDriverMode="1" StreamDriverAuthMode="x509/certvalid" template="RSYSLOG_SyslogProtocol23Format")
`, os.Getenv("WATCH_CERT"), host, port)
}

// TestRsyslogForwards a device's message by TCP and by TLS.
func TestRsyslogForwards(t *testing.T) {
	for _, by := range []string{"tcp", "tls"} {
		t.Run(by, func(t *testing.T) {
			k := watching(t)
			d := k.standIn("np-acc-2")
			_, streams := k.Inlet.Addresses()
			to := map[string]string{"tcp": streams[0], "tls": streams[1]}[by]
			port := freePort(t)
			rsyslog(t, fmt.Sprintf("module(load=\"imudp\")\ninput(type=\"imudp\" address=\"127.0.0.1\" port=\"%d\")\n", port)+forward(t, to, by == "tls"))
			relay := fmt.Sprintf("127.0.0.1:%d", port)
			// What is sent before it listens is lost, as it is with UDP.
			require.Eventually(t, func() bool {
				standin.Tell(relay, "")(standin.Said{Syslog: "<134>Nov 20 02:14:07 np-acc-2 keeper: signed in: nobody"})
				received, _, _, _ := k.Signals.Counts()
				return received > 0
			}, time.Minute, 100*time.Millisecond)
			d.Outlet = standin.Tell(relay, "")
			d.Change("neteng", "", false, func(s string) string { return strings.Replace(s, "Europe/Oslo", "UTC", 1) })
			x := k.change(1)
			assert.Equal(t, []string{"neteng"}, x.Accounts)
			list, err := k.Signals.List(t.Context(), "", "", x.ID, 0, 10)
			require.NoError(t, err)
			assert.True(t, strings.HasPrefix(list[0].Listener, by+" "), list[0].Listener)
		})
	}
}

// TestSnmptrapIsUnderstood sends notifications of versions 2c and 3, and an inform
// that has to be answered.
func TestSnmptrapIsUnderstood(t *testing.T) {
	k := watching(t)
	k.credential("traps", "", "watch", vault.Secrets{Authentication: "long-enough-1", Privacy: "long-enough-2"})
	d := k.standIn("hh-fw-1")
	packets, _ := k.Inlet.Addresses()
	for i, c := range []struct {
		who  string
		args []string
	}{
		{"operator-2c", []string{"-v2c", "-c", "skerry-watch"}},
		{"operator-inform", []string{"-v2c", "-c", "skerry-watch", "-Ci"}},
		{"operator-sha", []string{"-v3", "-e", "0x8000000001020304", "-u", "watch", "-l", "authPriv", "-a", "SHA", "-A", "long-enough-1", "-x", "AES", "-X", "long-enough-2"}},
		{"operator-sha256", []string{"-v3", "-e", "0x8000000001020305", "-u", "watch", "-l", "authPriv", "-a", "SHA-256", "-A", "long-enough-1", "-x", "AES", "-X", "long-enough-2"}},
		{"operator-3-inform", []string{"-v3", "-u", "watch", "-l", "authPriv", "-a", "SHA-256", "-A", "long-enough-1", "-x", "AES", "-X", "long-enough-2", "-Ci"}},
	} {
		d.Change(c.who, "main", false, func(s string) string {
			return s + fmt.Sprintf("lay rules inside-out rule %d pass from partners to any service web\n", 700+i)
		})
		out, err := exec.Command("snmptrap", append(c.args, packets[1], "", "1.3.6.1.4.1.32473.40.0.1",
			"1.3.6.1.2.1.1.5.0", "s", "hh-fw-1", "1.3.6.1.4.1.32473.40.1.1.0", "s", c.who, "1.3.6.1.4.1.32473.40.1.2.0", "s", "198.51.100.9")...).CombinedOutput()
		require.NoError(t, err, "%s: %s", c.who, out) // an inform without an answer fails
		x := k.change(i + 1)
		assert.Equal(t, []string{c.who}, x.Accounts)
		assert.Equal(t, []string{"198.51.100.9"}, x.Sources)
	}
	// Somebody who does not have the pass phrase says nothing.
	out, err := exec.Command("snmptrap", "-v3", "-e", "0x8000000001020306", "-u", "watch", "-l", "authPriv", "-a", "SHA", "-A", "something-else", "-x", "AES", "-X", "long-enough-2", packets[1], "", "1.3.6.1.4.1.32473.40.0.1",
		"1.3.6.1.2.1.1.5.0", "s", "hh-fw-1", "1.3.6.1.4.1.32473.40.1.1.0", "s", "forger").CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.Eventually(t, func() bool { _, garbled := k.Inlet.Refused(); return garbled >= 1 }, time.Minute, 50*time.Millisecond)
	list, err := k.Signals.List(t.Context(), "", "", 0, 0, 50)
	require.NoError(t, err)
	assert.Len(t, list, 5)
}

// TestARealAgentNotifies has a second session edit netconfd's configuration.
func TestARealAgentNotifies(t *testing.T) {
	addr, password := netconfAgent(t)
	watch := account(t, "vk-watch", "/bin/bash")
	k := watching(t)
	k.credential("watch", "", "vk-watch", vault.Secrets{Password: watch})
	k.device(fleet.Device{Name: "agent", Platform: "netconf", Addresses: []string{addr}})
	k.round(rounds.Plan{})
	require.Eventually(t, func() bool { now, _ := k.Signals.Listening(); return now == 1 }, time.Minute, 50*time.Millisecond)

	c, err := ssh.Dial("tcp", addr, &ssh.ClientConfig{User: "vk-netconf", Auth: []ssh.AuthMethod{ssh.Password(password)}, HostKeyCallback: ssh.InsecureIgnoreHostKey()}) //nolint:gosec // a test's own server
	require.NoError(t, err)
	defer c.Close()
	session, err := c.NewSession()
	require.NoError(t, err)
	in, err := session.StdinPipe()
	require.NoError(t, err)
	out, err := session.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, session.RequestSubsystem("netconf"))
	s, err := netconf.Open(struct {
		io.Reader
		io.Writer
	}{out, in}, 1<<20)
	require.NoError(t, err)
	_, err = s.Call(`<edit-config><target><candidate/></target><config><system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><contact>edited by a second session</contact></system></config></edit-config>`)
	require.NoError(t, err)
	_, err = s.Call(`<commit/>`)
	require.NoError(t, err)
	x := k.change(1)
	assert.Equal(t, []string{"vk-netconf"}, x.Accounts)
	assert.NotEmpty(t, x.First)
	require.NotEmpty(t, x.Texts)
	assert.Contains(t, k.text("agent", "running", ""), "edited by a second session")
}

// TestFromTheKeystrokeToTheMail follows a change that is typed into FRRouting's
// shell: its log goes by syslog to rsyslog and on to the service, and the
// difference is in a letter.
func TestFromTheKeystrokeToTheMail(t *testing.T) {
	// Where this machine has a syslog of its own, that is left alone: rsyslog then
	// reads the router's log from a file.
	input := "module(load=\"imuxsock\" SysSock.Use=\"off\")\ninput(type=\"imuxsock\" Socket=\"/dev/log\")\n"
	logTo := "log syslog informational"
	const logFile = "/var/log/frr/keystrokes.log"
	_, err := os.Lstat("/dev/log")
	own := err == nil
	if own {
		_ = os.Remove(logFile)
		t.Cleanup(func() { _ = os.Remove(logFile) })
		input = fmt.Sprintf("module(load=\"imfile\")\ninput(type=\"imfile\" File=%q Tag=\"frr\" Severity=\"info\" Facility=\"daemon\")\n", logFile)
		logTo = "log file " + logFile + " informational"
	}
	box, err := postbox.Open(postbox.Never)
	require.NoError(t, err)
	defer func() { assert.NoError(t, box.Close()) }()
	k := watching(t)
	_, streams := k.Inlet.Addresses()
	rsyslog(t, input+forward(t, streams[0], false))
	if !own {
		t.Cleanup(func() { _ = os.Remove("/dev/log") })
		waitFor(t, func() bool { _, err := os.Stat("/dev/log"); return err == nil })
	}
	router(t)
	logged, err := exec.Command("vtysh", "-c", "configure terminal", "-c", logTo, "-c", "log commands").CombinedOutput()
	require.NoError(t, err, "%s", logged)
	password := account(t, "vk-frr", "/usr/bin/vtysh", "frr", "frrvty")
	addr, _ := sshd(t)
	name, err := os.Hostname()
	require.NoError(t, err)
	k.credential("frr", "", "vk-frr", vault.Secrets{Password: password})
	k.device(fleet.Device{Name: name, Platform: "frr", Addresses: []string{addr}})
	k.round(rounds.Plan{})
	require.NoError(t, k.Signals.Settle(t.Context()))
	require.NoError(t, post.New(k.Database(), k.Vault, time.Now).Set(t.Context(), post.Settings{Server: box.Address, Security: "none", Sender: "keep@skerry.example"}))
	require.NoError(t, k.Notify.SetChannel(t.Context(), notify.Channel{Name: "team", Kind: notify.Mail, Target: "noc@skerry.example", Account: "test"}))
	require.NoError(t, k.Notify.SetSubscription(t.Context(), notify.Subscription{Name: "all", Events: []notify.Kind{notify.Changed}, Channel: "team", Account: "test"}))

	word := fmt.Sprintf("at-%d", time.Now().Unix()%100000)
	typed := time.Now()
	shell := exec.Command("vtysh")
	shell.Stdin = strings.NewReader("configure terminal\ninterface lo\ndescription typed " + word + "\nexit\nrouter bgp 64500\nneighbor 192.0.2.7 password an0thersecret\n")
	said, err := shell.CombinedOutput()
	require.NoError(t, err, "%s", said)
	x := k.change(1)
	assert.Equal(t, []string{"vty"}, x.Methods)
	assert.Contains(t, x.Sections, "interface lo")
	var letters []postbox.Letter
	require.Eventually(t, func() bool { letters = box.Letters(); return len(letters) > 0 }, time.Minute, 20*time.Millisecond)
	arrived := time.Now()
	parts, err := letters[0].Parts()
	require.NoError(t, err)
	assert.Contains(t, parts["text/plain"], "description typed "+word)
	for _, secret := range []string{"an0thersecret", "zzpeersecret"} {
		assert.NotContains(t, parts["text/plain"], secret)
		assert.NotContains(t, parts["text/html"], secret)
	}
	list, err := k.Signals.List(t.Context(), "", "", x.ID, 0, 50)
	require.NoError(t, err)
	for _, g := range list {
		assert.NotContains(t, g.Text, "an0thersecret")
	}
	t.Logf("typed at 0 ms; first message here after %d ms, last after %d ms; captured after %d ms (quiet 500 ms); mail taken after %d ms",
		x.First.Sub(typed).Milliseconds(), x.Last.Sub(typed).Milliseconds(), x.Found.Sub(typed).Milliseconds(), arrived.Sub(typed).Milliseconds())
}
