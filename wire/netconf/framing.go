// Package netconf speaks NETCONF (RFC 6241) over a byte stream with the two
// framings of RFC 6242: the end-of-message mark of section 4.3, with which
// every session begins, and the chunks of section 4.2, used when both sides
// announce base:1.1.
package netconf

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
)

// Capabilities that name the two framings (RFC 6241, section 8.1).
const (
	Base10 = "urn:ietf:params:netconf:base:1.0"
	Base11 = "urn:ietf:params:netconf:base:1.1"
)

// ErrFraming is wrapped where the peer breaks the framing.
var ErrFraming = errors.New("broken NETCONF framing")

// ErrTooLarge is wrapped where a message exceeds the limit of the framer.
var ErrTooLarge = errors.New("NETCONF message too large")

var endMark = []byte("]]>]]>")

// Framer reads and writes whole messages. Reading and writing may happen at the
// same time, each by one goroutine.
type Framer struct {
	r       *bufio.Reader
	w       io.Writer
	limit   int
	chunked bool
}

// NewFramer starts with the end-of-message framing. Messages larger than limit
// bytes are refused.
func NewFramer(rw io.ReadWriter, limit int) *Framer {
	return &Framer{r: bufio.NewReaderSize(rw, 32<<10), w: rw, limit: limit}
}

// UseChunks switches both directions to chunked framing.
func (f *Framer) UseChunks() { f.chunked = true }

// ReadMessage reads one message. It is io.EOF where the stream ends between two
// messages and io.ErrUnexpectedEOF where it ends within one.
func (f *Framer) ReadMessage() ([]byte, error) {
	if f.chunked {
		return f.readChunks()
	}
	var msg []byte
	for {
		part, err := f.r.ReadSlice('>')
		msg = append(msg, part...)
		if len(msg) > f.limit {
			return nil, fmt.Errorf("%w: over %d bytes", ErrTooLarge, f.limit)
		}
		if bytes.HasSuffix(msg, endMark) {
			return msg[:len(msg)-len(endMark)], nil
		}
		if errors.Is(err, bufio.ErrBufferFull) {
			continue
		}
		if err == io.EOF && len(bytes.TrimSpace(msg)) > 0 {
			return nil, io.ErrUnexpectedEOF
		}
		if err != nil {
			return nil, err
		}
	}
}

// readChunks reads "\n#LENGTH\n…" chunks up to "\n##\n" (RFC 6242, section 4.2).
func (f *Framer) readChunks() ([]byte, error) {
	var msg []byte
	for first := true; ; first = false {
		if c, err := f.r.ReadByte(); err != nil {
			if err == io.EOF && !first {
				err = io.ErrUnexpectedEOF
			}
			return nil, err
		} else if c != '\n' {
			return nil, fmt.Errorf("%w: a chunk starts with %q, not with a line end", ErrFraming, c)
		}
		head, err := f.r.ReadSlice('\n')
		if errors.Is(err, bufio.ErrBufferFull) || err == nil && len(head) > 14 {
			return nil, fmt.Errorf("%w: the length of a chunk is too long", ErrFraming)
		}
		if err != nil {
			return nil, unexpected(err)
		}
		head = head[:len(head)-1]
		if len(head) < 2 || head[0] != '#' {
			return nil, fmt.Errorf("%w: %q is no chunk header", ErrFraming, head)
		}
		if string(head) == "##" {
			if first {
				return nil, fmt.Errorf("%w: a message without a chunk", ErrFraming)
			}
			return msg, nil
		}
		n, err := strconv.ParseUint(string(head[1:]), 10, 32)
		if err != nil || n == 0 || head[1] == '0' || head[1] == '+' {
			return nil, fmt.Errorf("%w: %q is no chunk length", ErrFraming, head)
		}
		if len(msg)+int(n) > f.limit {
			return nil, fmt.Errorf("%w: over %d bytes", ErrTooLarge, f.limit)
		}
		// Grown while it arrives: a length alone must not cost memory.
		for left := int(n); left > 0; {
			step := min(left, 64<<10)
			at := len(msg)
			msg = append(msg, make([]byte, step)...)
			if _, err := io.ReadFull(f.r, msg[at:]); err != nil {
				return nil, unexpected(err)
			}
			left -= step
		}
	}
}

func unexpected(err error) error {
	if err == io.EOF {
		return io.ErrUnexpectedEOF
	}
	return err
}

// WriteMessage writes one message with one call to Write.
func (f *Framer) WriteMessage(msg []byte) error {
	var b bytes.Buffer
	b.Grow(len(msg) + 32)
	if f.chunked {
		fmt.Fprintf(&b, "\n#%d\n", len(msg))
		b.Write(msg)
		b.WriteString("\n##\n")
	} else {
		b.Write(msg)
		b.Write(endMark)
	}
	_, err := f.w.Write(b.Bytes())
	return err
}
