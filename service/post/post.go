// Package post sends mail for the service: it keeps which server takes it, and by
// which credential.
package post

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"vergekeep/service/journal"
	"vergekeep/service/vault"
	"vergekeep/store"
	"vergekeep/wire/mail"
)

// ErrNone says that no mail server is set.
var ErrNone = errors.New("no mail server is set; an administrator sets one with 'vergekeep mail set'")

// Settings is where mail is handed over.
type Settings struct {
	Server     string // host:port
	Security   mail.Security
	Sender     string // that mail is from
	Credential string // that logs in there; "" for none
	Account    string // who set it
	Changed    time.Time
}

// Service sends mail.
type Service struct {
	db    *store.DB
	vault *vault.Vault
	now   func() time.Time
}

// New makes a Service.
func New(db *store.DB, v *vault.Vault, now func() time.Time) *Service { return &Service{db, v, now} }

// Settings is what is set; its error is [ErrNone] where nothing is.
func (s *Service) Settings(ctx context.Context) (Settings, error) {
	var x Settings
	var changed int64
	err := s.db.QueryRow(ctx, `SELECT server, security, sender, credential, account, changed FROM mail`).Scan(&x.Server, &x.Security, &x.Sender, &x.Credential, &x.Account, &changed)
	if errors.Is(err, sql.ErrNoRows) {
		return x, ErrNone
	}
	x.Changed = store.Time(changed)
	return x, err
}

// Set says where mail is handed over from now on.
func (s *Service) Set(ctx context.Context, x Settings) error {
	if x.Security == "" {
		x.Security = mail.StartTLS
	}
	if err := (&mail.Server{Address: x.Server, Security: x.Security}).Check(); err != nil {
		return err
	}
	if err := mail.CheckAddress(x.Sender); err != nil {
		return fmt.Errorf("the sender: %w", err)
	}
	if x.Credential != "" {
		if _, err := s.vault.Get(ctx, x.Credential); err != nil {
			return err
		}
	}
	return s.db.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`INSERT OR REPLACE INTO mail (id, server, security, sender, credential, account, changed) VALUES (1, ?, ?, ?, ?, ?, ?)`,
			x.Server, x.Security, x.Sender, x.Credential, x.Account, store.Stamp(s.now())); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: s.now(), Account: x.Account, Action: "mail set", Object: "mail", Detail: x.Server + ", from " + x.Sender})
	})
}

// Send hands a message over and says so in the journal. Its sender and its time
// are filled in.
func (s *Service) Send(ctx context.Context, m mail.Message, by string) error {
	x, err := s.Settings(ctx)
	if err != nil {
		return err
	}
	server := mail.Server{Address: x.Server, Security: x.Security}
	if x.Credential != "" {
		cred, err := s.vault.Get(ctx, x.Credential)
		if err == nil {
			cred, err = s.vault.Resolve(ctx, cred)
		}
		if err != nil {
			return err
		}
		server.User, server.Password = cred.Username, cred.Password
	}
	m.From, m.At = x.Sender, s.now()
	if err := mail.Send(ctx, server, m); err != nil {
		return err
	}
	return s.db.Write(ctx, func(tx *store.Tx) error {
		return journal.Append(tx, journal.Entry{At: s.now(), Account: by, Action: "mail send", Object: fmt.Sprint(m.To), Detail: m.Subject})
	})
}
