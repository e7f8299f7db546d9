package linux

import (
	"slices"

	"github.com/google/nftables"

	"ironbark/internal/flow"
)

// This file makes the sets of the packet filter and fills them.

// sets are those of one family. What is by service has three: one with protocols and
// ports, one for echo requests, and one for all that has neither. deny and pass are by
// profile, and both families have them in common.
type sets struct {
	class, audience, reach, who *nftables.Set

	deny, pass, denyUntil, passUntil [3]*nftables.Set
	open                             openSets
}

// edges are the sets of one family of what links, doors and the estate's edge have.
type edges struct{ own, links, outside, callable, self *nftables.Set }

// The sorts of service.
const (
	ported = iota
	echo
	other
)

func sortOf(s flow.Service) int {
	switch {
	case s < flow.Ping:
		return ported
	case s == flow.Ping:
		return echo
	}
	return other
}

// keyTypes are what a set by service of a sort is keyed by.
func keyTypes(f family, sort int) []nftables.SetDatatype {
	if sort == ported {
		return []nftables.SetDatatype{nftables.TypeMark, nftables.TypeInetProto, nftables.TypeInetService, f.addressType, nftables.TypeTimeDate}
	}
	return []nftables.SetDatatype{nftables.TypeMark, f.addressType, nftables.TypeTimeDate}
}

// byService are the sets that are keyed by a number, a service, a source and the time.
func (b *batch) byService(f family, name string, counted bool) (list [3]*nftables.Set) {
	for sort, suffix := range sortNames {
		list[sort] = b.ranges(f, name+suffix, counted, keyTypes(f, sort)...)
	}
	return list
}

// ranges makes a set of ranges of several things at once. With counted, its elements count what
// matches them.
func (b *batch) ranges(f family, name string, counted bool, types ...nftables.SetDatatype) *nftables.Set {
	key, err := nftables.ConcatSetType(types...)
	b.do(err)
	s := &nftables.Set{Table: b.table, Name: name + f.name, Interval: true, Concatenation: true, KeyType: key, Counter: counted}
	b.do(b.c.AddSet(s, nil))
	return s
}

// atOnce is how many elements go into one message: their list has a length of 16 bits.
const atOnce = 400

func (b *batch) add(s *nftables.Set, elements []nftables.SetElement) {
	for len(elements) > 0 {
		n := min(len(elements), atOnce)
		b.do(b.c.SetAddElements(s, elements[:n]))
		elements = elements[n:]
	}
}

// callsOf is the table of what machines call outside.
func callsOf(t *Table) *Table {
	if t.Calls == nil { // nothing is called
		return &Table{}
	}
	return t.Calls
}

// judged makes the sets by which packets of each family are judged, and fills them.
func (b *batch) judged(prefix string, t *Table) (list [2]sets) {
	deny, pass := b.profiles(prefix+"deny", t.Deny, false), b.profiles(prefix+"pass", t.Pass, true)
	for i, f := range families {
		s := sets{
			deny: deny, pass: pass,
			reach:     b.flat(f, prefix+"reach", 8+f.size),
			denyUntil: b.byService(f, prefix+"deny-until", false),
			passUntil: b.byService(f, prefix+"pass-until", true),
			class:     &nftables.Set{Table: b.table, Name: prefix + "class" + f.name, IsMap: true, KeyType: f.addressType, DataType: nftables.TypeMark},
			audience:  &nftables.Set{Table: b.table, Name: prefix + "audience" + f.name, IsMap: true, KeyType: f.addressType, DataType: nftables.TypeMark},
			who:       &nftables.Set{Table: b.table, Name: prefix + "who" + f.name, IsMap: true, Interval: true, KeyType: flatType(4 + f.size), DataType: nftables.TypeMark},
		}
		for _, one := range []*nftables.Set{s.class, s.audience, s.who} {
			b.do(b.c.AddSet(one, nil))
		}
		filled := judgedBy(prefix, f, t)
		for _, one := range slices.Concat([]*nftables.Set{s.class, s.audience, s.who, s.reach}, s.denyUntil[:], s.passUntil[:]) {
			b.add(one, filled[one.Name])
		}
		list[i] = s
	}
	return list
}

// around makes the sets of a family's edge, and fills them.
func (b *batch) around(f family, t *Table, links []link) (s edges) {
	s.own = b.ranges(f, "own", true, nftables.TypeMark, f.addressType, nftables.TypeTimeDate)
	linkType, err := nftables.ConcatSetType(nftables.TypeIFIndex, f.addressType)
	b.do(err)
	s.links = &nftables.Set{Table: b.table, Name: "links" + f.name, Concatenation: true, KeyType: linkType}
	pairs, err := nftables.ConcatSetType(f.addressType, f.addressType)
	b.do(err)
	s.self = &nftables.Set{Table: b.table, Name: "self" + f.name, Concatenation: true, KeyType: pairs}
	s.outside = &nftables.Set{Table: b.table, Name: "outside" + f.name, Interval: true, KeyType: f.addressType}
	s.callable = &nftables.Set{Table: b.table, Name: "callable" + f.name, Interval: true, KeyType: f.addressType}
	for _, one := range []*nftables.Set{s.links, s.outside, s.callable, s.self} {
		b.do(b.c.AddSet(one, nil))
	}
	filled := aroundBy(f, t, links)
	for _, one := range []*nftables.Set{s.links, s.outside, s.callable, s.self, s.own} {
		b.add(one, filled[one.Name])
	}
	return s
}

// profiles makes the sets of what profiles deny, or let pass, and fills them.
func (b *batch) profiles(name string, list []Entry, counted bool) (out [3]*nftables.Set) {
	for sort, elements := range entries(list) {
		s := &nftables.Set{Table: b.table, Name: name + sortNames[sort], KeyType: nftables.TypeMark, Counter: counted}
		if sort == ported {
			s.Interval, s.KeyType = true, flatType(entryBytes)
		}
		b.do(b.c.AddSet(s, nil))
		b.add(s, elements)
		out[sort] = s
	}
	return out
}

// sortNames are what the names of sets of each sort of service have after their own.
var sortNames = [3]string{ported: "", echo: "-echo", other: "-other"}

// judgedBy are the elements of the sets by which packets of a family are judged, by name; those of openings and profiles are
// apart.
func judgedBy(prefix string, f family, t *Table) map[string][]nftables.SetElement {
	out := map[string][]nftables.SetElement{}
	put := func(name string, list ...nftables.SetElement) {
		out[prefix+name+f.name] = append(out[prefix+name+f.name], list...)
	}
	for _, m := range t.Class {
		if m.Addr.Is4() == f.v4 {
			put("class", nftables.SetElement{Key: m.Addr.AsSlice(), Val: native(m.Class)})
		}
	}
	for _, m := range t.Audience {
		if m.Addr.Is4() == f.v4 {
			put("audience", nftables.SetElement{Key: m.Addr.AsSlice(), Val: native(m.Class)})
		}
	}
	var reach, who []flatRange
	for _, x := range t.Reach {
		if x.Source.Lo.Addr().Is4() == f.v4 {
			reach = append(reach, reachRange(x))
		}
	}
	for _, p := range t.Who {
		if p.Source.Lo.Addr().Is4() == f.v4 {
			who = append(who, whoRange(p))
		}
	}
	put("reach", flatElements(reach)...)
	put("who", flatElements(who)...)
	service := func(x Box, k *key) { k.both(native(x.Class)).service(x).source(x).time(x) }
	for sort, name := range sortNames {
		put("deny-until"+name, elements(f, ofSort(t.DenyUntil, sort), service)...)
		put("pass-until"+name, elements(f, ofSort(t.PassUntil, sort), service)...)
	}
	return out
}

// aroundBy are the elements of the other sets of a family, by name.
func aroundBy(f family, t *Table, links []link) map[string][]nftables.SetElement {
	out := map[string][]nftables.SetElement{}
	put := func(name string, list ...nftables.SetElement) { out[name+f.name] = append(out[name+f.name], list...) }
	for _, l := range links {
		for _, a := range l.addrs {
			if a.Is4() != f.v4 {
				continue
			}
			put("links", nftables.SetElement{Key: append(native(uint32(l.index)), a.AsSlice()...)})
			for _, o := range l.addrs {
				if o.Is4() == f.v4 && l.port == 0 {
					put("self", nftables.SetElement{Key: append(a.AsSlice(), o.AsSlice()...)})
				}
			}
		}
	}
	for name, set := range map[string]flow.Addrs{"outside": flow.AllAddrs.Subtract(t.Inside), "callable": t.Callable} {
		put(name, flatElements(addrRanges(f, set))...)
	}
	put("own", elements(f, t.Own, func(x Box, k *key) { k.both(native(x.Ingress)).source(x).time(x) })...)
	return out
}

// publics lead addresses of machines to the public ones from which they call outward.
func publics(t *Table) (list []nftables.SetElement) {
	for _, d := range t.Doors {
		if d.All && d.Public.Is4() {
			list = append(list, nftables.SetElement{Key: d.To[0].Addr.AsSlice(), Val: d.Public.AsSlice()})
		}
	}
	return list
}

// ofSort are the boxes of one sort of service.
func ofSort(boxes []Box, sort int) (list []Box) {
	for _, x := range boxes {
		if sortOf(x.Services.Lo) == sort {
			list = append(list, x)
		}
	}
	return list
}
