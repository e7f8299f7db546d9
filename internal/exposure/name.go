package exposure

import (
	"slices"
	"strings"

	"go4.org/netipx"

	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// Names puts sets of addresses into words: names before numbers.
type Names struct{ known []named }

type named struct {
	name string
	set  flow.Addrs
}

// NewNames collects the names that an estate has for addresses, the wide ones
// first: everywhere, internet, networks, subnets, lines, sources, gateways, machines.
func NewNames(e *estate.Estate, p *flow.Plan) *Names {
	n := &Names{}
	add := func(name string, set flow.Addrs) {
		if !set.IsEmpty() {
			n.known = append(n.known, named{name, set})
		}
	}
	add("everywhere", p.Everywhere())
	add("internet", p.Internet())
	resolve := flow.NewResolver(e, p)
	place := func(name string) { add(name, resolve.Source(sentence.Of(sentence.NameAtom(name)))) }
	for _, w := range e.Networks {
		place(w.Name)
	}
	for _, w := range e.Networks {
		for _, s := range w.Subnets {
			place(s.Name)
		}
	}
	for _, l := range e.Lines {
		place(l.Name)
	}
	for _, s := range e.Sources {
		place(s.Name)
	}
	for _, g := range p.Gateways {
		add(g.Name, flow.AddrSet(g.Inside...))
	}
	for i, m := range p.Machines {
		add(m.Name, p.AddrsOf(int32(i)))
	}
	return n
}

// Plain puts a set of sources into the shortest words: a name, a name in one
// family, everywhere or internet except something, and at last a list.
func (n *Names) Plain(s flow.Addrs) string {
	if s.IsEmpty() {
		return "nowhere"
	}
	for _, k := range slices.Backward(n.known) { // the narrowest name for it
		if k.set.Equal(s) {
			return k.name
		}
	}
	for _, k := range slices.Backward(n.known) {
		for _, v4 := range []bool{true, false} {
			if oneFamily(k.set, v4).Equal(s) {
				return k.name + familyWord[v4]
			}
		}
	}
	text := strings.Join(n.list(s, flow.AllAddrs), ", ")
	for _, k := range n.known {
		if k.name != "internet" && k.name != "everywhere" {
			continue
		}
		for _, domain := range []flow.Addrs{flow.AllAddrs, flow.AllIPv4, flow.AllIPv6} {
			base := k.set.Intersect(domain)
			if base.IsEmpty() || !base.Covers(s) {
				continue
			}
			if other := k.name + only(base, k.set) + " except " + strings.Join(n.list(base.Subtract(s), domain), ", "); len(other) < len(text) {
				text = other
			}
		}
	}
	return text
}

// only tells the family of a set that covers one where the name covers both.
func only(s, name flow.Addrs) string {
	for _, v4 := range []bool{true, false} {
		if oneFamily(s, v4).Equal(s) && !oneFamily(name, v4).Equal(name) {
			return familyWord[v4]
		}
	}
	return ""
}

var familyWord = map[bool]string{true: " (IPv4)", false: " (IPv6)"}

func oneFamily(s flow.Addrs, v4 bool) flow.Addrs {
	if v4 {
		return s.Intersect(flow.AllIPv4)
	}
	return s.Intersect(flow.AllIPv6)
}

// list names the parts of a set within a domain, the largest names first, and
// prints the rest as prefixes.
func (n *Names) list(s, domain flow.Addrs) (words []string) {
	rest := s
	take := func(name string, part flow.Addrs) {
		if !part.IsEmpty() && rest.Covers(part) {
			words = append(words, name)
			rest = rest.Subtract(part)
		}
	}
	for _, k := range n.known {
		take(k.name, k.set.Intersect(domain))
	}
	for _, k := range n.known {
		for _, v4 := range []bool{true, false} {
			take(k.name+familyWord[v4], oneFamily(k.set, v4))
		}
	}
	return append(words, Prefixes(rest)...)
}

// Prefixes prints a set as addresses and prefixes, a run that needs many of them as first-last.
func Prefixes(s flow.Addrs) (words []string) {
	for _, r := range s.Runs() {
		list := netipx.IPRangeFrom(r.Lo.Addr(), r.Hi.Addr()).Prefixes()
		if len(list) > 2 {
			words = append(words, r.Lo.Addr().String()+"-"+r.Hi.Addr().String())
			continue
		}
		for _, p := range list {
			if p.IsSingleIP() {
				words = append(words, p.Addr().String())
			} else {
				words = append(words, p.String())
			}
		}
	}
	return words
}
