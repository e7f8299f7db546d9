package exposure

import (
	"net/netip"
	"slices"

	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
)

// Target is what a question is about: a machine, or exactly one destination.
type Target struct {
	Machine int32      // into Plan.Machines; -1 where another field is set
	Front   string     // a front by name
	Bastion string     // a gateway by name
	Address netip.Addr // an address
}

// IsMachine reports whether the target is a machine itself, and not a front, a gateway or an address that leads to one.
func (t Target) IsMachine() bool { return t.Machine >= 0 }

// Has reports whether a door leads to the target, or is one of it.
func (t Target) Has(d flow.Door) bool {
	switch {
	case t.Front != "":
		return d.Translated() && d.Via == t.Front
	case t.Bastion != "":
		return d.Kind == flow.DoorBastion && d.Via == t.Bastion
	case t.Address.IsValid():
		return d.Address == t.Address
	}
	return t.IsMachine() && d.Machine == t.Machine
}

// Part is a set of flows of a question that meet the same verdict for the same reason.
type Part struct {
	Target   Target
	Machine  int32         // where the flows lead; -1: nowhere, or to a gateway
	Door     flow.Door     // the zero Door where there is none
	Services flow.Services // as asked: arriving ones for a machine, called ones for a destination
	Arrives  flow.Services // arriving ones; empty where there is no door
	From     flow.Addrs
	Open     bool
	Cause
}

// Ask judges all flows from the given sources to the given services of the
// targets. The parts are disjoint and together the whole question.
func (v *View) Ask(services flow.Services, from flow.Addrs, targets ...Target) []Part {
	var list []Part
	for _, t := range targets {
		switch {
		case t.IsMachine():
			if services.Contains(flow.Console) {
				list = append(list, v.askConsole(t)...)
			}
			if network := services.Intersect(flow.AnyService); !network.IsEmpty() {
				list = append(list, v.askMachine(t, network, from)...)
			}
		default:
			list = append(list, v.askDoors(t, v.doorsAt(t), services, from)...)
		}
	}
	return list
}

// askMachine asks what arrives at a machine, by whichever door. Where several let the same
// flow in, the one is told that does so for longest.
func (v *View) askMachine(t Target, services flow.Services, from flow.Addrs) []Part {
	doors := v.Plan.DoorsTo(t.Machine)
	var cuts []flow.Service
	for _, d := range doors {
		if d.Translated() {
			cuts = append(cuts, d.Own.On)
		}
	}
	list := partList{target: t}
	add := func(s slice, p Part) { list.add(span.Of(s.services), p) }
	for _, s := range v.slices(t.Machine, services, from, cuts...) {
		rest := from
		arriving := slices.DeleteFunc(slices.Clone(doors), func(d flow.Door) bool { return !d.Arrives.Contains(s.services.Lo) })
		var open []Part // the longest-lasting first, whichever door it uses
		for _, d := range arriving {
			for _, p := range v.through(s, d, nil) {
				open = append(open, v.throughOthers(t, s, opened(d, p))...)
			}
		}
		slices.SortStableFunc(open, func(a, b Part) int { return compareEnds(b.Until, a.Until) })
		for _, p := range open {
			if p.From = p.From.Intersect(rest); !p.From.IsEmpty() {
				add(s, p)
				rest = rest.Subtract(p.From)
			}
		}
		for _, d := range arriving {
			for _, p := range v.closed(s, d, rest.Intersect(d.From)) {
				add(s, p)
			}
			rest = rest.Subtract(d.From)
		}
		if !rest.IsEmpty() {
			add(s, Part{Machine: -1, From: rest, Cause: Cause{Reason: NoDoor}})
		}
	}
	return list.parts()
}

// throughOthers looks for openings that begin before a door ends by whose own sources some flows pass, and let them in through other doors from
// then on. It returns the flows with their ends. Any other end is the same through each door.
func (v *View) throughOthers(t Target, s slice, p Part) []Part {
	if !v.ahead || p.Reason != ByDoor || p.Until.IsZero() {
		return []Part{p}
	}
	var list []Part
	rest := p.From
	for _, next := range NewViewOf(v.Plan, p.Until, t.Machine).askMachine(t, span.Of(s.services), p.From) {
		if next.Reason == ByOpening {
			q := p
			q.From, q.Until, q.Then = next.From, next.Until, append([]int64{next.Opening}, next.Then...)
			list, rest = append(list, q), rest.Subtract(next.From)
		}
	}
	if p.From = rest; !rest.IsEmpty() {
		list = append(list, p)
	}
	return list
}

func openSet(list []piece) (s flow.Addrs) {
	for _, p := range list {
		s = s.Union(p.from)
	}
	return s
}

func opened(d flow.Door, p piece) Part {
	return Part{Machine: d.Machine, Door: d, From: p.from, Open: true, Cause: p.decided(d)}
}

// closed tells why sources that use a door and are not let in stay out.
func (v *View) closed(s slice, d flow.Door, from flow.Addrs) (list []Part) {
	if from.IsEmpty() {
		return nil
	}
	for _, p := range within(s.denied(), from, nil) {
		list = append(list, Part{Machine: d.Machine, Door: d, From: p.from, Cause: Cause{Reason: Denied, Until: p.rule.Until, Origin: p.rule.Origin}})
	}
	if rest := from.Subtract(s.deny); !rest.IsEmpty() {
		reason := Default
		if s.guarded {
			reason = Administrative
		}
		list = append(list, Part{Machine: d.Machine, Door: d, From: rest, Cause: Cause{Reason: reason}})
	}
	return list
}

// DoorsOf lists the doors to a target.
func (v *View) DoorsOf(t Target) []flow.Door {
	if t.IsMachine() {
		return v.Plan.DoorsTo(t.Machine)
	}
	return v.doorsAt(t)
}

// doorsAt lists the doors whose destination is exactly the target.
func (v *View) doorsAt(t Target) (doors []flow.Door) {
	at := func(d flow.Door) bool {
		switch {
		case t.Front != "":
			return d.Translated() && d.Via == t.Front
		case t.Bastion != "":
			return d.Kind == flow.DoorBastion && d.Via == t.Bastion
		}
		return d.Address.IsValid() && d.Address == t.Address
	}
	for m := range v.Plan.Machines {
		for _, d := range v.Plan.DoorsTo(int32(m)) {
			if at(d) {
				doors = append(doors, d)
			}
		}
	}
	for _, d := range v.Plan.GatewayDoors() {
		if at(d) {
			doors = append(doors, d)
		}
	}
	return doors
}

// askDoors asks what passes a destination. Where a spread leads to several
// machines, each is a part of its own.
func (v *View) askDoors(t Target, doors []flow.Door, services flow.Services, from flow.Addrs) []Part {
	outward, from := v.askCalls(t, services, from)
	if from.IsEmpty() {
		return outward
	}
	list := partList{target: t, done: outward}
	uses := map[flow.Service]flow.Addrs{} // who finds a door at a called service
	var whole flow.Addrs                  // who finds a door at every service
	for _, d := range doors {
		called := d.Called().Intersect(services)
		if called.IsEmpty() {
			continue
		}
		if d.Translated() || d.Kind == flow.DoorBastion {
			uses[d.Service] = uses[d.Service].Union(d.From)
		} else {
			whole = whole.Union(d.From)
		}
		list.done = append(list.done, v.askDoor(t, d, called, from)...)
	}
	rest := services
	for s, found := range uses {
		rest = rest.Subtract(span.One(s))
		if left := from.Subtract(found).Subtract(whole); !left.IsEmpty() {
			list.add(span.One(s), Part{Machine: -1, From: left, Cause: Cause{Reason: NoDoor}})
		}
	}
	if left := from.Subtract(whole); !left.IsEmpty() && !rest.IsEmpty() {
		list.add(rest, Part{Machine: -1, From: left, Cause: Cause{Reason: NoDoor}})
	}
	return list.parts()
}

// Through judges flows to the services that clients call at one door of a machine.
func (v *View) Through(d flow.Door, called flow.Services, from flow.Addrs) []Part {
	return v.askDoor(Target{Machine: -1, Address: d.Address}, d, called.Intersect(d.Called()), from)
}

// askDoor asks what passes one door.
func (v *View) askDoor(t Target, d flow.Door, called flow.Services, from flow.Addrs) []Part {
	list := partList{target: t}
	from = from.Intersect(d.From)
	if d.Kind == flow.DoorBastion {
		if from.IsEmpty() {
			return nil
		}
		list.add(called, Part{Machine: -1, Door: d, From: from, Open: true, Cause: gatewayCause(d)})
		return list.parts()
	}
	arrives := called
	if d.Translated() {
		arrives = d.Arrives
	}
	for _, s := range v.slices(d.Machine, arrives, from) {
		asked := span.Of(s.services)
		if d.Translated() {
			asked = called
		}
		passing := within(v.through(s, d, nil), from, nil)
		for _, p := range passing {
			list.add(asked, opened(d, p))
		}
		for _, p := range v.closed(s, d, from.Subtract(openSet(passing))) {
			list.add(asked, p)
		}
	}
	return list.parts()
}

// Verdict sums parts up: "open" or "closed" where all agree, "some" otherwise. No
// parts at all are closed.
func Verdict(parts []Part) string {
	open := 0
	for _, p := range parts {
		if p.Open {
			open++
		}
	}
	switch {
	case open == 0:
		return "closed"
	case open == len(parts):
		return "open"
	}
	return "some"
}

// Passes reports whether a single flow from a source passes one of a machine's doors at an address, as called there. A service is the one
// that is called. In a view of calls (see [View.Calls]) the source is the address that is called, and the address the machine's own.
// Cost: that of the machine's doors.
func (v *View) Passes(m int32, at netip.Addr, called flow.Service, from netip.Addr) bool {
	source := span.One(flow.PointOf(from))
	for _, d := range v.Plan.DoorsTo(m) {
		if d.Address != at || !d.Called().Contains(called) {
			continue
		}
		for _, p := range v.askDoor(Target{Machine: m}, d, flow.ServicesAt(called), source) {
			if p.Open {
				return true
			}
		}
	}
	return false
}
