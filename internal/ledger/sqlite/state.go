package sqlite

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/journal"
	"ironbark/internal/ledger"
	"ironbark/internal/store"
)

// meta is what the ledger keeps in its table of keys.
type meta struct {
	ledger.State
	checked journal.Head // up to here the record was found whole
	clock   string       // the kind of clock that the ledger was begun under
}

func readMeta(ctx context.Context, tx *sql.Tx) (m meta, err error) {
	number := func(value string, into *int64) error {
		_, err := fmt.Sscan(value, into)
		return err
	}
	err = store.Each(ctx, tx, `SELECT key, value FROM meta WHERE key <> 'planned'`, func(scan func(...any) error) (err error) {
		var key, value string
		if err := scan(&key, &value); err != nil {
			return err
		}
		switch key { // what is planned is read when it is needed
		case "estate":
			m.Estate = value
		case "revision":
			return number(value, &m.Revision)
		case "fence":
			return number(value, &m.Fence)
		case "seen":
			return number(value, &m.Seen)
		case "head":
			m.Head.Hash = value
		case "headSeq":
			return number(value, &m.Head.Seq)
		case "checked":
			return json.Unmarshal([]byte(value), &m.checked)
		case "latest":
			m.Latest, err = time.Parse(time.RFC3339Nano, value)
		case "clock":
			m.clock = value
		case "unfinished":
			return json.Unmarshal([]byte(value), &m.Unfinished)
		}
		return err
	})
	return m, err
}

func setMeta(ctx context.Context, tx *sql.Tx, key string, value any) error {
	text, ok := value.(string)
	if !ok {
		data, err := json.Marshal(value)
		if err != nil {
			return err
		}
		text = string(data)
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO meta VALUES (?, ?) ON CONFLICT DO UPDATE SET value = excluded.value`, key, text)
	return err
}

// Latest returns the latest moment that was recorded.
func (l *Ledger) Latest(ctx context.Context) (time.Time, error) {
	m, err := l.meta(ctx)
	return m.Latest, err
}

// Head returns which estate the ledger is of and the last entry of its journal.
func (l *Ledger) Head(ctx context.Context) (estate string, head journal.Head, err error) {
	err = l.read(ctx, func(tx *sql.Tx) error {
		m, err := readMeta(ctx, tx)
		if err != nil {
			return err
		}
		estate = m.Estate
		head, err = headOf(ctx, tx, m)
		return err
	})
	return estate, head, err
}

// Fence tells how often somebody cut the plan down.
func (l *Ledger) Fence(ctx context.Context) (int64, error) {
	m, err := l.meta(ctx)
	return m.Fence, err
}

func (l *Ledger) meta(ctx context.Context) (m meta, err error) {
	err = l.read(ctx, func(tx *sql.Tx) (err error) {
		m, err = readMeta(ctx, tx)
		return err
	})
	return m, err
}

// State returns what stands now. Of a ledger that was not begun that is nothing.
func (l *Ledger) State(ctx context.Context, scope ledger.Scope) (*ledger.State, error) {
	st := &ledger.State{}
	err := l.read(ctx, func(tx *sql.Tx) error { return readState(ctx, tx, scope, st) })
	if err != nil {
		return nil, err
	}
	return st, nil
}

func readState(ctx context.Context, tx *sql.Tx, scope ledger.Scope, st *ledger.State) error {
	m, err := readMeta(ctx, tx)
	if err != nil {
		return err
	}
	*st = m.State
	if st.Head, err = headOf(ctx, tx, m); err != nil {
		return err
	}
	if scope.Resources {
		if st.Resources, err = readResources(ctx, tx); err != nil {
			return err
		}
	}
	if scope.Resources && st.Unfinished != nil {
		if st.Planned, err = readPlanned(ctx, tx); err != nil {
			return err
		}
	}
	if err := readHeld(ctx, tx, scope.Openings, st); err != nil {
		return err
	}
	if st.Breaks, err = openBreaks(ctx, tx); err != nil {
		return err
	}
	if !scope.Files {
		return nil
	}
	return store.Each(ctx, tx, `SELECT name, data FROM files ORDER BY name`, func(scan func(...any) error) error {
		var f estate.File
		if err := scan(&f.Name, &f.Data); err != nil {
			return err
		}
		st.Files = append(st.Files, f)
		return nil
	})
}

// Plan returns the rows of the plan that was last installed.
func (l *Ledger) Plan(ctx context.Context) (rows []flow.Row, err error) {
	err = l.read(ctx, func(tx *sql.Tx) error {
		return store.Each(ctx, tx, `SELECT key, body FROM plan ORDER BY key`, func(scan func(...any) error) error {
			var r flow.Row
			err := scan(&r.Key, &r.Body)
			rows = append(rows, r)
			return err
		})
	})
	return rows, err
}

func readResources(ctx context.Context, tx *sql.Tx) ([]change.Resource, error) {
	many, err := store.Count(ctx, tx, `resources`)
	if err != nil {
		return nil, err
	}
	list := make([]change.Resource, 0, many)
	err = store.Each(ctx, tx, `SELECT kind, name, body FROM resources ORDER BY kind, name`, func(scan func(...any) error) error {
		var kind, name, body string
		if err := scan(&kind, &name, &body); err != nil {
			return err
		}
		t, err := change.DecodeResource(kind, name, body)
		list = append(list, t)
		return err
	})
	return list, err
}

func putResource(ctx context.Context, tx *sql.Tx, t change.Resource) error {
	_, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO resources VALUES (?, ?, ?)`, t.Kind, t.Name, t.Encode())
	return err
}

// storedChange is a change that was planned, as the ledger holds it.
type storedChange struct {
	Verb change.Verb `json:"verb"`
	Kind change.Kind `json:"kind"`
	Name string      `json:"name"`
	Spec change.Spec `json:"spec"`
}

func writePlanned(ctx context.Context, tx *sql.Tx, list []change.Change) error {
	out := make([]storedChange, 0, len(list))
	for _, c := range list {
		out = append(out, storedChange{c.Verb, c.Resource.Kind, c.Resource.Name, c.Resource.Spec})
	}
	return setMeta(ctx, tx, "planned", out)
}

func readPlanned(ctx context.Context, tx *sql.Tx) (list []change.Change, err error) {
	err = store.Each(ctx, tx, `SELECT value FROM meta WHERE key = 'planned'`, func(scan func(...any) error) error {
		var text string
		if err := scan(&text); err != nil {
			return err
		}
		var stored []storedChange
		if err := json.Unmarshal([]byte(text), &stored); err != nil {
			return err
		}
		for _, c := range stored {
			list = append(list, change.Change{Verb: c.Verb, Resource: change.Resource{Kind: c.Kind, Name: c.Name, Spec: c.Spec}})
		}
		return nil
	})
	return list, err
}
