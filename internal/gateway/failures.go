package gateway

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"sync"
)

// failedLogins counts who did not get in, by prefix, until it is told. What strangers can make it
// hold and tell is bounded.
type failedLogins struct {
	mu     sync.Mutex
	counts map[netip.Prefix]int
	others int
}

const (
	mostPrefixes = 256 // that are counted apart
	mostNamed    = 10  // that are told
)

func newFailedLogins() *failedLogins { return &failedLogins{counts: map[netip.Prefix]int{}} }

// count counts one: by the /24 of an IPv4 address, or the /48 of an IPv6 one.
func (f *failedLogins) count(client netip.Addr) {
	bits := 48
	if client = client.Unmap().WithZone(""); client.Is4() {
		bits = 24
	}
	p, err := client.Prefix(bits)
	if err != nil {
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if _, known := f.counts[p]; !known && len(f.counts) >= mostPrefixes {
		f.others++
		return
	}
	f.counts[p]++
}

// flush tells the counts and begins anew; "" where nobody failed.
func (f *failedLogins) flush() string {
	f.mu.Lock()
	defer f.mu.Unlock()
	all, others := f.others, f.others
	for _, n := range f.counts {
		all += n
	}
	if all == 0 {
		return ""
	}
	order := slices.SortedFunc(maps.Keys(f.counts), func(a, b netip.Prefix) int {
		return cmp.Or(cmp.Compare(f.counts[b], f.counts[a]), a.Addr().Compare(b.Addr()))
	})
	var words []string
	for i, p := range order {
		if i < mostNamed {
			words = append(words, fmt.Sprintf("%d from %s", f.counts[p], p))
		} else {
			others += f.counts[p]
		}
	}
	if others > 0 {
		words = append(words, fmt.Sprintf("%d from elsewhere", others))
	}
	f.counts, f.others = map[netip.Prefix]int{}, 0
	return fmt.Sprintf("%d logins failed: %s", all, strings.Join(words, ", "))
}
