package sim

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"ironbark/internal/site"
	"ironbark/internal/store"
)

// The site keeps the latest moment that it has recorded. Its own clock never goes back
// behind that, so what has ended stays ended. Where the computer's clock has gone back
// for more than a moment nobody can tell how long openings would last: they let nothing
// pass, and nothing is opened or enacted, until somebody accepts the clock.

// simulated is implemented by clocks that play.
type simulated interface{ Simulated() bool }

func (s *Site) plays() bool {
	c, ok := s.clock.(simulated)
	return ok && c.Simulated()
}

// kinds of clock, as the site remembers under which one it was begun.
const (
	realClock      = "real"
	simulatedClock = "simulated"
)

// checkClock refuses a simulated clock on a site that was not begun under one.
func (s *Site) checkClock(ctx context.Context, db *store.DB) error {
	if !s.plays() {
		return nil
	}
	var kind string
	var revision int64
	err := db.Do(ctx, func(tx *sql.Tx) error {
		m, err := readMeta(ctx, tx)
		kind, revision = m.clock, m.revision
		return err
	})
	if err != nil {
		return err
	}
	if revision > 0 && kind != simulatedClock {
		return &store.Damaged{Path: s.dir, Why: "was not begun under a simulated clock, and does not take one", Mend: "unset IRONBARK_CLOCK"}
	}
	return nil
}

// times returns the site's now, and how far the computer's clock is behind.
func (m meta) times(clock time.Time) (now time.Time, behind time.Duration) {
	if back := m.latest.Sub(clock); back > 0 {
		if back > site.MostBehind {
			behind = back
		}
		return m.latest, behind
	}
	return clock, 0
}

// mayOpen tells, inside a transaction, whether anything may be opened or enacted.
func (s *Site) mayOpen(ctx context.Context, tx *sql.Tx, m meta) error {
	if _, behind := m.times(s.clock.Now()); behind > 0 {
		return &site.ClockError{Now: s.clock.Now(), Latest: m.latest}
	}
	list, err := openBreaks(ctx, tx)
	if err == nil && len(list) > 0 {
		err = &site.RecordError{Breaks: list}
	}
	return err
}

// Now tells the site's clock.
func (s *Site) Now(ctx context.Context) (time.Time, time.Duration, error) {
	db, err := s.open(ctx, false)
	if errors.Is(err, store.ErrAbsent) {
		return s.clock.Now(), 0, nil
	}
	if err != nil {
		return time.Time{}, 0, err
	}
	var m meta
	err = db.Read(ctx, func(tx *sql.Tx) error {
		m, err = readMeta(ctx, tx)
		return err
	})
	now, behind := m.times(s.clock.Now())
	return now, behind, err
}

// AcceptClock takes the computer's clock as right.
func (s *Site) AcceptClock(ctx context.Context, person string) error {
	return s.step(ctx, func(ctx context.Context, tx *sql.Tx) (note, error) {
		m, err := readMeta(ctx, tx)
		if err != nil {
			return note{}, err
		}
		text := fmt.Sprintf("accepted the clock, which went back to %s from %s", s.clock.Now().UTC().Format(time.RFC3339), m.latest.UTC().Format(time.RFC3339))
		_, err = tx.ExecContext(ctx, `DELETE FROM meta WHERE key = 'latest'`)
		return note{person, "clock", text, record{}}, err
	})
}
