package linux

import (
	"encoding/binary"
	"errors"
	"net/netip"
	"slices"
	"time"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"
	"golang.org/x/sys/unix"
)

// A connection that may pass no longer ends in the kernel, both ways. Once its entry in connection tracking is gone, a datagram from
// the machine's side would be the first of a call of the machine's own, and where it may call outward the conversation would continue,
// the client's datagrams passing as answers. So whom an end was for is held: datagrams from that service's port to that client are
// refused, until the client has tried nothing for endedFor. TCP that is late is reset.
//
// The kernel holds what it refuses of connections that were answered; a process holds those whose entries it deletes.
type ended struct {
	caller, called netip.Addr
	proto          uint8  // as IP has it
	port           uint16 // 0 where the protocol has none
	left           time.Duration
}

const (
	endedFor  = time.Hour
	endedMost = 1 << 16 // of a family
)

func endedSet(table *nftables.Table, f family) (*nftables.Set, error) {
	key, err := nftables.ConcatSetType(f.addressType, f.addressType, nftables.TypeInetProto, nftables.TypeInetService)
	return &nftables.Set{Table: table, Name: "ended" + f.name, Dynamic: true, Concatenation: true, HasTimeout: true, Timeout: endedFor, KeyType: key, Size: endedMost}, err
}

// element is what the kernel keeps of an end.
func (e ended) element() nftables.SetElement {
	k := append(append([]byte{}, e.caller.AsSlice()...), e.called.AsSlice()...)
	k = pad(append(k, e.proto))
	return nftables.SetElement{Key: pad(binary.BigEndian.AppendUint16(k, e.port)), Timeout: max(e.left, time.Second).Truncate(time.Millisecond)}
}

// endedOf reads an element.
func endedOf(f family, e nftables.SetElement) (out ended, ok bool) {
	if len(e.Key) != 2*int(f.size)+8 {
		return out, false
	}
	out.caller, _ = netip.AddrFromSlice(e.Key[:f.size])
	out.called, _ = netip.AddrFromSlice(e.Key[f.size : 2*f.size])
	rest := e.Key[2*f.size:]
	out.proto, out.port, out.left = rest[0], binary.BigEndian.Uint16(rest[4:]), e.Expires
	return out, true
}

// readEnded reads what is held. The thread is in the router's namespace. A table that is not there holds nothing.
func readEnded() (list []ended, err error) {
	for _, f := range families {
		elements, err := dumpWhole("ended" + f.name)
		if errors.Is(err, unix.ENOENT) {
			continue
		}
		if err != nil {
			return nil, err
		}
		for _, e := range elements {
			if one, ok := endedOf(f, e); ok {
				list = append(list, one)
			}
		}
	}
	return list, nil
}

// hold holds some ends.
func (b *batch) hold(s *nftables.Set, f family, list []ended) {
	var elements []nftables.SetElement
	for _, e := range list {
		if e.caller.Is4() == f.v4 {
			elements = append(elements, e.element())
		}
	}
	b.add(s, elements)
}

// addEnded makes the sets of what is held, fills them, and writes the rules for it.
func (b *batch) addEnded(over []ended) {
	tcp := metaIs(expr.MetaKeyL4PROTO, []byte{unix.IPPROTO_TCP})
	for i, f := range families {
		s, err := endedSet(b.table, f)
		b.do(err)
		b.do(b.c.AddSet(s, nil))
		b.hold(s, f, over)
		words := f.size / 4
		// of puts into registers whom a packet is between: a caller, a called one and a port of the latter.
		of := func(caller, called, port uint32) []expr.Any {
			return append(append(append(payload(caller, f.size, 0), payload(called, f.size, words)...), loadMeta(expr.MetaKeyL4PROTO, 2*words)...),
				&expr.Payload{DestRegister: register(2*words + 1), Base: expr.PayloadBaseTransportHeader, Offset: port, Len: 2})
		}
		fromCaller, fromCalled := of(f.src, f.dst, 2), of(f.dst, f.src, 0)
		connection := append(append(ofConnection(f.from, 0, 0), ofConnection(f.from, 1, words)...), &expr.Ct{Key: expr.CtKeyPROTOCOL, Register: register(2 * words)})
		withPort := append(append([]expr.Any{}, connection...), ofConnection(unix.NFT_CT_PROTO_SRC, 1, 2*words+1)...)
		portless := append(append([]expr.Any{}, connection...), noPort(2*words+1)...)
		fresh, answered := ctState(expr.CtStateBitNEW), ctState(expr.CtStateBitESTABLISHED)
		hold := []expr.Any{&expr.Dynset{SrcRegKey: register(0), SetName: s.Name, SetID: s.ID, Operation: unix.NFT_DYNSET_OP_UPDATE, Timeout: endedFor}}

		stray := append(append(isFamily(f), tcp...), append(ctState(expr.CtStateBitINVALID|expr.CtStateBitNEW), notBareSYN()...)...)
		for _, key := range [][]expr.Any{fromCaller, fromCalled} {
			b.rule(b.forward, stray, key, lookup(s, 0, false), goTo(lateName))
		}
		b.rule(b.input, stray, fromCaller, lookup(s, 0, false), goTo(lateName))

		// Either side of TCP gets a reset: once the other side has got its own, the kernel tracks this side's packets no longer.
		called := slices.Concat(ofConnection(f.from, 0, 0), ofConnection(f.from+1, 0, words), []expr.Any{&expr.Ct{Key: expr.CtKeyPROTOCOL, Register: register(2 * words)}}, ofConnection(unix.NFT_CT_PROTO_DST, 0, 2*words+1))
		for _, key := range [][]expr.Any{withPort, called} {
			b.rule(b.refuse, isFamily(f), answered, tcp, key, hold)
		}
		sorts := f.sorts()
		udp, others := sorts[ported][1], sorts[other][0]
		portlessCalled := append(append(payload(f.dst, f.size, 0), payload(f.src, f.size, words)...), append(loadMeta(expr.MetaKeyL4PROTO, 2*words), noPort(2*words+1)...)...)
		for _, one := range []struct{ sort, called, key []expr.Any }{{udp, fromCalled, withPort}, {others, portlessCalled, portless}} {
			b.rule(b.calls, isFamily(f), fresh, one.sort, one.called, lookup(s, 0, false), goTo(refuseName))
			inward := append(ofConnection(f.from, 1, 0), lookup(b.edges[i].callable, 0, true)...)
			b.rule(b.refuse, isFamily(f), answered, one.sort, inward, one.key, hold)
			b.rule(b.refuse, isFamily(f), fresh, one.sort, one.key, lookup(s, 0, false), hold)
		}
	}
}

// noPort puts into a register what stands for the port of a protocol that has none.
func noPort(reg uint32) []expr.Any {
	return []expr.Any{&expr.Immediate{Register: register(reg), Data: []byte{0, 0}}}
}
