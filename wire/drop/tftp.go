package drop

import (
	"bytes"
	"encoding/binary"
	"errors"
	"net"
	"strings"
	"time"
)

// The opcodes of RFC 1350, section 5.
const (
	opWrite = 2
	opData  = 3
	opAck   = 4
	opError = 5
)

const (
	blockSize   = 512
	resend      = 2 * time.Second
	maxResends  = 5
	maxTransfer = 16
)

type tftpServer struct {
	conn  net.PacketConn
	slots chan struct{}
}

func (r *Receiver) listenTFTP(address string) error {
	var lc net.ListenConfig
	conn, err := lc.ListenPacket(r.ctx, "udp", address)
	if err != nil {
		return err
	}
	r.tftp = &tftpServer{conn: conn, slots: make(chan struct{}, maxTransfer)}
	r.wg.Go(func() {
		buf := make([]byte, 2048)
		for {
			n, from, err := conn.ReadFrom(buf)
			if r.ctx.Err() != nil {
				return
			}
			if err != nil {
				time.Sleep(10 * time.Millisecond)
				continue
			}
			name, ok := writeRequest(buf[:n])
			if !ok {
				continue // RFC 1350 has no answer for noise
			}
			p := r.find("tftp", name, from)
			if p == nil {
				_, _ = conn.WriteTo(refusal(1, "no such place"), from)
				continue
			}
			select {
			case r.tftp.slots <- struct{}{}:
			default:
				_, _ = conn.WriteTo(refusal(0, "too many transfers"), from)
				continue
			}
			r.wg.Go(func() {
				defer func() { <-r.tftp.slots }()
				r.receive(p, from)
			})
		}
	})
	return nil
}

// writeRequest is the file name of a WRQ in octet mode (RFC 1350, section 5).
func writeRequest(packet []byte) (name string, ok bool) {
	if len(packet) < 4 || binary.BigEndian.Uint16(packet) != opWrite {
		return "", false
	}
	fields := bytes.Split(packet[2:], []byte{0})
	if len(fields) < 3 || !strings.EqualFold(string(fields[1]), "octet") {
		return "", false
	}
	name = string(fields[0])
	return name[strings.LastIndexByte(name, '/')+1:], true
}

func refusal(code uint16, message string) []byte {
	packet := binary.BigEndian.AppendUint16([]byte{0, opError}, code)
	return append(append(packet, message...), 0)
}

// receive takes one file from a port of its own, the transfer identifier of
// RFC 1350, section 4.
func (r *Receiver) receive(p *place, from net.Addr) {
	host, _, err := net.SplitHostPort(r.tftp.conn.LocalAddr().String())
	if err != nil {
		return
	}
	var lc net.ListenConfig
	conn, err := lc.ListenPacket(r.ctx, "udp", net.JoinHostPort(host, "0"))
	if err != nil {
		return
	}
	defer conn.Close()
	var data []byte
	buf := make([]byte, 4+blockSize+1)
	block := uint16(0)
	resent := 0
	for {
		_, _ = conn.WriteTo(binary.BigEndian.AppendUint16([]byte{0, opAck}, block), from)
		_ = conn.SetReadDeadline(time.Now().Add(resend))
		n, sender, err := conn.ReadFrom(buf)
		switch {
		case r.ctx.Err() != nil:
			return
		case err != nil:
			if resent++; resent > maxResends {
				p.deliver(nil, err)
				return
			}
			continue
		case sender.String() != from.String():
			_, _ = conn.WriteTo(refusal(5, "unknown transfer"), sender)
			continue
		case n < 4 || binary.BigEndian.Uint16(buf) != opData || n > 4+blockSize:
			_, _ = conn.WriteTo(refusal(4, "not a block"), from)
			p.deliver(nil, errTransfer)
			return
		case binary.BigEndian.Uint16(buf[2:]) != block+1:
			if resent++; resent > 1000 {
				p.deliver(nil, errTransfer)
				return
			}
			continue // one that we have; the acknowledgement was lost
		}
		block++
		resent = 0
		data = append(data, buf[4:n]...)
		if len(data) > MaxFile {
			_, _ = conn.WriteTo(refusal(3, "too large"), from)
			p.deliver(nil, errTooLarge)
			return
		}
		if n < 4+blockSize { // the last one
			_, _ = conn.WriteTo(binary.BigEndian.AppendUint16([]byte{0, opAck}, block), from)
			p.deliver(data, nil)
			// RFC 1350, section 6: stay a moment, the last acknowledgement may be lost.
			_ = conn.SetReadDeadline(time.Now().Add(time.Second))
			if n, sender, err := conn.ReadFrom(buf); err == nil && n >= 4 && sender.String() == from.String() {
				_, _ = conn.WriteTo(binary.BigEndian.AppendUint16([]byte{0, opAck}, block), from)
			}
			return
		}
	}
}

var errTransfer = errors.New("the transfer broke off")
