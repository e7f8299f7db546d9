package change

import (
	"fmt"
	"net/netip"
	"slices"

	"go4.org/netipx"

	"ironbark/internal/estate"
	"ironbark/internal/fault"
	"ironbark/internal/sentence"
)

// firstHost is the offset of the first address given to machines in a subnet: the first is the subnet itself, the next
// its gateway.
const firstHost = 2

// allocator gives inside addresses: the ones held before, and then the lowest free.
type allocator struct {
	e     *estate.Estate
	held  map[string]map[string][]netip.Addr // by resource and subnet
	taken map[netip.Addr]bool
	// resting are those that somebody gave up a short while ago. Only a subnet that has no other gives them.
	resting map[netip.Addr]bool
	next    map[netip.Prefix]netip.Addr
}

func newAllocator(e *estate.Estate, has []Resource, resting []netip.Addr) *allocator {
	a := &allocator{e: e, held: map[string]map[string][]netip.Addr{}, taken: map[netip.Addr]bool{}, resting: map[netip.Addr]bool{}, next: map[netip.Prefix]netip.Addr{}}
	for _, addr := range resting {
		a.resting[addr] = true
	}
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

// claim sets the addresses aside that machines ask for by themselves.
func (a *allocator) claim() error {
	holder := map[netip.Addr]string{}
	for id, held := range a.held {
		for _, list := range held {
			for _, addr := range list {
				holder[addr] = id
			}
		}
	}
	var errs sentence.Errors
	for _, m := range a.e.Machines {
		id := string(Machine) + " " + m.Name
		for _, addr := range m.Inside {
			if other := holder[addr]; other != "" && other != id {
				errs = append(errs, &sentence.Error{
					At: m.At, Problem: fmt.Sprintf("machine %s: %s is held by %s", m.Name, addr, other), Remedy: fault.Say("ask for another one, or leave it out and a free one is given"),
				})
			}
			a.taken[addr] = true
		}
	}
	if len(errs) > 0 {
		return errs
	}
	return nil
}

// give sets the inside addresses of a resource: one of each family of each subnet.
// Those that it asks for come first.
func (a *allocator) give(t *Resource, asked []netip.Addr, subnets ...string) error {
	t.Spec.Inside = map[string][]netip.Addr{}
	for _, at := range subnets {
		s, _ := a.e.Subnet(at)
		for _, p := range s.Range {
			var addr netip.Addr
			i := slices.IndexFunc(asked, p.Contains)
			ok := i >= 0
			if ok {
				addr = asked[i]
			} else if addr, ok = a.keep(t.ID(), at, p); !ok {
				if addr, ok = a.free(s, p, false); !ok {
					addr, ok = a.free(s, p, true)
				}
			}
			if !ok {
				return a.full(t, s, p)
			}
			t.Spec.Inside[at] = append(t.Spec.Inside[at], addr)
		}
	}
	return nil
}

func (a *allocator) full(t *Resource, s estate.Subnet, p netip.Prefix) error {
	remedy := "use another subnet, or make a larger one"
	if free, ok := a.e.FreeRange(s.Network, sentence.FamilyOf(p.Addr()), p.Bits()); ok {
		remedy = fmt.Sprintf("make another subnet: %s is free in network %s", free, s.Network)
	}
	if len(s.Allocate) > 0 {
		remedy = "let it allocate more than it does, or " + remedy
	}
	return &sentence.Error{At: s.At, Problem: fmt.Sprintf("subnet %s is full: %s has no address left for %s %s", s.Name, p, t.Kind, t.Name), Remedy: fault.Say(remedy)}
}

// keep returns the address that the resource holds in a prefix of the subnet already.
func (a *allocator) keep(id, at string, p netip.Prefix) (netip.Addr, bool) {
	list := a.held[id][at]
	i := slices.IndexFunc(list, p.Contains)
	if i < 0 {
		return netip.Addr{}, false
	}
	return list[i], true
}

// free takes the lowest free address of a prefix, among those that the subnet
// allocates; of those that rest where rested says so. Cost over all calls: linear in the addresses passed over.
func (a *allocator) free(s estate.Subnet, p netip.Prefix, rested bool) (netip.Addr, bool) {
	addr, begun := a.next[p]
	if !begun || rested {
		addr = p.Addr()
		for range firstHost {
			addr = addr.Next()
		}
	}
	last, gateway := netipx.PrefixLastIP(p), s.GatewayOf(p)
	for addr = allocated(s, p, addr); addr.IsValid() && p.Contains(addr); addr = allocated(s, p, addr.Next()) {
		if a.taken[addr] || a.resting[addr] != rested || addr == gateway || p.Addr().Is4() && addr == last { // the last IPv4 address is for broadcasts
			continue
		}
		a.taken[addr] = true
		if !rested {
			a.next[p] = addr.Next()
		}
		return addr, true
	}
	if !rested {
		a.next[p] = addr
	}
	return netip.Addr{}, false
}

// allocated returns the first address from addr on that the subnet gives from in
// a prefix; invalid where there is none.
func allocated(s estate.Subnet, p netip.Prefix, addr netip.Addr) netip.Addr {
	limited, best := false, netip.Addr{}
	for _, run := range s.Allocate {
		if !p.Contains(run.First) {
			continue
		}
		limited = true
		first := run.First
		if first.Less(addr) {
			first = addr
		}
		if run.Has(first) && (!best.IsValid() || first.Less(best)) {
			best = first
		}
	}
	if !limited {
		return addr
	}
	return best
}
