package linux

import (
	"errors"
	"fmt"
	"net/netip"
	"os"
	"time"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"ironbark/internal/change"
)

// guestMAC is the address of each guest's network card. Each has a link of its own, so they may all
// have the same; and nobody waits until it is forgotten which one an address had before.
const guestMAC = "52:54:00:1b:a2:4b"

// A guest that does not run has nobody who refuses what is sent to it, and sessions with it would hang. So each of its
// addresses has a second way, which the kernel takes while the first one's link has nobody at its other end, whatever
// ended the guest: to a namespace that has no listener, and refuses everything for it.
const (
	offLink   = "off"
	offMetric = 5000 // after that of an IPv6 route that says none, which is 1024
)

var offV4 = netip.MustParseAddr("169.254.77.6")

// refuseFor makes that namespace.
func (s *Site) refuseFor() error {
	off := s.prefix + ".off"
	if exists(off) {
		return nil
	}
	if err := create(off, machineSettings); err != nil {
		return err
	}
	if err := pair(s.prefix, offLink, groupOff, off, "up"); err != nil {
		return err
	}
	return within(off, func() error {
		if err := address("up", netip.PrefixFrom(offV4, 30), netip.PrefixFrom(probeV6, 64)); err != nil {
			return err
		}
		return errors.Join(route("up", anyV4, routerV4), route("up", anyV6, routerV6))
	})
}

// refusing are the routes by which what is sent to some addresses is refused: in the router, and in the
// namespace that takes them for its own.
func refusing(addrs []netip.Addr, off, lo int) (router, inside []*netlink.Route) {
	for _, a := range addrs {
		to, via := ipNet(netip.PrefixFrom(a, a.BitLen())), probeV6
		if a.Is4() {
			via = offV4
		}
		router = append(router, &netlink.Route{LinkIndex: off, Dst: to, Gw: via.AsSlice(), Flags: int(netlink.FLAG_ONLINK), Priority: offMetric})
		inside = append(inside, &netlink.Route{LinkIndex: lo, Dst: to, Table: unix.RT_TABLE_LOCAL, Type: unix.RTN_LOCAL, Scope: netlink.SCOPE_HOST})
	}
	return router, inside
}

// eachRefusing does something with each of those routes.
func (s *Site) eachRefusing(addrs []netip.Addr, do func(*netlink.Route) error) error {
	in := func(namespace, link string, pick func(index int) []*netlink.Route) error {
		return within(namespace, func() error {
			l, err := netlink.LinkByName(link)
			if err != nil {
				return err
			}
			for _, r := range pick(l.Attrs().Index) {
				err = errors.Join(err, do(r))
			}
			return err
		})
	}
	return errors.Join(
		in(s.prefix+".off", "lo", func(lo int) []*netlink.Route { _, inside := refusing(addrs, 0, lo); return inside }),
		in(s.prefix, offLink, func(off int) []*netlink.Route { router, _ := refusing(addrs, off, 0); return router }))
}

// joinGuest makes a guest's link to the router, if it is not there, and reports whether it was made.
func (s *Site) joinGuest(machine string, outward bool) (made bool, err error) {
	if err := s.refuseFor(); err != nil {
		return false, err
	}
	name := linkOf(machine)
	group := uint32(groupMachine)
	if outward {
		group = groupOutward
	}
	err = within(s.prefix, func() error {
		l, err := netlink.LinkByName(name)
		if err == nil {
			return netlink.LinkSetGroup(l, int(group))
		}
		if !errors.As(err, &netlink.LinkNotFoundError{}) {
			return err
		}
		attrs := netlink.NewLinkAttrs()
		attrs.Name, attrs.Group = drawnName(), group
		tap := &netlink.Tuntap{LinkAttrs: attrs, Mode: netlink.TUNTAP_MODE_TAP, Flags: unix.IFF_NO_PI | unix.IFF_VNET_HDR | unix.IFF_ONE_QUEUE, Queues: 0}
		if err := netlink.LinkAdd(tap); err != nil {
			return fmt.Errorf("the link to machine %s: %w", machine, err)
		}
		own := attrs.Name
		if err := nameLink(own, name); err != nil {
			return err
		}
		if l, err = netlink.LinkByName(name); err != nil {
			return err
		}
		made = true
		// The router answers for whatever a guest looks for on its link: two machines of one
		// subnet are filtered from each other as others are.
		return errors.Join(netlink.LinkSetGroup(l, int(group)), set(map[string]string{
			"net.ipv4.conf." + own + ".proxy_arp": "1", "net.ipv4.neigh." + own + ".proxy_delay": "0",
			"net.ipv4.conf." + own + ".ignore_routes_with_linkdown": "1", "net.ipv6.conf." + own + ".ignore_routes_with_linkdown": "1",
		}))
	})
	return made, err
}

// raise puts a guest's link up, leads its addresses there, and to the second way.
func (s *Site) raise(machine string, addrs []netip.Addr) error {
	name := linkOf(machine)
	if err := s.eachRefusing(addrs, netlink.RouteReplace); err != nil {
		return err
	}
	return within(s.prefix, func() error {
		if err := address(name, netip.PrefixFrom(routerV6, 64)); err != nil {
			return err
		}
		for _, a := range addrs {
			if err := route(name, netip.PrefixFrom(a, a.BitLen()), netip.Addr{}); err != nil {
				return err
			}
		}
		return nil
	})
}

// lower puts a guest's link down, for one that is stopped: the kernel finds out by itself that nobody is at
// the other end, but on a busy host some seconds later.
func (s *Site) lower(machine string) error {
	return s.withLink(machine, netlink.LinkSetDown)
}

// withLink does something with a guest's link, if it is there.
func (s *Site) withLink(machine string, do func(netlink.Link) error) error {
	if !exists(s.prefix) {
		return nil
	}
	return within(s.prefix, func() error {
		l, err := netlink.LinkByName(linkOf(machine))
		if errors.As(err, &netlink.LinkNotFoundError{}) {
			return nil
		}
		if err != nil {
			return err
		}
		return do(l)
	})
}

// partGuest takes a guest's link away, and its ways.
func (s *Site) partGuest(machine string, addrs []netip.Addr) error {
	if exists(s.prefix) && exists(s.prefix+".off") {
		_ = s.eachRefusing(addrs, netlink.RouteDel) // that one is not there is as it should be
	}
	return s.withLink(machine, netlink.LinkDel)
}

// leave takes away by what a machine had addresses that it has no more. A light machine begins anew with the others.
func (s *Site) leave(old, t change.Resource) error {
	gone := gone(old, t)
	switch {
	case len(gone) == 0:
		return nil
	case !isGuest(old):
		s.stopListening(t.Name)
		return s.partMachine(t.Name)
	case !exists(s.prefix + ".off"):
		return nil
	}
	_ = s.eachRefusing(gone, netlink.RouteDel) // that one is not there is as it should be
	return s.withLink(t.Name, func(l netlink.Link) error {
		for _, a := range gone {
			_ = netlink.RouteDel(&netlink.Route{LinkIndex: l.Attrs().Index, Dst: ipNet(netip.PrefixFrom(a, a.BitLen()))})
		}
		return nil
	})
}

// tap opens the guest's end of its link. Whoever has it is the guest's network card.
func (s *Site) tap(machine string) (*os.File, error) {
	return s.openLink(linkOf(machine), unix.IFF_TAP)
}

// openLink opens the other end of a link of the router's of a kind: IFF_TAP or IFF_TUN. Whoever had it before lets go of it
// a moment after its end.
func (s *Site) openLink(name string, kind uint16) (f *os.File, err error) {
	err = within(s.prefix, func() error {
		fd, err := unix.Open("/dev/net/tun", unix.O_RDWR|unix.O_CLOEXEC, 0)
		if err != nil {
			return fmt.Errorf("/dev/net/tun: %w", err)
		}
		l, err := netlink.LinkByName(name)
		if err != nil {
			return errors.Join(err, unix.Close(fd))
		}
		request, err := unix.NewIfreq(l.Attrs().Name)
		if err != nil {
			return errors.Join(err, unix.Close(fd))
		}
		request.SetUint16(kind | unix.IFF_NO_PI | unix.IFF_VNET_HDR)
		for range 100 {
			if err = unix.IoctlIfreq(fd, unix.TUNSETIFF, request); !errors.Is(err, unix.EBUSY) {
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
		if err != nil {
			return errors.Join(fmt.Errorf("the link %s: %w", name, err), unix.Close(fd))
		}
		f = os.NewFile(uintptr(fd), name)
		return nil
	})
	return f, err
}
