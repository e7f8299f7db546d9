package sim

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"ironbark/internal/flow"
	"ironbark/internal/journal"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
	"ironbark/internal/site"
)

// base owns the tables that enactments install; an opening owns its own by its number.
const base = int64(0)

// note is what a step puts into the journal.
type note struct {
	person, action, text string
	data                 record
}

// step does one thing whole: what f writes, its entry in the journal, and then
// the faults that the site was told to play.
func (s *Site) step(ctx context.Context, f func(ctx context.Context, tx *sql.Tx) (note, error)) error {
	db, err := s.open(ctx, true)
	if err != nil {
		return err
	}
	if err := s.failing(); err != nil {
		return err
	}
	err = db.Do(ctx, func(tx *sql.Tx) error {
		n, err := f(ctx, tx)
		if err != nil {
			return err
		}
		return s.record(ctx, tx, n)
	})
	if err != nil {
		return err
	}
	return s.play(ctx)
}

// record appends an entry, behind the last one as it is kept apart: an entry that is
// missing there stays missing, and one that somebody altered stays told as altered.
func (s *Site) record(ctx context.Context, tx *sql.Tx, n note) error {
	m, err := readMeta(ctx, tx)
	if err != nil {
		return err
	}
	next, err := nextEntry(ctx, tx, m)
	if err != nil {
		return err
	}
	var last journal.Entry
	row := tx.QueryRowContext(ctx, `SELECT seq, at, person, action, text, data, prev, hash FROM journal ORDER BY seq DESC LIMIT 1`)
	var at string
	if err := row.Scan(&last.Seq, &at, &last.Person, &last.Action, &last.Text, &last.Data, &last.Prev, &last.Hash); err != nil && err != sql.ErrNoRows {
		return err
	}
	head := journal.Head{Seq: next - 1, Hash: cmp.Or(m.head, last.Hash)}
	if last.Seq > 0 {
		last.At, _ = time.Parse(time.RFC3339Nano, at)
		if found := journal.Breaks(journal.Head{Seq: last.Seq - 1, Hash: last.Prev}, []journal.Entry{last}, head); len(found) > 0 {
			if err := s.noteBreaks(ctx, tx, found); err != nil {
				return err
			}
		}
	} else {
		found, _, err := breaks(ctx, tx, true)
		if err == nil {
			err = s.noteBreaks(ctx, tx, found)
		}
		if err != nil {
			return err
		}
	}
	data, err := json.Marshal(n.data)
	if err != nil {
		return err
	}
	now, _ := m.times(s.clock.Now())
	e := journal.Next(journal.Entry{Seq: head.Seq, Hash: head.Hash}, journal.Entry{At: now, Person: n.person, Action: n.action, Text: n.text, Data: string(data)})
	_, err = tx.ExecContext(ctx, `INSERT INTO journal VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
		e.Seq, e.At.Format(time.RFC3339Nano), e.Person, e.Action, e.Text, e.Data, e.Prev, e.Hash)
	if err == nil && m.clock == "" {
		kind := realClock
		if s.plays() && m.revision <= 1 {
			kind = simulatedClock
		}
		err = setMeta(ctx, tx, "clock", kind)
	}
	return errors.Join(err, setMeta(ctx, tx, "head", e.Hash), setMeta(ctx, tx, "headSeq", e.Seq), setMeta(ctx, tx, "latest", e.At.Format(time.RFC3339Nano)))
}

// nextEntry is the number of the next entry: no number is given twice.
func nextEntry(ctx context.Context, tx *sql.Tx, m meta) (next int64, err error) {
	err = tx.QueryRowContext(ctx, `SELECT coalesce(max(seq), 0) + 1 FROM journal`).Scan(&next)
	return max(next, m.headSeq+1), err
}

// Journal returns the record and the hash of its last entry as it is kept apart.
func (s *Site) Journal(ctx context.Context) (entries []journal.Entry, head string, err error) {
	db, err := s.open(ctx, false)
	if err != nil {
		return nil, "", absentIsEmpty(err)
	}
	err = db.Do(ctx, func(tx *sql.Tx) error {
		m, err := readMeta(ctx, tx)
		if err != nil {
			return err
		}
		head = m.head
		entries, err = entriesFrom(ctx, tx, 0)
		return err
	})
	return entries, head, err
}

// delta is how an owner's tables changed: what the journal keeps, so that the
// tables of any moment can be put together again from it.
type delta struct {
	Owner int64             `json:"owner"`
	Out   []string          `json:"out,omitempty"` // keys
	In    map[string]string `json:"in,omitempty"`  // bodies by key; they replace rows of the same key
}

// record is what an entry of the journal holds besides its words.
type record struct {
	Tables  []delta           `json:"tables,omitempty"`
	Files   map[string]string `json:"files,omitempty"`   // as enacted
	Opening *storedOpening    `json:"opening,omitempty"` // as it is from now on
	ID      int64             `json:"id,omitempty"`      // of the opening
	Ended   []int64           `json:"ended,omitempty"`
	Spec    any               `json:"spec,omitempty"`
}

// install puts an owner's tables in place of the ones it had. Only rows that
// differ are written.
func install(ctx context.Context, tx *sql.Tx, owner int64, rows []flow.Row) (d delta, err error) {
	d.Owner = owner
	want := make(map[string]string, len(rows))
	for _, r := range rows {
		want[r.Key] = r.Body
	}
	err = each(ctx, tx, `SELECT key, body FROM tables WHERE owner = ?`, func(scan func(...any) error) error {
		var key, body string
		if err := scan(&key, &body); err != nil {
			return err
		}
		if keep, ok := want[key]; ok && keep == body {
			delete(want, key)
		} else if !ok {
			d.Out = append(d.Out, key)
		}
		return nil
	}, owner)
	if err != nil {
		return d, err
	}
	for _, key := range d.Out {
		if _, err := tx.ExecContext(ctx, `DELETE FROM tables WHERE owner = ? AND key = ?`, owner, key); err != nil {
			return d, err
		}
	}
	for key, body := range want {
		if _, err := tx.ExecContext(ctx, `INSERT INTO tables VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET body = excluded.body`, owner, key, body); err != nil {
			return d, err
		}
	}
	d.In = want
	return d, nil
}

// storedOpening is an opening as the store holds it.
type storedOpening struct {
	Person   string    `json:"person"`
	Sentence string    `json:"sentence"`
	Begin    time.Time `json:"begin"`
	End      time.Time `json:"end"`
	Machines []string  `json:"machines"`
	From     []string  `json:"from"`
	Services []string  `json:"services"`
	Permit   string    `json:"permit"`
	Ended    time.Time `json:"ended,omitzero"`
	EndedBy  string    `json:"endedBy,omitempty"`
	Why      string    `json:"why,omitempty"`
}

func freeze(o opening.Opening) storedOpening {
	return storedOpening{
		Person: o.Person, Sentence: o.Words.String(), Begin: o.Begin.UTC(), End: o.End.UTC(), Machines: o.Machines, From: flow.AddrRuns(o.From),
		Services: flow.ServiceRuns(o.Services), Permit: o.Permit, Ended: o.Ended, EndedBy: o.EndedBy, Why: o.Why,
	}
}

// opened is the record of an opening that begins or changes.
func opened(o opening.Opening, d delta) record {
	w := freeze(o)
	return record{Tables: []delta{d}, Opening: &w, ID: o.ID}
}

func thaw(id int64, text string) (opening.Opening, error) {
	var w storedOpening
	if err := json.Unmarshal([]byte(text), &w); err != nil {
		return opening.Opening{}, err
	}
	return w.read(id)
}

// read returns the opening that is held.
func (w storedOpening) read(id int64) (opening.Opening, error) {
	from, err := flow.ParseAddrRuns(w.From)
	if err != nil {
		return opening.Opening{}, err
	}
	services, err := flow.ParseServiceRuns(w.Services)
	if err != nil {
		return opening.Opening{}, err
	}
	s, err := sentence.ParseArgs([]string{w.Sentence}, time.Time{})
	if err != nil {
		return opening.Opening{}, err
	}
	words, ok := s.(sentence.Open)
	if !ok {
		return opening.Opening{}, fmt.Errorf("opening %d: %q is no opening", id, w.Sentence)
	}
	return opening.Opening{
		ID: id, Person: w.Person, Words: words, Begin: w.Begin, End: w.End, Machines: w.Machines, From: from, Services: services,
		Permit: w.Permit, Ended: w.Ended, EndedBy: w.EndedBy, Why: w.Why,
	}, nil
}

// there and everything are which openings are read: those that may not be over yet, or all.
const (
	there      = `SELECT id, body FROM openings WHERE over = 0 ORDER BY id`
	everything = `SELECT id, body FROM openings ORDER BY id`
)

func readOpenings(ctx context.Context, tx *sql.Tx, query string) (list []opening.Opening, err error) {
	err = each(ctx, tx, query, func(scan func(...any) error) error {
		var id int64
		var body string
		if err := scan(&id, &body); err != nil {
			return err
		}
		o, err := thaw(id, body)
		list = append(list, o)
		return err
	})
	return list, err
}

func putOpening(ctx context.Context, tx *sql.Tx, o opening.Opening) error {
	body, err := json.Marshal(freeze(o))
	if err != nil {
		return err
	}
	m, err := readMeta(ctx, tx)
	if err != nil {
		return err
	}
	entry, err := nextEntry(ctx, tx, m)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `INSERT INTO openings (id, body, entry, over) VALUES (?, ?, ?, ?) ON CONFLICT DO UPDATE SET body = excluded.body, entry = excluded.entry, over = excluded.over`,
		o.ID, string(body), entry, !o.Ended.IsZero())
	return err
}

// Openings lists all openings there ever were, by number.
func (s *Site) Openings(ctx context.Context) (list []opening.Opening, err error) {
	db, err := s.open(ctx, false)
	if err != nil {
		return nil, absentIsEmpty(err)
	}
	err = db.Read(ctx, func(tx *sql.Tx) error {
		list, err = readOpenings(ctx, tx, everything)
		return err
	})
	return list, err
}

// prune takes what ended by itself out of the tables. That is told by nobody, and only
// keeps them small.
func prune(ctx context.Context, tx *sql.Tx, now time.Time) error {
	list, err := readOpenings(ctx, tx, there)
	if err != nil {
		return err
	}
	for _, o := range list {
		if now.Before(o.End) {
			continue
		}
		_, err1 := tx.ExecContext(ctx, `UPDATE openings SET over = 1 WHERE id = ?`, o.ID)
		_, err2 := tx.ExecContext(ctx, `DELETE FROM tables WHERE owner = ?`, o.ID)
		if err := errors.Join(err1, err2); err != nil {
			return err
		}
	}
	return nil
}

// Open installs an opening.
func (s *Site) Open(ctx context.Context, revision int64, o opening.Opening, rows func(opening.Opening) []flow.Row) (opening.Opening, error) {
	action := "extend"
	err := s.step(ctx, func(ctx context.Context, tx *sql.Tx) (note, error) {
		m, err := readMeta(ctx, tx)
		switch {
		case err != nil:
			return note{}, err
		case m.unfinished != nil:
			return note{}, site.ErrUnfinished
		case m.revision != revision:
			return note{}, site.ErrChanged
		}
		if err := s.mayOpen(ctx, tx, m); err != nil {
			return note{}, err
		}
		if err := prune(ctx, tx, s.clock.Now()); err != nil {
			return note{}, err
		}
		if o.ID == 0 {
			action = "open"
			if err := tx.QueryRowContext(ctx, `SELECT coalesce(max(id), 0) + 1 FROM openings`).Scan(&o.ID); err != nil {
				return note{}, err
			}
		}
		if err := putOpening(ctx, tx, o); err != nil {
			return note{}, err
		}
		d, err := install(ctx, tx, o.ID, rows(o))
		if err != nil {
			return note{}, err
		}
		if err := setMeta(ctx, tx, "revision", m.revision+1); err != nil {
			return note{}, err
		}
		return note{o.Person, action, fmt.Sprintf("opening %d: %s", o.ID, o.Words), opened(o, d)}, nil
	})
	return o, err
}

// End ends openings before their time.
func (s *Site) End(ctx context.Context, person, why string, ids ...int64) error {
	return s.closing(ctx, func(ctx context.Context, tx *sql.Tx) (note, error) {
		return s.end(ctx, tx, person, why, ids)
	})
}

func (s *Site) end(ctx context.Context, tx *sql.Tx, person, why string, ids []int64) (note, error) {
	all, err := readOpenings(ctx, tx, there)
	if err != nil {
		return note{}, err
	}
	m, err := readMeta(ctx, tx)
	if err != nil {
		return note{}, err
	}
	now, behind := m.times(s.clock.Now())
	var told []string
	var r record
	for _, o := range all {
		for _, id := range ids {
			if o.ID != id || !o.Active(now.Add(-behind)) {
				continue
			}
			o.Ended, o.EndedBy, o.Why = now.UTC(), person, why
			if err := putOpening(ctx, tx, o); err != nil {
				return note{}, err
			}
			d, err := install(ctx, tx, id, nil)
			if err != nil {
				return note{}, err
			}
			r.Tables, r.Ended = append(r.Tables, d), append(r.Ended, id)
			told = append(told, fmt.Sprintf("opening %d: %s", id, o.Words))
		}
	}
	if why != "" {
		told = append(told, why)
	}
	return note{person, "close", "closed " + strings.Join(told, "; "), r}, setMeta(ctx, tx, "revision", m.revision+1)
}
