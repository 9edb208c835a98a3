package scenario

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"time"
)

// Corpus is a made-up history of a large network, for measuring: so many
// devices of about 800 lines, so many nights, and each night one device in
// twenty changed by one to five lines. The same seed gives the same history.
type Corpus struct {
	Devices, Nights int
	Seed            uint64
}

// State is the configuration of a device from a night on.
type State struct {
	Night    int // 0 is the first one, in which every device is seen
	Device   int
	Name     string
	Platform string
	Text     string
}

// Start is when the first night is.
func (Corpus) Start() time.Time { return time.Date(2025, 11, 1, 2, 0, 0, 0, time.UTC) }

// When is the time of a night.
func (c Corpus) When(night int) time.Time { return c.Start().AddDate(0, 0, night) }

// Each calls f for every new state, in the order of time.
func (c Corpus) Each(f func(State) error) error {
	random := rand.New(rand.NewPCG(c.Seed, 29))
	states := make([]State, c.Devices)
	lines := make([][]string, c.Devices)
	for i := range states {
		states[i] = corpusDevice(i, random)
		lines[i] = strings.SplitAfter(states[i].Text, "\n")
		if err := f(states[i]); err != nil {
			return err
		}
	}
	for night := 1; night <= c.Nights; night++ {
		for _, i := range random.Perm(c.Devices)[:c.Devices/20] {
			for range 1 + random.IntN(5) {
				lines[i] = alter(lines[i], random)
			}
			states[i].Night, states[i].Text = night, strings.Join(lines[i], "")
			if err := f(states[i]); err != nil {
				return err
			}
		}
	}
	return nil
}

// alter changes, adds or takes away one line that has a number at its end.
func alter(lines []string, random *rand.Rand) []string {
	for {
		i := random.IntN(len(lines))
		start, end, ok := lastNumber(lines[i])
		if !ok {
			continue
		}
		other := fmt.Sprintf("%s%d%s", lines[i][:start], random.IntN(9000)+10, lines[i][end:])
		switch random.IntN(4) {
		case 0:
			next := append(append(append([]string(nil), lines[:i+1]...), other), lines[i+1:]...)
			return next
		case 1:
			if len(lines) > 700 {
				return append(append([]string(nil), lines[:i]...), lines[i+1:]...)
			}
		}
		next := append([]string(nil), lines...)
		next[i] = other
		return next
	}
}

// lastNumber is where the number stands in which a leaf of any of the four
// syntaxes ends: "desk 12", "note desk-12;", "<note>desk 12</note>".
func lastNumber(line string) (start, end int, ok bool) {
	at := strings.Index(line, "desk")
	if at < 0 {
		return 0, 0, false
	}
	start = at + 5
	for end = start; end < len(line) && line[end] >= '0' && line[end] <= '9'; end++ {
		continue
	}
	return start, end, end > start
}

func corpusDevice(i int, random *rand.Rand) State {
	site := i / 10
	s := State{Device: i}
	var t text
	switch i % 10 {
	case 7:
		s.Name, s.Platform = fmt.Sprintf("s%03d-core-%d", site, i%10), "capstan"
		t.line("# capstan corpus")
		t.WriteString(coreRouter(s.Name, site))
		t.line("taps {")
		for p := range 170 {
			t.line("    tap %d {", p)
			t.line("        note desk-%d;", random.IntN(9000))
			t.line("        mtu 9000;")
			t.line("    }")
		}
		t.line("}")
		t.line("# end of %s", s.Name)
	case 8:
		s.Name, s.Platform = fmt.Sprintf("s%03d-fw-%d", site, i%10), "coaming"
		t.line("; context main of %s", s.Name)
		t.WriteString(firewall(s.Name, site)["main"])
		for p := range 260 {
			t.line("lay list group-%d net 198.18.%d.%d/32", p/13, site%256, p%256)
			t.line("lay rules inside-out rule %d pass from group-%d to any service web", 1000+p*10, p/13)
			t.line("lay port p%d note desk-%d", p, random.IntN(9000))
		}
		t.line("; that is all of main")
	case 9:
		s.Name, s.Platform = fmt.Sprintf("s%03d-rt-%d", site, i%10), "sounder"
		office := ticketOffice(s.Name, site)
		t.WriteString(strings.TrimSuffix(office, "</router>\n"))
		t.line("  <taps>")
		for p := range 180 {
			t.line("    <tap>")
			t.line("      <name>tap%d</name>", p)
			t.line("      <note>desk %d</note>", random.IntN(9000))
			t.line("    </tap>")
		}
		t.line("  </taps>")
		t.line("</router>")
	default:
		s.Name, s.Platform = fmt.Sprintf("s%03d-acc-%d", site, i%10), "tidegate"
		t.line("configuration of %s, corpus", s.Name)
		tidegateHead(&t, s.Name, site)
		for unit := 1; unit <= 3; unit++ {
			for port := 1; port <= 46; port++ {
				t.line("interface port%d/%d", unit, port)
				t.line("  description to desk %d in room %d", random.IntN(9000), random.IntN(400))
				t.line("  lan access %d", []int{10, 20, 30}[random.IntN(3)])
				t.line("  spanning edge")
				if port%6 == 0 {
					t.line("  storm-limit broadcast 1.00")
				}
				if port%2 == 0 {
					t.line("  neighbour-discovery off")
				}
				t.line("  counters reset at night")
			}
		}
		tidegateTail(&t, site)
		t.line("end of configuration")
	}
	s.Text = t.String()
	return s
}
