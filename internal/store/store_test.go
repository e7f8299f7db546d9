package store

import (
	"database/sql"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var older = Format{ApplicationID: 0x49726e62, Version: 1, Schema: `CREATE TABLE tides (name TEXT PRIMARY KEY) STRICT; INSERT INTO tides VALUES ('spring');`}

func TestAStoreOfAnotherVersionIsLeftAlone(t *testing.T) {
	newer := Format{ApplicationID: older.ApplicationID, Version: 3, Schema: older.Schema}
	for _, formats := range [][2]Format{{older, newer}, {newer, older}} {
		path := filepath.Join(t.TempDir(), "site.db")
		s, err := Open(t.Context(), path, formats[0], false)
		require.NoError(t, err)
		require.NoError(t, s.Close())
		for _, readOnly := range []bool{true, false} {
			damaged := &DamagedError{}
			_, err = Open(t.Context(), path, formats[1], readOnly)
			require.ErrorAs(t, err, &damaged)
			assert.Equal(t, formats[0].Version > formats[1].Version, damaged.Newer)
		}
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
