package gateway

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sys/unix"

	"ironbark/internal/bastion"
)

// Backend is what a server asks for what it cannot do by itself.
type Backend interface {
	// Forward judges a request, records it and returns a connection to the machine. The error is a
	// *RefusedError where it is not forwarded.
	Forward(ctx context.Context, f Forward) (net.Conn, error)
	// Ended tells that a forwarded session is over.
	Ended(id uint64, up, down int64, reason string)
	// Failed tells that somebody came from an address and did not get in.
	Failed(client netip.Addr)
}

// Forward is a request to be forwarded, by somebody who has authenticated.
type Forward struct {
	ID uint64 `json:"id"` // of the server's own
	bastion.Request
	Login string `json:"login"` // by which key
}

// RefusedError says that a request was not forwarded.
type RefusedError struct {
	Reason string
	Failed bool // it was let through, and the machine did not answer
}

// Error tells why.
func (r *RefusedError) Error() string { return r.Reason }

// Server speaks SSH (RFC 4251 to 4254) with clients, authenticates people by their keys and forwards
// direct-tcpip channels. It opens no file and makes no connection: see Backend. It is safe for
// concurrent use.
type Server struct {
	limits  Limits
	host    ssh.Signer
	back    Backend
	preauth *preauthLimiter

	access atomic.Pointer[access]
	least  atomic.Int64 // the moment before which it is not, as UnixNano
	fresh  atomic.Int64 // when access was last said to be still right, in nanoseconds of started
	start  time.Time
	ids    atomic.Uint64

	mu       sync.Mutex
	logins   map[*loggedIn]struct{}
	forwards map[uint64]*forward
	pending  map[uint64]string // requests that are not answered yet, and why they are to end
	draining bool
}

// NewServer returns a server that lets nobody in until it is told whom.
func NewServer(host ssh.Signer, limits Limits, back Backend) *Server {
	s := &Server{
		limits: limits, host: host, back: back, preauth: newPreauthLimiter(limits),
		start: time.Now(), logins: map[*loggedIn]struct{}{}, forwards: map[uint64]*forward{},
		pending: map[uint64]string{},
	}
	s.fresh.Store(-int64(limits.Stale) - 1)
	return s
}

// SetAccess says who may log in from now on, and ends the connections of whoever may no more.
func (s *Server) SetAccess(a bastion.Access) error {
	r, err := readAccess(a)
	if err != nil {
		return err
	}
	s.access.Store(r)
	s.Refresh()
	s.mu.Lock()
	defer s.mu.Unlock()
	for l := range s.logins {
		if !r.holds(l.login, l.client, s.now()) {
			go l.end("whoever logged in may no more")
		}
	}
	return nil
}

// SetSessions says how many sessions may be forwarded at once from now on.
func (s *Server) SetSessions(n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.limits.Sessions, s.limits.Logins = n, 2*n+16
}

// NotBefore says that it is not earlier than some moment, whatever this computer's clock says.
func (s *Server) NotBefore(at time.Time) {
	for {
		old := s.least.Load()
		if at.UnixNano() <= old || s.least.CompareAndSwap(old, at.UnixNano()) {
			return
		}
	}
}

// now is the moment by which certificates are judged. It never goes back, also where the clock does: what
// is over stays over.
func (s *Server) now() time.Time {
	now := time.Now()
	if steady := s.start.Add(time.Since(s.start)); steady.After(now) { // by the monotonic clock
		now = steady
	}
	s.NotBefore(now)
	return time.Unix(0, s.least.Load())
}

// Refresh says that what the server goes by is still right.
func (s *Server) Refresh() { s.fresh.Store(int64(time.Since(s.start))) }

// stale reports whether nobody has said so for too long.
func (s *Server) stale() bool {
	return time.Since(s.start)-time.Duration(s.fresh.Load()) > s.limits.Stale
}

// Drain lets nobody new in.
func (s *Server) Drain() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.draining = true
}

// Busy reports whether any session goes on or begins.
func (s *Server) Busy() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.forwards)+len(s.pending) > 0
}

// End ends a forwarded session, also one that is only beginning.
func (s *Server) End(id uint64, reason string) {
	s.mu.Lock()
	f := s.forwards[id]
	if _, begins := s.pending[id]; begins {
		s.pending[id] = reason
	}
	s.mu.Unlock()
	if f != nil {
		f.end(reason)
	}
}

// Counts calls f with the bytes of each session that goes on.
func (s *Server) Counts(f func(id uint64, up, down int64)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for id, one := range s.forwards {
		f(id, one.up.Load(), one.down.Load())
	}
}

// Run checks sessions five times a second until ctx ends: a session that is over ends within a second.
func (s *Server) Run(ctx context.Context) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			s.look()
		}
	}
}

// look ends what has gone on for too long, or without a word.
func (s *Server) look() {
	now, moment, a := time.Now(), s.now(), s.access.Load()
	s.mu.Lock()
	defer s.mu.Unlock()
	for l := range s.logins {
		switch {
		case !a.holds(l.login, l.client, moment):
			go l.end("what whoever logged in had is over")
		case now.Sub(l.since) > s.limits.Longest:
			go l.end(fmt.Sprintf("it went on for %s", s.limits.Longest))
		case l.quiet(now) > s.limits.Idle && len(l.forwards) == 0:
			go l.end(fmt.Sprintf("nothing was forwarded for %s", s.limits.Idle))
		default:
			l.ask(now, s.limits)
		}
	}
	for _, f := range s.forwards {
		if now.Sub(f.last()) > s.limits.Idle {
			go f.end(fmt.Sprintf("nothing came for %s", s.limits.Idle))
		}
	}
}

// config is the server's for one client.
func (s *Server) config(client netip.Addr) *ssh.ServerConfig {
	c := &ssh.ServerConfig{
		Config:                  ssh.Config{KeyExchanges: keyExchanges, Ciphers: ciphers, MACs: macs},
		PublicKeyAuthAlgorithms: signatures,
		MaxAuthTries:            s.limits.Tries,
		ServerVersion:           "SSH-2.0-Ironbark",
		PublicKeyCallback: func(meta ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
			if s.stale() {
				return nil, errors.New("the gateway does not know whom to let in now")
			}
			return s.access.Load().check(meta, key, client, s.now())
		},
	}
	c.AddHostKey(s.host)
	return c
}

// Algorithms, the best first: nothing older than what OpenSSH 8 and PuTTY 0.71 speak.
var (
	keyExchanges = []string{ssh.KeyExchangeMLKEM768X25519, ssh.KeyExchangeCurve25519, "curve25519-sha256@libssh.org"}
	ciphers      = []string{ssh.CipherAES128GCM, ssh.CipherAES256GCM}
	macs         = []string{ssh.HMACSHA256ETM, ssh.HMACSHA512ETM}
	signatures   = []string{ssh.KeyAlgoED25519, ssh.KeyAlgoSKED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521, ssh.KeyAlgoSKECDSA256, ssh.KeyAlgoRSASHA256, ssh.KeyAlgoRSASHA512}
)

// Serve serves one client, and returns when its connection is over.
func (s *Server) Serve(ctx context.Context, c net.Conn, client netip.Addr) {
	defer c.Close()
	if a := s.access.Load(); s.stale() || !a.admits(client) {
		return
	}
	source := sourceOf(client)
	leave := s.preauth.enter(source, func() { _ = c.Close() })
	defer leave()
	if d := s.preauth.delay(source, time.Now()); d > 0 {
		select {
		case <-time.After(d):
		case <-ctx.Done():
			return
		}
	}
	_ = c.SetDeadline(time.Now().Add(s.limits.LoginTime))
	conn, channels, requests, err := ssh.NewServerConn(&clientConn{c, client}, s.config(client))
	if err != nil {
		s.preauth.fail(source, time.Now())
		s.back.Failed(client)
		return
	}
	leave()
	s.preauth.succeed(source)
	_ = c.SetDeadline(time.Time{})
	l := &loggedIn{server: s, conn: conn, client: client, login: loginOf(conn.Permissions), since: time.Now(), forwards: map[uint64]*forward{}}
	if !s.enter(l) {
		_ = conn.Close()
		return
	}
	defer s.leave(l)
	l.serve(ctx, channels, requests)
}

// clientConn is a connection that comes from where its client is.
type clientConn struct {
	net.Conn
	client netip.Addr
}

// halfPacket is how much the SSH library writes first of a packet that is larger, the rest coming at once.
const halfPacket = 4096

// Write writes. The kernel sends the first part of a packet together with the rest (MSG_MORE, send(2)):
// alone it would wake the client for nothing.
func (c *clientConn) Write(p []byte) (n int, err error) {
	t, tcp := c.Conn.(*net.TCPConn)
	if !tcp || len(p) != halfPacket {
		return c.Conn.Write(p)
	}
	raw, err := t.SyscallConn()
	if err != nil {
		return 0, err
	}
	failed := raw.Write(func(fd uintptr) bool {
		var sent int
		sent, err = unix.SendmsgN(int(fd), p[n:], nil, nil, unix.MSG_MORE)
		n += max(0, sent)
		if errors.Is(err, unix.EAGAIN) || errors.Is(err, unix.EINTR) {
			err = nil
			return false
		}
		return err != nil || n == len(p)
	})
	return n, errors.Join(failed, err)
}

// RemoteAddr is the client's address.
func (c *clientConn) RemoteAddr() net.Addr {
	return &net.TCPAddr{IP: c.client.AsSlice(), Zone: c.client.Zone()}
}

// enter takes a connection in, if there is room and whoever it is still may.
func (s *Server) enter(l *loggedIn) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.draining || len(s.logins) >= s.limits.Logins || !s.access.Load().holds(l.login, l.client, s.now()) {
		return false
	}
	s.logins[l] = struct{}{}
	return true
}

func (s *Server) leave(l *loggedIn) {
	s.mu.Lock()
	delete(s.logins, l)
	s.mu.Unlock()
	l.end("the client left")
}
