package store

import (
	"database/sql"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// TestAFullDiskIsRead has a store whose last transactions are in its log, on a disk with no room for an index of it: all of them are read, and
// nothing is left of the copy.
func TestAFullDiskIsRead(t *testing.T) {
	for name, logged := range map[string]bool{"log": true, "no log": false} {
		t.Run(name, func(t *testing.T) {
			made := filepath.Join(t.TempDir(), "site.db")
			s, err := Open(t.Context(), made, older, false)
			require.NoError(t, err)
			require.NoError(t, s.Close())
			s, err = Open(t.Context(), made, older, false)
			require.NoError(t, err)
			defer s.Close()
			require.NoError(t, s.Update(t.Context(), func(tx *sql.Tx) error {
				_, err := tx.Exec(`INSERT INTO tides VALUES ('neap')`)
				return err
			}))
			want := 2
			if !logged {
				want = 1
			}
			full := t.TempDir()
			require.NoError(t, unix.Mount("none", full, "tmpfs", 0, "size=1m"))
			defer func() { assert.NoError(t, unix.Unmount(full, 0)) }()
			path := filepath.Join(full, "site.db")
			require.NoError(t, copyFile(made, path))
			if logged {
				require.NoError(t, copyFile(made+"-wal", path+"-wal"))
			}
			filler, err := os.Create(filepath.Join(full, "filler"))
			require.NoError(t, err)
			for _, n := range []int{4096, 1} {
				for err = nil; err == nil; {
					_, err = filler.Write(make([]byte, n))
				}
			}
			require.NoError(t, filler.Close())
			before, err := filepath.Glob("/dev/shm/ironbark-read-*")
			require.NoError(t, err)
			look, err := Open(t.Context(), path, older, true)
			require.NoError(t, err)
			got := 0
			require.NoError(t, look.Read(t.Context(), func(tx *sql.Tx) error {
				got, err = Count(t.Context(), tx, "tides")
				return err
			}))
			assert.Equal(t, want, got)
			require.NoError(t, look.Close())
			after, err := filepath.Glob("/dev/shm/ironbark-read-*")
			require.NoError(t, err)
			assert.Equal(t, before, after)
		})
	}
}
