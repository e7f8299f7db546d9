package cli

import (
	"bytes"
	"crypto/rand"
	"errors"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/cli/view"
)

// breaking is a connection that breaks after so many bytes.
type breaking struct {
	net.Conn
	left atomic.Int64
}

var errBroke = errors.New("the line broke")

func (b *breaking) passed(n int, err error) (int, error) {
	if b.left.Add(int64(-n)) < 0 {
		return n, errors.Join(errBroke, b.Close())
	}
	return n, err
}

func (b *breaking) Write(p []byte) (int, error) { return b.passed(b.Conn.Write(p)) }
func (b *breaking) Read(p []byte) (int, error)  { return b.passed(b.Conn.Read(p)) }

// copyTo copies by an SFTP server, over a connection that breaks after so many bytes.
func copyTo(t *testing.T, enough int64, do func(*copying) error) (carried int64, told string, err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	over := make(chan struct{})
	go func() {
		defer close(over)
		c, err := l.Accept()
		if err != nil {
			return
		}
		if server, err := sftp.NewServer(c); err == nil {
			_ = server.Serve()
		}
		_ = c.Close()
	}()
	c, err := net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	line := &breaking{Conn: c}
	line.left.Store(enough)
	client, err := sftp.NewClientPipe(line, line, sftp.UseConcurrentWrites(true))
	require.NoError(t, err)
	var notes bytes.Buffer
	x := &copying{there: client, a: &app{print: &view.Printer{Out: io.Discard, Err: &notes, Width: 100}}}
	err = do(x)
	_ = client.Close()
	_ = c.Close()
	<-over
	if x.kept {
		notes.WriteString("kept\n")
	}
	return enough - line.left.Load(), notes.String(), err
}

// TestACopyGoesOnWhereItWasBrokenOff breaks copies off in both directions, and begins them again.
func TestACopyGoesOnWhereItWasBrokenOff(t *testing.T) {
	const size, enough = 12 << 20, 1 << 30
	chart := make([]byte, size)
	_, err := rand.Read(chart)
	require.NoError(t, err)
	for what, do := range map[string]func(from, to string) func(*copying) error{
		"there": func(from, to string) func(*copying) error {
			return func(x *copying) error { return x.put(from, "gauge-1", to) }
		},
		"back": func(from, to string) func(*copying) error {
			return func(x *copying) error { return x.get("gauge-1", from, to) }
		},
	} {
		dir := t.TempDir()
		from, to := filepath.Join(dir, "chart"), filepath.Join(dir, "copied")
		require.NoError(t, os.WriteFile(from, chart, 0o600))
		_, told, err := copyTo(t, 9<<20, do(from, to))
		require.Error(t, err, what)
		assert.Contains(t, told, "kept", what)
		assert.NoFileExists(t, to, what)

		carried, told, err := copyTo(t, enough, do(from, to))
		require.NoError(t, err, what)
		assert.Contains(t, told, "goes on after the first ", what)
		assert.Less(t, carried, int64(9<<20), "%s: not all of it again", what)
		got, err := os.ReadFile(to)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(chart, got), what)

		// a part of something else is none of it
		_, _, err = copyTo(t, 9<<20, do(from, to))
		require.Error(t, err, what)
		other := bytes.ToUpper(append([]byte("another chart"), chart[:size-13]...))
		require.NoError(t, os.WriteFile(from, other, 0o600))
		_, told, err = copyTo(t, enough, do(from, to))
		require.NoError(t, err, what)
		assert.NotContains(t, told, "goes on", what)
		got, err = os.ReadFile(to)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(other, got), what)

		// what is not worth keeping is taken away, or cannot be where the line is gone
		require.NoError(t, os.WriteFile(from, other[:64<<10], 0o600))
		_, told, err = copyTo(t, 20<<10, do(from, to))
		require.Error(t, err, what)
		assert.NotContains(t, told, "kept", what)
		assert.False(t, strings.Contains(told, "goes on"), what)
	}
}
