package standin

import (
	"bytes"
	"context"
	"errors"
	"io"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// session is one SSH session on a device.
type session struct {
	ctx           context.Context
	d             *Device
	user          string
	ch            ssh.Channel
	width, height int
	pty           bool

	paging  bool
	more    string // what the pager shows
	pending []byte // read but not used
	lastCR  bool
}

func (s *session) serve(requests <-chan *ssh.Request) {
	started := false
	done := make(chan struct{})
	start := func(run func() int) {
		started = true
		go func() {
			defer close(done)
			status := run()
			_, _ = s.ch.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{uint32(status)}))
			_ = s.ch.Close()
		}()
	}
	for r := range requests {
		ok := false
		var run func() int
		switch r.Type {
		case "pty-req":
			var p struct {
				Term                string
				Columns, Rows, W, H uint32
				Modes               string
			}
			if ok = ssh.Unmarshal(r.Payload, &p) == nil; ok {
				s.pty, s.width, s.height = true, int(p.Columns), int(p.Rows)
			}
		case "env", "window-change":
			ok = true
		case "shell":
			if ok = !started && s.d.Platform != Sounder; ok {
				run = s.shell
			}
		case "exec":
			var p struct{ Command string }
			if ok = !started && s.d.Platform == Capstan && ssh.Unmarshal(r.Payload, &p) == nil; ok {
				run = func() int { return s.capstanCommand(p.Command) }
			}
		case "subsystem":
			var p struct{ Name string }
			if ok = !started && s.d.Platform == Sounder && ssh.Unmarshal(r.Payload, &p) == nil && p.Name == "netconf"; ok {
				run = s.netconf
			}
		}
		if r.WantReply {
			_ = r.Reply(ok, nil)
		}
		// Only after the reply: a short answer would be over before it.
		if run != nil {
			start(run)
		}
	}
	if started {
		_ = s.ch.Close()
		<-done
	}
}

func (s *session) shell() int {
	switch s.d.currentFault() {
	case MuteShell:
		s.stuck()
		return 1
	case NoPrompt:
		s.print("Starting up, please wait ...\n")
		s.stuck()
		return 1
	}
	switch s.d.Platform {
	case Tidegate:
		s.tidegate()
	case Capstan:
		s.capstan()
	case Coaming:
		s.coaming()
	}
	return 0
}

// stuck waits until the other side has gone.
func (s *session) stuck() { _, _ = io.Copy(io.Discard, s.ch) }

// misbehave ends an output in the way of a fault, and reports whether it did.
func (s *session) misbehave(f Fault) bool {
	switch f {
	case Hang:
		s.stuck()
	case HangUp:
		_ = s.ch.Close()
	case Flood:
		junk := []byte(strings.Repeat("more of the same and no end of it\r\n", 1000))
		for s.ctx.Err() == nil {
			if _, err := s.ch.Write(junk); err != nil {
				break
			}
		}
	default:
		return false
	}
	return true
}

// print writes text as a terminal line does: "\n" becomes "\r\n".
func (s *session) print(text string) {
	if s.pty || s.d.Platform != Capstan {
		text = strings.ReplaceAll(text, "\n", "\r\n")
	}
	_, _ = io.WriteString(s.ch, text)
}

// wait is the device's delay before a configuration is shown.
func (s *session) wait() {
	s.d.mu.Lock()
	delay := s.d.Delay
	s.d.mu.Unlock()
	if delay <= 0 {
		return
	}
	select {
	case <-time.After(delay):
	case <-s.ctx.Done():
	}
}

// page prints text through the pager, where it is on, and line by line where
// the device is slow.
func (s *session) page(text string) {
	if !s.paging && s.d.LineDelay == 0 {
		s.print(text)
		return
	}
	rows := max(s.height-1, 2)
	for i, line := range strings.SplitAfter(text, "\n") {
		if s.paging && i > 0 && i%rows == 0 && line != "" {
			s.print(s.more)
			key, err := s.readByte()
			s.print("\r" + strings.Repeat(" ", len(s.more)) + "\r")
			if err != nil || key == 'q' {
				return
			}
		}
		s.print(line)
		// A sleep cannot be much shorter than a millisecond: gather some.
		if pause := s.d.LineDelay; pause >= time.Millisecond {
			time.Sleep(pause)
		} else if pause > 0 && i%200 == 199 {
			time.Sleep(200 * pause)
		}
	}
}

func (s *session) readByte() (byte, error) {
	if len(s.pending) == 0 {
		buf := make([]byte, 512)
		n, err := s.ch.Read(buf)
		if n == 0 {
			if err == nil {
				err = io.ErrNoProgress
			}
			return 0, err
		}
		s.pending = buf[:n]
	}
	c := s.pending[0]
	s.pending = s.pending[1:]
	return c, nil
}

// readLine reads a line with the little editing that people use, and repeats
// what is typed where echo is on.
func (s *session) readLine(echo bool) (string, error) {
	var line, out []byte
	flush := func() {
		if len(out) > 0 {
			_, _ = s.ch.Write(out)
			out = out[:0]
		}
	}
	for {
		if len(s.pending) == 0 {
			flush()
		}
		c, err := s.readByte()
		if err != nil {
			return "", err
		}
		afterCR := s.lastCR
		s.lastCR = c == '\r'
		switch {
		case c == '\n' && afterCR:
		case c == '\r' || c == '\n':
			out = append(out, "\r\n"...)
			flush()
			return string(line), nil
		case c == 0x7f || c == '\b':
			if len(line) > 0 {
				line = line[:len(line)-1]
				if echo {
					out = append(out, "\b \b"...)
				}
			}
		case c == 0x03 || c == 0x15:
			out = append(out, "\r\n"...)
			flush()
			return "", nil
		case c == 0x04 && len(line) == 0:
			return "", io.EOF
		case c >= ' ' && len(line) < 4096:
			line = append(line, c)
			if echo {
				out = append(out, c)
			}
		}
	}
}

var errLeave = errors.New("leave")

// command loop: prints a prompt, reads a line, runs it, until it says leave.
func (s *session) loop(prompt func() string, run func(line string) error) {
	for s.ctx.Err() == nil {
		s.print(prompt())
		line, err := s.readLine(true)
		if err != nil {
			return
		}
		if line = strings.TrimSpace(line); line == "" {
			continue
		}
		if err := run(line); err != nil {
			return
		}
	}
}

// field pads a name, for tables of facts.
func field(name, value string) string {
	var b bytes.Buffer
	b.WriteString(name)
	for b.Len() < 10 {
		b.WriteByte(' ')
	}
	return b.String() + value + "\n"
}
