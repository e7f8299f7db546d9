package tinyguest

import (
	"fmt"
	"net"
	"os"
	"strings"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"
)

// network gives the machine's card its addresses and its way out.
func (m *machine) network() error {
	for _, name := range []string{"lo", "eth0"} {
		l, err := netlink.LinkByName(name)
		if err != nil {
			return fmt.Errorf("the network card: %w", err)
		}
		if name == "eth0" {
			for _, p := range m.seed.Addresses {
				a := &netlink.Addr{IPNet: &net.IPNet{IP: p.Addr().AsSlice(), Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen())}}
				if p.Addr().Is6() {
					a.Flags = unix.IFA_F_NODAD
				}
				if err := netlink.AddrReplace(l, a); err != nil {
					return fmt.Errorf("address %s: %w", p, err)
				}
				say("network: %s", p.Addr())
			}
		}
		if err := netlink.LinkSetUp(l); err != nil {
			return err
		}
		if name == "lo" {
			continue
		}
		for _, via := range m.seed.Gateways {
			r := &netlink.Route{LinkIndex: l.Attrs().Index, Gw: via.AsSlice(), Flags: int(netlink.FLAG_ONLINK)}
			if err := netlink.RouteReplace(r); err != nil {
				return fmt.Errorf("the way out by %s: %w", via, err)
			}
		}
	}
	var lines []string
	for _, a := range m.seed.DNS {
		lines = append(lines, "nameserver "+a.String()+"\n")
	}
	_ = os.MkdirAll("/etc", 0o755)
	return os.WriteFile("/etc/resolv.conf", []byte(strings.Join(lines, "")), 0o644)
}
