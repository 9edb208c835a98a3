package syslog

import (
	"bufio"
	"errors"
	"fmt"
	"io"
)

// ErrFraming is wrapped where a stream is not framed as RFC 6587 says.
var ErrFraming = errors.New("not a stream of syslog messages")

// Frames takes a stream apart into messages: by octet counting (RFC 6587, 3.4.1),
// "LENGTH SP MESSAGE", or by line ends (3.4.2). Which one it is, each message says
// by how it begins.
type Frames struct{ r *bufio.Reader }

// NewFrames reads from r.
func NewFrames(r io.Reader) *Frames { return &Frames{bufio.NewReaderSize(r, MaxSize)} }

// maxFrame is how long a counted message may say that it is.
const maxFrame = 1 << 20

// Next is the next message; of a long one the start. Its error is [io.EOF] at the
// end of the stream. The bytes are good until the next call.
func (f *Frames) Next() ([]byte, error) {
	for {
		first, err := f.r.Peek(1)
		if err != nil {
			return nil, err
		}
		switch c := first[0]; {
		case c == '\n' || c == '\r' || c == 0:
			_, _ = f.r.Discard(1)
		case c >= '1' && c <= '9':
			return f.counted()
		default:
			return f.line()
		}
	}
}

func (f *Frames) counted() ([]byte, error) {
	size := 0
	for {
		c, err := f.r.ReadByte()
		switch {
		case err != nil:
			return nil, unexpected(err)
		case c == ' ':
			return f.body(size)
		case c < '0' || c > '9':
			return nil, fmt.Errorf("%w: %q stands in the length of a message", ErrFraming, c)
		}
		if size = size*10 + int(c-'0'); size > maxFrame {
			return nil, fmt.Errorf("%w: a message says that it is longer than %d bytes", ErrFraming, maxFrame)
		}
	}
}

func (f *Frames) body(size int) ([]byte, error) {
	kept := make([]byte, min(size, MaxSize))
	if _, err := io.ReadFull(f.r, kept); err != nil {
		return nil, unexpected(err)
	}
	_, err := f.r.Discard(size - len(kept))
	return kept, unexpected(err)
}

func (f *Frames) line() ([]byte, error) {
	line, err := f.r.ReadSlice('\n')
	if !errors.Is(err, bufio.ErrBufferFull) {
		if len(line) > 0 && errors.Is(err, io.EOF) {
			err = nil // the last one
		}
		return line, err
	}
	kept := append([]byte(nil), line...)
	for errors.Is(err, bufio.ErrBufferFull) { // of the rest nothing is kept
		_, err = f.r.ReadSlice('\n')
	}
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return kept, err
}

func unexpected(err error) error {
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}
