package guest

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

// Around is what a machine has around it, as its site tells it: its network and its disks.
type Around struct {
	Links    []Link   `json:"links,omitempty"`
	DNS      []string `json:"dns,omitempty"`
	SystemGB int      `json:"systemGB,omitempty"`
	Volumes  []Volume `json:"volumes,omitempty"`
}

// Link is a network interface.
type Link struct {
	Name     string         `json:"name"`
	Addrs    []netip.Prefix `json:"addrs"` // with the length of the subnet
	Gateways []netip.Addr   `json:"gateways"`
}

// Volume is a disk besides the system disk.
type Volume struct {
	Device string `json:"device"`
	Name   string `json:"name"`
	GB     int    `json:"gb"`
}

// ipCommand shows addresses and routes.
func ipCommand(c call) int {
	what := "addr"
	if w := c.words(); len(w) > 0 {
		what = w[0]
	}
	six := slices.Contains(c.args, "-6")
	switch {
	case strings.HasPrefix("address", what):
		fmt.Fprintln(c.out, "lo    127.0.0.1/8 ::1/128")
		for _, l := range c.g.Around.Links {
			fmt.Fprintf(c.out, "%-5s %s\n", l.Name, join(l.Addrs))
		}
	case strings.HasPrefix("route", what):
		for i, l := range c.g.Around.Links {
			for _, g := range l.Gateways {
				if i == 0 && g.Is6() == six {
					fmt.Fprintf(c.out, "default via %s dev %s\n", g, l.Name)
				}
			}
		}
		for _, l := range c.g.Around.Links {
			for _, p := range l.Addrs {
				if p.Addr().Is6() == six {
					fmt.Fprintf(c.out, "%s dev %s src %s\n", p.Masked(), l.Name, p.Addr())
				}
			}
		}
	case strings.HasPrefix("link", what):
		fmt.Fprintln(c.out, "lo    up")
		for _, l := range c.g.Around.Links {
			fmt.Fprintln(c.out, l.Name+"  up")
		}
	default:
		return c.fail(1, "ip: there is no %s here: addr, route, link", what)
	}
	return 0
}

func join[T fmt.Stringer](list []T) string {
	words := make([]string, len(list))
	for i, one := range list {
		words[i] = one.String()
	}
	return strings.Join(words, " ")
}

// resolvConf is what the site's network says of its name servers.
func (g *Guest) resolvConf() string {
	b := &strings.Builder{}
	for _, a := range g.Around.DNS {
		fmt.Fprintf(b, "nameserver %s\n", a)
	}
	return b.String()
}
