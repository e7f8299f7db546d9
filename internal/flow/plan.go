// Package flow holds what decides whether a flow passes: services and addresses
// as sets, and the flow plan into which nouns and sentences are compiled.
//
//	estate + addresses the site gave ──Compile──▶ Plan ──Rows──▶ what a site installs
//	                                               ▲               │
//	                                               └───FromRows────┘
//
// Everything downstream (verdicts, reach, differences, guarantees, installed
// tables) reads the plan and nothing else. A plan has no order among its rules
// and no priorities: the five questions of docs/language.md are always asked in
// the same order.
//
// The zero Plan has no doors and no rules: nothing passes. Plans are not changed
// after they are made and are safe for concurrent use.
package flow

import (
	"cmp"
	"net/netip"
	"slices"
	"time"

	"ironbark/internal/flow/span"
	"ironbark/internal/sentence"
)

// Plan is the compiled flow plan.
type Plan struct {
	AdminServices   Services // administrative services
	ExcludedSources Addrs    // further addresses that are no source: reserved ones, and those that change their place between two plans
	Networks        []Network
	Lines           []Line
	Machines        []Machine // sorted by name; rules and doors refer to them by place
	Fronts          []Front
	Gateways        []Gateway
	Doors           []Published
	Rules           []Rule // about what comes to machines
	Outward         []Rule // about what machines call outside: see [Plan.Calls]

	// derived by finish
	own                Addrs // see [Plan.Own]
	internet           Addrs // the internet
	outside            [2]Addrs
	callable           Addrs    // the internet less the site's host
	away               [2]Addrs // callable by family
	hostCallers        [2]Addrs // who reaches the site's host, by family
	outward            bool     // the plan is one of calls outside
	places             map[string]place
	lines              map[string][]lineIn // by network
	fronts             map[string]Front
	byName             map[string]int32
	publishedByMachine [][]int32 // by machine: the places of the published doors that lead to it
}

// place is a network with what can call its machines, by family.
type place struct {
	Network
	inside [2]Addrs // from itself and joined networks
	direct [2]Addrs // from outside, to an address of its own
}

// lineIn is a line with its sources by family.
type lineIn struct {
	name string
	from [2]Addrs
}

// Family is an address family: what is kept for each stands at its number.
type Family = sentence.Family

// Network is an address space.
type Network struct {
	Name        string
	Space       Addrs
	Outside     bool
	OpenOutward bool     // its machines may call outside whatever no rule denies
	Joins       []string // both ways: each joined network lists the other
}

// Line is a private line into one network.
type Line struct {
	Name, Network string
	Range         Addrs
}

// Public is the pair of public addresses that something holds or waits for. An
// address that is wanted but not yet given is invalid.
type Public struct {
	Wants4, Wants6 bool
	Addr4, Addr6   netip.Addr
}

// Machine is a machine's place in the networks.
type Machine struct {
	Name       string
	Interfaces []Interface
	Public     Public // Wants6 is never set: IPv6 is reached at the inside address
}

// Interface is one address family set of a machine in one subnet.
type Interface struct {
	Subnet, Network string
	Addrs           []netip.Addr // at most one of each family, but of the site's host; those not yet given are missing
}

// Front is a public address with ports that lead to machines.
type Front struct {
	Name, Network string
	Public        Public
}

// Gateway is a bastion's gateway: people reach it at its public address, and it
// reaches machines from its inside addresses.
type Gateway struct {
	Name, Network string
	Inside        []netip.Addr
	Public        Public
	From          Addrs // who may reach the gateway
}

// GatewayService is the service at which gateways listen.
const GatewayService = Service(22)

// Origin is the sentence behind a rule or a door.
type Origin struct {
	Sentence string
	File     string
	Line     int
}

// OriginOf is a sentence as it stands in a file.
func OriginOf(st sentence.Statement) Origin {
	return Origin{Sentence: st.Sentence.String(), File: st.At.File, Line: st.At.Line}
}

// Compare orders origins by file, line and text.
func (o Origin) Compare(p Origin) int {
	return cmp.Or(cmp.Compare(o.File, p.File), cmp.Compare(o.Line, p.Line), cmp.Compare(o.Sentence, p.Sentence))
}

// Published is a port of a front that leads to machines: a forward or a spread.
type Published struct {
	Kind     DoorKind // DoorForward or DoorSpread
	Front    string
	Service  Service // at the front
	To       *Group
	On       Service // at the machine
	From     Addrs   // who may pass through this very door; empty: the door alone lets nobody in
	Standing bool    // From holds for an administrative service too
	Until    time.Time
	Origin   Origin
}

// RuleKind says what a rule does. The zero RuleKind is invalid.
type RuleKind uint8

// The kinds of rule. All but Deny and Allow pass administrative services too.
const (
	Deny RuleKind = iota + 1
	Opening
	Route
	Standing
	Allow
)

// String names the kind as answers do.
func (k RuleKind) String() string {
	return [...]string{"invalid", "deny", "opening", "route", "standing", "allow"}[min(k, 6)%6]
}

// Rule is one tuple of the plan.
type Rule struct {
	Kind     RuleKind
	From     Addrs
	To       *Group
	Services Services
	Begin    time.Time // zero: it has always held. The rule holds at this moment and not before it.
	Until    time.Time // zero: no end. The rule holds before this moment and not at it.
	Opening  int64     // the opening's number, for Opening
	Origin   Origin
}

// Active reports whether an end has not come yet at a moment: intervals are [begin, end).
func Active(until, at time.Time) bool { return until.IsZero() || at.Before(until) }

// Active reports whether the rule holds at a moment.
func (r *Rule) Active(at time.Time) bool { return !at.Before(r.Begin) && Active(r.Until, at) }

// Group is a set of machines that rules share, ascending. Rules with equal
// targets point to the same Group.
type Group struct{ Machines []int32 }

// Has reports whether machine m is in the group. Cost: O(log n).
func (g *Group) Has(m int32) bool {
	_, found := slices.BinarySearch(g.Machines, m)
	return found
}

// MachineByName finds a machine's place.
func (p *Plan) MachineByName(name string) (int32, bool) {
	m, ok := p.byName[name]
	return m, ok
}

// Own returns the addresses that are in no source: the estate's own public ones, link-local ones, and ExcludedSources.
func (p *Plan) Own() Addrs { return p.own }

// Internet returns every address in no network and no line, less the own public ones.
func (p *Plan) Internet() Addrs { return p.internet }

// Everywhere returns every address less the own public ones.
func (p *Plan) Everywhere() Addrs { return AllAddrs.Subtract(p.own) }

// finish derives what is looked up often. It must run once after a plan's parts are set.
func (p *Plan) finish() {
	p.byName = make(map[string]int32, len(p.Machines))
	var own []Run
	hold := func(a netip.Addr) {
		if a.IsValid() {
			own = append(own, One(a))
		}
	}
	for i, m := range p.Machines {
		p.byName[m.Name] = int32(i)
		hold(m.Public.Addr4)
	}
	for _, f := range p.Fronts {
		hold(f.Public.Addr4)
		hold(f.Public.Addr6)
	}
	for _, g := range p.Gateways {
		hold(g.Public.Addr4)
		hold(g.Public.Addr6)
	}
	p.own = span.Of(own...).Union(p.ExcludedSources).Union(linkLocal)
	p.finishPlaces()
	p.fronts = make(map[string]Front, len(p.Fronts))
	for _, f := range p.Fronts {
		p.fronts[f.Name] = f
	}
}

// finishPlaces derives who can call what.
func (p *Plan) finishPlaces() {
	p.places, p.lines = make(map[string]place, len(p.Networks)), map[string][]lineIn{}
	spaces := make(map[string]Addrs, len(p.Networks))
	var taken, outside []Run
	for _, n := range p.Networks {
		spaces[n.Name] = n.Space
		taken = append(taken, n.Space.Runs()...)
		if n.Outside {
			outside = append(outside, n.Space.Runs()...)
		}
	}
	for _, l := range p.Lines {
		p.lines[l.Network] = append(p.lines[l.Network], lineIn{l.Name, ByFamily(l.Range)})
		taken = append(taken, l.Range.Runs()...)
	}
	p.internet = p.Everywhere().Subtract(span.Of(taken...))
	p.outside = ByFamily(p.internet.Union(span.Of(outside...)))
	for _, n := range p.Networks {
		reach := n.Space
		for _, j := range n.Joins {
			reach = reach.Union(spaces[j])
		}
		w := place{Network: n, inside: ByFamily(reach)}
		if n.Outside {
			w.direct = [2]Addrs{p.outside[0].Subtract(w.inside[0]), p.outside[1]}
		}
		p.places[n.Name] = w
	}
	p.finishHost()
}

// finishDoors derives which published doors lead to each machine. It must run
// once after the doors are set.
func (p *Plan) finishDoors() {
	p.publishedByMachine = make([][]int32, len(p.Machines))
	for i, d := range p.Doors {
		for _, m := range d.To.Machines {
			p.publishedByMachine[m] = append(p.publishedByMachine[m], int32(i))
		}
	}
}

// Turns lists each moment after a given one at which something of the plan begins or
// ends, ascending, each once.
func (p *Plan) Turns(after time.Time) []time.Time {
	var list []time.Time
	add := func(t time.Time) {
		if !t.IsZero() && t.After(after) {
			list = append(list, t.UTC())
		}
	}
	for _, list := range [][]Rule{p.Rules, p.Outward} {
		for _, r := range list {
			add(r.Begin)
			add(r.Until)
		}
	}
	for _, d := range p.Doors {
		add(d.Until)
	}
	slices.SortFunc(list, time.Time.Compare)
	return slices.CompactFunc(list, time.Time.Equal)
}

// Within reports whether a sentence is about nothing but some flows: it is false where a rule of it is for other services, sources or machines, and
// where the plan has none of it. Cost: linear in the rules.
func (p *Plan) Within(o Origin, flows Box, machine func(int32) bool) bool {
	found := false
	for i := range p.Rules {
		r := &p.Rules[i]
		if r.Origin != o {
			continue
		}
		found = true
		other := func(m int32) bool { return !machine(m) }
		if !flows.Services.ContainsAll(r.Services) || !flows.From.ContainsAll(r.From) || slices.ContainsFunc(r.To.Machines, other) {
			return false
		}
	}
	return found
}

// DoorsAt returns the plan with those published doors that there are at a moment: the end of
// the sentence that makes a door is the door's own.
func (p *Plan) DoorsAt(at time.Time) *Plan {
	over := func(d Published) bool { return !Active(d.Until, at) }
	if !slices.ContainsFunc(p.Doors, over) {
		return p
	}
	q := *p
	q.Doors = slices.DeleteFunc(slices.Clone(p.Doors), over)
	q.finishDoors()
	return &q
}

// About returns the plan with those rules alone that speak of any of some machines. Of other machines it tells nothing that is so. Cost: linear in the rules,
// and in the sizes of the groups.
func (p *Plan) About(machines ...int32) *Plan {
	these := make([]bool, len(p.Machines))
	for _, m := range machines {
		these[m] = true
	}
	known := map[*Group]bool{}
	about := func(r Rule) bool {
		of, met := known[r.To]
		if !met {
			of = slices.ContainsFunc(r.To.Machines, func(m int32) bool { return these[m] })
			known[r.To] = of
		}
		return of
	}
	q := *p
	q.Rules, q.Outward = nil, nil
	for _, r := range p.Rules {
		if about(r) {
			q.Rules = append(q.Rules, r)
		}
	}
	for _, r := range p.Outward {
		if about(r) {
			q.Outward = append(q.Outward, r)
		}
	}
	return &q
}

// With returns the plan with other rules added. The rules' groups must be of this plan's machines.
func (p *Plan) With(rules ...Rule) *Plan {
	if len(rules) == 0 {
		return p
	}
	q := *p
	q.Rules = append(slices.Clip(slices.Clone(p.Rules)), rules...)
	return &q
}

// WithoutOpenings returns the plan less the rules of openings that drop reports true for.
func (p *Plan) WithoutOpenings(drop func(id int64) bool) *Plan {
	dropped := func(r *Rule) bool { return r.Kind == Opening && drop(r.Opening) }
	n := 0
	for i := range p.Rules {
		if dropped(&p.Rules[i]) {
			n++
		}
	}
	if n == 0 {
		return p
	}
	q := *p
	q.Rules = make([]Rule, 0, len(p.Rules)-n)
	for i := range p.Rules {
		if !dropped(&p.Rules[i]) {
			q.Rules = append(q.Rules, p.Rules[i])
		}
	}
	return &q
}

// AddrsOf returns the inside addresses of machines.
func (p *Plan) AddrsOf(machines ...int32) Addrs {
	var runs []Run
	for _, m := range machines {
		for _, i := range p.Machines[m].Interfaces {
			for _, a := range i.Addrs {
				runs = append(runs, One(a))
			}
		}
	}
	return span.Of(runs...)
}
