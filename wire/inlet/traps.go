package inlet

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"strings"
	"sync"

	"github.com/gosnmp/gosnmp"

	"vergekeep/core/dialect"
)

// User is by whom traps of version 3 may come: with authentication (RFC 3414, RFC
// 7860) and, where there is a pass phrase for it, privacy (RFC 3826).
type User struct{ Name, Authentication, Privacy string }

// Users are the users at the moment.
type Users func() []User

// Trap is an SNMP notification: a trap or an inform.
type Trap struct {
	Version   string // "1", "2c" or "3"
	Community string // of versions 1 and 2c
	User      string // of version 3: it was authentic
	ID        string // its object identifier, without a leading dot
	Values    map[string]string
}

const (
	trapOID     = "1.3.6.1.6.3.1.1.4.1.0"  // snmpTrapOID.0 (RFC 3418)
	trapAddress = "1.3.6.1.6.3.18.1.3.0"   // snmpTrapAddress.0 (RFC 3584): who sent it first
	sysNameOID  = "1.3.6.1.2.1.1.5.0"      // sysName.0
	sysUpTime   = "1.3.6.1.2.1.1.3.0"      // it stands in every one, and says nothing here
	unknownIDs  = "1.3.6.1.6.3.15.1.1.4.0" // usmStatsUnknownEngineIDs.0 (RFC 3414)
)

// Origin is who a trap says that it is from, if it came by way of another: an
// address, or a name.
func (t *Trap) Origin() (address, name string) { return t.Values[trapAddress], t.Values[sysNameOID] }

// ErrTrap is wrapped where a packet is no trap, or not from a user that is known.
var ErrTrap = errors.New("not a trap that can be read")

const (
	maxValues = 64
	maxValue  = 1024 // bytes of each
)

// reader reads traps. It is remade when the users are others.
type reader struct {
	mu     sync.Mutex
	known  string
	plain  *gosnmp.GoSNMP
	signed *gosnmp.GoSNMP
	engine string
}

var silent = gosnmp.NewLogger(log.New(io.Discard, "", 0))

func newReader() *reader {
	id := make([]byte, 8)
	rand.Read(id)
	// RFC 3411, SnmpEngineID: the enterprise of examples (RFC 5612), then bytes.
	return &reader{engine: "\x80\x00\x7e\xd9\x05" + string(id), plain: &gosnmp.GoSNMP{Version: gosnmp.Version3, SecurityModel: gosnmp.UserSecurityModel, Logger: silent, SecurityParameters: &gosnmp.UsmSecurityParameters{Logger: silent}}}
}

// table makes what the library checks users by. Which algorithms a sender uses it
// does not say: all that are in use are tried.
func (r *reader) table(users []User) (*gosnmp.GoSNMP, error) {
	known := fmt.Sprintf("%q", users)
	if r.signed != nil && r.known == known {
		return r.signed, nil
	}
	t := gosnmp.NewSnmpV3SecurityParametersTable(silent)
	for _, u := range users {
		for _, auth := range []gosnmp.SnmpV3AuthProtocol{gosnmp.SHA256, gosnmp.SHA, gosnmp.SHA512} {
			p := &gosnmp.UsmSecurityParameters{UserName: u.Name, AuthenticationProtocol: auth, AuthenticationPassphrase: u.Authentication, PrivacyProtocol: gosnmp.NoPriv, Logger: silent}
			if u.Privacy != "" {
				p.PrivacyProtocol, p.PrivacyPassphrase = gosnmp.AES, u.Privacy
			}
			if err := t.Add(u.Name, p); err != nil {
				return nil, fmt.Errorf("the SNMP user %s: %w", u.Name, err)
			}
		}
	}
	r.known = known
	r.signed = &gosnmp.GoSNMP{Version: gosnmp.Version3, SecurityModel: gosnmp.UserSecurityModel, Logger: silent, MsgFlags: gosnmp.AuthNoPriv}
	r.signed.SetTrapSecurityParametersTable(t)
	return r.signed, nil
}

// read takes a packet apart. The answer is what an inform, or a question for our
// engine's number, has to be answered with; nil for nothing.
func (r *reader) read(raw []byte, users Users) (trap *Trap, answer []byte, err error) {
	defer func() {
		if p := recover(); p != nil { // bytes from outside, in the hands of a library
			trap, answer, err = nil, nil, fmt.Errorf("%w: reading it failed badly: %v", ErrTrap, p)
		}
	}()
	r.mu.Lock()
	defer r.mu.Unlock()
	var list []User
	if users != nil {
		list = users()
	}
	signed, err := r.table(list)
	if err != nil {
		return nil, nil, err
	}
	packet, err := signed.UnmarshalTrap(append([]byte(nil), raw...), false)
	if err != nil {
		if asked, again := r.plain.UnmarshalTrap(append([]byte(nil), raw...), true); again == nil && asked.Version == gosnmp.Version3 && asked.PDUType == gosnmp.GetRequest && len(asked.Variables) == 0 {
			answer, err = r.introduce(asked)
			return nil, answer, err
		}
		return nil, nil, fmt.Errorf("%w: %w", ErrTrap, err)
	}
	if trap, err = understand(packet); err != nil {
		return nil, nil, err
	}
	if packet.PDUType == gosnmp.InformRequest {
		packet.PDUType, packet.Error, packet.ErrorIndex = gosnmp.GetResponse, gosnmp.NoError, 0
		packet.Logger = silent
		answer, err = packet.MarshalMsg()
	}
	return trap, answer, err
}

// introduce tells who asks for it our engine's number (RFC 3414, section 4).
func (r *reader) introduce(p *gosnmp.SnmpPacket) ([]byte, error) {
	usm, ok := p.SecurityParameters.(*gosnmp.UsmSecurityParameters)
	if !ok || usm.UserName != "" || usm.AuthoritativeEngineID != "" {
		return nil, fmt.Errorf("%w: a question that is not for our number", ErrTrap)
	}
	usm.AuthoritativeEngineID, usm.AuthoritativeEngineBoots, usm.AuthoritativeEngineTime = r.engine, 1, 1
	p.PDUType, p.MsgFlags, p.Logger = gosnmp.Report, gosnmp.NoAuthNoPriv, silent
	p.ContextEngineID = r.engine
	p.Variables = []gosnmp.SnmpPDU{{Name: "." + unknownIDs, Type: gosnmp.Counter32, Value: uint32(1)}}
	return p.MarshalMsg()
}

// understand reads the objects of a notification.
func understand(p *gosnmp.SnmpPacket) (*Trap, error) {
	t := &Trap{Values: map[string]string{}}
	switch p.PDUType {
	case gosnmp.SNMPv2Trap, gosnmp.InformRequest:
	case gosnmp.Trap: // version 1, told as RFC 3584, section 3.1, has it
		t.ID = fmt.Sprintf("%s.0.%d", strings.TrimPrefix(p.Enterprise, "."), p.SpecificTrap)
		if p.GenericTrap != 6 {
			t.ID = fmt.Sprintf("1.3.6.1.6.3.1.1.5.%d", p.GenericTrap+1)
		}
		t.Values[trapAddress] = p.AgentAddress
	default:
		return nil, fmt.Errorf("%w: it is a %s", ErrTrap, p.PDUType)
	}
	switch p.Version {
	case gosnmp.Version1:
		t.Version, t.Community = "1", p.Community
	case gosnmp.Version2c:
		t.Version, t.Community = "2c", p.Community
	case gosnmp.Version3:
		t.Version = "3"
		usm, ok := p.SecurityParameters.(*gosnmp.UsmSecurityParameters)
		if !ok || p.MsgFlags&gosnmp.AuthNoPriv == 0 {
			return nil, fmt.Errorf("%w: of version 3, and nobody answers for it", ErrTrap)
		}
		t.User = usm.UserName
	}
	if len(p.Variables) > maxValues {
		p.Variables = p.Variables[:maxValues]
	}
	for _, v := range p.Variables {
		name := strings.TrimPrefix(v.Name, ".")
		if name == trapOID {
			if id, ok := v.Value.(string); ok {
				t.ID = strings.TrimPrefix(id, ".")
			}
			continue
		}
		if name == sysUpTime {
			continue
		}
		t.Values[name] = value(v)
	}
	if t.ID == "" {
		return nil, fmt.Errorf("%w: it does not say what it notifies of (snmpTrapOID)", ErrTrap)
	}
	return t, nil
}

func value(v gosnmp.SnmpPDU) string {
	switch x := v.Value.(type) {
	case []byte:
		x = x[:min(len(x), maxValue)]
		s := strings.ToValidUTF8(string(x), "\x00")
		if strings.ContainsFunc(s, func(r rune) bool { return r < ' ' && r != '\n' && r != '\t' && r != '\r' }) {
			return hex.EncodeToString(x)
		}
		return s
	case string:
		return strings.TrimPrefix(x, ".")
	case nil:
		return ""
	}
	return fmt.Sprint(v.Value)
}

// traps reads SNMP notifications by UDP.
func (in *Inlet) traps(c *net.UDPConn, name string) {
	r := newReader()
	buf := make([]byte, 64<<10)
	for {
		n, from, err := c.ReadFromUDPAddrPort(buf)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil || n == 0 {
			continue
		}
		trap, answer, err := r.read(buf[:n], in.users)
		if err != nil {
			in.garbled.Add(1)
		}
		if trap != nil {
			in.handle(Message{Medium: dialect.ByTrap, Listener: name, From: plain(from), Arrived: in.now(), Trap: trap})
		}
		if answer != nil { // an inform is answered after it was taken
			_, _ = c.WriteToUDPAddrPort(answer, from)
		}
	}
}
