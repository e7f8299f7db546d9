package sqlite

import (
	"context"
	"database/sql"
	"time"

	"ironbark/internal/journal"
	"ironbark/internal/store"
)

// openBreaks lists the breaks that were found and that nobody has acknowledged.
func openBreaks(ctx context.Context, tx *sql.Tx) (list []journal.Break, err error) {
	err = store.Each(ctx, tx, `SELECT seq, why, mark FROM breaks WHERE acknowledged = '' ORDER BY found, seq`, func(scan func(...any) error) error {
		var b journal.Break
		err := scan(&b.Seq, &b.Why, &b.Mark)
		list = append(list, b)
		return err
	})
	return list, err
}

// noteBreaks records breaks that are new.
func noteBreaks(ctx context.Context, tx *sql.Tx, list []journal.Break, now time.Time) error {
	for _, b := range list {
		_, err := tx.ExecContext(ctx, `INSERT OR IGNORE INTO breaks (seq, why, mark, found) VALUES (?, ?, ?, ?)`, b.Seq, b.Why, b.Mark, now.UTC().Format(time.RFC3339Nano))
		if err != nil {
			return err
		}
	}
	return nil
}

// headOf is the last entry as it is kept apart. Stores of before know only its hash.
func headOf(ctx context.Context, tx *sql.Tx, m meta) (h journal.Head, err error) {
	h = m.Head
	if h.Seq > 0 || h.Hash == "" {
		return h, nil
	}
	err = tx.QueryRowContext(ctx, `SELECT coalesce(max(seq), 1) FROM journal`).Scan(&h.Seq)
	if err != nil {
		return h, err
	}
	return h, store.Each(ctx, tx, `SELECT seq FROM journal WHERE hash = ?`, func(scan func(...any) error) error { return scan(&h.Seq) }, h.Hash)
}

// breaks compares the record with what was kept of it, after a checkpoint or whole. size is the length of what was read.
func breaks(ctx context.Context, tx *sql.Tx, whole bool) (list []journal.Break, head journal.Head, size int, err error) {
	m, err := readMeta(ctx, tx)
	if err != nil {
		return nil, head, 0, err
	}
	from := m.checked
	if whole {
		from = journal.Head{}
	}
	entries, err := readEntries(ctx, tx, `SELECT `+entryColumns+` FROM journal WHERE seq > ? ORDER BY seq`, from.Seq)
	if err != nil {
		return nil, head, 0, err
	}
	for _, e := range entries {
		size += len(e.Data)
	}
	if head, err = headOf(ctx, tx, m); err != nil {
		return nil, head, 0, err
	}
	if len(entries) == 0 && m.Head.Hash == "" {
		var enacted int
		row := tx.QueryRowContext(ctx, `SELECT (SELECT count(*) FROM files) + (SELECT count(*) FROM openings)`)
		if err := row.Scan(&enacted); err != nil || enacted == 0 {
			return nil, head, 0, err
		}
		return []journal.Break{{Seq: 1, Why: "is missing: the whole record is empty, and the site is not", Mark: ""}}, head, 0, nil
	}
	return journal.Breaks(from, entries, head), head, size, nil
}

// worthKeeping is how much is read after the checkpoint before a look at the record moves the checkpoint, in bytes: a write is dearer than
// reading less.
const worthKeeping = 1 << 20

// CheckRecord looks the record over.
func (l *Ledger) CheckRecord(ctx context.Context, whole bool) (list []journal.Break, err error) {
	var found, known []journal.Break
	var head, checked journal.Head
	var size int
	err = l.read(ctx, func(tx *sql.Tx) (err error) {
		if found, head, size, err = breaks(ctx, tx, whole); err != nil {
			return err
		}
		m, err := readMeta(ctx, tx)
		if err != nil {
			return err
		}
		checked = m.checked
		return store.Each(ctx, tx, `SELECT seq, why, mark, acknowledged FROM breaks ORDER BY found, seq`, func(scan func(...any) error) error {
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
	if (whole || size > worthKeeping) && len(found) == 0 && head != checked {
		l.try(ctx, func(tx *sql.Tx) error { return setMeta(ctx, tx, "checked", head) })
	}
	if len(fresh) > 0 {
		l.try(ctx, func(tx *sql.Tx) error { return noteBreaks(ctx, tx, fresh, time.Now()) })
	}
	return list, nil
}

// NoteBreaks records breaks that were found elsewhere.
func (l *Ledger) NoteBreaks(ctx context.Context, list []journal.Break) error {
	db, err := l.open(ctx, true)
	if err != nil {
		return err
	}
	return db.Update(ctx, func(tx *sql.Tx) error { return noteBreaks(ctx, tx, list, time.Now()) })
}

// try keeps what a look at the record came to. Where it cannot be kept, the next look
// finds the same.
func (l *Ledger) try(ctx context.Context, f func(tx *sql.Tx) error) {
	if db, err := l.open(ctx, true); err == nil {
		_ = db.Update(ctx, f)
	}
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
