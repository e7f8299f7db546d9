package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"time"

	"ironbark/internal/gateway"
	"ironbark/internal/unixsocket"
	"ironbark/internal/work"
)

// serveOne runs a gateway of a bastion for one client: on the stand-in cloud, where nobody keeps one
// running. It ends with the client's connection.
func (a *app) serveOne(w *work.Work) func(context.Context, string, netip.Addr) (net.Conn, error) {
	return func(ctx context.Context, name string, from netip.Addr) (_ net.Conn, err error) {
		g, err := w.Gateway(ctx, name)
		if err != nil {
			return nil, err
		}
		policy, err := g.Policy(ctx)
		if err != nil {
			return nil, err
		}
		seed, _, err := w.GatewayKey(name)
		if err != nil {
			return nil, err
		}
		dir := w.GatewayDir(name)
		release, err := gateway.Lock(dir, false)
		if err != nil {
			return nil, err
		}
		file, client, err := privateSocket(ctx, dir)
		if err != nil {
			return nil, errors.Join(err, release())
		}
		run := gateway.New(g, seed, gateway.DefaultLimits(policy.Sessions), slog.New(slog.DiscardHandler), gateway.Listener{File: file, Told: true})
		ctx, stop := context.WithCancel(context.WithoutCancel(ctx))
		if err := run.Control(ctx, dir); err != nil {
			stop()
			return nil, errors.Join(err, release())
		}
		over := make(chan struct{})
		go func() {
			defer close(over)
			_ = run.Run(ctx)
			_ = errors.Join(file.Close(), release())
		}()
		if _, err := fmt.Fprintln(client, from); err != nil {
			stop()
			return nil, err
		}
		return &servedConn{client, stop, over}, nil
	}
}

// servedConn is a client's connection to a gateway of its own.
type servedConn struct {
	net.Conn
	stop func()
	over <-chan struct{}
}

// Close ends both, and returns once the end of the session is recorded.
func (s *servedConn) Close() error {
	err := s.Conn.Close()
	s.stop()
	select {
	case <-s.over:
	case <-time.After(5 * time.Second):
	}
	return err
}

// privateSocket returns a socket that clients are accepted on, and the one connection to it that there
// will ever be.
func privateSocket(ctx context.Context, dir string) (file *os.File, client net.Conn, err error) {
	at, err := os.MkdirTemp(dir, "one-")
	if err != nil {
		return nil, nil, err
	}
	defer os.RemoveAll(at)
	l, err := unixsocket.Listen(at, "socket")
	if err != nil {
		return nil, nil, err
	}
	client, err = unixsocket.Dial(ctx, at, "socket")
	if err == nil {
		file, err = l.File()
	}
	return file, client, errors.Join(err, l.Close())
}
