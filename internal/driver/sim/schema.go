package sim

import "ironbark/internal/store"

// Name is that of the file.
const Name = "sim.db"

// format is what the file holds. Rows of the tables belong to an owner: 0 is the plan,
// and an opening owns its own by its number. shut has the openings that were shut, and ends
// when those that pass end, in Unix milliseconds, rounded up.
var format = store.Format{
	ApplicationID: 0x49726e73, // "Irns"
	Version:       1,
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
