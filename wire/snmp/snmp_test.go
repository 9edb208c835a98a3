package snmp

import (
	"net"
	"strings"
	"testing"
	"time"

	"github.com/gosnmp/gosnmp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/core/reason"
)

// answering is an agent of version 2c that answers each request as f says.
func answering(t *testing.T, f func(asked *gosnmp.SnmpPacket) []byte) string {
	t.Helper()
	l, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		buf := make([]byte, 65536)
		for {
			n, from, err := l.ReadFrom(buf)
			if err != nil {
				return
			}
			asked, err := gosnmp.Default.SnmpDecodePacket(buf[:n])
			if err != nil {
				continue
			}
			_, _ = l.WriteTo(f(asked), from)
		}
	}()
	return l.LocalAddr().String()
}

func reply(t *testing.T, change func(*gosnmp.SnmpPacket)) func(*gosnmp.SnmpPacket) []byte {
	return func(asked *gosnmp.SnmpPacket) []byte {
		asked.PDUType = gosnmp.GetResponse
		change(asked)
		raw, err := asked.MarshalMsg()
		assert.NoError(t, err)
		return raw
	}
}

func pdu(name string, kind gosnmp.Asn1BER, value any) gosnmp.SnmpPDU {
	return gosnmp.SnmpPDU{Name: "." + name, Type: kind, Value: value}
}

func TestWhatAnAgentSays(t *testing.T) {
	for name, c := range map[string]struct {
		answer []gosnmp.SnmpPDU
		want   System
		reason reason.Code
	}{
		"all three": {[]gosnmp.SnmpPDU{
			pdu(sysObjectID, gosnmp.ObjectIdentifier, ".1.3.6.1.4.1.32473.9.1"),
			pdu(sysDescr, gosnmp.OctetString, "Tidegate\r\n access  switch"), pdu(sysName, gosnmp.OctetString, "np-acc-1"),
		}, System{ObjectID: "1.3.6.1.4.1.32473.9.1", Descr: "Tidegate access switch", Name: "np-acc-1"}, ""},
		"only a name":          {[]gosnmp.SnmpPDU{pdu(sysName, gosnmp.OctetString, "np-acc-1"), pdu(sysDescr, gosnmp.NoSuchObject, nil)}, System{Name: "np-acc-1"}, ""},
		"bytes of no text":     {[]gosnmp.SnmpPDU{pdu(sysName, gosnmp.OctetString, "np\xff")}, System{Name: "np\ufffd"}, ""},
		"too long":             {[]gosnmp.SnmpPDU{pdu(sysDescr, gosnmp.OctetString, strings.Repeat("x", 3000))}, System{Descr: strings.Repeat("x", 255)}, ""},
		"another type":         {[]gosnmp.SnmpPDU{pdu(sysName, gosnmp.Integer, 7)}, System{}, reason.Protocol},
		"nothing it was asked": {[]gosnmp.SnmpPDU{pdu("1.3.6.1.2.1.1.9.0", gosnmp.OctetString, "x")}, System{}, reason.Protocol},
	} {
		t.Run(name, func(t *testing.T) {
			at := answering(t, reply(t, func(p *gosnmp.SnmpPacket) { p.Variables = c.answer }))
			got, err := Ask(t.Context(), Target{Address: at, Community: "see-the-sea", Timeout: time.Minute})
			assert.Equal(t, c.reason, reason.Of(err, ""), "%v", err)
			assert.Equal(t, c.want, got)
		})
	}
}

func TestAnAgentThatIsNone(t *testing.T) {
	for name, c := range map[string]struct {
		f    func(*gosnmp.SnmpPacket) []byte
		want reason.Code
	}{
		"an error": {reply(t, func(p *gosnmp.SnmpPacket) { p.Error = gosnmp.GenErr }), reason.DeviceError},
		"rubbish":  {func(*gosnmp.SnmpPacket) []byte { return []byte("ssh-2.0 what?") }, reason.Protocol},
		"cut short": {func(p *gosnmp.SnmpPacket) []byte {
			return reply(t, func(*gosnmp.SnmpPacket) {})(p)[:20]
		}, reason.Protocol},
		"of another question": {reply(t, func(p *gosnmp.SnmpPacket) { p.RequestID++ }), reason.ConnectTimeout},
	} {
		t.Run(name, func(t *testing.T) {
			patience := 20 * time.Second
			if c.want == reason.ConnectTimeout {
				patience = 100 * time.Millisecond
			}
			_, err := Ask(t.Context(), Target{Address: answering(t, c.f), Community: "see-the-sea", Timeout: patience})
			require.Error(t, err)
			assert.Equal(t, c.want, reason.Of(err, ""), "%v", err)
		})
	}
	_, err := Ask(t.Context(), Target{Address: "127.0.0.1:1", Community: "x", Timeout: time.Second})
	assert.Equal(t, reason.Refused, reason.Of(err, ""), "%v", err)
	_, err = Ask(t.Context(), Target{Address: "nowhere", Community: "x", Timeout: time.Second})
	assert.Equal(t, reason.Unreachable, reason.Of(err, ""), "%v", err)
}

// FuzzAnswers holds what any datagram can do to us: an error at worst.
func FuzzAnswers(f *testing.F) {
	raw, err := gosnmp.Default.SnmpEncodePacket(gosnmp.GetResponse, []gosnmp.SnmpPDU{pdu(sysName, gosnmp.OctetString, "np-acc-1"), pdu(sysObjectID, gosnmp.ObjectIdentifier, ".1.3.6.1.4.1.32473")}, 0, 0)
	require.NoError(f, err)
	f.Add(raw)
	f.Fuzz(func(t *testing.T, datagram []byte) {
		answer, err := gosnmp.Default.SnmpDecodePacket(datagram)
		if err != nil {
			return
		}
		s, err := read(answer)
		assert.True(t, err != nil || s != System{})
		assert.LessOrEqual(t, len(s.Descr), 3*maxDescr)
	})
}
