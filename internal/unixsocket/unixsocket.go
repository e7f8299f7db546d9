// Package unixsocket listens on and dials sockets in folders whose paths are longer than a socket's
// address may be (108 bytes, unix(7)).
package unixsocket

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
)

// in gives a file in a folder a path that is short enough, while do runs.
func in(dir, name string, do func(path string) error) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return do(fmt.Sprintf("/proc/self/fd/%d/%s", d.Fd(), name))
}

// Listen listens on a socket in a folder, in place of whatever has its name. The file stays when the listener
// is closed.
func Listen(dir, name string) (l *net.UnixListener, err error) {
	if err := os.Remove(filepath.Join(dir, name)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	err = in(dir, name, func(path string) (err error) {
		l, err = net.ListenUnix("unix", &net.UnixAddr{Name: path, Net: "unix"})
		return err
	})
	if err == nil {
		l.SetUnlinkOnClose(false)
	}
	return l, err
}

// Dial connects to a socket in a folder.
func Dial(ctx context.Context, dir, name string) (c *net.UnixConn, err error) {
	err = in(dir, name, func(path string) error {
		var d net.Dialer
		conn, err := d.DialContext(ctx, "unix", path)
		if err == nil {
			c = conn.(*net.UnixConn)
		}
		return err
	})
	return c, err
}
