package vault

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"time"
)

// maxSecret bounds what a source may give.
const maxSecret = 64 << 10

// sourceFor is how long what a source gave is good: a round of thousands of
// visits must not run a command for each.
const sourceFor = time.Minute

// ErrSource is wrapped where a secret cannot be read. It never holds any of
// what the source gave.
var ErrSource = errors.New("the secret cannot be read")

func isSource(value string) bool {
	for _, kind := range []string{"env:", "file:", "command:"} {
		if strings.HasPrefix(value, kind) {
			return true
		}
	}
	return false
}

// Sources names where the secrets are read at use, "" if they are all here.
func (c Credential) Sources() string {
	var all []string
	c.each(func(_ string, value *string) {
		if kind, _, _ := strings.Cut(*value, ":"); isSource(*value) && !slices.Contains(all, kind) {
			all = append(all, kind)
		}
	})
	return strings.Join(all, ", ")
}

type sourceCache struct {
	mu    sync.Mutex
	known map[string]found
}

type found struct {
	value string
	at    time.Time
}

func (s *sourceCache) forget() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.known = nil
}

// Resolve reads the secrets that stand elsewhere.
func (v *Vault) Resolve(ctx context.Context, c Credential) (Credential, error) {
	var bad error
	c.each(func(name string, value *string) {
		if !isSource(*value) || bad != nil {
			return
		}
		text, err := v.sources.read(ctx, *value)
		if err != nil {
			bad = fmt.Errorf("the %s of the credential %s: %w", name, c.Name, err)
			return
		}
		*value = text
	})
	return c, bad
}

func (s *sourceCache) read(ctx context.Context, source string) (string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if f, ok := s.known[source]; ok && time.Since(f.at) < sourceFor {
		return f.value, nil
	}
	text, err := readSource(ctx, source)
	if err != nil {
		return "", err
	}
	if s.known == nil {
		s.known = map[string]found{}
	}
	s.known[source] = found{text, time.Now()}
	return text, nil
}

func readSource(ctx context.Context, source string) (string, error) {
	kind, where, _ := strings.Cut(source, ":")
	var text []byte
	switch kind {
	case "env":
		value, ok := os.LookupEnv(where)
		if !ok {
			return "", fmt.Errorf("%w: the service's environment has no %s", ErrSource, where)
		}
		text = []byte(value)
	case "file":
		f, err := os.Open(where)
		if err != nil {
			return "", fmt.Errorf("%w: %w", ErrSource, err)
		}
		defer f.Close()
		if text, err = io.ReadAll(io.LimitReader(f, maxSecret+1)); err != nil {
			return "", fmt.Errorf("%w: %w", ErrSource, err)
		}
	default:
		ctx, cancel := context.WithTimeout(ctx, 15*time.Second)
		defer cancel()
		cmd := exec.CommandContext(ctx, "/bin/sh", "-c", where)
		cmd.WaitDelay = time.Second
		out := &limited{limit: maxSecret + 1}
		cmd.Stdout = out
		if err := cmd.Run(); err != nil {
			return "", fmt.Errorf("%w: its command ended with %w", ErrSource, err)
		}
		text = out.Bytes()
	}
	if len(text) > maxSecret {
		return "", fmt.Errorf("%w: it has more than %d KiB", ErrSource, maxSecret>>10)
	}
	secret := strings.TrimRight(string(text), "\r\n")
	if secret == "" {
		return "", fmt.Errorf("%w: it is empty", ErrSource)
	}
	return secret, nil
}

// limited keeps the first bytes of what is written.
type limited struct {
	bytes.Buffer
	limit int
}

func (l *limited) Write(p []byte) (int, error) {
	if room := l.limit - l.Len(); room > 0 {
		l.Buffer.Write(p[:min(len(p), room)])
	}
	return len(p), nil
}
