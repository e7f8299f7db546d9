package sqlite

import (
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
