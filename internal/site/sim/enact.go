package sim

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/opening"
	"ironbark/internal/site"
	"ironbark/internal/store"
)

func absentIsEmpty(err error) error {
	if errors.Is(err, store.ErrAbsent) {
		return nil
	}
	return err
}

// enactment holds the lock on .ironbark/enacting, which the kernel gives back
// when the process ends, however it ends.
type enactment struct {
	s      *Site
	person string
	lock   *os.File
	fence  int64 // how often tables had been cut when it began
}

// Begin takes the lock and marks the site as unfinished.
func (s *Site) Begin(ctx context.Context, person string, revision int64) (_ site.Enactment, err error) {
	if err := s.makeDir(); err != nil {
		return nil, err
	}
	lock, err := os.OpenFile(filepath.Join(s.dir, "enacting"), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, lock.Close())
		}
	}()
	if err := unix.Flock(int(lock.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		if !errors.Is(err, unix.EWOULDBLOCK) {
			return nil, err
		}
		busy := &site.Busy{}
		if r, err := s.Report(ctx); err == nil {
			busy.Who = r.Unfinished
		}
		return nil, busy
	}
	var fence int64
	err = s.step(ctx, func(ctx context.Context, tx *sql.Tx) (note, error) {
		m, err := readMeta(ctx, tx)
		if err != nil {
			return note{}, err
		}
		if m.revision != revision {
			return note{}, site.ErrChanged
		}
		if err := s.mayOpen(ctx, tx, m); err != nil {
			return note{}, err
		}
		fence = m.fence
		u := site.Unfinished{Person: person, Since: s.clock.Now().UTC()}
		text := "began an enactment"
		if m.unfinished != nil {
			text = "took up the enactment that " + m.unfinished.Person + " began"
		}
		return note{person, "enact", text, record{}}, errors.Join(setMeta(ctx, tx, "unfinished", u), setMeta(ctx, tx, "revision", m.revision+1))
	})
	if err != nil {
		return nil, err
	}
	return &enactment{s: s, person: person, lock: lock, fence: fence}, nil
}

// cutMeanwhile tells, inside a transaction, that somebody closed something since the
// enactment began: what it was to install was worked out without that.
func (e *enactment) cutMeanwhile(ctx context.Context, tx *sql.Tx) error {
	m, err := readMeta(ctx, tx)
	if err == nil && m.fence != e.fence {
		err = site.ErrCut
	}
	return err
}

// Cut closes without the right to enact.
func (s *Site) Cut(ctx context.Context, person string, revision int64, rows []flow.Row, files []estate.File, text string) error {
	return s.closing(ctx, func(ctx context.Context, tx *sql.Tx) (note, error) {
		m, err := readMeta(ctx, tx)
		if err != nil {
			return note{}, err
		}
		if m.revision != revision {
			return note{}, site.ErrChanged
		}
		r, err := putEnacted(ctx, tx, rows, files)
		if err != nil {
			return note{}, err
		}
		return note{person, "cut", text, r}, errors.Join(setMeta(ctx, tx, "fence", m.fence+1), setMeta(ctx, tx, "revision", m.revision+1))
	})
}

// putEnacted installs tables and keeps the files that they came from, and returns what
// the journal keeps of both.
func putEnacted(ctx context.Context, tx *sql.Tx, rows []flow.Row, files []estate.File) (r record, err error) {
	d, err := install(ctx, tx, base, rows)
	if err != nil {
		return r, err
	}
	r = record{Tables: []delta{d}, Files: map[string]string{}}
	if _, err := tx.ExecContext(ctx, `DELETE FROM files`); err != nil {
		return r, err
	}
	for _, f := range files {
		r.Files[f.Name] = string(f.Data)
		if _, err := tx.ExecContext(ctx, `INSERT INTO files VALUES (?, ?)`, f.Name, f.Data); err != nil {
			return r, err
		}
	}
	return r, nil
}

func (e *enactment) Close() error { return e.lock.Close() }

func (e *enactment) Install(ctx context.Context, rows []flow.Row, text string) error {
	return e.s.step(ctx, func(ctx context.Context, tx *sql.Tx) (note, error) {
		if err := e.cutMeanwhile(ctx, tx); err != nil {
			return note{}, err
		}
		d, err := install(ctx, tx, base, rows)
		return note{e.person, "tables", fmt.Sprintf("%s (%d rows out, %d in)", text, len(d.Out), len(d.In)), record{Tables: []delta{d}}}, err
	})
}

func (e *enactment) End(ctx context.Context, why string, ids ...int64) error {
	return e.s.End(ctx, e.person, why, ids...)
}

func (e *enactment) Narrow(ctx context.Context, o opening.Opening, rows []flow.Row) error {
	return e.s.step(ctx, func(ctx context.Context, tx *sql.Tx) (note, error) {
		d, err := install(ctx, tx, o.ID, rows)
		if err != nil {
			return note{}, err
		}
		return note{e.person, "narrow", fmt.Sprintf("opening %d: now for %v", o.ID, o.Machines), opened(o, d)}, putOpening(ctx, tx, o)
	})
}

func (e *enactment) Finish(ctx context.Context, rows []flow.Row, files []estate.File, text string) error {
	return e.s.step(ctx, func(ctx context.Context, tx *sql.Tx) (note, error) {
		if err := e.cutMeanwhile(ctx, tx); err != nil {
			return note{}, err
		}
		r, err := putEnacted(ctx, tx, rows, files)
		if err != nil {
			return note{}, err
		}
		m, err := readMeta(ctx, tx)
		if err != nil {
			return note{}, err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM meta WHERE key = 'unfinished'`); err != nil {
			return note{}, err
		}
		seen := ""
		row := tx.QueryRowContext(ctx, `SELECT coalesce(max(seq), 0) FROM outside`)
		if err := row.Scan(&seen); err != nil {
			return note{}, err
		}
		if err := setMeta(ctx, tx, "seen", seen); err != nil {
			return note{}, err
		}
		return note{e.person, "enact", text, r}, setMeta(ctx, tx, "revision", m.revision+1)
	})
}
