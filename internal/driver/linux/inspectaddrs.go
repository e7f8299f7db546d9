package linux

import (
	"net"
	"net/netip"

	"github.com/vishvananda/netlink"

	"ironbark/internal/change"
	"ironbark/internal/estate"
)

// The router's links have addresses, whose packets it takes for itself, and fixed neighbours, which say where a machine is. Either can keep
// packets from a machine, or lead them to another.

// addresses finds addresses of others on the router's links, own ones that are gone, and fixed neighbours, of which the site has none.
func (i *inspection) addresses(links []netlink.Link, list []change.Resource) error {
	want := map[string]map[netip.Addr]netip.Prefix{} // by any name of the link
	need := func(link string, prefixes ...netip.Prefix) {
		if want[link] == nil {
			want[link] = map[netip.Addr]netip.Prefix{}
		}
		for _, p := range prefixes {
			want[link][p.Addr()] = p
		}
	}
	need("probe", netip.PrefixFrom(routerV4, 30), netip.PrefixFrom(routerV6, 64))
	for _, t := range list {
		switch {
		case isNode(t):
			need(linkOf(t.Name), netip.PrefixFrom(routerV6, 64))
		case t.Kind == change.Uplink && t.Name == estate.UplinkName:
			need(uplinkName, uplinkAddrs(t.Spec, list)...)
			if t.Spec.Link == "" {
				need(uplinkName, netip.PrefixFrom(routerV6, 64))
			}
		}
	}
	all, err := netlink.AddrList(nil, netlink.FAMILY_ALL) // that of a link alone is no shorter
	if err != nil {
		return err
	}
	byLink := map[int][]netlink.Addr{}
	for _, a := range all {
		byLink[a.LinkIndex] = append(byLink[a.LinkIndex], a)
	}
	for _, l := range links {
		own := map[netip.Addr]netip.Prefix{}
		ours := false
		for _, name := range namesOf(l) {
			if prefixes, there := want[name]; there {
				own, ours = prefixes, true
			}
		}
		if !ours { // the links of lines and of guests that are off have addresses of their own
			continue
		}
		there := map[netip.Addr]bool{}
		for _, h := range byLink[l.Attrs().Index] {
			a, _ := netip.AddrFromSlice(h.IP)
			a = a.Unmap()
			if there[a] = true; own[a].IsValid() || a.IsLinkLocalUnicast() && a.Is6() { // the kernel gives links some
				continue
			}
			i.found(true, func() error { return netlink.AddrDel(l, &h) }, "the router's address %s is not Ironbark's: the router takes packets to it for itself", a)
		}
		for a, p := range own {
			if !there[a] && l.Attrs().Flags&net.FlagUp != 0 { // of a link that is down the kernel takes them away
				i.found(false, func() error { return address(l.Attrs().Name, p) }, "the router lacks its address %s on %s", a, namesOf(l)[len(namesOf(l))-1])
			}
		}
	}
	return i.neighbours()
}

// neighbours finds fixed neighbours.
func (i *inspection) neighbours() error {
	list, err := netlink.NeighList(0, netlink.FAMILY_ALL)
	if err != nil {
		return err
	}
	for _, n := range list {
		if n.State&netlink.NUD_PERMANENT != 0 && n.Flags&netlink.NTF_PROXY == 0 {
			i.found(true, func() error { return netlink.NeighDel(&n) }, "the fixed neighbour %s is not Ironbark's: it leads packets to another hardware address", n.IP)
		}
	}
	return nil
}
