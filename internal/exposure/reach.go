package exposure

import (
	"iter"
	"slices"
	"time"

	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
	"ironbark/internal/parallel"
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
	Cause
}

// Cause is why flows are open, or closed.
type Cause struct {
	Reason  Reason
	Until   time.Time // when open flows are closed, by all that is installed; of closed ones the end of what keeps them out. Zero: no end
	Opening int64     // the opening's number, where Reason is ByOpening
	Then    []int64   // openings that keep the flows open after that, in the order in which they take over
	Origin  flow.Origin
}

// Same reports whether two causes are one: the same sentence or opening, until the same time.
func (c Cause) Same(o Cause) bool {
	return c.Reason == o.Reason && c.Origin == o.Origin && c.Opening == o.Opening && c.Until.Equal(o.Until) && slices.Equal(c.Then, o.Then)
}

var reasonOf = map[flow.RuleKind]Reason{
	flow.Opening: ByOpening, flow.Route: ByRoute, flow.Standing: ByStanding, flow.Allow: ByAllow,
}

// decided returns what a piece was decided by, where it passes a door.
func (p piece) decided(d flow.Door) (c Cause) {
	if p.own != nil {
		c = Cause{Reason: ByDoor, Until: p.own.Until, Origin: p.own.Origin}
	} else {
		c = Cause{Reason: reasonOf[p.rule.Kind], Until: p.rule.Until, Opening: p.rule.Opening, Then: p.rule.then(d.End()), Origin: p.rule.Origin}
	}
	c.Until = flow.Earlier(c.Until, d.End())
	return c
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
	v.reach(c)
	if len(c.reach) > 0 {
		for i, d := range v.Plan.DoorsTo(m) {
			for _, l := range c.reach[i] {
				if !yield(l.entry(d)) {
					return false
				}
			}
		}
	}
	for _, e := range v.Consoles(m) {
		if !yield(e) {
			return false
		}
	}
	return true
}

// reach computes, once, what is open at a class of machines, door by door.
func (v *View) reach(c *class) {
	c.once.Do(func() {
		any := false
		doors := v.Plan.DoorsTo(c.first)
		list := make([][]grant, len(doors))
		for i, d := range doors {
			list[i] = v.throughDoor(c.ruleClass, d)
			any = any || list[i] != nil
		}
		if any {
			c.reach = list
		}
	})
}

// throughDoor computes what a rule class lets in through a door. Doors that
// translate nothing differ for it in nothing but who can use them, and machines
// of a network share that.
func (v *View) throughDoor(a *ruleClass, d flow.Door) []grant {
	if d.Translated() || d.From.IsEmpty() {
		return v.grantsOf(a, d)
	}
	key := d.From.Memory()
	a.mu.Lock()
	list, known := a.open[key]
	a.mu.Unlock()
	if known {
		return list
	}
	list = v.grantsOf(a, d)
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.open == nil {
		a.open = map[span.Memory[flow.Point]][]grant{}
	}
	a.open[key] = list
	return list
}

// grantsOf computes what a rule class lets in through a door. What several combinations
// let in from the same sources by the same sentence is one.
func (v *View) grantsOf(a *ruleClass, d flow.Door) (list []grant) {
	combinations, services := v.combinationsOf(a)
	list = make([]grant, 0, len(combinations))
	last := make(map[sameness]int, len(combinations)) // the latest in list that is the same in all but sources and services, from 1
	var before []int                                  // for each in list, the one before it that last has forgotten, from 1
	var more [][]span.Run[flow.Service]               // the services of further combinations, for each in list
	var room []piece
	for k, s := range combinations {
		at := services[k]
		if d.Translated() {
			at = at.Intersect(d.Arrives)
		}
		if at.IsEmpty() {
			continue
		}
		room = v.through(s, d, room[:0])
		for _, p := range room {
			key := sameness{p.rule, p.own, s.guarded}
			i := last[key]
			for i > 0 && !list[i-1].from.Equal(p.from) {
				i = before[i-1]
			}
			if i > 0 {
				more[i-1] = append(more[i-1], at.Runs()...)
				continue
			}
			list = append(list, grant{piece: p, services: at, guarded: s.guarded})
			before, more = append(before, last[key]), append(more, nil)
			last[key] = len(list)
		}
	}
	for i, runs := range more {
		if runs != nil {
			list[i].services = span.Of(append(runs, list[i].services.Runs()...)...)
		}
	}
	return list
}

// sameness is what entries of one door must share to be one entry, sources apart.
type sameness struct {
	rule    *active
	own     *flow.Published
	guarded bool
}

// grouped joins slices that meet the same rules: one of each, and all their services.
func grouped(list []slice) (one []slice, services []flow.Services) {
	places := map[*ruleCombination]int{}
	var runs [][]span.Run[flow.Service]
	for _, s := range list {
		i, known := places[s.ruleCombination]
		if !known {
			i = len(one)
			places[s.ruleCombination] = i
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
// gateways themselves. Some machines are looked at at a time, on all processors, and what was worked out for them is let go of,
// so an estate of any size can be walked in the memory that its plan takes. Cost: a class of machines is computed once for each [walked] machines among which it is.
func (v *View) ReachAll() iter.Seq[Entry] {
	return func(yield func(Entry) bool) {
		for from := 0; from < len(v.Plan.Machines); from += walked {
			to := min(from+walked, len(v.Plan.Machines))
			some := v.only(from, to)
			some.Prepare()
			for m := from; m < to; m++ {
				if !some.each(int32(m), yield) {
					return
				}
			}
		}
		for e := range v.GatewayReach() {
			if !yield(e) {
				return
			}
		}
	}
}

// walked is how many machines are looked at at a time where all are.
const walked = 256

// only returns a view of the machines from one place to before another, which has worked out nothing yet. Other machines have no class in it.
func (v *View) only(from, to int) *View {
	w := &View{Plan: v.Plan, At: v.At, ranked: v.ranked, classOf: make([]int32, len(v.classOf)), consoles: v.consoles}
	ruleClasses, places := map[*ruleClass]*ruleClass{}, map[int32]int32{}
	for m := range w.classOf {
		w.classOf[m] = notAsked
	}
	for m := from; m < to; m++ {
		of := v.classOf[m]
		place, known := places[of]
		if !known {
			c := v.classes[of]
			if ruleClasses[c.ruleClass] == nil {
				ruleClasses[c.ruleClass] = &ruleClass{place: w.kinds, ranks: c.ranks}
				w.kinds++
			}
			place = int32(len(w.classes))
			places[of] = place
			w.classes = append(w.classes, &class{ruleClass: ruleClasses[c.ruleClass], place: int(place), first: c.first})
		}
		w.classOf[m] = place
	}
	return w
}

// gatewayCause is why a gateway is open.
func gatewayCause(d flow.Door) Cause {
	return Cause{Reason: ByDoor, Origin: flow.Origin{Sentence: "bastion " + d.Via}}
}

// GatewayReach lists who can reach the gateways themselves.
func (v *View) GatewayReach() iter.Seq[Entry] {
	return func(yield func(Entry) bool) {
		for _, d := range v.Plan.GatewayDoors() {
			if !d.From.IsEmpty() && !yield(Entry{
				Door: d, Services: d.Arrives, From: d.From, Administrative: true, Cause: gatewayCause(d),
			}) {
				return
			}
		}
	}
}

// Alike returns the number of a machine's class: to machines with the same number the same is open, through doors that
// differ in nothing but their addresses.
func (v *View) Alike(m int32) int32 { return v.classOf[m] }

// Prepare computes what is open at each class of machines, on all processors. Whoever asks for what is open at many of them
// does so sooner then.
func (v *View) Prepare() {
	parallel.Each(len(v.classes), func(i int) { v.reach(v.classes[i]) })
}
