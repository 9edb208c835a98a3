package standin

import (
	"bufio"
	"io"
	"net"
	"time"

	"golang.org/x/crypto/ssh"
)

// telnetChannel makes a session's channel of a plain connection: the device's
// side of Telnet (RFC 854), as far as an old switch goes. It offers to echo and
// to suppress go-ahead, and refuses everything else.
type telnetChannel struct {
	net.Conn
	r *bufio.Reader
}

const (
	telnetWILL, telnetWONT, telnetDO, telnetDONT, telnetIAC = 251, 252, 253, 254, 255
	telnetSB, telnetSE                                      = 250, 240
)

func newTelnetChannel(c net.Conn) *telnetChannel {
	_, _ = c.Write([]byte{telnetIAC, telnetWILL, 1, telnetIAC, telnetWILL, 3})
	return &telnetChannel{c, bufio.NewReader(c)}
}

// Read gives what is typed: commands are taken out, CR LF and CR NUL become CR.
func (t *telnetChannel) Read(p []byte) (int, error) {
	for {
		b, err := t.r.ReadByte()
		if err != nil {
			return 0, err
		}
		switch b {
		case telnetIAC:
			verb, err := t.r.ReadByte()
			if err != nil {
				return 0, err
			}
			switch verb {
			case telnetWILL, telnetWONT, telnetDO, telnetDONT:
				option, err := t.r.ReadByte()
				if err != nil {
					return 0, err
				}
				if verb == telnetDO && option != 1 && option != 3 {
					_, _ = t.Conn.Write([]byte{telnetIAC, telnetWONT, option})
				}
			case telnetSB:
				for last := byte(0); ; {
					b, err := t.r.ReadByte()
					if err != nil {
						return 0, err
					}
					if last == telnetIAC && b == telnetSE {
						break
					}
					last = b
				}
			}
			continue
		case 0:
			continue
		}
		p[0] = b
		return 1, nil
	}
}

func (t *telnetChannel) CloseWrite() error                              { return nil }
func (t *telnetChannel) SendRequest(string, bool, []byte) (bool, error) { return false, nil }
func (t *telnetChannel) Stderr() io.ReadWriter                          { return nil }

// serveTelnet is a login line and then the shell; a console port goes on where
// somebody has left it.
func (f *Fleet) serveTelnet(d *Device, c net.Conn) {
	s := &session{ctx: f.ctx, d: d, ch: newTelnetChannel(c), width: 80, height: 24, pty: true}
	var _ ssh.Channel = s.ch
	if d.currentFault() == OptionStorm {
		for f.ctx.Err() == nil {
			if _, err := c.Write([]byte{telnetIAC, telnetDO, 99, telnetIAC, telnetDONT, 99}); err != nil {
				return
			}
		}
		return
	}
	if d.LeftInEdit {
		s.user = d.User
		s.shell()
		return
	}
	for range 3 {
		s.print("Name: ")
		user, err := s.readLine(true)
		if err != nil {
			return
		}
		s.print("Password: ")
		password, err := s.readLine(false)
		if err != nil {
			return
		}
		if d.login(user, password) == nil {
			s.user = user
			s.shell()
			return
		}
		time.Sleep(10 * time.Millisecond)
		s.print("?? login refused\n")
	}
}
