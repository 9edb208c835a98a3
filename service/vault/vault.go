// Package vault keeps credentials. Their secrets are encrypted at rest with
// XChaCha20-Poly1305 (RFC 8439 with the extended nonce of
// draft-irtf-cfrg-xchacha) under a key that lives in a file of its own, outside
// the database.
package vault

import (
	"context"
	"crypto/cipher"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/crypto/chacha20poly1305"

	"vergekeep/core/ref"
	"vergekeep/core/selector"
	"vergekeep/service/journal"
	"vergekeep/store"
)

// Errors that callers test for.
var (
	ErrKey       = errors.New("the vault's key does not fit")
	ErrDuplicate = errors.New("a credential of that name exists")
	ErrInvalid   = errors.New("not a credential")
)

// Credential is login material. Password and Elevation are secrets.
type Credential struct {
	ID        int64
	Name      string
	Selector  string // the devices that it is for; "" for all
	Username  string
	Password  string
	Elevation string
	Created   time.Time
	Changed   time.Time
}

// Vault seals and opens.
type Vault struct {
	db   *store.DB
	aead cipher.AEAD
}

// Open reads the key file, or makes it where there is none and the database
// holds nothing sealed yet.
func Open(ctx context.Context, db *store.DB, keyFile string) (*Vault, error) {
	key, err := os.ReadFile(keyFile)
	if errors.Is(err, os.ErrNotExist) {
		var sealed int
		if err := db.QueryRow(ctx, `SELECT count(*) FROM credentials`).Scan(&sealed); err != nil {
			return nil, err
		}
		if sealed > 0 {
			return nil, fmt.Errorf("%w: %s is missing, and %d credentials are sealed with it; put the file back", ErrKey, keyFile, sealed)
		}
		key = make([]byte, chacha20poly1305.KeySize)
		if _, err := rand.Read(key); err != nil {
			return nil, err
		}
		if err := os.MkdirAll(filepath.Dir(keyFile), 0o700); err != nil {
			return nil, err
		}
		if err := os.WriteFile(keyFile, key, 0o600); err != nil {
			return nil, fmt.Errorf("writing the vault's key: %w", err)
		}
	} else if err != nil {
		return nil, fmt.Errorf("reading the vault's key: %w", err)
	}
	aead, err := chacha20poly1305.NewX(key)
	if err != nil {
		return nil, fmt.Errorf("%w: %s must hold %d bytes", ErrKey, keyFile, chacha20poly1305.KeySize)
	}
	v := &Vault{db, aead}
	if _, err := v.List(ctx); err != nil {
		return nil, err
	}
	return v, nil
}

// Seal encrypts; what tells apart the uses of the key, so that one sealed
// thing cannot be passed off as another.
func (v *Vault) Seal(what string, plain []byte) ([]byte, error) {
	nonce := make([]byte, v.aead.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return nil, err
	}
	return v.aead.Seal(nonce, nonce, plain, []byte(what)), nil
}

// Unseal decrypts what Seal made.
func (v *Vault) Unseal(what string, sealed []byte) ([]byte, error) {
	n := v.aead.NonceSize()
	if len(sealed) < n {
		return nil, ErrKey
	}
	plain, err := v.aead.Open(nil, sealed[:n], sealed[n:], []byte(what))
	if err != nil {
		return nil, fmt.Errorf("%w: %s cannot be opened", ErrKey, what)
	}
	return plain, nil
}

type secrets struct{ Password, Elevation string }

// Add stores a credential.
func (v *Vault) Add(ctx context.Context, c Credential, by string, now time.Time) (Credential, error) {
	if err := ref.CheckName(c.Name); err != nil {
		return c, fmt.Errorf("%w: its name %w", ErrInvalid, err)
	}
	if _, err := selector.Parse(c.Selector); err != nil {
		return c, fmt.Errorf("%w: %w", ErrInvalid, err)
	}
	if c.Username == "" || len(c.Username) > 200 || len(c.Password) > 1000 || len(c.Elevation) > 1000 {
		return c, fmt.Errorf("%w: it needs a user name; names have at most 200 bytes and secrets at most 1000", ErrInvalid)
	}
	plain, err := json.Marshal(secrets{c.Password, c.Elevation})
	if err != nil {
		return c, err
	}
	sealed, err := v.Seal("credential "+c.Name, plain)
	if err != nil {
		return c, err
	}
	c.Created, c.Changed = now, now
	err = v.db.Write(ctx, func(tx *store.Tx) error {
		res, err := tx.Exec(`INSERT INTO credentials (name, selector, username, sealed, created_at, changed_at) VALUES (?, ?, ?, ?, ?, ?)`,
			c.Name, c.Selector, c.Username, sealed, store.Stamp(now), store.Stamp(now))
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

func orAll(selector string) string {
	if selector == "" {
		return "all devices"
	}
	return selector
}

// List is all credentials, secrets included, in order of name. Only visits
// need the secrets; nothing that leaves the service may hold them.
func (v *Vault) List(ctx context.Context) ([]Credential, error) {
	rows, err := v.db.Query(ctx, `SELECT id, name, selector, username, sealed, created_at, changed_at FROM credentials ORDER BY name`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Credential
	for rows.Next() {
		var c Credential
		var sealed []byte
		var created, changed int64
		if err := rows.Scan(&c.ID, &c.Name, &c.Selector, &c.Username, &sealed, &created, &changed); err != nil {
			return nil, err
		}
		plain, err := v.Unseal("credential "+c.Name, sealed)
		if err != nil {
			return nil, err
		}
		var s secrets
		if err := json.Unmarshal(plain, &s); err != nil {
			return nil, err
		}
		c.Password, c.Elevation, c.Created, c.Changed = s.Password, s.Elevation, store.Time(created), store.Time(changed)
		list = append(list, c)
	}
	return list, rows.Err()
}
