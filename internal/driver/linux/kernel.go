package linux

import (
	"net/netip"
	"slices"
	"time"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"
	"golang.org/x/sys/unix"

	"ironbark/internal/flow"
)

// The groups of the router's links (ip-link(8)): they tell where a packet comes from.
const (
	groupUplink  = 0x1b01 // to the host, and what is beyond it
	groupMachine = 0x1b02 // to a machine that does not call outward
	groupOutward = 0x1b03 // to a machine that does
	groupProbe   = 0x1b04 // from the namespace that sends what is to be tried
	groupOff     = 0x1b05 // to the namespace that answers for guests that are off
	groupLine    = 0x1b06 // to the peers of a line
)

// tableName is that of the one table in the router's namespace.
const tableName = "ironbark"

// family is what differs between IPv4 and IPv6.
type family struct {
	v4          bool
	name        string // of sets
	proto       byte   // of nfproto
	icmp        byte
	echo        byte   // type of an echo request
	asked       []byte // types of what asks a host for an answer
	src, dst    uint32
	size        uint32
	addressType nftables.SetDatatype
}

var families = []family{
	{true, "4", unix.NFPROTO_IPV4, unix.IPPROTO_ICMP, 8, []byte{8, 13, 15, 17}, 12, 16, 4, nftables.TypeIPAddr},
	{false, "6", unix.NFPROTO_IPV6, unix.IPPROTO_ICMPV6, 128, []byte{128, 139}, 8, 24, 16, nftables.TypeIP6Addr},
}

// register returns the n-th 32-bit register. Concatenated keys lie in registers that follow
// one another (linux/netfilter/nf_tables.h).
func register(n uint32) uint32 { return unix.NFT_REG32_00 + n }

// metaTime is the wall clock in nanoseconds (NFT_META_TIME_NS), for which the library has
// no name.
const metaTime expr.MetaKey = 30

// callsPrefix begins the names of the sets of what machines call outside.
const callsPrefix = "calls-"

// mirrored is a family in which source and destination change places: so what machines call outside is judged as
// what comes to them is.
func (f family) mirrored() family {
	f.src, f.dst = f.dst, f.src
	return f
}

// sets are those of one family. What is by service has three: one with protocols and
// ports, one for echo requests, and one for all that has neither. deny and pass are by
// profile, and both families have them in common.
type sets struct {
	class, audience, reach, who, own, links, outside, self *nftables.Set

	deny, pass, denyUntil, passUntil [3]*nftables.Set
	open                             openSets
}

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

// batch is one transaction.
type batch struct {
	c     *nftables.Conn
	table *nftables.Table
	err   error
}

func (b *batch) do(err error) {
	if b.err == nil {
		b.err = err
	}
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

// link is a link of the router to a machine, and the addresses that may come from it.
type link struct {
	index int
	addrs []netip.Addr
	port  uint16 // UDP, on which a line is heard; 0: it is a machine's link
}

// install replaces everything by a table, at one moment.
//
// A packet that is being looked up at that moment goes on through the rules of the table
// before, whose sets are empty to it from then on (nf_tables marks elements by generation). So nothing passes for
// being in no set: rules accept what a set has, and drop or go on where it has not.
func install(c *nftables.Conn, t *Table, links []link, open []opened, now time.Time) error {
	b := &batch{c: c, table: &nftables.Table{Name: tableName, Family: nftables.TableFamilyINet}}
	c.AddTable(b.table) // so that there is one to delete
	c.DelTable(b.table)
	b.table = c.AddTable(b.table)
	drop := nftables.ChainPolicyDrop
	accept := nftables.ChainPolicyAccept
	chain := func(name string, kind nftables.ChainType, hook *nftables.ChainHook, priority *nftables.ChainPriority, policy *nftables.ChainPolicy) *nftables.Chain {
		return c.AddChain(&nftables.Chain{Name: name, Table: b.table, Type: kind, Hooknum: hook, Priority: priority, Policy: policy})
	}
	source := chain("source", nftables.ChainTypeFilter, nftables.ChainHookPrerouting, nftables.ChainPriorityRaw, &accept)
	back := chain("back", nftables.ChainTypeFilter, nftables.ChainHookPrerouting, nftables.ChainPriorityMangle, &accept)
	doors := chain("doors", nftables.ChainTypeNAT, nftables.ChainHookPrerouting, nftables.ChainPriorityNATDest, &accept)
	outward := chain("outward", nftables.ChainTypeNAT, nftables.ChainHookPostrouting, nftables.ChainPriorityNATSource, &accept)
	input := chain("input", nftables.ChainTypeFilter, nftables.ChainHookInput, nftables.ChainPriorityFilter, &drop)
	refuse := c.AddChain(&nftables.Chain{Name: refuseName, Table: b.table})
	through := c.AddChain(&nftables.Chain{Name: openedName, Table: b.table})
	calls := c.AddChain(&nftables.Chain{Name: "calls", Table: b.table})
	judge := chain("judge", nftables.ChainTypeFilter, nftables.ChainHookForward, nftables.ChainPriorityFilter, &drop)
	rule := func(ch *nftables.Chain, parts ...[]expr.Any) {
		var all []expr.Any
		for _, p := range parts {
			all = append(all, p...)
		}
		c.AddRule(&nftables.Rule{Table: b.table, Chain: ch, Exprs: all})
	}
	// What the probe began is answered to the probe, whatever address it spoke from.
	rule(back, metaIs(expr.MetaKeyIIFGROUP, native(groupProbe)), ctState(expr.CtStateBitNEW),
		[]expr.Any{&expr.Immediate{Register: register(0), Data: native(fromProbe)}, &expr.Ct{Key: expr.CtKeyMARK, SourceRegister: true, Register: register(0)}})
	rule(back, ctIs(expr.CtKeyDIRECTION, []byte{1}), probeBegan(), setMark(fromProbe))
	rule(refuse, setMark(0))
	rule(refuse, probeBegan(), setMark(fromProbe))
	rule(judge, ctIs(expr.CtKeyDIRECTION, []byte{1}), ctState(expr.CtStateBitESTABLISHED), verdict(expr.VerdictAccept))
	for _, f := range families {
		rule(judge, ctState(expr.CtStateBitRELATED), metaIs(expr.MetaKeyL4PROTO, []byte{f.icmp}), verdict(expr.VerdictAccept))
		for _, asked := range f.asked { // a public address that leads nowhere is silent
			rule(input, isFamily(f), metaIs(expr.MetaKeyIIFGROUP, native(groupUplink)), metaIs(expr.MetaKeyL4PROTO, []byte{f.icmp}), transportIs(0, asked), verdict(expr.VerdictDrop))
		}
		rule(input, isFamily(f), metaIs(expr.MetaKeyL4PROTO, []byte{f.icmp}), verdict(expr.VerdictAccept)) // neighbours, and the gateway's own answers
	}
	rule(input, ctIs(expr.CtKeyDIRECTION, []byte{1}), ctState(expr.CtStateBitESTABLISHED), verdict(expr.VerdictAccept)) // answers to what tries members of a spread
	for _, l := range links {                                                                                           // lines are heard from outside; who is no peer gets no answer
		for _, group := range []uint32{groupUplink, groupProbe} {
			if l.port > 0 {
				rule(input, metaIs(expr.MetaKeyIIFGROUP, native(group)), metaIs(expr.MetaKeyL4PROTO, []byte{unix.IPPROTO_UDP}), transportIs(2, byte(l.port>>8), byte(l.port)), verdict(expr.VerdictAccept))
			}
		}
	}
	rule(judge, ctState(expr.CtStateBitINVALID), verdict(expr.VerdictDrop))
	// What is not the beginning of a connection begins none.
	rule(judge, metaIs(expr.MetaKeyL4PROTO, []byte{unix.IPPROTO_TCP}), ctState(expr.CtStateBitNEW), notBareSYN(), verdict(expr.VerdictDrop))
	b.over(judge, t)
	callsAs := &nftables.Set{Table: b.table, Name: "public", IsMap: true, KeyType: nftables.TypeIPAddr, DataType: nftables.TypeIPAddr}
	b.do(c.AddSet(callsAs, nil))
	b.add(callsAs, publics(t))
	common := openSetsOf(b.table, families[0])
	for _, one := range []*nftables.Set{common.service, common.when, common.counted} {
		b.do(c.AddSet(one, nil))
	}
	rule(through, loadMeta(expr.MetaKeyMARK, 0), lookup(common.counted, 0, false), verdict(expr.VerdictAccept))
	rule(through, verdict(expr.VerdictAccept)) // by what somebody else put there
	inward, outside := b.judged("", t), b.judged(callsPrefix, callsOf(t))
	for i, f := range families {
		s := inward[i]
		b.around(&s, f, t, links)
		s.open = openSetsOf(b.table, f)
		s.open.service, s.open.when, s.open.counted = common.service, common.when, common.counted
		b.do(c.AddSet(s.open.opens, nil))
		b.do(c.AddSet(s.open.from, nil))
		for _, o := range open {
			if o.to.Is4() == f.v4 && len(o.from) > 0 {
				b.addOpened(s.open, o, now)
			}
		}
		rule(source, isFamily(f), metaIs(expr.MetaKeyIIFGROUP, native(groupUplink)), payload(f.src, f.size, 0), lookup(s.outside, 0, true), verdict(expr.VerdictDrop))
		for _, group := range []uint32{groupMachine, groupOutward, groupLine} {
			rule(source, isFamily(f), metaIs(expr.MetaKeyIIFGROUP, native(group)), loadMeta(expr.MetaKeyIIF, 0), payload(f.src, f.size, 1), lookup(s.links, 0, true), verdict(expr.VerdictDrop))
		}
		// What a machine calls outside, or the probe in its place, is judged by sets of its own.
		for _, ways := range [][2]uint32{{groupOutward, groupUplink}, {groupOutward, groupProbe}, {groupProbe, groupProbe}} {
			rule(judge, isFamily(f), metaIs(expr.MetaKeyIIFGROUP, native(ways[0])), metaIs(expr.MetaKeyOIFGROUP, native(ways[1])), payload(f.dst, f.size, 0), lookup(s.outside, 0, false), goTo(calls.Name))
		}
		rule(back, isFamily(f), metaIs(expr.MetaKeyIIFGROUP, native(groupProbe)), payload(f.dst, f.size, 0), lookup(s.outside, 0, false), setMark(fromProbe)) // it is sent back, and not to the uplink
		// A machine that calls itself through a door gets its answers by the way that it called.
		rule(outward, isFamily(f), payload(f.src, f.size, 0), payload(f.dst, f.size, f.size/4), lookup(s.self, 0, false), []expr.Any{&expr.Masq{}})
		b.translate(doors, f, t)
		b.judge(judge, f, s)
		b.judge(calls, f.mirrored(), outside[i])
	}
	// A machine calls outward from its own public address, and from the router's where it has none.
	v4 := families[0]
	called := slices.Concat(isFamily(v4), metaIs(expr.MetaKeyIIFGROUP, native(groupOutward)), metaIs(expr.MetaKeyOIFGROUP, native(groupUplink)))
	rule(outward, called, payload(v4.src, v4.size, 0), []expr.Any{
		&expr.Lookup{SourceRegister: register(0), DestRegister: register(0), IsDestRegSet: true, SetName: callsAs.Name, SetID: callsAs.ID},
		&expr.NAT{Type: expr.NATTypeSourceNAT, Family: uint32(v4.proto), RegAddrMin: register(0)},
	})
	rule(outward, called, []expr.Any{&expr.Masq{}})
	rule(judge, goTo(refuseName))
	rule(calls, goTo(refuseName))
	// A connection that is let pass no more ends now, and not when somebody tires of it.
	rule(refuse, ctState(expr.CtStateBitESTABLISHED), metaIs(expr.MetaKeyL4PROTO, []byte{unix.IPPROTO_TCP}), []expr.Any{&expr.Reject{Type: unix.NFT_REJECT_TCP_RST}})
	rule(refuse, verdict(expr.VerdictDrop))
	if b.err != nil {
		return b.err
	}
	return c.Flush()
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

// around makes the other sets of a family: what links, doors and the estate's edge have.
func (b *batch) around(s *sets, f family, t *Table, links []link) {
	s.own = b.ranges(f, "own", true, nftables.TypeMark, f.addressType, nftables.TypeTimeDate)
	linkType, err := nftables.ConcatSetType(nftables.TypeIFIndex, f.addressType)
	b.do(err)
	s.links = &nftables.Set{Table: b.table, Name: "links" + f.name, Concatenation: true, KeyType: linkType}
	pairs, err := nftables.ConcatSetType(f.addressType, f.addressType)
	b.do(err)
	s.self = &nftables.Set{Table: b.table, Name: "self" + f.name, Concatenation: true, KeyType: pairs}
	s.outside = &nftables.Set{Table: b.table, Name: "outside" + f.name, Interval: true, KeyType: f.addressType}
	for _, one := range []*nftables.Set{s.links, s.outside, s.self} {
		b.do(b.c.AddSet(one, nil))
	}
	filled := aroundBy(f, t, links)
	for _, one := range []*nftables.Set{s.links, s.outside, s.self, s.own} {
		b.add(one, filled[one.Name])
	}
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
	for _, run := range flow.AllAddrs.Subtract(t.Inside).Runs() {
		if run.Lo.Addr().Is4() == f.v4 {
			put("outside", nftables.SetElement{Key: run.Lo.Addr().AsSlice()})
			if end := run.Hi.Addr().Next(); end.IsValid() { // intervals end before an element that marks their end
				put("outside", nftables.SetElement{Key: end.AsSlice(), IntervalEnd: true})
			}
		}
	}
	put("own", elements(f, t.Own, func(x Box, k *key) { k.both(native(x.Way)).source(x).time(x) })...)
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
