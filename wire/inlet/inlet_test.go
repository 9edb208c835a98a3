package inlet

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"math/big"
	"net"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/gosnmp/gosnmp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/core/dialect"
)

// heard gathers what arrives.
type heard struct {
	mu   sync.Mutex
	list []Message
}

func (h *heard) take(m Message) {
	h.mu.Lock()
	defer h.mu.Unlock()
	m.Raw = append([]byte(nil), m.Raw...)
	h.list = append(h.list, m)
}

func (h *heard) texts() (all []string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, m := range h.list {
		all = append(all, string(m.Raw))
	}
	return all
}

func (h *heard) traps() (all []Trap) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, m := range h.list {
		if m.Medium == dialect.ByTrap {
			all = append(all, *m.Trap)
		}
	}
	return all
}

func certificate(t *testing.T) *tls.Config {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour), DNSNames: []string{"keep.skerry.example"}}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	return &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}, MinVersion: tls.VersionTLS12}
}

func listen(t *testing.T, c Config) (*Inlet, *heard) {
	t.Helper()
	h := &heard{}
	c.Handle = h.take
	in, err := Listen(t.Context(), c)
	require.NoError(t, err)
	t.Cleanup(in.Close)
	return in, h
}

func TestSyslogByEveryWay(t *testing.T) {
	conf := certificate(t)
	in, h := listen(t, Config{UDP: "127.0.0.1:0", TCP: "127.0.0.1:0", TLS: "127.0.0.1:0", Certificate: conf})
	packets, streams := in.Addresses()
	u, err := net.Dial("udp", packets[0])
	require.NoError(t, err)
	defer u.Close()
	_, err = u.Write([]byte("<189>by udp"))
	require.NoError(t, err)
	c, err := net.Dial("tcp", streams[0])
	require.NoError(t, err)
	defer c.Close()
	_, err = c.Write([]byte("<189>by line\n14 <189>by octets"))
	require.NoError(t, err)
	s, err := tls.Dial("tcp", streams[1], &tls.Config{InsecureSkipVerify: true}) //nolint:gosec // a test's own certificate
	require.NoError(t, err)
	defer s.Close()
	_, err = s.Write([]byte("11 <189>by tls"))
	require.NoError(t, err)
	require.EventuallyWithT(t, func(c *assert.CollectT) {
		assert.ElementsMatch(c, []string{"<189>by udp", "<189>by line\n", "<189>by octets", "<189>by tls"}, h.texts())
	}, time.Minute, 10*time.Millisecond)
	for _, m := range h.list {
		assert.Equal(t, "127.0.0.1", m.From.Addr().String())
		assert.NotZero(t, m.Arrived)
	}
}

func TestAStreamOfNoMessagesIsEnded(t *testing.T) {
	in, h := listen(t, Config{TCP: "127.0.0.1:0"})
	_, streams := in.Addresses()
	c, err := net.Dial("tcp", streams[0])
	require.NoError(t, err)
	defer c.Close()
	_, err = c.Write([]byte("12x <189>nothing of the kind"))
	require.NoError(t, err)
	require.NoError(t, c.SetReadDeadline(time.Now().Add(time.Minute)))
	_, err = c.Read(make([]byte, 1))
	require.Error(t, err)
	_, garbled := in.Refused()
	assert.EqualValues(t, 1, garbled)
	assert.Empty(t, h.texts())
}

func TestTLSTakesACertificate(t *testing.T) {
	_, err := Listen(t.Context(), Config{TLS: "127.0.0.1:0"})
	assert.ErrorContains(t, err, "certificate")
}

func sender(t *testing.T, address string) *gosnmp.GoSNMP {
	t.Helper()
	host, port, err := net.SplitHostPort(address)
	require.NoError(t, err)
	n, err := strconv.ParseUint(port, 10, 16)
	require.NoError(t, err)
	return &gosnmp.GoSNMP{Target: host, Port: uint16(n), Version: gosnmp.Version2c, Community: "see-the-sea", Timeout: time.Minute, Logger: silent, MaxOids: 60}
}

var laid = gosnmp.SnmpTrap{Variables: []gosnmp.SnmpPDU{
	{Name: "." + trapOID, Type: gosnmp.ObjectIdentifier, Value: ".1.3.6.1.4.1.32473.40.0.1"},
	{Name: ".1.3.6.1.4.1.32473.40.1.1.0", Type: gosnmp.OctetString, Value: "fwteam"},
	{Name: ".1.3.6.1.4.1.32473.40.1.9.0", Type: gosnmp.Integer, Value: 7},
}}

func TestTraps(t *testing.T) {
	want := map[string]string{"1.3.6.1.4.1.32473.40.1.1.0": "fwteam", "1.3.6.1.4.1.32473.40.1.9.0": "7"}
	users := func() []User { return []User{{"watch", "long-enough-1", "long-enough-2"}} }
	user := func(auth gosnmp.SnmpV3AuthProtocol, phrase string) *gosnmp.UsmSecurityParameters {
		return &gosnmp.UsmSecurityParameters{UserName: "watch", AuthenticationProtocol: auth, AuthenticationPassphrase: phrase, PrivacyProtocol: gosnmp.AES, PrivacyPassphrase: "long-enough-2", AuthoritativeEngineID: "\x80\x00\x7e\xd9\x05sender", Logger: silent}
	}
	for name, c := range map[string]struct {
		inform bool
		set    func(*gosnmp.GoSNMP)
		want   *Trap
	}{
		"version 2c":          {false, func(*gosnmp.GoSNMP) {}, &Trap{Version: "2c", Community: "see-the-sea", ID: "1.3.6.1.4.1.32473.40.0.1", Values: want}},
		"an inform":           {true, func(*gosnmp.GoSNMP) {}, &Trap{Version: "2c", Community: "see-the-sea", ID: "1.3.6.1.4.1.32473.40.0.1", Values: want}},
		"version 3":           {false, func(g *gosnmp.GoSNMP) { g.SecurityParameters = user(gosnmp.SHA256, "long-enough-1") }, &Trap{Version: "3", User: "watch", ID: "1.3.6.1.4.1.32473.40.0.1", Values: want}},
		"version 3, older":    {false, func(g *gosnmp.GoSNMP) { g.SecurityParameters = user(gosnmp.SHA, "long-enough-1") }, &Trap{Version: "3", User: "watch", ID: "1.3.6.1.4.1.32473.40.0.1", Values: want}},
		"version 3, a forger": {false, func(g *gosnmp.GoSNMP) { g.SecurityParameters = user(gosnmp.SHA256, "something-else") }, nil},
		"version 3, unsecured": {false, func(g *gosnmp.GoSNMP) {
			g.SecurityParameters = &gosnmp.UsmSecurityParameters{UserName: "watch", AuthoritativeEngineID: "\x80\x00\x7e\xd9\x05sender", Logger: silent}
		}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			in, h := listen(t, Config{Traps: "127.0.0.1:0", Users: users})
			packets, _ := in.Addresses()
			g := sender(t, packets[0])
			c.set(g)
			if g.SecurityParameters != nil {
				g.Version, g.SecurityModel = gosnmp.Version3, gosnmp.UserSecurityModel
				if name != "version 3, unsecured" {
					g.MsgFlags = gosnmp.AuthPriv
				}
			}
			require.NoError(t, g.Connect())
			defer g.Close()
			trap := laid
			trap.IsInform = c.inform
			_, err := g.SendTrap(trap)
			require.NoError(t, err)
			require.EventuallyWithT(t, func(ct *assert.CollectT) {
				_, garbled := in.Refused()
				if c.want == nil {
					assert.EqualValues(ct, 1, garbled)
					return
				}
				assert.Equal(ct, []Trap{*c.want}, h.traps())
			}, time.Minute, 10*time.Millisecond)
			if c.want == nil {
				assert.Empty(t, h.traps())
			}
		})
	}
}

// FuzzTrap reads whatever may come.
func FuzzTrap(f *testing.F) {
	p := &gosnmp.SnmpPacket{Version: gosnmp.Version2c, Community: "c", PDUType: gosnmp.SNMPv2Trap, Variables: laid.Variables, Logger: silent}
	raw, err := p.MarshalMsg()
	require.NoError(f, err)
	f.Add(raw)
	f.Add([]byte("\x30\x82\x00\x05\x02\x01\x03"))
	f.Add([]byte{})
	users := func() []User { return []User{{"watch", "long-enough-1", ""}} }
	r := newReader()
	f.Fuzz(func(t *testing.T, raw []byte) {
		trap, _, err := r.read(raw, users)
		if err == nil && trap != nil && trap.ID == "" {
			t.Fatal("a trap of nothing")
		}
	})
}
