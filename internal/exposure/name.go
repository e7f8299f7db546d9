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
type Names struct {
	plan  *flow.Plan
	known []named
}

type named struct {
	name string
	set  flow.Addrs
}

// NewNames collects the names that an estate has for addresses: machines and
// gateways, sources, lines, subnets, networks, then internet and everywhere.
func NewNames(e *estate.Estate, p *flow.Plan) *Names {
	n := &Names{plan: p}
	add := func(name string, set flow.Addrs) {
		if !set.IsEmpty() {
			n.known = append(n.known, named{name, set})
		}
	}
	for i, m := range p.Machines {
		add(m.Name, p.AddrsOf(int32(i)))
	}
	for _, g := range p.Gateways {
		add(g.Name, flow.AddrSet(g.Inside...))
	}
	resolve := flow.NewResolver(e, p)
	place := func(name string) { add(name, resolve.Source(sentence.Of(sentence.NameAtom(name)))) }
	for _, s := range e.Sources {
		place(s.Name)
	}
	for _, l := range e.Lines {
		place(l.Name)
	}
	for _, w := range e.Networks {
		for _, s := range w.Subnets {
			place(s.Name)
		}
		place(w.Name)
	}
	add("internet", p.Internet())
	add("everywhere", p.Everywhere())
	return n
}

// Through puts the sources that use a door into words. "everywhere" and
// "internet" mean all of them that the door can be used from; a family is told
// where the words cover both and the set only one.
func (n *Names) Through(s flow.Addrs, d flow.Door) string {
	return n.say(s, d.From)
}

// Plain puts any set of sources into words.
func (n *Names) Plain(s flow.Addrs) string {
	return n.say(s, n.plan.Everywhere())
}

// say looks for the shortest words: a name, a name in one family, everywhere
// except something, and at last a list.
func (n *Names) say(s, universe flow.Addrs) string {
	if s.IsEmpty() {
		return "nowhere"
	}
	for _, k := range n.known {
		if k.set.Equal(s) {
			return k.name
		}
	}
	for _, k := range slices.Backward(n.known) { // everywhere first
		if (k.name == "everywhere" || k.name == "internet") && k.set.Intersect(universe).Equal(s) {
			return k.name + only(s, k.set)
		}
	}
	for _, k := range n.known {
		for _, v4 := range []bool{true, false} {
			if oneFamily(k.set, v4).Equal(s) {
				return k.name + familyWord[v4]
			}
		}
	}
	list := n.list(s)
	for _, wide := range []string{"internet", "everywhere"} {
		i := slices.IndexFunc(n.known, func(k named) bool { return k.name == wide })
		base := n.known[i].set.Intersect(universe)
		if !base.Covers(s) {
			continue
		}
		if text := wide + only(base, n.known[i].set) + " except " + strings.Join(n.list(base.Subtract(s)), ", "); len(text) < len(strings.Join(list, ", ")) {
			return text
		}
	}
	return strings.Join(list, ", ")
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

// list names the parts of a set, the largest names first, and prints the rest as prefixes.
func (n *Names) list(s flow.Addrs) (words []string) {
	rest := s
	for _, k := range slices.Backward(n.known) {
		if !rest.IsEmpty() && rest.Covers(k.set) && rest.Overlaps(k.set) {
			words = append(words, k.name)
			rest = rest.Subtract(k.set)
		}
	}
	return append(words, Prefixes(rest)...)
}

// Prefixes prints a set as addresses and prefixes, a run that needs many of them as first-last.
func Prefixes(s flow.Addrs) (words []string) {
	for _, r := range s.Runs() {
		list := netipx.IPRangeFrom(r.Lo, r.Hi).Prefixes()
		if len(list) > 2 {
			words = append(words, r.Lo.String()+"-"+r.Hi.String())
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
