// Package texts resolves refs to configurations and compares them. It is the
// one place where it is decided who sees secrets: everything that leaves it is
// masked unless the caller may see them.
package texts

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"vergekeep/archive"
	"vergekeep/core/config"
	"vergekeep/core/dialect"
	"vergekeep/core/diff"
	"vergekeep/core/ref"
	"vergekeep/service/fleet"
	"vergekeep/service/rounds"
)

// Errors that callers test for.
var (
	ErrNotHere = errors.New("this ref cannot be resolved by the service")
	ErrMask    = errors.New("secrets cannot be masked")
	ErrLive    = errors.New("the device could not be captured now")
)

// Texts reads configurations.
type Texts struct {
	archive  *archive.Archive
	fleet    *fleet.Fleet
	rounds   *rounds.Service
	dialects dialect.Set
	now      func() time.Time
}

// New makes a Texts.
func New(a *archive.Archive, f *fleet.Fleet, r *rounds.Service, d dialect.Set, now func() time.Time) *Texts {
	return &Texts{a, f, r, d, now}
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
	case ref.Standard:
		return nil, fmt.Errorf("%w: %s has no standard", archive.ErrNone, d.Name)
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
	out := &Configuration{Ref: r, Device: d, Revision: rev, raw: raw, Shown: raw}
	name, _, _ := strings.Cut(rev.Dialect, " ")
	dl := t.dialects[name]
	switch {
	case dl != nil:
		out.view = dl.View(raw)
		out.Tree = out.view.Tree
		if !c.SeeSecrets && len(out.view.Secret) > 0 {
			out.Shown, out.Masked = dl.Masked(raw), true
			out.Tree = dl.Tree(out.Shown)
		}
	case !c.SeeSecrets:
		return nil, fmt.Errorf("%w: the dialect %s is not loaded, and without it nobody knows where they stand", ErrMask, name)
	default:
		out.view = dialect.View{Tree: config.Parse(raw, config.Syntax{})}
		out.Tree = out.view.Tree
	}
	return out, nil
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

// Comparison is two configurations and what differs.
type Comparison struct {
	Left, Right *Configuration
	Result      *diff.Result
}

// Compare compares two refs.
func (t *Texts) Compare(ctx context.Context, left, right string, c Caller) (*Comparison, error) {
	l, err := t.Get(ctx, left, c)
	if err != nil {
		return nil, err
	}
	r, err := t.Get(ctx, right, c)
	if err != nil {
		return nil, err
	}
	return &Comparison{l, r, diff.Compare(l.side(), r.side())}, nil
}

// side is the true text: masked ones would hide that a secret changed.
func (c *Configuration) side() diff.Side {
	return diff.Side{Text: c.raw, PathAt: c.view.Tree.PathAt, Forms: c.view.Forms}
}

// Row is a row of a comparison as the caller may see it.
type Row struct {
	diff.Row
	SecretChanged bool // what changed is a secret, and it is hidden
}

// Rows are the rows of the comparison with secrets masked for whoever may not
// see them.
func (c *Comparison) Rows(context int) []Row {
	rows := c.Result.Rows(context)
	out := make([]Row, len(rows))
	for i, row := range rows {
		out[i].Row = row
		hidden := false
		if row.Left > 0 && c.Left.hides(row.Left) {
			out[i].LeftText, hidden = c.Left.shownLine(row.Left), true
		}
		if row.Right > 0 && c.Right.hides(row.Right) {
			out[i].RightText, hidden = c.Right.shownLine(row.Right), true
		}
		if hidden {
			out[i].SecretChanged = row.Kind == diff.Changed && out[i].LeftText == out[i].RightText
			out[i].LeftWords, out[i].RightWords = nil, nil
		}
		// Headings can hold secrets too.
		switch {
		case row.Right > 0 && c.Right.Masked:
			out[i].Path = c.Right.Tree.PathAt(row.Right)
		case row.Right == 0 && row.Left > 0 && c.Left.Masked:
			out[i].Path = c.Left.Tree.PathAt(row.Left)
		}
	}
	return out
}

func (c *Configuration) hides(line int) bool { return c.Masked && c.view.Secret[line] }

func (c *Configuration) shownLine(line int) string { return c.Tree.LineAt(line) }

// Unified is the comparison in the unified format. Where secrets are hidden it
// is made of the masked texts, so that nothing hidden shows; a secret that
// changed then does not appear, and hidden says how many such lines there are.
func (c *Comparison) Unified(context int) (text string, hidden int) {
	result := c.Result
	if c.Left.Masked || c.Right.Masked {
		result = diff.Compare(diff.Side{Text: c.Left.Shown}, diff.Side{Text: c.Right.Shown})
		for _, row := range c.Rows(0) {
			if row.SecretChanged {
				hidden++
			}
		}
	}
	return result.Unified(c.Left.Name(), c.Right.Name(), context), hidden
}

// Name is the ref of the very revision.
func (c *Configuration) Name() string {
	r := c.Ref
	r.Device = c.Device.Name
	r.Point = ref.Point{Kind: ref.Number, Number: c.Revision.Number}
	return r.String()
}
