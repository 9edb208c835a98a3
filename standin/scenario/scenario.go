// Package scenario is Skerry Line, an island ferry operator that does not
// exist: its devices as stand-ins, and thirty days of things that happened to
// them. All demonstrations, pictures and examples are set there.
package scenario

import (
	"fmt"
	"math/rand/v2"
	"sort"
	"strings"
	"time"

	"vergekeep/standin"
)

// Login is how one gets into every device.
const (
	User      = "keeper"
	Password  = "over-the-verge"
	Elevation = "lift-the-gate"
)

// Site is a place of Skerry Line.
type Site struct{ Code, Name string }

// Entry is a device with what the fleet's record says of it.
type Entry struct {
	Device *standin.Device
	Site   string
	Role   string
	Labels []string
	Delay  time.Duration // of each visit, once history is filled in
}

// Network is all of Skerry Line.
type Network struct {
	Entries []*Entry
	byName  map[string]*Entry
	random  *rand.Rand
}

// Ships are the vessels, each with a router and a switch.
var Ships = []string{"guillemot", "kittiwake", "puffin", "razorbill", "skua", "tern"}

// New builds the network as it was thirty days ago.
func New() *Network {
	n := &Network{byName: map[string]*Entry{}, random: rand.New(rand.NewPCG(1847, 2026))}
	for i := 1; i <= 2; i++ {
		name := fmt.Sprintf("hh-core-%d", i)
		n.add("Harbour House", "core", 0, nil, &standin.Device{Name: name, Platform: standin.Capstan, Model: "C-7 Longboat", Serial: fmt.Sprintf("CP7-%05d", 230+i), Version: "7.2.1", Config: one(coreRouter(name, i))})
	}
	for i := 1; i <= 2; i++ {
		name := fmt.Sprintf("hh-dist-%d", i)
		n.tidegate(name, "Harbour House", "distribution", "hh-core-1", 1, 0)
	}
	n.firewall("hh-fw-1", "Harbour House", 1)
	n.firewall("hh-fw-2", "Harbour House", 1)
	n.edge("ng-edge-1", "Northgate", 2, 0)
	n.firewall("ng-fw-1", "Northgate", 2)
	for i := 1; i <= 6; i++ {
		n.tidegate(fmt.Sprintf("ng-acc-%d", i), "Northgate", "access", "ng-edge-1", 2, 0)
	}
	n.edge("np-edge-1", "Ness Point", 3, 600*time.Millisecond)
	for i := 1; i <= 2; i++ {
		n.tidegate(fmt.Sprintf("np-acc-%d", i), "Ness Point", "access", "np-edge-1", 3, 600*time.Millisecond)
	}
	n.edge("dd-edge-1", "Dry Dock", 4, 300*time.Millisecond)
	n.firewall("dd-fw-1", "Dry Dock", 4)
	for i := 1; i <= 3; i++ {
		n.tidegate(fmt.Sprintf("dd-acc-%d", i), "Dry Dock", "access", "dd-edge-1", 4, 300*time.Millisecond)
	}
	// The ancient one: Telnet only, slow, with a password kept in the clear.
	ancient := n.byName["dd-acc-3"]
	ancient.Delay = 1500 * time.Millisecond
	ancient.Labels = []string{"ancient"}
	ancient.Device.Telnet, ancient.Device.Model, ancient.Device.Version = true, "TG-800", "2.0.7"
	old := strings.NewReplacer("  password sealed seal:noc-04\n", "  password plain tug-and-tow\n", "access\n  ssh\n  idle 10\n", "access\n  telnet\n  idle 120\n")
	ancient.Device.Config = one(old.Replace(ancient.Device.Config[""]))
	for i := 1; i <= 20; i++ {
		name := fmt.Sprintf("t%02d-rt-1", i)
		n.add(fmt.Sprintf("Ticket office %02d", i), "office", 0, []string{"ticket-office"}, &standin.Device{Name: name, Platform: standin.Sounder, Model: "S-2 Plumb", Serial: fmt.Sprintf("SL2-%05d", 7000+i), Version: "2.8", Config: one(ticketOffice(name, i))})
	}
	for i, ship := range Ships {
		n.add("Vessels", "vessel-router", 2*time.Second, []string{"satellite"}, tide("v-"+ship+"-r", edgeRouter("v-"+ship+"-r", 10+i)))
		n.add("Vessels", "vessel-switch", 2*time.Second, []string{"satellite"}, tide("v-"+ship+"-sw", accessSwitch("v-"+ship+"-sw", "v-"+ship+"-r", 10+i, n.random)))
	}
	return n
}

func one(text string) map[string]string { return map[string]string{"": text} }

func tide(name, config string) *standin.Device {
	sum := 0
	for _, c := range name {
		sum = sum*31 + int(c)
	}
	return &standin.Device{Name: name, Platform: standin.Tidegate, Model: "TG-2400", Serial: fmt.Sprintf("TG24-%05d", sum%100000), Version: "4.1.9", Config: one(config)}
}

func (n *Network) tidegate(name, site, role, uplink string, number int, delay time.Duration) {
	n.add(site, role, delay, nil, tide(name, accessSwitch(name, uplink, number, n.random)))
}

func (n *Network) edge(name, site string, number int, delay time.Duration) {
	n.add(site, "edge", delay, nil, tide(name, edgeRouter(name, number)))
}

func (n *Network) firewall(name, site string, number int) {
	n.add(site, "firewall", 0, nil, &standin.Device{Name: name, Platform: standin.Coaming, Model: "CW-400", Serial: fmt.Sprintf("CW4-%s", strings.ToUpper(name)), Version: "9.3", Config: firewall(name, number)})
}

func (n *Network) add(site, role string, delay time.Duration, labels []string, d *standin.Device) {
	d.User, d.Password, d.Elevation = User, Password, Elevation
	e := &Entry{Device: d, Site: site, Role: role, Labels: labels, Delay: delay}
	n.Entries = append(n.Entries, e)
	n.byName[d.Name] = e
}

// Device is the stand-in of that name.
func (n *Network) Device(name string) *standin.Device { return n.byName[name].Device }

// Event is something that happened: a change on a device, or a visit to some.
type Event struct {
	At     time.Time
	What   string
	Do     func(*standin.Fleet) error // may be nil
	Visit  string                     // selector of a round at this moment; "-" for none
	Trust  string                     // a device whose record learns key and serial number anew
	Bless  string                     // a device whose newest configuration becomes its baseline, with a remark; "*" for all
	Remark string
}

func replace(old, with string) func(string) string {
	return func(t string) string { return strings.Replace(t, old, with, 1) }
}

// swapLines exchanges the order of two lines: the first comes after the second.
func moveAfter(line, after string) func(string) string {
	return func(t string) string {
		t = strings.Replace(t, line, "", 1)
		return strings.Replace(t, after, after+line, 1)
	}
}

func addTo(heading, line string) func(string) string {
	return func(t string) string { return strings.Replace(t, heading+"\n", heading+"\n"+line+"\n", 1) }
}

// History is the thirty days before now, in order of time. A round visits all
// devices each night at two.
func (n *Network) History(now time.Time) []Event {
	// The newest day is the last one whose night has passed, so that the stories
	// are told in full whatever the hour is.
	day := func(ago int, hour, minute int) time.Time {
		y, m, d := now.UTC().Add(-150*time.Minute).AddDate(0, 0, -ago).Date()
		return time.Date(y, m, d, hour, minute, 0, 0, time.UTC)
	}
	var events []Event
	change := func(at time.Time, name, by, part string, save bool, edits ...func(string) string) {
		d := n.Device(name)
		events = append(events, Event{At: at, What: name + " changed by " + by, Visit: "-", Do: func(*standin.Fleet) error {
			d.Change(by, part, save, func(t string) string {
				for _, e := range edits {
					t = e(t)
				}
				return t
			})
			return nil
		}})
	}
	do := func(at time.Time, what string, f func(*standin.Fleet) error) {
		events = append(events, Event{At: at, What: what, Visit: "-", Do: f})
	}
	for ago := 30; ago >= 0; ago-- {
		events = append(events, Event{At: day(ago, 2, 0), What: "nightly round", Visit: ""})
		if ago > 0 {
			n.ordinary(ago, day, change)
		}
	}

	// 1: an uplink changed at 02:10, outside any window, by an unexpected account.
	change(day(0, 2, 10), "np-acc-2", "svc-night", "", false,
		replace("  description to np-edge-1\n  lan trunk 10,20,30\n", "  description to np-edge-1\n  lan trunk 10,20,30,99\n"),
		replace("  spanning guard root\n  storm-limit broadcast 1.00\n", "  spanning guard root\n  mirror to port1/3\n"),
		replace("  server 192.0.2.1\n", "  server 192.0.2.66\n"))
	events = append(events, Event{At: day(0, 2, 14), What: "np-acc-2 visited", Visit: "name=np-acc-2"})
	// 2: a running configuration that was never saved.
	change(day(6, 15, 30), "dd-acc-1", "neteng", "", false,
		replace("  description spare\n  disabled\n", "  description to crane 2\n  lan access 30\n  storm-limit broadcast 2.00\n"),
		addTo("access-list MGMT", "  40 permit 203.0.113.64/28"))
	// 3: a rule moved above another, nothing added, nothing removed.
	change(day(3, 16, 42), "hh-fw-1", "fwteam", "guests", true, moveAfter(
		"lay rules guests-out rule 30 drop from lounge to any service file\n", "lay rules guests-out rule 40 pass from lounge to any service time\n"))
	// 4: one ticket office that differs in three lines nobody wrote down.
	change(day(17, 11, 5), "t07-rt-1", "noc", "", true,
		replace("<mtu>1500</mtu>", "<mtu>1400</mtu>"), replace("<server>192.0.2.2</server>", "<server>198.51.100.9</server>"), replace("<level>notice</level>", "<level>debug</level>"))
	// 5: a vessel not reached for nine days, and one whose credential stopped working.
	do(day(9, 21, 40), "v-guillemot-r out of reach", func(f *standin.Fleet) error { f.Remove(n.Device("v-guillemot-r")); return nil })
	do(day(4, 9, 0), "v-tern-r has a new password", func(*standin.Fleet) error { n.Device("v-tern-r").SetPassword("somebody-changed-it"); return nil })
	// 6: a host key changed.
	do(day(1, 13, 20), "ng-acc-5 has another host key", func(*standin.Fleet) error { n.Device("ng-acc-5").NewHostKey(); return nil })
	// 7: a core change, done as agreed.
	change(day(8, 20, 15), "hh-core-1", "lead", "", true, replace("        mtu 9000;\n        address 203.0.113.68/31;", "        mtu 9100;\n        address 203.0.113.68/31;"),
		replace("        accept [ sites defaults ];", "        accept [ sites ];"))
	events = append(events, Event{At: day(8, 20, 31), What: "hh-core-1 visited", Visit: "name=hh-core-1", Bless: "hh-core-1", Remark: "ticket 2041, done in its window"})
	// All were looked through and blessed; what came after and was not authorised has drifted.
	events = append(events, Event{At: day(16, 2, 45), What: "all looked through", Visit: "-", Bless: "*", Remark: "looked through after the autumn works"})
	// 9: one that breaks off half-way, and one far too short.
	do(day(1, 22, 0), "dd-edge-1 breaks off", func(*standin.Fleet) error { n.Device("dd-edge-1").SetFault(standin.CutShort); return nil })
	do(day(2, 23, 0), "dd-acc-2 shows too little", func(*standin.Fleet) error { n.Device("dd-acc-2").SetFault(standin.Shrunk); return nil })
	// 11: a change that was made and put back an hour later.
	change(day(12, 10, 0), "hh-dist-1", "neteng", "", true, replace("  zone Europe/Oslo\n", "  zone UTC\n"))
	events = append(events, Event{At: day(12, 10, 5), What: "hh-dist-1 visited", Visit: "name=hh-dist-1"})
	change(day(12, 11, 0), "hh-dist-1", "neteng", "", true, replace("  zone UTC\n", "  zone Europe/Oslo\n"))
	events = append(events, Event{At: day(12, 11, 5), What: "hh-dist-1 visited", Visit: "name=hh-dist-1"})
	// 12: a switch swapped for a spare.
	do(day(14, 14, 0), "ng-acc-3 swapped for a spare", func(*standin.Fleet) error { n.Device("ng-acc-3").Replace("TG24-90210"); return nil })
	events = append(events, Event{At: day(15-1, 14, 20), What: "ng-acc-3 accepted as replaced", Visit: "name=ng-acc-3", Trust: "ng-acc-3"})

	sort.SliceStable(events, func(i, j int) bool { return events[i].At.Before(events[j].At) })
	for i, e := range events {
		if e.At.After(now) {
			return events[:i]
		}
	}
	return events
}

// ordinary is a day's work: a handful of small changes, most of them saved.
func (n *Network) ordinary(ago int, day func(int, int, int) time.Time, change func(time.Time, string, string, string, bool, ...func(string) string)) {
	accounts := []string{"neteng", "neteng", "noc", "lead"}
	// Devices that stories are told of keep their own history readable.
	told := map[string]bool{"np-acc-2": true, "dd-acc-1": true, "hh-fw-1": true, "t07-rt-1": true, "hh-dist-1": true, "hh-core-1": true}
	for range 5 + n.random.IntN(6) {
		e := n.Entries[n.random.IntN(len(n.Entries))]
		if told[e.Device.Name] {
			continue
		}
		part := ""
		if e.Device.Platform == standin.Coaming {
			part = "main"
		}
		change(day(ago, 7+n.random.IntN(12), n.random.IntN(60)), e.Device.Name, accounts[n.random.IntN(len(accounts))], part, true, n.Edit(e.Device))
	}
}

// Edit makes a small, plausible change for a device.
func (n *Network) Edit(d *standin.Device) func(string) string {
	number := n.random.IntN(90) + 10
	switch d.Platform {
	case standin.Tidegate:
		port := n.random.IntN(22) + 1
		return []func(string) string{
			setLine(fmt.Sprintf("interface port1/%d\n", port), "  description ", fmt.Sprintf("to desk %d, moved", number)),
			setLine(fmt.Sprintf("interface port1/%d\n", port), "  lan access ", fmt.Sprint([]int{10, 20, 30}[number%3])),
			setLine("agent\n", "  contact ", fmt.Sprintf("noc at skerry.example, extension %d", number)),
			addTo("access-list MGMT", fmt.Sprintf("  %d permit 203.0.113.%d", number, number)),
		}[n.random.IntN(4)]
	case standin.Capstan:
		return setLine(fmt.Sprintf("    te-0/%d {\n", number%12), "        note ", fmt.Sprintf("\"circuit %d\";", number))
	case standin.Coaming:
		return func(t string) string {
			return t + fmt.Sprintf("lay rules inside-out rule %d pass from partners to any service web\n", 900-number)
		}
	}
	return setLine("<name>lan1</name>\n", "      <mtu>", fmt.Sprintf("%d</mtu>", 1400+number))
}

// setLine gives the first line after heading that starts with prefix a new rest.
func setLine(heading, prefix, rest string) func(string) string {
	return func(t string) string {
		at := strings.Index(t, heading)
		if at < 0 {
			return t
		}
		from := strings.Index(t[at:], "\n"+prefix)
		if from < 0 {
			return t
		}
		from += at + 1
		end := strings.IndexByte(t[from:], '\n')
		return t[:from] + prefix + rest + t[from+end:]
	}
}

// Something is a change that happens now and then while the demonstration runs.
func (n *Network) Something() (device, by string, edit func(string) string, part string) {
	for {
		e := n.Entries[n.random.IntN(len(n.Entries))]
		if e.Role == "vessel-router" || e.Device.Name == "dd-edge-1" || e.Device.Name == "ng-acc-5" || e.Device.Name == "dd-acc-2" {
			continue
		}
		if e.Device.Platform == standin.Coaming {
			part = "main"
		}
		return e.Device.Name, []string{"neteng", "noc"}[n.random.IntN(2)], n.Edit(e.Device), part
	}
}
