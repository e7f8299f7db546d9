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
	"ironbark/internal/store"
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
		ended, err := passingWhere(ctx, tx, ` AND until <= ?`, s.clock.Now().UnixMilli())
		if err != nil {
			return err
		}
		ids := []int64{p.ID}
		for _, o := range ended {
			ids = append(ids, o.ID)
		}
		before, err := concerned(ctx, tx, ids, p)
		if err != nil {
			return err
		}
		if err := errors.Join(endPassages(ctx, tx, ids), putPassage(ctx, tx, p)); err != nil {
			return err
		}
		m.Mark++
		return s.reopen(ctx, tx, m, before, ids, p)
	})
}

// concerned reads the openings that let something pass to the machines of some of them, by
// number, and of those that are given.
func concerned(ctx context.Context, tx *sql.Tx, ids []int64, list ...driver.Passage) ([]driver.Passage, error) {
	were, err := readPassingOf(ctx, tx, ids)
	if err != nil {
		return nil, err
	}
	return readPassingTo(ctx, tx, machinesOf(append(were, list...)...))
}

// Shut ends openings for good.
func (s *Site) Shut(ctx context.Context, at time.Time, ids ...int64) error {
	return s.change(ctx, func(tx *sql.Tx, m *meta) error {
		before, err := concerned(ctx, tx, ids)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `INSERT OR IGNORE INTO shut SELECT value, ? FROM json_each(?)`, at.UTC().Format(time.RFC3339Nano), store.Numbers(ids...))
		if err := errors.Join(err, endPassages(ctx, tx, ids)); err != nil {
			return err
		}
		m.Mark++
		return s.reopen(ctx, tx, m, before, ids)
	})
}

// reopen writes anew what openings let pass to the machines of some of them: of those that
// passed until now under some numbers, and of those that come. before are all that passed to
// these machines until now.
func (s *Site) reopen(ctx context.Context, tx *sql.Tx, m *meta, before []driver.Passage, ids []int64, come ...driver.Passage) error {
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
	changed := slices.DeleteFunc(slices.Clone(before), func(p driver.Passage) bool { return !slices.Contains(ids, p.ID) })
	machines := machinesOf(slices.Concat(changed, come)...)
	if len(machines) == 0 {
		return nil
	}
	list, err := readResources(ctx, tx)
	if err != nil {
		return err
	}
	passing, err := readPassingTo(ctx, tx, machines)
	if err != nil {
		return err
	}
	led := map[netip.Addr]bool{}
	var open []opened
	addrs := withHost(addrsOf(list), m)
	for _, machine := range machines {
		boxes, were := openings(passing, machine), openings(before, machine)
		for _, a := range addrs[machine] {
			led[a] = slices.ContainsFunc(were, func(b Box) bool { return b.Source.Lo.Addr().Is4() == a.Is4() })
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
	if m.Generation, err = s.generation(); err != nil || len(changed) == 0 {
		return err
	}
	return s.endClosedTo(ctx, tx, m, led, changed)
}
