package sim

import (
	"context"
	"crypto/ed25519"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"path"
	"sync"
	"time"

	"ironbark/internal/desktop"
	"ironbark/internal/flow"
	"ironbark/internal/sshkey"
)

// The ports at which the services of machines answer in their own language; what listens elsewhere
// says who it is.
const (
	sshPort   = 22
	httpPort  = 80
	httpsPort = 443
	rdpPort   = 3389
)

// listener is what answers at a service of a machine. It returns when the connection is over.
func (s *Site) listener(in *machineState, service flow.Service) func(context.Context, net.Conn) {
	switch service {
	case flow.TCPPort(sshPort):
		return func(ctx context.Context, c net.Conn) {
			_ = (&server{session: session{s: s, machine: in}}).serve(ctx, c)
		}
	case flow.TCPPort(httpPort):
		return s.web(in)
	case flow.TCPPort(httpsPort):
		return func(ctx context.Context, c net.Conn) {
			cert, err := s.certificate(ctx, in)
			if err == nil {
				s.web(in)(ctx, tls.Server(c, &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12}))
			}
		}
	case flow.TCPPort(rdpPort):
		return func(_ context.Context, c net.Conn) { desktop.Greet(c) }
	}
	return func(_ context.Context, c net.Conn) { _, _ = fmt.Fprintf(c, "%s %s\r\n", in.resource.Name, service) }
}

// webRoot is where machines have their pages.
const webRoot = "/srv/www"

// web answers HTTP with the machine's pages. Without a first page, and at /healthz, it says that it is up.
func (s *Site) web(in *machineState) func(context.Context, net.Conn) {
	return func(ctx context.Context, c net.Conn) {
		l := &oneConn{c: c, over: make(chan struct{})}
		h := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			now, err := s.look(ctx, in.resource.Name) // a page may have changed since
			if err != nil {
				http.Error(w, "the machine is gone", http.StatusServiceUnavailable)
				return
			}
			text, ok := page(now, r.URL.Path)
			if !ok {
				http.NotFound(w, r)
				return
			}
			_, _ = io.WriteString(w, text)
		})
		server := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: time.Minute, MaxHeaderBytes: 64 << 10, ConnState: func(_ net.Conn, state http.ConnState) {
			if state == http.StateClosed || state == http.StateHijacked {
				l.once.Do(func() { close(l.over) })
			}
		}}
		_ = server.Serve(l)
	}
}

// page is what a machine answers when it is asked for a path by HTTP.
func page(in *machineState, at string) (text string, ok bool) {
	at = path.Clean("/" + at)
	for _, file := range []string{path.Join(webRoot, at), path.Join(webRoot, at, "index.html")} {
		if text, ok := in.guest.Read(file); ok {
			return text, true
		}
	}
	if at == "/" || at == "/healthz" {
		return in.resource.Name + " is up\n", true
	}
	return "", false
}

// oneConn is a listener that accepts one connection, and is over when that is.
type oneConn struct {
	c     net.Conn
	given bool
	over  chan struct{}
	once  sync.Once
}

// Accept returns the connection the first time, and waits for its end the second.
func (o *oneConn) Accept() (net.Conn, error) {
	if !o.given {
		o.given = true
		return o.c, nil
	}
	<-o.over
	return nil, errors.New("the connection is over")
}

// Close does nothing: the connection ends by itself.
func (o *oneConn) Close() error { return nil }

// Addr is that of the connection.
func (o *oneConn) Addr() net.Addr { return o.c.LocalAddr() }

// certificate is a machine's own, signed by its host key (RFC 8410).
func (s *Site) certificate(ctx context.Context, in *machineState) (tls.Certificate, error) {
	if _, err := s.hostKey(ctx, in); err != nil {
		return tls.Certificate{}, err
	}
	now := s.clock.Now()
	return sshkey.Certificate(ed25519.NewKeyFromSeed(in.power.Host), in.resource.Name, now.Add(-time.Hour), now.AddDate(1, 0, 0))
}
