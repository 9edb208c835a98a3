package fleet

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"vergekeep/core/dialect"
	"vergekeep/core/nearest"
	"vergekeep/core/pattern"
	"vergekeep/core/ref"
	"vergekeep/core/selector"
	"vergekeep/service/journal"
	"vergekeep/store"
)

// ErrVolatile is wrapped where a section pattern of what does not count makes no
// sense.
var ErrVolatile = errors.New("it cannot be set aside")

// Volatile says of lines that they do not count in the configurations of some
// devices, besides what their dialect says. A line that holds a secret counts
// nevertheless.
type Volatile struct {
	Name     string
	Platform string // "" for all
	Pattern  string // a section pattern
	Selector string // "" for all devices
	Remark   string
	Account  string
	At       time.Time
}

// volatiles is the patterns in force, understood, and the dialects with them.
type volatiles struct {
	mu    sync.Mutex
	known bool
	list  []understood
	with  map[string]*dialect.Dialect // by platform and the numbers of its patterns
}

type understood struct {
	Volatile
	sel     selector.Selector
	pattern *pattern.Pattern
}

func understand(v Volatile) (understood, error) {
	sel, err := selector.Parse(v.Selector)
	if err != nil {
		return understood{}, err
	}
	p, err := pattern.Compile(v.Pattern)
	return understood{v, sel, p}, err
}

func (u *understood) isFor(d *Device) bool {
	return (u.Platform == "" || u.Platform == d.Platform) && u.sel.Match(d)
}

// Volatiles is what does not count, in order of name.
func (f *Fleet) Volatiles(ctx context.Context) ([]Volatile, error) {
	rows, err := f.db.Query(ctx, `SELECT name, platform, pattern, selector, remark, account, at FROM volatiles ORDER BY lower(name)`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Volatile
	for rows.Next() {
		var v Volatile
		var at int64
		if err := rows.Scan(&v.Name, &v.Platform, &v.Pattern, &v.Selector, &v.Remark, &v.Account, &at); err != nil {
			return nil, err
		}
		v.At = store.Time(at)
		list = append(list, v)
	}
	return list, rows.Err()
}

// CheckVolatile says what is wrong with one that is to be set or tried.
func (f *Fleet) CheckVolatile(v Volatile) error {
	if v.Platform != "" && f.dialects[v.Platform] == nil {
		return fmt.Errorf("%w: there is no dialect %q.%s", ErrVolatile, v.Platform, nearest.Hint(v.Platform, f.dialects.Names()))
	}
	if err := selector.CheckLasting(v.Selector); err != nil {
		return err
	}
	_, err := understand(v)
	return err
}

// SetVolatile makes or changes one. What was captured before stays as it is; from
// now on a capture in which nothing else differs is unchanged.
func (f *Fleet) SetVolatile(ctx context.Context, v Volatile) error {
	if err := ref.CheckName(v.Name); err != nil {
		return fmt.Errorf("%w: the name %w", ErrVolatile, err)
	}
	if err := f.CheckVolatile(v); err != nil {
		return err
	}
	defer f.forgetVolatiles()
	return f.db.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`INSERT INTO volatiles (name, platform, pattern, selector, remark, account, at) VALUES (?, ?, ?, ?, ?, ?, ?)
			ON CONFLICT (name) DO UPDATE SET platform = excluded.platform, pattern = excluded.pattern, selector = excluded.selector, remark = excluded.remark, account = excluded.account, at = excluded.at`,
			v.Name, v.Platform, v.Pattern, v.Selector, v.Remark, v.Account, store.Stamp(f.now())); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: f.now(), Account: v.Account, Action: "volatile set", Object: v.Name, Detail: strings.TrimSpace(v.Platform + " " + v.Pattern + " for " + orAllDevices(v.Selector))})
	})
}

func orAllDevices(expression string) string {
	if expression == "" {
		return "all devices"
	}
	return expression
}

// DeleteVolatile makes its lines count again.
func (f *Fleet) DeleteVolatile(ctx context.Context, name, by string) error {
	defer f.forgetVolatiles()
	return f.db.Write(ctx, func(tx *store.Tx) error {
		res, err := tx.Exec(`DELETE FROM volatiles WHERE name = ?`, name)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, unknown{fmt.Errorf("nothing of the name %q is set aside", name)})
		}
		return journal.Append(tx, journal.Entry{At: f.now(), Account: by, Action: "volatile delete", Object: name})
	})
}

func (f *Fleet) forgetVolatiles() {
	f.volatiles.mu.Lock()
	defer f.volatiles.mu.Unlock()
	f.volatiles.known = false
}

// Dialect is the dialect of a device's platform with what does not count of that
// device besides; nil where it is not loaded.
func (f *Fleet) Dialect(ctx context.Context, d *Device) (*dialect.Dialect, error) {
	return f.DialectTrying(ctx, d, nil)
}

// DialectTrying is Dialect as if try were set too.
func (f *Fleet) DialectTrying(ctx context.Context, d *Device, try *Volatile) (*dialect.Dialect, error) {
	dl := f.dialects[d.Platform]
	if dl == nil {
		return nil, nil
	}
	k := &f.volatiles
	k.mu.Lock()
	defer k.mu.Unlock()
	if !k.known {
		if err := f.readVolatiles(ctx); err != nil {
			return nil, err
		}
	}
	key := d.Platform
	var patterns []*pattern.Pattern
	for i := range k.list {
		if k.list[i].isFor(d) {
			patterns = append(patterns, k.list[i].pattern)
			key += fmt.Sprintf(" %d", i)
		}
	}
	if try != nil {
		u, err := understand(*try)
		if err != nil || !u.isFor(d) {
			return dl.With(patterns...), err
		}
		return dl.With(append(patterns, u.pattern)...), nil
	}
	if len(patterns) == 0 {
		return dl, nil
	}
	with := k.with[key]
	if with == nil {
		with = dl.With(patterns...)
		k.with[key] = with
	}
	return with, nil
}

func (f *Fleet) readVolatiles(ctx context.Context) error {
	list, err := f.Volatiles(ctx)
	if err != nil {
		return err
	}
	k := &f.volatiles
	k.list, k.with = nil, map[string]*dialect.Dialect{}
	for _, v := range list {
		u, err := understand(v)
		if err != nil {
			return fmt.Errorf("what is set aside as %q: %w", v.Name, err)
		}
		k.list = append(k.list, u)
	}
	k.known = true
	return nil
}
