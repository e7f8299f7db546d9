package estate

import (
	"fmt"
	"net/netip"
	"slices"

	"go.yaml.in/yaml/v4"
	"go4.org/netipx"

	"ironbark/internal/fault"
	"ironbark/internal/sentence"
)

// Reserved is a public address that is kept whoever uses it: it outlives the
// machine, front or bastion that it leads to.
type Reserved struct {
	Name  string
	Fixed netip.Addr // a given one; invalid: the site chooses
	V6    bool       // which family the site chooses from
	At    sentence.Pos
}

// Stretch is a run of addresses of one family, both ends included.
type Stretch struct{ First, Last netip.Addr }

// String prints the stretch as files write it.
func (s Stretch) String() string { return s.First.String() + "-" + s.Last.String() }

// Has reports whether an address is in the stretch.
func (s Stretch) Has(a netip.Addr) bool {
	return s.First.BitLen() == a.BitLen() && s.First.Compare(a) <= 0 && a.Compare(s.Last) <= 0
}

func (r *reader) addrs(n *yaml.Node, what string) (list []netip.Addr) {
	r.list(n, what, func(item *yaml.Node) {
		text, ok := r.text(item, what)
		if !ok {
			return
		}
		a, err := sentence.ParseAddress(text)
		if err != nil {
			r.failAt(item, what+": "+err.Error(), "")
			return
		}
		list = append(list, a)
	})
	return list
}

func (r *reader) stretches(n *yaml.Node, what string) (list []Stretch) {
	for _, a := range r.atoms(n, what, sentence.Address, sentence.Prefix, sentence.Range) {
		lo, hi := a.Bounds()
		list = append(list, Stretch{lo, hi})
	}
	return list
}

// reserved reads a reserved address: ipv4 or ipv6, or the very address.
func (r *reader) reserved(name string, at sentence.Pos, n *yaml.Node) {
	a := Reserved{Name: name, At: at}
	text, ok := r.text(n, "address "+name)
	switch {
	case !ok:
	case text == "ipv4" || text == "ipv6":
		a.V6 = text == "ipv6"
	default:
		addr, err := sentence.ParseAddress(text)
		if err != nil {
			r.failAt(n, err.Error(), "write ipv4 or ipv6, and the site chooses, or the very address")
		}
		a.Fixed, a.V6 = addr, addr.Is6()
	}
	if name == "auto" {
		r.fail(at, "an address cannot be named auto", "auto asks for any address")
	}
	r.estate.Addresses = append(r.estate.Addresses, a)
}

// family is the family of the address.
func (a Reserved) family() sentence.Family {
	if a.V6 {
		return sentence.IPv6
	}
	return sentence.IPv4
}

// Reserved finds a reserved address by name.
func (e *Estate) Reserved(name string) (Reserved, bool) {
	i, ok := e.names.stores[kindAddress][name]
	if !ok {
		return Reserved{}, false
	}
	return e.Addresses[i], true
}

// reservedKnown checks the reserved addresses that a noun asks for.
func (r *reader) reservedKnown(at sentence.Pos, what string, a Address, only4 bool) {
	for _, name := range a.Reserved {
		held, ok := r.estate.Reserved(name)
		switch {
		case !ok:
			remedy := fault.Say(suggest(name, sortedKeys(r.estate.names.stores[kindAddress])))
			if remedy.IsZero() {
				remedy = fault.Say("reserve it: ").Run("add", "address", name).Say("; or write auto")
			}
			r.advise(at, fmt.Sprintf("%s: there is no reserved address “%s”", what, name), remedy)
		case only4 && held.V6:
			r.fail(at, fmt.Sprintf("%s can have a public IPv4 address, and %s is an IPv6 one", what, name), "IPv6 machines in a globally routable range are reached at their own address")
		}
	}
}

// leastBits is the longest prefix that a subnet may have: four addresses, for the subnet itself, its gateway, a machine
// and in IPv4 broadcasts.
func leastBits(f sentence.Family) int {
	if f == sentence.IPv4 {
		return 30
	}
	return 126
}

// checkSubnet checks what a subnet says of its own addresses.
func (r *reader) checkSubnet(s Subnet) {
	for _, p := range s.Range {
		least := leastBits(sentence.FamilyOf(p.Addr()))
		if p.Bits() <= least {
			continue
		}
		remedy := fmt.Sprintf("make it /%d or larger", least)
		if free, ok := r.estate.FreeRange(s.Network, sentence.FamilyOf(p.Addr()), least); ok {
			remedy += ": " + free.String() + " is free"
		}
		r.fail(s.At, fmt.Sprintf("%s of subnet %s is too small: its gateway and a machine need four addresses", p, s.Name), remedy)
	}
	for i, g := range s.Gateway {
		p, ok := s.in(g)
		switch {
		case !ok:
			r.fail(s.At, fmt.Sprintf("gateway %s lies outside subnet %s", g, s.Name), "its range is "+prefixList(s.Range))
		case unusable(p, g):
			r.fail(s.At, fmt.Sprintf("gateway %s of subnet %s is no host's address", g, s.Name), "write "+p.Addr().Next().String())
		case slices.ContainsFunc(s.Gateway[:i], func(o netip.Addr) bool { return o.Is4() == g.Is4() }):
			r.fail(s.At, fmt.Sprintf("subnet %s has several gateways of one family", s.Name), "")
		}
	}
	for _, a := range s.Allocate {
		if p, ok := s.in(a.First); !ok || !p.Contains(a.Last) {
			r.fail(s.At, fmt.Sprintf("allocate: %s lies outside subnet %s", a, s.Name), "its range is "+prefixList(s.Range))
		}
	}
}

func (s Subnet) in(a netip.Addr) (netip.Prefix, bool) {
	i := slices.IndexFunc(s.Range, func(p netip.Prefix) bool { return p.Contains(a) })
	if i < 0 {
		return netip.Prefix{}, false
	}
	return s.Range[i], true
}

// unusable reports whether an address of a prefix is the network itself, or the
// one for broadcasts.
func unusable(p netip.Prefix, a netip.Addr) bool {
	return a == p.Addr() || p.Addr().Is4() && a == netipx.PrefixLastIP(p)
}

// GatewayOf returns the gateway's address in a prefix of the subnet: the given
// one, or the first host.
func (s Subnet) GatewayOf(p netip.Prefix) netip.Addr {
	for _, g := range s.Gateway {
		if p.Contains(g) {
			return g
		}
	}
	return p.Addr().Next()
}

// checkInside holds the inside addresses that machines ask for to their subnets,
// and to one machine each.
func (r *reader) checkInside() {
	e := r.estate
	holder := map[netip.Addr]string{}
	for _, m := range e.Machines {
		for i, a := range m.Inside {
			at, p, ok := e.place(m, a)
			twice := slices.ContainsFunc(m.Inside[:i], func(o netip.Addr) bool {
				other, _, same := e.place(m, o)
				return same && other.Name == at.Name && o.Is4() == a.Is4()
			})
			switch {
			case !ok:
				r.fail(m.At, fmt.Sprintf("machine %s: %s lies in none of its subnets", m.Name, a), "")
			case unusable(p, a) || a == at.GatewayOf(p):
				r.fail(m.At, fmt.Sprintf("machine %s: %s is the gateway of subnet %s, or no host's address", m.Name, a, at.Name), "leave it out, and a free one is given")
			case holder[a] != "":
				r.fail(m.At, fmt.Sprintf("machines %s and %s both ask for %s", holder[a], m.Name, a), "leave it out, and a free one is given")
			case twice:
				r.fail(m.At, fmt.Sprintf("machine %s asks for several addresses of one family in subnet %s", m.Name, at.Name), "")
			}
			holder[a] = m.Name
		}
	}
}

// place finds the subnet of a machine in which an address lies.
func (e *Estate) place(m Machine, a netip.Addr) (Subnet, netip.Prefix, bool) {
	for _, name := range m.Subnets {
		s, _ := e.Subnet(name)
		if p, ok := s.in(a); ok {
			return s, p, true
		}
	}
	return Subnet{}, netip.Prefix{}, false
}

// within suggests a range inside a network's space in place of one outside it.
func (r *reader) within(n Network, p netip.Prefix) string {
	remedy := "its space is " + prefixList(n.Space)
	if free, ok := r.estate.FreeRange(n.Name, sentence.FamilyOf(p.Addr()), p.Bits()); ok {
		remedy += "; " + free.String() + " is free"
	}
	return remedy
}

// FreeRange finds a prefix of a length that lies in a network's space and in none
// of its subnets, and reports whether there is one. An IPv4 subnet is usually a
// /24 and an IPv6 one a /64 ([RFC 7421]).
//
// [RFC 7421]: https://www.rfc-editor.org/rfc/rfc7421
func (e *Estate) FreeRange(network string, f sentence.Family, bits int) (netip.Prefix, bool) {
	i := slices.IndexFunc(e.Networks, func(n Network) bool { return n.Name == network })
	if i < 0 || bits < 0 || bits > 128 {
		return netip.Prefix{}, false
	}
	var b netipx.IPSetBuilder
	for _, p := range e.Networks[i].Space {
		if sentence.FamilyOf(p.Addr()) == f {
			b.AddPrefix(p)
		}
	}
	for _, s := range e.Networks[i].Subnets {
		for _, p := range s.Range {
			b.RemovePrefix(p)
		}
	}
	set, err := b.IPSet()
	if err != nil {
		return netip.Prefix{}, false
	}
	// The lowest one: the first free prefix that is large enough, cut to its beginning.
	for _, p := range set.Prefixes() {
		if p.Bits() <= bits {
			free, err := p.Addr().Prefix(bits)
			return free, err == nil
		}
	}
	return netip.Prefix{}, false
}
