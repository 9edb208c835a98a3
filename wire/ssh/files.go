package ssh

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"vergekeep/core/reason"
)

// Way is how a file is fetched.
type Way string

// The ways.
const (
	SFTP Way = "sftp" // draft-ietf-secsh-filexfer-02, version 3
	SCP  Way = "scp"  // the old copy program over an exec channel
)

// File fetches a file of at most limit bytes. Its error carries a reason; more
// than limit is [ErrTooMuch].
func (c *Conn) File(way Way, path string, limit int) ([]byte, error) {
	if way == SCP {
		return c.overSCP(path, limit)
	}
	ch, err := c.Subsystem("sftp")
	if err != nil {
		return nil, err
	}
	defer ch.Close()
	client, err := sftp.NewClientPipe(ch, ch)
	if err != nil {
		return nil, c.Why(err)
	}
	defer client.Close()
	f, err := client.Open(path)
	if err != nil {
		return nil, c.fileError(path, err)
	}
	defer f.Close()
	before, err := f.Stat()
	if err != nil {
		return nil, c.fileError(path, err)
	}
	text, err := readAll(f, limit)
	if errors.Is(err, ErrTooMuch) {
		return nil, err
	}
	if err != nil {
		return nil, c.fileError(path, err)
	}
	// A file that is written while we read it is neither the old nor the new one.
	after, err := f.Stat()
	if err != nil {
		return nil, c.fileError(path, err)
	}
	if after.Size() != before.Size() || !after.ModTime().Equal(before.ModTime()) {
		return nil, reason.New(reason.Moving, "The file %s was written while it was read.", path)
	}
	if regular := before.Mode().IsRegular(); regular && int64(len(text)) != before.Size() {
		return nil, reason.New(reason.Incomplete, "Of the file %s, which has %d bytes, %d came.", path, before.Size(), len(text))
	}
	return text, nil
}

func (c *Conn) fileError(path string, err error) error {
	var status *sftp.StatusError
	switch {
	case errors.As(err, &status), errors.Is(err, io.ErrUnexpectedEOF) && c.alive():
		return reason.New(reason.DeviceError, "The file %s cannot be read: %w.", path, err)
	case c.alive():
		return reason.New(reason.DeviceError, "The file %s cannot be read: %w.", path, err)
	}
	return c.Why(err)
}

// overSCP speaks the sink's side of the old copy protocol: a line "Cmode size
// name", size bytes, and a zero byte, each confirmed by a zero byte.
func (c *Conn) overSCP(path string, limit int) ([]byte, error) {
	ch, requests, err := c.session()
	if err != nil {
		return nil, err
	}
	defer ch.Close()
	go ssh.DiscardRequests(requests)
	quoted := "'" + strings.ReplaceAll(path, "'", `'\''`) + "'"
	if err := ch.request("exec", ssh.Marshal(struct{ Command string }{"scp -f " + quoted})); err != nil {
		return nil, c.Why(err)
	}
	text, err := sink(ch, limit)
	var told *reason.Error
	switch {
	case errors.As(err, &told), errors.Is(err, ErrTooMuch):
		return nil, err
	case err != nil:
		return nil, c.Why(err)
	}
	return text, nil
}

func sink(rw io.ReadWriter, limit int) ([]byte, error) {
	r := bufio.NewReader(rw)
	confirm := func() error {
		_, err := rw.Write([]byte{0})
		return err
	}
	if err := confirm(); err != nil {
		return nil, err
	}
	for range 10 {
		line, err := readLine(r)
		if err != nil {
			return nil, err
		}
		if line == "" {
			return nil, errCopy
		}
		switch line[0] {
		case 1, 2:
			return nil, reason.New(reason.DeviceError, "The file cannot be read: %.200q.", line[1:])
		case 'T': // times, which we did not ask for
			if err := confirm(); err != nil {
				return nil, err
			}
			continue
		case 'C':
		default:
			return nil, errCopy
		}
		fields := strings.SplitN(line[1:], " ", 3)
		if len(fields) != 3 {
			return nil, errCopy
		}
		size, err := strconv.ParseInt(fields[1], 10, 64)
		if err != nil || size < 0 {
			return nil, errCopy
		}
		if size > int64(limit) {
			return nil, fmt.Errorf("%w: %d bytes", ErrTooMuch, size)
		}
		if err := confirm(); err != nil {
			return nil, err
		}
		text := make([]byte, size)
		if _, err := io.ReadFull(r, text); err != nil {
			return nil, err
		}
		end, err := r.ReadByte()
		if err != nil {
			return nil, err
		}
		if end != 0 {
			return nil, reason.New(reason.Incomplete, "The device says that the copy of the file is not whole.")
		}
		return text, confirm()
	}
	return nil, errCopy
}

var errCopy = reason.New(reason.Protocol, "It does not copy files as it should.")

// readLine reads a line of bounded length.
func readLine(r *bufio.Reader) (string, error) {
	var line []byte
	for len(line) < 4096 {
		b, err := r.ReadByte()
		if err != nil {
			return "", err
		}
		if b == '\n' {
			return string(line), nil
		}
		line = append(line, b)
	}
	return "", errCopy
}
