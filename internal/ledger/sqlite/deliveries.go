package sqlite

import (
	"context"
	"database/sql"
	"time"

	"ironbark/internal/ledger"
	"ironbark/internal/store"
)

// Deliveries tells how far each recipient has been told.
func (l *Ledger) Deliveries(ctx context.Context) (list []ledger.Delivery, err error) {
	err = l.read(ctx, func(tx *sql.Tx) error {
		return store.Each(ctx, tx, `SELECT recipient, seq, failed, why, tries FROM deliveries ORDER BY recipient`, func(scan func(...any) error) error {
			var d ledger.Delivery
			var failed string
			if err := scan(&d.Recipient, &d.Seq, &failed, &d.Why, &d.Tries); err != nil {
				return err
			}
			if failed != "" {
				var err error
				if d.Failed, err = time.Parse(time.RFC3339Nano, failed); err != nil {
					return err
				}
			}
			list = append(list, d)
			return nil
		})
	})
	return list, err
}

// Delivered records how far a recipient has been told. It is no decision: nothing else hangs on it.
func (l *Ledger) Delivered(ctx context.Context, d ledger.Delivery) error {
	db, err := l.open(ctx, true)
	if err != nil {
		return err
	}
	failed := ""
	if !d.Failed.IsZero() {
		failed = d.Failed.UTC().Format(time.RFC3339Nano)
	}
	return db.Update(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `UPDATE deliveries SET seq = ?, failed = ?, why = ?, tries = ? WHERE recipient = ? AND seq <= ?`, d.Seq, failed, d.Why, d.Tries, d.Recipient, d.Seq)
		return err
	})
}

// recipients makes those of the files that are enacted the ones that are told: a new one from this entry on.
func (w *writer) recipients(before int64) error {
	known := map[string]bool{}
	for _, name := range w.d.Recipients {
		known[name] = true
		if _, err := w.tx.ExecContext(w.ctx, `INSERT OR IGNORE INTO deliveries (recipient, seq) VALUES (?, ?)`, name, before); err != nil {
			return err
		}
	}
	var gone []string
	err := store.Each(w.ctx, w.tx, `SELECT recipient FROM deliveries`, func(scan func(...any) error) error {
		var name string
		err := scan(&name)
		if !known[name] {
			gone = append(gone, name)
		}
		return err
	})
	for _, name := range gone {
		if err == nil {
			_, err = w.tx.ExecContext(w.ctx, `DELETE FROM deliveries WHERE recipient = ?`, name)
		}
	}
	return err
}
