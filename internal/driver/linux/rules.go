package linux

import (
	"encoding/binary"
	"maps"
	"slices"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"
	"golang.org/x/sys/unix"

	"ironbark/internal/flow"
)

// over writes the rules by which what came through a door ends with it.
func (b *batch) over(ch *nftables.Chain, t *Table) {
	ends := map[uint32]uint64{} // two doors of one port share a way
	for _, d := range t.Doors {
		ends[d.Ingress] = max(ends[d.Ingress], d.End)
	}
	for _, way := range slices.Sorted(maps.Keys(ends)) {
		if ends[way] == forever {
			continue
		}
		all := append(wayOfPacket(0), &expr.Cmp{Register: register(0), Op: expr.CmpOpEq, Data: native(way)})
		all = append(append(all, clock(0)...), &expr.Cmp{Register: register(0), Op: expr.CmpOpGte, Data: binary.BigEndian.AppendUint64(nil, ends[way])})
		b.c.AddRule(&nftables.Rule{Table: b.table, Chain: ch, Exprs: append(all, goTo(refuseName)...)})
	}
}

// ends are the directions of a connection in which the two that a packet is judged by are senders: whom the sets have as a source, and
// the machine to which their marks lead. Of what comes to a machine they are the first packet's and the answers'; of what a machine calls
// outside they change places, so it is judged as what comes to machines is.
type ends struct{ source, target uint32 }

// judge writes the rules that look a packet's connection up, of a family. Openings and what doors let in are looked up where there are
// sets of them. accepted is where what a sentence lets pass goes, with the mark by which it was looked up: that of the profile, the
// audience or the way.
func (b *batch) judge(ch *nftables.Chain, f family, s sets, own *nftables.Set, by ends, accepted []expr.Any) {
	add := func(parts ...[]expr.Any) { b.rule(ch, append([][]expr.Any{isFamily(f)}, parts...)...) }
	source := func(reg uint32) []expr.Any { return ofConnection(f.from, by.source, reg) }
	// mark sets the packet's mark to what a map has for the machine; 0 where it has nothing.
	mark := func(m *nftables.Set) {
		add(setMark(0))
		add(ofConnection(f.from, by.target, 0), markBy(m))
	}
	mark(s.class)
	add(loadMeta(expr.MetaKeyMARK, 0), wayOfPacket(1), source(2), lookup(s.reach, 0, true), goTo(refuseName))
	words := f.size / 4
	is := f.sorts()
	// look looks the packet up by its mark in the sets of each sort of service: with its source
	// and the time, or by the mark and the service alone.
	look := func(sets [3]*nftables.Set, timed bool, then []expr.Any) {
		for sort, list := range is {
			for _, which := range list {
				var rest []expr.Any
				next := uint32(1)
				if sort == ported {
					rest = append(rest, serviceOfPacket(sort)...)
					next = 3
				}
				if timed {
					rest = append(rest, append(source(next), clock(next+words)...)...)
				}
				add(which, loadMeta(expr.MetaKeyMARK, 0), rest, lookup(sets[sort], 0, false), then)
			}
		}
	}
	refused := goTo(refuseName)
	mark(s.audience)
	look(s.denyUntil, true, refused)
	// From here on the mark is that of the profile, and where it has none that of the audience,
	// which no profile has.
	add(loadMeta(expr.MetaKeyMARK, 0), source(1), markBy(s.who))
	look(s.deny, false, refused)
	look(s.pass, false, accepted)
	if s.open.opens != nil {
		mark(s.open.opens)
		for sort, list := range is {
			for _, which := range list {
				add(which, byOpening(source(1), sort, s.open), goTo(openedName))
			}
		}
	}
	mark(s.audience)
	look(s.passUntil, true, accepted)
	if own == nil {
		return
	}
	add(wayOfPacket(0), source(1), clock(1+words), lookup(own, 0, false),
		[]expr.Any{&expr.Meta{Key: expr.MetaKeyMARK, SourceRegister: true, Register: register(0)}}, accepted)
}

// sorts match packets by the sort of service of their connections, in one of several ways.
func (f family) sorts() [3][][]expr.Any {
	is := func(proto byte) []expr.Any { return ctIs(expr.CtKeyPROTOCOL, []byte{proto}) }
	not := func(proto byte) []expr.Any {
		return []expr.Any{&expr.Ct{Key: expr.CtKeyPROTOCOL, Register: register(0)}, &expr.Cmp{Op: expr.CmpOpNeq, Register: register(0), Data: []byte{proto}}}
	}
	// Connection tracking has type and code of the first message where others have a port.
	asks := func(op expr.CmpOp) []expr.Any {
		return append(ofConnection(unix.NFT_CT_PROTO_DST, 0, 0),
			&expr.Bitwise{SourceRegister: register(0), DestRegister: register(0), Len: 2, Mask: []byte{0xff, 0}, Xor: []byte{0, 0}},
			&expr.Cmp{Op: op, Register: register(0), Data: []byte{f.echo, 0}})
	}
	return [3][][]expr.Any{
		ported: {is(unix.IPPROTO_TCP), is(unix.IPPROTO_UDP)},
		echo:   {append(is(f.icmp), asks(expr.CmpOpEq)...)},
		other: {
			append(append(not(unix.IPPROTO_TCP), not(unix.IPPROTO_UDP)...), not(f.icmp)...),
			append(is(f.icmp), asks(expr.CmpOpNeq)...),
		},
	}
}

// serviceOfPacket puts the service to which a packet's connection was led into the registers 1 and 2: protocol and port, as
// [key.anyService] has them.
func serviceOfPacket(sort int) []expr.Any {
	if sort == ported {
		return append([]expr.Any{&expr.Ct{Key: expr.CtKeyPROTOCOL, Register: register(1)}}, ofConnection(unix.NFT_CT_PROTO_SRC, 1, 2)...)
	}
	at := map[int]flow.Service{echo: flow.Ping, other: flow.Other}[sort]
	return []expr.Any{
		&expr.Immediate{Register: register(1), Data: []byte{protocol(at)}},
		&expr.Immediate{Register: register(2), Data: []byte{0, 0}},
	}
}

// wayOfPacket puts the way by which a packet's connection came into a register.
func wayOfPacket(reg uint32) []expr.Any {
	return []expr.Any{
		&expr.Ct{Key: expr.CtKeyMARK, Register: register(reg)},
		&expr.Bitwise{SourceRegister: register(reg), DestRegister: register(reg), Len: 4, Mask: native(^fromProbe), Xor: native(0)},
	}
}

// probeBegan matches packets of connections that the probe began.
func probeBegan() []expr.Any {
	return []expr.Any{
		&expr.Ct{Key: expr.CtKeyMARK, Register: register(0)},
		&expr.Bitwise{SourceRegister: register(0), DestRegister: register(0), Len: 4, Mask: native(fromProbe), Xor: native(0)},
		&expr.Cmp{Op: expr.CmpOpNeq, Register: register(0), Data: native(0)},
	}
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
		if d.End != forever {
			all = append(append(all, clock(0)...), &expr.Cmp{Register: register(0), Op: expr.CmpOpLt, Data: binary.BigEndian.AppendUint64(nil, d.End)})
		}
		all = append(all, &expr.Ct{Key: expr.CtKeyMARK, Register: register(0)},
			&expr.Bitwise{SourceRegister: register(0), DestRegister: register(0), Len: 4, Mask: native(fromProbe), Xor: native(d.Ingress)},
			&expr.Ct{Key: expr.CtKeyMARK, SourceRegister: true, Register: register(0)})
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
