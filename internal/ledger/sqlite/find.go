package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"math"
	"slices"
	"strings"

	"ironbark/internal/journal"
	"ironbark/internal/ledger"
	"ironbark/internal/store"
)

// escapeLike keeps what people search for from being a pattern.
var escapeLike = strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`)

// errEnough ends a reading of rows.
var errEnough = errors.New("enough")

// Find returns the entries that a filter lets through. The database looks at what it can
// tell apart; moments, which are kept with more or fewer digits, and machines' names are
// looked at once more here.
func (l *Ledger) Find(ctx context.Context, f ledger.Filter) (list []journal.Entry, err error) {
	query, args := `SELECT `+entryColumns+` FROM journal WHERE seq > ?`, []any{f.After}
	where := func(condition string, values ...any) {
		query += " AND " + condition
		args = append(args, values...)
	}
	if f.Person != "" {
		where("person = ?", f.Person)
	}
	if f.Action != "" {
		where("action = ?", f.Action)
	}
	if f.Text != "" {
		where(`text LIKE ? ESCAPE '\'`, "%"+escapeLike.Replace(f.Text)+"%")
	}
	if f.Machine != "" {
		name := escapeLike.Replace(f.Machine)
		where(`(text LIKE ? ESCAPE '\' OR data LIKE ? ESCAPE '\')`, "%"+name+"%", `%"`+name+`"%`)
	}
	const second = "2006-01-02T15:04:05"
	if !f.Since.IsZero() {
		where("substr(at, 1, 19) >= ?", f.Since.UTC().Format(second))
	}
	if !f.Until.IsZero() {
		where("substr(at, 1, 19) <= ?", f.Until.UTC().Format(second))
	}
	most := f.Last
	if most == 0 {
		most = math.MaxInt
	}
	err = l.read(ctx, func(tx *sql.Tx) error {
		list = nil
		err := store.Each(ctx, tx, query+` ORDER BY seq DESC`, func(scan func(...any) error) error {
			e, err := scanEntry(scan)
			if err != nil || !letThrough(f, e) {
				return err
			}
			if list = append(list, e); len(list) == most {
				return errEnough
			}
			return nil
		}, args...)
		if errors.Is(err, errEnough) { // no fault of the store's
			return nil
		}
		return err
	})
	slices.Reverse(list)
	return list, err
}

// letThrough looks at what the database cannot tell for certain.
func letThrough(f ledger.Filter, e journal.Entry) bool {
	if !f.Since.IsZero() && e.At.Before(f.Since) || !f.Until.IsZero() && !e.At.Before(f.Until) {
		return false
	}
	return f.Machine == "" || strings.Contains(e.Data, `"`+f.Machine+`"`) || names(e.Text, f.Machine)
}

// names reports whether a name stands in a text as a word of its own.
func names(text, name string) bool {
	part := func(i int) bool {
		if i < 0 || i >= len(text) {
			return false
		}
		c := text[i]
		return c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '-'
	}
	for at := 0; ; {
		i := strings.Index(text[at:], name)
		if i < 0 {
			return false
		}
		i += at
		if !part(i-1) && !part(i+len(name)) {
			return true
		}
		at = i + 1
	}
}
