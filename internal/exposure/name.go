package exposure

import (
	"math"
	"slices"
	"strings"
	"sync"

	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
	"ironbark/internal/sentence"
)

// Names puts sets of addresses into words: names before numbers. It remembers
// what it said, for entries share their sets; it is not safe for concurrent use.
type Names struct {
	plan     *flow.Plan
	wide     []wide               // the widest first
	begins   [3][]begin           // the same by where they begin: parts of IPv6, of IPv4, and whole
	exact    exactly              // of the wide names
	crowds   func() exactly       // of many machines; computed when it is asked for
	machines map[flow.Point]int32 // by address
	said     map[span.Memory[flow.Point]]string
}

// leastCrowd is how many machines are named by their tag, or as all.
const leastCrowd = 4

type named struct {
	name string
	set  flow.Addrs
}

// wide is a name of many addresses: the whole of it, and by family.
type wide struct {
	name string
	sets [3]flow.Addrs
}

// whole is where the whole of a name stands among its sets.
const whole = 2

// begin is where a name begins.
type begin struct {
	at flow.Point
	of int // a place among the wide names
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
	n := &Names{plan: p, exact: exactly{}, machines: make(map[flow.Point]int32, len(p.Machines)), said: map[span.Memory[flow.Point]]string{}}
	addWide := func(name string, set flow.Addrs) {
		if n.exact.add(name, set); !set.IsEmpty() {
			parts := flow.ByFamily(set)
			n.wide = append(n.wide, wide{name, [3]flow.Addrs{parts[0], parts[1], set}})
		}
	}
	addWide("everywhere", p.Everywhere())
	addWide("internet", p.Internet())
	resolve := flow.NewResolver(e, p)
	place := func(name string) { addWide(name, resolve.Source(sentence.Of(sentence.NameAtom(name)))) }
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
		addWide(g.Name, flow.AddrSet(g.Inside...))
	}
	n.index()
	n.crowds = sync.OnceValue(func() exactly { return crowds(e, p, resolve) })
	for i, m := range p.Machines {
		for _, interfaces := range m.Interfaces {
			for _, a := range interfaces.Addrs {
				n.machines[flow.PointOf(a)] = int32(i)
			}
		}
	}
	return n
}

// crowds are the names of many machines: a few of them are told one by one.
func crowds(e *estate.Estate, p *flow.Plan, resolve flow.Resolver) exactly {
	list := exactly{}
	crowd := func(word sentence.Atom) {
		if g := resolve.Group(sentence.Of(word)); len(g.Machines) >= leastCrowd {
			list.add(word.String(), p.AddrsOf(g.Machines...))
		}
	}
	for _, tag := range e.Tags() {
		crowd(sentence.TagAtom(tag.Key, tag.Value))
	}
	crowd(sentence.AllAtom())
	return list
}

// exactly are names by the extent of what they stand for, the narrowest name last.
type exactly map[extent][]named

// add adds a name, for each family of its addresses and for all of them.
func (x exactly) add(name string, set flow.Addrs) {
	if set.IsEmpty() {
		return
	}
	for i, part := range flow.ByFamily(set) {
		if !part.IsEmpty() && !part.Equal(set) {
			x[extentOf(part)] = append(x[extentOf(part)], named{name + familyWord(i), part})
		}
	}
	x[extentOf(set)] = append(x[extentOf(set)], named{name, set})
}

// of returns the narrowest name of a set; "" where it has none.
func (x exactly) of(s flow.Addrs) string {
	for _, k := range slices.Backward(x[extentOf(s)]) {
		if k.set.Equal(s) {
			return k.name
		}
	}
	return ""
}

// exactName returns the name of a set that stands for it and nothing else: that of a machine, of many, or a wide one.
func (n *Names) exactName(s flow.Addrs) string {
	if m, known := n.machines[s.Runs()[0].Lo]; known { // no name of machines has other addresses
		set := n.plan.AddrsOf(m)
		if set.Equal(s) {
			return n.plan.Machines[m].Name
		}
		for i, part := range flow.ByFamily(set) {
			if part.Equal(s) {
				return n.plan.Machines[m].Name + familyWord(i)
			}
		}
		if name := n.crowds().of(s); name != "" {
			return name
		}
	}
	return n.exact.of(s)
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
		one := named{n.wide[i].name, n.wide[i].sets[whole]}
		numbered(&one)
		n.wide[i].name = one.name
	}
}

// Plain puts a set of sources into the shortest words: a name, a name in one
// family, everywhere, internet or another name except something, and at last a list.
func (n *Names) Plain(s flow.Addrs) string {
	if s.IsEmpty() {
		return "nowhere"
	}
	if s.Equal(flow.ConsoleSource) {
		return "its opener"
	}
	key := s.Memory()
	if text, known := n.said[key]; known {
		return text
	}
	text := n.say(s)
	n.said[key] = text
	return text
}

func (n *Names) say(s flow.Addrs) string {
	if name := n.exactName(s); name != "" {
		return name
	}
	// Of a list and an exception one is short and the other may be long without end, so both are tried within a bound first.
	text, ok := n.list(s, flow.AllAddrs, shortText)
	best := shortText
	if ok {
		best = len(text) - 1
	}
	if other, shorter := n.excepting(s, best); shorter {
		return other
	} else if ok {
		return text
	}
	text, _ = n.list(s, flow.AllAddrs, noBound)
	if other, shorter := n.excepting(s, len(text)-1); shorter {
		return other
	}
	return text
}

// How long the words for a set may become, in bytes, where something shorter may do.
const (
	shortText = 160
	noBound   = math.MaxInt
)

// excepting puts a set into words as everywhere, internet or another name except something, the shortest of some length at most.
func (n *Names) excepting(s flow.Addrs, longest int) (text string, ok bool) {
	for _, k := range n.around(s) {
		for _, domain := range []flow.Addrs{flow.AllAddrs, flow.AllIPv4, flow.AllIPv6} {
			base := k.sets[whole].Intersect(domain)
			if base.IsEmpty() || !base.ContainsAll(s) {
				continue
			}
			head := k.name + only(base, k.sets[whole]) + " except "
			if words, short := n.list(base.Subtract(s), domain, longest-len(head)); short {
				text, ok = head+words, true
				longest = len(text) - 1
			}
		}
	}
	return text, ok
}

// nearNames is how many of the names that begin before a set are looked at for one that holds it.
const nearNames = 16

// around returns names that may hold a set: everywhere, internet, and those that begin at or not far before it. Cost: logarithmic in the names.
func (n *Names) around(s flow.Addrs) (list []wide) {
	for _, k := range n.wide[:min(2, len(n.wide))] {
		if k.name == "internet" || k.name == "everywhere" {
			list = append(list, k)
		}
	}
	first := s.Runs()[0].Lo
	for _, which := range []int{whole, 0, 1} {
		all := n.begins[which]
		at, _ := slices.BinarySearchFunc(all, first.Next(), func(b begin, after flow.Point) int { return b.at.Compare(after) })
		for i := at - 1; i >= max(0, at-nearNames); i-- {
			if k := n.wide[all[i].of]; k.sets[which].Contains(first) && !slices.ContainsFunc(list, func(o wide) bool { return o.name == k.name }) {
				list = append(list, k)
			}
		}
	}
	return list
}

// only tells the family of a set that covers one where the name covers both.
func only(s, name flow.Addrs) string {
	for _, f := range sentence.Families {
		if all := flow.AllOf(f); all.ContainsAll(s) && !all.ContainsAll(name) {
			return familyWord(int(f))
		}
	}
	return ""
}

// familyWord is what stands behind a name of which only the addresses of a family are meant.
func familyWord(f int) string { return " (" + flow.Family(f).String() + ")" }

// index sorts the wide names by where they begin.
func (n *Names) index() {
	for which := range n.begins {
		for i, k := range n.wide {
			if set := k.sets[which]; !set.IsEmpty() {
				n.begins[which] = append(n.begins[which], begin{set.Runs()[0].Lo, i})
			}
		}
		slices.SortFunc(n.begins[which], func(a, b begin) int { return a.at.Compare(b.at) })
	}
}
