package sim

import (
	"context"
	"database/sql"
	"slices"
	"time"

	"ironbark/internal/flow"
	"ironbark/internal/site"
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
func (s *Site) passes(p site.Packet, machine string) func(context.Context) bool {
	var walker *Walker
	var m meta
	last := ""
	return func(ctx context.Context) bool {
		mark, err := s.mark(ctx)
		if err != nil {
			return false
		}
		if mark != last || walker == nil {
			if walker, m, err = s.walker(ctx); err != nil {
				return false
			}
			in, err := s.look(ctx, machine)
			if err != nil || !in.life.Stop.IsZero() {
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

// mark changes whenever anybody changed the site, in this process or another.
func (s *Site) mark(ctx context.Context) (mark string, err error) {
	db, err := s.open(ctx, false)
	if err != nil {
		return "", err
	}
	err = db.Do(ctx, func(tx *sql.Tx) error {
		return tx.QueryRowContext(ctx, `SELECT (SELECT coalesce(max(seq), 0) FROM journal) || ' ' || (SELECT coalesce(max(seq), 0) FROM outside)`).Scan(&mark)
	})
	return mark, err
}

// walker reads the installed tables.
func (s *Site) walker(ctx context.Context) (w *Walker, m meta, err error) {
	db, err := s.open(ctx, false)
	if err != nil {
		return nil, m, err
	}
	var rows []flow.Row
	err = db.Do(ctx, func(tx *sql.Tx) error {
		if m, err = readMeta(ctx, tx); err != nil {
			return err
		}
		return each(ctx, tx, `SELECT key, body FROM tables`, func(scan func(...any) error) error {
			var r flow.Row
			err := scan(&r.Key, &r.Body)
			rows = append(rows, r)
			return err
		})
	})
	if err != nil {
		return nil, m, err
	}
	w, err = NewWalker(rows)
	return w, m, err
}

// at walks a packet by the site's clock. While the computer's clock is behind it,
// openings let nothing pass.
func (w *Walker) at(m meta, clock time.Time, p site.Packet) []site.Fate {
	now, behind := m.times(clock)
	if behind > 0 {
		shut := *w
		shut.rules = slices.DeleteFunc(slices.Clone(w.rules), func(r row) bool { return r.Kind == "opening" })
		w = &shut
	}
	return w.Walk(p, now)
}
