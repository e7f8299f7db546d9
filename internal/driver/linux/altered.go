package linux

import (
	"net/netip"
	"slices"

	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
)

// This file puts what was found in a packet filter that somebody else wrote to into a plan.

// everythingOpen is a plan in which everything is open.
func everythingOpen(plan *flow.Plan) *flow.Plan {
	all := &flow.Group{}
	for i := range plan.Machines {
		all.Machines = append(all.Machines, int32(i))
	}
	out := plan.With(flow.Rule{Kind: flow.Standing, From: plan.Everywhere(), To: all, Services: flow.AnyService, Origin: flow.Origin{Sentence: altered}})
	out.Rules = slices.DeleteFunc(out.Rules, func(r flow.Rule) bool { return r.Kind == flow.Deny })
	return out.WithCalls([]flow.Rule{{Kind: flow.Allow, From: plan.Callable(), To: all, Services: flow.AnyService, Origin: flow.Origin{Sentence: altered}}})
}

// apply puts what was found into a plan: what was put in by hand passes like a standing
// exception, and denies are those that the kernel has.
func (r *reading) apply(plan *flow.Plan, t *Table) *flow.Plan {
	byAddr := map[netip.Addr]int32{}
	for i := range plan.Machines {
		for _, run := range plan.AddrsOf(int32(i)).Runs() {
			for a := run.Lo.Addr(); a.IsValid() && a.Compare(run.Hi.Addr()) <= 0; a = a.Next() {
				byAddr[a] = int32(i)
			}
		}
	}
	members := map[uint32]*flow.Group{}
	for _, one := range t.Audience {
		g := members[one.Class]
		if g == nil {
			g = &flow.Group{}
			members[one.Class] = g
		}
		if i, ok := byAddr[one.Addr]; ok && !slices.Contains(g.Machines, i) {
			g.Machines = append(g.Machines, i)
			slices.Sort(g.Machines)
		}
	}
	rule := func(kind flow.RuleKind, b Box, to *flow.Group, sentence string) flow.Rule {
		x := flow.Rule{Kind: kind, From: span.Of(b.Source), To: to, Services: span.Of(b.Services), Origin: flow.Origin{Sentence: sentence}}
		if b.Begin > 0 {
			x.Begin = moment(b.Begin)
		}
		if b.End != forever {
			x.Until = moment(b.End + 1)
		}
		return x
	}
	sources := map[uint32][]Piece{}
	for _, p := range t.Who {
		sources[p.Profile] = append(sources[p.Profile], p)
	}
	of := func(e Entry) (boxes []Box) {
		for _, p := range sources[e.Profile] {
			boxes = append(boxes, Box{Class: p.Audience, Services: e.Services, Source: p.Source, End: forever})
		}
		return boxes
	}
	for _, e := range r.passes {
		r.pass = append(r.pass, of(e)...)
	}
	for _, e := range r.denies {
		r.deny = append(r.deny, of(e)...)
	}
	var rules []flow.Rule
	for _, b := range r.pass {
		if g := members[b.Class]; g != nil {
			rules = append(rules, rule(flow.Standing, b, g, added))
		}
	}
	for _, one := range r.machines {
		if i, ok := plan.MachineByName(one.name); ok {
			rules = append(rules, rule(flow.Standing, one.box, &flow.Group{Machines: []int32{i}}, added))
		}
	}
	out := plan.With(rules...)
	if !r.denied {
		return out
	}
	out.Rules = slices.DeleteFunc(out.Rules, func(x flow.Rule) bool { return x.Kind == flow.Deny })
	for _, b := range r.deny {
		if g := members[b.Class]; g != nil {
			out.Rules = append(out.Rules, rule(flow.Deny, b, g, kept))
		}
	}
	return out
}
