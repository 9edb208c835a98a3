package standin

import (
	"fmt"
	"strings"
	"time"
)

// tidegate is the shell of a Tidegate router or access switch.
func (s *session) tidegate() {
	d := s.d
	s.paging, s.more = true, "-- more: space goes on, q stops --"
	if !d.LeftInEdit {
		if d.currentFault() == LongBanner {
			s.print(strings.Repeat("A line of a very long banner, of ten thousand.\n", 10_000))
		}
		s.print("\nTidegate " + d.Model + "\nAll that is done here is kept in the journal.\n")
	}
	if d.currentFault() == FakePrompt {
		// In a piece of its own, so that it arrives as the end of what is there.
		s.print(d.Name + " || ")
		s.wait()
		s.print("is not a prompt, this is the banner\n")
	}
	raised := false
	section := "" // heading of the section being edited, "-" at the top
	if d.LeftInEdit {
		raised, section = true, "time"
		s.pending = []byte("set ser") // typed by somebody, and never finished
	}
	prompt := func() string {
		switch {
		case section == "-":
			return d.shownName() + " |edit| "
		case section != "":
			return d.shownName() + " |edit " + section + "| "
		case raised:
			return d.shownName() + " || "
		}
		return d.shownName() + " | "
	}
	s.loop(prompt, func(line string) error {
		if section != "" {
			section = s.tidegateEdit(section, line)
			return nil
		}
		switch line {
		case "bye":
			return errLeave
		case "raise":
			s.print("Raise secret: ")
			secret, err := s.readLine(false)
			if err != nil {
				return err
			}
			if secret != d.Elevation {
				s.print("?? secret refused\n")
				return nil
			}
			raised = true
		case "lower":
			raised = false
		case "session paging off":
			s.paging = d.currentFault() == StubbornPager
		case "session paging on":
			s.paging = true
		case "list system":
			s.page(field("name", d.shownName()) + field("model", d.Model) + field("serial", d.serial()) +
				field("software", d.Version) + field("up", "41 days") + field("changed", d.lastChange()))
		case "list config running", "list config startup":
			if !raised {
				s.print("?? this needs the raised mode\n")
				return nil
			}
			if d.currentFault() == NotAllowed {
				s.print("?? not for this account\n")
				return nil
			}
			return s.tidegateShow(line == "list config startup")
		case "edit":
			if !raised {
				s.print("?? this needs the raised mode\n")
				return nil
			}
			section = "-"
		case "keep config":
			d.mu.Lock()
			d.keep()
			d.mu.Unlock()
			s.print("configuration kept\n")
		case "help":
			s.print("raise, lower, list system, list config running|startup, session paging on|off, edit, keep config, bye\n")
		default:
			s.print(fmt.Sprintf("?? unknown words: %s\n", line))
		}
		return nil
	})
}

func (s *session) tidegateShow(startup bool) error {
	d := s.d
	if !startup {
		s.wait()
	}
	if d.currentFault() == ErrorAnswer {
		s.print("?? memory exhausted, try later\n")
		return nil
	}
	at, by := d.stamp(startup)
	word := "changed"
	if startup {
		word = "kept"
	}
	first := fmt.Sprintf("configuration of %s, %s %s by %s\n", d.shownName(), word, at, by)
	text, fault := d.show(startup, "", first, "end of configuration\n")
	switch d.currentFault() {
	case Moving:
		if !startup {
			d.Change("somebody", "", false, func(t string) string { return t })
		}
	case BadText: // bytes that are no text, and every kind of line end
		text = strings.Replace(text, "\n", "\n-- \xff\xfe\x80 not UTF-8\n", 1)
		if startup {
			break
		}
	case OneByte:
		for i := range len(text) {
			if _, err := s.ch.Write([]byte{text[i]}); err != nil {
				return errLeave
			}
			time.Sleep(100 * time.Millisecond)
		}
		return nil
	case NewPrompt:
		d.mu.Lock()
		d.Name += "x"
		d.mu.Unlock()
	}
	if d.currentFault() == FakePrompt {
		before, after, _ := strings.Cut(text, "\n")
		s.print(before + "\n" + d.Name + " || ")
		s.wait()
		s.print("a remark that looks like a prompt\n")
		text = after
	}
	s.page(text)
	if s.misbehave(fault) {
		return errLeave
	}
	return nil
}

// tidegateEdit carries out one line of the edit mode and returns the section
// that the session is in then; "" has left the mode.
func (s *session) tidegateEdit(section, line string) string {
	d := s.d
	words := strings.Fields(line)
	switch {
	case line == "done":
		return ""
	case line == "up":
		return "-"
	case words[0] == "section" && len(words) > 1:
		heading := strings.Join(words[1:], " ")
		if !hasLine(d.Running(""), heading) {
			d.Change(s.user, "", false, func(t string) string { return t + heading + "\n" })
		}
		return heading
	case words[0] == "set" && len(words) > 1, words[0] == "clear" && len(words) > 1:
		found := false
		d.Change(s.user, "", false, func(t string) string {
			out, ok := editSection(t, section, strings.Join(words[1:], " "), words[0] == "clear")
			found = ok
			return out
		})
		if !found {
			s.print("?? there is no such line to clear\n")
		}
	default:
		s.print("?? write section NAME, set LINE, clear LINE, up or done\n")
	}
	return section
}

func hasLine(text, line string) bool {
	return strings.HasPrefix(text, line+"\n") || strings.Contains(text, "\n"+line+"\n")
}

// several are first words of which a section may hold more than one line.
var several = map[string]bool{"server": true, "route": true, "account": true, "lan": false}

// editSection sets or clears a line of an indented section ("-" is the top).
func editSection(text, section, line string, clear bool) (string, bool) {
	lines := strings.SplitAfter(strings.TrimSuffix(text, "\n"), "\n")
	from, to, indent := 0, len(lines), ""
	if section != "-" {
		indent = "  "
		for from < len(lines) && strings.TrimRight(lines[from], "\n") != section {
			from++
		}
		if from == len(lines) {
			return text, false
		}
		from++
		to = from
		for to < len(lines) && strings.HasPrefix(lines[to], " ") {
			to++
		}
	}
	word, _, _ := strings.Cut(line, " ")
	at := -1
	for i := from; i < to; i++ {
		l := strings.TrimSpace(lines[i])
		if clear && (l == line || strings.HasPrefix(l, line+" ")) ||
			!clear && (l == line || !several[word] && strings.HasPrefix(l, word+" ")) {
			at = i
			break
		}
	}
	if clear {
		if at < 0 {
			return text, false
		}
		lines = append(lines[:at], lines[at+1:]...)
	} else if at >= 0 {
		lines[at] = indent + line + "\n"
	} else {
		lines = append(lines[:to], append([]string{indent + line + "\n"}, lines[to:]...)...)
	}
	for i := range lines {
		if !strings.HasSuffix(lines[i], "\n") {
			lines[i] += "\n"
		}
	}
	return strings.Join(lines, ""), true
}
