package sim

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"time"

	"ironbark/internal/journal"
	"ironbark/internal/site"
)

// openBreaks lists the breaks that were found and that nobody has acknowledged.
func openBreaks(ctx context.Context, tx *sql.Tx) (list []journal.Break, err error) {
	err = each(ctx, tx, `SELECT seq, why, mark FROM breaks WHERE acknowledged = '' ORDER BY found, seq`, func(scan func(...any) error) error {
		var b journal.Break
		err := scan(&b.Seq, &b.Why, &b.Mark)
		list = append(list, b)
		return err
	})
	return list, err
}

// noteBreaks records breaks that are new.
func (s *Site) noteBreaks(ctx context.Context, tx *sql.Tx, list []journal.Break) error {
	for _, b := range list {
		_, err := tx.ExecContext(ctx, `INSERT OR IGNORE INTO breaks (seq, why, mark, found) VALUES (?, ?, ?, ?)`, b.Seq, b.Why, b.Mark, s.clock.Now().UTC().Format(time.RFC3339Nano))
		if err != nil {
			return err
		}
	}
	return nil
}

// entriesFrom reads the journal after an entry.
func entriesFrom(ctx context.Context, tx *sql.Tx, after int64) (entries []journal.Entry, err error) {
	err = each(ctx, tx, `SELECT seq, at, person, action, text, data, prev, hash FROM journal WHERE seq > ? ORDER BY seq`, func(scan func(...any) error) error {
		var e journal.Entry
		var at string
		if err := scan(&e.Seq, &at, &e.Person, &e.Action, &e.Text, &e.Data, &e.Prev, &e.Hash); err != nil {
			return err
		}
		e.At, _ = time.Parse(time.RFC3339Nano, at) // one that does not read has another hash
		entries = append(entries, e)
		return nil
	}, after)
	return entries, err
}

// Tail returns the last entries. Cost: linear in n.
func (s *Site) Tail(ctx context.Context, n int) (entries []journal.Entry, err error) {
	db, err := s.open(ctx, false)
	if err != nil {
		return nil, absentIsEmpty(err)
	}
	err = db.Read(ctx, func(tx *sql.Tx) error {
		var first int64
		row := tx.QueryRowContext(ctx, `SELECT coalesce(min(seq), 0) FROM (SELECT seq FROM journal ORDER BY seq DESC LIMIT ?)`, n)
		if err := row.Scan(&first); err != nil {
			return err
		}
		entries, err = entriesFrom(ctx, tx, first-1)
		return err
	})
	return entries, err
}

// journalHead is the last entry as it is kept apart. Stores of before know only its hash.
func (m meta) journalHead(entries []journal.Entry) journal.Head {
	h := journal.Head{Seq: m.headSeq, Hash: m.head}
	if h.Seq == 0 && m.head != "" {
		h.Seq = 1
		for _, e := range entries {
			h.Seq = max(h.Seq, e.Seq)
			if e.Hash == m.head {
				h.Seq = e.Seq
				break
			}
		}
	}
	return h
}

// breaks compares the record with what was kept of it, after a checkpoint or whole.
func breaks(ctx context.Context, tx *sql.Tx, whole bool) (list []journal.Break, head journal.Head, err error) {
	m, err := readMeta(ctx, tx)
	if err != nil {
		return nil, head, err
	}
	from := m.checked
	if whole {
		from = journal.Head{}
	}
	entries, err := entriesFrom(ctx, tx, from.Seq)
	if err != nil {
		return nil, head, err
	}
	head = m.journalHead(entries)
	if len(entries) == 0 && m.head == "" {
		var enacted int
		row := tx.QueryRowContext(ctx, `SELECT (SELECT count(*) FROM files) + (SELECT count(*) FROM openings)`)
		if err := row.Scan(&enacted); err != nil || enacted == 0 {
			return nil, head, err
		}
		return []journal.Break{{Seq: 1, Why: "is missing: the whole record is empty, and the site is not", Mark: ""}}, head, nil
	}
	return journal.Breaks(from, entries, head), head, nil
}

// CheckRecord looks the record over.
func (s *Site) CheckRecord(ctx context.Context, whole bool) (list []journal.Break, err error) {
	db, err := s.open(ctx, false)
	if err != nil {
		return nil, absentIsEmpty(err)
	}
	var found, known []journal.Break
	var head journal.Head
	err = db.Read(ctx, func(tx *sql.Tx) (err error) {
		if found, head, err = breaks(ctx, tx, whole); err != nil {
			return err
		}
		return each(ctx, tx, `SELECT seq, why, mark, acknowledged FROM breaks ORDER BY found, seq`, func(scan func(...any) error) error {
			var b journal.Break
			var acknowledged string
			if err := scan(&b.Seq, &b.Why, &b.Mark, &acknowledged); err != nil {
				return err
			}
			known = append(known, b)
			if acknowledged == "" {
				list = append(list, b)
			}
			return nil
		})
	})
	if err != nil {
		return nil, err
	}
	fresh := without(found, known)
	list = append(list, fresh...)
	if len(fresh) > 0 || whole && len(found) == 0 && head.Seq > 0 {
		s.keepCheck(ctx, fresh, head)
	}
	return list, nil
}

// keepCheck keeps what a look at the record came to. Where it cannot be kept, the next
// look finds the same.
func (s *Site) keepCheck(ctx context.Context, fresh []journal.Break, head journal.Head) {
	db, err := s.open(ctx, true)
	if err != nil {
		return
	}
	_ = db.Do(ctx, func(tx *sql.Tx) error {
		if len(fresh) == 0 {
			return setMeta(ctx, tx, "checked", head)
		}
		return s.noteBreaks(ctx, tx, fresh)
	})
}

func without(list, known []journal.Break) (fresh []journal.Break) {
	for _, b := range list {
		there := false
		for _, k := range known {
			there = there || k == b
		}
		if !there {
			fresh = append(fresh, b)
		}
	}
	return fresh
}

// Acknowledge takes note of what is found in the whole record.
func (s *Site) Acknowledge(ctx context.Context, person string) ([]journal.Break, error) {
	list, err := s.CheckRecord(ctx, true)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	text := "took note that the record is broken"
	for _, b := range list {
		text += "; " + b.String()
	}
	return list, s.step(ctx, func(ctx context.Context, tx *sql.Tx) (note, error) {
		now := s.clock.Now().UTC().Format(time.RFC3339Nano)
		for _, b := range list {
			_, err := tx.ExecContext(ctx, `UPDATE breaks SET acknowledged = ?, person = ? WHERE seq = ? AND why = ? AND mark = ?`, now, person, b.Seq, b.Why, b.Mark)
			if err != nil {
				return note{}, err
			}
		}
		return note{person, "break", text, record{}}, nil
	})
}

// alterations tells which openings that hold are not as the journal or the tables have
// them. Cost: that of the openings that hold.
func (s *Site) alterations(ctx context.Context, tx *sql.Tx, r *site.Report, now time.Time) error {
	r.Altered = map[int64]string{}
	for _, o := range r.Openings {
		if !o.Active(now) {
			continue
		}
		if why, err := altered(ctx, tx, o.ID, o.End); err != nil {
			return err
		} else if why != "" {
			r.Altered[o.ID] = why
		}
	}
	return nil
}

func altered(ctx context.Context, tx *sql.Tx, id int64, end time.Time) (why string, err error) {
	var entry int64
	var text string
	err = tx.QueryRowContext(ctx, `SELECT o.entry, coalesce(j.data, '') FROM openings o LEFT JOIN journal j ON j.seq = o.entry WHERE o.id = ?`, id).Scan(&entry, &text)
	if err != nil {
		return "", err
	}
	if entry > 0 {
		var r record
		if json.Unmarshal([]byte(text), &r) != nil || r.Opening == nil || r.ID != id {
			return "the journal has no entry of it", nil
		}
		if !r.Opening.End.Equal(end) {
			return fmt.Sprintf("it was recorded to end at %s, and its end was altered to %s", r.Opening.End.UTC().Format(time.RFC3339), end.UTC().Format(time.RFC3339)), nil
		}
	}
	err = each(ctx, tx, `SELECT coalesce(json_extract(body, '$.until'), '') FROM tables WHERE owner = ? AND key LIKE 'rule %'`, func(scan func(...any) error) error {
		var until string
		if err := scan(&until); err != nil {
			return err
		}
		if at, err := time.Parse(time.RFC3339Nano, until); err != nil || !at.Equal(end) {
			why = fmt.Sprintf("it ends at %s, and the tables were altered to “%s”", end.UTC().Format(time.RFC3339), until)
		}
		return nil
	}, id)
	return why, err
}
