// Package sqlite keeps the ledger of an estate in one SQLite file beside it, with no
// set-up.
//
//	.ironbark/site.db   the ledger
//	.ironbark/enacting  locked by the process that enacts
//	.ironbark/opening   locked by the process that opens something
//	.ironbark/reserve   disk that is held back for closing
package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"os"
	"path/filepath"
	"sync"

	"ironbark/internal/fault"
	"ironbark/internal/ledger"
	"ironbark/internal/store"
)

// Name is that of the file.
const Name = "site.db"

// Options say how a ledger is kept.
type Options struct {
	// Simulated says that the clock plays. A ledger that was not begun under such a clock
	// refuses one.
	Simulated bool
	// Wrote is called after each write; its error is returned by what wrote.
	Wrote func(ctx context.Context) error
}

// Ledger is a ledger in a file.
type Ledger struct {
	dir  string
	opts Options

	mu    sync.Mutex
	db    *store.DB
	write bool
}

var _ ledger.Ledger = (*Ledger)(nil)

// New returns the ledger in a folder. Nothing is read or made before it is needed.
func New(dir string, opts Options) *Ledger {
	if opts.Wrote == nil {
		opts.Wrote = func(context.Context) error { return nil }
	}
	return &Ledger{dir: dir, opts: opts}
}

// Close closes the file.
func (l *Ledger) Close() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.db == nil {
		return nil
	}
	err := l.db.Close()
	l.db = nil
	return err
}

// open opens the file, for writing if asked to. The folder is made only then.
func (l *Ledger) open(ctx context.Context, write bool) (*store.DB, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.db != nil && (l.write || !write) {
		return l.db, nil
	}
	if l.db != nil {
		if err := l.db.Close(); err != nil {
			return nil, err
		}
		l.db = nil
	}
	if write {
		if err := MakeDir(l.dir); err != nil {
			return nil, err
		}
		if err := l.reserve(); err != nil {
			return nil, err
		}
	} else if info, err := os.Stat(l.dir); err == nil && !info.IsDir() {
		return nil, &store.DamagedError{Path: l.dir, Why: "is no folder", Try: fault.Say("move it away")}
	}
	db, err := store.Open(ctx, filepath.Join(l.dir, Name), format, !write)
	if err != nil {
		return nil, err
	}
	if write {
		if err := db.CheckIntegrity(ctx); err != nil {
			return nil, errors.Join(err, db.Close())
		}
	}
	if err := l.checkClock(ctx, db); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	l.db, l.write = db, write
	return db, nil
}

// Copy writes the ledger as it stands at one moment into a new file. The error is store.ErrAbsent where there is none yet.
func (l *Ledger) Copy(ctx context.Context, to string) error {
	db, err := l.open(ctx, false)
	if err != nil {
		return err
	}
	return db.Copy(ctx, to)
}

// MakeDir makes the folder of an estate's state, closed to others, and keeps it out of
// version control.
func MakeDir(dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	ignore := filepath.Join(dir, ".gitignore")
	if _, err := os.Stat(ignore); err == nil {
		return nil
	}
	return os.WriteFile(ignore, []byte("*\n"), 0o600)
}

// read reads something in one transaction. Where there is no file yet nothing is read.
func (l *Ledger) read(ctx context.Context, f func(tx *sql.Tx) error) error {
	db, err := l.open(ctx, false)
	if errors.Is(err, store.ErrAbsent) {
		return nil
	}
	if err != nil {
		return err
	}
	return db.Read(ctx, f)
}

// kinds of clock, as the ledger remembers under which one it was begun.
const (
	realClock      = "real"
	simulatedClock = "simulated"
)

// checkClock refuses a simulated clock on a ledger that was not begun under one.
func (l *Ledger) checkClock(ctx context.Context, db *store.DB) error {
	if !l.opts.Simulated {
		return nil
	}
	var m meta
	err := db.Update(ctx, func(tx *sql.Tx) (err error) {
		m, err = readMeta(ctx, tx)
		return err
	})
	if err == nil && m.Revision > 0 && m.clock != simulatedClock {
		err = &store.DamagedError{Path: l.dir, Why: "was not begun under a simulated clock, and does not take one", Try: fault.Say("unset IRONBARK_CLOCK")}
	}
	return err
}
