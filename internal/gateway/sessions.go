package gateway

import (
	"context"
	"errors"
	"net"
	"os"
	"slices"
	"time"

	"ironbark/internal/bastion"
)

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

// What is kept of a request, at most: a name as DNS has them (RFC 1035), and fingerprints.
const (
	mostHost  = 255
	mostLogin = 512
)

// heard does what a process asks for.
func (g *Gateway) heard(ctx context.Context, p *process, m message) {
	switch m.Op {
	case opForward:
		if m.Forward == nil || len(m.Forward.Host) > mostHost || len(m.Forward.Login) > mostLogin {
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
				g.counters.carried(c.Up-s.Up, c.Down-s.Down)
				s.Up, s.Down = c.Up, c.Down
			}
		}
		g.mu.Unlock()
	case opFailed:
		g.counters.failed.Inc()
		g.failed.count(m.Client)
	}
}

func (g *Gateway) refuse(p *process, id uint64, reason string, failed bool) {
	g.counters.refused.Inc()
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
		g.counters.sessions.Inc()
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
		g.counters.carried(m.Up-s.Up, m.Down-s.Down)
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
