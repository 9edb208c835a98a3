package standin

import (
	"fmt"
	"sort"
	"strings"
)

// coamingWidth is where a Coaming firewall breaks its lines, whatever the
// terminal says.
const coamingWidth = 100

// coaming is the shell of a Coaming firewall. SSH lets everybody in; the
// firewall asks for operator and pass phrase itself, waits for a key, and shows
// a menu before its command line. Its pager cannot be turned off.
func (s *session) coaming() {
	d := s.d
	s.paging, s.more, s.height = true, "<< SPACE for the next page >>", 41
	s.print("\x1b[2J\x1b[HCoaming Works " + d.Model + "\n\n")
	for tries := 0; ; tries++ {
		if tries == 3 {
			s.print("Access denied.\n")
			return
		}
		s.print("Operator: ")
		user, err := s.readLine(true)
		if err != nil {
			return
		}
		s.print("Pass phrase: ")
		phrase, err := s.readLine(false)
		if err != nil {
			return
		}
		if d.login(user, phrase) == nil {
			s.user = user
			break
		}
		s.print("Not accepted.\n")
	}
	s.print("\nUnauthorised use is an offence.\nPress any key ...")
	if _, err := s.readByte(); err != nil {
		return
	}
	s.print("\n\n  1  Command line\n  2  Lamps\n  0  Leave\nChoice: ")
	choice, err := s.readLine(true)
	if err != nil || choice != "1" {
		return
	}
	parts := d.parts()
	part := parts[0]
	s.loop(func() string { return d.shownName() + "/" + part + " => " }, func(line string) error {
		verb, rest, _ := strings.Cut(line, " ")
		switch {
		case line == "quit":
			return errLeave
		case line == "report box":
			s.page(fmt.Sprintf("Box      %s\nType     %s\nSerial   %s\nRelease  %s\n", d.shownName(), d.Model, d.serial(), d.Version))
		case line == "report contexts":
			for _, p := range parts {
				s.print("context " + p + "\n")
			}
		case verb == "enter" && contains(parts, rest):
			part = rest
		case line == "report config":
			return s.coamingShow(part)
		case verb == "lay" || verb == "lift" || verb == "shift":
			d.mu.Lock()
			if d.pending == nil {
				d.pending = map[string]string{}
			}
			if _, ok := d.pending[part]; !ok {
				d.pending[part] = d.running[part]
			}
			text, ok := editFlat(d.pending[part], verb, rest)
			d.pending[part] = text
			d.mu.Unlock()
			if !ok {
				s.print("error 12: no such line\n")
			}
		case line == "seal":
			d.mu.Lock()
			pending := d.pending
			d.pending = nil
			d.mu.Unlock()
			for p, text := range pending {
				d.Change(s.user, p, true, func(string) string { return text })
			}
			s.print("sealed\n")
		default:
			s.print("error 3: not understood\n")
		}
		return nil
	})
}

func (d *Device) parts() []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	var parts []string
	for p := range d.running {
		parts = append(parts, p)
	}
	sort.Sort(sort.Reverse(sort.StringSlice(parts))) // "main" before "guests"
	return parts
}

func contains(list []string, s string) bool {
	for _, x := range list {
		if x == s {
			return true
		}
	}
	return false
}

func (s *session) coamingShow(part string) error {
	s.wait()
	if s.d.currentFault() == ErrorAnswer {
		s.print("error 40: the database is busy\n")
		return nil
	}
	at, by := s.d.stamp(false)
	first := fmt.Sprintf("; context %s of %s, sealed %s by %s\n", part, s.d.shownName(), at, by)
	text, fault := s.d.show(false, part, first, "; that is all of "+part+"\n")
	s.page(wrap(text, coamingWidth))
	if s.misbehave(fault) {
		return errLeave
	}
	return nil
}

// wrap breaks long lines: a backslash at the break, four blanks after it.
func wrap(text string, width int) string {
	var b strings.Builder
	for _, line := range strings.SplitAfter(text, "\n") {
		for len(strings.TrimSuffix(line, "\n")) > width {
			b.WriteString(line[:width-1] + "\\\n")
			line = "    " + line[width-1:]
		}
		b.WriteString(line)
	}
	return b.String()
}

// editFlat lays a line (replacing one with the same words but the last), lifts
// lines that start with words, or shifts "A before B".
func editFlat(text, verb, rest string) (string, bool) {
	lines := strings.SplitAfter(strings.TrimSuffix(text, "\n")+"\n", "\n")
	lines = lines[:len(lines)-1]
	find := func(words string) int {
		for i, l := range lines {
			if strings.HasPrefix(l, "lay "+words+" ") || l == "lay "+words+"\n" {
				return i
			}
		}
		return -1
	}
	switch verb {
	case "lift":
		at := find(rest)
		if at < 0 {
			return text, false
		}
		for at >= 0 {
			lines = append(lines[:at], lines[at+1:]...)
			at = find(rest)
		}
	case "shift":
		what, before, ok := strings.Cut(rest, " before ")
		from := find(what)
		if !ok || from < 0 || find(before) < 0 {
			return text, false
		}
		line := lines[from]
		lines = append(lines[:from], lines[from+1:]...)
		to := find(before)
		lines = append(lines[:to], append([]string{line}, lines[to:]...)...)
	default:
		key := rest
		if i := strings.LastIndexByte(rest, ' '); i > 0 {
			key = rest[:i]
		}
		if at := find(key); at >= 0 {
			lines[at] = "lay " + rest + "\n"
		} else {
			lines = append(lines, "lay "+rest+"\n")
		}
	}
	return strings.Join(lines, ""), true
}
