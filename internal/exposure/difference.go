package exposure

import (
	"time"

	"ironbark/internal/flow"
)

// Change is a set of flows whose verdict, or whose end, differs between two views.
type Change struct {
	Machine string // the machine, or "" for a gateway
	Entry   Entry  // on the side where it is open; on the later side for a moved end
	Before  time.Time
}

// Difference is what is open in one of two views and not in the other.
type Difference struct {
	Opened []Change // open after, not before
	Closed []Change // open before, not after
	Moved  []Change // open in both, until another moment: Before is the earlier view's end
}

// IsEmpty reports whether the views are open to the same flows until the same moments.
func (d Difference) IsEmpty() bool {
	return len(d.Opened) == 0 && len(d.Closed) == 0 && len(d.Moved) == 0
}

// door tells doors of a machine apart by what they are; the address may change.
type door struct {
	machine string
	kind    flow.DoorKind
	via     string
	v4      bool
	service flow.Service
}

// Compare finds the difference from view a to view b. Addresses that are public
// ones of the estate on either side are no sources and are left out on both.
func Compare(a, b *View) Difference {
	own := a.Plan.Own().Union(b.Plan.Own())
	before, after := byDoor(a, own), byDoor(b, own)
	var d Difference
	for _, key := range order(b, a) {
		for _, e := range after[key] {
			for _, rest := range less(e, before[key]) {
				d.Opened = append(d.Opened, Change{Machine: key.machine, Entry: rest})
			}
			d.Moved = append(d.Moved, moved(key.machine, e, before[key])...)
		}
		for _, e := range before[key] {
			for _, rest := range less(e, after[key]) {
				d.Closed = append(d.Closed, Change{Machine: key.machine, Entry: rest})
			}
		}
	}
	return d
}

func keyOf(p *flow.Plan, d flow.Door) door {
	name := ""
	if d.Machine >= 0 {
		name = p.Machines[d.Machine].Name
	}
	return door{name, d.Kind, d.Via, d.V4, d.Service}
}

func byDoor(v *View, own flow.Addrs) map[door][]Entry {
	entries := map[door][]Entry{}
	for e := range v.ReachAll() {
		if e.From = e.From.Subtract(own); !e.From.IsEmpty() {
			key := keyOf(v.Plan, e.Door)
			entries[key] = append(entries[key], e)
		}
	}
	return entries
}

// order lists the doors of both views, those of the first in its order, then the rest.
func order(views ...*View) (list []door) {
	seen := map[door]bool{}
	for _, v := range views {
		for e := range v.ReachAll() {
			if key := keyOf(v.Plan, e.Door); !seen[key] {
				seen[key] = true
				list = append(list, key)
			}
		}
	}
	return list
}

// less returns the flows of e that are in none of the others, as entries.
func less(e Entry, others []Entry) []Entry {
	list := []Entry{e}
	for _, o := range others {
		var next []Entry
		for _, l := range list {
			shared := l.Services.Intersect(o.Services)
			if shared.IsEmpty() || !l.From.Overlaps(o.From) {
				next = append(next, l)
				continue
			}
			if services := l.Services.Subtract(shared); !services.IsEmpty() {
				next = append(next, with(l, services, l.From))
			}
			if from := l.From.Subtract(o.From); !from.IsEmpty() {
				next = append(next, with(l, shared, from))
			}
		}
		list = next
	}
	return list
}

func with(e Entry, services flow.Services, from flow.Addrs) Entry {
	e.Services, e.From = services, from
	return e
}

// moved returns the flows of e that others let in too, until another moment.
func moved(machine string, e Entry, others []Entry) (list []Change) {
	for _, o := range others {
		if o.Until.Equal(e.Until) {
			continue
		}
		services, from := e.Services.Intersect(o.Services), e.From.Intersect(o.From)
		if !services.IsEmpty() && !from.IsEmpty() {
			list = append(list, Change{Machine: machine, Entry: with(e, services, from), Before: o.Until})
		}
	}
	return list
}
