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
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"slices"
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
	File *os.File
	// Told says that the first line of each connection is the client's address: of a socket that only
	// this very program connects to.
	Told bool
	// Keep leaves it listening when the gateway stops, for the next one: another process holds it.
	Keep bool
	// Loopback is where clients of this very computer are, by family; none: where they connect from.
	Loopback []netip.Addr
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
	metrics   *metrics

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
		host: host, log: log, seed: seed, limits: limits, listeners: listeners, metrics: newMetrics(),
		live: map[uint64]*live{}, wake: make(chan struct{}, 1), failed: newFailedLogins(),
	}
}

// How often the gateway looks whether it still goes by what is right. What is no longer allowed ends
// within a second.
const (
	lookEvery    = 200 * time.Millisecond
	refreshEvery = time.Second
	obeyWithin   = 2 * time.Second
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
		drained := g.attend(ctx, background, p)
		g.lost(background)
		if drained || ctx.Err() != nil {
			g.flushFailures(background)
			return nil
		}
		g.metrics.restarts.Inc()
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

// attend answers a process until it is gone, or drained after ctx ended.
func (g *Gateway) attend(ctx, background context.Context, p *process) (drained bool) {
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
		return false
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
	return true
}

// tell tells a process whom it may let in.
func (g *Gateway) tell(p *process, policy *bastion.Policy) {
	access := policy.Access()
	_ = p.send(message{Op: opLimit, N: policy.Sessions})
	_ = p.send(message{Op: opAccess, Access: &access})
}

// Refresh looks at once whether anything has changed.
func (g *Gateway) Refresh() {
	select {
	case g.wake <- struct{}{}:
	default:
	}
}

// watch looks again and again whether anything has changed.
func (g *Gateway) watch(ctx context.Context) {
	tick, minute := time.NewTicker(lookEvery), time.NewTicker(time.Minute)
	defer tick.Stop()
	defer minute.Stop()
	unread := ""
	for {
		select {
		case <-ctx.Done():
			return
		case <-minute.C:
			g.flushFailures(ctx)
			continue
		case <-g.wake:
		case <-tick.C:
		}
		now := ""
		if err := g.look(ctx); err != nil && ctx.Err() == nil {
			now = err.Error()
		}
		if now != unread && now != "" {
			g.log.Error("what the gateway goes by cannot be read; nobody new is let in after a while", "after", g.limits.Stale, "error", now)
		} else if now != unread {
			g.log.Info("what the gateway goes by can be read again")
		}
		unread = now
	}
}

// look reads what the gateway goes by, tells the other process, and ends what may no longer be.
func (g *Gateway) look(ctx context.Context) error {
	policy, err := g.host.Policy(ctx)
	if err != nil {
		return err
	}
	g.mu.Lock()
	changed := policy != g.policy
	p := g.child
	due := time.Since(g.fresh) >= refreshEvery
	if changed || due {
		g.policy, g.fresh = policy, time.Now()
	}
	g.mu.Unlock()
	switch {
	case p == nil:
		return nil
	case changed:
		g.log.Info("what the gateway goes by has changed")
		g.tell(p, policy)
	case due:
		_ = p.send(message{Op: opRefresh})
	default:
		return nil
	}
	g.judgeAgain(policy)
	return nil
}

// judgeAgain ends the sessions that are no longer allowed. A process that does not obey is killed.
func (g *Gateway) judgeAgain(policy *bastion.Policy) {
	now := g.host.Now()
	g.mu.Lock()
	defer g.mu.Unlock()
	for id, s := range g.live {
		if !s.begun { // it is judged once more before it is joined
			continue
		}
		if !s.over {
			if d := policy.Judge(s.request, now); !d.Forward || d.Machine != s.Machine {
				g.endLocked(id, s, told(s.request, d))
			}
		} else if time.Since(s.since) > obeyWithin && g.child != nil {
			g.log.Error("the process that faces the internet does not end what it is told to; it is killed", "session", s.Number)
			g.child.kill()
			return
		}
	}
}

func (g *Gateway) endLocked(id uint64, s *live, reason string) {
	s.over, s.reason, s.since = true, reason, time.Now()
	if g.child != nil {
		_ = g.child.send(message{Op: opEnd, Session: &session{ID: id, Reason: reason}})
	}
}

// told tells in words what was decided.
func told(r bastion.Request, d bastion.Decision) string {
	switch d.Reason {
	case bastion.ByDeny:
		return "kept out by: " + d.Origin.Sentence
	case bastion.NotFrom:
		return fmt.Sprintf("%s may not reach this gateway", r.Client)
	case bastion.NoMachine:
		return fmt.Sprintf("%q is no machine that this gateway reaches", r.Host)
	}
	return fmt.Sprintf("no route lets %s through to tcp/%d of %s", r.Person, r.Port, d.Machine)
}

// Who lists the sessions that go on, the oldest first.
func (g *Gateway) Who() (list []Session) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, s := range g.live {
		if s.begun {
			list = append(list, s.Session)
		}
	}
	slices.SortFunc(list, func(a, b Session) int { return int(a.Number - b.Number) })
	return list
}

// End ends the session of a number, and reports whether it goes on.
func (g *Gateway) End(number int64, reason string) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	for id, s := range g.live {
		if s.begun && s.Number == number {
			if !s.over {
				g.endLocked(id, s, reason)
			}
			return true
		}
	}
	return false
}

// EndAll ends all sessions.
func (g *Gateway) EndAll(reason string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for id, s := range g.live {
		if !s.over {
			g.endLocked(id, s, reason)
		}
	}
}

// heard does what a process asks for.
func (g *Gateway) heard(ctx context.Context, p *process, m message) {
	switch m.Op {
	case opForward:
		if m.Forward == nil {
			return
		}
		s := &live{Session: Session{Person: m.Forward.Person, Client: m.Forward.Client, Port: m.Forward.Port, Login: m.Forward.Login}, request: m.Forward.Request}
		g.mu.Lock()
		_, twice := g.live[m.Forward.ID]
		full := len(g.live) >= g.policy.Sessions
		if !twice && !full {
			g.live[m.Forward.ID] = s
		}
		g.mu.Unlock()
		switch {
		case twice:
		case full:
			g.refuse(p, m.Forward.ID, "the gateway carries as many sessions as it may", false)
		default:
			go g.forward(ctx, p, m.Forward.ID, s)
		}
	case opEnded:
		if m.Session != nil {
			g.ended(ctx, *m.Session)
		}
	case opCounts:
		g.mu.Lock()
		for _, c := range m.Counts {
			if s := g.live[c.ID]; s != nil {
				g.metrics.carried(c.Up-s.Up, c.Down-s.Down)
				s.Up, s.Down = c.Up, c.Down
			}
		}
		g.mu.Unlock()
	case opFailed:
		g.metrics.failed.Inc()
		g.failed.count(m.Client)
	}
}

func (g *Gateway) refuse(p *process, id uint64, reason string, failed bool) {
	g.metrics.refused.Inc()
	_ = p.send(message{Op: opRefuse, Session: &session{ID: id, Reason: reason, Failed: failed}})
}

// forward judges a request, connects, records, and hands the connection over, in this order: nothing
// is joined to a client that the journal does not have.
func (g *Gateway) forward(ctx context.Context, p *process, id uint64, s *live) {
	c, d, err := g.connect(ctx, s)
	if err != nil {
		g.drop(id)
		var r *RefusedError
		if !errors.As(err, &r) {
			r = &RefusedError{Reason: err.Error(), Failed: true}
		}
		g.log.Info("refused", "person", s.Person, "client", s.Client, "to", s.request.Host, "port", s.Port, "why", r.Reason)
		g.refuse(p, id, r.Reason, r.Failed)
		return
	}
	defer c.Close()
	g.mu.Lock()
	s.Machine, s.Since = d.Machine, g.host.Now()
	begins := s.Session
	g.mu.Unlock()
	number, err := g.host.Began(ctx, begins)
	if err != nil {
		g.drop(id)
		g.log.Error("a session cannot be recorded, and is refused", "error", err)
		g.refuse(p, id, "the gateway cannot record the session", true)
		return
	}
	g.mu.Lock()
	s.Number, s.begun = number, true
	again := g.policy.Judge(s.request, g.host.Now())
	stays := g.live[id] == s && !s.over && again.Forward && again.Machine == s.Machine && g.child == p
	g.mu.Unlock()
	if stays {
		g.metrics.sessions.Inc()
		err = handOver(p, id, c)
	}
	if !stays || err != nil {
		g.refuse(p, id, "it was over before it began", true)
		g.finish(ctx, id, s, session{Reason: "it was over before it began"})
		return
	}
	g.log.Info("session", "number", number, "person", s.Person, "client", s.Client, "machine", s.Machine, "port", s.Port, "login", s.Login)
}

// connect judges a request and connects to the machine.
func (g *Gateway) connect(ctx context.Context, s *live) (net.Conn, bastion.Decision, error) {
	g.mu.Lock()
	policy, fresh := g.policy, g.fresh
	g.mu.Unlock()
	if time.Since(fresh) > g.limits.Stale {
		return nil, bastion.Decision{}, &RefusedError{Reason: "the gateway does not know what it may forward now"}
	}
	d := policy.Judge(s.request, g.host.Now())
	if !d.Forward {
		return nil, d, &RefusedError{Reason: told(s.request, d)}
	}
	var errs []error
	for _, to := range d.To {
		c, err := g.host.Dial(ctx, d.From, to)
		if err == nil {
			return c, d, nil
		}
		errs = append(errs, err)
	}
	return nil, d, &RefusedError{Reason: errors.Join(errs...).Error(), Failed: true}
}

// handOver passes a connection's descriptor.
func handOver(p *process, id uint64, c net.Conn) error {
	f, ok := c.(interface{ File() (*os.File, error) })
	if u, wraps := c.(interface{ Unwrap() net.Conn }); !ok && wraps {
		f, ok = u.Unwrap().(interface{ File() (*os.File, error) })
	}
	if !ok {
		return errors.New("the connection has no descriptor")
	}
	file, err := f.File()
	if err != nil {
		return err
	}
	return errors.Join(p.hand(id, int(file.Fd())), file.Close())
}

func (g *Gateway) drop(id uint64) {
	g.mu.Lock()
	defer g.mu.Unlock()
	delete(g.live, id)
}

// ended hears that a session is over.
func (g *Gateway) ended(ctx context.Context, m session) {
	g.mu.Lock()
	s := g.live[m.ID]
	joined := s != nil && s.begun
	if s != nil {
		s.over = true // whoever is connecting it sees that it is gone
	}
	g.mu.Unlock()
	if joined {
		g.finish(ctx, m.ID, s, m)
	}
}

// finish records that a session is over, once.
func (g *Gateway) finish(ctx context.Context, id uint64, s *live, m session) {
	g.mu.Lock()
	if s.done {
		g.mu.Unlock()
		return
	}
	s.done = true
	if g.live[id] == s {
		delete(g.live, id)
	}
	if m.Up >= s.Up && m.Down >= s.Down {
		g.metrics.carried(m.Up-s.Up, m.Down-s.Down)
		s.Up, s.Down = m.Up, m.Down
	}
	if s.reason != "" {
		m.Reason = s.reason
	}
	done := s.Session
	g.mu.Unlock()
	g.log.Info("session ended", "number", done.Number, "person", done.Person, "machine", done.Machine, "up", done.Up, "down", done.Down, "why", m.Reason)
	if err := g.host.Ended(ctx, done, m.Reason); err != nil {
		g.log.Error("the end of a session cannot be recorded", "number", done.Number, "error", err)
	}
}

// lost records the ends of all sessions of a process that is gone. What it is being connected sees
// that for itself.
func (g *Gateway) lost(ctx context.Context) {
	g.mu.Lock()
	g.child = nil
	gone := map[uint64]*live{}
	for id, s := range g.live {
		if s.begun {
			gone[id] = s
		}
	}
	g.live = map[uint64]*live{}
	g.mu.Unlock()
	for id, s := range gone {
		g.finish(ctx, id, s, session{Reason: "the gateway's process ended"})
	}
}

func (g *Gateway) flushFailures(ctx context.Context) {
	if text := g.failed.flush(); text != "" {
		g.log.Info("logins that failed", "counts", text)
		if err := g.host.Failures(ctx, text); err != nil {
			g.log.Error("failed logins cannot be recorded", "error", err)
		}
	}
}
