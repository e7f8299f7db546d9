package exposure

import (
	"slices"
	"time"

	"ironbark/internal/flow"
)

// Difference is what is open in one of two views and not in the other. A flow is a source,
// a machine and a service that arrives there, through whichever door.
type Difference struct {
	Opened Changes // open after, not before
	Closed Changes // open before, not after
	Moved  Changes // open in both, until another moment: Before is the earlier view's end
	Gained Changes // open in both for as long, after through this door too
	Lost   Changes // open in both for as long, after not through this door any more
}

// IsEmpty reports whether the views are open to the same flows until the same moments,
// through the same doors.
func (d Difference) IsEmpty() bool {
	return d.Opened.IsEmpty() && d.Closed.IsEmpty() && d.Moved.IsEmpty() && d.Gained.IsEmpty() && d.Lost.IsEmpty()
}

// Compare finds the difference from view a to view b. Addresses that are public
// ones of the estate on either side are no sources and are left out on both.
//
// Rules that stand in the same order on both sides are told by their number in it, others and doors by digests of what they come to, not
// of their words. Machines about which nothing differs are passed over; for the others
// only the services and sources of the rules that differ are looked at, once for
// all machines of a pair of classes.
func Compare(a, b *View) Difference {
	own := a.Plan.Own().Union(b.Plan.Own())
	c := &comparison{own: own, pairs: map[[2]int32]*pair{}, alone: map[*class]*part{}}
	c.a, c.b = newSides(a, b, own)
	c.everything = !a.Plan.AdminServices.Equal(b.Plan.AdminServices)
	olds, gone := paired(a.Plan, b.Plan)
	c.prepare(olds)
	both := len(a.Plan.Machines) - len(gone)
	b.prepareFor(both)
	a.prepareFor(both)
	var d Difference
	for m, old := range olds {
		if old != noMachine {
			c.both(&d, old, int32(m))
		} else {
			d.Opened.add(b.Plan.Machines[m].Name, b, int32(m), c.all(b, int32(m)))
		}
	}
	for _, m := range gone {
		d.Closed.add(a.Plan.Machines[m].Name, a, m, c.all(a, m))
	}
	d.consoles(a, b)
	c.gateways(&d)
	return d
}

// noMachine stands where another plan has no machine of that name.
const noMachine = -1

// paired tells for each machine of b which one of a has its name, and which of a has no counterpart. Most stand at the same place.
func paired(a, b *flow.Plan) (olds, gone []int32) {
	olds = make([]int32, len(b.Machines))
	met := make([]bool, len(a.Machines))
	for m := range b.Machines {
		name, old := b.Machines[m].Name, int32(m)
		if m >= len(a.Machines) || a.Machines[m].Name != name {
			var there bool
			if old, there = a.MachineByName(name); !there {
				olds[m] = noMachine
				continue
			}
		}
		olds[m], met[old] = old, true
	}
	for m, there := range met {
		if !there {
			gone = append(gone, int32(m))
		}
	}
	return olds, gone
}

// prepareFor prepares a view of which another has not even half of the machines, but so many: what is open at the others is all different.
func (v *View) prepareFor(both int) {
	if both < len(v.Plan.Machines)/2 {
		v.Prepare()
	}
}

// comparison is two views side by side.
type comparison struct {
	a, b       *side
	own        flow.Addrs
	everything bool // what counts as administrative differs
	pairs      map[[2]int32]*pair
	alone      map[*class]*part // what is open at classes of machines that only one view has
}

// shared is an entry of all machines of a class; its door is the one at a place in
// the list of the machine's own doors.
type shared struct {
	entry Entry
	door  int
}

// shared returns what passes a door, at a place in the list of doors.
func (l grant) shared(d flow.Door, place int) shared {
	e := l.entry(d)
	e.Door = flow.Door{}
	return shared{e, place}
}

// pair is what differs between a class of one view and one of the other. What closed or
// was lost is told by doors of the earlier view, all else by those of the later one.
type pair struct {
	opened, closed, gained, lost, moved part
}

// both tells what differs at a machine that is in both views.
func (c *comparison) both(d *Difference, old, now int32) {
	p := c.pairs[[2]int32{c.a.v.classOf[old], c.b.v.classOf[now]}]
	if p == nil {
		return
	}
	name := c.b.v.Plan.Machines[now].Name
	d.Opened.add(name, c.b.v, now, &p.opened)
	d.Closed.add(name, c.a.v, old, &p.closed)
	d.Gained.add(name, c.b.v, now, &p.gained)
	d.Lost.add(name, c.a.v, old, &p.lost)
	d.Moved.add(name, c.b.v, now, &p.moved)
}

// elsewhere divides flows that one side does not have through a door into those that it
// has through no door at all, and those that it has through another for as long at least.
// Of flows that it has through others for less long, moved is told, with both sides.
func elsewhere(list, others []shared, moved func(here, there shared)) (none, other []shared) {
	others = slices.Clone(others)
	slices.SortStableFunc(others, func(a, b shared) int { return compareEnds(b.entry.Until, a.entry.Until) })
	for _, s := range list {
		left := []Entry{s.entry}
		for _, o := range others {
			var next []Entry
			for _, l := range left {
				services, from := l.Services.Intersect(o.entry.Services), l.From.Intersect(o.entry.From)
				if services.IsEmpty() || from.IsEmpty() {
					next = append(next, l)
					continue
				}
				here := shared{entry: with(l, services, from), door: s.door}
				if compareEnds(o.entry.Until, s.entry.Until) >= 0 {
					other = append(other, here)
				} else {
					moved(here, shared{entry: with(o.entry, services, from), door: o.door})
				}
				next = append(next, less(l, []Entry{here.entry})...)
			}
			left = next
		}
		for _, e := range left {
			none = append(none, shared{entry: e, door: s.door})
		}
	}
	return none, other
}

// compareEnds orders ends; the zero Time, which is no end, is the last.
func compareEnds(a, b time.Time) int {
	switch {
	case a.IsZero() && b.IsZero():
		return 0
	case a.IsZero():
		return 1
	case b.IsZero():
		return -1
	}
	return a.Compare(b)
}

// all lists what is open at a machine that only one view has.
func (c *comparison) all(v *View, m int32) *part {
	class := v.classes[v.classOf[m]]
	if p := c.alone[class]; p != nil {
		return p
	}
	v.reach(class)
	doors := v.Plan.DoorsTo(class.first)
	n := 0
	for _, in := range class.reach {
		n += len(in)
	}
	list := make([]shared, 0, n)
	for door, in := range class.reach {
		for _, l := range in {
			list = append(list, l.shared(doors[door], door))
		}
	}
	p := &part{list: outside(c.own, list)}
	c.alone[class] = p
	return p
}

// outside leaves addresses out of the sources of entries. The result takes the place of the list.
func outside(own flow.Addrs, list []shared) []shared {
	out := list[:0]
	for _, s := range list {
		if s.entry.From = s.entry.From.Subtract(own); !s.entry.From.IsEmpty() {
			out = append(out, s)
		}
	}
	return out
}

// against returns the flows of one list that are not in the other, and those that
// are and have another end there.
func (c *comparison) against(v *side, x *class, list []shared, w *side, y *class, others []shared) (rest, moved []shared, ends []time.Time) {
	mine, theirs := v.doorsOf[x.place], w.doorsOf[y.place]
	for _, s := range list {
		var through, very []Entry // all doors of a sort, and the very one
		for _, o := range others {
			if sameDoor(mine[s.door], theirs[o.door]) {
				through = append(through, o.entry)
				if ordinal(mine, s.door) == ordinal(theirs, o.door) {
					very = append(very, o.entry)
				}
			}
		}
		for _, e := range less(s.entry, through) {
			rest = append(rest, shared{entry: e, door: s.door})
		}
		for _, m := range movedEnds(s.entry, very) {
			moved = append(moved, shared{entry: m.Entry, door: s.door})
			ends = append(ends, m.Before)
		}
	}
	return rest, moved, ends
}

// ordinal tells how many doors of the same sort stand before one: those to the further
// interfaces of a machine.
func ordinal(doors []flow.Door, i int) (n int) {
	for _, d := range doors[:i] {
		if sameDoor(d, doors[i]) {
			n++
		}
	}
	return n
}

// sameDoor reports whether two doors are the same one; the address may differ.
func sameDoor(a, b flow.Door) bool {
	return a.Kind == b.Kind && a.Via == b.Via && a.Family == b.Family && a.Service == b.Service
}

// gateways compares who can reach the gateways themselves.
func (c *comparison) gateways(d *Difference) {
	open := func(v *View) (list []Entry) {
		for e := range v.GatewayReach() {
			if e.From = e.From.Subtract(c.own); !e.From.IsEmpty() {
				list = append(list, e)
			}
		}
		return list
	}
	before, after := open(c.a.v), open(c.b.v)
	tell := func(list, others []Entry, put func(Change)) {
		for _, e := range list {
			var same []Entry
			for _, o := range others {
				if sameDoor(e.Door, o.Door) {
					same = append(same, o)
				}
			}
			for _, rest := range less(e, same) {
				put(Change{Entry: rest})
			}
		}
	}
	tell(after, before, d.Opened.addWhole)
	tell(before, after, d.Closed.addWhole)
}

// less returns the flows of e that are in none of the others, as entries.
func less(e Entry, others []Entry) (list []Entry) {
	var taken []flow.Box
	for _, o := range others {
		taken = append(taken, flow.Box{Services: o.Services, From: o.From})
	}
	for _, b := range (flow.Box{Services: e.Services, From: e.From}).Less(taken) {
		list = append(list, with(e, b.Services, b.From))
	}
	return list
}

func with(e Entry, services flow.Services, from flow.Addrs) Entry {
	e.Services, e.From = services, from
	return e
}

// movedEnds returns the flows of e that others let in too, until another moment.
func movedEnds(e Entry, others []Entry) (list []Change) {
	for _, o := range others {
		if o.Until.Equal(e.Until) {
			continue
		}
		services, from := e.Services.Intersect(o.Services), e.From.Intersect(o.From)
		if !services.IsEmpty() && !from.IsEmpty() {
			list = append(list, Change{Entry: with(e, services, from), Before: o.Until})
		}
	}
	return list
}
