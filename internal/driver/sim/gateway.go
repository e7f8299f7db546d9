package sim

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"ironbark/internal/driver"
)

// gatewaysDir has a socket for each bastion whose gateway serves. Only their owner connects to them,
// and says first from which address of the stand-in cloud a client comes.
const gatewaysDir = "gateways"

var _ driver.GatewayHost = (*Site)(nil)

// ListenGateway returns the socket to which Dial leads the clients of a bastion. Where another process
// served there, it does so no more.
func (s *Site) ListenGateway(_ context.Context, bastion string) ([]driver.GatewaySocket, error) {
	dir := filepath.Join(s.dir, gatewaysDir)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	if err := os.Remove(filepath.Join(dir, bastion)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	var f *os.File
	err := inDir(dir, bastion, func(path string) error {
		l, err := net.ListenUnix("unix", &net.UnixAddr{Name: path, Net: "unix"})
		if err != nil {
			return err
		}
		l.SetUnlinkOnClose(false)
		f, err = l.File()
		return errors.Join(err, l.Close())
	})
	if err != nil {
		return nil, err
	}
	return []driver.GatewaySocket{{File: f, Told: true}}, nil
}

// inDir gives a file in a folder a path that is short enough for a socket's (108 bytes, unix(7)).
func inDir(dir, name string, do func(path string) error) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return do(fmt.Sprintf("/proc/self/fd/%d/%s", d.Fd(), name))
}

// callGateway connects a client to a bastion's gateway. The session ends within a second of the
// moment at which the tables keep the client out.
func (s *Site) callGateway(ctx context.Context, p driver.Packet, bastion string) (c net.Conn, err error) {
	err = inDir(filepath.Join(s.dir, gatewaysDir), bastion, func(path string) error {
		var d net.Dialer
		c, err = d.DialContext(ctx, "unix", path)
		return err
	})
	if errors.Is(err, os.ErrNotExist) || errors.Is(err, unix.ECONNREFUSED) {
		return nil, &driver.NoGatewayError{Bastion: bastion}
	}
	if err != nil {
		return nil, err
	}
	if _, err := fmt.Fprintln(c, p.Source); err != nil {
		return nil, errors.Join(err, c.Close())
	}
	ctx, cancel := context.WithCancel(context.WithoutCancel(ctx))
	g := &gatewayConn{UnixConn: c.(*net.UnixConn), left: cancel}
	s.watch(ctx, p, "", func() {
		_ = unix.Shutdown(g.fd(), unix.SHUT_RDWR)
		cancel()
	})
	return g, nil
}

// gatewayConn is a client's connection to a gateway.
type gatewayConn struct {
	*net.UnixConn
	left func()
}

// Close ends it.
func (g *gatewayConn) Close() error {
	g.left()
	return g.UnixConn.Close()
}

func (g *gatewayConn) fd() (fd int) {
	fd = -1
	if raw, err := g.SyscallConn(); err == nil {
		_ = raw.Control(func(n uintptr) { fd = int(n) })
	}
	return fd
}

// gatewayOf tells which bastion a packet gets to.
func gatewayOf(fates []driver.ProbeResult) (bastion string, open bool) {
	for _, f := range fates {
		if name, is := strings.CutPrefix(f.By, "bastion "); is && f.Open && f.Machine == "" {
			return name, true
		}
	}
	return "", false
}
