// Package accounts keeps who may do what: named accounts with four rights,
// sign-ins of the console, and tokens for the command line.
package accounts

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"database/sql"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/argon2"

	"vergekeep/core/ref"
	"vergekeep/service/journal"
	"vergekeep/store"
)

// Right is something that an account may do.
type Right string

// The rights. None includes another.
const (
	See        Right = "see"         // look at everything but secrets
	Operate    Right = "operate"     // start rounds, edit devices
	SeeSecrets Right = "see-secrets" // see secrets in configurations
	Administer Right = "administer"  // accounts, credentials, schedule
)

// Rights lists them all.
var Rights = []Right{See, Operate, SeeSecrets, Administer}

// Errors that callers test for.
var (
	ErrUnknown   = errors.New("no such account")
	ErrDuplicate = errors.New("an account of that name exists")
	ErrInvalid   = errors.New("not an account")
	ErrDenied    = errors.New("name or password is wrong, or the account is disabled")
	ErrLast      = errors.New("somebody has to be able to administer")
)

// ThrottledError says that too many wrong passwords came, and how long to wait.
type ThrottledError struct{ Wait time.Duration }

func (e *ThrottledError) Error() string {
	return fmt.Sprintf("too many wrong passwords; try again in %s", e.Wait.Round(time.Second))
}

// Account is a named account.
type Account struct {
	ID      int64
	Name    string
	Rights  []Right
	State   string // active, disabled
	OneTime bool   // its password must be changed before anything else
	Created time.Time
}

// May reports whether the account has a right.
func (a Account) May(r Right) bool { return !a.OneTime && slices.Contains(a.Rights, r) }

// Token is a key for the command line.
type Token struct {
	ID       int64
	Name     string
	Account  string
	Created  time.Time
	LastUsed time.Time
	Revoked  time.Time
}

// Accounts reads and writes accounts.
type Accounts struct {
	db       *store.DB
	now      func() time.Time
	throttle throttle
	hashing  chan struct{} // bounds the memory that hashing takes
}

// New makes accounts on db.
func New(db *store.DB, now func() time.Time) *Accounts {
	return &Accounts{db: db, now: now, throttle: throttle{now: now}, hashing: make(chan struct{}, 2)}
}

// Cost of Argon2id (RFC 9106): the second recommended choice, sized for a small
// machine.
const (
	hashTime   = 2
	hashMemory = 19 << 10 // KiB
	hashLength = 32
)

func (a *Accounts) hash(password string, salt []byte) []byte {
	a.hashing <- struct{}{}
	defer func() { <-a.hashing }()
	return argon2.IDKey([]byte(password), salt, hashTime, hashMemory, 1, hashLength)
}

func (a *Accounts) newHash(password string) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	enc := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=1$%s$%s", argon2.Version, hashMemory, hashTime, enc.EncodeToString(salt), enc.EncodeToString(a.hash(password, salt)))
}

func (a *Accounts) verify(encoded, password string) bool {
	parts := strings.Split(encoded, "$")
	if len(parts) != 6 {
		return false
	}
	enc := base64.RawStdEncoding
	salt, err1 := enc.DecodeString(parts[4])
	want, err2 := enc.DecodeString(parts[5])
	return err1 == nil && err2 == nil && subtle.ConstantTimeCompare(a.hash(password, salt), want) == 1
}

// random is n random bytes in the URL alphabet of base64.
func random(n int) string {
	b := make([]byte, n)
	rand.Read(b)
	return base64.RawURLEncoding.EncodeToString(b)
}

// MinPassword is the least length of a password.
const MinPassword = 10

func checkPassword(p string) error {
	if len(p) < MinPassword || len(p) > 500 {
		return fmt.Errorf("%w: a password has at least %d characters", ErrInvalid, MinPassword)
	}
	return nil
}

// ParseRights reads a list of rights.
func ParseRights(names []string) ([]Right, error) {
	var rights []Right
	for _, n := range names {
		if !slices.Contains(Rights, Right(n)) {
			return nil, fmt.Errorf("%w: %q is no right; there are see, operate, see-secrets and administer", ErrInvalid, n)
		}
		if !slices.Contains(rights, Right(n)) {
			rights = append(rights, Right(n))
		}
	}
	return rights, nil
}

// Bootstrap makes the administrator "admin" where there is no account at all,
// and returns the one-time password; otherwise it returns "".
func (a *Accounts) Bootstrap(ctx context.Context) (string, error) {
	list, err := a.List(ctx)
	if err != nil || len(list) > 0 {
		return "", err
	}
	password := random(12)
	_, err = a.Add(ctx, "admin", password, Rights, true, journal.System)
	return password, err
}

// Add makes an account.
func (a *Accounts) Add(ctx context.Context, name, password string, rights []Right, oneTime bool, by string) (Account, error) {
	if err := ref.CheckName(name); err != nil {
		return Account{}, fmt.Errorf("%w: the name %w", ErrInvalid, err)
	}
	if err := checkPassword(password); err != nil {
		return Account{}, err
	}
	acc := Account{Name: name, Rights: rights, State: "active", OneTime: oneTime, Created: a.now()}
	hash := a.newHash(password)
	err := a.db.Write(ctx, func(tx *store.Tx) error {
		res, err := tx.Exec(`INSERT INTO accounts (name, password_hash, rights, one_time, created_at) VALUES (?, ?, ?, ?, ?)`,
			name, hash, joinRights(rights), oneTime, store.Stamp(acc.Created))
		if store.IsDuplicate(err) {
			return fmt.Errorf("%w: %s", ErrDuplicate, name)
		}
		if err != nil {
			return err
		}
		if acc.ID, err = res.LastInsertId(); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: acc.Created, Account: by, Action: "account add", Object: name, Detail: "may " + joinRights(rights)})
	})
	return acc, err
}

func joinRights(rights []Right) string {
	names := make([]string, len(rights))
	for i, r := range rights {
		names[i] = string(r)
	}
	return strings.Join(names, " ")
}

const columns = `a.id, a.name, a.rights, a.state, a.one_time, a.created_at`

func scan(row interface{ Scan(...any) error }, more ...any) (Account, error) {
	var acc Account
	var rights string
	var created int64
	err := row.Scan(append([]any{&acc.ID, &acc.Name, &rights, &acc.State, &acc.OneTime, &created}, more...)...)
	for r := range strings.FieldsSeq(rights) {
		acc.Rights = append(acc.Rights, Right(r))
	}
	acc.Created = store.Time(created)
	return acc, err
}

// List is all accounts in order of name.
func (a *Accounts) List(ctx context.Context) ([]Account, error) {
	rows, err := a.db.Query(ctx, `SELECT `+columns+` FROM accounts a ORDER BY a.name`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Account
	for rows.Next() {
		acc, err := scan(rows)
		if err != nil {
			return nil, err
		}
		list = append(list, acc)
	}
	return list, rows.Err()
}

// SetState enables or disables an account. Disabling ends its sign-ins and
// revokes its tokens. The last active administrator stays.
func (a *Accounts) SetState(ctx context.Context, name, state, by string) (Account, error) {
	if state != "active" && state != "disabled" {
		return Account{}, fmt.Errorf("%w: the state is active or disabled, not %q", ErrInvalid, state)
	}
	var acc Account
	err := a.db.Write(ctx, func(tx *store.Tx) error {
		var err error
		acc, err = scan(tx.QueryRow(`SELECT `+columns+` FROM accounts a WHERE a.name = ?`, name))
		if errors.Is(err, sql.ErrNoRows) {
			return fmt.Errorf("%w: %s", ErrUnknown, name)
		}
		if err != nil {
			return err
		}
		if state == "disabled" {
			var others int
			if err := tx.QueryRow(`SELECT count(*) FROM accounts WHERE state = 'active' AND id <> ? AND ' ' || rights || ' ' LIKE '% administer %'`, acc.ID).Scan(&others); err != nil {
				return err
			}
			if others == 0 && slices.Contains(acc.Rights, Administer) {
				return fmt.Errorf("%w: %s is the last active account with that right", ErrLast, name)
			}
			if _, err := tx.Exec(`DELETE FROM sign_ins WHERE account_id = ?`, acc.ID); err != nil {
				return err
			}
			if _, err := tx.Exec(`UPDATE tokens SET revoked_at = ? WHERE account_id = ? AND revoked_at = 0`, store.Stamp(a.now()), acc.ID); err != nil {
				return err
			}
		}
		acc.State = state
		if _, err := tx.Exec(`UPDATE accounts SET state = ? WHERE id = ?`, state, acc.ID); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: a.now(), Account: by, Action: "account edit", Object: acc.Name, Detail: state})
	})
	return acc, err
}

// SetPassword changes the account's own password.
func (a *Accounts) SetPassword(ctx context.Context, id int64, source, old, password string) error {
	if err := checkPassword(password); err != nil {
		return err
	}
	acc, err := scan(a.db.QueryRow(ctx, `SELECT `+columns+` FROM accounts a WHERE a.id = ?`, id))
	if err != nil {
		return err
	}
	if _, err := a.check(ctx, acc.Name, old, source); err != nil {
		return err
	}
	hash := a.newHash(password)
	return a.db.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`UPDATE accounts SET password_hash = ?, one_time = 0 WHERE id = ?`, hash, id); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: a.now(), Account: acc.Name, Action: "account password", Object: acc.Name})
	})
}

// check verifies a password, slowed down after wrong ones.
func (a *Accounts) check(ctx context.Context, name, password, source string) (Account, error) {
	if wait := a.throttle.wait(name, source); wait > 0 {
		return Account{}, &ThrottledError{wait}
	}
	var hash string
	acc, err := scan(a.db.QueryRow(ctx, `SELECT `+columns+`, a.password_hash FROM accounts a WHERE a.name = ?`, name), &hash)
	if errors.Is(err, sql.ErrNoRows) {
		hash = absent // unknown names take as long as known ones
	} else if err != nil {
		return acc, err
	}
	if !a.verify(hash, password) || err != nil || acc.State != "active" {
		a.throttle.failed(name, source)
		return Account{}, ErrDenied
	}
	a.throttle.passed(name, source)
	return acc, nil
}

const absent = "$argon2id$v=19$m=19456,t=2,p=1$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"

// signInLife is how long a sign-in of the console lasts.
const signInLife = 12 * time.Hour

// SignIn checks name and password and returns the session's secret.
func (a *Accounts) SignIn(ctx context.Context, name, password, source string) (Account, string, error) {
	acc, err := a.check(ctx, name, password, source)
	if err != nil {
		return acc, "", err
	}
	secret, now := random(32), a.now()
	err = a.db.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Exec(`DELETE FROM sign_ins WHERE expires_at < ?`, store.Stamp(now)); err != nil {
			return err
		}
		if _, err := tx.Exec(`INSERT INTO sign_ins (token_hash, account_id, created_at, expires_at) VALUES (?, ?, ?, ?)`,
			digest(secret), acc.ID, store.Stamp(now), store.Stamp(now.Add(signInLife))); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: now, Account: acc.Name, Action: "sign in", Object: acc.Name, Detail: "from " + source})
	})
	return acc, secret, err
}

// SignOut ends a sign-in.
func (a *Accounts) SignOut(ctx context.Context, secret string) error {
	return a.db.Write(ctx, func(tx *store.Tx) error {
		_, err := tx.Exec(`DELETE FROM sign_ins WHERE token_hash = ?`, digest(secret))
		return err
	})
}

func digest(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// BySession is the account of a sign-in.
func (a *Accounts) BySession(ctx context.Context, secret string) (Account, error) {
	acc, err := scan(a.db.QueryRow(ctx, `SELECT `+columns+` FROM sign_ins s JOIN accounts a ON a.id = s.account_id
		WHERE s.token_hash = ? AND s.expires_at > ? AND a.state = 'active'`, digest(secret), store.Stamp(a.now())))
	if errors.Is(err, sql.ErrNoRows) {
		return acc, ErrDenied
	}
	return acc, err
}

// tokenPrefix lets people and scanners recognise a token.
const tokenPrefix = "vk_"

// NewToken makes a token for an account. The secret is shown once.
func (a *Accounts) NewToken(ctx context.Context, acc Account, name string) (Token, string, error) {
	if err := ref.CheckName(name); err != nil {
		return Token{}, "", fmt.Errorf("%w: the token's name %w", ErrInvalid, err)
	}
	secret := tokenPrefix + random(32)
	t := Token{Name: name, Account: acc.Name, Created: a.now()}
	err := a.db.Write(ctx, func(tx *store.Tx) error {
		res, err := tx.Exec(`INSERT INTO tokens (account_id, name, token_hash, created_at) VALUES (?, ?, ?, ?)`, acc.ID, name, digest(secret), store.Stamp(t.Created))
		if err != nil {
			return err
		}
		if t.ID, err = res.LastInsertId(); err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: t.Created, Account: acc.Name, Action: "token add", Object: name})
	})
	return t, secret, err
}

// ByToken is the account of a token.
func (a *Accounts) ByToken(ctx context.Context, secret string) (Account, error) {
	var id, used int64
	acc, err := scan(a.db.QueryRow(ctx, `SELECT `+columns+`, t.id, t.last_used FROM tokens t JOIN accounts a ON a.id = t.account_id
		WHERE t.token_hash = ? AND t.revoked_at = 0 AND a.state = 'active'`, digest(secret)), &id, &used)
	if errors.Is(err, sql.ErrNoRows) {
		return acc, ErrDenied
	}
	if now := a.now(); err == nil && now.Sub(store.Time(used)) > time.Minute {
		err = a.db.Write(ctx, func(tx *store.Tx) error {
			_, err := tx.Exec(`UPDATE tokens SET last_used = ? WHERE id = ?`, store.Stamp(now), id)
			return err
		})
	}
	return acc, err
}

// Tokens lists the tokens of an account, or of all for id 0.
func (a *Accounts) Tokens(ctx context.Context, account int64) ([]Token, error) {
	rows, err := a.db.Query(ctx, `SELECT t.id, t.name, a.name, t.created_at, t.last_used, t.revoked_at FROM tokens t JOIN accounts a ON a.id = t.account_id
		WHERE ? IN (0, a.id) ORDER BY t.id`, account)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Token
	for rows.Next() {
		var t Token
		var created, used, revoked int64
		if err := rows.Scan(&t.ID, &t.Name, &t.Account, &created, &used, &revoked); err != nil {
			return nil, err
		}
		t.Created, t.LastUsed, t.Revoked = store.Time(created), store.Time(used), store.Time(revoked)
		list = append(list, t)
	}
	return list, rows.Err()
}

// Revoke ends a token. An account may revoke its own; an administrator any.
func (a *Accounts) Revoke(ctx context.Context, acc Account, id int64) error {
	return a.db.Write(ctx, func(tx *store.Tx) error {
		any := int64(0)
		if !acc.May(Administer) {
			any = acc.ID
		}
		var name string
		err := tx.QueryRow(`UPDATE tokens SET revoked_at = ? WHERE id = ? AND revoked_at = 0 AND ? IN (0, account_id) RETURNING name`, store.Stamp(a.now()), id, any).Scan(&name)
		if errors.Is(err, sql.ErrNoRows) {
			return fmt.Errorf("%w: there is no live token %d of yours", ErrUnknown, id)
		}
		if err != nil {
			return err
		}
		return journal.Append(tx, journal.Entry{At: a.now(), Account: acc.Name, Action: "token revoke", Object: name})
	})
}
