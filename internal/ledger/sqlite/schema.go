package sqlite

import "ironbark/internal/store"

// schema keeps openings, resources and changes as JSON. entry is
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
const deliveries = `CREATE TABLE deliveries (recipient TEXT PRIMARY KEY, seq INTEGER NOT NULL, failed TEXT NOT NULL DEFAULT '', why TEXT NOT NULL DEFAULT '', tries INTEGER NOT NULL DEFAULT 0) STRICT, WITHOUT ROWID;
`

// openingIndexes find what few openings are asked for among many.
const openingIndexes = `CREATE INDEX openings_there ON openings (id) WHERE over = 0;
CREATE INDEX openings_until ON openings (until) WHERE over = 0;
CREATE INDEX openings_begins ON openings (begins) WHERE over = 0 AND begins > 0;
CREATE INDEX openings_alike ON openings (alike) WHERE over = 0;
CREATE INDEX openings_intended ON openings (id) WHERE over = 0 AND intent <> '';`

// format is the ledger's.
var format = store.Format{
	ApplicationID: 0x49726e62, // "Irnb"
	Version:       1, Schema: schema, Grows: []string{"journal"},
}
