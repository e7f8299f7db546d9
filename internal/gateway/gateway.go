// Package gateway is the SSH gateway of a bastion: what plain SSH clients jump over (ssh -J).
//
//	clients ──▶ the process that faces the internet     speaks SSH, knows keys; no files, no privileges
//	                │ requests, ends  ▲ who may log in,
//	                ▼                 │ connections to machines
//	            Gateway, in a process of its own        judges, records, connects
//	                │
//	                ▼
//	            Host: the estate
//
// Whoever takes the first process over has no more than what people may reach through this bastion,
// and each session of theirs is in the journal.
package gateway

import (
	"context"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"ironbark/internal/bastion"
)

// Host is what a gateway needs of the estate that it serves. Implementations are safe for concurrent use.
type Host interface {
	// Policy returns what the gateway goes by now, the same value for as long as nothing has
	// changed. Cost: constant for as long as nothing has.
	Policy(ctx context.Context) (*bastion.Policy, error)
	// Now is the moment by which sentences are judged.
	Now() time.Time
	// Dial connects to a machine from the gateway's own address.
	Dial(ctx context.Context, from netip.Addr, to netip.AddrPort) (net.Conn, error)
	// Began records a session before it is joined, and returns its number.
	Began(ctx context.Context, s Session) (int64, error)
	// Ended records that a session is over.
	Ended(ctx context.Context, s Session, reason string) error
	// Failures records who did not get in.
	Failures(ctx context.Context, text string) error
}

// Session is a forwarded session that goes on.
type Session struct {
	Number  int64      `json:"number"` // of its entry in the journal
	Person  string     `json:"person"`
	Client  netip.Addr `json:"client"`
	Machine string     `json:"machine"`
	Port    uint16     `json:"port"`
	Since   time.Time  `json:"since"`
	Up      int64      `json:"up"`   // bytes from the client, as last told
	Down    int64      `json:"down"` // bytes to the client
	Login   string     `json:"login"`
}

// Listener is a socket that clients connect to.
type Listener struct {
	File *os.File `json:"-"`
	// Told says that the first line of each connection is the client's address: of a socket that only
	// this very program connects to.
	Told bool `json:"told,omitempty"`
	// Keep leaves it listening when the gateway stops, for the next one: another process holds it.
	Keep bool `json:"-"`
	// Loopback is where clients of this very computer are, by family; none: where they connect from.
	Loopback []netip.Addr `json:"loopback,omitempty"`
}

// Gateway is a running gateway. Make it with [New].
type Gateway struct {
	// Ready, where it is set before Run, is called once people are let in.
	Ready func()

	host      Host
	log       *slog.Logger
	seed      []byte
	limits    Limits
	listeners []Listener
	counters  *counters

	mu     sync.Mutex
	policy *bastion.Policy
	fresh  time.Time // when the policy was last known to be right
	child  *process
	live   map[uint64]*live
	wake   chan struct{}
	failed *failedLogins
}

// live is a session as this process knows it.
type live struct {
	Session
	request bastion.Request
	begun   bool // it is in the journal
	done    bool // and its end, too
	over    bool // it is to end
	reason  string
	since   time.Time // since when it is to end
}

// New returns a gateway that serves on some sockets, with the seed of its host key (Ed25519, RFC 8032).
func New(host Host, seed []byte, limits Limits, log *slog.Logger, listeners ...Listener) *Gateway {
	return &Gateway{
		host: host, log: log, seed: seed, limits: limits, listeners: listeners, counters: newCounters(),
		live: map[uint64]*live{}, wake: make(chan struct{}, 1), failed: newFailedLogins(),
	}
}

// How often the gateway looks whether it still goes by what is right. What is no longer allowed ends
// within a second.
const (
	lookEvery    = 200 * time.Millisecond
	refreshEvery = time.Second
	obeyWithin   = 2 * time.Second
	aliveWithin  = 5 * time.Second
)

// Run serves until ctx ends, and then until what goes on is over or has had its time. A process that
// faces the internet and dies is started anew.
func (g *Gateway) Run(ctx context.Context) error {
	if err := g.look(ctx); err != nil {
		return err
	}
	background, stop := context.WithCancel(context.WithoutCancel(ctx))
	defer stop()
	go g.watch(background)
	for wait := 100 * time.Millisecond; ; {
		p, err := g.startChild()
		if err != nil {
			return err
		}
		started := time.Now()
		g.attend(ctx, background, p)
		g.lost(background)
		if ctx.Err() != nil {
			g.flushFailures(background)
			return nil
		}
		g.counters.restarts.Inc()
		g.log.Error("the process that faces the internet died, and is started anew", "said", p.said())
		if time.Since(started) > time.Minute {
			wait = 100 * time.Millisecond
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return nil
		}
		wait = min(2*wait, 10*time.Second)
	}
}

// attend answers a process until it is gone: by itself, or because ctx ended and all that went on is over.
func (g *Gateway) attend(ctx, background context.Context, p *process) {
	g.mu.Lock()
	g.child = p
	policy := g.policy
	g.mu.Unlock()
	g.tell(p, policy)
	if g.Ready != nil {
		g.Ready()
		g.Ready = nil
	}
	gone := make(chan struct{})
	empty := make(chan struct{})
	var once sync.Once
	go func() {
		defer close(gone)
		for {
			m, err := p.wire.receive()
			if err != nil {
				return
			}
			p.speaks()
			if m.Op == opDrained {
				once.Do(func() { close(empty) })
				continue
			}
			g.heard(background, p, m)
		}
	}()
	defer func() {
		p.stop()
		<-gone
	}()
	select {
	case <-gone:
		return
	case <-ctx.Done():
	}
	g.log.Info("the gateway stops: nobody new is let in", "sessions", len(g.Who()))
	for _, l := range g.listeners {
		if !l.Keep {
			_ = unix.Shutdown(int(l.File.Fd()), unix.SHUT_RDWR) // clients are refused, and do not wait
		}
	}
	_ = p.send(message{Op: opDrain})
	select {
	case <-gone:
	case <-empty:
	case <-time.After(g.limits.DrainingFor):
		g.log.Info("what still goes on is ended", "sessions", len(g.Who()))
		g.EndAll("the gateway stopped")
		select {
		case <-empty:
		case <-gone:
		case <-time.After(obeyWithin):
		}
	}
}
