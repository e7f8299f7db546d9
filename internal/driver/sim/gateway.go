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
	"ironbark/internal/unixsocket"
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
	l, err := unixsocket.Listen(dir, bastion)
	if err != nil {
		return nil, err
	}
	f, err := l.File()
	if err = errors.Join(err, l.Close()); err != nil {
		return nil, err
	}
	return []driver.GatewaySocket{{File: f, Told: true}}, nil
}

// callGateway connects a client to a bastion's gateway. The session ends within a second of the
// moment at which the tables keep the client out.
func (s *Site) callGateway(ctx context.Context, p driver.Packet, bastion string) (net.Conn, error) {
	c, err := unixsocket.Dial(ctx, filepath.Join(s.dir, gatewaysDir), bastion)
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
	g := &gatewayConn{UnixConn: c, left: cancel}
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
