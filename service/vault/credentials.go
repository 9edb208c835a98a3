package vault

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"vergekeep/core/nearest"
	"vergekeep/core/ref"
	"vergekeep/core/selector"
	"vergekeep/service/journal"
	"vergekeep/store"
	"vergekeep/wire/ssh"
)

// Secrets are what a credential hides. Each may be the secret itself, or say
// where to read it at the moment of use: "env:NAME", "file:PATH" or
// "command:LINE".
type Secrets struct {
	Password   string `json:",omitempty"`
	Elevation  string `json:",omitempty"` // of the elevated mode
	Key        string `json:",omitempty"` // a private key
	Passphrase string `json:",omitempty"` // of the key
	Token      string `json:",omitempty"` // for HTTPS

	// For SNMP: a community, or the pass phrases of a user.
	Community      string `json:",omitempty"`
	Authentication string `json:",omitempty"`
	Privacy        string `json:",omitempty"`
}

// each calls f for every field.
func (s *Secrets) each(f func(name string, value *string)) {
	f("password", &s.Password)
	f("elevation", &s.Elevation)
	f("key", &s.Key)
	f("passphrase", &s.Passphrase)
	f("token", &s.Token)
	f("community", &s.Community)
	f("authentication", &s.Authentication)
	f("privacy", &s.Privacy)
}

// OfSNMP is whether they are for asking by SNMP, and not for logging in.
func (s Secrets) OfSNMP() bool { return s.Community != "" || s.Authentication != "" }

// Credential is login material.
type Credential struct {
	ID        int64
	Name      string
	Selector  string // the devices that it is for; "" for all
	Rank      int    // the lower is tried first
	Username  string
	PerMinute int // most logins a minute; 0 for no limit
	// CommandsPerMinute is most commands a minute; 0 for no limit.
	CommandsPerMinute int
	Secrets

	Refusals   int       // one after the other
	RestsUntil time.Time // not tried before
	Proven     time.Time // when it was last accepted; zero if never
	Created    time.Time
	Changed    time.Time
}

func (v *Vault) check(c *Credential) error {
	if err := ref.CheckName(c.Name); err != nil {
		return fmt.Errorf("%w: its name %w", ErrInvalid, err)
	}
	if err := selector.CheckLasting(c.Selector); err != nil {
		return fmt.Errorf("%w: %w", ErrInvalid, err)
	}
	if len(c.Username) > 200 || c.Username == "" && c.Token == "" && c.Community == "" {
		return fmt.Errorf("%w: it needs a user name of at most 200 bytes, a token or a community", ErrInvalid)
	}
	login := c.Password != "" || c.Key != "" || c.Token != ""
	if !login && !c.OfSNMP() {
		return fmt.Errorf("%w: it needs a password, a key, a token or a community", ErrInvalid)
	}
	if login && c.OfSNMP() || c.Community != "" && c.Authentication != "" {
		return fmt.Errorf("%w: one credential is for one way in: a login, an SNMP community or an SNMP user", ErrInvalid)
	}
	for name, phrase := range map[string]string{"authentication": c.Authentication, "privacy": c.Privacy} {
		if phrase != "" && !isSource(phrase) && len(phrase) < 8 {
			return fmt.Errorf("%w: its %s pass phrase needs at least 8 characters (RFC 3414, section 11.2)", ErrInvalid, name)
		}
	}
	if c.Privacy != "" && c.Authentication == "" {
		return fmt.Errorf("%w: SNMP has no privacy without authentication", ErrInvalid)
	}
	if c.Rank == 0 {
		c.Rank = 100
	}
	if c.Rank < 1 || c.Rank > 1000 || min(c.PerMinute, c.CommandsPerMinute) < 0 || max(c.PerMinute, c.CommandsPerMinute) > 100_000 {
		return fmt.Errorf("%w: the rank is 1 to 1000, and logins and commands a minute 0 to 100000", ErrInvalid)
	}
	var bad error
	c.each(func(name string, value *string) {
		limit := 1000
		if name == "key" {
			limit = 16 << 10
		}
		if len(*value) > limit {
			bad = fmt.Errorf("%w: its %s has more than %d bytes", ErrInvalid, name, limit)
		}
	})
	if bad == nil && strings.Contains(c.Sources(), "command") && !v.allowed {
		bad = fmt.Errorf("%w: the service runs no commands unless it is started with --allow-commands", ErrInvalid)
	}
	if bad == nil && c.Key != "" && !isSource(c.Key) && !isSource(c.Passphrase) {
		if _, err := ssh.ParseKey(c.Key, c.Passphrase); err != nil {
			return fmt.Errorf("%w: its key: %w", ErrInvalid, err)
		}
	}
	return bad
}

func (s Sealer) credential(c Credential) ([]byte, error) {
	plain, err := json.Marshal(c.Secrets)
	if err != nil {
		return nil, err
	}
	return s.Seal("credential "+c.Name, plain), nil
}

// Add stores a credential.
func (v *Vault) Add(ctx context.Context, c Credential, by string, now time.Time) (Credential, error) {
	if err := v.check(&c); err != nil {
		return c, err
	}
	sealer, release := v.Hold()
	defer release()
	sealed, err := sealer.credential(c)
	if err != nil {
		return c, err
	}
	c.Created, c.Changed = now, now
	err = v.db.Write(ctx, func(tx *store.Tx) error {
		res, err := tx.Exec(`INSERT INTO credentials (name, selector, rank, username, sealed, per_minute, commands_per_minute, created_at, changed_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			c.Name, c.Selector, c.Rank, c.Username, sealed, c.PerMinute, c.CommandsPerMinute, store.Stamp(now), store.Stamp(now))
		if store.IsDuplicate(err) {
			return fmt.Errorf("%w: %s", ErrDuplicate, c.Name)
		}
		if err != nil {
			return err
		}
		if c.ID, err = res.LastInsertId(); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: now, Account: by, Action: "credential add", Object: c.Name, Detail: "for " + orAll(c.Selector)})
	})
	return c, err
}

// Change is an edit of a credential; nil fields stay as they are.
type Change struct {
	Selector, Username                          *string
	Password, Elevation, Key, Passphrase, Token *string
	Community, Authentication, Privacy          *string
	Rank, PerMinute, CommandsPerMinute          *int
}

// Change edits a credential. New secrets make it unproven, and end its rest.
func (v *Vault) Change(ctx context.Context, name string, ch Change, by string, now time.Time) (Credential, error) {
	c, err := v.Get(ctx, name)
	if err != nil {
		return c, err
	}
	var said []string
	text := func(what string, to *string, from *string, secret bool) {
		if from == nil {
			return
		}
		*to = *from
		if secret {
			what = "new " + what
			c.Refusals, c.RestsUntil, c.Proven = 0, time.Time{}, time.Time{}
		}
		said = append(said, what)
	}
	text("selector", &c.Selector, ch.Selector, false)
	text("user name", &c.Username, ch.Username, true)
	text("password", &c.Password, ch.Password, true)
	text("elevation secret", &c.Elevation, ch.Elevation, true)
	text("key", &c.Key, ch.Key, true)
	text("passphrase", &c.Passphrase, ch.Passphrase, true)
	text("token", &c.Token, ch.Token, true)
	text("community", &c.Community, ch.Community, true)
	text("authentication pass phrase", &c.Authentication, ch.Authentication, true)
	text("privacy pass phrase", &c.Privacy, ch.Privacy, true)
	if ch.Rank != nil {
		c.Rank = *ch.Rank
		said = append(said, fmt.Sprintf("rank %d", c.Rank))
	}
	if ch.PerMinute != nil {
		c.PerMinute = *ch.PerMinute
		said = append(said, fmt.Sprintf("%d logins a minute", c.PerMinute))
	}
	if ch.CommandsPerMinute != nil {
		c.CommandsPerMinute = *ch.CommandsPerMinute
		said = append(said, fmt.Sprintf("%d commands a minute", c.CommandsPerMinute))
	}
	if err := v.check(&c); err != nil {
		return c, err
	}
	sealer, release := v.Hold()
	defer release()
	sealed, err := sealer.credential(c)
	if err != nil {
		return c, err
	}
	c.Changed = now
	err = v.db.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`UPDATE credentials SET selector = ?, rank = ?, username = ?, sealed = ?, per_minute = ?, commands_per_minute = ?, refusals = ?, rests_until = ?, proven_at = ?, changed_at = ? WHERE id = ?`,
			c.Selector, c.Rank, c.Username, sealed, c.PerMinute, c.CommandsPerMinute, c.Refusals, store.Stamp(c.RestsUntil), store.Stamp(c.Proven), store.Stamp(now), c.ID); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: now, Account: by, Action: "credential change", Object: c.Name, Detail: strings.Join(said, ", ")})
	})
	v.sources.forget()
	v.guard.forget(c.ID)
	return c, err
}

// Wake ends the rest of a credential.
func (v *Vault) Wake(ctx context.Context, name, by string, now time.Time) (Credential, error) {
	c, err := v.Get(ctx, name)
	if err != nil {
		return c, err
	}
	c.Refusals, c.RestsUntil = 0, time.Time{}
	err = v.db.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`UPDATE credentials SET refusals = 0, rests_until = 0 WHERE id = ?`, c.ID); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: now, Account: by, Action: "credential wake", Object: c.Name})
	})
	v.guard.forget(c.ID)
	return c, err
}

// Delete takes a credential away.
func (v *Vault) Delete(ctx context.Context, name, by string, now time.Time) error {
	c, err := v.Get(ctx, name)
	if err != nil {
		return err
	}
	return v.db.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`DELETE FROM credentials WHERE id = ?`, c.ID); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: now, Account: by, Action: "credential delete", Object: c.Name})
	})
}

func orAll(selector string) string {
	if selector == "" {
		return "all devices"
	}
	return selector
}

// Get is the credential of that name, secrets included.
func (v *Vault) Get(ctx context.Context, name string) (Credential, error) {
	list, err := v.List(ctx)
	if err != nil {
		return Credential{}, err
	}
	var names []string
	for _, c := range list {
		if strings.EqualFold(c.Name, name) {
			return c, nil
		}
		names = append(names, c.Name)
	}
	return Credential{}, fmt.Errorf("%w: %q.%s", ErrUnknown, name, nearest.Hint(name, names))
}

// List is all credentials, secrets included, in the order of trial. Only visits
// need the secrets; nothing that leaves the service may hold them.
func (v *Vault) List(ctx context.Context) ([]Credential, error) {
	rows, err := v.db.Query(ctx, `SELECT id, name, selector, rank, username, sealed, per_minute, commands_per_minute, refusals, rests_until, proven_at, created_at, changed_at FROM credentials ORDER BY rank, name`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Credential
	for rows.Next() {
		var c Credential
		var sealed []byte
		var rests, proven, created, changed int64
		if err := rows.Scan(&c.ID, &c.Name, &c.Selector, &c.Rank, &c.Username, &sealed, &c.PerMinute, &c.CommandsPerMinute, &c.Refusals, &rests, &proven, &created, &changed); err != nil {
			return nil, err
		}
		plain, err := v.Unseal("credential "+c.Name, sealed)
		if err != nil {
			return nil, err
		}
		if err := json.Unmarshal(plain, &c.Secrets); err != nil {
			return nil, err
		}
		c.RestsUntil, c.Proven, c.Created, c.Changed = store.Time(rests), store.Time(proven), store.Time(created), store.Time(changed)
		list = append(list, c)
	}
	return list, rows.Err()
}
