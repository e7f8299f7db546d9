package plainfile_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"ironbark/internal/plainfile"
)

// TestNobodyIsWaitedFor opens what is no ordinary file, by its name and through a link.
func TestNobodyIsWaitedFor(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	require.NoError(t, unix.Mkfifo(at("pipe"), 0o600))
	require.NoError(t, os.Symlink("pipe", at("link")))
	require.NoError(t, os.WriteFile(at("plain"), []byte("tides"), 0o600))
	done := make(chan struct{})
	go func() {
		defer close(done)
		for _, name := range []string{at("pipe"), at("link"), dir, "/dev/null", "/dev/tty"} {
			_, err := plainfile.Read(name, plainfile.Small)
			require.ErrorIs(t, err, plainfile.ErrNotPlain, name)
		}
	}()
	select {
	case <-done:
	case <-time.After(10 * time.Second):
		t.Fatal("a pipe was waited for")
	}
	data, err := plainfile.Read(at("plain"), 5)
	require.NoError(t, err)
	require.Equal(t, "tides", string(data))
	_, err = plainfile.Read(at("plain"), 4)
	require.ErrorIs(t, err, plainfile.ErrTooLarge)
	_, err = plainfile.Read(at("nothing"), 4)
	require.ErrorIs(t, err, os.ErrNotExist)
}
