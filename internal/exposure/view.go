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
// The package is pure. The cost of one machine is its rules × its slices; see
// docs/architecture.md for figures.
package exposure

import (
	"cmp"
	"slices"
	"time"

	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
)

// View is a plan at a moment, indexed for questions. It is safe for concurrent use.
type View struct {
	Plan  *flow.Plan
	At    time.Time
	rules [][]*flow.Rule // by machine: active ones, the longest-lasting first
}

// NewView indexes a plan at a moment. Cost: the sum of the groups' sizes.
func NewView(p *flow.Plan, at time.Time) *View {
	v := &View{Plan: p, At: at, rules: make([][]*flow.Rule, len(p.Machines))}
	active := make([]*flow.Rule, 0, len(p.Rules))
	for i := range p.Rules {
		if flow.Active(p.Rules[i].Until, at) {
			active = append(active, &p.Rules[i])
		}
	}
	slices.SortStableFunc(active, byLasting)
	for _, r := range active {
		for _, m := range r.To.Machines {
			v.rules[m] = append(v.rules[m], r)
		}
	}
	return v
}

// byLasting orders rules so that the first that matches tells the true end: what
// never ends first, then the latest end, then by kind and place.
func byLasting(a, b *flow.Rule) int {
	return cmp.Or(lasting(a.Until, b.Until), cmp.Compare(a.Kind, b.Kind), a.Origin.Compare(b.Origin), cmp.Compare(a.Opening, b.Opening))
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
	rule *flow.Rule
	own  *flow.Published
}

// slice is a run of services that meet the same rules at one machine.
type slice struct {
	services span.Run[flow.Service]
	guarded  bool
	denied   []piece
	passed   []piece // disjoint, less what is denied
	deny     flow.Addrs
	rules    []*flow.Rule // those that pass here, longest-lasting first
}

// slices cuts the services asked about at machine m. cuts are further services
// that must stand alone.
func (v *View) slices(m int32, asked flow.Services, cuts ...flow.Service) []slice {
	var list []slice
	rules := v.rules[m]
	for _, run := range v.cut(rules, asked, cuts) {
		list = append(list, v.slice(rules, run))
	}
	return list
}

// cut divides the asked services at every beginning and end of a rule's services.
func (v *View) cut(rules []*flow.Rule, asked flow.Services, cuts []flow.Service) []span.Run[flow.Service] {
	var starts []flow.Service // where a new slice begins
	edges := func(s flow.Services) {
		for _, r := range s.Runs() {
			starts = append(starts, r.Lo, r.Hi+1)
		}
	}
	edges(v.Plan.Guard)
	for _, r := range rules {
		edges(r.Services)
	}
	for _, c := range cuts {
		starts = append(starts, c, c+1)
	}
	slices.Sort(starts)
	starts = slices.Compact(starts)
	var runs []span.Run[flow.Service]
	for _, r := range asked.Runs() {
		lo := r.Lo
		i, _ := slices.BinarySearch(starts, lo+1)
		for ; i < len(starts) && starts[i] <= r.Hi; i++ {
			runs = append(runs, span.Run[flow.Service]{Lo: lo, Hi: starts[i] - 1})
			lo = starts[i]
		}
		runs = append(runs, span.Run[flow.Service]{Lo: lo, Hi: r.Hi})
	}
	return runs
}

func (v *View) slice(rules []*flow.Rule, run span.Run[flow.Service]) slice {
	s := slice{services: run, guarded: v.Plan.Guard.Contains(run.Lo)}
	for _, r := range rules {
		if !r.Services.Contains(run.Lo) {
			continue
		}
		switch {
		case r.Kind == flow.Deny:
			if from := r.From.Subtract(s.deny); !from.IsEmpty() {
				s.denied = append(s.denied, piece{from: from, rule: r})
				s.deny = s.deny.Union(from)
			}
		case r.Kind == flow.Allow && s.guarded:
		default:
			s.rules = append(s.rules, r)
		}
	}
	s.passed = passed(s.rules, nil, flow.Addrs{}, s.deny)
	return s
}

// passed cuts the sources that rules let in into pieces, each with the rule that
// lets it in the longest. own, if there is one, competes with them.
func passed(rules []*flow.Rule, own *flow.Published, ownFrom, deny flow.Addrs) []piece {
	var list []piece
	taken := deny
	take := func(p piece) {
		if from := p.from.Subtract(taken); !from.IsEmpty() {
			p.from = from
			list = append(list, p)
			taken = taken.Union(from)
		}
	}
	for _, r := range rules {
		if own != nil && lasting(own.Until, r.Until) < 0 {
			take(piece{from: ownFrom, own: own})
			own = nil
		}
		take(piece{from: r.From, rule: r})
	}
	if own != nil {
		take(piece{from: ownFrom, own: own})
	}
	return list
}

// through returns the pieces of a slice that pass through a door, own from included.
func (v *View) through(s slice, d flow.Door) []piece {
	list := s.passed
	if own, ok := d.OwnPass(v.Plan.Guard, v.At); ok {
		list = passed(s.rules, d.Own, own, s.deny)
	}
	return within(list, d.From)
}

// within cuts pieces down to the sources in from.
func within(list []piece, from flow.Addrs) []piece {
	out := make([]piece, 0, len(list))
	for _, p := range list {
		if p.from = p.from.Intersect(from); !p.from.IsEmpty() {
			out = append(out, p)
		}
	}
	return out
}
