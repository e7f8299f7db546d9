package flow

import (
	"fmt"
	"net/netip"
	"strings"

	"go4.org/netipx"

	"ironbark/internal/flow/span"
	"ironbark/internal/sentence"
)

// Addrs is a set of addresses of both families, IPv4 before IPv6.
type Addrs = span.Set[netip.Addr]

// Run is a run of addresses of one family.
type Run = span.Run[netip.Addr]

// The addresses of each family, and both.
var (
	AllIPv4    = prefixSet(netip.MustParsePrefix("0.0.0.0/0"))
	AllIPv6    = prefixSet(netip.MustParsePrefix("::/0"))
	AllAddrs   = AllIPv4.Union(AllIPv6)
	privateV6  = prefixSet(netip.MustParsePrefix("fc00::/7")) // RFC 4193
	linkLocal6 = prefixSet(netip.MustParsePrefix("fe80::/10"))
)

func prefixSet(list ...netip.Prefix) Addrs {
	runs := make([]Run, len(list))
	for i, p := range list {
		runs[i] = Run{Lo: p.Masked().Addr(), Hi: netipx.PrefixLastIP(p)}
	}
	return span.Of(runs...)
}

// family returns the addresses of one family in s.
func family(s Addrs, v4 bool) Addrs {
	if v4 {
		return s.Intersect(AllIPv4)
	}
	return s.Intersect(AllIPv6)
}

// globallyRoutable reports whether an inside address can be reached from outside
// as it is: IPv6, and neither private nor link-local.
func globallyRoutable(a netip.Addr) bool {
	return a.Is6() && !privateV6.Contains(a) && !linkLocal6.Contains(a)
}

// bounds returns the addresses of an address, prefix or range.
func bounds(a sentence.Atom) Addrs {
	lo, hi := a.Bounds()
	return span.Of(Run{Lo: lo, Hi: hi})
}

// AddrRuns prints a set as runs: an address, or first-last.
func AddrRuns(s Addrs) []string {
	words := make([]string, 0, len(s.Runs()))
	for _, r := range s.Runs() {
		if r.Lo == r.Hi {
			words = append(words, r.Lo.String())
		} else {
			words = append(words, r.Lo.String()+"-"+r.Hi.String())
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
		runs = append(runs, Run{Lo: lo, Hi: hi})
	}
	return span.Of(runs...), nil
}
