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

// TestNothingOutsideIsOpened opens files of a folder by names and links that lead out of it.
func TestNothingOutsideIsOpened(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	require.NoError(t, os.MkdirAll(at("estate/images"), 0o700))
	require.NoError(t, os.WriteFile(at("secret"), []byte("key"), 0o600))
	require.NoError(t, os.WriteFile(at("estate/images/a"), []byte("tides"), 0o600))
	require.NoError(t, os.Symlink("images/a", at("estate/inside")))
	require.NoError(t, os.Symlink("../secret", at("estate/out")))
	require.NoError(t, os.Symlink(at("secret"), at("estate/far")))
	require.NoError(t, os.Symlink("..", at("estate/up")))
	require.NoError(t, unix.Mkfifo(at("estate/pipe"), 0o600))
	for _, good := range []string{"images/a", "inside", "images/../images/a"} {
		data, err := plainfile.ReadIn(at("estate"), good, 9)
		require.NoError(t, err, good)
		require.Equal(t, "tides", string(data))
	}
	for _, bad := range []string{"out", "far", "up/secret", "../secret", at("secret"), "pipe", "images", ""} {
		_, err := plainfile.ReadIn(at("estate"), bad, 9)
		require.Error(t, err, bad)
	}
}
