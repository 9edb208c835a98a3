package fleet

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"vergekeep/core/glob"
	"vergekeep/core/nearest"
	"vergekeep/core/ref"
	"vergekeep/core/selector"
	"vergekeep/service/journal"
	"vergekeep/store"
)

// ErrNone is what an error is, besides what it wraps, where a group or a jump
// host that is to be changed is not there.
var ErrNone = errors.New("there is none of that name")

type unknown struct{ error }

func (u unknown) Is(target error) bool { return target == ErrNone }
func (u unknown) Unwrap() error        { return u.error }

// ErrGroup is wrapped where a group is wrong or unknown.
var ErrGroup = errors.New("not a group")

// Group is a selector with a name. It may name other groups.
type Group struct {
	Name        string
	Selector    string
	Description string
	Devices     int // how many it has now
}

// Groups is all groups, in order of name, with how many devices each has.
func (f *Fleet) Groups(ctx context.Context) ([]Group, error) {
	list, err := f.groups(ctx)
	if err != nil || len(list) == 0 {
		return list, err
	}
	devices, err := f.List(ctx, selector.Selector{})
	for i := range devices {
		for _, name := range devices[i].Groups() {
			at, _ := slices.BinarySearchFunc(list, name, func(g Group, n string) int { return strings.Compare(strings.ToLower(g.Name), strings.ToLower(n)) })
			list[at].Devices++
		}
	}
	return list, err
}

func (f *Fleet) groups(ctx context.Context) ([]Group, error) {
	rows, err := f.db.Query(ctx, `SELECT name, selector, description FROM groups ORDER BY lower(name)`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Group
	for rows.Next() {
		var g Group
		if err := rows.Scan(&g.Name, &g.Selector, &g.Description); err != nil {
			return nil, err
		}
		list = append(list, g)
	}
	return list, rows.Err()
}

// SetGroup makes or changes a group.
func (f *Fleet) SetGroup(ctx context.Context, g Group, by string) error {
	if err := ref.CheckName(g.Name); err != nil {
		return fmt.Errorf("%w: the name %w", ErrGroup, err)
	}
	if err := selector.CheckLasting(g.Selector); err != nil {
		return err
	}
	sel, err := selector.Parse(g.Selector)
	if err != nil {
		return err
	}
	if sel.Empty() {
		return fmt.Errorf("%w: its selector is empty; a group of all devices needs no name", ErrGroup)
	}
	all, err := f.groups(ctx)
	if err != nil {
		return err
	}
	all = append(slices.DeleteFunc(all, func(o Group) bool { return strings.EqualFold(o.Name, g.Name) }), g)
	if ring := findRing(all, g.Name); ring != nil {
		return fmt.Errorf("%w: it would hold itself: %s", ErrGroup, strings.Join(ring, " > "))
	}
	if err := checkNames(all, sel); err != nil {
		return err
	}
	return f.db.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`INSERT INTO groups (name, selector, description) VALUES (?, ?, ?)
			ON CONFLICT (name) DO UPDATE SET selector = excluded.selector, description = excluded.description`, g.Name, g.Selector, g.Description); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: f.now(), Account: by, Action: "group set", Object: g.Name, Detail: g.Selector})
	})
}

// DeleteGroup takes a group away; its devices stay. One that others name stays.
func (f *Fleet) DeleteGroup(ctx context.Context, name, by string) error {
	all, err := f.groups(ctx)
	if err != nil {
		return err
	}
	found := false
	for _, g := range all {
		if strings.EqualFold(g.Name, name) {
			found = true
			continue
		}
		if sel, err := selector.Parse(g.Selector); err == nil && slices.ContainsFunc(sel.Values("group"), func(v string) bool { return strings.EqualFold(v, name) }) {
			return fmt.Errorf("%w: the group %s is made of it", ErrGroup, g.Name)
		}
	}
	if !found {
		return unknown{fmt.Errorf("%w: there is no group %q.%s", ErrGroup, name, nearest.Hint(name, groupNames(all)))}
	}
	return f.db.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`DELETE FROM groups WHERE name = ?`, name); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: f.now(), Account: by, Action: "group delete", Object: name})
	})
}

func groupNames(all []Group) []string {
	names := make([]string, len(all))
	for i, g := range all {
		names[i] = g.Name
	}
	return names
}

// checkGroups makes sure that a selector names no group that there is not: a
// misspelt name would otherwise pick nothing without a word.
func (f *Fleet) checkGroups(ctx context.Context, sel selector.Selector) error {
	if len(sel.Values("group")) == 0 {
		return nil
	}
	all, err := f.groups(ctx)
	if err != nil {
		return err
	}
	return checkNames(all, sel)
}

func checkNames(all []Group, sel selector.Selector) error {
	names := groupNames(all)
	for _, v := range sel.Values("group") {
		if !slices.ContainsFunc(names, func(n string) bool { return glob.Match(strings.ToLower(v), strings.ToLower(n)) }) {
			return fmt.Errorf("%w: there is no group %q.%s", ErrGroup, v, nearest.Hint(v, names))
		}
	}
	return nil
}

// references says which groups each group names, all in lower case.
func references(all []Group) map[string][]string {
	names := map[string][]string{}
	for _, g := range all {
		sel, err := selector.Parse(g.Selector)
		if err != nil {
			continue
		}
		for _, v := range sel.Values("group") {
			for _, o := range all {
				if glob.Match(strings.ToLower(v), strings.ToLower(o.Name)) {
					names[strings.ToLower(g.Name)] = append(names[strings.ToLower(g.Name)], strings.ToLower(o.Name))
				}
			}
		}
	}
	return names
}

// findRing is a way from a group back to itself, or nil.
func findRing(all []Group, start string) []string {
	names := references(all)
	seen := map[string]bool{}
	var walk func(at string, way []string) []string
	walk = func(at string, way []string) []string {
		for _, next := range names[at] {
			if next == strings.ToLower(start) {
				return append(way, next)
			}
			if !seen[next] {
				seen[next] = true
				if ring := walk(next, append(slices.Clone(way), next)); ring != nil {
					return ring
				}
			}
		}
		return nil
	}
	return walk(strings.ToLower(start), []string{strings.ToLower(start)})
}

// membership answers which groups a device belongs to. It is nil without groups.
func (f *Fleet) membership(ctx context.Context) (func(*Device) []string, error) {
	all, err := f.groups(ctx)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	parsed := make([]selector.Selector, len(all))
	for i, g := range all {
		if parsed[i], err = selector.Parse(g.Selector); err != nil {
			return nil, fmt.Errorf("the group %s: %w", g.Name, err)
		}
	}
	order := inOrder(all)
	return func(d *Device) []string {
		// Those that others name come first, and are known by then.
		names := []string{}
		known := *d
		known.groups = func(*Device) []string { return names }
		for _, i := range order {
			if parsed[i].Match(&known) {
				names = append(names, all[i].Name)
			}
		}
		slices.SortFunc(names, func(a, b string) int { return strings.Compare(strings.ToLower(a), strings.ToLower(b)) })
		return names
	}, nil
}

// inOrder puts groups behind those that they name.
func inOrder(all []Group) []int {
	needs := references(all)
	at := map[string]int{}
	for i, g := range all {
		at[strings.ToLower(g.Name)] = i
	}
	var order []int
	done := make([]bool, len(all))
	var visit func(i int)
	visit = func(i int) {
		if done[i] {
			return
		}
		done[i] = true
		for _, name := range needs[strings.ToLower(all[i].Name)] {
			visit(at[name])
		}
		order = append(order, i)
	}
	for i := range all {
		visit(i)
	}
	return order
}
