package sqlite

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"time"

	"ironbark/internal/flow"
	"ironbark/internal/ledger"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
	"ironbark/internal/store"
)

// storedOpening is an opening as the ledger and its journal hold it. Openings of before
// have one part, whose fields stand beside the others.
type storedOpening struct {
	ID        int64              `json:"id,omitempty"`
	Person    string             `json:"person"`
	Request   string             `json:"request,omitempty"`
	Sentence  string             `json:"sentence"`
	Begin     time.Time          `json:"begin"`
	Parts     []storedPart       `json:"parts,omitempty"`
	Approvals []opening.Approval `json:"approvals,omitempty"`
	Waiting   *storedWaiting     `json:"waiting,omitempty"`
	Emergency bool               `json:"emergency,omitempty"`
	Account   opening.Account    `json:"account,omitzero"`
	Closing   bool               `json:"closing,omitempty"`
	Ended     time.Time          `json:"ended,omitzero"`
	EndedBy   string             `json:"endedBy,omitempty"`
	Why       string             `json:"why,omitempty"`

	storedPart
}

type storedWaiting struct {
	Needs   int       `json:"needs"`
	From    []string  `json:"from"`
	Seconds int64     `json:"seconds,omitempty"`
	Until   time.Time `json:"until,omitzero"`
}

type storedPart struct {
	Machines []string  `json:"machines,omitempty"`
	Services []string  `json:"services,omitempty"`
	From     []string  `json:"from,omitempty"`
	End      time.Time `json:"end,omitzero"`
	Permit   string    `json:"permit,omitempty"`
}

func encode(o opening.Opening) storedOpening {
	w := storedOpening{
		ID: o.ID, Person: o.Person, Request: o.Request, Sentence: o.Words.String(), Begin: o.Begin.UTC(), Approvals: o.Approvals,
		Emergency: o.Emergency, Account: o.Account, Closing: o.Closing, Ended: o.Ended, EndedBy: o.EndedBy, Why: o.Why,
	}
	if o.Waits() {
		w.Waiting = &storedWaiting{o.Waiting.Needs, o.Waiting.From, int64(o.Waiting.Length / time.Second), o.Waiting.Until}
	}
	for _, p := range o.Parts {
		w.Parts = append(w.Parts, storedPart{p.Machines, flow.ServiceRuns(p.Services), flow.AddrRuns(p.From), p.End.UTC(), p.Permit})
	}
	return w
}

func (w storedOpening) decode(id int64) (opening.Opening, error) {
	fail := func(err error) (opening.Opening, error) {
		return opening.Opening{}, fmt.Errorf("opening %d: %w", id, err)
	}
	s, err := sentence.ParseArgs([]string{w.Sentence}, time.Time{})
	if err != nil {
		return fail(err)
	}
	words, ok := s.(sentence.Open)
	if !ok {
		return fail(fmt.Errorf("%q is no opening", w.Sentence))
	}
	o := opening.Opening{
		ID: id, Person: w.Person, Request: w.Request, Words: words, Begin: w.Begin, Approvals: w.Approvals, Emergency: w.Emergency,
		Account: w.Account, Closing: w.Closing, Ended: w.Ended, EndedBy: w.EndedBy, Why: w.Why,
	}
	if w.Waiting != nil {
		o.Waiting = opening.Waiting{Needs: w.Waiting.Needs, From: w.Waiting.From, Length: time.Duration(w.Waiting.Seconds) * time.Second, Until: w.Waiting.Until}
	}
	parts := w.Parts
	if parts == nil {
		parts = []storedPart{w.storedPart}
	}
	for _, p := range parts {
		from, err := flow.ParseAddrRuns(p.From)
		if err != nil {
			return fail(err)
		}
		services, err := flow.ParseServiceRuns(p.Services)
		if err != nil {
			return fail(err)
		}
		o.Parts = append(o.Parts, opening.Part{Machines: p.Machines, Services: services, From: from, End: p.End, Permit: p.Permit})
	}
	return o, nil
}

func decode(id int64, text string) (opening.Opening, error) {
	var w storedOpening
	if err := json.Unmarshal([]byte(text), &w); err != nil {
		return opening.Opening{}, fmt.Errorf("opening %d: %w", id, err)
	}
	return w.decode(id)
}

// noIntent marks an opening that is intended and replaces none.
const noIntent = "null"

// readHeld reads the openings that are not known to be over, which of them are intended
// alone, and which are not as the journal has them.
func readHeld(ctx context.Context, tx *sql.Tx, st *ledger.State) error {
	st.Intended, st.Altered = map[int64]ledger.Intent{}, map[int64]string{}
	query := `SELECT o.id, o.body, o.intent, o.entry, coalesce(j.data, '') FROM openings o LEFT JOIN journal j ON j.seq = o.entry WHERE o.over = 0 ORDER BY o.id`
	return store.Each(ctx, tx, query, func(scan func(...any) error) error {
		var id, entry int64
		var body, intent, data string
		if err := scan(&id, &body, &intent, &entry, &data); err != nil {
			return err
		}
		o, err := decode(id, body)
		if err != nil {
			return err
		}
		st.Openings = append(st.Openings, o)
		if intent != "" {
			i := ledger.Intent{}
			if intent != noIntent {
				before, err := decode(id, intent)
				if err != nil {
					return err
				}
				i.Before = &before
			}
			st.Intended[id] = i
		}
		if why := altered(o, entry, data); why != "" {
			st.Altered[id] = why
		}
		return nil
	})
}

// altered tells in what an opening is not as an entry of the journal has it. Openings of
// before have no entry.
func altered(o opening.Opening, entry int64, data string) string {
	if entry == 0 {
		return ""
	}
	var r record
	if json.Unmarshal([]byte(data), &r) != nil {
		return "the journal has no entry of it"
	}
	for _, w := range r.openings() {
		was, err := w.decode(w.ID)
		if err != nil || w.ID != o.ID {
			continue
		}
		if !was.End().Equal(o.End()) {
			return "it was recorded to end at " + utc(was.End()) + ", and its end was altered to " + utc(o.End())
		}
		return ""
	}
	return "the journal has no entry of it"
}

func utc(t time.Time) string { return t.UTC().Format(time.RFC3339) }

// Openings lists all openings there ever were, by number.
func (l *Ledger) Openings(ctx context.Context) (list []opening.Opening, err error) {
	err = l.read(ctx, func(tx *sql.Tx) error {
		return store.Each(ctx, tx, `SELECT id, body FROM openings ORDER BY id`, func(scan func(...any) error) error {
			var id int64
			var body string
			if err := scan(&id, &body); err != nil {
				return err
			}
			o, err := decode(id, body)
			list = append(list, o)
			return err
		})
	})
	return list, err
}

// NextOpening returns the number of the next opening.
func (l *Ledger) NextOpening(ctx context.Context) (id int64, err error) {
	id = 1
	err = l.read(ctx, func(tx *sql.Tx) error {
		return tx.QueryRowContext(ctx, `SELECT coalesce(max(id), 0) + 1 FROM openings`).Scan(&id)
	})
	return id, err
}

// putOpening writes an opening that an entry of the journal has, or without one that
// was recorded before.
func putOpening(ctx context.Context, tx *sql.Tx, o opening.Opening, entry int64, intended bool) error {
	w := encode(o)
	w.ID = 0
	body, err := json.Marshal(w)
	if err != nil {
		return err
	}
	intent := ""
	if intended {
		if intent, err = replaced(ctx, tx, o.ID); err != nil {
			return err
		}
	}
	_, err = tx.ExecContext(ctx, `INSERT INTO openings (id, body, entry, over, intent) VALUES (?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET body = excluded.body, entry = excluded.entry, over = excluded.over, intent = excluded.intent`,
		o.ID, string(body), entry, !o.Ended.IsZero(), intent)
	return err
}

// replaced returns the opening that is in a place now; of one that is intended itself,
// that which it was to replace.
func replaced(ctx context.Context, tx *sql.Tx, id int64) (string, error) {
	var body, intent string
	err := tx.QueryRowContext(ctx, `SELECT body, intent FROM openings WHERE id = ? AND over = 0`, id).Scan(&body, &intent)
	switch {
	case err == sql.ErrNoRows:
		return noIntent, nil
	case err == nil && intent != "":
		return intent, nil
	}
	return body, err
}

// prune marks what ended by itself as over. That is told by nobody, and only keeps what
// is read small.
func prune(ctx context.Context, tx *sql.Tx, now time.Time) error {
	var over []int64
	err := store.Each(ctx, tx, `SELECT id, body FROM openings WHERE over = 0 AND intent = ''`, func(scan func(...any) error) error {
		var id int64
		var body string
		if err := scan(&id, &body); err != nil {
			return err
		}
		o, err := decode(id, body)
		if err == nil && !now.Before(o.End()) {
			over = append(over, id)
		}
		return err
	})
	for _, id := range over {
		if err == nil {
			_, err = tx.ExecContext(ctx, `UPDATE openings SET over = 1 WHERE id = ?`, id)
		}
	}
	return err
}
