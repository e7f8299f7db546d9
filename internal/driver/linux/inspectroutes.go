package linux

import (
	"net/netip"
	"slices"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"ironbark/internal/change"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
)

// routes finds machines to which no route leads, and routes of others in the main table.
func (i *inspection) routes(s *Site, links []netlink.Link, list []change.Resource, plan *flow.Plan) error {
	index := map[string]int{} // by any name
	for _, l := range links {
		for _, name := range namesOf(l) {
			index[name] = l.Attrs().Index
		}
	}
	leads := map[netip.Prefix]string{} // to which machine
	owner := map[netip.Addr]change.Resource{}
	for _, t := range list {
		for _, a := range insideOf(t) {
			leads[netip.PrefixFrom(a, a.BitLen())] = t.Name
			owner[a] = t
		}
	}
	spread := spacesOf(list, plan)
	for _, family := range []int{unix.AF_INET, unix.AF_INET6} {
		routes, err := netlink.RouteListFiltered(family, &netlink.Route{Table: unix.RT_TABLE_MAIN}, netlink.RT_FILTER_TABLE)
		if err != nil {
			return err
		}
		for _, r := range routes {
			to, ok := prefixOfRoute(r, family)
			if !ok {
				continue
			}
			if name := leads[to]; name != "" && r.Priority != offMetric && r.LinkIndex == index[linkOf(name)] && (r.Type == 0 || r.Type == unix.RTN_UNICAST) {
				delete(leads, to)
				continue
			}
			via := r.LinkIndex
			off := r.Priority == offMetric && via == index[offLink]
			if off && owner[to.Addr()].Name != "" || spread[to] && (via == index["probe"] || via == index[uplinkName] || r.Type == unix.RTN_BLACKHOLE && to.Bits() == 0) || isLine(list, to) || r.Protocol == unix.RTPROT_KERNEL {
				continue
			}
			i.found(true, func() error { return netlink.RouteDel(&r) }, "the route to %s is not Ironbark's: it leads packets elsewhere", to)
		}
	}
	for to, name := range leads {
		if t := owner[to.Addr()]; isGuest(t) && !s.guestRuns(name) {
			continue // its link is down, and another way refuses for it
		}
		i.found(false, func() error { return s.rejoin(name, list) }, "no route leads to %s at %s", name, to.Addr())
	}
	return nil
}

// prefixOfRoute is where a route leads; a default route leads everywhere.
func prefixOfRoute(r netlink.Route, family int) (netip.Prefix, bool) {
	if r.Dst == nil {
		if family == unix.AF_INET {
			return anyV4, true
		}
		return anyV6, true
	}
	a, ok := netip.AddrFromSlice(r.Dst.IP)
	bits, _ := r.Dst.Mask.Size()
	return netip.PrefixFrom(a.Unmap(), bits), ok
}

// spacesOf are the prefixes that the site leads to the probe or to the uplink.
func spacesOf(list []change.Resource, plan *flow.Plan) map[netip.Prefix]bool {
	out := map[netip.Prefix]bool{anyV4: true, anyV6: true}
	for _, n := range plan.Networks {
		for _, run := range n.Space.Runs() {
			for _, p := range prefixes(run, run.Lo.Addr().BitLen()) {
				out[p] = true
			}
		}
	}
	if up, ok := change.Find(list, change.Uplink, estate.UplinkName); ok {
		for _, p := range up.Spec.Ranges {
			out[p.Masked()] = true
		}
		for _, p := range up.Spec.Own {
			out[p.Masked()] = true
		}
	}
	return out
}

// isLine reports whether a prefix is of a line's peers.
func isLine(list []change.Resource, p netip.Prefix) bool {
	return slices.ContainsFunc(list, func(t change.Resource) bool {
		return t.Kind == change.Line && slices.ContainsFunc(t.Spec.Ranges, func(r netip.Prefix) bool { return r.Overlaps(p) && p.Bits() >= r.Bits() })
	})
}
