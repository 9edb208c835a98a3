package scenario

import (
	"fmt"
	"math/rand/v2"
	"strings"
)

// text collects the lines of a configuration.
type text struct{ strings.Builder }

func (t *text) line(format string, args ...any) { fmt.Fprintf(t, format+"\n", args...) }

// accessSwitch is the configuration of a Tidegate access switch.
func accessSwitch(name, uplinkTo string, site int, random *rand.Rand) string {
	var t text
	tidegateHead(&t, name, site)
	for port := 1; port <= 22; port++ {
		t.line("interface port1/%d", port)
		t.line("  description to desk %d", port)
		t.line("  lan access %d", []int{10, 20, 30}[random.IntN(3)])
		t.line("  spanning edge")
		if port%6 == 0 {
			t.line("  storm-limit broadcast 1.00")
		}
	}
	t.line("interface port1/23")
	t.line("  description spare")
	t.line("  disabled")
	t.line("interface port1/24")
	t.line("  description to %s", uplinkTo)
	t.line("  lan trunk 10,20,30")
	t.line("  spanning guard root")
	t.line("  storm-limit broadcast 1.00")
	tidegateTail(&t, site)
	return t.String()
}

func tidegateHead(t *text, name string, site int) {
	t.line("name %s", name)
	t.line("domain skerry.example")
	t.line("clock-drift 0.31")
	t.line("raise secret r4ise-%02d", site)
	t.line("account noc level 5")
	t.line("  password sealed seal:noc-%02d", site)
	t.line("account neteng level 9")
	t.line("  password sealed seal:neteng-%02d", site)
	t.line("banner login until %%%%")
	t.line("  Skerry Line. Authorised people only.")
	t.line("  %s || everything typed here is kept.", name)
	t.line("%%%%")
	t.line("lan 10")
	t.line("  name office")
	t.line("lan 20")
	t.line("  name tickets")
	t.line("lan 30")
	t.line("  name cameras")
}

func tidegateTail(t *text, site int) {
	t.line("access-list MGMT")
	t.line("  10 permit 192.0.2.0/24")
	t.line("  20 permit 203.0.113.0/28")
	t.line("  30 permit 198.51.100.7")
	t.line("  90 deny any")
	t.line("agent")
	t.line("  community k33p-%02d read", site)
	t.line("  contact noc at skerry.example")
	t.line("log")
	t.line("  server 192.0.2.40")
	t.line("radius 192.0.2.30")
	t.line("  key r4dius-%02d", site)
	t.line("time")
	t.line("  server 192.0.2.1")
	t.line("  server 192.0.2.2")
	t.line("  zone Europe/Oslo")
	t.line("access")
	t.line("  ssh")
	t.line("  idle 10")
	t.line("  permit MGMT")
}

// edgeRouter is the configuration of a Tidegate router.
func edgeRouter(name string, site int) string {
	var t text
	tidegateHead(&t, name, site)
	for i := 1; i <= 4; i++ {
		t.line("interface wan%d", i)
		t.line("  description carrier %d", i)
		t.line("  address 198.51.100.%d/31", site*8+i*2)
		t.line("  mtu 1500")
	}
	for i := 1; i <= 6; i++ {
		t.line("interface lan%d", i)
		t.line("  description local %d", i)
		t.line("  address 198.18.%d.%d/26", site, i*32)
	}
	t.line("routing as 64%03d", 496+site%15)
	t.line("  neighbour 198.51.100.%d remote 64500", site*8+3)
	t.line("  neighbour 198.51.100.%d remote 64501", site*8+5)
	t.line("  announce 198.18.%d.0/24", site)
	t.line("route 0.0.0.0/0 via 198.51.100.%d", site*8+3)
	tidegateTail(&t, site)
	return t.String()
}

// coreRouter is the configuration of a Capstan core router.
func coreRouter(name string, number int) string {
	var t text
	t.line("system {")
	t.line("    name %s;", name)
	t.line("    domain skerry.example;")
	t.line("    clock {")
	t.line("        zone Europe/Oslo;")
	t.line("        source 192.0.2.1;")
	t.line("    }")
	t.line("}")
	t.line("people {")
	for _, p := range []string{"noc", "neteng", "lead"} {
		t.line("    person %s {", p)
		t.line("        level operator;")
		t.line("        phrase \"%s-{c0re}-%d\";", p, number)
		t.line("    }")
	}
	t.line("}")
	t.line("ports {")
	for i := range 12 {
		t.line("    te-0/%d {", i)
		t.line("        note \"to %s\";", []string{"hh-dist-1", "hh-dist-2", "hh-fw-1", "ng-edge-1", "np-edge-1", "dd-edge-1"}[i%6])
		t.line("        mtu 9000;")
		t.line("        address 203.0.113.%d/31;", number*64+i*2)
		if i%4 == 3 {
			t.line("        off;")
		}
		t.line("    }")
	}
	t.line("}")
	t.line("routing {")
	t.line("    as 64500;")
	for i := range 6 {
		t.line("    neighbour 203.0.113.%d {", number*64+i*2+1)
		t.line("        remote 64%d;", 501+i)
		t.line("        shared-key \"k-%d-%d\";", number, i)
		t.line("        accept [ sites defaults ];")
		t.line("    }")
	}
	t.line("    prefixes sites {")
	for i := range 8 {
		t.line("        198.18.%d.0/24;", i)
	}
	t.line("    }")
	t.line("}")
	t.line("watch {")
	t.line("    community \"k33p-core\";")
	t.line("    server 192.0.2.40;")
	t.line("}")
	t.line("doors {")
	t.line("    ssh;")
	t.line("    idle 15;")
	t.line("    greeting \"Skerry Line. Authorised people only.\";")
	t.line("    from 192.0.2.0/24;")
	t.line("}")
	return t.String()
}

// firewall is the configuration of a Coaming firewall, by context.
func firewall(name string, site int) map[string]string {
	var m, g text
	m.line("lay system name %s", name)
	m.line("lay system zone Europe/Oslo")
	m.line("lay operator noc level 5")
	m.line("lay operator noc phrase sealed seal:fw-noc-%d", site)
	for i := 1; i <= 6; i++ {
		m.line("lay port p%d note %q", i, "segment "+fmt.Sprint(i))
		m.line("lay port p%d address 198.18.%d.%d/27", i, site, i*32)
	}
	for i, n := range []string{"office", "tickets", "cameras", "vessels", "partners"} {
		m.line("lay list %s net 198.18.%d.%d/27", n, site, (i+1)*32)
	}
	for i := 1; i <= 12; i++ {
		m.line("lay rules inside-out rule %d pass from %s to any service %s remark %q", i*10,
			[]string{"office", "tickets", "vessels"}[i%3], []string{"web", "mail", "time", "names"}[i%4],
			fmt.Sprintf("agreed in change %d; the text of this remark is long enough to be broken by the box", 1000+i))
	}
	m.line("lay rules inside-out rule 900 drop from any to any")
	m.line("lay tunnel partner-1 peer 203.0.113.%d", 200+site%50)
	m.line("lay tunnel partner-1 key t8nnel-%d", site)
	m.line("lay time server 192.0.2.1")
	m.line("lay time server 192.0.2.2")
	m.line("lay log server 192.0.2.40")
	m.line("lay door ssh from 192.0.2.0/24")
	m.line("lay door idle 10")
	m.line("lay door greeting %q", "Skerry Line. Authorised people only.")
	g.line("lay system name %s-guests", name)
	g.line("lay list lounge net 198.18.%d.0/25", 100+site)
	for i := 1; i <= 5; i++ {
		g.line("lay rules guests-out rule %d %s from lounge to any service %s", i*10, []string{"pass", "drop"}[i%2], []string{"web", "mail", "file", "time", "names"}[i-1])
	}
	return map[string]string{"main": m.String(), "guests": g.String()}
}

// ticketOffice is the configuration of a Sounder router.
func ticketOffice(name string, number int) string {
	var t text
	t.line(`<router xmlns="urn:example:sounder:router">`)
	t.line("  <name>%s</name>", name)
	t.line("  <people>")
	t.line("    <person>")
	t.line("      <name>noc</name>")
	t.line("      <phrase>t1ckets-%02d</phrase>", number)
	t.line("    </person>")
	t.line("  </people>")
	t.line("  <interfaces>")
	for _, i := range []struct{ name, address string }{
		{"wan0", fmt.Sprintf("198.51.100.%d/31", 100+number*2)},
		{"lan0", fmt.Sprintf("198.18.%d.1/25", 200+number%50)},
		{"lan1", fmt.Sprintf("198.18.%d.129/25", 200+number%50)},
	} {
		t.line("    <interface>")
		t.line("      <name>%s</name>", i.name)
		t.line("      <address>%s</address>", i.address)
		t.line("      <mtu>1500</mtu>")
		t.line("      <enabled>true</enabled>")
		t.line("    </interface>")
	}
	t.line("  </interfaces>")
	t.line("  <tunnels>")
	for i := 1; i <= 2; i++ {
		t.line("    <tunnel>")
		t.line("      <name>hh-%d</name>", i)
		t.line("      <peer>203.0.113.%d</peer>", 240+i)
		t.line("      <key>tnl-%02d-%d</key>", number, i)
		t.line("    </tunnel>")
	}
	t.line("  </tunnels>")
	t.line("  <time>")
	t.line("    <server>192.0.2.1</server>")
	t.line("    <server>192.0.2.2</server>")
	t.line("    <zone>Europe/Oslo</zone>")
	t.line("  </time>")
	t.line("  <watch>")
	t.line("    <server>192.0.2.40</server>")
	t.line("    <level>notice</level>")
	t.line("  </watch>")
	t.line("</router>")
	return t.String()
}
