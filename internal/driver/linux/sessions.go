package linux

import (
	"context"
	"database/sql"
	"net/netip"
	"slices"
	"time"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/flow"
)

// established is the state of a TCP connection that both sides have agreed on
// (enum tcp_conntrack of linux/netfilter/nf_conntrack_tcp.h).
const established = 3

// Sessions lists the TCP connections to machines that the kernel tracks.
func (s *Site) Sessions(ctx context.Context) (list []driver.Session, err error) {
	if !exists(s.prefix) {
		return nil, nil
	}
	machines := map[netip.Addr]string{}
	err = s.read(ctx, func(tx *sql.Tx) error {
		resources, err := readResources(ctx, tx)
		for name, addrs := range addrsOf(slices.DeleteFunc(resources, func(t change.Resource) bool { return t.Kind != change.Machine })) {
			for _, a := range addrs {
				machines[a] = name
			}
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	var flows []*netlink.ConntrackFlow
	err = within(s.prefix, func() error {
		for _, family := range []netlink.InetFamily{unix.AF_INET, unix.AF_INET6} {
			some, err := netlink.ConntrackTableList(netlink.ConntrackTable, family)
			if err != nil {
				return err
			}
			flows = append(flows, some...)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	for _, f := range flows {
		// Answers come from the machine itself, to whatever address it was called.
		at, ok1 := netip.AddrFromSlice(f.Reverse.SrcIP)
		from, ok2 := netip.AddrFromSlice(f.Forward.SrcIP)
		tcp, isTCP := f.ProtoInfo.(*netlink.ProtoInfoTCP)
		machine := machines[at.Unmap()]
		if !ok1 || !ok2 || !isTCP || tcp.State != established || machine == "" {
			continue
		}
		to, _ := netip.AddrFromSlice(f.Forward.DstIP)
		one := driver.Session{Machine: machine, From: from.Unmap(), To: to.Unmap(), Service: flow.TCPPort(f.Reverse.SrcPort)}
		if f.TimeStart > 0 {
			one.Since = time.Unix(0, int64(f.TimeStart))
		}
		list = append(list, one)
	}
	slices.SortStableFunc(list, func(a, b driver.Session) int { return a.Since.Compare(b.Since) })
	return list, nil
}
