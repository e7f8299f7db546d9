package flow

import (
	"net/netip"
	"slices"
	"time"
)

// Intersection returns a plan that is open only where both plans are, at every moment:
// what may stay open while a site is brought from one to the other. Doors are
// those that both have, passing rules are intersected, denies and administrative
// services are those of either. A flow that one plan lets in by a door's own
// from and the other by a rule is closed in it: less is open, never more.
// Openings are left out, for sites keep them apart.
func Intersection(a, b *Plan) *Plan {
	c := &common{a: a, b: b, out: &Plan{AdminServices: a.AdminServices.Union(b.AdminServices), ExcludedSources: moved(a, b).Union(a.ExcludedSources).Union(b.ExcludedSources)}, groups: map[string]*Group{}, alike: map[[2]*Group]*Group{}, whole: map[*Group]*Group{}}
	c.nouns()
	c.out.finish()
	c.commonHost()
	c.doors()
	c.out.finishDoors()
	c.rules(a, b)
	c.outward()
	return c.out
}

// moved returns the addresses that do not belong to the same place in both
// plans: to the same network, the same line, or the internet. What a source may
// do hangs on where it arrives, so these are no sources for the while.
func moved(a, b *Plan) Addrs {
	places := func(p *Plan) map[string]Addrs {
		m := map[string]Addrs{"own": p.own, "internet": p.internet}
		for _, n := range p.Networks {
			m["network "+n.Name] = n.Space
		}
		for _, l := range p.Lines {
			m["line "+l.Name+" into "+l.Network] = l.Range
		}
		return m
	}
	pa, pb := places(a), places(b)
	settled := Addrs{}
	for name, set := range pa {
		settled = settled.Union(set.Intersect(pb[name]))
	}
	return AllAddrs.Subtract(settled)
}

type common struct {
	a, b   *Plan
	out    *Plan
	groups map[string]*Group
	alike  map[[2]*Group]*Group // what shared found
	whole  map[*Group]*Group    // what there is of groups of either plan
}

func (c *common) nouns() {
	for _, n := range c.a.Networks {
		if o, ok := c.b.places[n.Name]; ok {
			joins := slices.DeleteFunc(slices.Clone(n.Joins), func(j string) bool { return !slices.Contains(o.Joins, j) })
			c.out.Networks = append(c.out.Networks, Network{Name: n.Name, Space: n.Space.Intersect(o.Space), Outside: n.Outside && o.Outside, Joins: joins})
		}
	}
	for _, l := range c.a.Lines {
		for _, o := range c.b.Lines {
			if l.Name == o.Name && l.Network == o.Network {
				c.out.Lines = append(c.out.Lines, Line{Name: l.Name, Network: l.Network, Range: l.Range.Intersect(o.Range)})
			}
		}
	}
	for _, m := range c.a.Machines {
		if i, ok := c.b.MachineByName(m.Name); ok {
			c.out.Machines = append(c.out.Machines, commonMachine(m, c.b.Machines[i]))
		}
	}
	for _, f := range c.a.Fronts {
		if o, ok := c.b.fronts[f.Name]; ok && o.Network == f.Network {
			f.Public = commonPublic(f.Public, o.Public)
			c.out.Fronts = append(c.out.Fronts, f)
		}
	}
	for _, g := range c.a.Gateways {
		for _, o := range c.b.Gateways {
			if g.Name == o.Name && g.Network == o.Network && slices.Equal(g.Inside, o.Inside) {
				g.Public, g.From = commonPublic(g.Public, o.Public), g.From.Intersect(o.From)
				c.out.Gateways = append(c.out.Gateways, g)
			}
		}
	}
}

func commonMachine(m, o Machine) Machine {
	out := Machine{Name: m.Name, Public: commonPublic(m.Public, o.Public)}
	for _, i := range m.Interfaces {
		for _, j := range o.Interfaces {
			if i.Subnet == j.Subnet && i.Network == j.Network {
				addrs := slices.DeleteFunc(slices.Clone(i.Addrs), func(a netip.Addr) bool { return !slices.Contains(j.Addrs, a) })
				out.Interfaces = append(out.Interfaces, Interface{Subnet: i.Subnet, Network: i.Network, Addrs: addrs})
			}
		}
	}
	return out
}

// commonPublic keeps the addresses that are given and equal on both sides. One
// that is still awaited leads nowhere yet, so it is no door.
func commonPublic(a, b Public) (out Public) {
	if a.Wants4 && b.Wants4 && a.Addr4 == b.Addr4 && a.Addr4.IsValid() {
		out.Wants4, out.Addr4 = true, a.Addr4
	}
	if a.Wants6 && b.Wants6 && a.Addr6 == b.Addr6 && a.Addr6.IsValid() {
		out.Wants6, out.Addr6 = true, a.Addr6
	}
	return out
}

// move finds the machines of a group of p in the common plan.
func (c *common) move(p *Plan, g *Group, keep func(name string) bool) *Group {
	key := ""
	out := &Group{}
	for _, m := range g.Machines {
		name := p.Machines[m].Name
		if i, ok := c.out.MachineByName(name); ok && keep(name) {
			out.Machines = append(out.Machines, i)
			key += name + " "
		}
	}
	if known, ok := c.groups[key]; ok {
		return known
	}
	c.groups[key] = out
	return out
}

// shared returns the machines that are in a group of a and in one of b. Rules share their groups, so it remembers.
func (c *common) shared(g, h *Group) *Group {
	known, ok := c.alike[[2]*Group{g, h}]
	if !ok {
		known = c.move(c.a, g, func(name string) bool {
			i, ok := c.b.MachineByName(name)
			return ok && h.Has(i)
		})
		c.alike[[2]*Group{g, h}] = known
	}
	return known
}

// there returns the machines of a group of a plan that are in the common one.
func (c *common) there(p *Plan, g *Group) *Group {
	known, ok := c.whole[g]
	if !ok {
		known = c.move(p, g, func(string) bool { return true })
		c.whole[g] = known
	}
	return known
}

func (c *common) doors() {
	for _, d := range c.a.Doors {
		for _, o := range c.b.Doors {
			if d.Kind != o.Kind || d.Front != o.Front || d.Service != o.Service || d.On != o.On {
				continue
			}
			d.To, d.From = c.shared(d.To, o.To), d.From.Intersect(o.From)
			d.Standing, d.Until = d.Standing && o.Standing, Earlier(d.Until, o.Until)
			if len(d.To.Machines) > 0 {
				c.out.Doors = append(c.out.Doors, d)
			}
		}
	}
}

// Earlier returns the earlier of two ends, of which a zero one never comes.
func Earlier(a, b time.Time) time.Time {
	if a.IsZero() || !b.IsZero() && b.Before(a) {
		return b
	}
	return a
}

// Lasts reports whether what ends at one moment ends no sooner than what ends at another, of which a zero one never comes.
func Lasts(end, other time.Time) bool {
	return end.IsZero() || !other.IsZero() && !end.Before(other)
}

// rules joins those that deny and intersects those that pass. A passing rule
// that both plans have is its own intersection, and whatever else it shares with
// a rule is in it already; so only the altered ones of either side are
// intersected pair by pair: O(n + k²) for k altered rules.
func (c *common) rules(a, b *Plan) {
	for side, p := range []*Plan{a, b} {
		for _, r := range p.Rules {
			if r.Kind == Deny {
				r.To = c.there(p, r.To)
				if len(r.To.Machines) > 0 && (side == 0 || !c.hasDeny(r)) {
					c.out.Rules = append(c.out.Rules, r)
				}
			}
		}
	}
	byText := map[string][]int{}
	for i, r := range b.Rules {
		if r.Kind != Deny && r.Kind != Opening {
			byText[r.Origin.Sentence] = append(byText[r.Origin.Sentence], i)
		}
	}
	kept := make([]bool, len(b.Rules))
	var altered []Rule
	for _, r := range a.Rules {
		if r.Kind == Deny || r.Kind == Opening {
			continue
		}
		i := slices.IndexFunc(byText[r.Origin.Sentence], func(i int) bool { return c.within(r, b.Rules[i]) })
		if i < 0 {
			altered = append(altered, r)
			continue
		}
		i = byText[r.Origin.Sentence][i]
		kept[i] = len(b.Rules[i].To.Machines) == len(r.To.Machines)
		c.both(r, b.Rules[i])
	}
	for _, r := range altered {
		for i, o := range b.Rules {
			if o.Kind != Deny && o.Kind != Opening && !kept[i] {
				c.both(r, o)
			}
		}
	}
}

func (c *common) hasDeny(r Rule) bool {
	return slices.ContainsFunc(c.out.Rules, func(o Rule) bool {
		return o.Kind == Deny && o.Origin.Sentence == r.Origin.Sentence && o.To == r.To && o.From.Equal(r.From) && o.Services.Equal(r.Services)
	})
}

// within reports whether a rule of a stands in b too, for the same machines or more.
func (c *common) within(r, o Rule) bool {
	return o.Kind == r.Kind && o.Begin.Equal(r.Begin) && o.Until.Equal(r.Until) && o.From.Equal(r.From) && o.Services.Equal(r.Services) && len(c.shared(r.To, o.To).Machines) == len(r.To.Machines)
}

// both adds what two passing rules share.
func (c *common) both(r, o Rule) {
	r.To, r.From, r.Services = c.shared(r.To, o.To), r.From.Intersect(o.From), r.Services.Intersect(o.Services)
	r.Until = Earlier(r.Until, o.Until)
	if o.Begin.After(r.Begin) {
		r.Begin = o.Begin
	}
	switch {
	case r.Kind == o.Kind:
	case r.Kind == Allow || o.Kind == Allow:
		r.Kind = Allow
	default:
		r.Kind = Standing
	}
	if len(r.To.Machines) > 0 && !r.From.IsEmpty() && !r.Services.IsEmpty() {
		c.out.Rules = append(c.out.Rules, r)
	}
}
