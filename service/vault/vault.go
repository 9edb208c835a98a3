// Package vault keeps credentials. Their secrets are encrypted at rest with
// XChaCha20-Poly1305 (RFC 8439 with the extended nonce of
// draft-irtf-cfrg-xchacha) under a key that is outside the database: in a file
// of its own, or derived with Argon2id (RFC 9106) from a passphrase.
package vault

import (
	"context"
	"crypto/cipher"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"golang.org/x/crypto/argon2"
	"golang.org/x/crypto/chacha20poly1305"

	"vergekeep/service/journal"
	"vergekeep/store"
)

// Errors that callers test for.
var (
	ErrKey       = errors.New("the vault's key does not fit")
	ErrDuplicate = errors.New("a credential of that name exists")
	ErrInvalid   = errors.New("not a credential")
	ErrUnknown   = errors.New("no such credential")
)

// Vault seals and opens.
type Vault struct {
	db      *store.DB
	keyFile string // "" with a passphrase
	allowed bool   // commands as sources

	mu   sync.RWMutex
	aead cipher.AEAD

	sources sourceCache
	guard   guard
}

// Key is where the vault's key comes from: a passphrase, or else a file.
type Key struct {
	File       string
	Passphrase string
	Commands   bool // secrets may be the output of commands
}

// Open opens the vault. Where the database holds nothing sealed yet, a missing
// key file is made.
func Open(ctx context.Context, db *store.DB, k Key) (*Vault, error) {
	v := &Vault{db: db, keyFile: k.File, allowed: k.Commands}
	v.guard.vault = v
	if k.Passphrase != "" {
		v.keyFile = ""
	}
	var salt, proof []byte
	err := db.QueryRow(ctx, `SELECT salt, proof FROM vault WHERE id = 1`).Scan(&salt, &proof)
	fresh := errors.Is(err, sql.ErrNoRows)
	if err != nil && !fresh {
		return nil, err
	}
	if fresh {
		salt = random(16)
	}
	key, err := v.key(k, salt, fresh)
	if err != nil {
		return nil, err
	}
	if v.aead, err = chacha20poly1305.NewX(key); err != nil {
		return nil, fmt.Errorf("%w: %s must hold %d bytes", ErrKey, k.File, chacha20poly1305.KeySize)
	}
	if fresh {
		return v, v.prove(ctx, salt)
	}
	if _, err := v.Unseal("proof", proof); err == nil {
		return v, nil
	}
	// A change of the key that was cut short left the new one beside the old.
	if next, err := os.ReadFile(v.keyFile + ".new"); v.keyFile != "" && err == nil {
		if v.aead, err = chacha20poly1305.NewX(next); err == nil {
			if _, err := v.Unseal("proof", proof); err == nil {
				return v, os.Rename(v.keyFile+".new", v.keyFile)
			}
		}
	}
	if v.keyFile == "" {
		return nil, fmt.Errorf("%w: the passphrase is not the one that the credentials were sealed with", ErrKey)
	}
	return nil, fmt.Errorf("%w: %s is not the key that the credentials were sealed with", ErrKey, v.keyFile)
}

func random(n int) []byte {
	b := make([]byte, n)
	_, _ = rand.Read(b) // never fails, since Go 1.24
	return b
}

func (v *Vault) key(k Key, salt []byte, fresh bool) ([]byte, error) {
	if k.Passphrase != "" {
		return derive(k.Passphrase, salt), nil
	}
	key, err := os.ReadFile(k.File)
	switch {
	case errors.Is(err, os.ErrNotExist) && !fresh:
		return nil, fmt.Errorf("%w: %s is missing, and what is sealed needs it; put the file back", ErrKey, k.File)
	case errors.Is(err, os.ErrNotExist):
		key = random(chacha20poly1305.KeySize)
		if err := os.MkdirAll(filepath.Dir(k.File), 0o700); err != nil {
			return nil, err
		}
		if err := os.WriteFile(k.File, key, 0o600); err != nil {
			return nil, fmt.Errorf("writing the vault's key: %w", err)
		}
	case err != nil:
		return nil, fmt.Errorf("reading the vault's key: %w", err)
	}
	return key, nil
}

// derive is the first recommended option of RFC 9106, section 4, with the
// memory that a small machine has.
func derive(passphrase string, salt []byte) []byte {
	return argon2.IDKey([]byte(passphrase), salt, 3, 64<<10, 2, chacha20poly1305.KeySize)
}

func (v *Vault) prove(ctx context.Context, salt []byte) error {
	proof := seal(v.aead, "proof", []byte("this key fits"))
	return v.db.Write(ctx, func(tx *store.Tx) error {
		_, err := tx.Exec(`INSERT INTO vault (id, salt, proof) VALUES (1, ?, ?)`, salt, proof)
		return err
	})
}

// Sealer encrypts with the present key.
type Sealer struct{ aead cipher.AEAD }

// Hold keeps the key from being changed until release is called: whatever is
// sealed has to be in the database by then.
func (v *Vault) Hold() (s Sealer, release func()) {
	v.mu.RLock()
	return Sealer{v.aead}, v.mu.RUnlock
}

// Seal encrypts; what tells apart the uses of the key, so that one sealed
// thing cannot be passed off as another.
func (s Sealer) Seal(what string, plain []byte) []byte { return seal(s.aead, what, plain) }

func seal(aead cipher.AEAD, what string, plain []byte) []byte {
	nonce := random(aead.NonceSize())
	return aead.Seal(nonce, nonce, plain, []byte(what))
}

// Unseal decrypts what Seal made.
func (v *Vault) Unseal(what string, sealed []byte) ([]byte, error) {
	v.mu.RLock()
	defer v.mu.RUnlock()
	return unseal(v.aead, what, sealed)
}

func unseal(aead cipher.AEAD, what string, sealed []byte) ([]byte, error) {
	n := aead.NonceSize()
	if len(sealed) < n {
		return nil, ErrKey
	}
	plain, err := aead.Open(nil, sealed[:n], sealed[n:], []byte(what))
	if err != nil {
		return nil, fmt.Errorf("%w: %s cannot be opened", ErrKey, what)
	}
	return plain, nil
}

// ErrPassphrase is wrapped where a passphrase is too short.
var ErrPassphrase = errors.New("the passphrase needs at least 12 characters")

// ChangeKey seals everything anew, in one transaction: with a new key in the
// key file, or with the key of a new passphrase where the service was started
// with one.
func (v *Vault) ChangeKey(ctx context.Context, passphrase, by string, now time.Time) error {
	salt, key := random(16), random(chacha20poly1305.KeySize)
	switch {
	case v.keyFile == "" && len(passphrase) < 12:
		return ErrPassphrase
	case v.keyFile == "":
		key = derive(passphrase, salt)
	case passphrase != "":
		return fmt.Errorf("%w: this vault's key is in a file; leave the passphrase out", ErrInvalid)
	default:
		if err := os.WriteFile(v.keyFile+".new", key, 0o600); err != nil {
			return fmt.Errorf("writing the vault's new key: %w", err)
		}
	}
	next, err := chacha20poly1305.NewX(key)
	if err != nil {
		return err
	}
	v.mu.Lock() // nothing is sealed with the old key meanwhile
	defer v.mu.Unlock()
	err = v.db.Write(ctx, func(tx *store.Tx) error {
		if err := reseal(tx, v.aead, next); err != nil {
			return err
		}
		if _, err := tx.Exec(`UPDATE vault SET salt = ?, proof = ? WHERE id = 1`, salt, seal(next, "proof", []byte("this key fits"))); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: now, Account: by, Action: "vault key change", Object: "vault"})
	})
	if err != nil {
		return err
	}
	v.aead = next
	if v.keyFile == "" {
		return nil
	}
	return os.Rename(v.keyFile+".new", v.keyFile)
}

func reseal(tx *store.Tx, old, next cipher.AEAD) error {
	type row struct {
		a, b   any
		what   string
		sealed []byte
	}
	gather := func(query string, scan func(*sql.Rows) (row, error)) ([]row, error) {
		rows, err := tx.Query(query)
		if err != nil {
			return nil, err
		}
		defer rows.Close()
		var list []row
		for rows.Next() {
			r, err := scan(rows)
			if err != nil {
				return nil, err
			}
			plain, err := unseal(old, r.what, r.sealed)
			if err != nil {
				return nil, err
			}
			r.sealed = seal(next, r.what, plain)
			list = append(list, r)
		}
		return list, rows.Err()
	}
	credentials, err := gather(`SELECT id, name, sealed FROM credentials`, func(rows *sql.Rows) (row, error) {
		var id int64
		var r row
		err := rows.Scan(&id, &r.what, &r.sealed)
		r.a, r.what = id, "credential "+r.what
		return r, err
	})
	if err != nil {
		return err
	}
	for _, r := range credentials {
		if _, err := tx.Exec(`UPDATE credentials SET sealed = ? WHERE id = ?`, r.sealed, r.a); err != nil {
			return err
		}
	}
	sessions, err := gather(`SELECT round_id, device_id, session FROM visit_notes WHERE session IS NOT NULL`, func(rows *sql.Rows) (row, error) {
		var round, device int64
		r := row{what: "session"}
		err := rows.Scan(&round, &device, &r.sealed)
		r.a, r.b = round, device
		return r, err
	})
	if err != nil {
		return err
	}
	for _, r := range sessions {
		if _, err := tx.Exec(`UPDATE visit_notes SET session = ? WHERE round_id = ? AND device_id = ?`, r.sealed, r.a, r.b); err != nil {
			return err
		}
	}
	return nil
}
