package gateway

import (
	"context"
	"fmt"
	"time"

	"ironbark/internal/bastion"
)

// tell tells a process whom it may let in.
func (g *Gateway) tell(p *process, policy *bastion.Policy) {
	access := policy.Access()
	_ = p.send(message{Op: opLimit, N: policy.Sessions})
	_ = p.send(message{Op: opAccess, Access: &access, Now: g.host.Now()})
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
	case p.silent() > aliveWithin:
		g.log.Error("the process that faces the internet does not answer; it is killed")
		p.kill()
		return nil
	case due:
		p.ask(message{Op: opRefresh, Now: g.host.Now()})
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

func (g *Gateway) flushFailures(ctx context.Context) {
	if text := g.failed.flush(); text != "" {
		g.log.Info("logins that failed", "counts", text)
		if err := g.host.Failures(ctx, text); err != nil {
			g.log.Error("failed logins cannot be recorded", "error", err)
		}
	}
}
