package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"vergekeep/archive"
	"vergekeep/core/dialect"
	"vergekeep/core/diff"
	"vergekeep/daemon"
	"vergekeep/standin/scenario"
	"vergekeep/store"
)

// taken is an archive that a history was taken into.
type taken struct {
	dir     string
	db      *store.DB
	archive *archive.Archive
	bytes   int64   // tables and indexes of revisions, contents and chains
	seconds float64 // processor time
	states  int
}

func (k *taken) close() { _ = errors.Join(k.db.Close(), os.RemoveAll(k.dir)) }

func processorTime() float64 {
	var u syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano()).Seconds()
}

// takeIn does what visits do with what they bring: parse, compare, compress, record.
func takeIn(ctx context.Context, h history) (*taken, error) { return takeInWith(ctx, h, nil) }

// takeInWith is takeIn with something that is done for each new revision.
func takeInWith(ctx context.Context, h history, also func(tx *store.Tx, before *archive.Revision, r archive.Revision) error) (*taken, error) {
	dir, err := os.MkdirTemp("", "vergekeep-bench-")
	if err != nil {
		return nil, err
	}
	daemon.Tune() // as the service does
	k := &taken{dir: dir}
	if k.db, err = store.Open(ctx, filepath.Join(dir, "keep.db")); err != nil {
		return nil, err
	}
	if k.archive, err = archive.New(k.db); err != nil {
		return nil, err
	}
	set, err := dialect.Load(dialect.Builtin())
	if err != nil {
		return nil, err
	}
	begun := processorTime()
	var batch []*archive.Prepared
	flush := func() error {
		list := batch
		batch = nil
		return k.db.Write(ctx, func(tx *store.Tx) error {
			for _, p := range list {
				r, isNew, err := k.archive.Record(tx, p)
				if err == nil && isNew && also != nil {
					err = also(tx, p.Before(), r)
				}
				if err != nil {
					return err
				}
			}
			return nil
		})
	}
	ids := map[string]int64{}
	pending := map[string]bool{}
	err = h.each(func(s scenario.State, at time.Time) error {
		if pending[s.Name] || len(batch) >= 50 {
			if err := flush(); err != nil {
				return err
			}
			clear(pending)
		}
		id, known := ids[s.Name]
		if !known {
			id = int64(len(ids) + 1)
			ids[s.Name] = id
			if err := k.db.Write(ctx, func(tx *store.Tx) error {
				_, err := tx.Exec(`INSERT INTO devices (id, name, platform, address, created_at) VALUES (?, ?, ?, '192.0.2.1:22', 0)`, id, s.Name, s.Platform)
				return err
			}); err != nil {
				return err
			}
		}
		key := archive.Key{Device: id, Datastore: "running"}
		var before *archive.Revision
		if latest, err := k.archive.Latest(ctx, key); err == nil {
			before = &latest
		} else if !errors.Is(err, archive.ErrNone) {
			return err
		}
		dl := set[s.Platform]
		view := dl.View(s.Text)
		p, err := k.archive.Prepare(ctx, archive.Capture{Key: key, Before: before, Text: s.Text, Form: view.ComparisonForm(), Dialect: dl.Name + " " + dl.Version, Origin: archive.Captured, At: at, Arrived: at,
			Compare: func(before string) (diff.Stats, bool) { return view.Compare(dl.View(before)) }})
		if err != nil {
			return err
		}
		pending[s.Name] = true
		batch = append(batch, p)
		k.states++
		return nil
	})
	if err := errors.Join(err, flush()); err != nil {
		return nil, err
	}
	k.seconds = processorTime() - begun
	k.bytes, err = k.archive.Bytes(ctx)
	return k, err
}

// inTheArchive measures everything that takes the large history, which is taken
// in once.
func inTheArchive(ctx context.Context) ([]result, error) {
	h := generated(*devices)
	another := false
	if _, err := os.Stat(filepath.Join(*corpus, ".git")); *corpus != "" && err == nil {
		if h, err = ofRepository(ctx, *corpus); err != nil {
			return nil, err
		}
		another = true
	}
	repo, theirs, err := inGit(ctx, h)
	if err != nil {
		return nil, err
	}
	k, err := takeIn(ctx, h)
	if err != nil {
		return nil, err
	}
	defer k.close()
	table := []result{
		{"archive-size", float64(k.bytes) / float64(theirs.Bytes), "goal<=1.0", fmt.Sprintf("ours=%.1fMB theirs=%.1fMB  (%d revisions)", float64(k.bytes)/1e6, float64(theirs.Bytes)/1e6, k.states)},
		{"archive-write", k.seconds / theirs.Seconds, "goal<=0.25", fmt.Sprintf("ours=%.0fs theirs=%.0fs  (processor time; theirs measured once)", k.seconds, theirs.Seconds)},
	}
	measures := []func(context.Context, *taken, string) ([]result, error){readOld, searches, lineHistory}
	if !another { // nobody can double somebody else's history
		measures = append(measures, twice)
	}
	for _, measure := range measures {
		lines, err := measure(ctx, k, repo)
		if err != nil {
			return nil, err
		}
		table = append(table, lines...)
	}
	return table, nil
}

// readOld reads random revisions, in turns with git.
func readOld(ctx context.Context, k *taken, repo string) ([]result, error) {
	out, err := exec.CommandContext(ctx, "git", "-C", repo, "log", "--raw", "--no-abbrev", "--format=", "--reverse").Output()
	if err != nil {
		return nil, err
	}
	var blobs []string
	for line := range strings.Lines(string(out)) {
		if f := strings.Fields(line); len(f) > 3 {
			blobs = append(blobs, f[3])
		}
	}
	cmd := exec.CommandContext(ctx, "git", "-C", repo, "cat-file", "--batch")
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	stdout, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	defer func() { _ = in.Close(); _ = cmd.Wait() }()
	answer := bufio.NewReaderSize(stdout, 1<<20)
	byGit := func(blob string) (int, error) {
		if _, err := io.WriteString(in, blob+"\n"); err != nil {
			return 0, err
		}
		head, err := answer.ReadString('\n')
		if err != nil {
			return 0, err
		}
		var name, kind string
		var size int
		if _, err := fmt.Sscan(head, &name, &kind, &size); err != nil {
			return 0, err
		}
		_, err = io.CopyN(io.Discard, answer, int64(size)+1)
		return size, err
	}
	var all []archive.Revision
	for id := int64(1); ; id++ {
		list, err := k.archive.List(ctx, archive.Key{Device: id, Datastore: "running"})
		if err != nil {
			return nil, err
		}
		if len(list) == 0 {
			break
		}
		all = append(all, list...)
	}
	random := rand.New(rand.NewPCG(3, 5))
	const rounds, each = 9, 400
	var ratios, ours, theirs []float64
	for range rounds {
		begun := time.Now()
		for range each {
			if _, err := k.archive.Text(ctx, all[random.IntN(len(all))]); err != nil {
				return nil, err
			}
		}
		our := time.Since(begun).Seconds() / each * 1e6
		begun = time.Now()
		for range each {
			if _, err := byGit(blobs[random.IntN(len(blobs))]); err != nil {
				return nil, err
			}
		}
		their := time.Since(begun).Seconds() / each * 1e6
		ratios, ours, theirs = append(ratios, our/their), append(ours, our), append(theirs, their)
	}
	return []result{{"read-old", median(ratios), "goal<=1.0", fmt.Sprintf("ours=%.0fµs theirs=%.0fµs  (median of %d, %d random revisions each)", median(ours), median(theirs), rounds, each)}}, nil
}
