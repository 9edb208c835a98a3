// Package store is the one handle on the SQLite database: opening, migrations,
// a single writer that commits in groups, and many readers.
//
// Everything that is written goes through [DB.Write], which runs functions one
// after the other and commits those that have come together in one transaction. Write returns after the commit has reached the
// disk (synchronous=FULL), so what it reported as done is not lost by a crash.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/pressly/goose/v3"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNewer is wrapped where the database was made by a newer version.
var ErrNewer = errors.New("the database is of a newer version")

// ErrFull is wrapped where the disk, or the space allowed, is full.
var ErrFull = errors.New("the disk is full")

// ErrClosed is returned after Close.
var ErrClosed = errors.New("the database is closed")

// DB is an open database.
type DB struct {
	path   string
	read   *sql.DB
	cached sync.Map // of read: query to *sql.Stmt
	write  *sql.DB
	conn   *sql.Conn // the one connection of write
	jobs   chan job
	done   chan struct{} // closed by Close: no more jobs
	ended  chan struct{} // closed when the writer has ended
	maxRun int
}

type job struct {
	ctx    context.Context
	f      func(*Tx) error
	answer chan error
	until  time.Time // zero, or how long it may wait for company
}

// linger is how long a write that is in no hurry waits for company.
const linger = 25 * time.Millisecond

// Tx is the transaction of a write. Its statements are prepared once for the
// life of the database.
type Tx struct {
	conn  *sql.Conn
	stmts map[string]*sql.Stmt
}

func (t *Tx) prepare(query string) (*sql.Stmt, error) {
	if s, ok := t.stmts[query]; ok {
		return s, nil
	}
	s, err := t.conn.PrepareContext(context.Background(), query)
	if err == nil {
		t.stmts[query] = s
	}
	return s, err
}

// Exec runs a statement.
func (t *Tx) Exec(query string, args ...any) (sql.Result, error) {
	s, err := t.prepare(query)
	if err != nil {
		return nil, err
	}
	return s.Exec(args...)
}

// QueryRow asks for one row.
func (t *Tx) QueryRow(query string, args ...any) *sql.Row {
	s, err := t.prepare(query)
	if err != nil {
		return t.conn.QueryRowContext(context.Background(), query, args...) // it carries the error
	}
	return s.QueryRow(args...)
}

// Query asks for rows. Close them before the next statement.
func (t *Tx) Query(query string, args ...any) (*sql.Rows, error) {
	s, err := t.prepare(query)
	if err != nil {
		return nil, err
	}
	return s.Query(args...)
}

// Open opens or creates the database at path and brings it to this version.
func Open(ctx context.Context, path string) (*DB, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, fmt.Errorf("the database's folder: %w", err)
	}
	// Other users of the machine have no business in it.
	if f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600); err != nil {
		return nil, fmt.Errorf("the database: %w", err)
	} else {
		_ = f.Close()
	}
	open := func(pragmas ...string) (*sql.DB, error) {
		q := url.Values{}
		for _, p := range append([]string{"busy_timeout(10000)", "foreign_keys(1)", "temp_store(memory)"}, pragmas...) {
			q.Add("_pragma", p)
		}
		q.Set("_txlock", "immediate")
		return sql.Open("sqlite", "file:"+path+"?"+q.Encode())
	}
	w, err := open("journal_mode(wal)", "synchronous(full)", "wal_autocheckpoint(2000)")
	if err != nil {
		return nil, err
	}
	w.SetMaxOpenConns(1)
	if err := migrate(ctx, w); err != nil {
		return nil, errors.Join(damaged(path, err), w.Close())
	}
	r, err := open("query_only(1)")
	if err != nil {
		return nil, errors.Join(err, w.Close())
	}
	r.SetMaxOpenConns(8)
	r.SetMaxIdleConns(8)
	conn, err := w.Conn(ctx)
	if err != nil {
		return nil, errors.Join(err, r.Close(), w.Close())
	}
	db := &DB{path: path, read: r, write: w, conn: conn, jobs: make(chan job, 256), done: make(chan struct{}), ended: make(chan struct{}), maxRun: 256}
	go db.writer()
	return db, nil
}

func migrate(ctx context.Context, w *sql.DB) error {
	folder, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, w, folder)
	if err != nil {
		return fmt.Errorf("reading the migrations: %w", err)
	}
	current, known, err := p.GetVersions(ctx)
	if err != nil {
		return fmt.Errorf("reading the database's version: %w", err)
	}
	if current > known {
		return fmt.Errorf("%w: it has version %d and this program knows %d; run the newer program, or restore an older copy", ErrNewer, current, known)
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("bringing the database to version %d: %w", known, err)
	}
	return nil
}

// statement is the prepared statement of a query, or nil where it cannot be
// prepared.
func (db *DB) statement(ctx context.Context, query string) *sql.Stmt {
	if s, ok := db.cached.Load(query); ok {
		return s.(*sql.Stmt)
	}
	s, err := db.read.PrepareContext(ctx, query)
	if err != nil {
		return nil
	}
	if first, there := db.cached.LoadOrStore(query, s); there {
		_ = s.Close()
		return first.(*sql.Stmt)
	}
	return s
}

// QueryRow asks a reading connection for one row.
func (db *DB) QueryRow(ctx context.Context, query string, args ...any) *sql.Row {
	if s := db.statement(ctx, query); s != nil {
		return s.QueryRowContext(ctx, args...)
	}
	return db.read.QueryRowContext(ctx, query, args...) // it carries the error
}

// Query asks a reading connection. Do not hold the rows open while waiting for
// anything else.
func (db *DB) Query(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	if s := db.statement(ctx, query); s != nil {
		return s.QueryContext(ctx, args...)
	}
	return db.read.QueryContext(ctx, query, args...)
}

// Write runs f in the next transaction and returns when it is on disk. If f
// fails, only what f did is undone. f may be run twice: it must set what it
// returns anew each time.
func (db *DB) Write(ctx context.Context, f func(*Tx) error) error {
	return db.do(job{ctx: ctx, f: f, answer: make(chan error, 1)})
}

// WriteSoon is Write for somebody who is in no hurry: it waits a moment for
// others to share the commit with.
func (db *DB) WriteSoon(ctx context.Context, f func(*Tx) error) error {
	return db.do(job{ctx: ctx, f: f, answer: make(chan error, 1), until: time.Now().Add(linger)})
}

func (db *DB) do(j job) error {
	ctx := j.ctx
	select {
	case db.jobs <- j:
	case <-ctx.Done():
		return ctx.Err()
	case <-db.done:
		return ErrClosed
	}
	// From here on it may be done: wait for the answer, whatever ctx says.
	select {
	case err := <-j.answer:
		return err
	case <-db.ended:
		select {
		case err := <-j.answer:
			return err
		default:
			return ErrClosed
		}
	}
}

func (db *DB) writer() {
	defer close(db.ended)
	tx := &Tx{db.conn, map[string]*sql.Stmt{}}
	for {
		select {
		case j := <-db.jobs:
			db.run(tx, db.gather(j))
		case <-db.done:
			for {
				select {
				case j := <-db.jobs:
					db.run(tx, db.gather(j))
				default:
					for _, s := range tx.stmts {
						_ = s.Close()
					}
					return
				}
			}
		}
	}
}

// gather takes what else is waiting, so that it shares a commit. As long as
// nobody among them is in a hurry, it waits for more.
func (db *DB) gather(first job) []job {
	jobs := []job{first}
	var patience <-chan time.Time
	if wait := time.Until(first.until); wait > 0 {
		timer := time.NewTimer(wait)
		defer timer.Stop()
		patience = timer.C
	}
	for len(jobs) < db.maxRun {
		select {
		case j := <-db.jobs:
			jobs = append(jobs, j)
			if j.until.IsZero() {
				patience = nil
			}
			continue
		default:
		}
		if patience == nil {
			break
		}
		select {
		case j := <-db.jobs:
			jobs = append(jobs, j)
			if j.until.IsZero() {
				patience = nil
			}
		case <-patience:
			patience = nil
		case <-db.done:
			patience = nil
		}
	}
	return jobs
}

// run commits the jobs together. If one of them fails, all of it is undone and
// each is run again in a transaction of its own, so that a failure costs only
// the one who failed; that is rare, and savepoints for all would cost each.
func (db *DB) run(tx *Tx, jobs []job) {
	err := transaction(tx, jobs)
	if err != nil && len(jobs) > 1 {
		for _, j := range jobs {
			j.answer <- explain(transaction(tx, []job{j}))
		}
		return
	}
	for _, j := range jobs {
		j.answer <- explain(err)
	}
}

func transaction(tx *Tx, jobs []job) (err error) {
	if _, err := tx.Exec("BEGIN IMMEDIATE"); err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_, _ = tx.Exec("ROLLBACK") // a full disk has done it already
		}
	}()
	for _, j := range jobs {
		if err := j.ctx.Err(); err != nil {
			return err
		}
		if err := protect(j.f, tx); err != nil {
			return err
		}
	}
	_, err = tx.Exec("COMMIT")
	return err
}

// protect keeps the writer alive when f panics.
func protect(f func(*Tx) error, tx *Tx) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("a write failed badly: %v", p)
		}
	}()
	return f(tx)
}

func explain(err error) error {
	var e *sqlite.Error
	if errors.As(err, &e) && e.Code()&0xff == sqlite3.SQLITE_FULL {
		return fmt.Errorf("%w: %w", ErrFull, err)
	}
	return err
}

// IsDuplicate reports whether err says that a value which must be unique is
// there already.
func IsDuplicate(err error) bool {
	var e *sqlite.Error
	return errors.As(err, &e) && (e.Code() == sqlite3.SQLITE_CONSTRAINT_UNIQUE || e.Code() == sqlite3.SQLITE_CONSTRAINT_PRIMARYKEY)
}

// LimitPages sets the most pages that the database may have, for tests of a
// full disk; 0 takes the limit away.
func (db *DB) LimitPages(ctx context.Context, n int) error {
	if n == 0 {
		n = 1 << 30
	}
	_, err := db.conn.ExecContext(ctx, fmt.Sprintf("PRAGMA max_page_count=%d", n))
	return err
}

// WALSize is the size of the write-ahead log in bytes.
func (db *DB) WALSize() int64 {
	info, err := os.Stat(db.path + "-wal")
	if err != nil {
		return 0
	}
	return info.Size()
}

// Ping asks the database for a sign of life.
func (db *DB) Ping(ctx context.Context) error {
	var one int
	return db.QueryRow(ctx, "SELECT 1").Scan(&one)
}

// Close lets what is waiting be written and closes the database.
func (db *DB) Close() error {
	close(db.done)
	<-db.ended
	db.cached.Range(func(_, s any) bool {
		_ = s.(*sql.Stmt).Close()
		return true
	})
	return errors.Join(db.read.Close(), db.conn.Close(), db.write.Close())
}

// Time makes a time of what the database keeps: microseconds since 1970 in UTC.
func Time(us int64) time.Time {
	if us == 0 {
		return time.Time{}
	}
	return time.UnixMicro(us).UTC()
}

// Stamp is what the database keeps of a time; the zero time is 0.
func Stamp(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMicro()
}
