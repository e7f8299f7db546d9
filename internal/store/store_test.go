package store

import (
	"context"
	"database/sql"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var older = Format{ApplicationID: 0x49726e62, Version: 1, Schema: `CREATE TABLE tides (name TEXT PRIMARY KEY) STRICT; INSERT INTO tides VALUES ('spring');`}

// newer is what older was brought up to, in two steps.
func newer(second func(context.Context, *sql.Tx, string) error) Format {
	return Format{ApplicationID: older.ApplicationID, Version: 3, Schema: `CREATE TABLE tides (name TEXT PRIMARY KEY, metres INTEGER, at TEXT) STRICT;`, Upgrades: map[int64]func(context.Context, *sql.Tx, string) error{
		1: SQL(`ALTER TABLE tides ADD COLUMN metres INTEGER; UPDATE tides SET metres = 4;`), 2: second,
	}}
}

func TestAnOlderStoreIsBroughtUpToDate(t *testing.T) {
	for _, readOnly := range []bool{true, false} {
		path := filepath.Join(t.TempDir(), "site.db")
		s, err := Open(t.Context(), path, older, false)
		require.NoError(t, err)
		require.NoError(t, s.Close())
		broken := errors.New("broken off")
		_, err = Open(t.Context(), path, newer(func(context.Context, *sql.Tx, string) error { return broken }), readOnly)
		require.ErrorIs(t, err, broken)
		format := newer(SQL(`ALTER TABLE tides ADD COLUMN at TEXT; UPDATE tides SET at = 'noon';`))
		for range 2 {
			s, err = Open(t.Context(), path, format, readOnly)
			require.NoError(t, err)
			var text string
			require.NoError(t, s.Update(t.Context(), func(tx *sql.Tx) error {
				return tx.QueryRow(`SELECT name || metres || at FROM tides`).Scan(&text)
			}))
			assert.Equal(t, "spring4noon", text)
			require.NoError(t, s.CheckIntegrity(t.Context()))
			require.NoError(t, s.Close())
		}
		damaged := &DamagedError{}
		_, err = Open(t.Context(), path, older, readOnly)
		require.ErrorAs(t, err, &damaged, "an older program leaves it alone")
		assert.True(t, damaged.Newer)
	}
}

func TestAStoreIsClosedToOthersAndToStrangers(t *testing.T) {
	path := filepath.Join(t.TempDir(), "site.db")
	_, err := Open(t.Context(), path, older, true)
	require.ErrorIs(t, err, ErrAbsent)
	s, err := Open(t.Context(), path, older, false)
	require.NoError(t, err)
	require.NoError(t, s.Close())
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	damaged := &DamagedError{}
	for what, edit := range map[string]string{"PRAGMA application_id = 7": "a database of something else", "PRAGMA user_version = 9": "a newer ironbark (version 9", "PRAGMA user_version = 0": "incomplete"} {
		db, err := sql.Open("sqlite", "file:"+path)
		require.NoError(t, err)
		_, err = db.Exec(what)
		require.NoError(t, err)
		require.NoError(t, db.Close())
		_, err = Open(t.Context(), path, older, false)
		require.ErrorAs(t, err, &damaged, what)
		assert.Contains(t, damaged.Error(), edit)
		db, err = sql.Open("sqlite", "file:"+path)
		require.NoError(t, err)
		_, err = db.Exec("PRAGMA application_id = 1232236130; PRAGMA user_version = 1")
		require.NoError(t, err)
		require.NoError(t, db.Close())
	}
	require.NoError(t, os.WriteFile(path, []byte("this is no database, and never was one; it only stands in its place"), 0o600))
	_, err = Open(t.Context(), path, older, true)
	require.ErrorAs(t, err, &damaged)
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Contains(t, string(data), "this is no database", "it is left as it is")
}
