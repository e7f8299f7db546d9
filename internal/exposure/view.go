// Package exposure answers questions about a flow plan: who can reach what,
// through which door, until when and why.
//
// Everything is computed on sets. For one machine the line of services is cut
// where any rule that concerns the machine begins or ends; within such a slice
// all services meet the same rules, and the sources are cut into pieces, each with the
// sentence that decides it:
//
//	services  ──┬── tcp/1-21 ──┬─ tcp/22 ─┬── tcp/23-… ──
//	denied      │  192.0.2.0/24           │
//	passed      │  allow …     │ opening  │  allow …
//
// A door then lets in what of the passed pieces lies in its own From. The five
// questions are asked in the order of docs/language.md: door, deny,
// administrative, pass, default.
//
// Machines of which the same sentences speak, and which have the same doors, are
// one class: everything about them but their names and addresses is computed
// once. docs/architecture.md tells why that is right, and what was measured.
//
// The package is pure.
package exposure

import (
	"cmp"
	"encoding/binary"
	"iter"
	"slices"
	"sync"
	"time"

	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
)

// View is a plan at a moment, indexed for questions. It is safe for concurrent use.
type View struct {
	Plan    *flow.Plan
	At      time.Time
	ranked  []active // the longest-lasting first
	classes []*class
	classOf []int32 // by machine
	kinds   int     // how many rule classes there are
	ahead   bool    // openings begin later

	consoles map[int32][]*flow.Rule // by machine: the openings of its console

	callsOnce sync.Once
	calls     *View // of what machines call outside
}

// active is a rule that holds. A wide one is from everywhere that matters: no rule after it
// lets in or keeps out anything that it does not.
type active struct {
	*flow.Rule
	services flow.Services
	from     flow.Addrs // what of its sources matters
	wide     bool
	part     *lengthened // nil: it is a whole rule
}

// whole returns the rule, or that of which it is a part.
func (r *active) whole() *flow.Rule {
	if r.part != nil {
		return r.part.of
	}
	return r.Rule
}

// then returns the openings that take over when the rule ends, as long as a door is there; a zero end is none.
func (r *active) then(door time.Time) (list []int64) {
	if r.part == nil {
		return nil
	}
	for _, n := range r.part.then {
		if flow.Active(door, n.at) {
			list = append(list, n.opening)
		}
	}
	return list
}

// ruleClass is what machines share of which the same sentences speak.
type ruleClass struct {
	place int     // among the rule classes of its view; one that is left of another has none
	ranks []int32 // places in View.ranked of the rules that concern it, ascending

	once         sync.Once
	combinations []slice // one of those that meet the same rules
	services     []flow.Services

	mu   sync.Mutex
	open map[span.Memory[flow.Point]][]grant // by the From of a door that translates nothing
}

// class is what machines of one rule class share that have the same doors, too.
type class struct {
	*ruleClass
	place int   // among the classes of its view
	first int32 // one of its machines, whose doors stand for all

	once  sync.Once
	reach [][]grant // by door
}

// grant is what passes a door by one sentence, as all machines of a class have it.
type grant struct {
	piece
	services flow.Services // arriving
	guarded  bool
}

// entry tells what passes through a door of a machine.
func (l grant) entry(d flow.Door) Entry {
	e := Entry{Door: d, Services: l.services, From: l.from, Administrative: l.guarded}
	e.Cause = l.decided(d)
	return e
}

// NewView indexes a plan at a moment. Cost: the sum of the groups' sizes.
func NewView(p *flow.Plan, at time.Time) *View {
	return newView(p, at, func(yield func(int32) bool) {
		for m := range p.Machines {
			if !yield(int32(m)) {
				return
			}
		}
	})
}

// NewViewOf is [NewView] for questions about some machines alone. Whatever is asked of another machine panics. Cost: linear in the plan's
// rules and in the sizes of the groups that speak of those machines.
func NewViewOf(p *flow.Plan, at time.Time, machines ...int32) *View {
	return newView(p.About(machines...), at, slices.Values(slices.Compact(slices.Sorted(slices.Values(machines)))))
}

// newView indexes a plan for some machines.
func newView(p *flow.Plan, at time.Time, machines iter.Seq[int32]) *View {
	p = p.DoorsAt(at)
	v := &View{Plan: p, At: at, ranked: make([]active, 0, len(p.Rules)), classOf: make([]int32, len(p.Machines))}
	everywhere := p.Everywhere()
	v.addConsoles(p.Rules)
	list, parts := ranked(p.Rules, at)
	v.ahead = parts != nil
	for _, r := range list {
		v.ranked = append(v.ranked, active{Rule: r, services: r.Services, from: r.From, wide: r.From.ContainsAll(everywhere), part: parts[r]})
	}
	rules := map[*flow.Group][]int32{} // by group, the ranks of its rules
	var groups []*flow.Group
	for rank, r := range v.ranked {
		if rules[r.To] == nil {
			groups = append(groups, r.To)
		}
		rules[r.To] = append(rules[r.To], int32(rank))
	}
	memberOf := make([][]int32, len(p.Machines)) // by machine, the groups that it is in
	for g, group := range groups {
		for _, m := range group.Machines {
			memberOf[m] = append(memberOf[m], int32(g))
		}
	}
	for m := range v.classOf {
		v.classOf[m] = notAsked
	}
	v.classify(machines, memberOf, func(list []int32) (ranks []int32) {
		for _, g := range list {
			ranks = append(ranks, rules[groups[g]]...)
		}
		slices.Sort(ranks)
		return ranks
	})
	return v
}

// notAsked is the class of a machine about which a view answers nothing. It is none.
const notAsked = -1

// classify puts each machine into its class: machines with the same groups and
// the same shape of doors.
func (v *View) classify(machines iter.Seq[int32], memberOf [][]int32, ranksOf func(groups []int32) []int32) {
	ruleClasses, known := map[string]*ruleClass{}, map[string]int32{}
	var key []byte
	for m := range machines {
		key = key[:0]
		for _, g := range memberOf[m] {
			key = binary.AppendUvarint(key, uint64(g))
		}
		shared := ruleClasses[string(key)]
		if shared == nil {
			shared = &ruleClass{place: v.kinds, ranks: ranksOf(memberOf[m])}
			v.kinds++
			ruleClasses[string(key)] = shared
		}
		key = v.Plan.AppendDoorShape(append(key, 0), m)
		for _, r := range v.consoles[m] {
			key = binary.AppendUvarint(append(key, 'c'), uint64(r.Opening))
		}
		c, ok := known[string(key)]
		if !ok {
			c = int32(len(v.classes))
			known[string(key)] = c
			v.classes = append(v.classes, &class{ruleClass: shared, place: int(c), first: m})
		}
		v.classOf[m] = c
	}
}

// rulesOf lists the rules that concern a rule class, the longest-lasting first.
func (v *View) rulesOf(a *ruleClass) []*active {
	list := make([]*active, len(a.ranks))
	for i, r := range a.ranks {
		list[i] = &v.ranked[r]
	}
	return list
}

// combinationsOf computes, once, what all services meet at a rule class.
func (v *View) combinationsOf(a *ruleClass) ([]slice, []flow.Services) {
	a.once.Do(func() { a.combinations, a.services = grouped(v.slicesFor(a, flow.AnyService)) })
	return a.combinations, a.services
}

// ranked lists the rules that hold at a moment, so that the first that matches tells the true end: what
// never ends first, then the latest end, then by kind and by place in the plan. Most rules never end, and are not compared. Rules that others keep open after their end
// are cut into parts (see [lengthen]).
func ranked(rules []flow.Rule, at time.Time) (list []*flow.Rule, parts map[*flow.Rule]*lengthened) {
	var endless [flow.Allow + 1][]*flow.Rule // by kind
	var ending []*flow.Rule
	for i := range rules {
		switch r := &rules[i]; {
		case !r.Active(at) || r.OpensConsole():
		case r.Until.IsZero():
			endless[r.Kind] = append(endless[r.Kind], r)
		default:
			ending = append(ending, r)
		}
	}
	ending, parts = lengthen(ending, rules, at)
	slices.SortStableFunc(ending, func(a, b *flow.Rule) int { return cmp.Or(lasting(a.Until, b.Until), cmp.Compare(a.Kind, b.Kind)) })
	return append(slices.Concat(endless[:]...), ending...), parts
}

func lasting(a, b time.Time) int {
	switch {
	case a.Equal(b):
		return 0
	case a.IsZero():
		return -1
	case b.IsZero():
		return 1
	}
	return b.Compare(a)
}

// piece is a set of sources and what decided it: a rule, or a door's own from.
type piece struct {
	from flow.Addrs
	rule *active
	own  *flow.Published
}

// slice is a run of services that meet the same rules at one machine.
type slice struct {
	services span.Run[flow.Service]
	*ruleCombination
}

// slices cuts the services asked about at machine m, for some sources: rules that
// concern neither are left out before anything is computed. cuts are further
// services that must stand alone.
func (v *View) slices(m int32, asked flow.Services, from flow.Addrs, cuts ...flow.Service) []slice {
	return v.slicesFor(v.restricted(v.classes[v.classOf[m]].ruleClass, asked, from), asked, cuts...)
}

// restricted is a rule class as if the rules for other services or sources were not.
func (v *View) restricted(a *ruleClass, asked flow.Services, from flow.Addrs) *ruleClass {
	few := &ruleClass{}
	for _, r := range a.ranks {
		if rule := v.ranked[r]; rule.Services.Overlaps(asked) && rule.from.Overlaps(from) {
			few.ranks = append(few.ranks, r)
		}
	}
	return few
}

func (v *View) slicesFor(a *ruleClass, asked flow.Services, cuts ...flow.Service) []slice {
	rules := v.rulesOf(a)
	edges := make([]flow.Service, 0, 2*len(rules)+2*len(cuts))
	edge := func(s flow.Services) {
		for _, r := range s.Runs() {
			edges = append(edges, r.Lo, r.Hi+1)
		}
	}
	edge(v.Plan.AdminServices)
	for _, r := range rules {
		edge(r.Services)
	}
	for _, c := range cuts {
		edges = append(edges, c, c+1)
	}
	slices.Sort(edges)
	return v.meet(rules, cut(asked, slices.Compact(edges)))
}

// cut divides the asked services at each edge, where a new slice begins.
func cut(asked flow.Services, edges []flow.Service) (runs []span.Run[flow.Service]) {
	for _, r := range asked.Runs() {
		lo := r.Lo
		i, _ := slices.BinarySearch(edges, lo+1)
		for ; i < len(edges) && edges[i] <= r.Hi; i++ {
			runs = append(runs, span.Run[flow.Service]{Lo: lo, Hi: edges[i] - 1})
			lo = edges[i]
		}
		runs = append(runs, span.Run[flow.Service]{Lo: lo, Hi: r.Hi})
	}
	return runs
}

// meet finds which rules each run of services meets, and computes what they come
// to once for all runs that meet the same.
func (v *View) meet(rules []*active, runs []span.Run[flow.Service]) []slice {
	c := newEvaluator(rules)
	count := make([]int, len(runs)+1)
	c.eachMet(runs, func(_, run int) { count[run+1] += 4 })
	for i := range runs {
		count[i+1] += count[i]
	}
	all := make([]byte, count[len(runs)]) // for each run, the places of the rules that it meets
	end := slices.Clone(count)
	c.eachMet(runs, func(rule, run int) {
		binary.BigEndian.PutUint32(all[end[run]:], uint32(rule))
		end[run] += 4
	})
	list := make([]slice, len(runs))
	for i, run := range runs {
		guarded := v.Plan.AdminServices.Contains(run.Lo)
		list[i] = slice{services: run, ruleCombination: c.evaluate(all[count[i]:count[i+1]], guarded)}
	}
	return list
}

// passed cuts the sources that rules let in into pieces, each with the rule that
// lets it in the longest. own, if there is one, competes with them. It serves for
// denies too, which keep out instead. taken is room to work in.
func passed(taken *span.Builder[flow.Point], rules []*active, own *flow.Published, ownFrom, deny flow.Addrs) []piece {
	var list []piece
	taken.Reset(deny)
	take := func(p piece) {
		if from := taken.Rest(p.from); !from.IsEmpty() {
			p.from = from
			list = append(list, p)
			taken.Add(from)
		}
	}
	for _, r := range rules {
		if own != nil && lasting(own.Until, r.Until) < 0 {
			take(piece{from: ownFrom, own: own})
			own = nil
		}
		take(piece{from: r.from, rule: r})
		if r.wide {
			return list
		}
	}
	if own != nil {
		take(piece{from: ownFrom, own: own})
	}
	return list
}

// through returns the pieces of a slice that pass through a door, own from
// included. They are appended to room, which may be nil.
func (v *View) through(s slice, d flow.Door, room []piece) []piece {
	list := s.passed[d.Family]
	if own, ok := d.OwnPass(v.Plan.AdminServices, v.At); ok {
		list = passed(&span.Builder[flow.Point]{}, s.letting(), d.Own, own, s.deny)
	}
	return within(list, d.From, room)
}

// byFamily cuts pieces into those of each family: a door is of one.
func byFamily(list []piece) (out [2][]piece) {
	for _, p := range list {
		for i, from := range flow.ByFamily(p.from) {
			if !from.IsEmpty() {
				out[i] = append(out[i], piece{from: from, rule: p.rule, own: p.own})
			}
		}
	}
	return out
}

// within cuts pieces down to the sources in from, and appends them to out.
func within(list []piece, from flow.Addrs, out []piece) []piece {
	for _, p := range list {
		if p.from = p.from.Intersect(from); !p.from.IsEmpty() {
			out = append(out, p)
		}
	}
	return out
}
