package exposure

import (
	"iter"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
)

// Reason says why a flow is open or closed. The zero Reason is invalid.
type Reason string

// The reasons, as answers name them.
const (
	NoDoor         Reason = "no-door"
	Denied         Reason = "deny"
	Administrative Reason = "administrative"
	Default        Reason = "default"
	ByOpening      Reason = "opening"
	ByRoute        Reason = "route"
	ByStanding     Reason = "standing"
	ByAllow        Reason = "allow"
	ByDoor         Reason = "door"
)

// Entry is a set of flows that are open: from these sources, through this door,
// arriving at these services, because of one sentence.
type Entry struct {
	Door           flow.Door
	Services       flow.Services // arriving
	From           flow.Addrs
	Administrative bool
	Reason         Reason
	Until          time.Time // zero: no end
	Opening        int64     // the opening's number, where Reason is ByOpening
	Origin         flow.Origin
}

var reasonOf = map[flow.RuleKind]Reason{
	flow.Opening: ByOpening, flow.Route: ByRoute, flow.Standing: ByStanding, flow.Allow: ByAllow,
}

// decided returns what a piece was decided by.
func (p piece) decided() (Reason, time.Time, flow.Origin, int64) {
	if p.own != nil {
		return ByDoor, p.own.Until, p.own.Origin, 0
	}
	return reasonOf[p.rule.Kind], p.rule.Until, p.rule.Origin, p.rule.Opening
}

// Reach lists what is open at machine m. Entries are disjoint in (source,
// arriving service, door) and together exactly what is open.
func (v *View) Reach(m int32) []Entry {
	list := make([]Entry, 0, 8)
	v.each(m, func(e Entry) bool {
		list = append(list, e)
		return true
	})
	return list
}

// each hands over what is open at machine m: what its class has, through its own doors.
func (v *View) each(m int32, yield func(Entry) bool) bool {
	c := v.classes[v.classOf[m]]
	c.once.Do(func() { c.reach = v.reach(c) })
	if len(c.reach) == 0 {
		return true
	}
	doors := v.Plan.DoorsTo(m)
	for _, s := range c.reach {
		e := s.entry
		e.Door = doors[s.door]
		if !yield(e) {
			return false
		}
	}
	return true
}

// reach computes what is open at a class of machines, door by door.
func (v *View) reach(c *class) (list []shared) {
	for i, d := range v.Plan.DoorsTo(c.first) {
		for _, s := range v.throughDoor(c.audience, d) {
			s.door = i
			list = append(list, s)
		}
	}
	return list
}

// throughDoor computes what an audience lets in through a door. Doors that
// translate nothing differ for it in nothing but who can use them, and machines
// of a network share that.
func (v *View) throughDoor(a *audience, d flow.Door) []shared {
	if d.Translated() || d.From.IsEmpty() {
		return v.entries(a, d)
	}
	key := &d.From.Runs()[0]
	a.mu.Lock()
	list, known := a.open[key]
	a.mu.Unlock()
	if known {
		return list
	}
	list = v.entries(a, d)
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.open == nil {
		a.open = map[*flow.Run][]shared{}
	}
	a.open[key] = list
	return list
}

// entries computes what an audience lets in through a door.
func (v *View) entries(a *audience, d flow.Door) (list []shared) {
	meetings, services := v.meetingsOf(a)
	same := map[sameness][]int{} // places in list of what differs in sources and services at most
	for k, s := range meetings {
		at := services[k]
		if d.Translated() {
			at = at.Intersect(d.Arrives)
		}
		if at.IsEmpty() {
			continue
		}
		for _, p := range v.through(s, d) {
			key := sameness{p.rule, p.own, s.guarded}
			if o := slices.IndexFunc(same[key], func(o int) bool { return list[o].entry.From.Equal(p.from) }); o >= 0 {
				e := &list[same[key][o]]
				e.runs = append(e.runs, at.Runs()...)
				continue
			}
			e := Entry{From: p.from, Administrative: s.guarded}
			e.Reason, e.Until, e.Origin, e.Opening = p.decided()
			same[key] = append(same[key], len(list))
			list = append(list, shared{entry: e, runs: slices.Clone(at.Runs())})
		}
	}
	for i := range list {
		list[i].entry.Services, list[i].runs = span.Of(list[i].runs...), nil
	}
	return list
}

// sameness is what entries of one door must share to be one entry, sources apart.
type sameness struct {
	rule    *flow.Rule
	own     *flow.Published
	guarded bool
}

// grouped joins slices that meet the same rules: one of each, and all their services.
func grouped(list []slice) (one []slice, services []flow.Services) {
	places := map[*meeting]int{}
	var runs [][]span.Run[flow.Service]
	for _, s := range list {
		i, known := places[s.meeting]
		if !known {
			i = len(one)
			places[s.meeting] = i
			one, runs = append(one, s), append(runs, nil)
		}
		runs[i] = append(runs[i], s.services)
	}
	services = make([]flow.Services, len(one))
	for i := range one {
		services[i] = span.Of(runs[i]...)
	}
	return one, services
}

// ReachAll lists what is open at every machine, by machine name, and then at the
// gateways themselves. Nothing is kept but what classes of machines share, so an
// estate of any size can be walked. The classes are computed on all processors.
func (v *View) ReachAll() iter.Seq[Entry] {
	return func(yield func(Entry) bool) {
		v.prepare()
		for m := range v.Plan.Machines {
			if !v.each(int32(m), yield) {
				return
			}
		}
		for e := range v.gatewayEntries() {
			if !yield(e) {
				return
			}
		}
	}
}

// gatewayEntries lists who can reach the gateways themselves.
func (v *View) gatewayEntries() iter.Seq[Entry] {
	return func(yield func(Entry) bool) {
		for _, d := range v.Plan.GatewayDoors() {
			if !d.From.IsEmpty() && !yield(Entry{
				Door: d, Services: d.Arrives, From: d.From, Administrative: true, Reason: ByDoor,
				Origin: flow.Origin{Sentence: "bastion " + d.Via},
			}) {
				return
			}
		}
	}
}

// prepare computes what is open at each class of machines.
func (v *View) prepare() {
	var wait sync.WaitGroup
	var next atomic.Int64
	for range runtime.GOMAXPROCS(0) {
		wait.Go(func() {
			for i := next.Add(1) - 1; i < int64(len(v.classes)); i = next.Add(1) - 1 {
				c := v.classes[i]
				c.once.Do(func() { c.reach = v.reach(c) })
			}
		})
	}
	wait.Wait()
}
