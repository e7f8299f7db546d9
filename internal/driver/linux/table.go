package linux

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"

	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
	"ironbark/internal/sentence"
)

// Table is a plan as the packet filter holds it. Everything is looked up in sets that do
// not overlap, so the work for a packet does not grow with the number of sentences:
//
//	address ─▶ class ────── reach: may this source use the way that it came by?
//	address ─▶ audience ─┬─ deny-until: denies that end
//	                     ├─ who: with its source ─▶ profile ─┬─ deny
//	                     │                                   └─ pass: routes, standing exceptions and allows
//	                     └─ pass-until: those that end
//	address ─────────────── open: openings
//	way ─────────────────── own: the source of the door itself
//
// Addresses of one audience are met by the same sentences; of one class, by the same sources
// too. A way tells how a packet came: sent to that very address, or translated. A
// profile is what is denied and let pass, of all services.
type Table struct {
	Class    []Member
	Audience []Member
	Doors    []Translation
	Reach    []Box // by class, way and source
	Who      []Piece
	Deny     []Entry
	Pass     []Entry
	Own      []Box // by way, source and time

	DenyUntil []Box // by audience, service, source and time
	PassUntil []Box
	// Inside are the sources that never come from outside: the estate's own.
	Inside flow.Addrs
	// Callable are the addresses that are judged by Calls where a machine calls them.
	Callable flow.Addrs
	// Calls is what machines call outside, in which source and destination change places; nil in that table itself.
	Calls *Table
}

// Member says to which class, or audience, an address of a machine belongs.
type Member struct {
	Addr  netip.Addr
	Class uint32
}

// The ways by which a packet comes to a machine's address.
const (
	untranslated uint32 = iota // it was sent to that very address
	direct                     // to the machine's public address
)

// Translation leads what is sent to a public address to machines.
type Translation struct {
	Public  netip.Addr
	Service flow.Service // at the public address; with All every one
	All     bool
	Ingress uint32
	End     uint64   // before it, in nanoseconds of Unix time; forever: none
	To      []Target // one of them, chosen by the connection
}

// Target is where a translation leads.
type Target struct {
	Machine string
	Addr    netip.Addr
	Port    uint16
}

// Box is a set of packets: a run of services, sources and moments for one class (or audience) and way.
// Where a set is not by one of them, it is zero.
type Box struct {
	Class, Ingress uint32
	Services       span.Run[flow.Service] // of one protocol
	Source         flow.Run
	Begin, End     uint64 // nanoseconds of Unix time, both included
}

// forever is the end of what has none.
const forever = ^uint64(0)

// Live tells whether a machine takes part in a spread: that of a front at a service.
type Live func(machine, front string, at flow.Service) bool

// NewTable works a plan out. Openings of the plan are left out. live tells which machines
// take part in a spread; nil: all do. A published door that has no way is left out. Equal plans have equal tables. Cost: the audiences of machines,
// times the rules for each and their sources.
func NewTable(p *flow.Plan, live Live, ways Ways) *Table {
	if gates := p.Gateways; len(gates) > 0 && live != nil {
		listens := live
		live = func(machine, front string, at flow.Service) bool { // a gateway that serves is no process of the site's
			return slices.ContainsFunc(gates, func(g flow.Gateway) bool { return g.Name == machine }) || listens(machine, front, at)
		}
	}
	calls := p
	p = p.WithGatewaysAsMachines()
	c := &compiler{p: p, t: &Table{}, numbers: ways, classes: map[string]uint32{}, audiences: map[string]uint32{}, texts: map[span.Memory[flow.Point]]string{}}
	c.profiles = profiles{p: p, t: c.t, byRules: map[string]uint32{}, byWhat: map[string]uint32{}}
	speak := make([][]int, len(p.Machines))
	for i := range p.Rules {
		if p.Rules[i].Kind != flow.Opening {
			for _, m := range p.Rules[i].To.Machines {
				speak[m] = append(speak[m], i)
			}
		}
	}
	for m := range p.Machines {
		c.machine(int32(m), speak[m])
	}
	if !p.OfCalls() {
		c.doors(live)
		c.inside()
		c.t.Calls = NewTable(calls.Calls(), nil, Ways{})
	}
	c.sort()
	return c.t
}

type compiler struct {
	p         *flow.Plan
	t         *Table
	numbers   Ways
	classes   map[string]uint32
	audiences map[string]uint32 // by the rules that speak of them
	profiles  profiles
	texts     map[span.Memory[flow.Point]]string // of sets of sources, which machines share
}

// text is a set of sources as the key of a class has it.
func (c *compiler) text(from flow.Addrs) string {
	if from.IsEmpty() {
		return ""
	}
	text, known := c.texts[from.Memory()]
	if !known {
		text = fmt.Sprint(flow.AddrRuns(from))
		c.texts[from.Memory()] = text
	}
	return text
}

// machine puts the addresses of a machine, which some rules speak of, into their classes and
// audience, and tells who can come to them by which way.
func (c *compiler) machine(m int32, rules []int) {
	var speak []byte
	for _, i := range rules {
		speak = binary.AppendUvarint(speak, uint64(i))
	}
	audience, known := c.audiences[string(speak)]
	if !known {
		audience = firstAudience + uint32(len(c.audiences))
		c.audiences[string(speak)] = audience
		c.audience(audience, rules)
	}
	doors := c.p.DoorsTo(m)
	for _, i := range c.p.Machines[m].Interfaces {
		for _, a := range i.Addrs {
			ways := map[uint32]flow.Addrs{}
			for _, d := range doors {
				if way, leads := c.way(d, a); leads {
					ways[way] = ways[way].Union(d.From)
				}
			}
			key := fmt.Sprint(audience)
			for _, way := range sortedKeys(ways) {
				key += fmt.Sprint("|", way, c.text(ways[way]))
			}
			key += fmt.Sprint("|", a.Is4())
			class, known := c.classes[key]
			if !known {
				class = uint32(len(c.classes) + 1)
				c.classes[key] = class
				for way, from := range ways {
					for _, run := range from.Runs() {
						c.t.Reach = append(c.t.Reach, Box{Class: class, Ingress: way, Source: run})
					}
				}
			}
			c.t.Class = append(c.t.Class, Member{Addr: a, Class: class})
			c.t.Audience = append(c.t.Audience, Member{Addr: a, Class: audience})
		}
	}
}

// way tells by which way what comes through a door arrives at an address, if it does.
func (c *compiler) way(d flow.Door, a netip.Addr) (uint32, bool) {
	if d.Family != sentence.FamilyOf(a) {
		return 0, false
	}
	switch {
	case d.Own != nil:
		way, ok := c.numbers.of(d.Own)
		return way, ok && a == c.address(d.Machine, d.Own, d.Family)
	case d.Address == a:
		return untranslated, true
	case d.Kind == flow.DoorDirect && d.Family == sentence.IPv4:
		return direct, a == c.directTo(d.Machine)
	}
	return 0, false
}

// address is where a published door leads at a machine.
func (c *compiler) address(m int32, d *flow.Published, f flow.Family) netip.Addr {
	network := ""
	for _, f := range c.p.Fronts {
		if f.Name == d.Front {
			network = f.Network
		}
	}
	return first(c.p.Machines[m], f, func(i flow.Interface) bool { return i.Network == network })
}

// directTo is where a machine's public IPv4 address leads: to the first interface that
// can have it.
func (c *compiler) directTo(m int32) netip.Addr {
	return first(c.p.Machines[m], sentence.IPv4, func(i flow.Interface) bool { return c.outside(i.Network) })
}

func first(m flow.Machine, f flow.Family, of func(flow.Interface) bool) netip.Addr {
	for _, i := range m.Interfaces {
		for _, a := range i.Addrs {
			if sentence.FamilyOf(a) == f && of(i) {
				return a
			}
		}
	}
	return netip.Addr{}
}

func (c *compiler) outside(network string) bool {
	return slices.ContainsFunc(c.p.Networks, func(n flow.Network) bool { return n.Name == network && n.Outside })
}

// audience works out what rules say that speak of an audience.
func (c *compiler) audience(audience uint32, rules []int) {
	var always []int
	var deny, pass layers
	for _, i := range rules {
		r := &c.p.Rules[i]
		if r.Begin.IsZero() && r.Until.IsZero() {
			always = append(always, i)
			continue
		}
		one := layer{r.Services, r.From, nanos(r.Begin, 0), nanos(r.Until, forever)}
		switch r.Kind {
		case flow.Deny:
			deny = append(deny, one)
		case flow.Allow:
			one.services = one.services.Subtract(c.p.AdminServices)
			pass = append(pass, one)
		default:
			pass = append(pass, one)
		}
	}
	c.profiles.audience(audience, always)
	c.t.DenyUntil = append(c.t.DenyUntil, inClass(deny.boxes(), audience)...)
	c.t.PassUntil = append(c.t.PassUntil, inClass(pass.boxes(), audience)...)
}

// inClass returns boxes for a class.
func inClass(boxes []Box, class uint32) []Box {
	for i := range boxes {
		boxes[i].Class = class
	}
	return boxes
}

// doors works out the translations, and the sources of the doors themselves.
func (c *compiler) doors(live Live) {
	for m, machine := range c.p.Machines {
		if to := c.directTo(int32(m)); machine.Public.Wants4 && machine.Public.Addr4.IsValid() && to.IsValid() {
			c.t.Doors = append(c.t.Doors, Translation{Public: machine.Public.Addr4, All: true, Ingress: direct, End: forever, To: []Target{{Machine: machine.Name, Addr: to}}})
		}
	}
	fronts := map[string]flow.Front{}
	for _, f := range c.p.Fronts {
		if c.outside(f.Network) {
			fronts[f.Name] = f
		}
	}
	for k, d := range c.p.Doors {
		way, numbered := c.numbers.of(&c.p.Doors[k])
		f, ok := fronts[d.Front]
		if !ok || !numbered || protocol(d.Service) != protocol(d.On) { // translation changes no protocol: such a door stays closed
			continue
		}
		for _, family := range sentence.Families {
			public := f.Public.Addr(family)
			if !public.IsValid() {
				continue
			}
			t := Translation{Public: public, Service: d.Service, Ingress: way, End: nanos(d.Until, forever)}
			for _, m := range d.To.Machines {
				if a := c.address(m, &c.p.Doors[k], family); a.IsValid() && (live == nil || live(c.p.Machines[m].Name, d.Front, d.Service)) {
					t.To = append(t.To, Target{Machine: c.p.Machines[m].Name, Addr: a, Port: d.On.Port()})
				}
			}
			if len(t.To) > 0 {
				c.t.Doors = append(c.t.Doors, t)
			}
		}
		if c.p.AdminServices.Contains(d.On) && !d.Standing {
			continue
		}
		for _, run := range d.From.Runs() {
			c.t.Own = append(c.t.Own, Box{Ingress: way, Source: run, End: last(nanos(d.Until, forever))})
		}
	}
}

// neighbours are the addresses from which neighbours on a link ask for each other (RFC 4861): none of it is passed on.
var neighbours = flow.PrefixSet(netip.MustParsePrefix("fe80::/10"))

// inside gathers the sources that never come from outside, and the addresses outside that machines call.
func (c *compiler) inside() {
	all := c.p.Own()
	for _, n := range c.p.Networks {
		all = all.Union(n.Space)
	}
	for _, l := range c.p.Lines {
		all = all.Union(l.Range)
	}
	c.t.Inside, c.t.Callable = all.Subtract(neighbours), c.p.Callable()
}

func (c *compiler) sort() {
	for _, list := range [][]Member{c.t.Class, c.t.Audience} {
		slices.SortFunc(list, func(a, b Member) int { return a.Addr.Compare(b.Addr) })
	}
	for _, list := range [][]Box{c.t.Reach, c.t.Own, c.t.DenyUntil, c.t.PassUntil} {
		slices.SortFunc(list, compareBoxes)
	}
	for _, list := range [][]Entry{c.t.Deny, c.t.Pass} {
		slices.SortFunc(list, func(a, b Entry) int {
			return cmp.Or(cmp.Compare(a.Profile, b.Profile), a.Services.Lo.Compare(b.Services.Lo))
		})
	}
}

func compareBoxes(a, b Box) int {
	return cmp.Or(cmp.Compare(a.Class, b.Class), cmp.Compare(a.Ingress, b.Ingress), a.Services.Lo.Compare(b.Services.Lo), a.Source.Lo.Compare(b.Source.Lo), cmp.Compare(a.Begin, b.Begin))
}

func sortedKeys(m map[uint32]flow.Addrs) []uint32 {
	keys := make([]uint32, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}
