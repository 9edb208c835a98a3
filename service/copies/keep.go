package copies

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"vergekeep/archive"
	"vergekeep/core/naming"
	"vergekeep/core/selector"
	"vergekeep/service/fleet"
	"vergekeep/store"
)

const (
	// runLimit is how long bringing one copy up to date may take.
	runLimit = 15 * time.Minute
	// retryAfter is how long a copy that failed is left alone.
	retryAfter = 10 * time.Minute
	// batch is how many files are written before it is noted that they are there.
	batch = 200
)

// Keep brings every copy up to date after each round, and those that failed
// every ten minutes, until ctx ends.
func (s *Service) Keep(ctx context.Context) {
	for ctx.Err() == nil {
		s.watch(ctx)
	}
}

// watch keeps until ctx ends or the bus has dropped us for being slow.
func (s *Service) watch(ctx context.Context) {
	sub := s.Bus.Subscribe()
	defer sub.Close()
	tick := time.NewTicker(retryAfter)
	defer tick.Stop()
	due := make(chan struct{}, 1)
	due <- struct{}{} // what happened while nobody listened
	gone := make(chan struct{})
	go func() { // events are taken at once, however long a copy takes
		defer close(gone)
		for e := range sub.C {
			if e.Type == "round-ended" {
				select {
				case due <- struct{}{}:
				default:
				}
			}
		}
	}()
	for {
		select {
		case <-ctx.Done():
			return
		case <-gone:
			return
		case <-due:
			s.keepAll(ctx, false)
		case <-tick.C:
			s.keepAll(ctx, true)
		}
	}
}

func (s *Service) keepAll(ctx context.Context, onlyFailed bool) {
	list, err := s.List(ctx)
	if err != nil {
		return
	}
	for _, c := range list {
		if onlyFailed && !c.LastFailed {
			continue
		}
		if _, err := s.Run(ctx, c.Name); err != nil && ctx.Err() == nil {
			s.Log.Error("a copy could not be brought up to date; it is tried again", "copy", c.Name, "destination", c.Destination, "error", err)
		}
	}
}

// Run brings a copy up to date and says what it did.
func (s *Service) Run(ctx context.Context, name string) (Copy, error) {
	s.running.Lock()
	defer s.running.Unlock()
	c, err := s.Get(ctx, name)
	if err != nil {
		return c, err
	}
	limited, cancel := context.WithTimeoutCause(ctx, runLimit, fmt.Errorf("it took longer than %s", runLimit))
	defer cancel()
	written, err := s.run(limited, &c)
	if ctx.Err() != nil {
		return c, ctx.Err() // the service stops, or nobody waits for it any more
	}
	now := s.Now()
	c.LastRun, c.LastFailed = now, err != nil
	switch {
	case err != nil:
		c.LastSaid = err.Error()
		err = fmt.Errorf("%w: %w", ErrPlace, err)
	case written == 0:
		c.LastSaid, c.LastGood = "nothing was new", now
	default:
		c.LastSaid, c.LastGood = fmt.Sprintf("%d written", written), now
	}
	noted := s.DB.Write(context.WithoutCancel(ctx), func(tx *store.Tx) error {
		_, err := tx.Exec(`UPDATE copies SET last_run = ?, last_good = ?, last_said = ?, last_failed = ?, host_key = ? WHERE id = ?`,
			store.Stamp(c.LastRun), store.Stamp(c.LastGood), c.LastSaid, c.LastFailed, c.HostKey, c.ID)
		return err
	})
	return c, errors.Join(err, noted)
}

// entry is a revision that a copy has to have.
type entry struct {
	archive.Revision
	configuration int64
	device        string
	path          string
	round         int64 // that brought it; 0 for none
}

// name is the ref of the entry.
func (e *entry) name() string { return fmt.Sprintf("%s@%d", e.of(), e.Number) }

// of is the ref without its point.
func (e *entry) of() string {
	name := e.device
	if e.Datastore != "running" || e.Part != "" {
		name += ":" + e.Datastore
	}
	if e.Part != "" {
		name += "/" + e.Part
	}
	return name
}

// run writes what a copy lacks.
func (s *Service) run(ctx context.Context, c *Copy) (written int, err error) {
	names, err := naming.Compile(c.Names)
	if err != nil {
		return 0, err
	}
	if strings.HasPrefix(c.Destination, "git:") {
		return s.mirror(ctx, c, names)
	}
	known, err := s.known(ctx, c.ID)
	if err != nil {
		return 0, err
	}
	list, err := s.lacking(ctx, c, names, func(e archive.End) int { return known[e.ID] })
	if err != nil || len(list) == 0 {
		return 0, err
	}
	dated := names.Has("date") || names.Has("time")
	to, err := s.open(ctx, c)
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, to.Close()) }()
	left := leftOut{} // one configuration that cannot be shown holds up no other
	for part := range slices.Chunk(list, batch) {
		upTo := map[int64]int{}
		for _, e := range part {
			if err := ctx.Err(); err != nil {
				return written, context.Cause(ctx)
			}
			if e.Thinned || e.Origin == archive.Drafted || !dated && e.path == "" {
				if left[e.configuration] == nil {
					upTo[e.configuration] = max(upTo[e.configuration], e.Number)
				}
				continue
			}
			text, ok := s.text(ctx, c, &e, left)
			if !ok {
				continue
			}
			if err := to.Put(e.path, []byte(text)); err != nil {
				return written, err
			}
			upTo[e.configuration] = max(upTo[e.configuration], e.Number)
			written++
		}
		if err := s.note(ctx, c.ID, upTo); err != nil {
			return written, err
		}
	}
	if written == 0 {
		return 0, left.err()
	}
	for _, log := range changeLogs(list, len(known) == 0, s.Now()) {
		if err := to.Put(log.path, []byte(log.text)); err != nil {
			return written, err
		}
	}
	heads, err := s.heads(ctx)
	if err != nil {
		return written, err
	}
	return written, errors.Join(to.Put(headsFile, heads), left.err())
}

// leftOut is the configurations that could not be shown, and why.
type leftOut map[int64]error

// err says how many are left out, and why one of them is.
func (l leftOut) err() error {
	for _, err := range l {
		return fmt.Errorf("%d left out; %w", len(l), err)
	}
	return nil
}

// headsFile is where a copy has the ends of all chains: whoever keeps the copy
// can tell later what the archive was then.
const headsFile = "heads.json"

func (s *Service) heads(ctx context.Context) ([]byte, error) {
	h, err := s.Heads(ctx)
	if err != nil {
		return nil, err
	}
	data, err := json.MarshalIndent(h, "", "  ")
	return append(data, '\n'), err
}

// Send puts a file, such as signed heads, into a copy.
func (s *Service) Send(ctx context.Context, name, file string, data []byte) error {
	s.running.Lock()
	defer s.running.Unlock()
	c, err := s.Get(ctx, name)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeoutCause(ctx, runLimit, fmt.Errorf("it took longer than %s", runLimit))
	defer cancel()
	if strings.HasPrefix(c.Destination, "git:") {
		err = s.commitFile(ctx, &c, file, "Sent: "+file, data)
	} else {
		var to place
		if to, err = s.open(ctx, &c); err == nil {
			err = errors.Join(to.Put(file, data), to.Close())
		}
	}
	if err != nil {
		return fmt.Errorf("%w: %w", ErrPlace, err)
	}
	return nil
}

// known is the number of the revision up to which the copy has each configuration.
func (s *Service) known(ctx context.Context, id int64) (map[int64]int, error) {
	rows, err := s.DB.Query(ctx, `SELECT configuration_id, number FROM copied WHERE copy_id = ?`, id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	known := map[int64]int{}
	for rows.Next() {
		var configuration int64
		var number int
		if err := rows.Scan(&configuration, &number); err != nil {
			return nil, err
		}
		known[configuration] = number
	}
	return known, rows.Err()
}

func (s *Service) note(ctx context.Context, id int64, upTo map[int64]int) error {
	return s.DB.Write(ctx, func(tx *store.Tx) error {
		for configuration, number := range upTo {
			if _, err := tx.Exec(`INSERT INTO copied (copy_id, configuration_id, number) VALUES (?, ?, ?)
				ON CONFLICT (copy_id, configuration_id) DO UPDATE SET number = max(number, excluded.number)`, id, configuration, number); err != nil {
				return err
			}
		}
		return nil
	})
}

// lacking are the revisions that arrived after what is known, in the order of
// their arrival. Where the names have no time, only the newest of a
// configuration has a path.
func (s *Service) lacking(ctx context.Context, c *Copy, names *naming.Pattern, known func(archive.End) int) ([]entry, error) {
	sel, err := selector.Parse(c.Selector)
	if err != nil {
		return nil, err
	}
	devices, err := s.Fleet.List(ctx, sel)
	if err != nil {
		return nil, err
	}
	by := make(map[int64]*fleet.Device, len(devices))
	for i := range devices {
		by[devices[i].ID] = &devices[i]
	}
	ends, err := s.Archive.Ends(ctx)
	if err != nil {
		return nil, err
	}
	dated := names.Has("date") || names.Has("time") || strings.HasPrefix(c.Destination, "git:")
	var list []entry
	since := s.Now()
	for _, end := range ends {
		d := by[end.Device]
		if d == nil || known(end) >= end.Last {
			continue
		}
		revisions, err := s.Archive.After(ctx, end.ID, known(end))
		if err != nil {
			return nil, err
		}
		for _, r := range revisions {
			e := entry{Revision: r, configuration: end.ID, device: d.Name}
			if r.Arrived.Before(since) {
				since = r.Arrived
			}
			if dated || r.Number == end.Newest {
				e.path = names.Path(naming.Name{Device: d.Name, Site: d.Site, Address: host(d), Datastore: r.Datastore, Part: r.Part, At: r.FirstSeen})
			}
			list = append(list, e)
		}
	}
	found, err := s.Rounds.Found(ctx, since)
	if err != nil {
		return nil, err
	}
	for i := range list {
		if e := &list[i]; e.Origin == archive.Captured {
			e.round = found[e.Device].At(e.Arrived)
		}
	}
	sort.SliceStable(list, func(i, j int) bool { return list[i].Arrived.Before(list[j].Arrived) })
	return list, nil
}

// host is the first address of a device, without its port.
func host(d *fleet.Device) string {
	at, _, _ := strings.Cut(d.Addresses[0], ":")
	if strings.HasPrefix(d.Addresses[0], "[") {
		at, _, _ = strings.Cut(strings.TrimPrefix(d.Addresses[0], "["), "]")
	}
	return at
}

// text is a revision as the copy shows it; false where it, or one before it of the
// same configuration, cannot be shown.
func (s *Service) text(ctx context.Context, c *Copy, e *entry, left leftOut) (string, bool) {
	if left[e.configuration] != nil {
		return "", false
	}
	text, err := s.Archive.Text(ctx, e.Revision)
	if err == nil && !c.Secrets {
		if dl := s.Dialects[e.Platform()]; dl != nil {
			text = dl.Masked(text)
		} else {
			err = fmt.Errorf("its secrets cannot be masked: the dialect %s is not loaded", e.Platform())
		}
	}
	if err != nil {
		left[e.configuration] = fmt.Errorf("%s: %w", e.name(), err)
	}
	return text, err == nil
}

type file struct{ path, text string }

// changeLogs are the short logs of what changed, one a round; what no round
// brought, and all of a first filling, has one of its own.
func changeLogs(list []entry, first bool, now time.Time) []file {
	byRound := map[int64][]entry{}
	for _, e := range list {
		round := e.round
		if first {
			round = 0
		}
		byRound[round] = append(byRound[round], e)
	}
	var logs []file
	for round, entries := range byRound {
		what, name := fmt.Sprintf("Round %d", round), fmt.Sprintf("round-%d", round)
		at := entries[0].Arrived
		switch {
		case first:
			what, name, at = "The copy was filled", "first", now
		case round == 0:
			what, name, at = "Taken in from elsewhere", "imported", now
		}
		var b strings.Builder
		fmt.Fprintf(&b, "%s, %s UTC: %d new\n", what, at.UTC().Format("2006-01-02 15:04"), len(entries))
		sort.SliceStable(entries, func(i, j int) bool { return entries[i].name() < entries[j].name() })
		for _, e := range entries {
			fmt.Fprintf(&b, "  %-32s  %s  %s  %s\n", e.name(), e.FirstSeen.UTC().Format("2006-01-02 15:04"), said(&e.Revision), e.path)
		}
		logs = append(logs, file{fmt.Sprintf("change-log/%s_%s.txt", at.UTC().Format("2006-01-02_15-04-05"), name), b.String()})
	}
	return logs
}

// said is a revision in a few words.
func said(r *archive.Revision) string {
	if r.Number == 1 {
		return "first seen"
	}
	return r.Stats.Said()
}
