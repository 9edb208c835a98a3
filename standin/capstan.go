package standin

import (
	"fmt"
	"strings"
)

// capstan is the interactive shell of a Capstan core router.
func (s *session) capstan() {
	s.print("Capstan " + s.d.Model + " at your service\n")
	s.loop(func() string {
		s.d.mu.Lock()
		defer s.d.mu.Unlock()
		if s.d.pending != nil {
			return s.d.Name + " {*}: "
		}
		return s.d.Name + " {}: "
	}, func(line string) error {
		if line == "leave" {
			return errLeave
		}
		s.capstanCommand(line)
		return nil
	})
}

// capstanCommand carries out one command, typed or as an exec request, and
// returns its exit status.
func (s *session) capstanCommand(line string) int {
	d := s.d
	refuse := func(format string, args ...any) int {
		s.print("refused: " + fmt.Sprintf(format, args...) + "\n")
		return 1
	}
	verb, rest, _ := strings.Cut(line, " ")
	switch {
	case line == "print identity":
		if d.currentFault() == MuteShell {
			s.stuck()
			return 1
		}
		s.print(fmt.Sprintf("name: %s\nmodel: %s\nserial: %s\nrelease: %s\n", d.shownName(), d.Model, d.serial(), d.Version))
	case line == "print running":
		s.wait()
		if d.currentFault() == ErrorAnswer {
			return refuse("the configuration is locked by another person")
		}
		at, by := d.stamp(false)
		first := fmt.Sprintf("# capstan %s\n# applied %s by %s\n", d.Version, at, by)
		text, fault := d.show(false, "", first, "# end of "+d.shownName()+"\n")
		s.page(text)
		if s.misbehave(fault) {
			return 1
		}
	case line == "workspace open":
		d.mu.Lock()
		if d.pending == nil {
			d.pending = map[string]string{"": d.running[""]}
		}
		d.mu.Unlock()
	case line == "workspace drop":
		d.mu.Lock()
		d.pending = nil
		d.mu.Unlock()
	case verb == "put" && rest != "", verb == "remove" && rest != "":
		d.mu.Lock()
		defer d.mu.Unlock()
		if d.pending == nil {
			return refuse("open a workspace first")
		}
		text, err := editBraces(d.pending[""], strings.Split(rest, " / "), verb == "remove")
		if err != nil {
			return refuse("%v", err)
		}
		d.pending[""] = text
	case line == "apply":
		d.mu.Lock()
		pending := d.pending
		d.pending = nil
		d.mu.Unlock()
		if pending == nil {
			return refuse("there is nothing to apply")
		}
		d.Change(s.user, "", true, func(string) string { return pending[""] })
		s.print("applied\n")
	default:
		return refuse("unknown words: %s", line)
	}
	return 0
}

// editBraces puts or removes the statement at a path of headings. The path's
// last element is the statement; one with the same first word is replaced.
func editBraces(text string, path []string, remove bool) (string, error) {
	lines := strings.SplitAfter(strings.TrimSuffix(text, "\n"), "\n")
	if len(lines) > 0 {
		lines[len(lines)-1] += "\n"
	}
	from, to, depth := 0, len(lines), 0
	for _, heading := range path[:len(path)-1] {
		indent := strings.Repeat("    ", depth)
		at := -1
		for i := from; i < to; i++ {
			if lines[i] == indent+heading+" {\n" {
				at = i
				break
			}
		}
		if at < 0 {
			return "", fmt.Errorf("there is no section %s", heading)
		}
		from = at + 1
		for to = from; lines[to] != indent+"}\n"; {
			to++
		}
		depth++
	}
	indent := strings.Repeat("    ", depth)
	statement := path[len(path)-1]
	word, _, _ := strings.Cut(statement, " ")
	at := -1
	for i := from; i < to; i++ {
		if strings.HasPrefix(lines[i], indent+word+" ") || lines[i] == indent+word+";\n" {
			at = i
			break
		}
	}
	switch {
	case remove && at < 0:
		return "", fmt.Errorf("there is no statement %s", statement)
	case remove:
		lines = append(lines[:at], lines[at+1:]...)
	case at >= 0:
		lines[at] = indent + statement + ";\n"
	default:
		lines = append(lines[:to], append([]string{indent + statement + ";\n"}, lines[to:]...)...)
	}
	return strings.Join(lines, ""), nil
}
