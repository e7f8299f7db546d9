package exposure

import (
	"iter"
	"slices"
	"time"
)

// Change is a set of flows whose verdict, or whose end, differs between two views.
type Change struct {
	Machine string // the machine, or "" for a gateway
	Entry   Entry  // on the side where it is open; on the later side for a moved end
	Before  time.Time
}

// Changes are differences of one sort, machine by machine as plans have them, and gateways last. Machines that fare alike share
// theirs, so they take little room however many there are. The zero Changes are none.
type Changes struct{ groups []Group }

// Group is what differs at one machine, or at the gateways.
type Group struct {
	Machine string // "" for gateways

	v    *View
	m    int32
	part *part
}

// part is what several machines share; gateways have it whole.
type part struct {
	list   []shared
	before []time.Time // of moved ends
	whole  []Change
}

// Alike is the same for groups that differ in nothing but the machine and its addresses, and for no others.
func (g Group) Alike() any { return g.part }

// Changes lists what differs at the machine.
func (g Group) Changes() []Change {
	if g.part.whole != nil {
		return g.part.whole
	}
	doors := g.v.Plan.DoorsTo(g.m)
	out := make([]Change, len(g.part.list))
	for i, s := range g.part.list {
		out[i] = Change{Machine: g.Machine, Entry: s.entry}
		out[i].Entry.Door = doors[s.door]
		if g.part.before != nil {
			out[i].Before = g.part.before[i]
		}
	}
	return out
}

// add notes what a machine shares with others.
func (c *Changes) add(name string, v *View, m int32, p *part) {
	if len(p.list) > 0 {
		c.groups = append(c.groups, Group{Machine: name, v: v, m: m, part: p})
	}
}

// addWhole notes a change at a gateway, or at a machine's console.
func (c *Changes) addWhole(x Change) {
	if n := len(c.groups); n > 0 && c.groups[n-1].part.whole != nil && c.groups[n-1].Machine == x.Machine {
		c.groups[n-1].part.whole = append(c.groups[n-1].part.whole, x)
		return
	}
	c.groups = append(c.groups, Group{Machine: x.Machine, part: &part{whole: []Change{x}}})
}

// IsEmpty reports whether nothing differs.
func (c Changes) IsEmpty() bool { return len(c.groups) == 0 }

// Groups lists what differs, a member for each machine. The caller must not change the list.
func (c Changes) Groups() []Group { return c.groups }

// All lists each difference.
func (c Changes) All() iter.Seq[Change] {
	return func(yield func(Change) bool) {
		for _, g := range c.groups {
			for _, x := range g.Changes() {
				if !yield(x) {
					return
				}
			}
		}
	}
}

// Any reports whether a predicate holds of any difference. It must not hang on the machine or its addresses: of those that fare
// alike one is looked at.
func (c Changes) Any(holds func(Change) bool) bool {
	seen := map[*part]bool{}
	return slices.ContainsFunc(c.groups, func(g Group) bool {
		if seen[g.part] {
			return false
		}
		seen[g.part] = true
		return slices.ContainsFunc(g.Changes(), holds)
	})
}

// Without returns the differences but for those of which a predicate holds, which must not hang on more of the machine than
// others share that fare alike.
func (c Changes) Without(drop func(Change) bool) (out Changes) {
	known := map[*part]*part{}
	for _, g := range c.groups {
		p := known[g.part]
		if p == nil {
			p = g.without(drop)
			known[g.part] = p
		}
		if len(p.list)+len(p.whole) > 0 {
			g.part = p
			out.groups = append(out.groups, g)
		}
	}
	return out
}

func (g Group) without(drop func(Change) bool) *part {
	p := &part{}
	for i, x := range g.Changes() {
		switch {
		case drop(x):
		case g.part.whole != nil:
			p.whole = append(p.whole, x)
		default:
			p.list = append(p.list, g.part.list[i])
			if g.part.before != nil {
				p.before = append(p.before, x.Before)
			}
		}
	}
	return p
}
