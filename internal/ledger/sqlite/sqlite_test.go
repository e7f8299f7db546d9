package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/ledger"
	"ironbark/internal/ledger/ledgertest"
)

func TestConformance(t *testing.T) {
	ledgertest.Run(t, func(t *testing.T) func() ledger.Ledger {
		dir := filepath.Join(t.TempDir(), "state")
		return func() ledger.Ledger {
			l := New(dir, Options{})
			t.Cleanup(func() { require.NoError(t, l.Close()) })
			return l
		}
	})
}

// first is the schema of version 1, as it was written then.
const first = `
CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT, WITHOUT ROWID;
CREATE TABLE things (kind TEXT, name TEXT, spec TEXT NOT NULL, given TEXT NOT NULL, made TEXT NOT NULL, booted TEXT NOT NULL, PRIMARY KEY (kind, name)) STRICT, WITHOUT ROWID;
CREATE TABLE tables (owner INTEGER, key TEXT, body TEXT NOT NULL, PRIMARY KEY (owner, key)) STRICT, WITHOUT ROWID;
CREATE TABLE openings (id INTEGER PRIMARY KEY, body TEXT NOT NULL) STRICT;
CREATE TABLE files (name TEXT PRIMARY KEY, data BLOB NOT NULL) STRICT, WITHOUT ROWID;
CREATE TABLE journal (seq INTEGER PRIMARY KEY, at TEXT NOT NULL, person TEXT NOT NULL, action TEXT NOT NULL, text TEXT NOT NULL, data TEXT NOT NULL, prev TEXT NOT NULL, hash TEXT NOT NULL) STRICT;
INSERT INTO things VALUES ('machine', 'gauge', '{"image":"linux-base"}', '{}', '2026-11-01T00:00:00Z', '2026-11-02T00:00:00Z');
INSERT INTO tables VALUES (0, 'guard ', '["tcp/22"]');
INSERT INTO openings VALUES (1, '{"person":"mara","sentence":"open ssh to gauge from 198.51.100.7 until 2030-01-01T00:00:00Z because \"old\"","begin":"2026-11-01T00:00:00Z","end":"2030-01-01T00:00:00Z","machines":["gauge"],"from":["198.51.100.7"],"services":["tcp/22"],"permit":"permit mara to open ssh to gauge from everywhere up to 4h"}');
INSERT INTO journal VALUES (1, '2026-11-01T00:00:00Z', 'mara', 'make', 'machine gauge', '{}', '', 'hash');
INSERT INTO meta VALUES ('revision', '3'), ('head', 'hash');
PRAGMA application_id = 1232236130; PRAGMA user_version = 1;
`

// TestAnOlderStoreIsBroughtOver brings a store of the first version over. Broken off on
// the way, nothing is lost, and it is done by the next one that opens it.
func TestAnOlderStoreIsBroughtOver(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, Name)
	db, err := sql.Open("sqlite", "file:"+path)
	require.NoError(t, err)
	_, err = db.Exec(first)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	broken := errors.New("broken off")
	calls := 0
	l := New(dir, Options{HandOver: func(context.Context, string) error {
		calls++
		return broken
	}})
	_, err = l.State(t.Context(), ledger.Everything)
	require.ErrorIs(t, err, broken)
	l = New(dir, Options{HandOver: func(_ context.Context, at string) error {
		calls++
		assert.Equal(t, path, at)
		return nil
	}})
	st, err := l.State(t.Context(), ledger.Everything)
	require.NoError(t, err)
	assert.Equal(t, 2, calls)
	assert.Equal(t, int64(3), st.Revision)
	require.Len(t, st.Resources, 1)
	assert.Equal(t, "linux-base", st.Resources[0].Spec.Image)
	require.Len(t, st.Openings, 1)
	assert.Equal(t, []string{"gauge"}, st.Openings[0].Machines())
	assert.Len(t, st.Estate, 32)
	rows, err := l.Plan(t.Context())
	require.NoError(t, err)
	assert.Len(t, rows, 1)
	entries, err := l.Entries(t.Context(), 0, 9)
	require.NoError(t, err)
	assert.Len(t, entries, 1)
	require.NoError(t, l.Close())
	again := New(dir, Options{HandOver: func(context.Context, string) error { return broken }})
	_, err = again.State(t.Context(), ledger.Everything)
	require.NoError(t, err, "once and for all")
	require.NoError(t, again.Close())
}

func TestTheFolderIsClosedToOthers(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "state")
	l := New(dir, Options{})
	_, err := l.Write(t.Context(), ledger.Decision{Person: "mara", Action: "stop", Fence: -1})
	require.NoError(t, err)
	require.NoError(t, l.Close())
	for name, mode := range map[string]os.FileMode{".": 0o700, Name: 0o600, ".gitignore": 0o600} {
		info, err := os.Stat(filepath.Join(dir, name))
		require.NoError(t, err)
		assert.Equal(t, mode, info.Mode().Perm(), name)
	}
}
