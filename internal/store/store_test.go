package store

import (
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// first is the schema of version 1, as it was written then.
var first = strings.TrimSuffix(schema, second+third)

// old makes a store of version 1 with a machine in it.
func old(t *testing.T) string {
	path := filepath.Join(t.TempDir(), "site.db")
	db, err := sql.Open("sqlite", "file:"+path)
	require.NoError(t, err)
	_, err = db.Exec(first + `
		INSERT INTO things VALUES ('machine', 'gauge', '{"image":"linux-base"}', '{}', '2026-11-01T00:00:00Z', '2026-11-02T00:00:00Z');
		INSERT INTO journal VALUES (1, '2026-11-01T00:00:00Z', 'mara', 'make', 'machine gauge', '{}', '', 'hash');
		PRAGMA application_id = 1232236130; PRAGMA user_version = 1;`)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	return path
}

func TestAnOlderStoreIsBroughtUpToDate(t *testing.T) {
	for _, readOnly := range []bool{true, false} {
		path := old(t)
		s, err := Open(t.Context(), path, readOnly)
		require.NoError(t, err)
		var asked, life, text string
		require.NoError(t, s.Do(t.Context(), func(tx *sql.Tx) error {
			require.NoError(t, tx.QueryRow(`SELECT asked FROM things WHERE name = 'gauge'`).Scan(&asked))
			require.NoError(t, tx.QueryRow(`SELECT life FROM machines WHERE name = 'gauge'`).Scan(&life))
			return tx.QueryRow(`SELECT text FROM journal`).Scan(&text)
		}))
		assert.Equal(t, `{"image":"linux-base"}`, asked, "what was there was asked for")
		assert.Equal(t, `{"booted":"2026-11-02T00:00:00Z"}`, life)
		assert.Equal(t, "machine gauge", text)
		require.NoError(t, s.Close())
		again, err := Open(t.Context(), path, true)
		require.NoError(t, err, "once and for all")
		require.NoError(t, again.Whole(t.Context()))
		require.NoError(t, again.Close())
	}
}

func TestAStoreIsClosedToOthersAndToStrangers(t *testing.T) {
	path := filepath.Join(t.TempDir(), "site.db")
	_, err := Open(t.Context(), path, true)
	require.ErrorIs(t, err, ErrAbsent)
	s, err := Open(t.Context(), path, false)
	require.NoError(t, err)
	require.NoError(t, s.Close())
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	damaged := &Damaged{}
	for what, edit := range map[string]string{"PRAGMA application_id = 7": "a database of something else", "PRAGMA user_version = 9": "a newer ironbark (version 9", "PRAGMA user_version = 0": "incomplete"} {
		db, err := sql.Open("sqlite", "file:"+path)
		require.NoError(t, err)
		_, err = db.Exec(what)
		require.NoError(t, err)
		require.NoError(t, db.Close())
		_, err = Open(t.Context(), path, false)
		require.ErrorAs(t, err, &damaged, what)
		assert.Contains(t, damaged.Error(), edit)
		db, err = sql.Open("sqlite", "file:"+path)
		require.NoError(t, err)
		_, err = db.Exec("PRAGMA application_id = 1232236130; PRAGMA user_version = 2")
		require.NoError(t, err)
		require.NoError(t, db.Close())
	}
	require.NoError(t, os.WriteFile(path, []byte("this is no database, and never was one; it only stands in its place"), 0o600))
	_, err = Open(t.Context(), path, true)
	require.ErrorAs(t, err, &damaged)
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Contains(t, string(data), "this is no database", "it is left as it is")
}
