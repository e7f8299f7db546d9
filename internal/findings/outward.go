package findings

import (
	"slices"

	"ironbark/internal/fault"
	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
	"ironbark/internal/sentence"
)

// allowOutward finds what is seldom meant of an allow about what machines call outside.
func (l *looker) allowOutward(s sentence.Allow) {
	l.ended(s, s.Until)
	called, callers, _ := l.resolve.Speaks(s.From, s.To)
	if !l.calls(s, s.From, s.To, called, callers) || !flow.Active(s.Until, l.at) {
		return
	}
	uses := l.waysOf(callers)
	for _, family := range []flow.Addrs{flow.AllIPv4, flow.AllIPv6} {
		word := map[bool]string{true: "IPv4", false: "IPv6"}[family.Equal(flow.AllIPv4)]
		if called.Overlaps(family) && !uses.Overlaps(family) && !general(s.To) {
			l.find(Note, NoFamily, s.String(), "", "“"+s.To.String()+"” has "+word+" addresses, which none of these machines can call")
		}
	}
	if open := l.openNetworks(callers); len(open) > 0 {
		l.advise(Note, OpenAnyway, s.String(), fault.Run("change", "network", open[0], "--outward", "closed"), "machines may call this anyway, since their network is open outward")
		return
	}
	if services := l.resolve.Services(s.Services); services.Contains(flow.Other) && l.atLarge(called) {
		l.find(Caution, AnyService, s.String(), "name the services that are meant", "machines may call every service of the internet")
	}
}

// denyOutward finds what is seldom meant of such a deny.
func (l *looker) denyOutward(s sentence.Deny) {
	l.ended(s, s.Until)
	called, callers, _ := l.resolve.Speaks(s.From, s.To)
	l.calls(s, s.From, s.To, called, callers)
}

// calls finds sentences about calls that nobody makes, and reports whether anybody does.
func (l *looker) calls(s sentence.Sentence, from, to sentence.Set, called flow.Addrs, callers *flow.Group) bool {
	switch {
	case len(callers.Machines) == 0:
		l.find(Caution, Empty, s.String(), "retract it, or name machines that are there", "“"+from.String()+"” stands for no machine, so this sentence does nothing")
	case called.IsEmpty():
		l.find(Caution, Empty, s.String(), "retract it, or name addresses", "“"+to.String()+"” stands for no address outside, so this sentence does nothing")
	case !l.waysOf(callers).Overlaps(called):
		l.advise(Caution, NoDoor, s.String(), fault.Run("change", "network", "NAME", "--outside"), "none of these machines has a way to there, so this sentence does nothing")
	default:
		return true
	}
	return false
}

// waysOf returns what any machine of a group can call at all.
func (l *looker) waysOf(g *flow.Group) (all flow.Addrs) {
	for _, m := range g.Machines {
		for _, d := range l.outward().DoorsTo(m) {
			if !all.ContainsAll(d.From) {
				all = all.Union(d.From)
			}
		}
	}
	return all
}

func (c *common) networksLeftOpen() map[int32]string {
	leftOpen := map[int32]string{}
	for _, n := range c.e.Networks {
		for _, r := range c.outward().Rules {
			if r.Origin.IsOpenNetwork() && r.Origin.Sentence == flow.OpenNetwork(n.Name) {
				for _, m := range r.To.Machines {
					leftOpen[m] = n.Name
				}
			}
		}
	}
	return leftOpen
}

// openNetworks names the networks that leave calls open to all machines of a group that call at all; none where they do not to one.
func (l *looker) openNetworks(g *flow.Group) (names []string) {
	calls := l.outward()
	for _, m := range g.Machines {
		name, is := l.leftOpen()[m]
		switch {
		case len(calls.DoorsTo(m)) == 0:
		case !is:
			return nil
		case !slices.Contains(names, name):
			names = append(names, name)
		}
	}
	return names
}

// resolvers finds networks that are closed outward, and whose machines cannot ask the servers that they are told for names.
func (l *looker) resolvers() {
	dns := span.One(flow.UDPPort(53))
	calls := l.outward()
	for _, n := range l.e.Networks {
		for _, server := range n.DNS {
			at := flow.PointOf(server)
			if !n.Outside || n.OpenOutward || !l.p.Internet().Contains(at) {
				continue
			}
			for m := range calls.Machines {
				in := slices.ContainsFunc(calls.Machines[m].Interfaces, func(i flow.Interface) bool { return i.Network == n.Name })
				if in && !l.mayCall(int32(m), at, dns) {
					l.pos = n.At
					l.advise(Caution, NoNames, n.Name, fault.Run("allow", "dns", "from", n.Name, "to", server.String()), "machines cannot ask "+server.String()+" for names, since this network is closed outward")
					break
				}
			}
		}
	}
}

// mayCall reports whether a machine may call some services at an address.
func (l *looker) mayCall(m int32, at flow.Point, services flow.Services) bool {
	speaks := func(kind flow.RuleKind) bool {
		return slices.ContainsFunc(l.outward().Rules, func(r flow.Rule) bool {
			return r.Kind == kind && r.Active(l.at) && r.To.Has(m) && r.From.Contains(at) && r.Services.Overlaps(services)
		})
	}
	return speaks(flow.Allow) && !speaks(flow.Deny)
}
