package exposure

import (
	"slices"
	"strings"

	"go4.org/netipx"

	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
	"ironbark/internal/sentence"
)

// Names puts sets of addresses into words: names before numbers. It remembers
// what it said, for entries share their sets; it is not safe for concurrent use.
type Names struct {
	wide     []named               // the wide ones first
	exact    map[extent][]named    // by extent, the narrowest name last
	machines map[flow.Point]string // by address
	said     map[*flow.Run]string  // by the first run of a set, which sets do not share unless they are one
	lengths  map[*flow.Run]int
	sets     map[string]flow.Addrs // by machine
}

type named struct {
	name string
	set  flow.Addrs
}

// extent is what two equal sets have in common at a glance.
type extent struct {
	lo, hi flow.Point
	runs   int
}

func extentOf(s flow.Addrs) extent {
	runs := s.Runs()
	return extent{runs[0].Lo, runs[len(runs)-1].Hi, len(runs)}
}

// NewNames collects the names that an estate has for addresses: everywhere,
// internet, networks, subnets, lines, sources, gateways, machines.
func NewNames(e *estate.Estate, p *flow.Plan) *Names {
	n := &Names{exact: map[extent][]named{}, machines: map[flow.Point]string{}, said: map[*flow.Run]string{}, lengths: map[*flow.Run]int{}, sets: map[string]flow.Addrs{}}
	exact := func(name string, set flow.Addrs) {
		if !set.IsEmpty() {
			key := extentOf(set)
			n.exact[key] = append(n.exact[key], named{name, set})
		}
	}
	add := func(name string, set flow.Addrs) {
		if set.IsEmpty() {
			return
		}
		for i, part := range flow.ByFamily(set) {
			if !part.Equal(set) {
				exact(name+familyWord[i == 1], part)
			}
		}
		exact(name, set)
	}
	wide := func(name string, set flow.Addrs) {
		if add(name, set); !set.IsEmpty() {
			n.wide = append(n.wide, named{name, set})
		}
	}
	wide("everywhere", p.Everywhere())
	wide("internet", p.Internet())
	resolve := flow.NewResolver(e, p)
	place := func(name string) { wide(name, resolve.Source(sentence.Of(sentence.NameAtom(name)))) }
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
		wide(g.Name, flow.AddrSet(g.Inside...))
	}
	for i, m := range p.Machines {
		set := p.AddrsOf(int32(i))
		add(m.Name, set)
		n.sets[m.Name] = set
		for _, interfaces := range m.Interfaces {
			for _, a := range interfaces.Addrs {
				n.machines[flow.PointOf(a)] = m.Name
			}
		}
	}
	return n
}

// Number has a name printed with the numbers that it stands for beside it. It must be called
// before anything is put into words.
func (n *Names) Number(name string) {
	numbered := func(one *named) {
		if one.name == name || strings.HasPrefix(one.name, name+" (IPv") {
			one.name += " (" + strings.Join(flow.AddrRuns(one.set), " ") + ")"
		}
	}
	for _, list := range n.exact {
		for i := range list {
			numbered(&list[i])
		}
	}
	for i := range n.wide {
		numbered(&n.wide[i])
	}
}

// Plain puts a set of sources into the shortest words: a name, a name in one
// family, everywhere or internet except something, and at last a list.
func (n *Names) Plain(s flow.Addrs) string {
	if s.IsEmpty() {
		return "nowhere"
	}
	key := &s.Runs()[0]
	if text, known := n.said[key]; known && n.lengths[key] == len(s.Runs()) {
		return text
	}
	text := n.say(s)
	n.said[key], n.lengths[key] = text, len(s.Runs())
	return text
}

func (n *Names) say(s flow.Addrs) string {
	for _, k := range slices.Backward(n.exact[extentOf(s)]) {
		if k.set.Equal(s) {
			return k.name
		}
	}
	text := strings.Join(n.list(s, flow.AllAddrs), ", ")
	for _, k := range n.wide[:min(2, len(n.wide))] { // everywhere and internet
		if k.name != "internet" && k.name != "everywhere" {
			break
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
// prints the rest as machines and prefixes.
func (n *Names) list(s, domain flow.Addrs) (words []string) {
	rest := s
	take := func(name string, part flow.Addrs) {
		if !part.IsEmpty() && rest.Covers(part) {
			words = append(words, name)
			rest = rest.Subtract(part)
		}
	}
	for _, k := range n.wide {
		take(k.name, k.set.Intersect(domain))
	}
	for _, k := range n.wide {
		for i, part := range flow.ByFamily(k.set) {
			take(k.name+familyWord[i == 1], part)
		}
	}
	return append(words, n.single(rest)...)
}

// mostSingle is the longest run, in addresses, in which machines are looked for one by one.
const mostSingle = 256

// single names the machines all of whose addresses, or all of one family, are in
// a set, in the order of the addresses, and prints what is left as prefixes.
func (n *Names) single(rest flow.Addrs) (words []string) {
	var left []flow.Run
	known := map[string][2]bool{} // by machine, the families that are named
	for _, r := range rest.Runs() {
		if long(r) {
			left = append(left, r)
			continue
		}
		for a := r.Lo; ; a = a.Next() {
			family := 0
			if a.Addr().Is4() {
				family = 1
			}
			name := n.machines[a]
			told, met := known[name]
			if name != "" && !met {
				word := ""
				word, told = n.machineWord(name, rest)
				if known[name] = told; word != "" {
					words = append(words, word)
				}
			}
			if !told[family] {
				left = append(left, flow.Run{Lo: a, Hi: a})
			}
			if a == r.Hi {
				break
			}
		}
	}
	return append(words, Prefixes(span.Of(left...))...)
}

// long reports whether a run has more than mostSingle addresses.
func long(r flow.Run) bool {
	end := r.Lo
	for range mostSingle {
		if end.Compare(r.Hi) >= 0 {
			return false
		}
		end = end.Next()
	}
	return end.Compare(r.Hi) < 0
}

// machineWord names a machine as far as all of its addresses are in a set, and
// tells which families the word covers, IPv6 at 0.
func (n *Names) machineWord(name string, s flow.Addrs) (word string, told [2]bool) {
	set := n.sets[name]
	if s.Covers(set) {
		return name, [2]bool{true, true}
	}
	for i, part := range flow.ByFamily(set) {
		if !part.IsEmpty() && s.Covers(part) {
			told[i] = true
			return name + familyWord[i == 1], told
		}
	}
	return "", told
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
