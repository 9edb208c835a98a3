package ssh

import (
	"errors"
	"fmt"
	"io"

	"golang.org/x/crypto/ssh"

	"vergekeep/core/reason"
)

// channel is a session with the two streams of RFC 4254, section 5.2, as one.
type channel struct {
	ssh.Channel
}

func (c *Conn) session() (*channel, <-chan *ssh.Request, error) {
	ch, requests, err := c.client.OpenChannel("session", nil)
	if err != nil {
		var refused *ssh.OpenChannelError
		if errors.As(err, &refused) {
			if refused.Reason == ssh.ResourceShortage || refused.Reason == ssh.Prohibited {
				return nil, nil, reason.New(reason.TooManySessions, "It let us in and then had no session for us: %w.", err)
			}
			return nil, nil, reason.New(reason.HungUp, "It refused to open a session: %w.", err)
		}
		return nil, nil, c.Why(err)
	}
	return &channel{ch}, requests, nil
}

func (c *channel) request(name string, payload []byte) error {
	ok, err := c.SendRequest(name, true, payload)
	if err != nil {
		return err
	}
	if !ok {
		return reason.New(reason.Protocol, "It refused the SSH request %q.", name)
	}
	return nil
}

// Shell opens a shell on a pseudo-terminal (RFC 4254, section 6.2).
func (c *Conn) Shell(width, height int) (io.ReadWriteCloser, error) {
	ch, requests, err := c.session()
	if err != nil {
		return nil, err
	}
	go ssh.DiscardRequests(requests)
	pty := struct {
		Term                string
		Columns, Rows, W, H uint32
		Modes               string
	}{"vt100", uint32(width), uint32(height), 0, 0, "\x00"}
	if err := ch.request("pty-req", ssh.Marshal(pty)); err != nil {
		_ = ch.Close()
		return nil, c.Why(err)
	}
	if err := ch.request("shell", nil); err != nil {
		_ = ch.Close()
		return nil, c.Why(err)
	}
	return ch, nil
}

// Subsystem opens a subsystem (RFC 4254, section 6.5).
func (c *Conn) Subsystem(name string) (io.ReadWriteCloser, error) {
	ch, requests, err := c.session()
	if err != nil {
		return nil, err
	}
	go ssh.DiscardRequests(requests)
	if err := ch.request("subsystem", ssh.Marshal(struct{ Name string }{name})); err != nil {
		_ = ch.Close()
		return nil, c.Why(err)
	}
	return ch, nil
}

// ErrTooMuch is returned where a command's output exceeds its limit.
var ErrTooMuch = errors.New("too much output")

// Exec runs one command (RFC 4254, section 6.5) and returns what it printed. A
// status of -1 means that the device gave none.
func (c *Conn) Exec(command string, limit int) (output []byte, status int, err error) {
	ch, requests, err := c.session()
	if err != nil {
		return nil, -1, err
	}
	defer ch.Close()
	exit := make(chan int, 1)
	go func() {
		code := -1
		for r := range requests {
			if r.Type == "exit-status" {
				var p struct{ Status uint32 }
				if ssh.Unmarshal(r.Payload, &p) == nil {
					code = int(p.Status)
				}
			}
			if r.WantReply {
				_ = r.Reply(false, nil)
			}
		}
		exit <- code
	}()
	if err := ch.request("exec", ssh.Marshal(struct{ Command string }{command})); err != nil {
		return nil, -1, c.Why(err)
	}
	output, err = readAll(ch, limit)
	if err != nil {
		return output, -1, err
	}
	// The end of the output is no success: the exit status is, or the orderly
	// close of the channel. A connection that broke shows neither.
	status = <-exit
	if status < 0 && (c.ctx.Err() != nil || c.conn.Silent() || !c.alive()) {
		return output, -1, c.Why(io.ErrUnexpectedEOF)
	}
	return output, status, nil
}

// alive asks the device for a sign of life (RFC 4254, section 4).
func (c *Conn) alive() bool {
	_, _, err := c.client.SendRequest("keepalive@verge-keep", true, nil)
	return err == nil
}

func readAll(r io.Reader, limit int) ([]byte, error) {
	buf := make([]byte, 0, 16<<10)
	for {
		if len(buf) == cap(buf) {
			buf = append(buf, 0)[:len(buf)]
		}
		n, err := r.Read(buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		if len(buf) > limit {
			return buf, fmt.Errorf("%w: over %d bytes", ErrTooMuch, limit)
		}
		if err == io.EOF {
			return buf, nil
		}
		if err != nil {
			return buf, err
		}
	}
}
