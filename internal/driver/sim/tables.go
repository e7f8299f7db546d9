package sim

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"sync"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/flow"
	"ironbark/internal/store"
)

// base owns the tables of the plan; an opening owns its own by its number.
const base = int64(0)

// Observe tells what the site has.
func (s *Site) Observe(ctx context.Context, scope driver.Scope) (*driver.Observation, error) {
	o := &driver.Observation{Machines: map[string]driver.Machine{}, Keys: map[string]string{}, Shut: map[int64]time.Time{}}
	err := s.read(ctx, func(tx *sql.Tx) error { return s.observe(ctx, tx, scope, o) })
	if err == nil && o.Plan == nil && scope.Plan {
		o.Plan, err = flow.FromRows(nil)
	}
	if o.Mark == "" {
		o.Mark = (&meta{}).mark()
	}
	return o, err
}

func (s *Site) observe(ctx context.Context, tx *sql.Tx, scope driver.Scope, o *driver.Observation) error {
	var m meta
	if err := store.ReadMeta(ctx, tx, &m); err != nil {
		return err
	}
	now, behind := m.now(s.clock.Now())
	o.Mark, o.Identity, o.Behind, o.Records = m.mark(), m.Identity, behind, true
	var compiled *compiledPlan
	if scope.Plan {
		var err error
		if compiled, err = readCompiled(ctx, tx); err != nil {
			return err
		}
	}
	if scope.Resources {
		many, err := store.Count(ctx, tx, `resources`)
		if err != nil {
			return err
		}
		o.Resources = make([]change.Resource, 0, many)
		err = store.Each(ctx, tx, `SELECT `+resourceColumns+` FROM resources`, func(scan func(...any) error) error {
			t, err := readResource(scan)
			o.Resources = append(o.Resources, t)
			return err
		})
		if err := errors.Join(err, s.machines(ctx, tx, o, now)); err != nil {
			return err
		}
	}
	for _, name := range scope.Machines {
		if in, err := s.loadMachine(ctx, tx, name); err == nil && !scope.Resources {
			o.Machines[name] = s.machine(in.power, in.resource, now)
		} else if _, none := errors.AsType[*driver.NoMachineError](err); err != nil && !none {
			return err
		}
	}
	if scope.Plan {
		var err error
		if o.Plan, err = readPlan(ctx, tx, scope, compiled); err != nil {
			return err
		}
		o.Compiled = compiled.text
	}
	if scope.After >= 0 {
		var err error
		if o.Outside, err = outsideAfter(ctx, tx, scope.After); err != nil {
			return err
		}
	}
	var err error
	if o.Shut, err = store.Moments(ctx, tx, `SELECT id, at FROM shut WHERE id IN (SELECT value FROM json_each(?))`, store.Numbers(scope.Openings...)); err != nil {
		return err
	}
	return tx.QueryRowContext(ctx, `SELECT max((SELECT coalesce(max(id), 0) FROM shut), (SELECT coalesce(max(owner), 0) FROM tables))`).Scan(&o.Highest)
}

// Between the rows of the tables as they are read, and between key and body: no JSON has them.
const (
	betweenRows = "\x1e"
	betweenBoth = "\x1f"
)

// readPlan reads what is installed: the plan from its form in binary, where there is one, and what openings let pass from their rows.
func readPlan(ctx context.Context, tx *sql.Tx, scope driver.Scope, compiled *compiledPlan) (*flow.Plan, error) {
	p, err := compiled.decoded()
	if err != nil {
		return nil, err
	}
	where, args := ` WHERE owner > ?`, []any{base}
	if p == nil {
		where = ` WHERE owner >= ?`
	}
	if scope.Some {
		where, args = where+` AND owner IN (SELECT value FROM json_each(?))`, append(args, store.Numbers(append([]int64{base}, scope.Openings...)...))
	}
	rows, err := readTables(ctx, tx, where, args...)
	switch {
	case err != nil:
		return nil, err
	case p == nil:
		return flow.FromRows(rows)
	}
	return p.WithRows(rows)
}

// compiledPlan is a plan in binary that is being decoded.
type compiledPlan struct {
	text    string // "" once it is known to be no plan
	plan    *flow.Plan
	err     error
	decoder sync.WaitGroup
}

// readCompiled reads the plan in binary, and has it decoded while other things are read.
func readCompiled(ctx context.Context, tx *sql.Tx) (*compiledPlan, error) {
	c := &compiledPlan{}
	err := store.Each(ctx, tx, `SELECT plan FROM compiled`, func(scan func(...any) error) error {
		var data sql.RawBytes
		err := scan(&data)
		c.text = string(data)
		return err
	})
	if c.text != "" {
		c.decoder.Go(func() { c.plan, c.err = flow.FromBinary(c.text) })
	}
	return c, err
}

// decoded returns the plan; nil where it is not there, or in the form of another version of the program.
func (c *compiledPlan) decoded() (*flow.Plan, error) {
	if c.decoder.Wait(); errors.Is(c.err, flow.ErrBinary) {
		c.text, c.plan, c.err = "", nil, nil
	}
	return c.plan, c.err
}

// compile keeps the plan of some rows in binary, where it is not kept.
func compile(ctx context.Context, tx *sql.Tx, rows []flow.Row) error {
	there, err := readCompiled(ctx, tx)
	if err != nil {
		return err
	}
	if p, err := there.decoded(); p != nil || err != nil {
		return err
	}
	p, err := flow.FromRows(rows)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `INSERT OR REPLACE INTO compiled VALUES (1, ?)`, p.Binary())
	return err
}

// readTables reads the rows that a condition chooses, each once. They are read as one text, which takes a third of
// the time that it takes to read them one by one.
func readTables(ctx context.Context, tx *sql.Tx, where string, args ...any) ([]flow.Row, error) {
	var text string
	err := tx.QueryRowContext(ctx, `SELECT coalesce(group_concat(key || char(31) || body, char(30)), '') FROM tables`+where, args...).Scan(&text)
	if err != nil || text == "" {
		return nil, err
	}
	rows := make([]flow.Row, 0, strings.Count(text, betweenRows)+1)
	for row := range strings.SplitSeq(text, betweenRows) {
		key, body, _ := strings.Cut(row, betweenBoth)
		rows = append(rows, flow.Row{Key: key, Body: body})
	}
	byKey := func(a, b flow.Row) int { return strings.Compare(a.Key, b.Key) }
	if !slices.IsSortedFunc(rows, byKey) { // those of one owner are, by the key of the table
		slices.SortStableFunc(rows, byKey)
	}
	return slices.CompactFunc(rows, func(a, b flow.Row) bool { return a.Key == b.Key }), nil
}

// Install puts a plan in place of the one before.
func (s *Site) Install(ctx context.Context, plan *flow.Plan, mark string) error {
	rows := plan.WithoutOpenings(func(int64) bool { return true }).Rows()
	return s.commit(ctx, func(tx *sql.Tx, m *meta) error {
		if m.mark() != mark {
			return driver.ErrMoved
		}
		m.Mark++
		if err := putRows(ctx, tx, base, rows); err != nil {
			return err
		}
		return compile(ctx, tx, rows)
	})
}

// putRows puts an owner's rows in place of those it had. Only rows that differ are written.
func putRows(ctx context.Context, tx *sql.Tx, owner int64, rows []flow.Row) error {
	want := make(map[string]string, len(rows))
	for _, r := range rows {
		want[r.Key] = r.Body
	}
	var out []string
	err := store.Each(ctx, tx, `SELECT key, body FROM tables WHERE owner = ?`, func(scan func(...any) error) error {
		var key, body string
		if err := scan(&key, &body); err != nil {
			return err
		}
		if keep, ok := want[key]; ok && keep == body {
			delete(want, key)
		} else if !ok {
			out = append(out, key)
		}
		return nil
	}, owner)
	for _, key := range out {
		if err == nil {
			_, err = tx.ExecContext(ctx, `DELETE FROM tables WHERE owner = ? AND key = ?`, owner, key)
		}
	}
	for key, body := range want {
		if err == nil {
			_, err = tx.ExecContext(ctx, `INSERT OR REPLACE INTO tables VALUES (?, ?, ?)`, owner, key, body)
		}
	}
	return err
}

// Pass lets an opening pass.
func (s *Site) Pass(ctx context.Context, p driver.Passage) error {
	var rows []flow.Row
	for _, part := range p.Parts {
		rows = append(rows, flow.NamedRows(flow.Rule{
			Kind: flow.Opening, From: part.From, Services: part.Services, Begin: p.Begin, Until: part.End, Opening: p.ID,
			Origin: flow.Origin{Sentence: p.Sentence},
		}, part.Machines)...)
	}
	return s.commit(ctx, func(tx *sql.Tx, m *meta) error {
		var was int
		if err := tx.QueryRowContext(ctx, `SELECT count(*) FROM shut WHERE id = ?`, p.ID).Scan(&was); err != nil {
			return err
		}
		if was > 0 {
			return driver.ErrShut
		}
		if err := s.prune(ctx, tx); err != nil {
			return err
		}
		m.Mark++
		_, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO ends VALUES (?, ?)`, p.ID, p.End().Add(time.Millisecond-1).UnixMilli())
		return errors.Join(err, putRows(ctx, tx, p.ID, rows))
	})
}

// prune takes rules that have ended by themselves out of the tables of openings.
func (s *Site) prune(ctx context.Context, tx *sql.Tx) error {
	over := s.clock.Now().Add(-pruneAfter).UnixMilli()
	_, err1 := tx.ExecContext(ctx, `DELETE FROM tables WHERE owner IN (SELECT owner FROM ends WHERE until < ?)`, over)
	_, err2 := tx.ExecContext(ctx, `DELETE FROM ends WHERE until < ?`, over)
	return errors.Join(err1, err2)
}

// pruneAfter is how long what has ended stands in the tables at least.
const pruneAfter = 90 * time.Second

// Shut ends openings for good.
func (s *Site) Shut(ctx context.Context, at time.Time, ids ...int64) error {
	return s.commit(ctx, func(tx *sql.Tx, m *meta) error {
		m.Mark++
		these := store.Numbers(ids...)
		_, err1 := tx.ExecContext(ctx, `INSERT OR IGNORE INTO shut SELECT value, ? FROM json_each(?)`, at.UTC().Format(time.RFC3339Nano), these)
		_, err2 := tx.ExecContext(ctx, `DELETE FROM tables WHERE owner > 0 AND owner IN (SELECT value FROM json_each(?))`, these)
		_, err3 := tx.ExecContext(ctx, `DELETE FROM ends WHERE owner IN (SELECT value FROM json_each(?))`, these)
		return errors.Join(err1, err2, err3)
	})
}

// outsideAfter reads the site's own record of what others did, after a number.
func outsideAfter(ctx context.Context, tx *sql.Tx, after int64) (list []driver.OutOfBandChange, err error) {
	err = store.Each(ctx, tx, `SELECT seq, at, who, what, data FROM outside WHERE seq > ? ORDER BY seq`, func(scan func(...any) error) error {
		var at, data string
		var o driver.OutOfBandChange
		var b outOfBand
		if err := scan(&o.Seq, &at, &o.Who, &o.What, &data); err != nil {
			return err
		}
		if err := json.Unmarshal([]byte(data), &b); err != nil {
			return err
		}
		o.In, o.Out, o.After = b.In, b.Out, b.After
		if o.At, err = time.Parse(time.RFC3339Nano, at); err != nil {
			return err
		}
		list = append(list, o)
		return nil
	}, after)
	return list, err
}
