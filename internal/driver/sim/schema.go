package sim

import (
	"context"
	"database/sql"
	"errors"
	"os"
	"path/filepath"
	"strings"

	"ironbark/internal/store"
)

// Name is that of the file.
const Name = "sim.db"

// format is what the file holds. Rows of the tables belong to an owner: 0 is the plan,
// and an opening owns its own by its number. shut has the openings that were shut, and ends
// when those that pass end, in Unix milliseconds, rounded up.
var format = store.Format{
	ApplicationID: 0x49726e73, // "Irns"
	Version:       3,
	Upgrades: map[int64]func(context.Context, *sql.Tx, string) error{
		1: store.SQL(endsSchema + fillEnds),
		2: store.SQL(compiledSchema),
	},
	Schema: `
CREATE TABLE meta (id INTEGER PRIMARY KEY, body TEXT NOT NULL) STRICT;
CREATE TABLE resources (kind TEXT, name TEXT, spec TEXT NOT NULL, given TEXT NOT NULL, PRIMARY KEY (kind, name)) STRICT, WITHOUT ROWID;
CREATE TABLE tables (owner INTEGER, key TEXT, body TEXT NOT NULL, PRIMARY KEY (owner, key)) STRICT, WITHOUT ROWID;
CREATE TABLE shut (id INTEGER PRIMARY KEY, at TEXT NOT NULL) STRICT;
CREATE TABLE machines (name TEXT PRIMARY KEY, life TEXT NOT NULL, guest TEXT NOT NULL, log TEXT NOT NULL) STRICT, WITHOUT ROWID;
CREATE TABLE outside (seq INTEGER PRIMARY KEY, at TEXT NOT NULL, who TEXT NOT NULL, what TEXT NOT NULL, data TEXT NOT NULL) STRICT;
` + endsSchema + compiledSchema,
}

const endsSchema = `
CREATE TABLE ends (owner INTEGER PRIMARY KEY, until INTEGER NOT NULL) STRICT;
CREATE INDEX ends_until ON ends (until);
`

// compiledSchema keeps the plan's own tables once more, in binary, as they are read a hundred times for each time that they are written. Whoever
// changes them, and by whatever program, takes that form away, for it is the database that does.
const compiledSchema = `
CREATE TABLE compiled (id INTEGER PRIMARY KEY CHECK (id = 1), plan BLOB NOT NULL) STRICT;
CREATE TRIGGER tables_put AFTER INSERT ON tables WHEN NEW.owner = 0 BEGIN DELETE FROM compiled; END;
CREATE TRIGGER tables_changed AFTER UPDATE ON tables WHEN OLD.owner = 0 OR NEW.owner = 0 BEGIN DELETE FROM compiled; END;
CREATE TRIGGER tables_taken AFTER DELETE ON tables WHEN OLD.owner = 0 BEGIN DELETE FROM compiled; END;
`

// fillEnds fills in the ends of what openings let pass.
const fillEnds = `
INSERT INTO ends SELECT owner, max(CAST((julianday(json_extract(body, '$.until')) - 2440587.5) * 86400000 AS INTEGER)) + 1000 FROM tables
  WHERE owner > 0 AND key LIKE 'rule %' GROUP BY owner;
`

// TakeOver takes what is the stand-in's out of a store of before, in which it stood
// beside the ledger, and keeps it in a file of its own beside that one. It writes nothing
// to the store. Done again, it begins anew.
func TakeOver(ctx context.Context, path string) (err error) {
	target := filepath.Join(filepath.Dir(path), Name)
	fresh := target + ".new"
	for _, suffix := range []string{"", "-wal", "-shm", "-journal"} {
		if err := os.Remove(fresh + suffix); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	db, err := store.Open(ctx, fresh, format, false)
	if err != nil {
		return err
	}
	if err := errors.Join(db.Attach(ctx, path, "before", func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, takeOver)
		return err
	}), db.Close()); err != nil {
		return err
	}
	for _, suffix := range []string{"-wal", "-shm"} { // what a store that was never opened by that name leaves
		if err := os.Remove(target + suffix); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	return os.Rename(fresh, target)
}

// takeOver copies from version 3 of the store of before.
var takeOver = strings.TrimSpace(`
INSERT INTO resources SELECT kind, name, spec, given FROM before.things WHERE spec <> '';
INSERT INTO tables SELECT owner, key, body FROM before.tables;
` + fillEnds + `
INSERT INTO machines SELECT name, life, guest, log FROM before.machines;
INSERT INTO shut SELECT id, coalesce(json_extract(body, '$.ended'), json_extract(body, '$.end')) FROM before.openings WHERE over = 1;
INSERT INTO outside SELECT seq, at, who, what, json_set(data, '$.after', json_object('Seq', json_extract(data, '$.after'), 'Hash', '')) FROM before.outside;
INSERT INTO meta SELECT 1, json_object('mark', 1, 'latest', (SELECT value FROM before.meta WHERE key = 'latest'),
  'identity', json('{"estate":"","head":{"Seq":0,"Hash":""}}'), 'console', (SELECT json(value) FROM before.meta WHERE key = 'console'));
`)
