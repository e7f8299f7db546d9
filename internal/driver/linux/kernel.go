package linux

import (
	"encoding/binary"
	"net/netip"
	"slices"
	"time"

	"github.com/google/nftables"
	"github.com/google/nftables/binaryutil"
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
)

// tableName is that of the one table in the router's namespace.
const tableName = "ironbark"

// family is what differs between IPv4 and IPv6.
type family struct {
	v4          bool
	name        string // of sets
	proto       byte   // of nfproto
	icmp        byte
	echo        byte // type of an echo request
	src, dst    uint32
	size        uint32
	addressType nftables.SetDatatype
}

var families = []family{
	{true, "4", unix.NFPROTO_IPV4, unix.IPPROTO_ICMP, 8, 12, 16, 4, nftables.TypeIPAddr},
	{false, "6", unix.NFPROTO_IPV6, unix.IPPROTO_ICMPV6, 128, 8, 24, 16, nftables.TypeIP6Addr},
}

// register returns the n-th 32-bit register. Concatenated keys lie in registers that follow
// one another (linux/netfilter/nf_tables.h).
func register(n uint32) uint32 { return unix.NFT_REG32_00 + n }

// metaTime is the wall clock in nanoseconds (NFT_META_TIME_NS), for which the library has
// no name.
const metaTime expr.MetaKey = 30

// sets are those of one family. What is by service has three: one with protocols and
// ports, one for echo requests, and one for all that has neither.
type sets struct {
	class, reach, own, opens, links, inside, self *nftables.Set

	deny, pass, open [3]*nftables.Set
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
func (b *batch) byService(f family, name string, timeout bool) (list [3]*nftables.Set) {
	for sort, suffix := range sortNames {
		list[sort] = b.set(f, name+suffix, timeout, keyTypes(f, sort)...)
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

func (b *batch) set(f family, name string, timeout bool, types ...nftables.SetDatatype) *nftables.Set {
	s := &nftables.Set{Table: b.table, Name: name + f.name, Interval: true, HasTimeout: timeout, KeyType: types[0]}
	if len(types) > 1 {
		key, err := nftables.ConcatSetType(types...)
		b.do(err)
		s.Concatenation, s.KeyType = true, key
	}
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
}

// opened is what openings let pass to an address of a machine: boxes under a number of
// their own, which the address leads to. Other boxes get another number, so nothing that
// may expire at any moment has to be deleted.
type opened struct {
	to    netip.Addr
	id    uint32
	boxes []Box
}

// install replaces everything by a table, at one moment.
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
	doors := chain("doors", nftables.ChainTypeNAT, nftables.ChainHookPrerouting, nftables.ChainPriorityNATDest, &accept)
	outward := chain("outward", nftables.ChainTypeNAT, nftables.ChainHookPostrouting, nftables.ChainPriorityNATSource, &accept)
	input := chain("input", nftables.ChainTypeFilter, nftables.ChainHookInput, nftables.ChainPriorityFilter, &drop)
	refuse := c.AddChain(&nftables.Chain{Name: refuseName, Table: b.table})
	judge := chain("judge", nftables.ChainTypeFilter, nftables.ChainHookForward, nftables.ChainPriorityFilter, &drop)
	rule := func(ch *nftables.Chain, parts ...[]expr.Any) {
		var all []expr.Any
		for _, p := range parts {
			all = append(all, p...)
		}
		c.AddRule(&nftables.Rule{Table: b.table, Chain: ch, Exprs: all})
	}
	rule(judge, ctIs(expr.CtKeyDIRECTION, []byte{1}), ctState(expr.CtStateBitESTABLISHED), verdict(expr.VerdictAccept))
	for _, f := range families {
		rule(judge, ctState(expr.CtStateBitRELATED), metaIs(expr.MetaKeyL4PROTO, []byte{f.icmp}), verdict(expr.VerdictAccept))
		rule(input, isFamily(f), metaIs(expr.MetaKeyL4PROTO, []byte{f.icmp}), verdict(expr.VerdictAccept)) // neighbours, and the gateway's own answers
	}
	rule(judge, ctState(expr.CtStateBitINVALID), verdict(expr.VerdictDrop))
	// What is not the beginning of a connection begins none.
	rule(judge, metaIs(expr.MetaKeyL4PROTO, []byte{unix.IPPROTO_TCP}), ctState(expr.CtStateBitNEW), notBareSYN(), verdict(expr.VerdictDrop))
	for _, f := range families {
		s := b.family(f, t, links, open, now)
		rule(source, isFamily(f), metaIs(expr.MetaKeyIIFGROUP, native(groupUplink)), lookupSource(f, s.inside), verdict(expr.VerdictDrop))
		for _, group := range []uint32{groupMachine, groupOutward} {
			rule(source, isFamily(f), metaIs(expr.MetaKeyIIFGROUP, native(group)), loadMeta(expr.MetaKeyIIF, 0), payload(f.src, f.size, 1), lookup(s.links, 0, true), verdict(expr.VerdictDrop))
		}
		// What a machine calls outside is not judged; the estate's own is never outside.
		for _, out := range []uint32{groupUplink, groupProbe} {
			rule(judge, isFamily(f), metaIs(expr.MetaKeyIIFGROUP, native(groupOutward)), metaIs(expr.MetaKeyOIFGROUP, native(out)), payload(f.dst, f.size, 0), lookup(s.inside, 0, true), verdict(expr.VerdictAccept))
		}
		// A machine that calls itself through a door gets its answers by the way that it called.
		rule(outward, isFamily(f), payload(f.src, f.size, 0), payload(f.dst, f.size, f.size/4), lookup(s.self, 0, false), []expr.Any{&expr.Masq{}})
		b.translate(doors, f, t)
		b.judge(judge, f, s)
	}
	rule(outward, isFamily(families[0]), metaIs(expr.MetaKeyIIFGROUP, native(groupOutward)), metaIs(expr.MetaKeyOIFGROUP, native(groupUplink)), []expr.Any{&expr.Masq{}})
	rule(judge, goTo(refuseName))
	// A connection that is let pass no more ends now, and not when somebody tires of it.
	rule(refuse, ctState(expr.CtStateBitESTABLISHED), metaIs(expr.MetaKeyL4PROTO, []byte{unix.IPPROTO_TCP}), []expr.Any{&expr.Reject{Type: unix.NFT_REJECT_TCP_RST}})
	rule(refuse, verdict(expr.VerdictDrop))
	if b.err != nil {
		return b.err
	}
	return c.Flush()
}

// family makes the sets of a family, and fills them.
func (b *batch) family(f family, t *Table, links []link, open []opened, now time.Time) sets {
	s := sets{
		reach: b.set(f, "reach", false, nftables.TypeMark, nftables.TypeMark, f.addressType),
		deny:  b.byService(f, "deny", false),
		pass:  b.byService(f, "pass", false),
		own:   b.set(f, "own", false, nftables.TypeMark, f.addressType, nftables.TypeTimeDate),
		open:  b.byService(f, "open", true),
	}
	s.class = &nftables.Set{Table: b.table, Name: "class" + f.name, IsMap: true, KeyType: f.addressType, DataType: nftables.TypeMark}
	linkType, err := nftables.ConcatSetType(nftables.TypeIFIndex, f.addressType)
	b.do(err)
	s.links = &nftables.Set{Table: b.table, Name: "links" + f.name, Concatenation: true, KeyType: linkType}
	pairs, err := nftables.ConcatSetType(f.addressType, f.addressType)
	b.do(err)
	s.self = &nftables.Set{Table: b.table, Name: "self" + f.name, Concatenation: true, KeyType: pairs}
	s.inside = &nftables.Set{Table: b.table, Name: "inside" + f.name, Interval: true, KeyType: f.addressType}
	s.opens = &nftables.Set{Table: b.table, Name: "opens" + f.name, IsMap: true, KeyType: f.addressType, DataType: nftables.TypeMark}
	for _, one := range []*nftables.Set{s.class, s.opens, s.links, s.inside, s.self} {
		b.do(b.c.AddSet(one, nil))
	}
	filled := contents(f, t, links)
	for _, one := range slices.Concat([]*nftables.Set{s.class, s.links, s.inside, s.self, s.reach, s.own}, s.deny[:], s.pass[:]) {
		b.add(one, filled[one.Name])
	}
	for _, o := range open {
		if o.to.Is4() == f.v4 {
			b.addOpen(f, s.open, o, now)
			b.add(s.opens, []nftables.SetElement{{Key: o.to.AsSlice(), Val: native(o.id)}})
		}
	}
	return s
}

// sortNames are what the names of sets of each sort of service have after their own.
var sortNames = [3]string{ported: "", echo: "-echo", other: "-other"}

// contents are the elements of the sets of a family by name, but for those of openings.
func contents(f family, t *Table, links []link) map[string][]nftables.SetElement {
	out := map[string][]nftables.SetElement{}
	put := func(name string, list ...nftables.SetElement) { out[name+f.name] = append(out[name+f.name], list...) }
	for _, m := range t.Class {
		if m.Addr.Is4() == f.v4 {
			put("class", nftables.SetElement{Key: m.Addr.AsSlice(), Val: native(m.Class)})
		}
	}
	for _, l := range links {
		for _, a := range l.addrs {
			if a.Is4() != f.v4 {
				continue
			}
			put("links", nftables.SetElement{Key: append(native(uint32(l.index)), a.AsSlice()...)})
			for _, o := range l.addrs {
				if o.Is4() == f.v4 {
					put("self", nftables.SetElement{Key: append(a.AsSlice(), o.AsSlice()...)})
				}
			}
		}
	}
	for _, run := range t.Inside.Runs() {
		if run.Lo.Addr().Is4() == f.v4 {
			put("inside", nftables.SetElement{Key: run.Lo.Addr().AsSlice()})
			if end := run.Hi.Addr().Next(); end.IsValid() { // intervals end before an element that marks their end
				put("inside", nftables.SetElement{Key: end.AsSlice(), IntervalEnd: true})
			}
		}
	}
	put("reach", elements(f, t.Reach, func(x Box, k *key) { k.both(native(x.Class)).both(native(x.Way)).source(x) })...)
	service := func(x Box, k *key) { k.both(native(x.Class)).service(x).source(x).time(x) }
	for sort, name := range sortNames {
		put("deny"+name, elements(f, ofSort(t.Deny, sort), service)...)
		put("pass"+name, elements(f, ofSort(t.Pass, sort), service)...)
	}
	put("own", elements(f, t.Own, func(x Box, k *key) { k.both(native(x.Way)).source(x).time(x) })...)
	return out
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

func (b *batch) addOpen(f family, sets [3]*nftables.Set, o opened, now time.Time) {
	for sort, set := range sets {
		b.add(set, openElements(f, opened{o.to, o.id, ofSort(o.boxes, sort)}, now))
	}
}

// judge writes the rules that look a packet of a family up.
func (b *batch) judge(ch *nftables.Chain, f family, s sets) {
	add := func(parts ...[]expr.Any) {
		all := isFamily(f)
		for _, p := range parts {
			all = append(all, p...)
		}
		b.c.AddRule(&nftables.Rule{Table: b.table, Chain: ch, Exprs: all})
	}
	// mark sets the packet's mark to what a map has for where it is sent to; 0 where it has nothing.
	mark := func(m *nftables.Set) {
		add(setMark(0))
		add(payload(f.dst, f.size, 0), []expr.Any{
			&expr.Lookup{SourceRegister: register(0), DestRegister: register(0), IsDestRegSet: true, SetName: m.Name, SetID: m.ID},
			&expr.Meta{Key: expr.MetaKeyMARK, SourceRegister: true, Register: register(0)},
		})
	}
	mark(s.class)
	add(loadMeta(expr.MetaKeyMARK, 0), []expr.Any{&expr.Ct{Key: expr.CtKeyMARK, Register: register(1)}}, payload(f.src, f.size, 2), lookup(s.reach, 0, true), goTo(refuseName))
	words := f.size / 4
	not := func(proto byte) []expr.Any { return metaIsNot(expr.MetaKeyL4PROTO, []byte{proto}) }
	is := [3][][]expr.Any{
		echo:  {append(metaIs(expr.MetaKeyL4PROTO, []byte{f.icmp}), transportIs(0, f.echo)...)},
		other: {append(append(not(unix.IPPROTO_TCP), not(unix.IPPROTO_UDP)...), not(f.icmp)...)},
	}
	for _, proto := range []byte{unix.IPPROTO_TCP, unix.IPPROTO_UDP} {
		is[ported] = append(is[ported], metaIs(expr.MetaKeyL4PROTO, []byte{proto}))
	}
	// by looks the packet up by its mark in the sets of each sort of service.
	by := func(sets [3]*nftables.Set, then []expr.Any) {
		for sort, list := range is {
			for _, which := range list {
				rest := append(payload(f.src, f.size, 1), clock(1+words)...)
				if sort == ported {
					rest = append([]expr.Any{&expr.Meta{Key: expr.MetaKeyL4PROTO, Register: register(1)}, &expr.Payload{DestRegister: register(2), Base: expr.PayloadBaseTransportHeader, Offset: 2, Len: 2}},
						append(payload(f.src, f.size, 3), clock(3+words)...)...)
				}
				add(which, loadMeta(expr.MetaKeyMARK, 0), rest, lookup(sets[sort], 0, false), then)
			}
		}
	}
	by(s.deny, goTo(refuseName))
	mark(s.opens)
	by(s.open, verdict(expr.VerdictAccept))
	mark(s.class)
	by(s.pass, verdict(expr.VerdictAccept))
	add([]expr.Any{&expr.Ct{Key: expr.CtKeyMARK, Register: register(0)}}, payload(f.src, f.size, 1), clock(1+words), lookup(s.own, 0, false), verdict(expr.VerdictAccept))
}

// translate writes the rules that lead what is sent to public addresses to machines.
func (b *batch) translate(ch *nftables.Chain, f family, t *Table) {
	for _, d := range t.Doors {
		if d.Public.Is4() != f.v4 {
			continue
		}
		all := append(isFamily(f), payloadIs(f.dst, d.Public.AsSlice())...)
		ported := !d.All && (protocol(d.Service) == 6 || protocol(d.Service) == 17)
		switch {
		case d.All:
		case ported:
			all = append(all, metaIs(expr.MetaKeyL4PROTO, []byte{protocol(d.Service)})...)
			all = append(all, &expr.Payload{DestRegister: register(0), Base: expr.PayloadBaseTransportHeader, Offset: 2, Len: 2},
				&expr.Cmp{Register: register(0), Op: expr.CmpOpEq, Data: binary.BigEndian.AppendUint16(nil, d.Service.Port())})
		case d.Service == flow.Ping:
			all = append(all, metaIs(expr.MetaKeyL4PROTO, []byte{f.icmp})...)
			all = append(all, transportIs(0, f.echo)...)
		default:
			continue // what has no ports is not told apart
		}
		all = append(all, &expr.Immediate{Register: register(0), Data: native(d.Way)}, &expr.Ct{Key: expr.CtKeyMARK, SourceRegister: true, Register: register(0)})
		nat := &expr.NAT{Type: expr.NATTypeDestNAT, Family: uint32(f.proto), RegAddrMin: register(0)}
		if len(d.To) == 1 {
			all = append(all, &expr.Immediate{Register: register(0), Data: d.To[0].Addr.AsSlice()})
		} else {
			all = append(all, b.choose(f, d.To)...)
		}
		if ported {
			all = append(all, &expr.Immediate{Register: register(8), Data: binary.BigEndian.AppendUint16(nil, d.To[0].Port)})
			nat.RegProtoMin = register(8)
			nat.Specified = true
		}
		b.c.AddRule(&nftables.Rule{Table: b.table, Chain: ch, Exprs: append(all, nat)})
	}
}

// choose puts the address of one of several targets into the first register, by a hash of
// the connection.
func (b *batch) choose(f family, to []Target) []expr.Any {
	var list []nftables.SetElement
	for i, t := range to {
		list = append(list, nftables.SetElement{Key: native(uint32(i)), Val: t.Addr.AsSlice()})
	}
	m := &nftables.Set{Table: b.table, Anonymous: true, Constant: true, IsMap: true, KeyType: nftables.TypeInteger, DataType: f.addressType}
	b.do(b.c.AddSet(m, list))
	out := []expr.Any{
		&expr.Payload{DestRegister: register(0), Base: expr.PayloadBaseNetworkHeader, Offset: f.src, Len: f.size},
		&expr.Payload{DestRegister: register(f.size / 4), Base: expr.PayloadBaseTransportHeader, Offset: 0, Len: 4},
		&expr.Hash{SourceRegister: register(0), DestRegister: register(8), Length: f.size + 4, Modulus: uint32(len(to)), Type: expr.HashTypeJenkins},
		&expr.Lookup{SourceRegister: register(8), DestRegister: register(0), IsDestRegSet: true, SetName: m.Name, SetID: m.ID},
	}
	return out
}

// key is the beginning and the end of an element.
type key struct{ lo, hi []byte }

func pad(b []byte) []byte {
	for len(b)%4 != 0 {
		b = append(b, 0)
	}
	return b
}

func (k *key) put(lo, hi []byte) *key {
	k.lo, k.hi = append(k.lo, pad(lo)...), append(k.hi, pad(hi)...)
	return k
}

func (k *key) both(b []byte) *key { return k.put(b, append([]byte{}, b...)) }

func (k *key) source(x Box) *key {
	return k.put(x.Source.Lo.Addr().AsSlice(), x.Source.Hi.Addr().AsSlice())
}

// service puts protocol and ports, of a service that has them.
func (k *key) service(x Box) *key {
	if sortOf(x.Services.Lo) != ported {
		return k
	}
	k.both([]byte{protocol(x.Services.Lo)})
	return k.put(binary.BigEndian.AppendUint16(nil, x.Services.Lo.Port()), binary.BigEndian.AppendUint16(nil, x.Services.Hi.Port()))
}

func (k *key) time(x Box) *key {
	return k.put(binary.BigEndian.AppendUint64(nil, x.Begin), binary.BigEndian.AppendUint64(nil, x.End))
}

// elements are the boxes of one family.
func elements(f family, boxes []Box, write func(Box, *key)) (list []nftables.SetElement) {
	for _, x := range boxes {
		if x.Source.Lo.Addr().Is4() != f.v4 {
			continue
		}
		k := &key{}
		write(x, k)
		list = append(list, nftables.SetElement{Key: k.lo, KeyEnd: k.hi})
	}
	return list
}

// openElements are what openings let pass to an address. Each has the wall clock in its
// key and a time-out besides, whichever comes first; one that is over is none.
func openElements(f family, o opened, now time.Time) (list []nftables.SetElement) {
	for _, x := range o.boxes {
		left := time.Duration(int64(x.End) - now.UnixNano())
		if x.Source.Lo.Addr().Is4() != f.v4 || x.End >= always/2 || left < time.Millisecond {
			continue // a time-out of less than that would be for ever
		}
		k := (&key{}).both(native(o.id)).service(x).source(x).time(x)
		list = append(list, nftables.SetElement{Key: k.lo, KeyEnd: k.hi, Timeout: left.Truncate(time.Millisecond)})
	}
	return list
}

// reopen puts other boxes in place of what openings let pass to some addresses. led tells
// which of the addresses lead to boxes already.
func reopen(c *nftables.Conn, list []opened, led map[netip.Addr]bool, now time.Time) error {
	b := &batch{c: c, table: &nftables.Table{Name: tableName, Family: nftables.TableFamilyINet}}
	for _, f := range families {
		var open [3]*nftables.Set
		for sort, suffix := range sortNames {
			kind, err := nftables.ConcatSetType(keyTypes(f, sort)...)
			b.do(err)
			open[sort] = &nftables.Set{Table: b.table, Name: "open" + suffix + f.name, Interval: true, Concatenation: true, HasTimeout: true, KeyType: kind}
		}
		opens := &nftables.Set{Table: b.table, Name: "opens" + f.name, IsMap: true, KeyType: f.addressType, DataType: nftables.TypeMark}
		for _, o := range list {
			if o.to.Is4() != f.v4 {
				continue
			}
			if led[o.to] {
				b.do(c.SetDeleteElements(opens, []nftables.SetElement{{Key: o.to.AsSlice()}}))
			}
			if len(o.boxes) > 0 {
				b.addOpen(f, open, o, now)
				b.add(opens, []nftables.SetElement{{Key: o.to.AsSlice(), Val: native(o.id)}})
			}
		}
	}
	if b.err != nil {
		return b.err
	}
	return c.Flush()
}

func native(n uint32) []byte { return binaryutil.NativeEndian.PutUint32(n) }

// refuseName is the chain in which what is not let pass ends.
const refuseName = "refuse"

func goTo(chain string) []expr.Any {
	return []expr.Any{&expr.Verdict{Kind: expr.VerdictGoto, Chain: chain}}
}

func verdict(kind expr.VerdictKind) []expr.Any { return []expr.Any{&expr.Verdict{Kind: kind}} }

func loadMeta(k expr.MetaKey, reg uint32) []expr.Any {
	return []expr.Any{&expr.Meta{Key: k, Register: register(reg)}}
}

func metaIs(k expr.MetaKey, data []byte) []expr.Any {
	return []expr.Any{&expr.Meta{Key: k, Register: register(0)}, &expr.Cmp{Op: expr.CmpOpEq, Register: register(0), Data: data}}
}

func metaIsNot(k expr.MetaKey, data []byte) []expr.Any {
	return []expr.Any{&expr.Meta{Key: k, Register: register(0)}, &expr.Cmp{Op: expr.CmpOpNeq, Register: register(0), Data: data}}
}

func isFamily(f family) []expr.Any { return metaIs(expr.MetaKeyNFPROTO, []byte{f.proto}) }

func ctIs(k expr.CtKey, data []byte) []expr.Any {
	return []expr.Any{&expr.Ct{Key: k, Register: register(0)}, &expr.Cmp{Op: expr.CmpOpEq, Register: register(0), Data: data}}
}

func ctState(bits uint32) []expr.Any {
	return []expr.Any{
		&expr.Ct{Key: expr.CtKeySTATE, Register: register(0)},
		&expr.Bitwise{SourceRegister: register(0), DestRegister: register(0), Len: 4, Mask: native(bits), Xor: native(0)},
		&expr.Cmp{Op: expr.CmpOpNeq, Register: register(0), Data: native(0)},
	}
}

// notBareSYN matches TCP whose flags are anything but SYN alone among FIN, SYN, RST and ACK.
func notBareSYN() []expr.Any {
	return []expr.Any{
		&expr.Payload{DestRegister: register(0), Base: expr.PayloadBaseTransportHeader, Offset: 13, Len: 1},
		&expr.Bitwise{SourceRegister: register(0), DestRegister: register(0), Len: 1, Mask: []byte{0x17}, Xor: []byte{0}},
		&expr.Cmp{Op: expr.CmpOpNeq, Register: register(0), Data: []byte{0x02}},
	}
}

func payload(offset, size, reg uint32) []expr.Any {
	return []expr.Any{&expr.Payload{DestRegister: register(reg), Base: expr.PayloadBaseNetworkHeader, Offset: offset, Len: size}}
}

func payloadIs(offset uint32, data []byte) []expr.Any {
	return append(payload(offset, uint32(len(data)), 0), &expr.Cmp{Op: expr.CmpOpEq, Register: register(0), Data: data})
}

func transportIs(offset uint32, b byte) []expr.Any {
	return []expr.Any{&expr.Payload{DestRegister: register(0), Base: expr.PayloadBaseTransportHeader, Offset: offset, Len: 1}, &expr.Cmp{Op: expr.CmpOpEq, Register: register(0), Data: []byte{b}}}
}

func lookup(s *nftables.Set, reg uint32, invert bool) []expr.Any {
	return []expr.Any{&expr.Lookup{SourceRegister: register(reg), SetName: s.Name, SetID: s.ID, Invert: invert}}
}

func lookupSource(f family, s *nftables.Set) []expr.Any {
	return append(payload(f.src, f.size, 0), lookup(s, 0, false)...)
}

func setMark(n uint32) []expr.Any {
	return []expr.Any{&expr.Immediate{Register: register(0), Data: native(n)}, &expr.Meta{Key: expr.MetaKeyMARK, SourceRegister: true, Register: register(0)}}
}

// clock puts the wall clock into two registers, most significant byte first, as intervals
// are compared.
func clock(reg uint32) []expr.Any {
	return []expr.Any{
		&expr.Meta{Key: metaTime, Register: register(reg)},
		&expr.Byteorder{SourceRegister: register(reg), DestRegister: register(reg), Op: expr.ByteorderHton, Len: 8, Size: 8},
	}
}
