//go:build real

package real

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"vergekeep/archive"
	"vergekeep/daemon"
	"vergekeep/service/fleet"
	"vergekeep/service/rounds"
	"vergekeep/service/vault"
)

// keep is a whole service without anybody at its listener.
type keep struct {
	*daemon.Daemon
	t *testing.T
}

func service(t *testing.T) *keep {
	t.Helper()
	d, err := daemon.Open(t.Context(), daemon.Config{Data: t.TempDir(), Listen: "127.0.0.1:0", Concurrency: 8, Log: slog.New(slog.DiscardHandler), Pause: func(int) time.Duration { return 50 * time.Millisecond }})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, d.Close()) })
	return &keep{d, t}
}

func (k *keep) credential(name, selector string, user string, s vault.Secrets) {
	k.t.Helper()
	_, err := k.Vault.Add(k.t.Context(), vault.Credential{Name: name, Selector: selector, Username: user, Secrets: s}, "test", time.Now())
	require.NoError(k.t, err)
}

func (k *keep) device(d fleet.Device) {
	k.t.Helper()
	_, err := k.Fleet.Add(k.t.Context(), d, "test")
	require.NoError(k.t, err)
}

func (k *keep) round(p rounds.Plan) ([]rounds.Visit, rounds.Round) {
	k.t.Helper()
	p.Origin, p.Account = "demand", "test"
	r, err := k.Rounds.StartPlan(k.t.Context(), p)
	require.NoError(k.t, err)
	limited, cancel := context.WithTimeout(k.t.Context(), time.Minute)
	defer cancel()
	r, err = k.Rounds.Wait(limited, r.ID)
	require.NoError(k.t, err)
	visits, err := k.Rounds.Visits(k.t.Context(), r.ID)
	require.NoError(k.t, err)
	return visits, r
}

func (k *keep) text(name, datastore, part string) string {
	k.t.Helper()
	d, err := k.Fleet.Get(k.t.Context(), name)
	require.NoError(k.t, err)
	r, err := k.Archive.Latest(k.t.Context(), archive.Key{Device: d.ID, Datastore: datastore, Part: part})
	require.NoError(k.t, err)
	text, err := k.Archive.Text(k.t.Context(), r)
	require.NoError(k.t, err)
	return text
}

// keyPair is a private key with a passphrase, and its public half.
func keyPair(t *testing.T, passphrase string) (private, public string) {
	t.Helper()
	pub, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKeyWithPassphrase(key, "", []byte(passphrase))
	require.NoError(t, err)
	p, err := ssh.NewPublicKey(pub)
	require.NoError(t, err)
	return string(pem.EncodeToMemory(block)), string(ssh.MarshalAuthorizedKey(p))
}

// rootLogin starts an sshd that lets a key in as root.
func rootLogin(t *testing.T, public string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "authorized")
	require.NoError(t, os.WriteFile(file, []byte(public), 0o644))
	addr, _ := sshd(t, "PermitRootLogin yes", "AuthorizedKeysFile "+file, "Subsystem sftp internal-sftp")
	return addr
}

func TestRealSystemsThroughTheWholeService(t *testing.T) {
	// Each says that its name is this machine's, so each has a service of its own.
	name, err := os.Hostname()
	require.NoError(t, err)
	private, public := keyPair(t, "a passphrase")
	root := vault.Secrets{Key: private, Passphrase: "a passphrase"}

	t.Run("a router and a NETCONF agent", func(t *testing.T) {
		router(t)
		password := account(t, "vk-frr", "/usr/bin/vtysh", "frr", "frrvty")
		addr, _ := sshd(t)
		agentAddr, agentPassword := netconfAgent(t)
		k := service(t)
		k.credential("frr", "platform=frr", "vk-frr", vault.Secrets{Password: password})
		k.credential("netconf", "platform=netconf", "vk-netconf", vault.Secrets{Password: agentPassword})
		k.device(fleet.Device{Name: name, Platform: "frr", Addresses: []string{addr}})
		k.device(fleet.Device{Name: "agent", Platform: "netconf", Addresses: []string{agentAddr}})
		visits, r := k.round(rounds.Plan{Tries: 3})
		require.Equal(t, 2, r.New, "%+v", visits)
		assert.Contains(t, k.text(name, "running", ""), " neighbor 192.0.2.7 remote-as 64501\n")
		assert.Contains(t, k.text("agent", "running", ""), "ietf-netconf-acm")
		k.text("agent", "candidate", "")
		visits, r = k.round(rounds.Plan{Tries: 3})
		assert.Equal(t, 2, r.Unchanged, "%+v", visits)
		// The shipped policy, on a router that nobody made for it.
		found := k.found(name)
		t.Log(found)
		assert.Equal(t, "lacks banner motd **", found["management-plane/banner"])
		assert.Contains(t, found, "keeping/baseline")
		assert.NotContains(t, found, "keeping/fresh")

		enrolled, err := k.Rounds.Enrol(t.Context(), rounds.Enrolment{Addresses: []string{addr, agentAddr}, PerSecond: 10}, "test")
		require.NoError(t, err)
		for i, platform := range []string{"frr", "netconf"} {
			assert.Equal(t, platform, enrolled[i].Platform, "%+v %v", enrolled[i], enrolled[i].Err)
			assert.Equal(t, 99, enrolled[i].Sure, "%v", enrolled[i].Err)
		}
	})
	t.Run("a firewall", func(t *testing.T) {
		firewall(t)
		k := service(t)
		k.credential("root", "", "root", root)
		k.device(fleet.Device{Name: name, Platform: "linux-nftables", Addresses: []string{rootLogin(t, public)}})
		visits, r := k.round(rounds.Plan{})
		require.Equal(t, 1, r.New, "%+v", visits)
		// Its filter lets through what it does not know, and the shipped policy says so.
		said := k.found(name)
		t.Log(said)
		assert.Contains(t, said["management-plane/firewall-filters"], "its policy is not to drop")
		text := k.text(name, "running", "rules")
		assert.Contains(t, text, "\t\ttcp dport 9 drop\n")
		assert.NotEmpty(t, k.text(name, "startup", "rules"), "the file, fetched by SFTP")
		out, err := exec.Command("nft", "add", "rule", "inet", "vk_test", "input", "udp", "dport", "9", "drop").CombinedOutput()
		require.NoError(t, err, "%s", out)
		_, r = k.round(rounds.Plan{})
		assert.Equal(t, 1, r.New)
		assert.Contains(t, k.text(name, "running", "rules"), "udp dport 9 drop")

		t.Run("found out by SNMP", func(t *testing.T) {
			at := agent(t)
			for way, secrets := range map[string]vault.Secrets{
				"version 2c": {Community: "see-the-sea"},
				"version 3":  {Authentication: "gull-gull-gull", Privacy: "tern-tern-tern"},
			} {
				k := service(t)
				k.credential("root", "", "root", root)
				k.credential("snmp", "", "watcher", secrets)
				found, err := k.Rounds.Enrol(t.Context(), rounds.Enrolment{Addresses: []string{rootLogin(t, public), "127.0.0.1:1"}, SNMPPort: at, PerSecond: 10}, "test")
				require.NoError(t, err)
				require.Len(t, found, 2)
				require.Nil(t, found[0].Err, way)
				assert.Equal(t, "linux-nftables", found[0].Platform, way)
				assert.Equal(t, 99, found[0].Sure, way)
				assert.Contains(t, found[0].Because, "its sysObjectID", way)
				assert.Contains(t, found[0].Because, "its sysDescr", way)
				// Where nobody lets us in, that much is known all the same.
				assert.Equal(t, "refused", string(found[1].Err.Code), way)
				assert.Equal(t, "linux-nftables", found[1].Platform, way)
				assert.Equal(t, "ng-fw-7", found[1].Nameplate.Name, way)
			}
		})
	})
	t.Run("the guide's device", func(t *testing.T) {
		// The shell that docs/dialects.md writes a dialect for, behind a real sshd.
		const folder = "../docs/examples/fairlead/"
		script, err := os.ReadFile(folder + "device")
		require.NoError(t, err)
		shell := filepath.Join("/opt", "vk-fairlead")
		require.NoError(t, os.WriteFile(shell, script, 0o755))
		t.Cleanup(func() { _ = os.Remove(shell) })
		password := account(t, "vk-fl", shell)
		addr, _ := sshd(t)
		text, err := os.ReadFile(folder + "fairlead.yaml")
		require.NoError(t, err)
		k := service(t)
		k.credential("fairlead", "", "vk-fl", vault.Secrets{Password: password})
		d := fleet.Device{Name: "fl-07", Platform: "tidegate", Addresses: []string{addr}, State: fleet.Active}
		for _, paging := range []string{"page off", "page on"} { // the other is not known there, so that it pages
			tried, err := k.Rounds.Try(t.Context(), d, strings.Replace(string(text), "page off", paging, 1), true)
			require.NoError(t, err)
			if paging == "page on" {
				require.NotNil(t, tried.Err)
				assert.Equal(t, "device-error", string(tried.Err.Code))
				tolerant := strings.Replace(string(text), "send: page off\n", "send: page on\n      tolerate: true\n", 1)
				tried, err = k.Rounds.Try(t.Context(), d, tolerant, true)
				require.NoError(t, err)
			}
			require.Nil(t, tried.Err, "%v", tried.Err)
			require.Len(t, tried.Captures, 2)
			assert.Equal(t, 16, tried.Captures[0].Lines)
			assert.NotContains(t, tried.Recording, "gull-and-tern")
			assert.NotContains(t, tried.Recording, password)
		}
	})
	t.Run("a switch", func(t *testing.T) {
		vswitch(t)
		k := service(t)
		k.credential("root", "", "root", root)
		k.device(fleet.Device{Name: name, Platform: "openvswitch", Addresses: []string{rootLogin(t, public)}})
		visits, r := k.round(rounds.Plan{})
		require.Equal(t, 1, r.New, "%+v", visits)
		assert.Contains(t, k.text(name, "running", ""), "    Bridge br-skerry\n")
		assert.Contains(t, k.text(name, "running", ""), "tag: 30")
		login, err := k.Rounds.TryLogin(t.Context(), k.get(name))
		require.NoError(t, err)
		assert.Equal(t, "root", login.Credential)
	})
}

func (k *keep) get(name string) fleet.Device {
	k.t.Helper()
	d, err := k.Fleet.Get(k.t.Context(), name)
	require.NoError(k.t, err)
	return d
}

// firewall loads a table into nftables, in a namespace-free table of its own.
func firewall(t *testing.T) {
	t.Helper()
	rules := "table inet vk_test {\n chain input {\n  type filter hook input priority 10; policy accept;\n  tcp dport 9 drop\n }\n}\n"
	cmd := exec.Command("nft", "-f", "-")
	cmd.Stdin = strings.NewReader(rules)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	t.Cleanup(func() { _ = exec.Command("nft", "delete", "table", "inet", "vk_test").Run() })
}

// vswitch starts Open vSwitch's database and gives it a bridge.
func vswitch(t *testing.T) {
	t.Helper()
	require.NoError(t, os.MkdirAll("/run/openvswitch", 0o755))
	db := filepath.Join(t.TempDir(), "conf.db")
	out, err := exec.Command("ovsdb-tool", "create", db, "/usr/share/openvswitch/vswitch.ovsschema").CombinedOutput()
	require.NoError(t, err, "%s", out)
	_ = os.Remove("/run/openvswitch/db.sock")
	server := exec.Command("ovsdb-server", db, "--remote=punix:/run/openvswitch/db.sock", "--unixctl="+filepath.Join(t.TempDir(), "ctl"))
	require.NoError(t, server.Start())
	t.Cleanup(func() { _ = server.Process.Kill(); _ = server.Wait() })
	waitFor(t, func() bool { return exec.Command("ovs-vsctl", "--no-wait", "init").Run() == nil })
	out, err = exec.Command("ovs-vsctl", "--no-wait", "add-br", "br-skerry", "--", "set", "bridge", "br-skerry", "datapath_type=netdev", "--", "add-port", "br-skerry", "port7", "tag=30").CombinedOutput()
	require.NoError(t, err, "%s", out)
}

// far is a network namespace that only a jump host's sshd reaches into.
func far(t *testing.T) (namespace, near string) {
	t.Helper()
	const name, here, there = "vk-far", "198.18.99.1", "198.18.99.2"
	run := func(args ...string) {
		t.Helper()
		out, err := exec.Command("ip", args...).CombinedOutput()
		require.NoError(t, err, "ip %v: %s", args, out)
	}
	_ = exec.Command("ip", "netns", "del", name).Run()
	_ = exec.Command("ip", "link", "del", "vk-near").Run()
	run("netns", "add", name)
	t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", name).Run() })
	run("link", "add", "vk-near", "type", "veth", "peer", "name", "vk-there", "netns", name)
	run("addr", "add", here+"/30", "dev", "vk-near")
	run("link", "set", "vk-near", "up")
	run("-n", name, "addr", "add", there+"/30", "dev", "vk-there")
	run("-n", name, "link", "set", "vk-there", "up")
	run("-n", name, "link", "set", "lo", "up")
	return name, there
}

// wireProxy is a proxy with a delay, which can cut every connection.
type wireProxy struct {
	addr  string
	delay time.Duration
	cut   atomic.Int64 // bytes after which a connection is cut; 0 never
}

func proxy(t *testing.T, to string, delay time.Duration) *wireProxy {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	p := &wireProxy{addr: l.Addr().String(), delay: delay}
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go p.serve(c, to)
		}
	}()
	return p
}

func (p *wireProxy) serve(c net.Conn, to string) {
	defer c.Close()
	up, err := net.DialTimeout("tcp", to, time.Minute)
	if err != nil {
		return
	}
	defer up.Close()
	var sent atomic.Int64
	pump := func(dst, src net.Conn, done chan<- struct{}) {
		defer close(done)
		buf := make([]byte, 4096)
		for {
			n, err := src.Read(buf)
			if n > 0 {
				time.Sleep(p.delay)
				if cut := p.cut.Load(); cut > 0 && sent.Add(int64(n)) > cut {
					return
				}
				if _, err := dst.Write(buf[:n]); err != nil {
					return
				}
			}
			if err != nil {
				return
			}
		}
	}
	a, b := make(chan struct{}), make(chan struct{})
	go pump(up, c, a)
	go pump(c, up, b)
	select {
	case <-a:
	case <-b:
	}
}

func TestThroughAJumpHostInAnotherNamespace(t *testing.T) {
	router(t)
	frrPassword := account(t, "vk-frr", "/usr/bin/vtysh", "frr", "frrvty")
	jumpPassword := account(t, "vk-jump", "/bin/false")
	namespace, near := far(t)
	port := freePort(t)
	sshdIn(t, namespace, "127.0.0.1", port) // reachable in there only
	jumpAddr, _ := sshdIn(t, namespace, near, 2222, "AllowTcpForwarding yes")
	slow := proxy(t, jumpAddr, 15*time.Millisecond)

	k := service(t)
	k.credential("frr", "platform=frr", "vk-frr", vault.Secrets{Password: frrPassword})
	k.credential("jump", "name=nothing", "vk-jump", vault.Secrets{Password: jumpPassword})
	require.NoError(t, k.Fleet.SetJump(t.Context(), fleet.Jump{Name: "far side", Address: slow.addr, Credential: "jump", AtOnce: 2}, "test"))
	name, err := os.Hostname()
	require.NoError(t, err)
	k.device(fleet.Device{Name: name, Platform: "frr", Addresses: []string{fmt.Sprintf("127.0.0.1:%d", port)}, Via: "far side"})
	visits, r := k.round(rounds.Plan{})
	require.Equal(t, 1, r.New, "%+v", visits)
	jumps, err := k.Fleet.Jumps(t.Context())
	require.NoError(t, err)
	assert.Len(t, jumps[0].HostKeys, 1, "its key is on record now")

	// The line is cut in the middle: nothing is archived, and the next try gets through.
	slow.cut.Store(1500)
	visits, _ = k.round(rounds.Plan{})
	assert.Equal(t, rounds.Failed, visits[0].Outcome)
	assert.Contains(t, []string{"hung-up", "jump-host-failed"}, string(visits[0].Reason), visits[0].What)
	go func() {
		time.Sleep(600 * time.Millisecond)
		slow.cut.Store(0)
	}()
	visits, _ = k.round(rounds.Plan{Tries: 10})
	assert.Equal(t, rounds.Unchanged, visits[0].Outcome, visits[0].What)

	// What is wrong behind the jump host is told from what is wrong with it.
	k.device(fleet.Device{Name: "nobody", Platform: "frr", Addresses: []string{"127.0.0.1:1"}, Via: "far side"})
	visits, _ = k.round(rounds.Plan{Selector: "name=nobody"})
	assert.Equal(t, "refused", string(visits[0].Reason), visits[0].What)
	assert.Contains(t, visits[0].What, "Through the jump host far side")
	require.NoError(t, k.Fleet.SetJump(t.Context(), fleet.Jump{Name: "gone", Address: "127.0.0.1:1", Credential: "jump"}, "test"))
	k.device(fleet.Device{Name: "behind", Platform: "frr", Addresses: []string{"127.0.0.1:22"}, Via: "gone"})
	visits, _ = k.round(rounds.Plan{Selector: "name=behind"})
	assert.Equal(t, "jump-host-failed", string(visits[0].Reason), visits[0].What)
}
