package sqlite

import (
	"context"
	"database/sql"
	"encoding/json"

	"ironbark/internal/opening"
	"ironbark/internal/store"
)

// schema is that of version 6. Openings, resources and changes are kept as JSON. entry is
// the number of the journal's entry that has an opening as it is; intent is what an
// opening that is not known to pass replaces, and "" once it is known to; until is its end in
// Unix milliseconds, rounded up; begins is its beginning, where that lay ahead and is not recorded
// to have come, and 0 otherwise; alike is the same for openings of one person that let the same
// flows pass.
const schema = `
CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT, WITHOUT ROWID;
CREATE TABLE resources (kind TEXT, name TEXT, body TEXT NOT NULL, PRIMARY KEY (kind, name)) STRICT, WITHOUT ROWID;
CREATE TABLE plan (key TEXT PRIMARY KEY, body TEXT NOT NULL) STRICT, WITHOUT ROWID;
CREATE TABLE openings (id INTEGER PRIMARY KEY, body TEXT NOT NULL, entry INTEGER NOT NULL, over INTEGER NOT NULL, intent TEXT NOT NULL DEFAULT '', until INTEGER NOT NULL DEFAULT 0, alike TEXT NOT NULL DEFAULT '', begins INTEGER NOT NULL DEFAULT 0) STRICT;
` + openingIndexes + `
CREATE TABLE files (name TEXT PRIMARY KEY, data BLOB NOT NULL) STRICT, WITHOUT ROWID;
CREATE TABLE journal (seq INTEGER PRIMARY KEY, at TEXT NOT NULL, person TEXT NOT NULL, action TEXT NOT NULL, text TEXT NOT NULL, data TEXT NOT NULL, prev TEXT NOT NULL, hash TEXT NOT NULL) STRICT;
CREATE TABLE breaks (seq INTEGER, why TEXT NOT NULL, mark TEXT NOT NULL, found TEXT NOT NULL, acknowledged TEXT NOT NULL DEFAULT '', person TEXT NOT NULL DEFAULT '', PRIMARY KEY (seq, why, mark)) STRICT, WITHOUT ROWID;
` + deliveries

// deliveries tell how far recipients have been told of the journal.
const deliveries = `CREATE TABLE deliveries (recipient TEXT PRIMARY KEY, seq INTEGER NOT NULL, failed TEXT NOT NULL DEFAULT '', why TEXT NOT NULL DEFAULT '') STRICT, WITHOUT ROWID;
`

// openingIndexes find what few openings are asked for among many.
const openingIndexes = `CREATE INDEX openings_there ON openings (id) WHERE over = 0;
CREATE INDEX openings_until ON openings (until) WHERE over = 0;
CREATE INDEX openings_begins ON openings (begins) WHERE over = 0 AND begins > 0;
CREATE INDEX openings_alike ON openings (alike) WHERE over = 0;
CREATE INDEX openings_intended ON openings (id) WHERE over = 0 AND intent <> '';`

// format is the ledger's. Versions 1 to 3 were that of one store for the ledger and the
// stand-in cloud together: handOver takes what is the stand-in's out of it.
func format(handOver func(ctx context.Context, path string) error) store.Format {
	return store.Format{
		ApplicationID: 0x49726e62, // "Irnb"
		Version:       6, Schema: schema, Grows: []string{"journal"},
		Upgrades: map[int64]func(context.Context, *sql.Tx, string) error{
			1: store.SQL(second + `
UPDATE things SET asked = spec;
INSERT INTO machines SELECT name, json_object('booted', booted), '', '' FROM things WHERE kind = 'machine';
`),
			2: store.SQL(third),
			3: func(ctx context.Context, tx *sql.Tx, path string) error {
				if err := handOver(ctx, path); err != nil {
					return err
				}
				return fourth(ctx, tx)
			},
			4: fifth,
			5: store.SQL(deliveries),
		},
	}
}

// second is what version 2 of the schema added: what was last asked for of each
// thing, how machines are doing and what is in them, and what was done to the
// site by others.
const second = `
ALTER TABLE things ADD COLUMN asked TEXT NOT NULL DEFAULT '';
CREATE TABLE machines (name TEXT PRIMARY KEY, life TEXT NOT NULL, guest TEXT NOT NULL, log TEXT NOT NULL) STRICT, WITHOUT ROWID;
CREATE TABLE outside (seq INTEGER PRIMARY KEY, at TEXT NOT NULL, who TEXT NOT NULL, what TEXT NOT NULL, data TEXT NOT NULL) STRICT;
`

// third is what version 3 added: the breaks of the record that were found, which entry
// of the journal each opening was last recorded in, and which openings are over.
const third = `
CREATE TABLE breaks (seq INTEGER, why TEXT NOT NULL, mark TEXT NOT NULL, found TEXT NOT NULL, acknowledged TEXT NOT NULL DEFAULT '', person TEXT NOT NULL DEFAULT '', PRIMARY KEY (seq, why, mark)) STRICT, WITHOUT ROWID;
ALTER TABLE openings ADD COLUMN entry INTEGER NOT NULL DEFAULT 0;
ALTER TABLE openings ADD COLUMN over INTEGER NOT NULL DEFAULT 0;
UPDATE openings SET over = 1 WHERE json_extract(body, '$.ended') IS NOT NULL;
CREATE INDEX openings_there ON openings (id) WHERE over = 0;
`

// fourth leaves in the store what is the ledger's. Resources are those that were asked
// for, and the plan is what was installed before others touched it.
func fourth(ctx context.Context, tx *sql.Tx) error {
	_, err := tx.ExecContext(ctx, `
CREATE TABLE resources (kind TEXT, name TEXT, body TEXT NOT NULL, PRIMARY KEY (kind, name)) STRICT, WITHOUT ROWID;
INSERT INTO resources SELECT kind, name, json_object('spec', json(asked), 'given', json(given)) FROM things WHERE asked <> '';
CREATE TABLE plan (key TEXT PRIMARY KEY, body TEXT NOT NULL) STRICT, WITHOUT ROWID;
INSERT INTO plan SELECT key, body FROM tables WHERE owner = 0;
ALTER TABLE openings ADD COLUMN intent TEXT NOT NULL DEFAULT '';`)
	if err != nil {
		return err
	}
	var touched []string
	err = store.Each(ctx, tx, `SELECT data FROM outside WHERE seq > coalesce((SELECT CAST(value AS INTEGER) FROM meta WHERE key = 'seen'), 0) ORDER BY seq DESC`, func(scan func(...any) error) error {
		var data string
		err := scan(&data)
		touched = append(touched, data)
		return err
	})
	if err != nil {
		return err
	}
	for _, data := range touched {
		var o struct{ In, Out []struct{ Key, Body string } }
		if err := json.Unmarshal([]byte(data), &o); err != nil {
			return err
		}
		for _, r := range o.In {
			if _, err := tx.ExecContext(ctx, `DELETE FROM plan WHERE key = ?`, r.Key); err != nil {
				return err
			}
		}
		for _, r := range o.Out {
			if _, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO plan VALUES (?, ?)`, r.Key, r.Body); err != nil {
				return err
			}
		}
	}
	_, err = tx.ExecContext(ctx, `
DROP TABLE things; DROP TABLE tables; DROP TABLE machines; DROP TABLE outside;
DELETE FROM meta WHERE key = 'console';
INSERT OR IGNORE INTO meta VALUES ('estate', lower(hex(randomblob(16))));`)
	return err
}

// fifth adds what finds openings without reading all of them.
func fifth(ctx context.Context, tx *sql.Tx, _ string) error {
	_, err := tx.ExecContext(ctx, `DROP INDEX openings_there;
ALTER TABLE openings ADD COLUMN until INTEGER NOT NULL DEFAULT 0;
ALTER TABLE openings ADD COLUMN alike TEXT NOT NULL DEFAULT '';
ALTER TABLE openings ADD COLUMN begins INTEGER NOT NULL DEFAULT 0;
`+openingIndexes)
	if err != nil {
		return err
	}
	var list []opening.Opening
	err = store.Each(ctx, tx, `SELECT id, body FROM openings WHERE over = 0`, func(scan func(...any) error) error {
		o, err := scanOpening(scan)
		list = append(list, o)
		return err
	})
	for _, o := range list {
		if err == nil {
			_, err = tx.ExecContext(ctx, `UPDATE openings SET until = ?, alike = ?, begins = ? WHERE id = ?`, untilOf(o), alike(o), beginsOf(o, o.Words.Starting.Add(-1)), o.ID)
		}
	}
	return err
}
