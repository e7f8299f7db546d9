package linux

import (
	"context"
	"database/sql"
	"errors"
	"net/netip"
	"slices"
	"time"

	"ironbark/internal/driver"
	"ironbark/internal/flow"
)

// Pass lets an opening pass.
func (s *Site) Pass(ctx context.Context, p driver.Passage) error {
	return s.change(ctx, func(tx *sql.Tx, m *meta) error {
		var was int
		if err := tx.QueryRowContext(ctx, `SELECT count(*) FROM shut WHERE id = ?`, p.ID).Scan(&was); err != nil {
			return err
		}
		if was > 0 {
			return driver.ErrShut
		}
		before, err := readPassing(ctx, tx)
		if err != nil {
			return err
		}
		changed := []driver.Passage{p}
		for _, o := range before {
			if !lasts(o, s.clock.Now()) {
				changed = append(changed, o)
				if _, err := tx.ExecContext(ctx, `UPDATE passing SET over = 1 WHERE id = ?`, o.ID); err != nil {
					return err
				}
			}
		}
		if err := putPassage(ctx, tx, p); err != nil {
			return err
		}
		m.Mark++
		return s.reopen(ctx, tx, m, before, changed...)
	})
}

// lasts reports whether something of an opening has not ended yet.
func lasts(p driver.Passage, at time.Time) bool {
	return slices.ContainsFunc(p.Parts, func(one driver.Part) bool { return at.Before(one.End) })
}

// Shut ends openings for good.
func (s *Site) Shut(ctx context.Context, at time.Time, ids ...int64) error {
	return s.change(ctx, func(tx *sql.Tx, m *meta) error {
		before, err := readPassing(ctx, tx)
		if err != nil {
			return err
		}
		for _, id := range ids {
			_, err1 := tx.ExecContext(ctx, `INSERT OR IGNORE INTO shut VALUES (?, ?)`, id, at.UTC().Format(time.RFC3339Nano))
			_, err2 := tx.ExecContext(ctx, `UPDATE passing SET over = 1 WHERE id = ?`, id)
			if err := errors.Join(err1, err2); err != nil {
				return err
			}
		}
		m.Mark++
		var gone []driver.Passage
		for _, p := range before {
			if slices.Contains(ids, p.ID) {
				gone = append(gone, p)
			}
		}
		return s.reopen(ctx, tx, m, before, gone...)
	})
}

// reopen writes anew what openings let pass to the machines of some of them. before are
// those that passed until now.
func (s *Site) reopen(ctx context.Context, tx *sql.Tx, m *meta, before []driver.Passage, changed ...driver.Passage) error {
	if !exists(s.prefix) {
		return nil
	}
	// Somebody else wrote to it, a process died after it did, or it is another program's: all of
	// it is put right.
	if g, err := s.generation(); err != nil || g != m.Generation || m.Layout != layout {
		rows, err1 := readPlan(ctx, tx)
		plan, err2 := flow.FromRows(rows)
		if err := errors.Join(err, err1, err2); err != nil {
			return err
		}
		if err := s.count(ctx, tx, m, true); err != nil {
			return err
		}
		return s.put(ctx, tx, m, plan)
	}
	if len(changed) == 0 {
		return nil
	}
	concerned := map[string]bool{}
	for _, p := range append(slices.Clone(changed), before...) {
		for _, part := range p.Parts {
			for _, name := range part.Machines {
				concerned[name] = concerned[name] || slices.ContainsFunc(changed, func(c driver.Passage) bool { return c.ID == p.ID })
			}
		}
	}
	list, err := readResources(ctx, tx)
	if err != nil {
		return err
	}
	passing, err := readPassing(ctx, tx)
	if err != nil {
		return err
	}
	led := map[netip.Addr]bool{}
	var open []opened
	for machine, to := range addrsOf(list) {
		if !concerned[machine] {
			continue
		}
		boxes := openings(passing, machine)
		for _, a := range to {
			led[a] = slices.ContainsFunc(openings(before, machine), func(b Box) bool { return b.Source.Lo.Addr().Is4() == a.Is4() })
			o := newOpened(a, boxes, &m.Number)
			open = append(open, o)
			if err := putNumber(ctx, tx, o.number, passing, machine); err != nil {
				return err
			}
		}
	}
	c, done, err := s.conn()
	if err != nil {
		return err
	}
	defer done()
	if err := reopen(c, open, led, s.clock.Now()); err != nil {
		return err
	}
	m.Generation, err = s.generation()
	return err
}
