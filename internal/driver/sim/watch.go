package sim

import (
	"context"
	"database/sql"
	"slices"
	"time"

	"ironbark/internal/driver"
	"ironbark/internal/flow"
	"ironbark/internal/store"
)

// watchEvery is how often a session is judged again. It ends within a second of
// what let it in, whoever ended that, in whichever process.
const watchEvery = 200 * time.Millisecond

// watch judges a session again and again, in real time, until ctx ends, and calls
// end once it may not go on. On doubt it may not.
func watch(ctx context.Context, may func(context.Context) bool, end func()) {
	tick := time.NewTicker(watchEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if !may(ctx) && ctx.Err() == nil {
				end()
				return
			}
		}
	}
}

// passes returns what tells whether packets still get from a client to a machine
// that is up. The tables are read again only when something was written.
func (s *Site) passes(p driver.Packet, machine string) func(context.Context) bool {
	var walker *Walker
	var m meta
	last := ""
	return func(ctx context.Context) bool {
		mark, err := s.stamp(ctx)
		if err != nil {
			return false
		}
		if mark != last || walker == nil {
			if walker, m, err = s.walker(ctx); err != nil {
				return false
			}
			in, err := s.look(ctx, machine)
			if err != nil || !in.power.Stop.IsZero() {
				return false
			}
			last = mark
		}
		for _, f := range walker.at(m, s.clock.Now(), p) {
			if f.Open && f.Machine == machine {
				return true
			}
		}
		return false
	}
}

// stamp changes whenever anybody wrote to the state, in this process or another.
func (s *Site) stamp(ctx context.Context) (stamp string, err error) {
	db, err := s.open(ctx, false)
	if err != nil {
		return "", err
	}
	err = db.Update(ctx, func(tx *sql.Tx) error {
		return tx.QueryRowContext(ctx, `SELECT (SELECT body FROM meta) || (SELECT group_concat(life) FROM machines)`).Scan(&stamp)
	})
	return stamp, err
}

// walker reads the installed tables.
func (s *Site) walker(ctx context.Context) (w *Walker, m meta, err error) {
	var rows []flow.Row
	err = s.read(ctx, func(tx *sql.Tx) (err error) {
		if err := store.ReadMeta(ctx, tx, &m); err != nil {
			return err
		}
		rows, err = readTables(ctx, tx, driver.Everything)
		return err
	})
	if err != nil {
		return nil, m, err
	}
	w, err = NewWalker(rows)
	return w, m, err
}

// at walks a packet by the site's clock. While the computer's clock is behind it,
// openings let nothing pass.
func (w *Walker) at(m meta, clock time.Time, p driver.Packet) []driver.ProbeResult {
	now, behind := m.now(clock)
	if behind > 0 {
		shut := *w
		shut.rules = slices.DeleteFunc(slices.Clone(w.rules), func(r row) bool { return r.Kind == "opening" })
		w = &shut
	}
	return w.Walk(p, now)
}
