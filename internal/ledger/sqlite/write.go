package sqlite

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"time"

	"ironbark/internal/flow"
	"ironbark/internal/journal"
	"ironbark/internal/ledger"
	"ironbark/internal/opening"
	"ironbark/internal/store"
)

// Write records a decision in one transaction.
func (l *Ledger) Write(ctx context.Context, d ledger.Decision) (r ledger.Receipt, err error) {
	db, err := l.open(ctx, true)
	if err != nil {
		return r, err
	}
	err = db.Update(ctx, func(tx *sql.Tx) error {
		w := &writer{ctx: ctx, tx: tx, d: d, simulated: l.opts.Simulated}
		r, err = w.write()
		return err
	})
	if err != nil {
		return ledger.Receipt{}, err
	}
	return r, l.opts.Wrote(ctx)
}

// writer records one decision.
type writer struct {
	ctx       context.Context
	tx        *sql.Tx
	d         ledger.Decision
	m         meta
	simulated bool
	now       time.Time
	record    record
	err       error
}

// do runs a step, if all before it went well.
func (w *writer) do(step func() error) {
	if w.err == nil {
		w.err = step()
	}
}

func (w *writer) set(key string, value any) {
	w.do(func() error { return setMeta(w.ctx, w.tx, key, value) })
}

func (w *writer) drop(key string) {
	w.do(func() error {
		_, err := w.tx.ExecContext(w.ctx, `DELETE FROM meta WHERE key = ?`, key)
		return err
	})
}

func (w *writer) write() (r ledger.Receipt, err error) {
	if w.m, err = readMeta(w.ctx, w.tx); err != nil {
		return r, err
	}
	if err := w.refused(); err != nil {
		return r, err
	}
	latest := w.m.Latest
	if w.d.AcceptClock {
		latest = time.Time{}
	}
	w.now, _ = journal.Later(w.d.At, latest)
	w.now = w.now.UTC()
	if w.m.Estate == "" {
		w.begin()
	}
	next := int64(0)
	w.do(func() (err error) {
		next, err = nextEntry(w.ctx, w.tx, w.m)
		return err
	})
	w.what(next)
	r.Revision, r.Fence, r.Estate = w.m.Revision, w.m.Fence, w.m.Estate
	if w.d.Move {
		r.Revision++
		w.set("revision", r.Revision)
	}
	if w.d.Cut {
		r.Fence++
		w.set("fence", r.Fence)
	}
	r.Head, r.At = w.m.Head, w.now
	if w.d.Action != "" {
		w.do(func() (err error) {
			r.Head, err = w.append(next)
			return err
		})
	}
	if w.now.After(latest) || w.d.AcceptClock {
		w.set("latest", w.now.Format(time.RFC3339Nano))
	}
	return r, w.err
}

// refused tells why the decision may not be recorded.
func (w *writer) refused() error {
	switch {
	case !w.d.AnyRevision && w.d.Revision != w.m.Revision:
		return ledger.ErrChanged
	case w.d.Fence >= 0 && w.d.Fence != w.m.Fence:
		return ledger.ErrCut
	case w.d.Finished && w.m.Unfinished != nil:
		return ledger.ErrUnfinished
	case !w.d.Opens:
		return nil
	}
	if _, behind := journal.Later(w.d.At, w.m.Latest); behind > 0 {
		return &ledger.ClockError{Now: w.d.At, Latest: w.m.Latest}
	}
	list, err := openBreaks(w.ctx, w.tx)
	if err == nil && len(list) > 0 {
		err = &ledger.RecordError{Breaks: list}
	}
	return err
}

// begin begins the ledger. One of before that has a journal has been under a clock already.
func (w *writer) begin() {
	id := make([]byte, 16)
	w.do(func() error {
		_, err := rand.Read(id)
		return err
	})
	w.m.Estate = hex.EncodeToString(id)
	w.set("estate", w.m.Estate)
	if w.m.clock == "" {
		kind := realClock
		if w.simulated {
			kind = simulatedClock
		}
		w.set("clock", kind)
	}
}

// what writes all that was decided but for the journal's entry, which has a number.
func (w *writer) what(entry int64) {
	d := w.d
	if d.Begin != nil {
		w.set("unfinished", d.Begin)
		w.do(func() error { return writePlanned(w.ctx, w.tx, d.Planned) })
	}
	if d.Finish {
		w.drop("unfinished")
		w.drop("planned")
	}
	if d.Seen != nil {
		w.set("seen", *d.Seen)
	}
	for _, t := range d.Put {
		w.do(func() error { return putResource(w.ctx, w.tx, t) })
		w.record.Spec = t.Spec
	}
	for _, t := range d.Drop {
		w.do(func() error {
			_, err := w.tx.ExecContext(w.ctx, `DELETE FROM resources WHERE kind = ? AND name = ?`, t.Kind, t.Name)
			return err
		})
		w.record.Spec = t.Spec
	}
	if d.Plan != nil {
		w.do(func() error { return w.plan(d.Plan.WithoutOpenings(func(int64) bool { return true }).Rows()) })
	}
	if d.Files != nil {
		w.do(w.files)
		w.do(func() error { return w.recipients(entry - 1) })
	}
	w.do(func() error { return w.openings(entry) })
	for _, id := range d.Passed {
		w.do(func() error {
			_, err := w.tx.ExecContext(w.ctx, `UPDATE openings SET intent = '' WHERE id = ?`, id)
			return err
		})
	}
	for _, id := range d.Begun {
		w.do(func() error {
			_, err := w.tx.ExecContext(w.ctx, `UPDATE openings SET begins = 0 WHERE id = ?`, id)
			return err
		})
	}
	for _, id := range d.Over {
		w.do(func() error {
			_, err := w.tx.ExecContext(w.ctx, `UPDATE openings SET over = 1 WHERE id = ? AND intent = ''`, id)
			return err
		})
	}
	for _, b := range d.Acknowledge {
		w.do(func() error {
			_, err := w.tx.ExecContext(w.ctx, `INSERT INTO breaks (seq, why, mark, found, acknowledged, person) VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET acknowledged = excluded.acknowledged, person = excluded.person`,
				b.Seq, b.Why, b.Mark, w.now.Format(time.RFC3339Nano), w.now.Format(time.RFC3339Nano), d.Person)
			return err
		})
	}
}

// openings writes openings with the number of the entry that has them.
func (w *writer) openings(entry int64) error {
	if len(w.d.Openings) == 0 {
		return nil
	}
	put, err := w.tx.PrepareContext(w.ctx, `INSERT OR REPLACE INTO openings (id, body, entry, over, intent, until, alike, begins) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`)
	if err != nil {
		return err
	}
	for _, o := range w.d.Openings {
		if err == nil {
			err = w.opening(put, o, entry)
		}
	}
	return errors.Join(err, put.Close())
}

func (w *writer) opening(put *sql.Stmt, o opening.Opening, entry int64) error {
	if o.ID == 0 || w.d.Action == "" {
		return errors.New("an opening is recorded with its number and with an entry of the journal")
	}
	stored := encode(o)
	w.record.Openings = append(w.record.Openings, stored)
	stored.ID = 0
	body, err := json.Marshal(stored)
	if err != nil {
		return err
	}
	intent := ""
	if w.d.Intended {
		if intent, err = replaced(w.ctx, w.tx, o.ID); err != nil {
			return err
		}
	}
	_, err = put.ExecContext(w.ctx, o.ID, string(body), entry, !o.Ended.IsZero(), intent, untilOf(o), alike(o), beginsOf(o, w.now))
	return err
}

// plan writes the rows that differ.
func (w *writer) plan(rows []flow.Row) error {
	d := delta{}
	want := make(map[string]string, len(rows))
	for _, r := range rows {
		want[r.Key] = r.Body
	}
	err := store.Each(w.ctx, w.tx, `SELECT key, body FROM plan`, func(scan func(...any) error) error {
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
	})
	for _, key := range d.Out {
		if err == nil {
			_, err = w.tx.ExecContext(w.ctx, `DELETE FROM plan WHERE key = ?`, key)
		}
	}
	for key, body := range want {
		if err == nil {
			_, err = w.tx.ExecContext(w.ctx, `INSERT OR REPLACE INTO plan VALUES (?, ?)`, key, body)
		}
	}
	d.In = want
	w.record.Tables = []delta{d}
	return err
}

func (w *writer) files() error {
	w.record.Files = map[string]string{}
	_, err := w.tx.ExecContext(w.ctx, `DELETE FROM files`)
	for _, f := range w.d.Files {
		w.record.Files[f.Name] = string(f.Data)
		if err == nil {
			_, err = w.tx.ExecContext(w.ctx, `INSERT INTO files VALUES (?, ?)`, f.Name, append([]byte{}, f.Data...)) // an empty file is no NULL
		}
	}
	return err
}

// append appends the entry, behind the last one as it is kept apart: an entry that is
// missing there stays missing, and one that somebody altered stays told as altered.
func (w *writer) append(next int64) (journal.Head, error) {
	last, found, err := lastEntry(w.ctx, w.tx)
	if err != nil {
		return journal.Head{}, err
	}
	head := journal.Head{Seq: next - 1, Hash: w.m.Head.Hash}
	if head.Hash == "" {
		head.Hash = last.Hash
	}
	var broken []journal.Break
	if found {
		broken = journal.Breaks(journal.Head{Seq: last.Seq - 1, Hash: last.Prev}, []journal.Entry{last}, head)
	} else if broken, _, _, err = breaks(w.ctx, w.tx, true); err != nil {
		return journal.Head{}, err
	}
	if err := noteBreaks(w.ctx, w.tx, broken, w.now); err != nil {
		return journal.Head{}, err
	}
	data, err := json.Marshal(w.record)
	if err != nil {
		return journal.Head{}, err
	}
	e := journal.Next(journal.Entry{Seq: head.Seq, Hash: head.Hash}, journal.Entry{At: w.now, Person: w.d.Person, Action: w.d.Action, Text: w.d.Text, Data: string(data)})
	_, err = w.tx.ExecContext(w.ctx, `INSERT INTO journal VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
		e.Seq, e.At.Format(time.RFC3339Nano), e.Person, e.Action, e.Text, e.Data, e.Prev, e.Hash)
	return journal.Head{Seq: e.Seq, Hash: e.Hash}, errors.Join(err, setMeta(w.ctx, w.tx, "head", e.Hash), setMeta(w.ctx, w.tx, "headSeq", e.Seq))
}
