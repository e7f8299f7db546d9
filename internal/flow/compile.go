package flow

import (
	"cmp"
	"encoding/binary"
	"net/netip"
	"slices"

	"ironbark/internal/estate"
	"ironbark/internal/flow/span"
	"ironbark/internal/sentence"
)

// Assigned are the addresses that a site gave, or that are planned to be given.
type Assigned struct {
	Machines map[string]MachineAddrs
	Fronts   map[string]Public // only Addr4 and Addr6 are read
	Bastions map[string]BastionAddrs
	Reserved []netip.Addr // public addresses that the estate keeps, whoever has them
	Host     []netip.Addr // of the site's host; read only where the estate has an uplink
}

// MachineAddrs are one machine's addresses.
type MachineAddrs struct {
	Inside map[string][]netip.Addr // by subnet
	Public netip.Addr              // IPv4; invalid: none
}

// BastionAddrs are one bastion's addresses.
type BastionAddrs struct {
	Inside []netip.Addr
	Public Public
}

// Compile turns an estate's nouns and sentences into its flow plan. Openings are
// not in it: see [Plan.With]. Cost: sentences × what their words stand for.
func Compile(e *estate.Estate, a Assigned) *Plan {
	c := &compiler{e: e, p: &Plan{}, groups: map[string]*Group{}, texts: map[string]*Group{}, sources: map[string]Addrs{}, sets: map[string]Addrs{}, literals: map[Run]Addrs{}, services: map[string]Services{}}
	c.nouns(a)
	c.p.finish()
	if e.Uplink != nil {
		c.p.Machines = append(c.p.Machines, c.p.siteHost(a.Host))
		slices.SortFunc(c.p.Machines, func(a, b Machine) int { return cmp.Compare(a.Name, b.Name) })
		c.p.finish()
	}
	for _, g := range c.p.Gateways {
		c.gateways = append(c.gateways, g.Name)
	}
	for i, b := range e.Bastions {
		c.p.Gateways[i].From = c.Source(b.From)
	}
	sentences := e.Sentences()
	c.p.Rules = slices.Grow(c.p.Rules, len(sentences)) // about a rule each
	for _, s := range sentences {
		c.sentence(s)
	}
	c.p.finishDoors()
	return c.p
}

// Resolver tells what the words of sentences stand for in a plan's estate.
type Resolver struct{ c *compiler }

// NewResolver returns a resolver for questions about a plan: names are those of
// the estate, machines and addresses those of the plan.
func NewResolver(e *estate.Estate, p *Plan) Resolver {
	return Resolver{&compiler{e: e, p: p, groups: map[string]*Group{}, texts: map[string]*Group{}, sources: map[string]Addrs{}, sets: map[string]Addrs{}, literals: map[Run]Addrs{}, services: map[string]Services{}}}
}

// Source returns the addresses that a source stands for.
func (r Resolver) Source(s sentence.Set) Addrs { return r.c.Source(s) }

// Group returns the machines that a target stands for and the plan has.
func (r Resolver) Group(s sentence.Set) *Group { return r.c.group(s) }

// literal returns the addresses that are written out, less own public ones. Alike ones share their memory.
func (c *compiler) literal(a sentence.Atom) Addrs {
	run := RunOf(a.Bounds())
	set, ok := c.literals[run]
	if !ok {
		set = span.Of(run).Subtract(c.p.own)
		c.literals[run] = set
	}
	return set
}

// Services returns the services that a list stands for.
func (r Resolver) Services(s sentence.Services) Services { return r.c.Services(s) }

type compiler struct {
	e        *estate.Estate
	p        *Plan
	groups   map[string]*Group // by the places of their machines
	texts    map[string]*Group // by the text of the target
	sources  map[string]Addrs  // by the text of the atom
	literals map[Run]Addrs     // what is written out, less own public addresses
	sets     map[string]Addrs  // by the text of the source
	services map[string]Services
	gateways []string
}

// AdminServicesOf returns the administrative services of an estate.
func AdminServicesOf(e *estate.Estate) Services { return union(e, e.Administrative()) }

// nouns fills the parts of the plan that come from estate.yaml.
func (c *compiler) nouns(a Assigned) {
	c.p.AdminServices = AdminServicesOf(c.e)
	joins := map[string][]string{}
	for _, n := range c.e.Networks {
		for _, j := range n.Joins { // the key holds both ways, wherever it stands
			joins[n.Name] = append(joins[n.Name], j)
			joins[j] = append(joins[j], n.Name)
		}
	}
	for _, n := range c.e.Networks {
		list := joins[n.Name]
		slices.Sort(list)
		c.p.Networks = append(c.p.Networks, Network{Name: n.Name, Space: prefixSet(n.Space...), Outside: n.Outside, OpenOutward: n.OpenOutward, Joins: slices.Compact(list)})
	}
	for _, l := range c.e.Lines {
		c.p.Lines = append(c.p.Lines, Line{Name: l.Name, Network: l.Network, Range: prefixSet(l.Range...)})
	}
	for _, m := range c.e.Machines {
		given := a.Machines[m.Name]
		machine := Machine{Name: m.Name, Public: Public{Wants4: m.Address.Wanted()}}
		switch {
		case given.Public.IsValid() && m.Address.Wanted():
			machine.Public.Addr4 = given.Public
		case len(m.Address.Fixed) > 0:
			machine.Public.Addr4 = m.Address.Fixed[0]
		}
		for _, at := range m.Subnets {
			s, _ := c.e.Subnet(at)
			machine.Interfaces = append(machine.Interfaces, Interface{Subnet: at, Network: s.Network, Addrs: given.Inside[at]})
		}
		c.p.Machines = append(c.p.Machines, machine)
	}
	slices.SortFunc(c.p.Machines, func(a, b Machine) int { return cmp.Compare(a.Name, b.Name) })
	for _, f := range c.e.Fronts {
		n, _ := c.e.Network(f.Network)
		c.p.Fronts = append(c.p.Fronts, Front{Name: f.Name, Network: f.Network, Public: public(f.Address, n.Space, a.Fronts[f.Name])})
	}
	points := make([]span.Run[Point], 0, len(a.Reserved))
	for _, r := range a.Reserved {
		points = append(points, span.Run[Point]{Lo: PointOf(r), Hi: PointOf(r)})
	}
	c.p.ExcludedSources = span.Of(points...)
	for _, b := range c.e.Bastions {
		s, _ := c.e.Subnet(b.Subnet)
		given := a.Bastions[b.Name]
		c.p.Gateways = append(c.p.Gateways, Gateway{Name: b.Name, Network: s.Network, Inside: given.Inside, Public: public(b.Address, s.Range, given.Public)})
	}
}

// public returns the public addresses that a wish comes to: given ones, or one
// of each family that the inside has.
func public(wish estate.Address, inside []netip.Prefix, given Public) Public {
	pub := Public{Wants4: wish.Auto && estate.HasFamily(inside, sentence.IPv4), Wants6: wish.Auto && estate.HasFamily(inside, sentence.IPv6)}
	if wish.Auto {
		pub.Addr4, pub.Addr6 = given.Addr4, given.Addr6
	}
	if len(wish.Reserved) > 0 {
		pub.Wants4, pub.Addr4 = given.Addr4.IsValid(), given.Addr4
		pub.Wants6, pub.Addr6 = given.Addr6.IsValid(), given.Addr6
	}
	for _, a := range wish.Fixed {
		if a.Is4() {
			pub.Wants4, pub.Addr4 = true, a
		} else {
			pub.Wants6, pub.Addr6 = true, a
		}
	}
	return pub
}

// sentence adds what one sentence says. Sentences over empty sets add nothing.
func (c *compiler) sentence(st sentence.Statement) {
	origin := Origin{Sentence: st.Sentence.String(), File: st.At.File, Line: st.At.Line}
	add := func(kind RuleKind, from Addrs, to sentence.Set, services sentence.Services, tail sentence.Tail) {
		r := Rule{Kind: kind, From: from, To: c.group(to), Services: c.Services(services), Until: tail.Until, Origin: origin}
		if !r.From.IsEmpty() && len(r.To.Machines) > 0 && !r.Services.IsEmpty() {
			c.p.Rules = append(c.p.Rules, r)
		}
	}
	switch s := st.Sentence.(type) {
	case sentence.Allow:
		if c.e.CallsOutside(s.To) {
			c.outwardRule(Allow, s.From, s.To, s.Services, s.Tail, origin)
			return
		}
		kind := Allow
		if s.Standing {
			kind = Standing
		}
		add(kind, c.Source(s.From), s.To, s.Services, s.Tail)
	case sentence.Deny:
		if c.e.CallsOutside(s.To) {
			c.outwardRule(Deny, s.From, s.To, s.Services, s.Tail, origin)
			return
		}
		add(Deny, c.Source(s.From), s.To, s.Services, s.Tail)
	case sentence.Route:
		if i := slices.Index(c.gateways, s.Via.Text); i >= 0 {
			add(Route, AddrSet(c.p.Gateways[i].Inside...), s.To, s.Services, sentence.Tail{})
		}
	case sentence.Forward:
		c.door(Published{
			Kind: DoorForward, Front: s.Front.Text, To: c.group(s.To), From: c.Source(s.From),
			Standing: s.Standing, Until: s.Until, Origin: origin,
		}, s.Service, s.On)
	case sentence.Spread:
		c.door(Published{Kind: DoorSpread, Front: s.Front.Text, To: c.group(s.Over), From: c.Source(s.From), Origin: origin}, s.Service, s.On)
	}
}

func (c *compiler) door(pub Published, at, on sentence.Service) {
	calls, arrives := union(c.e, []sentence.Service{at}), union(c.e, []sentence.Service{on})
	if calls.IsEmpty() || arrives.IsEmpty() || len(pub.To.Machines) == 0 {
		return
	}
	pub.Service, pub.On = calls.Runs()[0].Lo, arrives.Runs()[0].Lo
	c.p.Doors = append(c.p.Doors, pub)
}

// AddrSet returns the set of the valid ones of some addresses.
func AddrSet(list ...netip.Addr) Addrs {
	runs := make([]Run, 0, len(list))
	for _, a := range list {
		if a.IsValid() {
			runs = append(runs, One(a))
		}
	}
	return span.Of(runs...)
}

// group returns the one Group for the machines that a target stands for.
func (c *compiler) group(s sentence.Set) *Group {
	text := s.String()
	if g, ok := c.texts[text]; ok {
		return g
	}
	var list []int32
	for _, i := range c.e.Targets(s) {
		if m, ok := c.p.byName[c.e.Machines[i].Name]; ok {
			list = append(list, m)
		}
	}
	if host, there := c.p.MachineByName(estate.SiteHost); there && c.e.TargetsHost(s) {
		list = append(list, host)
	}
	slices.Sort(list)
	key := make([]byte, 0, 4*len(list))
	for _, m := range list {
		key = binary.BigEndian.AppendUint32(key, uint32(m))
	}
	g, ok := c.groups[string(key)]
	if !ok {
		g = &Group{Machines: list}
		c.groups[string(key)] = g
	}
	c.texts[text] = g
	return g
}

// Source returns the addresses that a source stands for: its list less what is
// excepted, and never an own public address.
func (c *compiler) Source(s sentence.Set) Addrs {
	if s.AtConsole() {
		return ConsoleSource
	}
	if len(s.List) == 1 && len(s.Except) == 0 && s.List[0].Literal() { // most sentences: no text is made, and none is kept
		return c.literal(s.List[0])
	}
	key := s.String()
	set, ok := c.sets[key]
	if !ok {
		set = c.source(s)
		c.sets[key] = set
	}
	return set
}

// Services returns the services that a list stands for. What one name stands for is remembered: most lists are one name.
func (c *compiler) Services(s sentence.Services) Services {
	if s.Any || len(s.List) != 1 {
		return ServicesOf(c.e, s)
	}
	name, named := s.List[0].Name()
	if !named {
		return ServicesOf(c.e, s)
	}
	set, ok := c.services[name]
	if !ok {
		set = ServicesOf(c.e, s)
		c.services[name] = set
	}
	return set
}

func (c *compiler) source(s sentence.Set) Addrs {
	var list, except Addrs
	for _, a := range s.List {
		list = list.Union(c.atom(a))
	}
	for _, a := range s.Except {
		except = except.Union(c.atom(a))
	}
	return list.Subtract(except).Subtract(c.p.own)
}

func (c *compiler) atom(a sentence.Atom) Addrs {
	if a.Literal() {
		return bounds(a)
	}
	key := a.String()
	set, ok := c.sources[key]
	if !ok {
		set = c.resolve(a)
		c.sources[key] = set
	}
	return set
}

func (c *compiler) resolve(a sentence.Atom) Addrs {
	switch a.Kind() {
	case sentence.Everywhere:
		return AllAddrs
	case sentence.Internet:
		return c.p.internet
	case sentence.All, sentence.Pattern, sentence.Tagged:
		return c.machineAddrs(a)
	case sentence.Named:
		n, _ := c.e.Lookup(a.Text())
		switch n.Kind {
		case estate.KindSource:
			var set Addrs
			for _, r := range c.e.Sources[n.I].Ranges {
				set = set.Union(bounds(r))
			}
			return set
		case estate.KindLine:
			return prefixSet(c.e.Lines[n.I].Range...)
		case estate.KindNetwork:
			return prefixSet(c.e.Networks[n.I].Space...)
		case estate.KindSubnet:
			return prefixSet(c.e.Networks[n.Net].Subnets[n.I].Range...)
		case estate.KindMachine:
			return c.machineAddrs(a)
		case estate.KindHost:
			if host, there := c.p.MachineByName(a.Text()); there {
				return c.p.AddrsOf(host)
			}
		case estate.KindBastion: // what comes out of it
			var set Addrs
			for _, g := range c.p.Gateways {
				if g.Name == a.Text() {
					for _, inside := range g.Inside {
						set = set.Union(AddrsAt(inside))
					}
				}
			}
			return set
		}
	}
	return Addrs{} // me is written out before it comes here; anything else is no source
}

func (c *compiler) machineAddrs(a sentence.Atom) Addrs {
	return c.p.AddrsOf(c.group(sentence.Of(a)).Machines...)
}
