package linux

import (
	"encoding/binary"
	"errors"
	"net/netip"
	"os"
	"slices"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"
	"github.com/vishvananda/netlink"
	"github.com/vishvananda/netns"
	"golang.org/x/sys/unix"

	"ironbark/internal/estate"
	"ironbark/internal/flow"
)

// hostAddrs lists the host's own addresses, ascending: those of all links of the thread's namespace, less loopback and link-local ones.
func hostAddrs() (list []netip.Addr, err error) {
	all, err := netlink.AddrList(nil, netlink.FAMILY_ALL)
	if err != nil {
		return nil, err
	}
	for _, one := range all {
		if a, ok := netip.AddrFromSlice(one.IP); ok && !a.Unmap().IsLoopback() && !a.Unmap().IsLinkLocalUnicast() {
			list = append(list, a.Unmap())
		}
	}
	slices.SortFunc(list, netip.Addr.Compare)
	return slices.Compact(list), nil
}

// host finds addresses of the host that the installed plan does not have as the host's, and whether the table on the host is gone.
func (i *inspection) host(s *Site, plan *flow.Plan, addrs []netip.Addr) error {
	if _, ok := plan.MachineByName(estate.SiteHost); !ok {
		return nil
	}
	for _, a := range addrs {
		if plan.Callable().Contains(flow.PointOf(a)) {
			i.found(true, nil, "the tables do not have the host's address %s: it came after they were installed", a)
		}
	}
	if _, err := netlink.LinkByName(s.prefix + hostEnd); err != nil { // there is no end of a pair
		if errors.As(err, &netlink.LinkNotFoundError{}) {
			return nil
		}
		return err
	}
	list, err := tableNames()
	if err == nil && !slices.Contains(list, nftables.Table{Name: s.fenceName(), Family: nftables.TableFamilyNetdev}) {
		i.found(false, nil, "table netdev %s on the host is gone: machines may reach addresses that the host gets", s.fenceName())
	}
	return err
}

// The router judges what machines send to the addresses that the host had when the tables were installed. An address that it gets later would
// be one of the internet. So a table on the host, of packets that come in by the host's end of a pair and of no others, drops packets to
// the host at any further address, or at one that it shares with others (broadcast, anycast). An uplink on an interface has no such table: its link does not lead to the host.

// fenceName is that of the table on the host.
func (s *Site) fenceName() string { return "ironbark-" + s.prefix }

// fence writes the table for some addresses of the host. A site without an end of a pair on the host has none.
func (s *Site) fence(addrs []netip.Addr) error {
	device := s.prefix + hostEnd
	if _, err := netlink.LinkByName(device); err != nil {
		if errors.As(err, &netlink.LinkNotFoundError{}) {
			return nil
		}
		return err
	}
	return s.fenceOn(device, addrs)
}

// fenceOn writes the table for a link of the thread's namespace.
func (s *Site) fenceOn(device string, addrs []netip.Addr) error {
	accept := nftables.ChainPolicyAccept
	passes := flow.AddrSet(append(slices.Clone(addrs), hostV6)...) // neighbours find the host at the last one
	return s.onHost(func(c *nftables.Conn) error {
		t := &nftables.Table{Name: s.fenceName(), Family: nftables.TableFamilyNetdev}
		c.AddTable(t)
		c.DelTable(t)
		t = c.AddTable(t)
		ch := c.AddChain(&nftables.Chain{Name: "host", Table: t, Type: nftables.ChainTypeFilter, Hooknum: nftables.ChainHookIngress, Priority: nftables.ChainPriorityFilter, Policy: &accept, Device: device})
		for _, f := range families {
			known := &nftables.Set{Table: t, Name: "known" + f.name, KeyType: f.addressType, Interval: true}
			if err := c.AddSet(known, flatElements(addrRanges(f, passes))); err != nil {
				return err
			}
			c.AddRule(&nftables.Rule{Table: t, Chain: ch, Exprs: slices.Concat(
				metaIs(expr.MetaKeyPROTOCOL, binary.BigEndian.AppendUint16(nil, f.etherType())),
				addressType(unix.RTN_LOCAL), payload(f.dst, f.size, 0), lookup(known, 0, true), verdict(expr.VerdictDrop))})
		}
		for _, shared := range []uint32{unix.RTN_BROADCAST, unix.RTN_ANYCAST} { // the host listens there, too
			c.AddRule(&nftables.Rule{Table: t, Chain: ch, Exprs: append(addressType(shared), verdict(expr.VerdictDrop)...)})
		}
		return nil
	})
}

// addressType matches packets to addresses that the host's routes have as of a type (RTN_LOCAL and its kin of linux/rtnetlink.h).
func addressType(kind uint32) []expr.Any {
	return []expr.Any{
		&expr.Fib{Register: register(0), ResultADDRTYPE: true, FlagDADDR: true},
		&expr.Cmp{Op: expr.CmpOpEq, Register: register(0), Data: native(kind)},
	}
}

// unfence takes the table away, if it is there.
func (s *Site) unfence() error {
	if os.Getuid() != 0 {
		return nil
	}
	list, err := tableNames()
	if t := (nftables.Table{Name: s.fenceName(), Family: nftables.TableFamilyNetdev}); err == nil && slices.Contains(list, t) {
		err = s.onHost(func(c *nftables.Conn) error {
			c.DelTable(&t)
			return nil
		})
	}
	return err
}

// onHost does something to the packet filter of the host, in one transaction.
func (s *Site) onHost(fill func(*nftables.Conn) error) error {
	host, err := netns.Get() // goroutines of this program are in the host's
	if err != nil {
		return err
	}
	defer host.Close()
	return (&filterConn{namespace: host}).commit(fill)
}
