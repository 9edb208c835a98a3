package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// ErrDamaged is wrapped where the structure of the database's file is damaged.
var ErrDamaged = errors.New("the database is damaged")

// IsDamage reports whether err comes of a damaged file.
func IsDamage(err error) bool {
	var e *sqlite.Error
	if errors.Is(err, ErrDamaged) {
		return true
	}
	return errors.As(err, &e) && (e.Code()&0xff == sqlite3.SQLITE_CORRUPT || e.Code()&0xff == sqlite3.SQLITE_NOTADB)
}

// damaged adds the way back to an error that comes of a damaged file.
func damaged(path string, err error) error {
	if !IsDamage(err) {
		return err
	}
	return fmt.Errorf("%w: %s: %w; put the last backup in its place with 'vergekeep restore BACKUP --data %s', after moving the damaged file away", ErrDamaged, path, err, filepath.Dir(path))
}

// Backup writes a copy of the whole database, as it is at this moment, to a new
// file, while others go on reading and writing. It reads in one transaction
// (VACUUM INTO), so steady writing neither stops it nor makes it start again.
func (db *DB) Backup(ctx context.Context, path string) error {
	if _, err := os.Stat(path); err == nil {
		return fmt.Errorf("%s exists already", path)
	}
	conn, err := sql.Open("sqlite", "file:"+db.path+"?"+url.Values{"_pragma": {"busy_timeout(10000)", "temp_store(memory)"}}.Encode())
	if err != nil {
		return err
	}
	defer conn.Close()
	conn.SetMaxOpenConns(1)
	if f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600); err != nil {
		return err
	} else if err := f.Close(); err != nil {
		return err
	}
	if _, err := conn.ExecContext(ctx, "VACUUM INTO ?", path); err != nil {
		return errors.Join(fmt.Errorf("copying the database: %w", err), os.Remove(path))
	}
	return toDisk(path)
}

func toDisk(path string) error {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

// Examine looks through a database's file for damage to its structure.
func Examine(ctx context.Context, path string) error {
	if _, err := os.Stat(path); err != nil {
		return err
	}
	conn, err := sql.Open("sqlite", "file:"+path+"?mode=ro&immutable=1")
	if err != nil {
		return err
	}
	defer conn.Close()
	return check(ctx, func(ctx context.Context, query string) (*sql.Rows, error) { return conn.QueryContext(ctx, query) })
}

// Examine is for the database that is open.
func (db *DB) Examine(ctx context.Context) error {
	return check(ctx, func(ctx context.Context, query string) (*sql.Rows, error) { return db.read.QueryContext(ctx, query) })
}

func check(ctx context.Context, ask func(context.Context, string) (*sql.Rows, error)) error {
	rows, err := ask(ctx, "PRAGMA integrity_check(20)")
	if err != nil {
		return err
	}
	defer rows.Close()
	var said []string
	for rows.Next() {
		var line string
		if err := rows.Scan(&line); err != nil {
			return err
		}
		if line != "ok" {
			said = append(said, line)
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	if len(said) > 0 {
		return fmt.Errorf("%w: %s", ErrDamaged, strings.Join(said, "; "))
	}
	return nil
}

// Restore puts a backup in the place of a database that must not exist. The
// backup is looked through first, and stays where it is.
func Restore(ctx context.Context, backup, path string) error {
	if err := Examine(ctx, backup); err != nil {
		return fmt.Errorf("the backup %s: %w", backup, err)
	}
	for _, ending := range []string{"", "-wal", "-shm"} {
		if _, err := os.Stat(path + ending); err == nil {
			return fmt.Errorf("%s exists; move it away first, so that nothing is lost by a restore", path+ending)
		}
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	in, err := os.Open(backup)
	if err != nil {
		return err
	}
	defer in.Close()
	beside := path + ".restoring"
	out, err := os.OpenFile(beside, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	if err = errors.Join(err, out.Sync(), out.Close()); err != nil {
		return errors.Join(err, os.Remove(beside))
	}
	return os.Rename(beside, path)
}
