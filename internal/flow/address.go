package flow

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"net/netip"
	"strings"

	"go4.org/netipx"

	"ironbark/internal/flow/span"
	"ironbark/internal/sentence"
)

// Point is an address as a point on a line: all of IPv4, and then all of IPv6. It
// holds no pointer, unlike netip.Addr, so sets of many points cost the garbage
// collector nothing. The zero Point is 0.0.0.0.
type Point struct {
	hi, lo uint64
	v6     bool
}

// PointOf returns the point of a valid address without zone.
func PointOf(a netip.Addr) Point {
	if a.Is4() {
		b := a.As4()
		return Point{lo: uint64(binary.BigEndian.Uint32(b[:]))}
	}
	b := a.As16()
	return Point{hi: binary.BigEndian.Uint64(b[:8]), lo: binary.BigEndian.Uint64(b[8:]), v6: true}
}

// Addr returns the address of the point.
func (p Point) Addr() netip.Addr {
	if !p.v6 {
		var b [4]byte
		binary.BigEndian.PutUint32(b[:], uint32(p.lo))
		return netip.AddrFrom4(b)
	}
	var b [16]byte
	binary.BigEndian.PutUint64(b[:8], p.hi)
	binary.BigEndian.PutUint64(b[8:], p.lo)
	return netip.AddrFrom16(b)
}

// AppendTo appends the point to data, in a form of its own.
func (p Point) AppendTo(data []byte) []byte {
	data = binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint64(data, p.hi), p.lo)
	if p.v6 {
		return append(data, 6)
	}
	return append(data, 4)
}

// Compare orders points along the line.
func (p Point) Compare(q Point) int {
	if p.v6 != q.v6 {
		if q.v6 {
			return -1
		}
		return 1
	}
	if p.hi != q.hi {
		return cmp.Compare(p.hi, q.hi)
	}
	return cmp.Compare(p.lo, q.lo)
}

// Next returns the point after p. That of the last IPv4 address is no address and
// equals no point; that of the last IPv6 address is the first one.
func (p Point) Next() Point {
	p.lo++
	if p.lo == 0 {
		p.hi++
	}
	return p
}

// Prev returns the point before p; that of the first of a family is no address.
func (p Point) Prev() Point {
	if p.lo == 0 {
		p.hi--
	}
	p.lo--
	return p
}

// Addrs is a set of addresses of both families, IPv4 before IPv6.
type Addrs = span.Set[Point]

// Run is a run of addresses of one family, both ends included.
type Run = span.Run[Point]

// RunOf returns the run from one address to another of its family.
func RunOf(lo, hi netip.Addr) Run { return Run{Lo: PointOf(lo), Hi: PointOf(hi)} }

// One returns the run of a single address.
func One(a netip.Addr) Run { return RunOf(a, a) }

// The addresses of each family, and both.
var (
	AllIPv4    = prefixSet(netip.MustParsePrefix("0.0.0.0/0"))
	AllIPv6    = prefixSet(netip.MustParsePrefix("::/0"))
	AllAddrs   = AllIPv4.Union(AllIPv6)
	privateV6  = prefixSet(netip.MustParsePrefix("fc00::/7")) // RFC 4193
	linkLocal6 = prefixSet(netip.MustParsePrefix("fe80::/10"))
)

// AddrsAt returns the set of one address.
func AddrsAt(a netip.Addr) Addrs {
	p := PointOf(a)
	return span.Of(span.Run[Point]{Lo: p, Hi: p})
}

// PrefixSet is the set of the addresses of some prefixes.
func PrefixSet(list ...netip.Prefix) Addrs { return prefixSet(list...) }

func prefixSet(list ...netip.Prefix) Addrs {
	runs := make([]Run, len(list))
	for i, p := range list {
		runs[i] = RunOf(p.Masked().Addr(), netipx.PrefixLastIP(p))
	}
	return span.Of(runs...)
}

// ByFamily cuts a set into its addresses of each family.
func ByFamily(s Addrs) [2]Addrs {
	v4, v6 := s.Split(Point{v6: true})
	return [2]Addrs{sentence.IPv6: v6, sentence.IPv4: v4}
}

// globallyRoutable reports whether an inside address can be reached from outside
// as it is: IPv6, and neither private nor link-local.
func globallyRoutable(a netip.Addr) bool {
	return a.Is6() && !privateV6.Contains(PointOf(a)) && !linkLocal6.Contains(PointOf(a))
}

// bounds returns the addresses of an address, prefix or range.
func bounds(a sentence.Atom) Addrs {
	lo, hi := a.Bounds()
	return span.Of(RunOf(lo, hi))
}

// AddrRuns prints a set as runs: an address, or first-last.
func AddrRuns(s Addrs) []string {
	words := make([]string, 0, len(s.Runs()))
	for _, r := range s.Runs() {
		if r.Lo == r.Hi {
			words = append(words, r.Lo.Addr().String())
		} else {
			words = append(words, r.Lo.Addr().String()+"-"+r.Hi.Addr().String())
		}
	}
	return words
}

// ParseAddrRuns reads what [AddrRuns] prints.
func ParseAddrRuns(words []string) (Addrs, error) {
	runs := make([]Run, 0, len(words))
	for _, w := range words {
		first, last, ranged := strings.Cut(w, "-")
		if !ranged {
			last = first
		}
		lo, err1 := netip.ParseAddr(first)
		hi, err2 := netip.ParseAddr(last)
		if err1 != nil || err2 != nil || lo.Is4() != hi.Is4() || hi.Less(lo) {
			return Addrs{}, fmt.Errorf("%q is no run of addresses", w)
		}
		runs = append(runs, RunOf(lo, hi))
	}
	return span.Of(runs...), nil
}
