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
	"ironbark/internal/journal"
)

// This file plays somebody who changes the site and does not use Ironbark. The site
// keeps a record of its own of that, as sites do, and the journal has nothing of it.

// outOfBand is what the site's own record holds of one change.
type outOfBand struct {
	After journal.Head `json:"after"` // that was kept at that moment
	In    []flow.Row   `json:"in,omitempty"`
	Out   []flow.Row   `json:"out,omitempty"`
}

// outOfBand does one thing behind Ironbark's back.
func (s *Site) outOfBand(ctx context.Context, who, what string, do func(tx *sql.Tx) (outOfBand, error)) error {
	return s.change(ctx, func(tx *sql.Tx, m *meta) error {
		how, err := do(tx)
		if err != nil {
			return err
		}
		m.Mark++
		how.After = m.Identity.Head
		data, err := json.Marshal(how)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `INSERT INTO outside (at, who, what, data) VALUES (?, ?, ?, ?)`, s.clock.Now().UTC().Format(time.RFC3339Nano), who, what, string(data))
		return err
	})
}

// ChangeTablesOutOfBand puts rows into the tables, or takes them out.
func (s *Site) ChangeTablesOutOfBand(ctx context.Context, who, what string, in, out []flow.Row) error {
	return s.outOfBand(ctx, who, what, func(tx *sql.Tx) (outOfBand, error) {
		var fresh []flow.Row // the rule's group may be there already, for another rule
		for _, r := range in {
			var body string
			err := tx.QueryRowContext(ctx, `SELECT body FROM tables WHERE owner = ? AND key = ?`, base, r.Key).Scan(&body)
			if err == nil && body == r.Body {
				continue
			}
			if err != nil && !errors.Is(err, sql.ErrNoRows) {
				return outOfBand{}, err
			}
			fresh = append(fresh, r)
			if _, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO tables VALUES (?, ?, ?)`, base, r.Key, r.Body); err != nil {
				return outOfBand{}, err
			}
		}
		for _, r := range out {
			if _, err := tx.ExecContext(ctx, `DELETE FROM tables WHERE owner = ? AND key = ?`, base, r.Key); err != nil {
				return outOfBand{}, err
			}
		}
		return outOfBand{In: fresh, Out: out}, nil
	})
}

// ChangeResourceOutOfBand makes a resource, alters one, or with gone takes it away.
func (s *Site) ChangeResourceOutOfBand(ctx context.Context, who, what string, t change.Resource, gone bool) error {
	return s.withSetups(ctx, func(runs setups) error {
		return s.outOfBand(ctx, who, what, func(tx *sql.Tx) (outOfBand, error) {
			if !gone {
				_, err := s.put(ctx, tx, change.Change{Verb: change.Alter, Resource: t, Restart: true}, runs)
				return outOfBand{}, err
			}
			removed, err := s.remove(ctx, tx, t)
			if err == nil && !removed {
				err = fmt.Errorf("the site has no %s %s", t.Kind, t.Name)
			}
			return outOfBand{}, err
		})
	})
}
