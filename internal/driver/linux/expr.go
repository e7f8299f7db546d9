package linux

import (
	"github.com/google/nftables"
	"github.com/google/nftables/binaryutil"
	"github.com/google/nftables/expr"
)

func native(n uint32) []byte { return binaryutil.NativeEndian.PutUint32(n) }

// openedName is the chain in which what openings let pass is counted.
const openedName = "opened"

// The chains in which a packet's way ends.
const (
	passName   = "pass"   // of what is let pass, in whichever way
	refuseName = "refuse" // of what is not
	lateName   = "late"   // of what comes when its connection is over: it is told so
)

// What a packet's mark says besides the number by which it is looked up.
const (
	routedMark uint32 = 1 << 28            // before it is judged: it may be routed at all; see [guard]
	passMark   uint32 = routedMark | 1<<27 // once it was judged: it is let pass
)

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

func transportIs(offset uint32, b ...byte) []expr.Any {
	return []expr.Any{&expr.Payload{DestRegister: register(0), Base: expr.PayloadBaseTransportHeader, Offset: offset, Len: uint32(len(b))}, &expr.Cmp{Op: expr.CmpOpEq, Register: register(0), Data: b}}
}

func lookup(s *nftables.Set, reg uint32, invert bool) []expr.Any {
	return []expr.Any{&expr.Lookup{SourceRegister: register(reg), SetName: s.Name, SetID: s.ID, Invert: invert}}
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
