// Package texts resolves refs to configurations and compares them. It is the
// one place where it is decided who sees secrets: everything that leaves it is
// masked unless the caller may see them.
package texts

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"vergekeep/archive"
	"vergekeep/core/config"
	"vergekeep/core/dialect"
	"vergekeep/core/nearest"
	"vergekeep/core/pattern"
	"vergekeep/core/ref"
	"vergekeep/service/fleet"
	"vergekeep/service/notes"
	"vergekeep/service/rounds"
)

// Errors that callers test for.
var (
	ErrNotHere = errors.New("this ref cannot be resolved by the service")
	ErrMask    = errors.New("secrets cannot be masked")
	ErrNeutral = errors.New("not a neutral name here")
	ErrLive    = errors.New("the device could not be captured now")
)

// Texts reads configurations.
type Texts struct {
	archive  *archive.Archive
	fleet    *fleet.Fleet
	rounds   *rounds.Service
	dialects dialect.Set
	moments  Moments
	now      func() time.Time

	// Standard renders what a device's standard says it should have, and names the
	// standard; nil where there are none.
	Standard func(ctx context.Context, device string) (name, text string, err error)
}

// New makes a Texts.
func New(a *archive.Archive, f *fleet.Fleet, r *rounds.Service, d dialect.Set, m Moments, now func() time.Time) *Texts {
	return &Texts{archive: a, fleet: f, rounds: r, dialects: d, moments: m, now: now}
}

// Configuration is a resolved ref. Raw is the exact text; show Shown to whoever
// asked.
type Configuration struct {
	Ref      ref.Ref
	Device   fleet.Device
	Revision archive.Revision
	Shown    string // masked unless the caller may see secrets
	Masked   bool   // there are secrets, and they are hidden
	Tree     *config.Tree

	raw  string
	view dialect.View
	file string // of a text that somebody brought: its name

	platform string
}

// Caller is on whose behalf something is read.
type Caller struct {
	Account    string
	SeeSecrets bool
	Operate    bool // may have a device captured now
	Location   *time.Location
}

// Get resolves a ref. "@live" captures the device first.
func (t *Texts) Get(ctx context.Context, source string, c Caller) (*Configuration, error) {
	r, err := ref.Parse(source, c.Location)
	if err != nil {
		return nil, err
	}
	if r.File != "" {
		return nil, fmt.Errorf("%w: %s is a file on your machine", ErrNotHere, r.File)
	}
	d, err := t.fleet.Get(ctx, r.Device)
	if err != nil {
		return nil, err
	}
	point := r.Point
	switch point.Kind {
	case ref.Live:
		if !c.Operate {
			return nil, fmt.Errorf("%w: capturing a device needs the right operate", ErrLive)
		}
		if err := t.captureNow(ctx, d, c.Account); err != nil {
			return nil, err
		}
		point = ref.Point{}
	case ref.Moment:
		if at, err := t.moments.Moment(ctx, point.Name); err == nil {
			point = ref.Point{Kind: ref.Time, Time: at.In(c.Location)}
		} else if !errors.Is(err, notes.ErrNone) {
			return nil, err
		}
	case ref.Standard:
		return t.rendered(ctx, r, d, c)
	}
	key := archive.Key{Device: d.ID, Datastore: r.Datastore, Part: r.Part}
	rev, err := t.archive.Resolve(ctx, key, point, t.now())
	if errors.Is(err, archive.ErrNone) {
		return nil, t.explain(ctx, d, r, err)
	}
	if err != nil {
		return nil, err
	}
	raw, err := t.archive.Text(ctx, rev)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", r, err)
	}
	out := &Configuration{Ref: r, Device: d, Revision: rev, raw: raw}
	return out, t.read(ctx, out, rev.Platform(), c)
}

// rendered is what a device's standard says it should have. It holds no secrets: those
// of the device stand masked in it for everybody.
func (t *Texts) rendered(ctx context.Context, r ref.Ref, d fleet.Device, c Caller) (*Configuration, error) {
	if t.Standard == nil {
		return nil, fmt.Errorf("%w: %s has no standard", archive.ErrNone, d.Name)
	}
	name, text, err := t.Standard(ctx, d.Name)
	if err != nil {
		return nil, err
	}
	out := &Configuration{Ref: r, Device: d, raw: text, file: d.Name + "@standard (" + name + ")"}
	return out, t.read(ctx, out, d.Platform, c)
}

// read fills in what the dialect of a platform knows of a text.
func (t *Texts) read(ctx context.Context, out *Configuration, platform string, c Caller) error {
	out.Shown, out.platform = out.raw, platform
	dl, err := t.dialectOf(ctx, &out.Device, platform)
	if err != nil {
		return err
	}
	switch {
	case dl != nil:
		out.view = dl.View(out.raw)
		out.Tree = out.view.Tree
		if !c.SeeSecrets && len(out.view.Secret) > 0 {
			out.Shown, out.Masked = dl.Masked(out.raw), true
			out.Tree = dl.Tree(out.Shown)
		}
	case !c.SeeSecrets && out.file == "":
		return fmt.Errorf("%w: the dialect %s is not loaded, and without it nobody knows where they stand", ErrMask, platform)
	default:
		out.view = dialect.View{Tree: config.Parse(out.raw, config.Guess(out.raw))}
		out.Tree = out.view.Tree
	}
	return nil
}

// dialectOf is the dialect of a platform; where the device is of it, with what
// does not count of that device besides. It is nil if it is not loaded.
func (t *Texts) dialectOf(ctx context.Context, d *fleet.Device, platform string) (*dialect.Dialect, error) {
	if d.Platform != platform {
		return t.dialects[platform], nil
	}
	return t.fleet.Dialect(ctx, d)
}

// Only leaves of a configuration what a neutral name stands for: the sections
// or lines that its dialect maps to interface, vlan, user and so on.
func (t *Texts) Only(c *Configuration, neutral string) error {
	platform := c.Revision.Platform()
	dl := t.dialects[platform]
	if dl == nil {
		return fmt.Errorf("%w: the dialect %s is not loaded", ErrNeutral, platform)
	}
	known := slices.Sorted(maps.Keys(dl.Names))
	p := dl.Names[strings.ToLower(neutral)]
	switch {
	case p == nil && len(known) == 0:
		return fmt.Errorf("%w: the dialect %s maps no names", ErrNeutral, platform)
	case p == nil:
		return fmt.Errorf("%w: the dialect %s knows no %q; it knows %s.%s", ErrNeutral, platform, neutral, strings.Join(known, ", "), nearest.Hint(neutral, known))
	}
	lines := strings.SplitAfter(c.Shown, "\n")
	var kept strings.Builder
	last := 0
	pattern.NewSet(p).Find(c.Tree, func(_ int, m pattern.Match) {
		first := int(m.Node.Line)
		if first <= last { // within one that is there already
			return
		}
		last = max(int(m.Node.LastLine), first)
		for _, line := range lines[first-1 : min(last, len(lines))] {
			kept.WriteString(line)
		}
	})
	c.Shown = kept.String()
	c.Tree = dl.Tree(c.Shown)
	return nil
}

// explain adds what there is instead of what was asked for.
func (t *Texts) explain(ctx context.Context, d fleet.Device, r ref.Ref, err error) error {
	newest, listErr := t.archive.Newest(ctx, d.ID)
	if listErr != nil || len(newest) == 0 {
		if d.Problem != "" {
			return fmt.Errorf("%s: %w; its last visit failed: %s", d.Name, err, d.ProblemWhat)
		}
		return fmt.Errorf("%s: %w; capture it with 'vergekeep capture %s'", d.Name, err, ref.Ref{Device: d.Name, Datastore: "running"})
	}
	var there []string
	for _, n := range newest {
		if n.Datastore == r.Datastore && n.Part == r.Part {
			return fmt.Errorf("%s: %w", d.Name, err)
		}
		there = append(there, ref.Ref{Device: d.Name, Datastore: n.Datastore, Part: n.Part}.String())
	}
	return fmt.Errorf("%w: %s has no %s configuration; there are %s", archive.ErrNone, d.Name,
		strings.TrimSpace(r.Datastore+" "+r.Part), strings.Join(there, ", "))
}

func (t *Texts) captureNow(ctx context.Context, d fleet.Device, account string) error {
	round, err := t.rounds.Start(ctx, "name=\""+d.Name+"\"", "demand", account)
	if err != nil {
		return err
	}
	if _, err := t.rounds.Wait(ctx, round.ID); err != nil {
		return err
	}
	visits, err := t.rounds.Visits(ctx, round.ID)
	if err != nil {
		return err
	}
	for _, v := range visits {
		if v.Outcome != rounds.Changed && v.Outcome != rounds.Unchanged {
			return fmt.Errorf("%w: %s %s", ErrLive, v.What, v.Reason.Advice())
		}
	}
	return nil
}

func (c *Configuration) hides(line int) bool { return c.Masked && c.view.Secret[line] }

func (c *Configuration) shownLine(line int) string { return c.Tree.LineAt(line) }

// Name is the ref of the very revision.
func (c *Configuration) Name() string {
	if c.file != "" {
		return c.file
	}
	r := c.Ref
	r.Device = c.Device.Name
	r.Point = ref.Point{Kind: ref.Number, Number: c.Revision.Number}
	return r.String()
}
