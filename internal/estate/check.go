package estate

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"go4.org/netipx"

	"ironbark/internal/fault"
	"ironbark/internal/sentence"
)

// check judges what only the whole estate can tell: that names are unique and
// known, and that ranges lie where they belong.
func (r *reader) check() {
	r.buildIndex()
	r.checkSite()
	r.checkSpaces()
	r.checkNouns()
	r.checkEdits()
	r.checkSentences()
}

// Sim is the stand-in cloud.
const Sim = "sim"

// Linux is a Linux host.
const Linux = "linux"

// Sites are the kinds of place where an estate's machines can run.
var Sites = []string{Sim, Linux}

func (r *reader) checkSite() {
	if r.site != nil && r.estate.Site != "" && !slices.Contains(Sites, r.estate.Site) {
		r.failAt(r.site, fmt.Sprintf("there is no site “%s”", r.estate.Site), "known are: sim, the stand-in cloud, and linux, this host")
	}
}

// buildIndex fills the namespaces and fails on names that come twice.
func (r *reader) buildIndex() {
	e := r.estate
	e.names = index{nouns: map[string]Noun{}, services: map[string]int{}, people: map[string]bool{}, keys: map[string]int{}}
	put := func(name string, n Noun) {
		if name == SiteHost && n.Kind != KindHost {
			r.fail(n.At, fmt.Sprintf("“%s” names the host of a site, and nothing else", name), "choose another name")
			return
		}
		if first, twice := e.names.nouns[name]; twice {
			r.fail(n.At, fmt.Sprintf("“%s” is already the name of a %s (line %d)", name, first.Kind, first.At.Line),
				"sources, lines, networks, subnets, machines, fronts and bastions share one set of names")
			return
		}
		e.names.nouns[name] = n
	}
	if e.Uplink != nil {
		put(SiteHost, Noun{Kind: KindHost, At: e.Uplink.At})
	}
	for i, s := range e.Sources {
		put(s.Name, Noun{Kind: KindSource, I: i, At: s.At})
	}
	for i, l := range e.Lines {
		put(l.Name, Noun{Kind: KindLine, I: i, At: l.At})
	}
	for i, n := range e.Networks {
		put(n.Name, Noun{Kind: KindNetwork, I: i, At: n.At})
		for j, s := range n.Subnets {
			put(s.Name, Noun{Kind: KindSubnet, Net: i, I: j, At: s.At})
		}
	}
	for i, m := range e.Machines {
		put(m.Name, Noun{Kind: KindMachine, I: i, At: m.At})
	}
	for i, f := range e.Fronts {
		put(f.Name, Noun{Kind: KindFront, I: i, At: f.At})
	}
	for i, b := range e.Bastions {
		put(b.Name, Noun{Kind: KindBastion, I: i, At: b.At})
	}
	e.members = membersOf(e)
	for i, s := range e.Services {
		e.names.services[s.Name] = i
	}
	for i, k := range e.Keys {
		e.names.keys[k.Name] = i
	}
	e.indexStores()
	person := map[string]bool{}
	for _, p := range e.People {
		e.names.people[p.Name], person[p.Name] = true, true
	}
	for _, p := range e.People {
		for _, g := range p.Groups {
			if person[g] {
				r.fail(p.At, fmt.Sprintf("“%s” is a person and cannot be a group of %s", g, p.Name), "")
			}
			e.names.people[g] = true
		}
	}
}

// claim is a prefix and whose it is.
type claim struct {
	prefix  netip.Prefix
	what    string
	network string // where a free one is looked for; "" for what stands beside networks
	at      sentence.Pos
}

// overlaps tells each pair of neighbours in address order that overlap. Sorting
// by address and then by shortness puts a prefix right before what it covers.
func (r *reader) overlaps(claims []claim) {
	slices.SortFunc(claims, func(a, b claim) int {
		return cmp.Or(a.prefix.Addr().Compare(b.prefix.Addr()), cmp.Compare(a.prefix.Bits(), b.prefix.Bits()))
	})
	for i := 1; i < len(claims); i++ {
		a, b := claims[i-1], claims[i]
		if !a.prefix.Overlaps(b.prefix) {
			continue
		}
		if a.at.Line > b.at.Line {
			a, b = b, a
		}
		remedy := "every address belongs to one place only"
		if free, ok := r.estate.FreeRange(b.network, sentence.FamilyOf(b.prefix.Addr()), b.prefix.Bits()); ok {
			remedy = free.String() + " is free"
		}
		r.fail(b.at, fmt.Sprintf("%s of %s overlaps %s of %s (line %d)", b.prefix, b.what, a.prefix, a.what, a.at.Line), remedy)
	}
}

// checkSpaces holds networks and lines apart, and subnets inside their networks.
func (r *reader) checkSpaces() {
	var places, subnets []claim
	for _, n := range r.estate.Networks {
		for _, p := range n.Space {
			places = append(places, claim{p, "network " + n.Name, "", n.At})
		}
		for _, s := range n.Subnets {
			for _, p := range s.Range {
				subnets = append(subnets, claim{p, "subnet " + s.Name, n.Name, s.At})
				if !slices.ContainsFunc(n.Space, func(space netip.Prefix) bool {
					return space.Bits() <= p.Bits() && space.Overlaps(p)
				}) {
					r.fail(s.At, fmt.Sprintf("%s of subnet %s lies outside the space of network %s", p, s.Name, n.Name),
						r.within(n, p))
				}
			}
			r.checkSubnet(s)
		}
	}
	for _, l := range r.estate.Lines {
		for _, p := range l.Range {
			places = append(places, claim{p, "line " + l.Name, "", l.At})
		}
	}
	if u := r.estate.Uplink; u != nil {
		r.checkUplink(u)
		for _, p := range u.Public {
			if p.Addr().Is4() { // public IPv6 addresses may be in a network's space
				places = append(places, claim{p, "the uplink", "", u.At})
			}
		}
	}
	r.overlaps(places)
	r.overlaps(subnets)
}

// largestPool is how many bits of a pool of public addresses may be free: 65,536 addresses.
const largestPool = 16

// checkUplink holds what the site has on its host's network together.
func (r *reader) checkUplink(u *Uplink) {
	if len(u.Public) == 0 {
		r.fail(u.At, "the uplink has no public addresses to give", "for example: public: [203.0.113.16/28]")
	}
	for _, p := range u.Public {
		if p.Addr().Is4() && p.Addr().BitLen()-p.Bits() > largestPool {
			r.fail(u.At, fmt.Sprintf("%s is more than %d public addresses", p, 1<<largestPool), "give the part that is this site's")
		}
	}
	if u.Interface == "" {
		if len(u.Addresses)+len(u.Gateway) > 0 {
			r.fail(u.At, "an uplink without an interface has no addresses and no gateway of its own", "name the host's interface, or leave both out: what is public is routed to the site then")
		}
		return
	}
	if len(u.Addresses) == 0 {
		r.fail(u.At, "the site needs an address of its own on "+u.Interface, "for example: addresses: [192.0.2.20/24]")
	}
	for _, g := range u.Gateway {
		onLink := func(p netip.Prefix) bool { return p.Masked().Contains(g) }
		if !g.IsLinkLocalUnicast() && !slices.ContainsFunc(u.Addresses, onLink) {
			r.fail(u.At, fmt.Sprintf("the gateway %s is in no network of the uplink's addresses", g), "")
		}
	}
}

func prefixList(list []netip.Prefix) string {
	words := make([]string, len(list))
	for i, p := range list {
		words[i] = p.String()
	}
	return strings.Join(words, ", ")
}

// noun fails unless name is a noun of one of the kinds.
func (r *reader) noun(at sentence.Pos, name string, kinds ...Kind) (Noun, bool) {
	n, ok := r.estate.names.nouns[name]
	if ok && slices.Contains(kinds, n.Kind) {
		return n, true
	}
	var known []string
	for other, o := range r.estate.names.nouns {
		if slices.Contains(kinds, o.Kind) {
			known = append(known, other)
		}
	}
	want := kindList(slices.DeleteFunc(slices.Clone(kinds), func(k Kind) bool { return k == KindHost }))
	if ok {
		r.fail(at, fmt.Sprintf("“%s” is a %s, and here stands a %s", name, n.Kind, want), "")
		return n, false
	}
	if name == SiteHost {
		r.fail(at, "nothing leads from here to "+SiteHost+": the estate has no uplink", "a Linux site has one where uplink: is in "+FileName)
		return n, false
	}
	r.fail(at, fmt.Sprintf("there is no %s “%s”", want, name), suggest(name, known, sentence.SetWords...))
	return n, false
}

func kindList(kinds []Kind) string {
	words := make([]string, len(kinds))
	for i, k := range kinds {
		words[i] = string(k)
	}
	if len(words) == 1 {
		return words[0]
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}

// suggest offers the nearest known name, or word, or the few names that there are.
func suggest(name string, known []string, words ...string) string {
	if near, ok := sentence.Nearest(name, slices.Concat(known, words)); ok {
		return fmt.Sprintf("did you mean “%s”?", near)
	}
	slices.Sort(known)
	if len(known) > 0 && len(known) <= 6 {
		return "known: " + strings.Join(known, ", ")
	}
	return ""
}

// checkNouns checks what nouns say of one another.
func (r *reader) checkNouns() {
	e := r.estate
	for _, s := range e.Admin {
		if s.Console() {
			r.fail(s.At(), "a console is administrative already, and no service of the network", "leave it out")
		}
		if name, _ := s.Name(); name == sentence.AdminName {
			r.fail(s.At(), "“admin” stands for this very list", "name a service or its ports")
			continue
		}
		r.serviceKnown(s)
	}
	for _, n := range e.Networks {
		for _, j := range n.Joins {
			if _, ok := r.noun(n.At, j, KindNetwork); ok && j == n.Name {
				r.fail(n.At, fmt.Sprintf("network %s joins itself", n.Name), "")
			}
		}
	}
	for _, l := range e.Lines {
		r.noun(l.At, l.Network, KindNetwork)
	}
	r.checkPeers()
	for _, m := range e.Machines {
		r.checkMachine(m)
	}
	for _, f := range e.Fronts {
		if n, ok := r.noun(f.At, f.Network, KindNetwork); ok {
			r.checkOutside(f.At, "front "+f.Name, e.Networks[n.I])
			r.checkFamilies(f.At, "front "+f.Name, f.Address, e.Networks[n.I].Space)
			r.reservedKnown(f.At, "front "+f.Name, f.Address, false)
		}
		if !f.Address.Wanted() {
			r.fail(f.At, fmt.Sprintf("front %s has no address", f.Name), "write address: auto")
		}
	}
	for _, b := range e.Bastions {
		r.checkBastion(b)
	}
	r.checkStores()
	r.checkAddressesOnce()
	r.checkInside()
}

// checkPeers holds the addresses and keys of peers to one holder each, inside their lines. The first address of each range is
// the line's own.
func (r *reader) checkPeers() {
	keys, holders, ports := map[string]string{}, map[netip.Addr]string{}, map[int]string{}
	for _, l := range r.estate.Lines {
		if other := ports[l.Port]; other != "" && l.Port > 0 {
			r.fail(l.At, fmt.Sprintf("lines %s and %s are heard on one port, %d", other, l.Name, l.Port), "take another port")
		}
		ports[l.Port] = l.Name
		for _, p := range l.Peers {
			if other := keys[p.Key]; other != "" {
				r.fail(p.At, fmt.Sprintf("peers %s and %s have one key", other, p.Name), "each has a key of its own: add peer makes it")
			}
			keys[p.Key] = p.Name
			for _, a := range p.Addrs {
				i := slices.IndexFunc(l.Range, func(r netip.Prefix) bool { return r.Contains(a) })
				switch {
				case i < 0:
					r.fail(p.At, fmt.Sprintf("peer %s: %s lies outside of line %s", p.Name, a, l.Name), "")
				case a == l.Range[i].Addr().Next() || a == l.Range[i].Addr():
					r.fail(p.At, fmt.Sprintf("peer %s: %s is the line's own", p.Name, a), "take a later one")
				case holders[a] != "":
					r.fail(p.At, fmt.Sprintf("peer %s: %s is peer %s already", p.Name, a, holders[a]), "take another address")
				}
				holders[a] = p.Name
			}
		}
	}
}

// LineOf finds the line of a peer.
func (e *Estate) LineOf(peer string) (Line, bool) {
	i := slices.IndexFunc(e.Lines, func(l Line) bool {
		return slices.ContainsFunc(l.Peers, func(p Peer) bool { return p.Name == peer })
	})
	if i < 0 {
		return Line{}, false
	}
	return e.Lines[i], true
}

// FreePeerAddrs are the lowest addresses of a line that no peer has, one of each family.
func (e *Estate) FreePeerAddrs(l Line) (list []netip.Addr) {
	taken := map[netip.Addr]bool{}
	for _, p := range l.Peers {
		for _, a := range p.Addrs {
			taken[a] = true
		}
	}
	had := map[bool]bool{}
	for _, r := range l.Range {
		for a := r.Addr().Next().Next(); r.Contains(a) && !had[a.Is4()]; a = a.Next() {
			if !taken[a] {
				list = append(list, a)
				had[a.Is4()] = true
			}
		}
	}
	return list
}

func (r *reader) checkMachine(m Machine) {
	e := r.estate
	if len(m.Subnets) == 0 {
		r.fail(m.At, fmt.Sprintf("machine %s stands in no subnet", m.Name), "write at: SUBNET")
	}
	outside4 := false
	for i, at := range m.Subnets {
		n, ok := r.noun(m.At, at, KindSubnet)
		if !ok {
			continue
		}
		s := e.Networks[n.Net].Subnets[n.I]
		if slices.Contains(m.Subnets[:i], at) {
			r.fail(m.At, fmt.Sprintf("machine %s stands in subnet %s twice", m.Name, at), "")
		}
		outside4 = outside4 || e.Networks[n.Net].Outside && HasFamily(s.Range, sentence.IPv4)
	}
	for i, key := range m.Keys {
		if _, ok := e.names.keys[key]; !ok {
			remedy := fault.Say(suggest(key, sortedKeys(e.names.keys)))
			if remedy.IsZero() {
				remedy = fault.Say("make it: ").Run("add", "key", key)
			}
			r.advise(m.At, fmt.Sprintf("there is no key “%s”", key), remedy)
		}
		if slices.Contains(m.Keys[:i], key) {
			r.fail(m.At, fmt.Sprintf("machine %s has key %s twice", m.Name, key), "")
		}
	}
	r.reservedKnown(m.At, "machine "+m.Name, m.Address, true)
	r.setupKnown(m)
	switch {
	case !m.Address.Wanted():
	case len(m.Address.Fixed)+len(m.Address.Reserved) > 1:
		r.fail(m.At, fmt.Sprintf("machine %s can have one public IPv4 address", m.Name), "take one of them away")
	case len(m.Address.Fixed) > 1 || len(m.Address.Fixed) == 1 && !m.Address.Fixed[0].Is4():
		r.fail(m.At, fmt.Sprintf("machine %s can have one public IPv4 address", m.Name), "IPv6 machines in a globally routable range are reached at their own address")
	case !outside4:
		r.fail(m.At, fmt.Sprintf("machine %s has no interface that a public IPv4 address could lead to", m.Name),
			"it needs a subnet with an IPv4 range in a network that is “outside: true”")
	}
}

func (r *reader) checkBastion(b Bastion) {
	e := r.estate
	if n, ok := r.noun(b.At, b.Subnet, KindSubnet); ok {
		w := e.Networks[n.Net]
		r.checkOutside(b.At, "bastion "+b.Name, w)
		r.checkFamilies(b.At, "bastion "+b.Name, b.Address, w.Subnets[n.I].Range)
		r.reservedKnown(b.At, "bastion "+b.Name, b.Address, false)
	}
	if b.From.IsEmpty() {
		r.fail(b.At, fmt.Sprintf("bastion %s says not from where it may be reached", b.Name), "write from: [everywhere], or where your people are")
	}
	r.sourceNames(b.From)
}

func (r *reader) checkOutside(at sentence.Pos, what string, n Network) {
	if !n.Outside {
		r.fail(at, fmt.Sprintf("%s is in network %s, which is not outside", what, n.Name), "write “outside: true” in the network, or use another one")
	}
}

// checkFamilies holds given and reserved addresses to families that the inside has, since no
// family is translated into the other.
func (r *reader) checkFamilies(at sentence.Pos, what string, a Address, inside []netip.Prefix) {
	for _, addr := range a.Fixed {
		if !HasFamily(inside, sentence.FamilyOf(addr)) {
			r.fail(at, fmt.Sprintf("%s: %s leads nowhere, for there are no such addresses inside", what, addr), "")
		}
	}
	for _, name := range a.Reserved {
		if held, ok := r.estate.Reserved(name); ok && !HasFamily(inside, held.family()) {
			r.fail(at, fmt.Sprintf("%s: the reserved address %s leads nowhere, for there are no such addresses inside", what, name), "")
		}
	}
}

// HasFamily reports whether one of the prefixes is of a family.
func HasFamily(list []netip.Prefix, f sentence.Family) bool {
	return slices.ContainsFunc(list, func(p netip.Prefix) bool { return sentence.FamilyOf(p.Addr()) == f })
}

// checkAddressesOnce holds given public addresses to one holder each, outside every network and line.
func (r *reader) checkAddressesOnce() {
	e := r.estate
	holders := map[netip.Addr]string{}
	var b netipx.IPSetBuilder
	for _, n := range e.Networks {
		for _, p := range n.Space {
			b.AddPrefix(p)
		}
	}
	for _, l := range e.Lines {
		for _, p := range l.Range {
			b.AddPrefix(p)
		}
	}
	inside, err := b.IPSet()
	if err != nil {
		panic("estate: a checked prefix is invalid: " + err.Error())
	}
	hold := func(at sentence.Pos, what string, a Address) {
		for _, addr := range a.Fixed {
			if other, twice := holders[addr]; twice {
				r.fail(at, fmt.Sprintf("%s and %s both want the address %s", other, what, addr), "")
			}
			if inside.Contains(addr) {
				r.fail(at, fmt.Sprintf("%s: %s belongs to a network or line of the estate and is no public address", what, addr), "")
			}
			holders[addr] = what
		}
	}
	for _, a := range e.Addresses {
		if a.Fixed.IsValid() {
			hold(a.At, "address "+a.Name, Address{Fixed: []netip.Addr{a.Fixed}})
		}
	}
	reserved := map[string]string{}
	once := func(at sentence.Pos, what string, a Address) {
		for _, name := range a.Reserved {
			if other, twice := reserved[name]; twice {
				r.fail(at, fmt.Sprintf("%s and %s both want the reserved address %s", other, what, name), "it can lead to one of them; change address moves it")
			}
			reserved[name] = what
		}
		hold(at, what, a)
	}
	for _, m := range e.Machines {
		once(m.At, "machine "+m.Name, m.Address)
	}
	for _, f := range e.Fronts {
		once(f.At, "front "+f.Name, f.Address)
	}
	for _, b := range e.Bastions {
		once(b.At, "bastion "+b.Name, b.Address)
	}
}
