package ssh

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	pathpkg "path"
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

// Folder writes files on the other side, by SFTP. Whatever it makes is private:
// folders with mode 0700, files with 0600.
type Folder struct {
	conn   *Conn
	client *sftp.Client
	made   map[string]bool
}

// Folder opens the other side's files; Close it when done.
func (c *Conn) Folder() (*Folder, error) {
	ch, err := c.Subsystem("sftp")
	if err != nil {
		return nil, err
	}
	client, err := sftp.NewClientPipe(ch, ch)
	if err != nil {
		return nil, errors.Join(c.Why(err), ch.Close())
	}
	return &Folder{c, client, map[string]bool{}}, nil
}

// Close ends the session; the connection stays.
func (f *Folder) Close() error { return f.client.Close() }

// Names are the names in a folder; none if it is not there.
func (f *Folder) Names(folder string) ([]string, error) {
	list, err := f.client.ReadDir(folder)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, f.conn.fileError(folder, err)
	}
	names := make([]string, len(list))
	for i, info := range list {
		names[i] = info.Name()
	}
	return names, nil
}

// Put writes a file as a whole or not at all: beside its place first, and then
// it takes the place of the one that was there.
func (f *Folder) Put(path string, data []byte) error {
	fail := func(err error) error {
		if f.conn.alive() {
			return reason.New(reason.DeviceError, "The file %s cannot be written: %w.", path, err)
		}
		return f.conn.Why(err)
	}
	if err := f.makeFolder(pathpkg.Dir(path)); err != nil {
		return fail(err)
	}
	beside := path + ".part"
	w, err := f.client.OpenFile(beside, os.O_WRONLY|os.O_CREATE|os.O_TRUNC)
	if err != nil {
		return fail(err)
	}
	err = w.Chmod(0o600)
	if err == nil {
		_, err = w.Write(data)
	}
	if err = errors.Join(err, w.Close()); err != nil {
		return fail(err)
	}
	info, err := f.client.Stat(beside)
	if err == nil && info.Size() != int64(len(data)) {
		err = fmt.Errorf("of %d bytes %d are there", len(data), info.Size())
	}
	if err != nil {
		return fail(err)
	}
	if _, able := f.client.HasExtension("posix-rename@openssh.com"); able {
		err = f.client.PosixRename(beside, path)
	} else if err = f.client.Rename(beside, path); err != nil {
		// Version 3 of the protocol puts nothing in the place of a file that is there.
		if err = f.client.Remove(path); err == nil {
			err = f.client.Rename(beside, path)
		}
	}
	if err != nil {
		return fail(err)
	}
	return nil
}

func (f *Folder) makeFolder(folder string) error {
	if f.made[folder] || folder == "." || folder == "/" {
		return nil
	}
	if _, err := f.client.Stat(folder); errors.Is(err, os.ErrNotExist) {
		if err := f.makeFolder(pathpkg.Dir(folder)); err != nil {
			return err
		}
		if err := f.client.Mkdir(folder); err != nil {
			return err
		}
		if err := f.client.Chmod(folder, 0o700); err != nil {
			return err
		}
	} else if err != nil {
		return err
	}
	f.made[folder] = true
	return nil
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
