package exposure

import (
	"net/netip"
	"time"

	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
	"ironbark/internal/sentence"
)

// Flow is one concrete flow, as evidence.
type Flow struct {
	Source  netip.Addr
	Service flow.Service
}

// Broken is a guarantee that does not hold, with a flow that shows it.
type Broken struct {
	Guarantee flow.Origin
	At        time.Time // the first moment at which it does not hold
	Flow      Flow
	Target    string // the machine or front that the flow leads to
	By        Part   // what lets the flow in (never), or keeps it out (always)
	Potential bool   // no flow is open now; a permit or route could let one in
}

// Guarantees checks every never and always of an estate against its plan, at
// the view's moment and just after each later end, since an ending deny opens.
// With openings in the plan, those count too. Cost: moments × guarantees × the
// machines they name.
func Guarantees(e *estate.Estate, p *flow.Plan, at time.Time) []Broken {
	g := &guarantor{e: e, resolve: flow.NewResolver(e, p), could: possible(e, p)}
	var list []Broken
	told := map[flow.Origin]bool{}
	for _, moment := range append([]time.Time{at}, p.Ends(at)...) {
		g.now, g.standing, g.potential = NewView(p, moment), NewView(onlyStanding(p), moment), NewView(p.With(g.could...), moment)
		for _, st := range e.Sentences {
			origin := flow.Origin{Sentence: st.Sentence.String(), File: st.At.File, Line: st.At.Line}
			if told[origin] {
				continue
			}
			if b, broken := g.check(st.Sentence); broken {
				b.Guarantee, b.At = origin, moment
				told[origin] = true
				list = append(list, b)
			}
		}
	}
	return list
}

// onlyStanding returns the plan as it is without openings and routes.
func onlyStanding(p *flow.Plan) *flow.Plan {
	q := *p
	q.Rules = nil
	for _, r := range p.Rules {
		if r.Kind != flow.Opening && r.Kind != flow.Route {
			q.Rules = append(q.Rules, r)
		}
	}
	return &q
}

// possible returns the rules that permits could put in place.
func possible(e *estate.Estate, p *flow.Plan) (rules []flow.Rule) {
	resolve := flow.NewResolver(e, p)
	for _, st := range e.Sentences {
		if m, ok := st.Sentence.(sentence.Permit); ok {
			rules = append(rules, flow.Rule{
				Kind: flow.Opening, From: resolve.Source(m.From), To: resolve.Group(m.To), Services: resolve.Services(m.Services),
				Opening: -1, Origin: flow.Origin{Sentence: m.String(), File: st.At.File, Line: st.At.Line},
			})
		}
	}
	return rules
}

type guarantor struct {
	e                        *estate.Estate
	resolve                  flow.Resolver
	could                    []flow.Rule
	now, standing, potential *View
}

func (g *guarantor) check(s sentence.Sentence) (Broken, bool) {
	switch s := s.(type) {
	case sentence.Never:
		services, from := g.resolve.Services(s.Services), g.resolve.Source(s.From)
		view := g.potential
		if s.Standing {
			view = g.standing
		}
		b, broken := g.first(view, services, from, Targets(g.e, g.now.Plan, s.To), true)
		if !broken && !s.Standing {
			b, broken = g.carried(services, from, g.resolve.Group(s.To))
		}
		b.Potential = b.Potential || b.By.Opening < 0
		return b, broken
	case sentence.Always:
		return g.first(g.now, g.resolve.Services(s.Services), g.resolve.Source(s.From), Targets(g.e, g.now.Plan, s.To), false)
	}
	return Broken{}, false
}

// first finds the first part that is open (or, with open false, closed).
func (g *guarantor) first(v *View, services flow.Services, from flow.Addrs, targets []Target, open bool) (Broken, bool) {
	for _, p := range v.Ask(services, from, targets...) {
		if p.Open == open {
			return Broken{Flow: Example(p.From, p.Services), Target: TargetName(v.Plan, p.Target), By: p}, true
		}
	}
	return Broken{}, false
}

// carried finds a flow that a route would carry for a client: the client meets
// its gateway's from, the gateway reaches the machine, and no deny concerns
// either of them.
func (g *guarantor) carried(services flow.Services, from flow.Addrs, to *flow.Group) (Broken, bool) {
	v := g.now
	for _, gate := range v.Plan.GatewayDoors() {
		clients := from.Intersect(gate.From)
		if clients.IsEmpty() {
			continue
		}
		for _, m := range to.Machines {
			for _, e := range v.Reach(m) {
				if e.Reason != ByRoute || !v.routedBy(e.From, gate.Via) {
					continue
				}
				for _, s := range v.slices(m, services.Intersect(e.Services)) {
					if free := clients.Subtract(s.deny); !free.IsEmpty() {
						part := Part{Machine: m, Door: gate, Services: span.Of(s.services), From: free, Open: true, Reason: ByRoute, Origin: e.Origin}
						return Broken{Flow: Example(free, part.Services), Target: v.Plan.Machines[m].Name, By: part, Potential: true}, true
					}
				}
			}
		}
	}
	return Broken{}, false
}

func (v *View) routedBy(from flow.Addrs, gateway string) bool {
	for _, g := range v.Plan.Gateways {
		if g.Name == gateway {
			for _, a := range g.Inside {
				if from.Contains(flow.PointOf(a)) {
					return true
				}
			}
		}
	}
	return false
}

// Targets lists what a target of a question or a guarantee is about, machines
// first, by name.
func Targets(e *estate.Estate, p *flow.Plan, s sentence.Set) []Target {
	var list []Target
	for _, m := range flow.NewResolver(e, p).Group(s).Machines {
		list = append(list, Target{Machine: m})
	}
	for _, a := range s.List {
		if a.Kind() == sentence.Address {
			lo, _ := a.Bounds()
			list = append(list, Target{Machine: -1, Address: lo})
		}
		if a.Kind() != sentence.Named {
			continue
		}
		switch n, _ := e.Lookup(a.Text()); n.Kind {
		case estate.KindFront:
			if !excepted(s, a) {
				list = append(list, Target{Machine: -1, Front: a.Text()})
			}
		case estate.KindBastion:
			list = append(list, Target{Machine: -1, Bastion: a.Text()})
		}
	}
	return list
}

func excepted(s sentence.Set, a sentence.Atom) bool {
	for _, x := range s.Except {
		if x.String() == a.String() {
			return true
		}
	}
	return false
}

// TargetName names a target as sentences do.
func TargetName(p *flow.Plan, t Target) string {
	switch {
	case t.Machine >= 0:
		return p.Machines[t.Machine].Name
	case t.Front != "":
		return t.Front
	case t.Bastion != "":
		return t.Bastion
	}
	return t.Address.String()
}

// familiar are addresses and services that make good examples.
var (
	familiarAddrs    = []netip.Addr{netip.MustParseAddr("198.51.100.7"), netip.MustParseAddr("2001:db8:beef::7")}
	familiarServices = []flow.Service{flow.TCPPort(22), flow.TCPPort(443), flow.TCPPort(3389), flow.TCPPort(80)}
)

// Example picks one flow out of sets that are not empty: a familiar one where
// there is one, and otherwise the first.
func Example(from flow.Addrs, services flow.Services) Flow {
	f := Flow{Source: from.Runs()[0].Lo.Addr(), Service: services.Runs()[0].Lo}
	for _, a := range familiarAddrs {
		if from.Contains(flow.PointOf(a)) {
			f.Source = a
			break
		}
	}
	for _, s := range familiarServices {
		if services.Contains(s) {
			f.Service = s
			break
		}
	}
	return f
}
