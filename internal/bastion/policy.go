// Package bastion decides whom the gateway of a bastion forwards, and where to: what the
// sentences `route` and `deny` come to for single people.
//
//	person, client's address ──▶ gateway ──inside address──▶ machine
//
// A forwarded session is two flows, and both must pass. The gateway itself judges what no packet
// filter can see: who the person is, and the client's own address, against the denies too. The flow
// from its inside address is judged once more by the tables of the site.
package bastion

import (
	"net/netip"
	"slices"
	"strings"
	"time"

	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// Policy is what one gateway goes by. The zero Policy lets nobody in. A Policy is not altered after
// [Compile], and is safe for concurrent use.
type Policy struct {
	Gateway  string
	Sessions int        // forwarded sessions at once
	From     flow.Addrs // who may reach the gateway itself
	Inside   []netip.Addr

	estate   *estate.Estate
	plan     *flow.Plan
	routes   []route
	denies   []flow.Rule          // as decided, as installed, or both
	machines map[netip.Addr]int32 // into plan.Machines
}

// route is one sentence about this gateway.
type route struct {
	people   []sentence.Name
	services flow.Services
	to       *flow.Group
	origin   flow.Origin
}

// Compile returns what a gateway goes by: the sentences of an estate as enacted, over what a plan
// has. Denies hold that are decided, installed, or both. ok is false where the estate or the plan has no
// such bastion. Cost: the sentences that are routes and denies, times what their words stand for.
func Compile(e *estate.Estate, p *flow.Plan, gateway string) (_ *Policy, ok bool) {
	i := slices.IndexFunc(p.Gateways, func(g flow.Gateway) bool { return g.Name == gateway })
	j := slices.IndexFunc(e.Bastions, func(b estate.Bastion) bool { return b.Name == gateway })
	if i < 0 || j < 0 {
		return nil, false
	}
	resolve := flow.NewResolver(e, p)
	g := p.Gateways[i]
	c := &Policy{
		Gateway: gateway, Sessions: e.Bastions[j].Sessions, Inside: g.Inside,
		estate: e, plan: p, machines: map[netip.Addr]int32{},
	}
	for _, d := range p.GatewayDoors() {
		if d.Via == gateway { // as installed and as decided
			c.From = c.From.Union(d.From.Intersect(resolve.Source(e.Bastions[j].From)))
		}
	}
	installed := map[string]flow.Rule{}
	for _, r := range p.Rules {
		if r.Kind == flow.Deny {
			c.denies = append(c.denies, r)
			installed[r.Origin.Sentence] = r
		}
	}
	for _, st := range e.SentencesOf(sentence.VerbRoute, sentence.VerbDeny) {
		switch s := st.Sentence.(type) {
		case sentence.Route:
			if s.Via.Text == gateway {
				c.routes = append(c.routes, route{s.For, resolve.Services(s.Services), resolve.Group(s.To), flow.OriginOf(st)})
			}
		case sentence.Deny:
			if e.CallsOutside(s.To) {
				continue
			}
			r := flow.Rule{From: resolve.Source(s.From), Services: resolve.Services(s.Services), To: resolve.Group(s.To), Until: s.Until, Origin: flow.OriginOf(st)}
			if there, ok := installed[s.String()]; !ok || !same(r, there) {
				c.denies = append(c.denies, r)
			}
		}
	}
	for m := range p.Machines {
		for _, a := range c.addrs(int32(m)) {
			c.machines[a] = int32(m)
		}
	}
	return c, true
}

// same reports whether two denies keep out the same for the same time.
func same(a, b flow.Rule) bool {
	return a.Begin.Equal(b.Begin) && a.Until.Equal(b.Until) && a.From.Equal(b.From) && a.Services.Equal(b.Services) && slices.Equal(a.To.Machines, b.To.Machines)
}

// addrs lists a machine's own addresses that the gateway has a way to from inside, in the order
// of its interfaces.
func (c *Policy) addrs(m int32) (list []netip.Addr) {
	for _, d := range c.plan.DoorsTo(m) {
		inside := d.Kind == flow.DoorInside || d.Kind == flow.DoorDirect && d.Family == sentence.IPv6
		if inside && d.Address.IsValid() && c.from(sentence.FamilyOf(d.Address), d.From).IsValid() && !slices.Contains(list, d.Address) {
			list = append(list, d.Address)
		}
	}
	return list
}

// from returns the gateway's own address of a family that is among some; the zero Addr where none is.
func (c *Policy) from(f flow.Family, among flow.Addrs) netip.Addr {
	for _, a := range c.Inside {
		if sentence.FamilyOf(a) == f && among.Contains(flow.PointOf(a)) {
			return a
		}
	}
	return netip.Addr{}
}

// Families are all addresses of the families in which the gateway can be reached.
func (c *Policy) Families() (all flow.Addrs) {
	for _, g := range c.plan.Gateways {
		if g.Name == c.Gateway && g.Public.Wants4 {
			all = all.Union(flow.AllIPv4)
		}
		if g.Name == c.Gateway && g.Public.Wants6 {
			all = all.Union(flow.AllIPv6)
		}
	}
	return all
}

// Request asks to be forwarded.
type Request struct {
	Person string
	Client netip.Addr // from which the person comes
	Host   string     // a machine's name, or an address of its own
	Port   uint16     // of TCP
}

// Reason says what decided about a request.
type Reason string

// The reasons.
const (
	ByRoute   Reason = "route"          // a route lets the person through
	NoRoute   Reason = "no-route"       // no route has this person, machine and service
	ByDeny    Reason = "deny"           // a deny keeps the client or the gateway out
	NoMachine Reason = "no-machine"     // it is no machine that the gateway has a way to
	NotTCP    Reason = "not-tcp"        // a gateway forwards TCP alone
	NotFrom   Reason = "not-from-there" // the gateway may not be reached from that address
)

// Decision is what became of a request.
type Decision struct {
	Forward bool
	Reason  Reason
	Machine string           // "" where it is none
	From    netip.Addr       // the gateway's own address that calls
	To      []netip.AddrPort // in the order in which they are tried
	Origin  flow.Origin      // of what decided
}

// Judge decides about a request at a moment. Cost: the sentences about this gateway, and the denies.
func (c *Policy) Judge(r Request, at time.Time) Decision {
	if !r.Client.IsValid() || !c.From.Contains(flow.PointOf(r.Client.Unmap().WithZone(""))) {
		return Decision{Reason: NotFrom}
	}
	client := flow.PointOf(r.Client.Unmap().WithZone(""))
	m, addrs := c.find(r.Host)
	if len(addrs) == 0 {
		return Decision{Reason: NoMachine}
	}
	d := Decision{Reason: NoRoute, Machine: c.plan.Machines[m].Name}
	service := flow.TCPPort(r.Port)
	i := slices.IndexFunc(c.routes, func(o route) bool {
		return o.services.Contains(service) && o.to.Has(m) && c.belongs(r.Person, o.people)
	})
	if i < 0 {
		return d
	}
	for _, a := range addrs {
		from := c.from(sentence.FamilyOf(a), flow.AllAddrs)
		if by, denied := c.denied(m, service, at, client, flow.PointOf(from)); denied {
			if len(d.To) == 0 {
				d.Reason, d.Origin = ByDeny, by
			}
			continue
		}
		if len(d.To) == 0 {
			d.From = from
		}
		if from == d.From {
			d.To = append(d.To, netip.AddrPortFrom(a, r.Port))
		}
	}
	if len(d.To) > 0 {
		d.Forward, d.Reason, d.Origin = true, ByRoute, c.routes[i].origin
	}
	return d
}

// find looks a machine up by its name or an address of its own. It returns no addresses where there is no such
// machine, or no way to it.
func (c *Policy) find(host string) (m int32, addrs []netip.Addr) {
	if a, err := netip.ParseAddr(strings.Trim(host, "[]")); err == nil {
		a = a.Unmap()
		if m, ok := c.machines[a]; ok {
			return m, []netip.Addr{a}
		}
	} else if m, ok := c.plan.MachineByName(strings.ToLower(host)); ok {
		return m, c.addrs(m)
	}
	return 0, nil
}

// belongs reports whether a person is among people and groups.
func (c *Policy) belongs(person string, people []sentence.Name) bool {
	return c.estate.PersonKnown(person) && slices.ContainsFunc(people, func(n sentence.Name) bool { return c.estate.Belongs(person, n.Text) })
}

// denied finds a deny that keeps one of some sources out.
func (c *Policy) denied(m int32, service flow.Service, at time.Time, sources ...flow.Point) (flow.Origin, bool) {
	for i := range c.denies {
		d := &c.denies[i]
		if d.Active(at) && d.To.Has(m) && d.Services.Contains(service) && slices.ContainsFunc(sources, d.From.Contains) {
			return d.Origin, true
		}
	}
	return flow.Origin{}, false
}
