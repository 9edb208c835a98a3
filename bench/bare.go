package main

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"vergekeep/standin/scenario"
)

// bareLoop is what somebody would write in an afternoon: it dials the
// stand-ins, exchanges the same messages and throws the answers away.
func bareLoop(list []target, concurrency int) (time.Duration, error) {
	begun := time.Now()
	work := make(chan target)
	errs := make(chan error, concurrency)
	var wg sync.WaitGroup
	for range concurrency {
		wg.Go(func() {
			for t := range work {
				if err := bareVisit(t); err != nil {
					select {
					case errs <- fmt.Errorf("%s: %w", t.name, err):
					default:
					}
				}
			}
		})
	}
	for _, t := range list {
		work <- t
	}
	close(work)
	wg.Wait()
	select {
	case err := <-errs:
		return 0, err
	default:
		return time.Since(begun), nil
	}
}

func bareVisit(t target) error {
	conn, err := ssh.Dial("tcp", t.addr, &ssh.ClientConfig{
		User: scenario.User, Auth: []ssh.AuthMethod{ssh.Password(scenario.Password)},
		HostKeyCallback: ssh.InsecureIgnoreHostKey(), Timeout: 30 * time.Second, //nolint:gosec // our own stand-in
	})
	if err != nil {
		return err
	}
	defer conn.Close()
	s, err := conn.NewSession()
	if err != nil {
		return err
	}
	defer s.Close()
	in, err := s.StdinPipe()
	if err != nil {
		return err
	}
	out, err := s.StdoutPipe()
	if err != nil {
		return err
	}
	if err := s.RequestPty("vt100", 24, 32767, ssh.TerminalModes{}); err != nil {
		return err
	}
	if err := s.Shell(); err != nil {
		return err
	}
	buf, seen := make([]byte, 32<<10), []byte(nil)
	for _, step := range []struct{ until, send string }{
		{t.name + " | ", "raise"},
		{"Raise secret: ", scenario.Elevation},
		{t.name + " || ", "session paging off"},
		{t.name + " || ", "list system"},
		{t.name + " || ", "list config running"},
		{t.name + " || ", "list config startup"},
		{t.name + " || ", "list system"},
		{t.name + " || ", "bye"},
	} {
		for !bytes.HasSuffix(seen, []byte(step.until)) {
			n, err := out.Read(buf)
			if err != nil {
				return err
			}
			seen = append(seen, buf[:n]...)
		}
		seen = seen[:0]
		if _, err := io.WriteString(in, step.send+"\n"); err != nil {
			return err
		}
	}
	for {
		if _, err := out.Read(buf); errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return err
		}
	}
}
