package flow

import (
	"net/netip"
	"slices"

	"ironbark/internal/estate"
	"ironbark/internal/flow/span"
	"ironbark/internal/sentence"
)

// A site that has an uplink runs on a host, which its machines could call as they call the internet. A plan has that host among its machines,
// in no network, as estate.SiteHost: sentences and openings that name it let something pass there, its administrative services are closed
// without an opening, and nothing that machines may call outside includes it. Only machines that call outside reach it, from the
// address from which they do. As a source it is what its address is: of the internet.

// linkLocal are the addresses that no router passes on (RFC 3927, RFC 4291 section 2.5.6): no packet from outside has one as its source, and no machine calls one outside.
var linkLocal = prefixSet(netip.MustParsePrefix("169.254.0.0/16")).Union(linkLocal6)

// IsSiteHost reports whether a machine of a plan is the host of the site.
func (m Machine) IsSiteHost() bool { return m.Name == estate.SiteHost }

// siteHost is the host as a machine of the plan, at those of some addresses that lie outside: the others are the estate's own.
func (p *Plan) siteHost(addrs []netip.Addr) Machine {
	outside := slices.DeleteFunc(slices.Clone(addrs), func(a netip.Addr) bool { return !p.internet.Contains(PointOf(a)) })
	slices.SortFunc(outside, netip.Addr.Compare)
	return Machine{Name: estate.SiteHost, Interfaces: []Interface{{Addrs: slices.Compact(outside)}}}
}

// commonHost takes the host out of a common plan where a machine that reaches it does not do so in both plans.
func (c *common) commonHost() {
	for _, f := range sentence.Families {
		for _, p := range []*Plan{c.a, c.b} {
			if !p.hostCallers[f].ContainsAll(c.out.hostCallers[f]) {
				c.out.Machines = slices.DeleteFunc(c.out.Machines, Machine.IsSiteHost)
				c.out.finish()
				return
			}
		}
	}
}

// finishHost derives what can be called outside, and who calls the host. Cost: linear in the machines.
func (p *Plan) finishHost() {
	p.callable, p.away, p.hostCallers = p.internet, ByFamily(p.internet), [2]Addrs{}
	host, there := p.MachineByName(estate.SiteHost)
	if !there {
		return
	}
	p.callable = p.internet.Subtract(p.AddrsOf(host))
	p.away = ByFamily(p.callable)
	var callers [2][]Run
	for m := range p.Machines {
		for _, f := range sentence.Families {
			if _, d, ok := p.wayOut(int32(m), f); ok {
				callers[f] = append(callers[f], One(d.Address))
			}
		}
	}
	for _, f := range sentence.Families {
		p.hostCallers[f] = span.Of(callers[f]...)
	}
}

// HostAddrs returns the addresses of the site's host; none where the plan has no host.
func (p *Plan) HostAddrs() []netip.Addr {
	if host, there := p.MachineByName(estate.SiteHost); there {
		return p.Machines[host].Interfaces[0].Addrs
	}
	return nil
}

// Callable returns the addresses outside that machines may call: the internet, less the site's host.
func (p *Plan) Callable() Addrs { return p.callable }

// hostDoors lists the doors to the host, one an address.
func (p *Plan) hostDoors(m int32) (doors []Door) {
	for _, i := range p.Machines[m].Interfaces {
		for _, a := range i.Addrs {
			f := sentence.FamilyOf(a)
			doors = append(doors, Door{Kind: DoorInside, Machine: m, Family: f, Address: a, Arrives: AnyService, From: p.hostCallers[f]})
		}
	}
	return doors
}
