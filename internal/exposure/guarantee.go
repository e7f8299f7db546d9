package exposure

import (
	"net/netip"
	"slices"
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
	Outward   bool   // the flow is a call of Target to the address in Flow.Source
	By        Part   // what lets the flow in (never), or keeps it out (always)
	Potential bool   // no flow is open now; a permit or route could let one in
}

// Ends tells from where to where the flow of a broken guarantee goes, in words.
func (b Broken) Ends() (from, to string) {
	if b.Outward {
		return b.Target, b.Flow.Source.String()
	}
	return b.Flow.Source.String(), b.Target
}

// Guarantees checks every never and always of an estate against its plan, at
// the view's moment and just after each later end, since an ending deny opens.
// With openings in the plan, those count too. Cost: moments × guarantees × the
// classes of machines that they name.
func Guarantees(e *estate.Estate, p *flow.Plan, at time.Time) []Broken {
	stated := e.SentencesOf(sentence.VerbNever, sentence.VerbAlways)
	if len(stated) == 0 {
		return nil
	}
	resolve := flow.NewResolver(e, p)
	g := &guarantor{e: e, p: p, resolve: resolve, known: map[string][]Target{}, calls: &guarantor{e: e, p: p.Calls(), resolve: resolve, known: map[string][]Target{}}}
	g.concerns = g.boxes(stated)
	var list []Broken
	told := map[flow.Origin]bool{}
	for _, moment := range append([]time.Time{at}, p.Turns(at)...) {
		g.at, g.views = moment, [3]*View{}
		g.calls.at, g.calls.views = g.at, g.views
		for _, st := range stated {
			origin := flow.OriginOf(st)
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

// stands reports whether rules of a kind are what stands: not what was opened, nor a route.
func stands(k flow.RuleKind) bool { return k != flow.Opening && k != flow.Route }

// possible returns the rules that permits could put in place.
func possible(e *estate.Estate, p *flow.Plan) (rules []flow.Rule) {
	resolve := flow.NewResolver(e, p)
	for _, st := range e.SentencesOf(sentence.VerbPermit) {
		m := st.Sentence.(sentence.Permit)
		rules = append(rules, flow.Rule{
			Kind: flow.Opening, From: resolve.Source(m.From), To: resolve.Group(m.To), Services: resolve.Services(m.Services),
			Until: m.Until, Opening: -1, Origin: flow.OriginOf(st),
		})
	}
	return rules
}

type guarantor struct {
	e       *estate.Estate
	p       *flow.Plan
	resolve flow.Resolver
	at      time.Time
	views   [3]*View   // as needed: of the plan, of what stands, of what could be
	calls   *guarantor // of what machines call outside; nil in that one itself

	concerns []flow.Box          // what the guarantees that forbid something speak of
	known    map[string][]Target // by the words for them
}

// targets is [Targets], once for the same words.
func (g *guarantor) targets(s sentence.Set) []Target {
	text := s.String()
	list, known := g.known[text]
	if !known {
		list = Targets(g.e, g.p, s)
		g.known[text] = list
	}
	return list
}

// boxes lists what the guarantees that forbid something of machines speak of. At a front or an address another service is called than arrives, so there it is any.
func (g *guarantor) boxes(stated []sentence.Statement) (list []flow.Box) {
	for _, st := range stated {
		s, never := st.Sentence.(sentence.Never)
		if !never || g.e.CallsOutside(s.To) {
			continue
		}
		box := flow.Box{Services: g.resolve.Services(s.Services), From: g.resolve.Source(s.From)}
		if slices.ContainsFunc(g.targets(s.To), func(t Target) bool { return !t.IsMachine() }) {
			box.Services = flow.AnyService
		}
		list = append(list, box)
	}
	return list
}

// concerning returns those of some rules, of some kinds, that concern what is forbidden: no others matter where it is asked about. Rules share their
// sets.
func (g *guarantor) concerning(rules []flow.Rule, of func(flow.RuleKind) bool) (list []flow.Rule) {
	type sets struct {
		services span.Memory[flow.Service]
		from     span.Memory[flow.Point]
	}
	known := map[sets]bool{}
	for i := range rules {
		r := &rules[i]
		if !of(r.Kind) {
			continue
		}
		key := sets{r.Services.Memory(), r.From.Memory()}
		is, met := known[key]
		if !met {
			is = slices.ContainsFunc(g.concerns, func(b flow.Box) bool { return b.Services.Overlaps(r.Services) && b.From.Overlaps(r.From) })
			known[key] = is
		}
		if is {
			list = append(list, *r)
		}
	}
	return list
}

// The views of a guarantor.
const (
	viewNow = iota
	viewStanding
	viewPotential
)

func (g *guarantor) view(which int) *View {
	if g.views[which] == nil {
		plan := *g.p
		switch which {
		case viewStanding:
			plan.Rules = g.concerning(plan.Rules, stands)
		case viewPotential:
			plan.Rules = g.concerning(slices.Concat(plan.Rules, possible(g.e, g.p)), func(flow.RuleKind) bool { return true })
		}
		g.views[which] = NewView(&plan, g.at)
	}
	return g.views[which]
}

func (g *guarantor) check(s sentence.Sentence) (Broken, bool) {
	switch s := s.(type) {
	case sentence.Never:
		if g.e.CallsOutside(s.To) {
			return g.calls.outward(s.Services, s.From, s.To, true)
		}
		services, from := g.resolve.Services(s.Services), g.resolve.Source(s.From)
		which := viewPotential
		if s.Standing {
			which = viewStanding
		}
		b, broken := g.first(g.view(which), services, from, g.targets(s.To), true)
		if !broken && !s.Standing {
			b, broken = g.carried(services, from, g.resolve.Group(s.To))
		}
		b.Potential = b.Potential || b.By.Opening < 0
		return b, broken
	case sentence.Always:
		if g.e.CallsOutside(s.To) {
			return g.calls.outward(s.Services, s.From, s.To, false)
		}
		return g.first(g.view(viewNow), g.resolve.Services(s.Services), g.resolve.Source(s.From), g.targets(s.To), false)
	}
	return Broken{}, false
}

// outward finds a call of machines to an address outside that is open (or, with open false, closed).
func (g *guarantor) outward(services sentence.Services, from, to sentence.Set, open bool) (Broken, bool) {
	b, broken := g.first(g.view(viewNow), g.resolve.Services(services), g.resolve.Outside(to), g.targets(from), open)
	b.Outward = broken
	return b, broken
}

// first finds the first part that is open (or, with open false, closed). Of the
// machines of a class one is asked for all.
func (g *guarantor) first(v *View, services flow.Services, from flow.Addrs, targets []Target, open bool) (Broken, bool) {
	asked := map[int32]bool{}
	matters := v.matters(services, from)
	for _, t := range targets {
		if t.IsMachine() {
			if asked[v.classOf[t.Machine]] {
				continue
			}
			asked[v.classOf[t.Machine]] = true
			if open && !v.anyOpen(t.Machine, services, from, matters) {
				continue
			}
		}
		for _, p := range v.Ask(services, from, t) {
			if p.Open == open {
				return Broken{Flow: Example(p.From, p.Services), Target: TargetName(v.Plan, p.Target), By: p}, true
			}
		}
	}
	return Broken{}, false
}

// matters tells by rank whether a rule can matter to flows from some sources to
// some services. What it found out about a rule it remembers.
func (v *View) matters(services flow.Services, from flow.Addrs) func(rank int32) bool {
	guarded := v.Plan.AdminServices.ContainsAll(services)
	looked, can := make([]bool, len(v.ranked)), make([]bool, len(v.ranked))
	return func(rank int32) bool {
		if !looked[rank] {
			r := v.ranked[rank]
			looked[rank] = true
			can[rank] = !(guarded && r.Kind == flow.Allow) && r.Services.Overlaps(services) && r.From.Overlaps(from)
		}
		return can[rank]
	}
}

// anyOpen reports whether any flow from some sources to some services of a machine
// is open, without telling which.
func (v *View) anyOpen(m int32, services flow.Services, from flow.Addrs, matters func(rank int32) bool) bool {
	few := &ruleClass{}
	lets := false
	for _, rank := range v.classes[v.classOf[m]].ranks {
		if !matters(rank) {
			continue
		}
		r := &v.ranked[rank]
		if r.Kind == flow.Deny && r.services.ContainsAll(services) && r.from.ContainsAll(from) { // it shuts all of it
			return false
		}
		few.ranks, lets = append(few.ranks, rank), lets || r.Kind != flow.Deny
	}
	doors := slices.DeleteFunc(v.Plan.DoorsTo(m), func(d flow.Door) bool { return !d.From.Overlaps(from) })
	own := slices.ContainsFunc(doors, func(d flow.Door) bool {
		_, ok := d.OwnPass(v.Plan.AdminServices, v.At)
		return ok && services.Contains(d.Own.On)
	})
	if !own && !lets {
		return false
	}
	for _, s := range v.slicesFor(few, services, translated(doors)...) {
		for _, d := range doors {
			if !d.Arrives.Contains(s.services.Lo) {
				continue
			}
			if slices.ContainsFunc(v.through(s, d, nil), func(p piece) bool { return p.from.Overlaps(from) }) {
				return true
			}
		}
	}
	return false
}

// carried finds a flow that a route would carry for a client: the client meets
// its gateway's from, the gateway reaches the machine, and no deny concerns
// either of them.
func (g *guarantor) carried(services flow.Services, from flow.Addrs, to *flow.Group) (Broken, bool) {
	v := g.view(viewNow)
	for _, gate := range v.Plan.GatewayDoors() {
		clients := from.Intersect(gate.From)
		if clients.IsEmpty() {
			continue
		}
		asked := map[int32]bool{}
		for _, m := range to.Machines {
			if asked[v.classOf[m]] {
				continue
			}
			asked[v.classOf[m]] = true
			for _, e := range v.Reach(m) {
				if e.Reason != ByRoute || !v.routedBy(e.From, gate.Via) {
					continue
				}
				for _, s := range v.slices(m, services.Intersect(e.Services), clients) {
					if free := clients.Subtract(s.deny); !free.IsEmpty() {
						part := Part{Machine: m, Door: gate, Services: span.Of(s.services), From: free, Open: true, Cause: Cause{Reason: ByRoute, Origin: e.Origin}}
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
			if !excepted(s, a) {
				list = append(list, Target{Machine: -1, Bastion: a.Text()})
			}
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
	case t.IsMachine():
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
