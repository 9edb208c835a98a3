// Package telnet connects to devices over Telnet (RFC 854): unprotected, for
// those that speak nothing else and for the ports of console servers. Options
// are negotiated as RFC 1143 ("the Q method") says, so that no device can
// trap us in a loop of offers.
package telnet

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"sync"
	"time"

	"vergekeep/core/reason"
	"vergekeep/wire/dial"
)

// The commands of RFC 854 that matter here.
const (
	cmdSE   = 240
	cmdSB   = 250
	cmdWILL = 251
	cmdWONT = 252
	cmdDO   = 253
	cmdDONT = 254
	cmdIAC  = 255
)

// The options that we know.
const (
	optBinary = 0  // RFC 856
	optEcho   = 1  // RFC 857
	optSGA    = 3  // RFC 858, suppress go ahead
	optType   = 24 // RFC 1091, terminal type
	optWindow = 31 // RFC 1073, window size
)

// maxOffers bounds how many option commands a device may send in a session.
const maxOffers = 2000

// Target is a device to connect to.
type Target struct {
	Addresses []string
	Connect   time.Duration // limit for connecting
	Silence   time.Duration // limit for hearing nothing
	Through   dial.Func
}

// Conn is a connection to a device.
type Conn struct {
	conn    *dial.Watched
	r       *bufio.Reader
	ctx     context.Context
	stop    func() bool
	Address string // that answered

	mu            sync.Mutex // of writing and of the options
	ours, theirs  [256]qState
	width, height int
	offers        int
	storm         bool
	afterCR       bool
}

// qState is one side of one option, with the queue bit of RFC 1143.
type qState uint8

const (
	no qState = iota
	yes
	wantNo
	wantNoOpposite
	wantYes
	wantYesOpposite
)

// Dial connects. Login is part of the conversation. Its error carries a reason.
func Dial(ctx context.Context, t Target) (*Conn, error) {
	through := t.Through
	if through == nil {
		through = dial.TCP
	}
	nc, address, err := dial.Race(ctx, t.Addresses, t.Connect, through)
	if err != nil {
		return nil, err
	}
	return newConn(ctx, nc, t.Silence, address), nil
}

func newConn(ctx context.Context, nc net.Conn, silence time.Duration, address string) *Conn {
	c := &Conn{conn: dial.Watch(nc, silence), ctx: ctx, Address: address}
	c.r = bufio.NewReaderSize(c.conn, 16<<10)
	c.stop = context.AfterFunc(ctx, func() { _ = nc.Close() })
	c.conn.SetSilence(silence)
	return c
}

// Shell is the one session that there is. It offers the window size and asks
// the device to echo and to suppress "go ahead".
func (c *Conn) Shell(width, height int) (io.ReadWriteCloser, error) {
	c.width, c.height = min(width, 65535), min(height, 65535)
	c.mu.Lock()
	defer c.mu.Unlock()
	c.ours[optWindow], c.theirs[optSGA] = wantYes, wantYes
	if _, err := c.conn.Write([]byte{cmdIAC, cmdWILL, optWindow, cmdIAC, cmdDO, optSGA}); err != nil {
		return nil, c.Why(err)
	}
	return c, nil
}

// Exec is refused: Telnet has no such thing.
func (c *Conn) Exec(string, int) ([]byte, int, error) { return nil, -1, errShellOnly }

// Subsystem is refused: Telnet has no such thing.
func (c *Conn) Subsystem(string) (io.ReadWriteCloser, error) { return nil, errShellOnly }

var errShellOnly = reason.New(reason.Protocol, "This platform needs SSH, and the record says Telnet.")

// Read reads what the device says, commands taken out.
func (c *Conn) Read(p []byte) (int, error) {
	n := 0
	for n < len(p) {
		// Do not wait for more once there is something.
		if n > 0 && c.r.Buffered() == 0 {
			return n, nil
		}
		b, err := c.r.ReadByte()
		if err != nil {
			if n > 0 {
				return n, nil
			}
			return 0, err
		}
		switch {
		case b == cmdIAC:
			literal, err := c.command()
			if err != nil {
				return n, err
			}
			if !literal {
				continue
			}
		case b == 0 && c.afterCR: // RFC 854: CR NUL is a bare CR
			c.afterCR = false
			continue
		}
		c.afterCR = b == '\r'
		p[n] = b
		n++
	}
	return n, nil
}

// command reads what follows an IAC. A doubled IAC is a byte of data.
func (c *Conn) command() (literal bool, err error) {
	verb, err := c.r.ReadByte()
	if err != nil {
		return false, err
	}
	switch verb {
	case cmdIAC:
		return true, nil
	case cmdWILL, cmdWONT, cmdDO, cmdDONT:
		option, err := c.r.ReadByte()
		if err != nil {
			return false, err
		}
		return false, c.negotiate(verb, option)
	case cmdSB:
		return false, c.subnegotiation()
	}
	return false, nil
}

// negotiate answers one offer or demand.
func (c *Conn) negotiate(verb, option byte) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.offers++; c.offers > maxOffers {
		c.storm = true
		return errStorm
	}
	side := &c.theirs[option]
	if verb == cmdDO || verb == cmdDONT {
		side = &c.ours[option]
	}
	was := *side
	answer := c.answer(verb, option)
	var out []byte
	if answer != 0 {
		out = append(out, cmdIAC, answer, option)
	}
	if option == optWindow && verb == cmdDO && was != yes && *side == yes {
		out = append(out, cmdIAC, cmdSB, optWindow)
		for _, n := range []int{c.width, c.height} {
			out = append(out, escaped(binary.BigEndian.AppendUint16(nil, uint16(n)))...)
		}
		out = append(out, cmdIAC, cmdSE)
	}
	if out == nil {
		return nil
	}
	_, err := c.conn.Write(out)
	return err
}

// answer is the verb to answer with, 0 for none, and keeps the option's state
// (RFC 1143, section 7).
func (c *Conn) answer(verb, option byte) (answer byte) {
	side, accept, agree, refuse := &c.theirs[option], option == optEcho || option == optSGA || option == optBinary, byte(cmdDO), byte(cmdDONT)
	if verb == cmdDO || verb == cmdDONT {
		side, accept, agree, refuse = &c.ours[option], option == optSGA || option == optType || option == optWindow || option == optBinary, cmdWILL, cmdWONT
	}
	was := *side
	switch verb {
	case cmdWILL, cmdDO:
		switch was {
		case no:
			if accept {
				*side, answer = yes, agree
			} else {
				answer = refuse
			}
		case wantNo:
			*side = no
		case wantNoOpposite, wantYes:
			*side = yes
		case wantYesOpposite:
			*side, answer = wantNo, refuse
		}
	case cmdWONT, cmdDONT:
		switch was {
		case yes:
			*side, answer = no, refuse
		case wantNo, wantYes, wantYesOpposite:
			*side = no
		case wantNoOpposite:
			*side, answer = wantYes, agree
		}
	}
	return answer
}

// subnegotiation reads up to IAC SE; all that is answered is a demand for the
// terminal type.
func (c *Conn) subnegotiation() error {
	var data []byte
	for {
		b, err := c.r.ReadByte()
		if err != nil {
			return err
		}
		if b == cmdIAC {
			if b, err = c.r.ReadByte(); err != nil {
				return err
			}
			if b == cmdSE {
				break
			}
		}
		if data = append(data, b); len(data) > 4096 {
			c.storm = true
			return errStorm
		}
	}
	if len(data) == 2 && data[0] == optType && data[1] == 1 {
		c.mu.Lock()
		defer c.mu.Unlock()
		_, err := c.conn.Write(append([]byte{cmdIAC, cmdSB, optType, 0}, append([]byte("VT100"), cmdIAC, cmdSE)...))
		return err
	}
	return nil
}

var errStorm = errors.New("it negotiates without end")

// escaped doubles every IAC.
func escaped(p []byte) []byte {
	out := make([]byte, 0, len(p)+4)
	for _, b := range p {
		if b == cmdIAC {
			out = append(out, b)
		}
		out = append(out, b)
	}
	return out
}

// Write sends what a person would type: a line end goes out as CR LF (RFC 854,
// "the network virtual terminal").
func (c *Conn) Write(p []byte) (int, error) {
	out := make([]byte, 0, len(p)+4)
	for _, b := range p {
		switch b {
		case '\n':
			out = append(out, '\r', '\n')
		case cmdIAC:
			out = append(out, cmdIAC, cmdIAC)
		default:
			out = append(out, b)
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if _, err := c.conn.Write(out); err != nil {
		return 0, err
	}
	return len(p), nil
}

// Why explains an error of reading or writing.
func (c *Conn) Why(err error) error {
	var given *reason.Error
	switch {
	case errors.As(err, &given):
		return given
	case c.ctx.Err() != nil:
		return dial.Cancelled(c.ctx)
	case c.storm:
		return reason.New(reason.Protocol, "It does not speak Telnet as it should: it negotiates options without end.")
	case c.conn.Silent():
		return reason.New(reason.Hung, "It fell silent for %s in the middle of the visit.", c.conn.Silence())
	}
	return reason.New(reason.HungUp, "It closed the connection in the middle of the visit.")
}

// Close ends the connection.
func (c *Conn) Close() error {
	c.stop()
	if err := c.conn.Close(); err != nil && !errors.Is(err, net.ErrClosed) {
		return err
	}
	return nil
}
