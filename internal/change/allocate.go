package change

import (
	"fmt"
	"net/netip"
	"slices"

	"go4.org/netipx"

	"ironbark/internal/estate"
	"ironbark/internal/sentence"
)

// firstHost is the offset of the first address given to machines in a subnet;
// those below are the network itself, its gateway and two in reserve.
const firstHost = 4

// allocator gives inside addresses: the ones held before, and then the lowest free.
type allocator struct {
	e     *estate.Estate
	held  map[string]map[string][]netip.Addr // by thing and subnet
	taken map[netip.Addr]bool
	next  map[netip.Prefix]netip.Addr
}

func newAllocator(e *estate.Estate, has []Thing) *allocator {
	a := &allocator{e: e, held: map[string]map[string][]netip.Addr{}, taken: map[netip.Addr]bool{}, next: map[netip.Prefix]netip.Addr{}}
	for _, t := range has {
		if t.Kind != Machine && t.Kind != Bastion {
			continue
		}
		a.held[t.ID()] = t.Spec.Inside
		for _, list := range t.Spec.Inside {
			for _, addr := range list {
				a.taken[addr] = true
			}
		}
	}
	return a
}

// give sets the inside addresses of a thing: one of each family of each subnet.
func (a *allocator) give(t *Thing, subnets ...string) error {
	t.Spec.Inside = map[string][]netip.Addr{}
	for _, at := range subnets {
		s, _ := a.e.Subnet(at)
		for _, p := range s.Range {
			addr, ok := a.keep(t.ID(), at, p)
			if !ok {
				addr, ok = a.free(p)
			}
			if !ok {
				return &sentence.Error{
					At: s.At, Problem: fmt.Sprintf("subnet %s is full: %s has no address left for %s %s", at, p, t.Kind, t.Name),
					Hint: "use another subnet, or make a larger one",
				}
			}
			t.Spec.Inside[at] = append(t.Spec.Inside[at], addr)
		}
	}
	return nil
}

// keep returns the address that the thing holds in a prefix of the subnet already.
func (a *allocator) keep(id, at string, p netip.Prefix) (netip.Addr, bool) {
	list := a.held[id][at]
	i := slices.IndexFunc(list, p.Contains)
	if i < 0 {
		return netip.Addr{}, false
	}
	return list[i], true
}

// free takes the lowest free address of a prefix. Cost over all calls: linear in
// the addresses passed over.
func (a *allocator) free(p netip.Prefix) (netip.Addr, bool) {
	addr, begun := a.next[p]
	if !begun {
		addr = p.Addr()
		for range firstHost {
			addr = addr.Next()
		}
	}
	last := netipx.PrefixLastIP(p)
	for ; addr.IsValid() && p.Contains(addr); addr = addr.Next() {
		if a.taken[addr] || p.Addr().Is4() && addr == last { // the last IPv4 address is for broadcasts
			continue
		}
		a.taken[addr] = true
		a.next[p] = addr.Next()
		return addr, true
	}
	a.next[p] = addr
	return netip.Addr{}, false
}
