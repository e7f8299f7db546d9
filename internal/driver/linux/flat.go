package linux

import (
	"encoding/binary"
	"slices"

	"github.com/google/nftables"

	"ironbark/internal/flow"
)

// A flat set has keys that are several things in a row, all of which but the last are one
// value, and the last is a range. To the kernel it is a set of intervals of one long
// number: it takes them in some microseconds each, where ranges of several things at once
// (as in [Box]) take a hundred.

// flatType is the type of a key of some bytes. nft(8) prints such keys as numbers.
func flatType(bytes uint32) nftables.SetDatatype {
	t := nftables.TypeInteger
	t.Bytes = bytes
	return t
}

func (b *batch) flat(f family, name string, bytes uint32) *nftables.Set {
	s := &nftables.Set{Table: b.table, Name: name + f.name, Interval: true, KeyType: flatType(bytes)}
	b.do(b.c.AddSet(s, nil))
	return s
}

// flatRange is one range: both ends included.
type flatRange struct{ lo, hi, value []byte }

// flatElements are the elements of ranges that do not overlap: each begins with one, and ends
// before another that marks its end.
func flatElements(list []flatRange) (out []nftables.SetElement) {
	for _, r := range list {
		out = append(out, nftables.SetElement{Key: r.lo, Val: r.value})
		if end := after(r.hi); end != nil {
			out = append(out, nftables.SetElement{Key: end, IntervalEnd: true})
		}
	}
	return out
}

// addrRanges are the ranges of a family's addresses in a set.
func addrRanges(f family, set flow.Addrs) (list []flatRange) {
	for _, run := range set.Runs() {
		if lo := run.Lo.Addr(); lo.Is4() == f.v4 {
			list = append(list, flatRange{lo: lo.AsSlice(), hi: run.Hi.Addr().AsSlice()})
		}
	}
	return list
}

// after is the number that follows a long one; nil after the last.
func after(n []byte) []byte {
	out := slices.Clone(n)
	for i := len(out) - 1; i >= 0; i-- {
		out[i]++
		if out[i] != 0 {
			return out
		}
	}
	return nil
}

// reachRange, whoRange and entryRange are the keys of the flat sets.
func reachRange(x Box) flatRange {
	k := (&key{}).both(native(x.Class)).both(native(x.Ingress)).source(x)
	return flatRange{lo: k.lo, hi: k.hi}
}

func whoRange(p Piece) flatRange {
	k := (&key{}).both(native(p.Audience)).source(Box{Source: p.Source})
	return flatRange{k.lo, k.hi, native(p.Profile)}
}

// entryBytes is how long the key of a profile's service is.
const entryBytes = 12

func entryRange(e Entry) flatRange {
	k := (&key{}).both(native(e.Profile)).service(Box{Services: e.Services})
	return flatRange{lo: k.lo, hi: k.hi}
}

// entries are the elements of the sets of what profiles deny, or let pass: those with ports
// in a flat set, the others in sets of profiles.
func entries(list []Entry) (out [3][]nftables.SetElement) {
	var flat []flatRange
	for _, e := range list {
		switch sort := sortOf(e.Services.Lo); sort {
		case ported:
			flat = append(flat, entryRange(e))
		default:
			out[sort] = append(out[sort], nftables.SetElement{Key: native(e.Profile)})
		}
	}
	out[ported] = flatElements(flat)
	return out
}

// profileOf reads the profile and the services at which an element of a set of entries begins.
func profileOf(sort int, e nftables.SetElement) (profile uint32, from uint64, ok bool) {
	if sort != ported {
		return binary.NativeEndian.Uint32(e.Key), 0, len(e.Key) == 4
	}
	if len(e.Key) != entryBytes {
		return 0, 0, false
	}
	return binary.NativeEndian.Uint32(e.Key), binary.BigEndian.Uint64(e.Key[4:]), true
}
