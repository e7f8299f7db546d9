package linux

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"time"

	"github.com/vishvananda/netlink"
	"github.com/vishvananda/netns"
	"golang.org/x/sys/unix"

	"ironbark/internal/change"
	"ironbark/internal/cost"
	"ironbark/internal/estate"
	"ironbark/internal/fault"
)

// The uplink is the one link by which the estate is joined to the host. Either it is on an
// interface of the host's (macvlan(8)): then the router has an address of its own in the
// host's network, and answers there for the public addresses that are given. Or it is a
// pair of links, the other end of which is the host's: then the host routes what is public
// to it, which is for whoever owns the host to set up. See [CheckUplink].

const (
	uplinkName = "uplink" // the router's end
	hostEnd    = "h"      // after the prefix: the name of the host's end of a pair
)

// hostV6 is the host's end of a pair; the router's is routerV6. IPv4 goes by them, too
// (RFC 5549), so the host needs no address for it.
var hostV6 = netip.MustParseAddr("fe80::2")

// setUplink makes the uplink as it is asked for. What was there before goes away first.
func (s *Site) setUplink(spec change.Spec) error {
	var on netlink.Link
	if spec.Link != "" { // before what is there goes away
		var err error
		if on, err = netlink.LinkByName(spec.Link); err != nil {
			return fmt.Errorf("the host's interface %s: %w", spec.Link, err)
		}
	}
	if err := s.removeUplink(); err != nil {
		return err
	}
	host, err := netns.Get() // goroutines of this program are in the host's
	if err != nil {
		return err
	}
	defer host.Close()
	router, err := netns.GetFromPath(namespaceDir + "/" + s.prefix)
	if err != nil {
		return err
	}
	defer router.Close()
	if on == nil {
		err = s.pairWithHost(router)
	} else {
		err = s.macvlan(router, on)
	}
	if err != nil {
		return err
	}
	return within(s.prefix, func() error {
		own := ownAddrs(spec)
		if on == nil {
			own = append(own, netip.PrefixFrom(routerV6, 64)) // the network of an interface has a router already
		} else {
			if err := set(map[string]string{"net.ipv6.conf." + uplinkName + ".proxy_ndp": "1", "net.ipv4.conf." + uplinkName + ".arp_ignore": "1"}); err != nil {
				return err
			}
		}
		// The kernel takes a link of before away some time after its namespace; until then its
		// hardware address is in use.
		err := address(uplinkName, own...)
		for range 100 {
			if !errors.Is(err, unix.EADDRINUSE) {
				break
			}
			time.Sleep(50 * time.Millisecond)
			err = address(uplinkName, own...)
		}
		if err != nil {
			return err
		}
		return outwardBy(spec)
	})
}

// ownAddrs are the router's own addresses on the uplink. Of a pool that the host routes the first
// IPv4 address is one: machines call outward from it.
func ownAddrs(spec change.Spec) []netip.Prefix {
	own := slices.Clone(spec.Own)
	if spec.Link != "" {
		return own
	}
	for _, p := range spec.Ranges {
		if first := p.Masked().Addr(); first.Is4() {
			return append(own, netip.PrefixFrom(first, 32))
		}
	}
	return own
}

// pairWithHost makes the pair of links, and puts the host's end up. A host's end of before is
// taken away first: the kernel does that by itself, but some time after the router's namespace.
func (s *Site) pairWithHost(router netns.NsHandle) error {
	attrs := netlink.NewLinkAttrs()
	attrs.Name, attrs.Group = s.prefix+hostEnd, 0
	if old, err := netlink.LinkByName(attrs.Name); err == nil {
		_ = netlink.LinkDel(old) // it may be gone by now; where it is not, the next step tells
	}
	veth := &netlink.Veth{LinkAttrs: attrs, PeerName: uplinkName, PeerNamespace: netlink.NsFd(router)}
	if err := netlink.LinkAdd(veth); err != nil {
		return fmt.Errorf("the link to the host: %w", err)
	}
	if err := s.fence(nil); err != nil { // before anything passes there
		return fmt.Errorf("the table on the host's end of the uplink: %w", err)
	}
	if err := address(attrs.Name, netip.PrefixFrom(hostV6, 64)); err != nil {
		return err
	}
	return within(s.prefix, func() error { return inGroup(uplinkName, groupUplink) })
}

func inGroup(name string, group int) error {
	l, err := netlink.LinkByName(name)
	if err != nil {
		return err
	}
	return netlink.LinkSetGroup(l, group)
}

// macvlan makes a link on an interface of the host's.
func (s *Site) macvlan(router netns.NsHandle, on netlink.Link) error {
	attrs := netlink.NewLinkAttrs()
	attrs.Name, attrs.ParentIndex, attrs.Namespace, attrs.Group = uplinkName, on.Attrs().Index, netlink.NsFd(router), groupUplink
	attrs.HardwareAddr = s.hardwareAddr()
	if err := netlink.LinkAdd(&netlink.Macvlan{LinkAttrs: attrs, Mode: netlink.MACVLAN_MODE_BRIDGE}); err != nil {
		return fmt.Errorf("a link on the host's interface %s: %w", on.Attrs().Name, err)
	}
	return nil
}

// hardwareAddr is the MAC address of the uplink, the same whenever it is made: neighbours
// remember it. It is one of those that are given locally (IEEE 802, section 8.4).
func (s *Site) hardwareAddr() net.HardwareAddr {
	sum := sha256.Sum256([]byte(s.prefix))
	return append(net.HardwareAddr{sum[0]&^1 | 2}, sum[1:6]...)
}

// outwardBy leads what is of no network of the estate's to the uplink: by gateways, or to the host.
func outwardBy(spec change.Spec) error {
	l, err := netlink.LinkByName(uplinkName)
	if err != nil {
		return err
	}
	for _, to := range []netip.Prefix{anyV4, anyV6} {
		r := &netlink.Route{LinkIndex: l.Attrs().Index, Dst: ipNet(to), Flags: int(netlink.FLAG_ONLINK)}
		switch i := slices.IndexFunc(spec.Gateway, func(g netip.Addr) bool { return g.Is4() == to.Addr().Is4() }); {
		case spec.Link == "" && to.Addr().Is4():
			r.Via = &netlink.Via{AddrFamily: unix.AF_INET6, Addr: hostV6.AsSlice()}
		case spec.Link == "":
			r.Gw = hostV6.AsSlice()
		case i < 0: // nobody to ask: it is silent
			r = &netlink.Route{Dst: ipNet(to), Type: unix.RTN_BLACKHOLE}
		default:
			r.Gw = spec.Gateway[i].AsSlice()
		}
		if err := netlink.RouteReplace(r); err != nil {
			return fmt.Errorf("the way outward: %w", err)
		}
	}
	return nil
}

// removeUplink takes the uplink away, where there is one. What it led outward is led to
// the probe again.
func (s *Site) removeUplink() error {
	err := within(s.prefix, func() error {
		there, err := cutUplink()
		if err != nil || !there {
			return err
		}
		return errors.Join(route("probe", anyV4, probeV4), route("probe", anyV6, probeV6))
	})
	return errors.Join(err, s.unfence())
}

// cutUplink takes the link away in the router's namespace, and reports whether there was one.
// From then on nothing comes in by it.
func cutUplink() (there bool, err error) {
	l, err := netlink.LinkByName(uplinkName)
	if errors.As(err, &netlink.LinkNotFoundError{}) {
		return false, nil
	}
	if err == nil {
		err = netlink.LinkDel(l) // of a pair, both ends go
	}
	return err == nil, err
}

// hasUplink reports whether the router's end is there.
func (s *Site) hasUplink() bool {
	return exists(s.prefix) && within(s.prefix, func() error {
		_, err := netlink.LinkByName(uplinkName)
		return err
	}) == nil
}

// answerUplink has the router answer, in the network of the uplink's interface, for the
// public addresses that resources have, and for the IPv6 addresses of machines there; and
// for no others. What is public and nobody's stays inside.
func (s *Site) answerUplink(list []change.Resource) error {
	if err := s.claimPublic(list); err != nil {
		return err
	}
	up, ok := change.Find(list, change.Uplink, estate.UplinkName)
	if !ok || !s.hasUplink() {
		return nil
	}
	want := map[netip.Prefix]bool{}
	for _, p := range uplinkAddrs(up.Spec, list) {
		want[p] = true
	}
	var neighbours []netip.Addr
	for _, addrs := range addrsOf(list) {
		for _, a := range addrs {
			if a.Is6() && slices.ContainsFunc(up.Spec.Own, func(p netip.Prefix) bool { return p.Masked().Contains(a) }) {
				neighbours = append(neighbours, a)
			}
		}
	}
	return within(s.prefix, func() error {
		for _, p := range up.Spec.Ranges {
			via := probeV4
			if p.Addr().Is6() {
				via = probeV6
			}
			if err := route("probe", p.Masked(), via); err != nil {
				return err
			}
		}
		return errors.Join(haveAddresses(want), haveProxies(neighbours))
	})
}

// uplinkAddrs are the addresses that the router has on the uplink: its own, and on an interface the public ones that resources have.
func uplinkAddrs(spec change.Spec, list []change.Resource) []netip.Prefix {
	all := ownAddrs(spec)
	for _, t := range list {
		for _, a := range []netip.Addr{t.Given.Addr4, t.Given.Addr6} {
			if a.IsValid() && spec.Link != "" {
				all = append(all, netip.PrefixFrom(a, a.BitLen()))
			}
		}
	}
	return all
}

// haveAddresses gives the uplink some addresses and takes all others away, but for those
// that the kernel gave it.
func haveAddresses(want map[netip.Prefix]bool) error {
	l, err := netlink.LinkByName(uplinkName)
	if err != nil {
		return err
	}
	have, err := netlink.AddrList(l, netlink.FAMILY_ALL)
	if err != nil {
		return err
	}
	for i := range have {
		a, _ := netip.AddrFromSlice(have[i].IP)
		ones, _ := have[i].Mask.Size()
		p := netip.PrefixFrom(a.Unmap(), ones)
		if a.IsLinkLocalUnicast() || want[p] {
			delete(want, p)
			continue
		}
		if err := netlink.AddrDel(l, &have[i]); err != nil {
			return err
		}
	}
	for p := range want {
		if err := address(uplinkName, p); err != nil {
			return err
		}
	}
	return nil
}

// haveProxies has the router answer for neighbours, and for no others.
func haveProxies(want []netip.Addr) error {
	l, err := netlink.LinkByName(uplinkName)
	if err != nil {
		return err
	}
	have, err := netlink.NeighProxyList(l.Attrs().Index, netlink.FAMILY_V6)
	if err != nil {
		return err
	}
	there := map[netip.Addr]bool{}
	for i := range have {
		a, _ := netip.AddrFromSlice(have[i].IP)
		if there[a] = true; !slices.Contains(want, a) {
			if err := netlink.NeighDel(&have[i]); err != nil {
				return err
			}
		}
	}
	for _, a := range want {
		if !there[a] {
			n := &netlink.Neigh{LinkIndex: l.Attrs().Index, Family: unix.AF_INET6, Flags: netlink.NTF_PROXY, IP: a.AsSlice()}
			if err := netlink.NeighSet(n); err != nil {
				return err
			}
		}
	}
	return nil
}

// pools are the public addresses that the site gives.
func (s *Site) pools(list []change.Resource) []pool {
	if up, ok := change.Find(list, change.Uplink, estate.UplinkName); ok {
		return cost.PoolsOf(up.Spec.Link == "", up.Spec.Ranges)
	}
	return s.offer.Public
}

// CheckUplink tells what the host lacks for the uplink of the site in a folder, with the
// very commands that remedy it, which Ironbark does not run: they are about the host's own
// network. public are the pools that are routed to the site where there is no interface;
// so is whatever else of IPv6 is to be reached.
func CheckUplink(dir, link string, public []netip.Prefix) (list []Requirement) {
	if link != "" {
		_, err := netlink.LinkByName(link)
		return append(list, Requirement{What: "the host's interface " + link, Err: err, Remedy: fault.Say("ip link lists those of this host; name one of them in uplink: of estate.yaml")})
	}
	host := prefixOf(dir) + hostEnd
	l, err := netlink.LinkByName(host)
	list = append(list, Requirement{What: "the link to the site, " + host, Err: err, Remedy: fault.Run("enact").Say(" makes it")})
	if err != nil {
		return list
	}
	for _, family := range []int{unix.AF_INET, unix.AF_INET6} {
		if !slices.ContainsFunc(public, func(p netip.Prefix) bool { return familyOf(p.Addr()) == family }) {
			continue
		}
		more, err := forwards(host, family)
		if err != nil {
			return append(list, Requirement{What: "the host's links", Err: err})
		}
		list = append(list, more...)
	}
	for _, p := range public {
		list = append(list, Requirement{What: "the host routes " + p.String() + " to the site", Err: routed(p, l.Attrs().Index), Remedy: fault.Say(fmt.Sprintf("ip route add %s via inet6 %s dev %s", p, routerV6, host))})
	}
	return list
}

// routed tells why a prefix is not led to a link.
func routed(p netip.Prefix, link int) error {
	a := p.Masked().Addr()
	if p.Addr().Is6() && !p.IsSingleIP() {
		a = a.Next()
	}
	routes, err := netlink.RouteGet(a.AsSlice())
	switch {
	case err != nil:
		return fmt.Errorf("it has no route to %s: %w", a, err)
	case len(routes) == 0 || routes[0].LinkIndex != link:
		return fmt.Errorf("%s is led elsewhere", a)
	}
	return nil
}
