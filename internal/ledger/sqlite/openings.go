package sqlite

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"ironbark/internal/flow"
	"ironbark/internal/ledger"
	"ironbark/internal/opening"
	"ironbark/internal/parallel"
	"ironbark/internal/quickjson"
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
	w, ok := quickly(text)
	if !ok {
		w = storedOpening{}
		if err := json.Unmarshal([]byte(text), &w); err != nil {
			return opening.Opening{}, fmt.Errorf("opening %d: %w", id, err)
		}
	}
	return w.decode(id)
}

// quickly reads an opening that has nothing but what each has. It reports false for others.
func quickly(text string) (w storedOpening, ok bool) {
	r := quickjson.Of(text)
	r.Must(`{"person":"`)
	w.Person = r.String()
	if r.May(`,"request":"`) {
		w.Request = r.String()
	}
	r.Must(`,"sentence":"`)
	w.Sentence = r.String()
	r.Must(`,"begin":"`)
	w.Begin = r.Moment()
	r.Must(`,"parts":[`)
	for next := true; next && r.OK(); next = r.May(",") {
		var p storedPart
		r.Must(`{"machines":`)
		p.Machines = r.Strings()
		r.Must(`,"services":`)
		p.Services = r.Strings()
		r.Must(`,"from":`)
		p.From = r.Strings()
		r.Must(`,"end":"`)
		p.End = r.Moment()
		r.Must(`,"permit":"`)
		p.Permit = r.String()
		r.Must("}")
		w.Parts = append(w.Parts, p)
	}
	r.Must("]}")
	return w, r.Done()
}

// noIntent marks an opening that is intended and replaces none.
const noIntent = "null"

// scanOpening reads an opening whose number and body were selected.
func scanOpening(scan func(...any) error) (opening.Opening, error) {
	var id int64
	var body string
	if err := scan(&id, &body); err != nil {
		return opening.Opening{}, err
	}
	return decode(id, body)
}

// untilOf is the end of an opening as an index has it: rounded up, so that nothing is taken
// for over that is not.
func untilOf(o opening.Opening) int64 {
	return o.End().Add(time.Millisecond - 1).UnixMilli()
}

// beginsOf is the beginning of an opening that lies ahead of a moment, as an index has it; 0 of
// others.
func beginsOf(o opening.Opening, now time.Time) int64 {
	if o.Waits() || o.Words.Starting.IsZero() || !o.Begin.After(now) {
		return 0
	}
	return o.Begin.Add(time.Millisecond - 1).UnixMilli()
}

// alike is the same for openings of one person that let the same flows pass. One of several
// parts is like no other: "".
func alike(o opening.Opening) string {
	if len(o.Parts) != 1 {
		return ""
	}
	return alikeTo(o.Person, o.Parts[0])
}

func alikeTo(person string, p opening.Part) string {
	text, err := json.Marshal([][]string{{person}, p.Machines, flow.ServiceRuns(p.Services), flow.AddrRuns(p.From)})
	if err != nil {
		panic("sqlite: names do not marshal: " + err.Error())
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// chosen selects the numbers of openings that are asked for; the placeholders are those of a
// moment, twice, and of a list of numbers.
const chosen = `(SELECT id FROM openings WHERE over = 0 AND intent <> '' UNION SELECT id FROM openings INDEXED BY openings_until WHERE over = 0 AND until <= ?
	UNION SELECT id FROM openings INDEXED BY openings_begins WHERE over = 0 AND begins > 0 AND begins <= ?
	UNION SELECT value FROM json_each(?)) CROSS JOIN openings o USING (id) LEFT JOIN journal j ON j.seq = o.entry WHERE o.over = 0`

// everyHeld selects all openings.
const everyHeld = `openings o LEFT JOIN journal j ON j.seq = o.entry WHERE o.over = 0`

// readHeld reads those of the openings that are not known to be over that are asked for, which
// of them are intended alone, and which are not as the journal has them.
func readHeld(ctx context.Context, tx *sql.Tx, which ledger.Openings, st *ledger.State) error {
	st.Intended, st.Altered, st.Beginning = map[int64]ledger.Intent{}, map[int64]string{}, map[int64]bool{}
	from, args := everyHeld, []any(nil)
	if which.Some {
		from, args = chosen, []any{which.By.UnixMilli(), which.By.UnixMilli(), store.Numbers(which.IDs...)}
	}
	return eachHeld(ctx, tx, from, args, func(n int, h *held, why string) error {
		o, intent := h.Opening, h.intent
		st.Openings = slices.Grow(st.Openings, n)
		st.Openings = append(st.Openings, o)
		if intent != "" {
			i := ledger.Intent{}
			if intent != noIntent {
				before, err := decode(o.ID, intent)
				if err != nil {
					return err
				}
				i.Before = &before
			}
			st.Intended[o.ID] = i
		}
		if why != "" {
			st.Altered[o.ID] = why
		}
		if h.begins > 0 {
			st.Beginning[o.ID] = true
		}
		return nil
	})
}

// mostBeside is how long an entry of the journal may be, in bytes, to be looked through for each
// opening that it has. A longer one has many, and is read once.
const mostBeside = 8192

// held is an opening as it was selected.
type held struct {
	id, entry, begins int64
	body, intent      string

	opening.Opening
	asRecorded bool // its entry has the very text of it
	err        error
}

// eachHeld reads openings that are not known to be over, each with its intent and with what
// is not as the journal has it; left is how many there are from that one on. from is where they
// are selected.
func eachHeld(ctx context.Context, tx *sql.Tx, from string, args []any, each func(left int, h *held, altered string) error) error {
	var list []*held
	query := fmt.Sprintf(`SELECT o.id, o.body, o.intent, o.entry, o.begins, coalesce(octet_length(j.data) <= %d AND instr(j.data, '{"id":' || o.id || ',' || substr(o.body, 2)) > 0, 0)
		FROM %s ORDER BY o.id`, mostBeside, from)
	err := store.Each(ctx, tx, query, func(scan func(...any) error) error {
		h := &held{}
		list = append(list, h)
		return scan(&h.id, &h.body, &h.intent, &h.entry, &h.begins, &h.asRecorded)
	}, args...)
	if err != nil {
		return err
	}
	parallel.Parts(len(list), func(from, to int) {
		for _, h := range list[from:to] {
			h.Opening, h.err = decode(h.id, h.body)
			h.asRecorded = h.asRecorded || h.entry == 0
		}
	})
	long := map[int64]map[int64]storedOpening{}
	for i, h := range list {
		if h.err != nil {
			return h.err
		}
		was, known := long[h.entry]
		if !known && !h.asRecorded {
			if was, err = openingsOf(ctx, tx, h.entry); err != nil {
				return err
			}
			long[h.entry] = was
		}
		why := ""
		if !h.asRecorded {
			why = altered(h.Opening, was)
		}
		if err := each(len(list)-i, h, why); err != nil {
			return err
		}
	}
	return nil
}

// openingsOf reads the openings that an entry of the journal has, by number.
func openingsOf(ctx context.Context, tx *sql.Tx, entry int64) (map[int64]storedOpening, error) {
	out := map[int64]storedOpening{}
	err := store.Each(ctx, tx, `SELECT data FROM journal WHERE seq = ?`, func(scan func(...any) error) error {
		var data string
		var r record
		if err := scan(&data); err != nil || json.Unmarshal([]byte(data), &r) != nil {
			return err
		}
		for _, w := range r.openings() {
			out[w.ID] = w
		}
		return nil
	}, entry)
	return out, err
}

// altered tells in what an opening is not as the journal has it.
func altered(o opening.Opening, recorded map[int64]storedOpening) string {
	w, known := recorded[o.ID]
	was, err := w.decode(o.ID)
	if !known || err != nil {
		return "the journal has no entry of it"
	}
	if !was.End().Equal(o.End()) {
		return "it was recorded to end at " + utc(was.End()) + ", and its end was altered to " + utc(o.End())
	}
	then, err1 := json.Marshal(encode(was))
	now, err2 := json.Marshal(encode(o))
	if err1 != nil || err2 != nil || string(then) != string(now) {
		return "it is not what was recorded: " + was.Describe()
	}
	return ""
}

// Alike lists the openings of a person that let the same flows pass as a part does.
func (l *Ledger) Alike(ctx context.Context, person string, p opening.Part) (list []opening.Opening, err error) {
	err = l.read(ctx, func(tx *sql.Tx) error {
		return eachHeld(ctx, tx, everyHeld+` AND o.alike = ?`, []any{alikeTo(person, p)}, func(_ int, h *held, altered string) error {
			if altered == "" {
				list = append(list, h.Opening)
			}
			return nil
		})
	})
	return list, err
}

func utc(t time.Time) string { return t.UTC().Format(time.RFC3339) }

// Openings lists all openings there ever were, by number.
func (l *Ledger) Openings(ctx context.Context) (list []opening.Opening, err error) {
	err = l.read(ctx, func(tx *sql.Tx) error {
		return store.Each(ctx, tx, `SELECT id, body FROM openings ORDER BY id`, func(scan func(...any) error) error {
			o, err := scanOpening(scan)
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
