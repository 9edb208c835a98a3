package standin

import (
	"fmt"
	"net"
	"strconv"
	"time"

	"github.com/gosnmp/gosnmp"
)

// Said is a message by which a device tells what happened to it: a line of syslog,
// or an SNMP notification with its objects.
type Said struct {
	Syslog string
	Trap   string
	Values map[string]string
	// Notification is what its NETCONF sessions are told, if they want to be: the
	// name and its elements.
	Notification string
}

// Desk is the address from which an account works.
func Desk(account string) string {
	sum := 0
	for _, c := range account {
		sum = sum*31 + int(c)
	}
	return fmt.Sprintf("198.51.100.%d", 10+sum%40)
}

// Objects of the notifications of a Coaming firewall.
const (
	coamingLaid = "1.3.6.1.4.1.32473.40.0.1"
	coamingWho  = "1.3.6.1.4.1.32473.40.1.1.0"
	coamingFrom = "1.3.6.1.4.1.32473.40.1.2.0"
	coamingHow  = "1.3.6.1.4.1.32473.40.1.3.0"
	coamingBox  = "1.3.6.1.2.1.1.5.0"
)

// tell says that somebody has changed the configuration, each platform in its way.
func (d *Device) tell(by string) {
	d.mu.Lock()
	now, outlet := d.clock(), d.Outlet
	listening := make([]chan<- string, 0, len(d.listening))
	for c := range d.listening {
		listening = append(listening, c)
	}
	d.mu.Unlock()
	from := Desk(by)
	if d.Platform == Sounder {
		note := fmt.Sprintf(`<notification xmlns="urn:ietf:params:xml:ns:netconf:notification:1.0"><eventTime>%s</eventTime>`+
			`<netconf-config-change xmlns="urn:ietf:params:xml:ns:yang:ietf-netconf-notifications"><changed-by><username>%s</username><session-id>4</session-id><source-host>%s</source-host></changed-by>`+
			`<datastore>running</datastore><edit><target>/router</target><operation>merge</operation></edit></netconf-config-change></notification>`, now.UTC().Format(time.RFC3339), by, from)
		for _, c := range listening {
			select {
			case c <- note:
			default: // it does not keep up
			}
		}
	}
	if outlet == nil {
		return
	}
	switch d.Platform {
	case Tidegate:
		outlet(Said{Syslog: fmt.Sprintf("<189>%s %s config[812]: changed by %s from %s over ssh", now.UTC().Format(time.Stamp), d.Name, by, from)})
	case Capstan:
		outlet(Said{Syslog: fmt.Sprintf("<133>1 %s %s.skerry.example workspaces 77 applied - workspace applied by %s from %s (cli)", now.UTC().Format(time.RFC3339), d.Name, by, from)})
	case Coaming:
		outlet(Said{Trap: coamingLaid, Values: map[string]string{coamingBox: d.Name, coamingWho: by, coamingFrom: from, coamingHow: "console"}})
	case Sounder:
		outlet(Said{Notification: "netconf-config-change", Values: map[string]string{"username": by, "source-host": from}})
	}
}

// Tell sends what a device said over the network: syslog by UDP, notifications as
// SNMPv2c traps. Where an address is empty, it is not sent.
func Tell(syslog, traps string) func(Said) {
	return func(s Said) {
		switch {
		case s.Syslog != "" && syslog != "":
			c, err := net.Dial("udp", syslog)
			if err != nil {
				return // nobody listens: a device does not mind either
			}
			defer c.Close()
			_, _ = c.Write([]byte(s.Syslog))
		case s.Trap != "" && traps != "":
			host, port, err := net.SplitHostPort(traps)
			if err != nil {
				return
			}
			n, err := strconv.ParseUint(port, 10, 16)
			if err != nil {
				return
			}
			g := &gosnmp.GoSNMP{Target: host, Port: uint16(n), Version: gosnmp.Version2c, Community: "skerry-watch", Timeout: time.Second, MaxOids: 60}
			if g.Connect() != nil {
				return
			}
			defer func() { _ = g.Close() }()
			trap := gosnmp.SnmpTrap{Variables: []gosnmp.SnmpPDU{{Name: ".1.3.6.1.6.3.1.1.4.1.0", Type: gosnmp.ObjectIdentifier, Value: "." + s.Trap}}}
			for id, value := range s.Values {
				trap.Variables = append(trap.Variables, gosnmp.SnmpPDU{Name: "." + id, Type: gosnmp.OctetString, Value: value})
			}
			_, _ = g.SendTrap(trap)
		}
	}
}
