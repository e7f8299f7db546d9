package sqlite

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"ironbark/internal/estate"
	"ironbark/internal/journal"
	"ironbark/internal/ledger"
	"ironbark/internal/store"
)

// record is what an entry of the journal holds besides its words. Entries of before
// have one opening, its number beside it, and the tables of openings by their numbers.
type record struct {
	Tables   []delta           `json:"tables,omitempty"`
	Files    map[string]string `json:"files,omitempty"`    // as enacted
	Openings []storedOpening   `json:"openings,omitempty"` // as they are from now on
	Opening  *storedOpening    `json:"opening,omitempty"`
	ID       int64             `json:"id,omitempty"`
	Ended    []int64           `json:"ended,omitempty"`
	Spec     any               `json:"spec,omitempty"`
}

// delta is how an owner's rows changed: what the journal keeps, so that the plan of any
// moment can be put together again from it. Owner 0 is the plan.
type delta struct {
	Owner int64             `json:"owner"`
	Out   []string          `json:"out,omitempty"` // keys
	In    map[string]string `json:"in,omitempty"`  // bodies by key; they replace rows of the same key
}

// openings returns the openings of a record, those of before too.
func (r record) openings() []storedOpening {
	if r.Opening == nil {
		return r.Openings
	}
	one := *r.Opening
	one.ID = r.ID
	return append([]storedOpening{one}, r.Openings...)
}

// lastEntry reads the last entry, if there is one.
func lastEntry(ctx context.Context, tx *sql.Tx) (last journal.Entry, found bool, err error) {
	list, err := readEntries(ctx, tx, `SELECT `+entryColumns+` FROM journal ORDER BY seq DESC LIMIT 1`)
	if len(list) == 0 {
		return last, false, err
	}
	return list[0], true, err
}

// nextEntry is the number of the next entry: no number is given twice.
func nextEntry(ctx context.Context, tx *sql.Tx, m meta) (next int64, err error) {
	err = tx.QueryRowContext(ctx, `SELECT coalesce(max(seq), 0) + 1 FROM journal`).Scan(&next)
	return max(next, m.Head.Seq+1), err
}

const entryColumns = `seq, at, person, action, text, data, prev, hash`

func readEntries(ctx context.Context, tx *sql.Tx, query string, args ...any) (entries []journal.Entry, err error) {
	err = store.Each(ctx, tx, query, func(scan func(...any) error) error {
		e, err := scanEntry(scan)
		entries = append(entries, e)
		return err
	}, args...)
	return entries, err
}

// scanEntry reads one row of [entryColumns].
func scanEntry(scan func(...any) error) (e journal.Entry, err error) {
	var at string
	err = scan(&e.Seq, &at, &e.Person, &e.Action, &e.Text, &e.Data, &e.Prev, &e.Hash)
	e.At, _ = time.Parse(time.RFC3339Nano, at) // one that does not read has another hash
	return e, err
}

// Tail returns the last entries.
func (l *Ledger) Tail(ctx context.Context, n int) (entries []journal.Entry, err error) {
	err = l.read(ctx, func(tx *sql.Tx) error {
		entries, err = readEntries(ctx, tx, `SELECT `+entryColumns+` FROM journal ORDER BY seq DESC LIMIT ?`, n)
		return err
	})
	slices.Reverse(entries)
	return entries, err
}

// Journal returns entries after a number.
func (l *Ledger) Journal(ctx context.Context, after int64, limit int) (entries []journal.Entry, err error) {
	err = l.read(ctx, func(tx *sql.Tx) (err error) {
		entries, err = readEntries(ctx, tx, `SELECT `+entryColumns+` FROM journal WHERE seq > ? ORDER BY seq LIMIT ?`, after, limit)
		return err
	})
	return entries, err
}

// Entries returns entries after a number, with what each changed.
func (l *Ledger) Entries(ctx context.Context, after int64, limit int) (list []ledger.Entry, err error) {
	entries, err := l.Journal(ctx, after, limit)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		one, err := decodeEntry(e)
		if err != nil {
			return nil, fmt.Errorf("entry %d of the journal cannot be read: %w", e.Seq, err)
		}
		list = append(list, one)
	}
	return list, nil
}

// decodeEntry tells what an entry changed. Of one that ended openings of before, only
// the numbers are known.
func decodeEntry(e journal.Entry) (ledger.Entry, error) {
	out := ledger.Entry{Entry: e}
	var r record
	if err := json.Unmarshal([]byte(e.Data), &r); err != nil {
		return out, err
	}
	for _, d := range r.Tables {
		if d.Owner == 0 {
			out.Plan = &ledger.PlanDelta{Out: d.Out, In: d.In}
		}
	}
	if r.Files != nil {
		out.Files = []estate.File{}
		for name, text := range r.Files {
			out.Files = append(out.Files, estate.File{Name: name, Data: []byte(text)})
		}
		slices.SortFunc(out.Files, func(a, b estate.File) int { return cmp.Compare(a.Name, b.Name) })
	}
	for _, w := range r.openings() {
		o, err := w.decode(w.ID)
		if err != nil {
			return out, err
		}
		out.Openings = append(out.Openings, o)
	}
	out.Ended = r.Ended
	return out, nil
}
