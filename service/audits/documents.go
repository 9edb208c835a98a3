package audits

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"vergekeep/archive"
	"vergekeep/core/audit"
	"vergekeep/core/dialect"
	"vergekeep/core/standard"
	"vergekeep/service/fleet"
	"vergekeep/service/journal"
	"vergekeep/store"
)

// Kind is a kind of document.
type Kind string

// The kinds.
const (
	Policy   Kind = "policy"
	Standard Kind = "standard"
)

// Document is a policy or a standard as it is kept.
type Document struct {
	Kind     Kind
	Name     string
	Title    string
	Applies  string
	Items    int // rules or sections
	Hash     string
	Text     string
	Source   string // shipped, or the name of a source; "" for what somebody brought
	Revision string // the commit that it is of
	Account  string
	At       time.Time
}

// Shipped is the source of what is part of the product.
const Shipped = "shipped"

// document is one that counts, understood.
type document struct {
	kind     Kind
	name     string
	hash     string
	policy   *audit.Policy
	standard *standard.Standard
	keeping  bool  // all of its rules are about the keeping: no text is needed
	across   bool  // some rule of it looks across devices
	base     *base // it is a baseline
	ids      []string
}

// undecided is all items of a document where nothing can be said of a configuration.
func (d *document) undecided(why string) []result {
	var list []result
	if d.policy != nil {
		for _, r := range d.policy.Rules {
			x := result{item: r.ID, severity: r.Severity, title: r.Title, outcome: audit.Undecidable, why: why}
			if r.AboutKeeping() {
				x.outcome = audit.NotApplicable
			}
			list = append(list, x)
		}
		return list
	}
	for _, sec := range d.standard.Sections {
		list = append(list, sectionResult(standard.SectionResult{Section: sec, Outcome: audit.Undecidable, Why: why}))
	}
	return list
}

func (d *document) key() string { return string(d.kind) + ":" + d.name }

// isFor reports whether a document is for a device, of which the revision is the
// newest (nil: nothing was captured). Nothing is asked of a retired one.
func (d *document) isFor(of *fleet.Device, r *archive.Revision) bool {
	if of.State == fleet.Retired {
		return false
	}
	if d.policy != nil {
		return d.policy.Applies.Match(of) && (r != nil || d.keeping)
	}
	return r != nil && d.standard.Applies.Match(of) && r.Platform() == d.standard.Platform
}

// library is the documents that count.
type library struct {
	list    []*document
	version int64 // of the table, so that it is only read when it changed
	fresh   bool  // something in it was not there the last time
}

// load reads the documents that count, if they are others than before.
func (s *Service) load(ctx context.Context) error {
	var version int64
	if err := s.DB.QueryRow(ctx, `SELECT coalesce(max(id), 0) * 1000000 + count(*) FROM documents WHERE until = 0`).Scan(&version); err != nil {
		return err
	}
	if s.library != nil && s.library.version == version {
		return nil
	}
	list, err := s.Documents(ctx, "")
	if err != nil {
		return err
	}
	l := &library{version: version, fresh: true}
	for _, x := range list {
		d, err := s.understand(x.Kind, x.Name, x.Text)
		if err != nil { // a dialect that it needs is not loaded any more
			s.Log.Warn("a document does not count until it is mended", "kind", x.Kind, "name", x.Name, "error", err)
			continue
		}
		l.list = append(l.list, d)
	}
	s.library = l
	clear(s.programs)
	s.across.keep(l)
	return nil
}

func (s *Service) understand(kind Kind, name, text string) (*document, error) {
	d := &document{kind: kind, name: name}
	switch kind {
	case Policy:
		p, err := audit.Parse(name+".yaml", text)
		if err == nil {
			err = p.Platforms(name+".yaml", s.Dialects)
		}
		if err != nil {
			return nil, err
		}
		d.name, d.policy, d.hash, d.keeping = p.ID, p, p.Hash, true
		for _, r := range p.Rules {
			d.keeping = d.keeping && r.AboutKeeping()
			d.across = d.across || r.AcrossDevices()
			d.ids = append(d.ids, r.ID)
		}
	case Standard:
		x, err := standard.Parse(name+".yaml", text, s.Dialects)
		if err != nil {
			return nil, err
		}
		d.name, d.standard, d.hash = x.ID, x, x.Hash
		for _, sec := range x.Sections {
			d.ids = append(d.ids, sec.ID)
		}
	default:
		return nil, fmt.Errorf("%w: a document is a policy or a standard, not %q", ErrDocument, kind)
	}
	return d, nil
}

// program is a policy made ready for the platform of a revision.
func (s *Service) program(d *document, of *fleet.Device, r *archive.Revision) *audit.Program {
	dl := s.dialectFor(of, r)
	if dl == nil {
		dl = dialect.Unknown()
	}
	key := programKey{d.key(), dl.Name}
	s.programsMu.Lock()
	defer s.programsMu.Unlock()
	p := s.programs[key]
	if p == nil {
		p = audit.Compile(d.policy.Rules, dl)
		s.programs[key] = p
	}
	return p
}

// Documents are those that count, of one kind or ("") all, in order of name.
func (s *Service) Documents(ctx context.Context, kind Kind) ([]Document, error) {
	rows, err := s.DB.Query(ctx, `SELECT kind, name, hash, text, source, revision, account, at FROM documents WHERE until = 0 AND (?1 = '' OR kind = ?1) ORDER BY kind, name`, kind)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Document
	for rows.Next() {
		var d Document
		var at int64
		if err := rows.Scan(&d.Kind, &d.Name, &d.Hash, &d.Text, &d.Source, &d.Revision, &d.Account, &at); err != nil {
			return nil, err
		}
		d.At = store.Time(at)
		s.describe(&d)
		list = append(list, d)
	}
	return list, rows.Err()
}

// describe fills in what the text says of itself.
func (s *Service) describe(d *Document) {
	x, err := s.understand(d.Kind, d.Name, d.Text)
	if err != nil {
		return
	}
	d.Items = len(x.ids)
	if x.policy != nil {
		d.Title, d.Applies = x.policy.Title, x.policy.Applies.String()
	} else {
		d.Title, d.Applies = x.standard.Title, x.standard.Applies.String()
	}
}

// Document is one that counts.
func (s *Service) Document(ctx context.Context, kind Kind, name string) (Document, error) {
	list, err := s.Documents(ctx, kind)
	for _, d := range list {
		if d.Name == name {
			return d, nil
		}
	}
	if err == nil {
		err = fmt.Errorf("%w: the %s %q", ErrUnknown, kind, name)
	}
	return Document{}, err
}

// Bootstrap keeps the policies that ship with the product, from the first start and
// after each upgrade; one that somebody has replaced or deleted stays as it is.
func (s *Service) Bootstrap(ctx context.Context) error {
	names, err := fs.Glob(audit.Builtin(), "*.yaml")
	if err != nil {
		return err
	}
	for _, name := range names {
		text, err := fs.ReadFile(audit.Builtin(), name)
		if err != nil {
			return err
		}
		d, err := s.understand(Policy, strings.TrimSuffix(name, ".yaml"), string(text))
		if err != nil {
			return fmt.Errorf("the shipped policy %s: %w", name, err)
		}
		var hash, source string
		var until int64
		err = s.DB.QueryRow(ctx, `SELECT hash, source, until FROM documents WHERE kind = ? AND name = ? ORDER BY id DESC LIMIT 1`, Policy, d.name).Scan(&hash, &source, &until)
		if err == nil && (source != Shipped || until != 0 || hash == d.hash) {
			continue
		}
		if err := s.put(ctx, Document{Kind: Policy, Name: d.name, Hash: d.hash, Text: string(text), Source: Shipped, Account: journal.System}); err != nil {
			return err
		}
	}
	return nil
}

// SetDocument makes or replaces a policy or standard. Its name is the one that it
// gives itself. A rule that looks at secrets could tell what they are: whoever brings
// one has to be allowed to see them.
func (s *Service) SetDocument(ctx context.Context, kind Kind, file, text, by string, seesSecrets bool) (Document, error) {
	d, err := s.understand(kind, strings.TrimSuffix(file, ".yaml"), text)
	if err == nil {
		err = d.allowed(seesSecrets)
	}
	if err != nil {
		return Document{}, err
	}
	out := Document{Kind: kind, Name: d.name, Hash: d.hash, Text: text, Account: by}
	if err := s.put(ctx, out); err != nil {
		return out, err
	}
	s.Wake()
	return s.Document(ctx, kind, d.name)
}

// allowed says why somebody may not bring a document.
func (d *document) allowed(seesSecrets bool) error {
	if d.policy == nil || seesSecrets {
		return nil
	}
	for _, r := range d.policy.Rules {
		if r.Secrets {
			return fmt.Errorf("%w: the rule %s looks at secrets, and what it finds tells of them", ErrSecrets, r.ID)
		}
	}
	return nil
}

func (s *Service) put(ctx context.Context, d Document) error {
	now := s.Now()
	return s.DB.Write(ctx, func(tx *store.Tx) error {
		var same int
		if err := tx.QueryRow(`SELECT count(*) FROM documents WHERE kind = ? AND name = ? AND until = 0 AND hash = ? AND source = ? AND revision = ?`, d.Kind, d.Name, d.Hash, d.Source, d.Revision).Scan(&same); err != nil || same > 0 {
			return err
		}
		if _, err := tx.Exec(`UPDATE documents SET until = ? WHERE kind = ? AND name = ? AND until = 0`, store.Stamp(now), d.Kind, d.Name); err != nil {
			return err
		}
		if _, err := tx.Exec(`INSERT INTO documents (kind, name, hash, text, source, revision, account, at) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`, d.Kind, d.Name, d.Hash, d.Text, d.Source, d.Revision, d.Account, store.Stamp(now)); err != nil {
			return err
		}
		detail := d.Hash[:12]
		if d.Revision != "" {
			detail += ", commit " + d.Revision
		}
		return journal.Append(tx, journal.Entry{At: now, Account: d.Account, Action: string(d.Kind) + " set", Object: d.Name, Detail: detail})
	})
}

// DeleteDocument takes one out of use; what it found is closed, its versions stay.
func (s *Service) DeleteDocument(ctx context.Context, kind Kind, name, by string) error {
	err := s.DB.Write(ctx, func(tx *store.Tx) error {
		res, err := tx.Exec(`UPDATE documents SET until = ? WHERE kind = ? AND name = ? AND until = 0`, store.Stamp(s.Now()), kind, name)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, fmt.Errorf("%w: the %s %q", ErrUnknown, kind, name))
		}
		return journal.Append(tx, journal.Entry{At: s.Now(), Account: by, Action: string(kind) + " delete", Object: name})
	})
	if err == nil {
		s.Wake()
	}
	return err
}

type slotKey struct {
	standard string
	device   int64
}

// slotValues are the values of slots that have one for each device.
func (s *Service) slotValues(ctx context.Context) (map[slotKey]standard.Values, error) {
	rows, err := s.DB.Query(ctx, `SELECT standard, device_id, slot, value FROM slot_values`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	all := map[slotKey]standard.Values{}
	for rows.Next() {
		var k slotKey
		var slot, value string
		if err := rows.Scan(&k.standard, &k.device, &slot, &value); err != nil {
			return nil, err
		}
		if all[k] == nil {
			all[k] = standard.Values{}
		}
		all[k][slot] = value
	}
	return all, rows.Err()
}
