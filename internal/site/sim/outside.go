package sim

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/flow"
	"ironbark/internal/site"
)

// This file plays the meddler: somebody who changes the site and does not use
// Ironbark. The site keeps a record of its own of that, as sites do, and the
// journal has nothing of it.

// meddled is what the site's own record holds of one change.
type meddled struct {
	After int64      `json:"after"` // the last entry of the journal at that moment: clocks may stand still
	In    []flow.Row `json:"in,omitempty"`
	Out   []flow.Row `json:"out,omitempty"`
}

// outsideSince reads the site's own record after a number.
func outsideSince(ctx context.Context, tx *sql.Tx, seen int64) (list []site.Outside, err error) {
	all, err := readOutside(ctx, tx, seen)
	for _, o := range all {
		list = append(list, o.Outside)
	}
	return list, err
}

// placed is an entry of the site's own record with its place in the journal.
type placed struct {
	site.Outside
	after int64
}

func readOutside(ctx context.Context, tx *sql.Tx, seen int64) (list []placed, err error) {
	err = each(ctx, tx, `SELECT at, who, what, data FROM outside WHERE seq > ? ORDER BY seq`, func(scan func(...any) error) error {
		var at, data string
		var o placed
		var m meddled
		if err := scan(&at, &o.Who, &o.What, &data); err != nil {
			return err
		}
		if err := json.Unmarshal([]byte(data), &m); err != nil {
			return err
		}
		o.In, o.Out, o.after = m.In, m.Out, m.After
		if o.At, err = time.Parse(time.RFC3339Nano, at); err != nil {
			return err
		}
		list = append(list, o)
		return nil
	}, seen)
	return list, err
}

// meddle does one thing behind Ironbark's back: the site's own record has it, and
// the revision moves on, so that nothing is enacted on a review from before.
func (s *Site) meddle(ctx context.Context, who, what string, do func(tx *sql.Tx) (meddled, error)) error {
	db, err := s.open(ctx, true)
	if err != nil {
		return err
	}
	return db.Do(ctx, func(tx *sql.Tx) error {
		m, err := readMeta(ctx, tx)
		if err != nil {
			return err
		}
		how, err := do(tx)
		if err != nil {
			return err
		}
		if err := tx.QueryRowContext(ctx, `SELECT coalesce(max(seq), 0) FROM journal`).Scan(&how.After); err != nil {
			return err
		}
		data, err := json.Marshal(how)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `INSERT INTO outside (at, who, what, data) VALUES (?, ?, ?, ?)`, s.clock.Now().UTC().Format(time.RFC3339Nano), who, what, string(data))
		return errors.Join(err, setMeta(ctx, tx, "revision", m.revision+1))
	})
}

// MeddleTables puts rows into the tables, or takes them out.
func (s *Site) MeddleTables(ctx context.Context, who, what string, in, out []flow.Row) error {
	return s.meddle(ctx, who, what, func(tx *sql.Tx) (meddled, error) {
		var fresh []flow.Row // the rule's group may be there already, for another rule
		for _, r := range in {
			var body string
			err := tx.QueryRowContext(ctx, `SELECT body FROM tables WHERE owner = ? AND key = ?`, base, r.Key).Scan(&body)
			if err == nil && body == r.Body {
				continue
			}
			if err != nil && !errors.Is(err, sql.ErrNoRows) {
				return meddled{}, err
			}
			fresh = append(fresh, r)
			if _, err := tx.ExecContext(ctx, `INSERT INTO tables VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET body = excluded.body`, base, r.Key, r.Body); err != nil {
				return meddled{}, err
			}
		}
		for _, r := range out {
			if _, err := tx.ExecContext(ctx, `DELETE FROM tables WHERE owner = ? AND key = ?`, base, r.Key); err != nil {
				return meddled{}, err
			}
		}
		return meddled{In: fresh, Out: out}, nil
	})
}

// MeddleThing makes a thing, alters one, or with gone takes it away.
func (s *Site) MeddleThing(ctx context.Context, who, what string, t change.Thing, gone bool) error {
	return s.withSetups(ctx, func(runs setups) error {
		return s.meddle(ctx, who, what, func(tx *sql.Tx) (meddled, error) { return s.meddleThing(ctx, tx, t, gone, runs) })
	})
}

func (s *Site) meddleThing(ctx context.Context, tx *sql.Tx, t change.Thing, gone bool, runs setups) (meddled, error) {
	var asked string
	err := tx.QueryRowContext(ctx, `SELECT asked FROM things WHERE kind = ? AND name = ?`, t.Kind, t.Name).Scan(&asked)
	there := err == nil
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return meddled{}, err
	}
	switch {
	case gone && !there:
		return meddled{}, fmt.Errorf("the site has no %s %s", t.Kind, t.Name)
	case gone && asked == "":
		return meddled{}, s.remove(ctx, tx, t)
	case gone:
		_, err := tx.ExecContext(ctx, `UPDATE things SET spec = '', given = '{}' WHERE kind = ? AND name = ?`, t.Kind, t.Name)
		return meddled{}, errors.Join(err, forget(ctx, tx, t))
	}
	if err := s.put(ctx, tx, change.Change{Verb: change.Alter, Thing: t, Restart: true}, runs); err != nil {
		return meddled{}, err
	}
	_, err = tx.ExecContext(ctx, `UPDATE things SET asked = ? WHERE kind = ? AND name = ?`, asked, t.Kind, t.Name)
	return meddled{}, err
}

// PermitConsoles sets the site's own word on serial lines, which no estate can overrule.
func (s *Site) PermitConsoles(ctx context.Context, permitted bool, lifts string) error {
	db, err := s.open(ctx, true)
	if err != nil {
		return err
	}
	return db.Do(ctx, func(tx *sql.Tx) error {
		return setMeta(ctx, tx, "console", map[string]any{"permitted": permitted, "lifts": lifts})
	})
}
