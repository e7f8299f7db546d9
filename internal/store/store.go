// Package store keeps what a site must not forget in one SQLite file (embedded,
// pure Go). A file that is damaged, of something else, or of a newer version is
// told as such and never written to.
package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"
)

// applicationID marks the file as ours (SQLite file format, 1.3.11): "Irnb".
const applicationID = 0x49726e62

// version is the version of the schema.
const version = 3

const schema = `
CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT, WITHOUT ROWID;
CREATE TABLE things (kind TEXT, name TEXT, spec TEXT NOT NULL, given TEXT NOT NULL, made TEXT NOT NULL, booted TEXT NOT NULL, PRIMARY KEY (kind, name)) STRICT, WITHOUT ROWID;
CREATE TABLE tables (owner INTEGER, key TEXT, body TEXT NOT NULL, PRIMARY KEY (owner, key)) STRICT, WITHOUT ROWID;
CREATE TABLE openings (id INTEGER PRIMARY KEY, body TEXT NOT NULL) STRICT;
CREATE TABLE files (name TEXT PRIMARY KEY, data BLOB NOT NULL) STRICT, WITHOUT ROWID;
CREATE TABLE journal (seq INTEGER PRIMARY KEY, at TEXT NOT NULL, person TEXT NOT NULL, action TEXT NOT NULL, text TEXT NOT NULL, data TEXT NOT NULL, prev TEXT NOT NULL, hash TEXT NOT NULL) STRICT;
` + second + third

// second is what version 2 of the schema added: what was last asked for of each
// thing, how machines are doing and what is in them, and what was done to the
// site by others.
const second = `
ALTER TABLE things ADD COLUMN asked TEXT NOT NULL DEFAULT '';
CREATE TABLE machines (name TEXT PRIMARY KEY, life TEXT NOT NULL, guest TEXT NOT NULL, log TEXT NOT NULL) STRICT, WITHOUT ROWID;
CREATE TABLE outside (seq INTEGER PRIMARY KEY, at TEXT NOT NULL, who TEXT NOT NULL, what TEXT NOT NULL, data TEXT NOT NULL) STRICT;
`

// third is what version 3 added: the breaks of the record that were found, which entry
// of the journal each opening was last recorded in, and which openings are over.
const third = `
CREATE TABLE breaks (seq INTEGER, why TEXT NOT NULL, mark TEXT NOT NULL, found TEXT NOT NULL, acknowledged TEXT NOT NULL DEFAULT '', person TEXT NOT NULL DEFAULT '', PRIMARY KEY (seq, why, mark)) STRICT, WITHOUT ROWID;
ALTER TABLE openings ADD COLUMN entry INTEGER NOT NULL DEFAULT 0;
ALTER TABLE openings ADD COLUMN over INTEGER NOT NULL DEFAULT 0;
UPDATE openings SET over = 1 WHERE json_extract(body, '$.ended') IS NOT NULL;
CREATE INDEX openings_there ON openings (id) WHERE over = 0;
`

// upgrades bring a store of a version up to the next one.
var upgrades = map[int64]string{
	1: second + `
UPDATE things SET asked = spec;
INSERT INTO machines SELECT name, json_object('booted', booted), '', '' FROM things WHERE kind = 'machine';
`,
	2: third,
}

// Damaged says that a file cannot be used, and why. The file is left as it is.
type Damaged struct {
	Path string
	Why  string
	Mend string
}

// Error tells the file and what is wrong with it.
func (d *Damaged) Error() string { return d.Path + ": " + d.Why }

// Unwritable says that the file could not be written, and why. Nothing of the
// transaction was done.
type Unwritable struct {
	Path string
	Why  string
	Err  error
}

// Error tells the file and why.
func (u *Unwritable) Error() string { return u.Path + ": " + u.Why + "; nothing of this step was done" }

// Unwrap returns the error of the database.
func (u *Unwritable) Unwrap() error { return u.Err }

// ExitStatus is that of files that cannot be used; nothing was changed.
func (d *Damaged) ExitStatus() int { return 2 }

// ExitStatus is that of files that cannot be written; nothing was changed.
func (u *Unwritable) ExitStatus() int { return 2 }

// ErrAbsent says that there is no file yet.
var ErrAbsent = errors.New("there is no such store yet")

// errOld says that the file is of an older version and cannot be brought up to date as it was opened.
var errOld = errors.New("the store is of an older version")

// DB is an open store. It is safe for concurrent use; one transaction runs at a time.
type DB struct {
	db   *sql.DB
	path string
}

// Open opens the file at path, for reading alone where readOnly is set. Without
// it a missing file is made; with it ErrAbsent is returned.
func Open(ctx context.Context, path string, readOnly bool) (*DB, error) {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist) && readOnly:
		return nil, ErrAbsent
	case errors.Is(err, fs.ErrNotExist): // SQLite would let others read it
		f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
		if err != nil {
			return nil, &Unwritable{path, "it cannot be made", err}
		}
		if err := f.Close(); err != nil {
			return nil, err
		}
	case err == nil && !info.Mode().IsRegular():
		return nil, &Damaged{path, "is no ordinary file", "move it away"}
	case err != nil:
		return nil, err
	}
	s, err := open(ctx, path, options(path, readOnly))
	if errors.Is(err, errOld) { // bring it up to date first
		if s, err = open(ctx, path, options(path, false)); err != nil {
			return nil, err
		}
		if err := s.Close(); err != nil {
			return nil, err
		}
		s, err = open(ctx, path, options(path, true))
	}
	if err == nil || !readOnly || !isUnwritable(err) {
		return s, err
	}
	// A folder that cannot be written to: read the file as nobody can be writing to it.
	return open(ctx, path, options(path, true)+"&immutable=1")
}

func options(path string, readOnly bool) string {
	quoted := strings.NewReplacer("%", "%25", "?", "%3f", "#", "%23").Replace(path)
	dsn := "file:" + quoted + "?_txlock=immediate&_pragma=busy_timeout(10000)&_pragma=synchronous(FULL)"
	if readOnly {
		return dsn + "&mode=ro"
	}
	return dsn + "&_pragma=journal_mode(WAL)"
}

func open(ctx context.Context, path, dsn string) (*DB, error) {
	db, err := sql.Open("sqlite", dsn)
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	s := &DB{db: db, path: path}
	if err := s.check(ctx, !strings.Contains(dsn, "mode=ro")); err != nil {
		return nil, errors.Join(s.explain(err), db.Close())
	}
	return s, nil
}

// check looks whose file it is; an empty one gets the schema, if it may be written.
func (s *DB) check(ctx context.Context, write bool) error {
	var id, have, tables int64
	row := s.db.QueryRowContext(ctx, `SELECT a.application_id, u.user_version, (SELECT count(*) FROM sqlite_master) FROM pragma_application_id a, pragma_user_version u`)
	if err := row.Scan(&id, &have, &tables); err != nil {
		return err
	}
	switch {
	case id == 0 && have == 0 && tables == 0:
		if !write {
			return ErrAbsent
		}
		return s.Do(ctx, func(tx *sql.Tx) error {
			_, err := tx.ExecContext(ctx, schema+fmt.Sprintf("PRAGMA application_id = %d; PRAGMA user_version = %d;", applicationID, version))
			return err
		})
	case id != applicationID:
		return &Damaged{s.path, "is a database of something else", "move it away"}
	case have > version:
		return &Damaged{s.path, fmt.Sprintf("was written by a newer ironbark (version %d of the store; this one knows %d)", have, version), "use the newer ironbark"}
	case have >= 1 && have < version && tables > 0 && write:
		return s.Do(ctx, func(tx *sql.Tx) error {
			for ; have < version; have++ {
				if _, err := tx.ExecContext(ctx, upgrades[have]); err != nil {
					return err
				}
			}
			_, err := tx.ExecContext(ctx, fmt.Sprintf("PRAGMA user_version = %d", version))
			return err
		})
	case have >= 1 && have < version && tables > 0:
		return errOld
	case have < version || tables == 0:
		return &Damaged{s.path, "is incomplete", "restore it from a copy"}
	}
	return nil
}

// Whole reads every page of the file, but for those of the journal, and tells whether
// it is sound: the journal only grows, and its hashes tell of damage in it. Cost:
// linear in the rest.
func (s *DB) Whole(ctx context.Context) error {
	for _, table := range []string{"meta", "things", "tables", "openings", "files", "machines", "outside", "breaks"} {
		var text string
		if err := s.db.QueryRowContext(ctx, `PRAGMA quick_check(`+table+`)`).Scan(&text); err != nil {
			return s.explain(err)
		}
		if text != "ok" {
			return &Damaged{s.path, "is damaged: " + text, "restore it from a copy; nothing was written to it"}
		}
	}
	return nil
}

// Do runs f in one transaction: all of what it writes, or nothing of it.
func (s *DB) Do(ctx context.Context, f func(tx *sql.Tx) error) error {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return s.explain(err)
	}
	if err := f(tx); err != nil {
		return errors.Join(s.explain(err), ignoreDone(tx.Rollback()))
	}
	return s.explain(tx.Commit())
}

func ignoreDone(err error) error {
	if errors.Is(err, sql.ErrTxDone) || code(err) == lib.SQLITE_ERROR { // SQLite has rolled back by itself
		return nil
	}
	return err
}

// Close closes the store.
func (s *DB) Close() error { return s.db.Close() }

func code(err error) int {
	if e, ok := errors.AsType[*sqlite.Error](err); ok {
		return e.Code() & 0xff
	}
	return 0
}

func isUnwritable(err error) bool {
	c := code(err)
	return c == lib.SQLITE_CANTOPEN || c == lib.SQLITE_READONLY || errors.Is(err, fs.ErrPermission)
}

// Read runs f in a transaction that only reads. What f makes nothing of is told as
// a *[Damaged]: nobody but this program writes to the file.
func (s *DB) Read(ctx context.Context, f func(tx *sql.Tx) error) error {
	err := s.Do(ctx, f)
	damaged, told := errors.AsType[*Damaged](err)
	switch {
	case told:
		return damaged
	case err == nil || code(err) != 0 || ctx.Err() != nil:
		return err
	}
	return &Damaged{s.path, "is damaged: " + err.Error(), "restore it from a copy; nothing was written to it"}
}

// explain turns the codes of SQLite (https://sqlite.org/rescode.html) into what a person can act on.
func (s *DB) explain(err error) error {
	switch code(err) {
	case lib.SQLITE_CORRUPT, lib.SQLITE_NOTADB, lib.SQLITE_TOOBIG, lib.SQLITE_MISMATCH:
		return &Damaged{s.path, "is damaged", "restore it from a copy; nothing was written to it"}
	case lib.SQLITE_FULL, lib.SQLITE_IOERR:
		return &Unwritable{s.path, "the disk is full or does not answer", err}
	case lib.SQLITE_READONLY, lib.SQLITE_CANTOPEN:
		return &Unwritable{s.path, "it cannot be written to", err}
	case lib.SQLITE_BUSY:
		return fmt.Errorf("%s: another ironbark has kept it busy for 10 seconds: %w", s.path, err)
	}
	return err
}
