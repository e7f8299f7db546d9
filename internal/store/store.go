// Package store keeps what must not be forgotten in one SQLite file (embedded, pure Go). A file that is damaged, of something else, or of a newer version is
// told as such and never written to.
package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"time"

	"modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"

	"ironbark/internal/fault"
)

// Format is what a store of one kind holds.
type Format struct {
	// ApplicationID marks the file as of this kind (SQLite file format, 1.3.11).
	ApplicationID int64
	Version       int64 // of the schema, from 1
	Schema        string
	// Grows names the tables that only grow and tell damage by themselves.
	Grows []string
}

// DamagedError says that a file cannot be used, and why. The file is left as it is.
type DamagedError struct {
	Path  string
	Why   string
	Try   fault.Advice
	Newer bool // it is sound, and of a version that this program does not know
}

// Advice says what to do.
func (d *DamagedError) Advice() fault.Advice { return d.Try }

// Error tells the file and what is wrong with it.
func (d *DamagedError) Error() string { return d.Path + ": " + d.Why }

// UnwritableError says that the file could not be written, and why. Nothing of the
// transaction was done.
type UnwritableError struct {
	Path string
	Why  string
	Err  error
}

// Error tells the file and why.
func (u *UnwritableError) Error() string {
	return u.Path + ": " + u.Why + "; nothing of this step was done"
}

// Unwrap returns the error of the database.
func (u *UnwritableError) Unwrap() error { return u.Err }

// Kind is that of files that cannot be used; nothing was changed.
func (d *DamagedError) Kind() fault.Kind { return fault.Invalid }

// Kind is that of files that cannot be written; nothing was changed.
func (u *UnwritableError) Kind() fault.Kind { return fault.Invalid }

// ErrAbsent says that there is no file yet.
var ErrAbsent = errors.New("there is no such store yet")

// DB is an open store. It is safe for concurrent use; one transaction runs at a time.
type DB struct {
	db     *sql.DB
	path   string
	format Format
	sound  bool // it is as this program left it, or was found sound
	write  bool
	aside  string // the folder of the copy that is read; empty: the file itself is
}

// Open opens the file at path, for reading alone where readOnly is set. Without
// it a missing file is made; with it ErrAbsent is returned.
func Open(ctx context.Context, path string, format Format, readOnly bool) (*DB, error) {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist) && readOnly:
		return nil, ErrAbsent
	case errors.Is(err, fs.ErrNotExist): // SQLite would let others read it
		f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
		if err != nil {
			return nil, &UnwritableError{path, "it cannot be made", err}
		}
		if err := f.Close(); err != nil {
			return nil, err
		}
	case err == nil && !info.Mode().IsRegular():
		return nil, &DamagedError{Path: path, Why: "is no ordinary file", Try: fault.Say("move it away")}
	case err != nil:
		return nil, err
	}
	s, err := open(ctx, path, format, options(path, readOnly))
	if err == nil || !readOnly || !isUnwritable(err) {
		return s, err
	}
	return openAside(ctx, path, format, err)
}

func options(path string, readOnly bool) string {
	dsn := "file:" + quote(path) + "?_txlock=immediate&_pragma=busy_timeout(10000)&_pragma=synchronous(FULL)"
	if readOnly {
		return dsn + "&mode=ro"
	}
	return dsn + "&_pragma=journal_mode(WAL)"
}

// quote writes a path as a URI has it (RFC 3986).
func quote(path string) string {
	return strings.NewReplacer("%", "%25", "?", "%3f", "#", "%23").Replace(path)
}

// patience is how long a store may be busy with being made by others: SQLite waits for
// others by itself, but not while it changes how the journal of a fresh file is kept.
const patience = 10 * time.Second

func open(ctx context.Context, path string, format Format, dsn string) (*DB, error) {
	for end := time.Now().Add(patience); ; {
		s, err := openOnce(ctx, path, format, dsn)
		if code(err) != lib.SQLITE_BUSY || ctx.Err() != nil || time.Now().After(end) {
			return s, err
		}
		time.Sleep(10 * time.Millisecond)
	}
}

func openOnce(ctx context.Context, path string, format Format, dsn string) (*DB, error) {
	s := &DB{path: path, format: format, write: !strings.Contains(dsn, "mode=ro"), sound: asLeft(path)}
	db, err := sql.Open("sqlite", dsn)
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	s.db = db
	if err := s.check(ctx, s.write); err != nil {
		return nil, errors.Join(s.explain(err), db.Close())
	}
	return s, nil
}

// check looks whose file it is; an empty one gets the schema, if it may be written.
func (s *DB) check(ctx context.Context, write bool) error {
	var id, have, tables int64
	version := s.format.Version
	row := s.db.QueryRowContext(ctx, `SELECT a.application_id, u.user_version, (SELECT count(*) FROM sqlite_master) FROM pragma_application_id a, pragma_user_version u`)
	if err := row.Scan(&id, &have, &tables); err != nil {
		return err
	}
	switch {
	case id == 0 && have == 0 && tables == 0:
		if !write {
			return ErrAbsent
		}
		return s.Update(ctx, func(tx *sql.Tx) error {
			row := tx.QueryRowContext(ctx, `SELECT count(*) FROM sqlite_master`)
			if err := row.Scan(&tables); err != nil || tables > 0 { // somebody else has made it meanwhile
				return err
			}
			_, err := tx.ExecContext(ctx, s.format.Schema+fmt.Sprintf("PRAGMA application_id = %d; PRAGMA user_version = %d;", s.format.ApplicationID, version))
			return err
		})
	case id != s.format.ApplicationID:
		return &DamagedError{Path: s.path, Why: "is a database of something else", Try: fault.Say("move it away")}
	case have > version:
		return &DamagedError{Path: s.path, Why: fmt.Sprintf("was written by a newer ironbark (version %d of the store; this one knows %d)", have, version), Try: fault.Say("use the newer ironbark"), Newer: true}
	case have >= 1 && have < version && tables > 0:
		return &DamagedError{Path: s.path, Why: fmt.Sprintf("was written by an older ironbark (version %d of the store; this one knows %d)", have, version), Try: fault.Say("use the older ironbark, or another folder")}
	case have < version || tables == 0:
		return &DamagedError{Path: s.path, Why: "is incomplete", Try: fault.Say("restore it from a copy")}
	}
	return nil
}

// CheckIntegrity reads every page of the file, but for those of the tables that only grow, and
// tells whether it is sound. Where it was as this program left it, nothing is read. Cost: linear
// in the rest, where somebody else wrote to it or a process died.
func (s *DB) CheckIntegrity(ctx context.Context) error {
	if s.sound {
		return nil
	}
	var tables []string
	rows, err := s.db.QueryContext(ctx, `SELECT name FROM sqlite_master WHERE type = 'table' ORDER BY name`)
	if err != nil {
		return s.explain(err)
	}
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return errors.Join(err, rows.Close())
		}
		if !slices.Contains(s.format.Grows, name) {
			tables = append(tables, name)
		}
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return s.explain(err)
	}
	for _, table := range tables {
		var text string
		if err := s.db.QueryRowContext(ctx, `PRAGMA quick_check(`+table+`)`).Scan(&text); err != nil {
			return s.explain(err)
		}
		if text != "ok" {
			return &DamagedError{Path: s.path, Why: "is damaged: " + text, Try: fault.Say("restore it from a copy; nothing was written to it")}
		}
	}
	s.sound = true
	return nil
}

// Update runs f in one transaction: all of what it writes, or nothing of it.
func (s *DB) Update(ctx context.Context, f func(tx *sql.Tx) error) error {
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
func (s *DB) Close() error {
	err := s.db.Close()
	if s.aside != "" {
		err = errors.Join(err, os.RemoveAll(s.aside))
	}
	if err == nil && s.sound && s.write {
		leave(s.path)
	}
	return err
}

func code(err error) int {
	if e, ok := errors.AsType[*sqlite.Error](err); ok {
		return e.Code() & 0xff
	}
	return 0
}

func isUnwritable(err error) bool {
	c := code(err)
	return c == lib.SQLITE_CANTOPEN || c == lib.SQLITE_READONLY || c == lib.SQLITE_FULL || c == lib.SQLITE_IOERR || errors.Is(err, fs.ErrPermission)
}

// Read runs f in a transaction that only reads. What f makes nothing of is told as
// a *[Damaged]: nobody but this program writes to the file.
func (s *DB) Read(ctx context.Context, f func(tx *sql.Tx) error) error {
	err := s.Update(ctx, f)
	damaged, told := errors.AsType[*DamagedError](err)
	switch {
	case told:
		return damaged
	case err == nil || code(err) != 0 || ctx.Err() != nil:
		return err
	}
	return &DamagedError{Path: s.path, Why: "is damaged: " + err.Error(), Try: fault.Say("restore it from a copy; nothing was written to it")}
}

// explain turns the codes of SQLite (https://sqlite.org/rescode.html) into what a person can act on.
func (s *DB) explain(err error) error {
	switch code(err) {
	case lib.SQLITE_CORRUPT, lib.SQLITE_NOTADB, lib.SQLITE_TOOBIG, lib.SQLITE_MISMATCH:
		return &DamagedError{Path: s.path, Why: "is damaged", Try: fault.Say("restore it from a copy; nothing was written to it")}
	case lib.SQLITE_FULL, lib.SQLITE_IOERR:
		return &UnwritableError{s.path, "the disk is full or does not answer", err}
	case lib.SQLITE_READONLY, lib.SQLITE_CANTOPEN:
		return &UnwritableError{s.path, "it cannot be written to", err}
	case lib.SQLITE_BUSY:
		return fmt.Errorf("%s: another ironbark has kept it busy for 10 seconds: %w", s.path, err)
	}
	return err
}

// Each calls read for each row of a query.
func Each(ctx context.Context, tx *sql.Tx, query string, read func(scan func(...any) error) error, args ...any) (err error) {
	rows, err := tx.QueryContext(ctx, query, args...)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	for rows.Next() {
		if err := read(rows.Scan); err != nil {
			return err
		}
	}
	return rows.Err()
}

// Count counts the rows of a table.
func Count(ctx context.Context, tx *sql.Tx, table string) (n int, err error) {
	err = tx.QueryRowContext(ctx, `SELECT count(*) FROM `+table).Scan(&n)
	return n, err
}

// Moments reads rows of a number and a moment in RFC 3339.
func Moments(ctx context.Context, tx *sql.Tx, query string, args ...any) (map[int64]time.Time, error) {
	out := map[int64]time.Time{}
	err := Each(ctx, tx, query, func(scan func(...any) error) error {
		var id int64
		var text string
		if err := scan(&id, &text); err != nil {
			return err
		}
		at, err := time.Parse(time.RFC3339Nano, text)
		out[id] = at
		return err
	}, args...)
	return out, err
}

// Numbers are a list of numbers as json_each of SQLite takes them.
func Numbers(list ...int64) string {
	text, err := json.Marshal(append([]int64{}, list...))
	if err != nil {
		panic("store: numbers do not marshal: " + err.Error())
	}
	return string(text)
}

// ReadMeta reads what a store keeps about itself: one value, as JSON in the table meta
// (id, body). It leaves into as it is where nothing was kept yet.
func ReadMeta(ctx context.Context, tx *sql.Tx, into any) error {
	return Each(ctx, tx, `SELECT body FROM meta`, func(scan func(...any) error) error {
		var text string
		if err := scan(&text); err != nil {
			return err
		}
		return json.Unmarshal([]byte(text), into)
	})
}

// WriteMeta keeps what [ReadMeta] reads.
func WriteMeta(ctx context.Context, tx *sql.Tx, meta any) error {
	text, err := json.Marshal(meta)
	if err == nil {
		_, err = tx.ExecContext(ctx, `INSERT OR REPLACE INTO meta VALUES (1, ?)`, string(text))
	}
	return err
}

// Copy writes the store as it stands at one moment into a new file, which is closed to others. Others may write to the
// store meanwhile.
func (s *DB) Copy(ctx context.Context, to string) error {
	if f, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600); err != nil { // SQLite would let others read it
		return err
	} else if err := f.Close(); err != nil {
		return err
	}
	_, err := s.db.ExecContext(ctx, `VACUUM INTO ?`, to)
	return s.explain(err)
}
