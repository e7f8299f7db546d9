package flow

import (
	"slices"
	"strings"

	"ironbark/internal/sentence"
)

// What machines call outside is judged as what comes to them is, seen from the other end:
//
//	inward    source outside   ──door──▶ machine, at a service of its own
//	outward   address outside  ◀──door── machine, at a service of the address
//
// So a plan holds its outward rules apart, each with the machines that call in To and what they call in
// From, and [Plan.Calls] is a plan of nothing but those. Whatever is asked of a plan (who reaches what, what differs,
// whether a guarantee holds) is asked of that one in the same way.

// Calls returns the plan of what machines call outside: where it tells of sources, read destinations.
// No service is administrative in it, and each machine has at most one door a family: the address from which it
// calls. What networks leave open stands in it as rules. It shares all of its parts with p. Cost: linear in the machines.
func (p *Plan) Calls() *Plan {
	q := *p
	q.AdminServices, q.Doors, q.Fronts, q.Gateways, q.Outward = Services{}, nil, nil, nil, nil
	q.outward = true
	q.publishedByMachine = make([][]int32, len(p.Machines))
	q.Rules = append(p.openOutward(), p.Outward...)
	return &q
}

// WithCalls returns the plan with other rules about what machines call outside, those for what its networks leave open among them: as
// [Plan.Calls] has them.
func (p *Plan) WithCalls(rules []Rule) *Plan {
	q := *p
	q.Outward, q.Networks = rules, slices.Clone(p.Networks)
	for i := range q.Networks {
		q.Networks[i].OpenOutward = false
	}
	q.finishPlaces()
	return &q
}

// OfCalls reports whether the plan is one of calls outside: what [Plan.Calls] returns.
func (p *Plan) OfCalls() bool { return p.outward }

// openOutward are rules for what networks leave open: every service of every address outside, for the machines that call
// through them.
func (p *Plan) openOutward() (rules []Rule) {
	callers := map[string]*[2][]int32{} // by network, those of each family
	for m := range p.Machines {
		for _, f := range sentence.Families {
			if network, _, ok := p.wayOut(int32(m), f); ok && p.places[network].OpenOutward {
				if callers[network] == nil {
					callers[network] = &[2][]int32{}
				}
				callers[network][f] = append(callers[network][f], int32(m))
			}
		}
	}
	for _, n := range p.Networks {
		by := callers[n.Name]
		if by == nil {
			continue
		}
		rule := Rule{Kind: Allow, From: p.callable, Services: AnyService, Origin: Origin{Sentence: OpenNetwork(n.Name)}}
		if slices.Equal(by[0], by[1]) {
			rule.To = &Group{by[0]}
			rules = append(rules, rule)
			continue
		}
		for family, machines := range by {
			if rule.From, rule.To = p.away[family], (&Group{machines}); len(machines) > 0 {
				rules = append(rules, rule)
			}
		}
	}
	return rules
}

// OpenNetwork is what stands in place of a sentence where a network leaves calls outside open.
func OpenNetwork(name string) string { return "network " + name + openWords }

const openWords = " is open outward"

// IsOpenNetwork reports whether an origin is no sentence, but what a network leaves open.
func (o Origin) IsOpenNetwork() bool {
	return o.File == "" && strings.HasPrefix(o.Sentence, "network ") && strings.HasSuffix(o.Sentence, openWords)
}

// wayOut tells from which network and address a machine calls outside in a family: its first one in a network
// that is outside. A private IPv6 address calls nobody: it is not translated.
func (p *Plan) wayOut(m int32, f Family) (network string, d Door, ok bool) {
	for _, i := range p.Machines[m].Interfaces {
		w := p.places[i.Network]
		if !w.Outside {
			continue
		}
		for _, a := range i.Addrs {
			if sentence.FamilyOf(a) == f && (f == sentence.IPv4 || globallyRoutable(a)) {
				return i.Network, Door{Kind: DoorOutward, Machine: m, Family: f, Address: a, Arrives: AnyService, From: p.away[f]}, true
			}
		}
	}
	return "", Door{}, false
}

// waysOut lists the doors by which a machine calls outside.
func (p *Plan) waysOut(m int32) (doors []Door) {
	for _, f := range sentence.Families {
		if _, d, ok := p.wayOut(m, f); ok {
			doors = append(doors, d)
		}
	}
	return doors
}

// outwardRule is what a sentence says of calls of machines to addresses outside.
func (c *compiler) outwardRule(kind RuleKind, from, to sentence.Set, services sentence.Services, tail sentence.Tail, origin Origin) {
	r := Rule{Kind: kind, From: c.Outside(to), To: c.group(from), Services: c.Services(services), Until: tail.Until, Origin: origin}
	if !r.From.IsEmpty() && len(r.To.Machines) > 0 && !r.Services.IsEmpty() {
		c.p.Outward = append(c.p.Outward, r)
	}
}

// Outside returns the addresses outside that a destination stands for: those of it that are in no network and no line, and not the site's host.
func (c *compiler) Outside(to sentence.Set) Addrs { return c.Source(to).Intersect(c.p.callable) }

// Outside returns the addresses outside that a destination stands for.
func (r Resolver) Outside(to sentence.Set) Addrs { return r.c.Outside(to) }

// Speaks tells what a sentence that says “from … to …” speaks of: addresses, and the machines with which they have to do. It is outward
// where the machines call the addresses.
func (r Resolver) Speaks(from, to sentence.Set) (addrs Addrs, machines *Group, outward bool) {
	if r.c.e.CallsOutside(to) {
		return r.Outside(to), r.Group(from), true
	}
	return r.Source(from), r.Group(to), false
}

// outward joins the outward rules of two plans: denies of either, and what both let pass. Networks are closed in it, for
// what they leave open is among the rules. A machine that calls from another address in one of the plans calls nobody for the while.
func (c *common) outward() {
	inward := c.out.Rules
	c.out.Rules = nil
	c.rules(c.a.Calls(), c.b.Calls())
	c.out.Outward, c.out.Rules = c.out.Rules, inward
	for _, f := range sentence.Families {
		moves := &Group{}
		for m := range c.out.Machines {
			if !c.callsAlike(int32(m), f) {
				moves.Machines = append(moves.Machines, int32(m))
			}
		}
		if len(moves.Machines) > 0 {
			c.out.Outward = append(c.out.Outward, Rule{Kind: Deny, From: AllOf(f), To: moves, Services: AnyService, Origin: Origin{Sentence: "machines that call outside from another address"}})
		}
	}
}

// callsAlike reports whether a machine of the common plan calls outside from the same address in each of the plans.
func (c *common) callsAlike(m int32, f Family) bool {
	_, common, calls := c.out.wayOut(m, f)
	for _, p := range []*Plan{c.a, c.b} {
		i, ok := p.MachineByName(c.out.Machines[m].Name)
		if !ok {
			return false
		}
		if _, d, ok := p.wayOut(i, f); ok != calls || d.Address != common.Address {
			return false
		}
	}
	return true
}

// AllOf returns all addresses of a family.
func AllOf(f Family) Addrs {
	if f == sentence.IPv4 {
		return AllIPv4
	}
	return AllIPv6
}
