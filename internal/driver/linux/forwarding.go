package linux

import (
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"ironbark/internal/fault"
)

// forwards lists the settings with which the host forwards between clients and the site's link, one for each link that packets arrive on: the
// host forwards nothing from other links. For IPv6 only Linux 6.17 and later has such a setting; before, forwarding is for all links.
func forwards(host string, family int) ([]Requirement, error) {
	links, err := clientLinks(host, family)
	if err != nil {
		return nil, err
	}
	if family == unix.AF_INET6 {
		if _, err := os.Stat("/proc/sys/net/ipv6/conf/all/force_forwarding"); err != nil || on("net/ipv6/conf/all/forwarding") {
			return []Requirement{forwarding("the host forwards IPv6", "net/ipv6/conf/all/forwarding")}, nil
		}
	}
	var list []Requirement
	for _, name := range append([]string{host}, links...) {
		what, setting := "the host forwards IPv4 from "+name, "net/ipv4/conf/"+name+"/forwarding"
		if family == unix.AF_INET6 {
			what, setting = "the host forwards IPv6 from "+name, "net/ipv6/conf/"+name+"/force_forwarding"
		}
		list = append(list, forwarding(what, setting))
	}
	return list, nil
}

// forwarding is one setting that has to be on.
func forwarding(what, setting string) Requirement {
	remedy := "sysctl -w " + setting + "=1"
	if !strings.Contains(setting, ".") { // where a link has a point in its name, sysctl(8) wants strokes
		remedy = strings.ReplaceAll(remedy, "/", ".")
	}
	r := Requirement{What: what, Remedy: fault.Say(remedy)}
	if !on(setting) {
		r.Err = errors.New("it does not")
	}
	return r
}

// on reports whether a kernel setting is not 0.
func on(setting string) bool {
	text, err := os.ReadFile(filepath.Join("/proc/sys", setting))
	return err == nil && strings.TrimSpace(string(text)) != "0"
}

// clientLinks names the host's links that clients' packets arrive on, ascending: those with a default route of a family, and where there is none, all
// that are up and have an address of it.
func clientLinks(host string, family int) (names []string, err error) {
	routes, err := netlink.RouteList(nil, family)
	if err != nil {
		return nil, err
	}
	links, err := netlink.LinkList()
	if err != nil {
		return nil, err
	}
	links = slices.DeleteFunc(links, func(l netlink.Link) bool {
		return l.Attrs().Name == host || l.Attrs().Flags&net.FlagLoopback != 0 || l.Attrs().Flags&net.FlagUp == 0
	})
	var byAddress []string
	for _, l := range links {
		addrs, err := netlink.AddrList(l, family)
		if err != nil {
			return nil, fmt.Errorf("the addresses of %s: %w", l.Attrs().Name, err)
		}
		if slices.ContainsFunc(addrs, func(a netlink.Addr) bool { return a.IP.IsGlobalUnicast() }) {
			byAddress = append(byAddress, l.Attrs().Name)
		}
		leads := func(link int) bool { return link == l.Attrs().Index }
		if slices.ContainsFunc(routes, func(r netlink.Route) bool {
			p, ok := prefixOfRoute(r, family)
			return ok && p.Bits() == 0 && (leads(r.LinkIndex) || slices.ContainsFunc(r.MultiPath, func(n *netlink.NexthopInfo) bool { return leads(n.LinkIndex) }))
		}) {
			names = append(names, l.Attrs().Name)
		}
	}
	if len(names) == 0 {
		names = byAddress
	}
	slices.Sort(names)
	return names, nil
}
