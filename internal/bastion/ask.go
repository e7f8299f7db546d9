package bastion

import (
	"net/netip"
	"time"

	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
	"ironbark/internal/sentence"
)

// Part is a set of requests that meet the same decision for the same reason.
type Part struct {
	Machine  string
	Services flow.Services // at the machine
	Client   flow.Addrs    // from which the person comes
	Forward  bool
	Reason   Reason
	Origin   flow.Origin // of what decided
}

// Forwardable is every service that a gateway could forward: the ports of TCP.
var Forwardable = span.Of(span.Run[flow.Service]{Lo: flow.TCPPort(0), Hi: flow.TCPPort(65535)})

// Ask decides about all requests of a person for some services of some machines, from some clients. The
// parts of a machine are disjoint and together the whole question. Cost: machines × the sentences about this gateway and the denies.
func (c *Policy) Ask(person string, services flow.Services, machines *flow.Group, clients flow.Addrs, at time.Time) (list []Part) {
	for _, m := range machines.Machines {
		list = append(list, c.askMachine(person, services, m, clients, at)...)
	}
	return list
}

func (c *Policy) askMachine(person string, services flow.Services, m int32, clients flow.Addrs, at time.Time) (list []Part) {
	name := c.plan.Machines[m].Name
	left := []flow.Box{{Services: services, From: clients}}
	// take decides about what is left of some requests.
	take := func(what flow.Box, forward bool, why Reason, origin flow.Origin) {
		var rest []flow.Box
		for _, l := range left {
			if both := l.Intersect(what); !both.IsEmpty() {
				list = append(list, Part{name, both.Services, both.From, forward, why, origin})
			}
			rest = append(rest, l.Less([]flow.Box{what})...)
		}
		left = rest
	}
	take(flow.Box{Services: services.Subtract(Forwardable), From: clients}, false, NotTCP, flow.Origin{})
	take(flow.Box{Services: services, From: clients.Subtract(c.From)}, false, NotFrom, flow.Origin{})
	addrs := c.addrs(m)
	if len(addrs) == 0 {
		take(flow.Box{Services: services, From: clients}, false, NoMachine, flow.Origin{})
		return list
	}
	var routed flow.Services
	for _, r := range c.routes {
		if r.to.Has(m) && c.belongs(person, r.people) {
			routed = routed.Union(r.services)
		}
	}
	take(flow.Box{Services: services.Subtract(routed), From: clients}, false, NoRoute, flow.Origin{})
	outside, by := c.keptOut(m, addrs, at)
	take(flow.Box{Services: outside, From: flow.AllAddrs}, false, ByDeny, by)
	for i := range c.denies {
		if d := &c.denies[i]; d.Active(at) && d.To.Has(m) {
			take(flow.Box{Services: d.Services, From: d.From}, false, ByDeny, d.Origin)
		}
	}
	for _, r := range c.routes {
		if r.to.Has(m) && c.belongs(person, r.people) {
			take(flow.Box{Services: r.services, From: flow.AllAddrs}, true, ByRoute, r.origin)
		}
	}
	return list
}

// Reaches reports whether the gateway has a way to a machine.
func (c *Policy) Reaches(m int32) bool { return len(c.addrs(m)) > 0 }

// keptOut returns the services from which denies keep the gateway itself out, at each of a machine's
// addresses, and one of the denies.
func (c *Policy) keptOut(m int32, addrs []netip.Addr, at time.Time) (services flow.Services, by flow.Origin) {
	services = flow.AnyService
	for _, a := range addrs {
		var here flow.Services
		own := flow.PointOf(c.from(sentence.FamilyOf(a), flow.AllAddrs))
		for i := range c.denies {
			if d := &c.denies[i]; d.Active(at) && d.To.Has(m) && d.From.Contains(own) {
				here, by = here.Union(d.Services), d.Origin
			}
		}
		services = services.Intersect(here)
	}
	return services, by
}
