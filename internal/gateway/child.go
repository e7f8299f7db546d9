package gateway

import (
	"bufio"
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/signal"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sys/unix"

	"ironbark/internal/confine"
)

// childName is what the process that faces the internet is called. It is this program, started anew.
const childName = "ironbark-gateway"

func init() {
	if len(os.Args) > 0 && os.Args[0] == childName {
		os.Exit(child())
	}
}

// child is the whole life of that process. It ends with the other one, and with it all that is
// forwarded.
func child() int {
	signal.Ignore(unix.SIGINT, unix.SIGHUP, unix.SIGTERM) // the other process says when it is over
	if err := serve(); err != nil {
		fmt.Fprintln(os.Stderr, childName+":", err)
		return 1
	}
	return 0
}

func serve() error {
	messages, err := fileConn(fdMessages)
	if err != nil {
		return err
	}
	machines, err := fileConn(fdMachines)
	if err != nil {
		return err
	}
	w := newWire(messages, mostFromParent)
	m, err := w.receive()
	if err != nil || m.Hello == nil || len(m.Hello.HostKey) != ed25519.SeedSize {
		return errors.Join(errors.New("there is nobody to serve for"), err)
	}
	var sockets []net.Listener
	for i := range m.Hello.Listeners {
		f := os.NewFile(uintptr(fdListeners+i), "clients")
		l, err := net.FileListener(f)
		if err = errors.Join(err, f.Close()); err != nil {
			return err
		}
		if u, ok := l.(*net.UnixListener); ok {
			u.SetUnlinkOnClose(false)
		}
		sockets = append(sockets, l)
	}
	host, err := ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(m.Hello.HostKey))
	if err != nil {
		return err
	}
	if err := closeOff(); err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	b := &remote{wire: w, waiting: map[uint64]chan answer{}}
	s := NewServer(host, m.Hello.Limits, b)
	go b.takeMachines(machines.(*net.UnixConn))
	go s.Run(ctx)
	go b.count(ctx, s)
	return b.obey(s, sockets, func() { // whoever comes before it is known whom to let in waits
		for i, l := range sockets {
			go accept(ctx, s, l, m.Hello.Listeners[i])
		}
	})
}

// closeOff gives up all that the process does not need to serve: it opens no file, makes no socket,
// starts no program and signals nobody.
func closeOff() error {
	for what, most := range map[int]uint64{unix.RLIMIT_CORE: 0, unix.RLIMIT_FSIZE: 0} {
		if err := unix.Setrlimit(what, &unix.Rlimit{Cur: most, Max: most}); err != nil {
			return fmt.Errorf("a limit cannot be set: %w", err)
		}
	}
	if err := confine.Calls(confine.Serving...); err != nil {
		return fmt.Errorf("the gateway cannot be closed off, so it does not serve: %w", err)
	}
	return nil
}

func fileConn(fd uintptr) (net.Conn, error) {
	f := os.NewFile(fd, "wire")
	c, err := net.FileConn(f)
	return c, errors.Join(err, f.Close())
}

// accept serves whoever connects.
func accept(ctx context.Context, s *Server, l net.Listener, how Listener) {
	for wait := time.Millisecond; ; {
		c, err := l.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil { // no descriptor is left, say: others will be given back
			time.Sleep(wait)
			wait = min(2*wait, time.Second)
			continue
		}
		wait = time.Millisecond
		go func() {
			client, err := how.client(c)
			if err != nil {
				_ = c.Close()
				return
			}
			s.Serve(ctx, c, client)
		}()
	}
}

// client tells from where somebody comes.
func (l Listener) client(c net.Conn) (netip.Addr, error) {
	if l.Told {
		_ = c.SetReadDeadline(time.Now().Add(5 * time.Second))
		line, err := readLine(c)
		if err != nil {
			return netip.Addr{}, err
		}
		_ = c.SetReadDeadline(time.Time{})
		return netip.ParseAddr(line)
	}
	at, err := netip.ParseAddrPort(c.RemoteAddr().String())
	if err != nil {
		return netip.Addr{}, err
	}
	client := at.Addr().Unmap().WithZone("")
	if client.IsLoopback() {
		for _, a := range l.Loopback {
			if a.Is4() == client.Is4() {
				return a, nil
			}
		}
	}
	if t, ok := c.(*net.TCPConn); ok {
		_ = t.SetNoDelay(true)
	}
	return client, nil
}

// readLine reads up to a line end, and nothing of what follows.
func readLine(c net.Conn) (string, error) {
	r := bufio.NewReaderSize(oneByte{c}, 16)
	line, err := r.ReadString('\n')
	if len(line) > 64 {
		err = errors.New("that is no address")
	}
	return strings.TrimSuffix(line, "\n"), err
}

// oneByte reads a byte at a time.
type oneByte struct{ net.Conn }

func (o oneByte) Read(p []byte) (int, error) { return o.Conn.Read(p[:min(1, len(p))]) }

// answer is what a request came to.
type answer struct {
	machine net.Conn
	refused *session
}

// remote is the backend in the other process.
type remote struct {
	wire *wire

	mu      sync.Mutex
	waiting map[uint64]chan answer
}

// Forward asks the other process.
func (r *remote) Forward(ctx context.Context, f Forward) (net.Conn, error) {
	came := make(chan answer, 1)
	r.mu.Lock()
	r.waiting[f.ID] = came
	r.mu.Unlock()
	if err := r.wire.send(message{Op: opForward, Forward: &f}); err != nil {
		return nil, err
	}
	select {
	case a := <-came:
		if a.refused != nil {
			return nil, &RefusedError{Reason: a.refused.Reason, Failed: a.refused.Failed}
		}
		return a.machine, nil
	case <-ctx.Done():
	}
	r.mu.Lock()
	_, waits := r.waiting[f.ID]
	delete(r.waiting, f.ID)
	r.mu.Unlock()
	if !waits { // the answer came at this very moment
		if a := <-came; a.machine != nil {
			_ = a.machine.Close()
		}
	}
	r.Ended(f.ID, 0, 0, "the client left")
	return nil, ctx.Err()
}

// came hands an answer to whoever waits for it.
func (r *remote) came(id uint64, a answer) {
	r.mu.Lock()
	c := r.waiting[id]
	delete(r.waiting, id)
	r.mu.Unlock()
	if c != nil {
		c <- a
	} else if a.machine != nil {
		_ = a.machine.Close()
	}
}

// takeMachines takes connections to machines over.
func (r *remote) takeMachines(from *net.UnixConn) {
	for {
		id, c, err := receiveMachine(from)
		switch {
		case c != nil && err == nil:
			r.came(id, answer{machine: c})
		case id != 0:
			r.came(id, answer{refused: &session{ID: id, Reason: "the gateway failed", Failed: true}})
		default:
			return
		}
	}
}

// Ended tells that a session is over.
func (r *remote) Ended(id uint64, up, down int64, reason string) {
	_ = r.wire.send(message{Op: opEnded, Session: &session{ID: id, Up: up, Down: down, Reason: reason}})
}

// Failed tells that somebody did not get in.
func (r *remote) Failed(client netip.Addr) { _ = r.wire.send(message{Op: opFailed, Client: client}) }

// count tells once a second how much each session carried, where it did.
func (r *remote) count(ctx context.Context, s *Server) {
	last := map[uint64]int64{}
	for tick := time.NewTicker(time.Second); ; {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		now := map[uint64]int64{}
		var list []session
		s.Counts(func(id uint64, up, down int64) {
			if now[id] = up + down; now[id] != last[id] {
				list = append(list, session{ID: id, Up: up, Down: down})
			}
		})
		last = now
		if len(list) > 0 {
			_ = r.wire.send(message{Op: opCounts, Counts: list})
		}
	}
}

// obey does what the other process says, until it is gone. begin is called once it is known whom to
// let in.
func (r *remote) obey(s *Server, sockets []net.Listener, begin func()) error {
	var once sync.Once
	for {
		m, err := r.wire.receive()
		if err != nil {
			return nil // it is gone, and so is all that it let pass
		}
		if !m.Now.IsZero() {
			s.NotBefore(m.Now)
		}
		switch m.Op {
		case opAccess:
			if m.Access == nil {
				return errors.New("nobody was named")
			}
			if err := s.SetAccess(*m.Access); err != nil {
				return err
			}
			once.Do(begin)
		case opRefresh:
			s.Refresh()
			_ = r.wire.send(message{Op: opAlive})
		case opLimit:
			s.SetSessions(m.N)
		case opRefuse:
			if m.Session != nil {
				r.came(m.Session.ID, answer{refused: m.Session})
			}
		case opEnd:
			if m.Session != nil {
				s.End(m.Session.ID, m.Session.Reason)
			}
		case opDrain:
			s.Drain()
			for _, l := range sockets {
				_ = l.Close()
			}
			go func() {
				for s.Busy() {
					time.Sleep(50 * time.Millisecond)
				}
				_ = r.wire.send(message{Op: opDrained})
			}()
		}
	}
}
