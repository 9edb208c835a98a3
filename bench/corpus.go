package main

import (
	"bufio"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"vergekeep/core/config"
	"vergekeep/standin/scenario"
	"vergekeep/wire/git"
)

// history is a network's history, in the order of time.
type history struct {
	name string // for the cache
	each func(func(scenario.State, time.Time) error) error
}

// generated is the history that the stand-ins' generator makes.
func generated(devices int) history {
	c := scenario.Corpus{Devices: devices, Nights: 365, Seed: 11}
	return history{name: fmt.Sprintf("generated %d devices, %d nights, seed %d, form 1", c.Devices, c.Nights, c.Seed), each: func(f func(scenario.State, time.Time) error) error {
		night, second := -1, 0
		return c.Each(func(s scenario.State) error {
			if second++; s.Night != night {
				night, second = s.Night, 0
			}
			return f(s, c.When(s.Night).Add(time.Duration(second)*time.Second))
		})
	}}
}

// ofRepository is the history that a git repository has: each file is a device's.
func ofRepository(ctx context.Context, dir string) (history, error) {
	head, err := git.Run(ctx, dir, nil, "rev-parse", "HEAD")
	if err != nil {
		return history{}, err
	}
	platforms := map[config.Reader]string{config.XML: "sounder", config.JSON: "restconf", config.Brace: "capstan"}
	return history{name: "repository " + strings.TrimSpace(string(head)), each: func(f func(scenario.State, time.Time) error) error {
		h, err := git.Read(ctx, dir)
		if err != nil {
			return err
		}
		platform, last := map[string]string{}, time.Time{}
		for _, c := range h.Changes {
			text, err := h.Text(c, 64<<20)
			if err != nil {
				return errors.Join(err, h.Close())
			}
			name := strings.TrimSuffix(strings.ReplaceAll(c.Path, "/", "-"), ".cfg")
			if platform[name] == "" {
				platform[name] = cmp.Or(platforms[config.Guess(string(text)).Reader], "tidegate")
			}
			if c.At.After(last) { // commits may be older than the ones before them
				last = c.At
			}
			if err := f(scenario.State{Name: name, Platform: platform[name], Text: string(text)}, last); err != nil {
				return errors.Join(err, h.Close())
			}
		}
		return h.Close()
	}}, nil
}

// measured is what a git repository of a history took.
type measured struct {
	Bytes   int64   // under objects/ after gc --aggressive
	Seconds float64 // processor time of fast-import and gc
}

// inGit makes a git repository of a history, one commit a change, and packs it
// as git does best. It is kept outside of this repository, as it does not vary.
func inGit(ctx context.Context, h history) (dir string, m measured, err error) {
	version, err := exec.CommandContext(ctx, "git", "version").Output()
	if err != nil {
		return "", m, err
	}
	cache, err := os.UserCacheDir()
	if err != nil {
		return "", m, err
	}
	sum := sha256.Sum256([]byte(h.name + string(version)))
	dir = filepath.Join(cache, "vergekeep-bench", hex.EncodeToString(sum[:6]))
	if data, err := os.ReadFile(filepath.Join(dir, "measured.json")); err == nil && json.Unmarshal(data, &m) == nil {
		return dir, m, nil
	}
	if err := errors.Join(os.RemoveAll(dir), os.MkdirAll(dir, 0o755)); err != nil {
		return "", m, err
	}
	fmt.Fprintln(os.Stderr, "making a git repository of the history, once")
	run := func(stdin io.Reader, args ...string) error {
		cmd := exec.CommandContext(ctx, "git", args...)
		cmd.Dir, cmd.Stdin = dir, stdin
		out, err := cmd.CombinedOutput()
		if err != nil {
			return fmt.Errorf("git %s: %w: %s", args[0], err, out)
		}
		m.Seconds += cmd.ProcessState.SystemTime().Seconds() + cmd.ProcessState.UserTime().Seconds()
		return nil
	}
	if err := run(nil, "init", "-q", "-b", "main"); err != nil {
		return "", m, err
	}
	m.Seconds = 0
	r, w := io.Pipe()
	go func() { _ = w.CloseWithError(fastImport(w, h)) }()
	if err := run(r, "fast-import", "--quiet"); err != nil {
		return "", m, err
	}
	if err := run(nil, "gc", "--aggressive", "--quiet", "--prune=now"); err != nil {
		return "", m, err
	}
	err = filepath.WalkDir(filepath.Join(dir, ".git", "objects"), func(_ string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		if err == nil {
			m.Bytes += info.Size()
		}
		return err
	})
	if err != nil {
		return "", m, err
	}
	data, err := json.Marshal(m)
	if err != nil {
		return "", m, err
	}
	return dir, m, os.WriteFile(filepath.Join(dir, "measured.json"), data, 0o644)
}

// fastImport writes a history as git fast-import reads it.
func fastImport(out io.Writer, h history) error {
	w := bufio.NewWriterSize(out, 1<<20)
	err := h.each(func(s scenario.State, at time.Time) error {
		message := "change of " + s.Name
		fmt.Fprintf(w, "commit refs/heads/main\ncommitter noc <noc@skerry.example> %d +0000\ndata %d\n%s\nM 100644 inline %s\ndata %d\n", at.Unix(), len(message), message, pathOf(s), len(s.Text))
		_, err := w.WriteString(s.Text + "\n")
		return err
	})
	return errors.Join(err, w.Flush())
}

func pathOf(s scenario.State) string {
	site, _, _ := strings.Cut(s.Name, "-")
	return site + "/" + s.Name + ".cfg"
}
