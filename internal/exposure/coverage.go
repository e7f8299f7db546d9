package exposure

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// Side is an estate with its plan.
type Side struct {
	Estate *estate.Estate
	Plan   *flow.Plan
}

// Uncovered is what guarantees spoke of and speak of no more.
type Uncovered struct {
	Guarantee flow.Origin // one that spoke of it
	Always    bool        // that it is open; otherwise that it is not
	Standing  bool        // what stands is still spoken of, and openings and routes are not
	Targets   []string    // machines, fronts and bastions, in order
	Flows     flow.Box
	Example   Flow
	Door      bool // a door leads there from there
	Outward   bool // of calls of the targets to the addresses in Flows.From
}

// CoverageLost finds what the guarantees of an estate covered and those of the next one do
// not: as sets of flows, so that it is found also where the words stayed and a name changed
// its meaning, and is not where another guarantee covers the same. It looks at targets that
// are on both sides, and leaves out addresses that cannot be sources any more. Cost:
// guarantees that differ × guarantees × sets of targets that fare alike.
func CoverageLost(a, b Side) (list []Uncovered) {
	c := &coverage{before: coverOf(a), after: coverOf(b), gone: a.Plan.Own().Union(b.Plan.Own()), there: b}
	for i, m := range a.Plan.Machines {
		if _, there := b.Plan.MachineByName(m.Name); !there {
			c.gone = c.gone.Union(a.Plan.AddrsOf(int32(i)))
		}
	}
	never := c.lost(func(g covered) bool { return !g.always })
	// What is not told already, and was covered whether it stood or not.
	for _, u := range never {
		c.after = append(c.after, covered{targets: u.Targets, flows: u.Flows, outward: u.Outward})
	}
	full := c.lost(func(g covered) bool { return !g.always && !g.standing })
	for i := range full {
		full[i].Standing = true
	}
	always := c.lost(func(g covered) bool { return g.always })
	for i := range always {
		always[i].Always = true
	}
	list = slices.Concat(never, full, always)
	if len(list) == 0 {
		return nil
	}
	plans := map[bool]*flow.Plan{false: b.Plan, true: b.Plan.Calls()}
	for i, u := range list {
		list[i].Example = Example(u.Flows.From, u.Flows.Services)
		plan := plans[u.Outward]
		list[i].Door = slices.ContainsFunc(u.Targets, func(t string) bool { return ledTo(plan, t, u.Flows) })
	}
	return list
}

// ledTo reports whether a door leads to a target from one of the sources to one of the
// services. To fronts and bastions there is always one.
func ledTo(p *flow.Plan, target string, flows flow.Box) bool {
	m, machine := p.MachineByName(target)
	if !machine {
		return true
	}
	return slices.ContainsFunc(p.DoorsTo(m), func(d flow.Door) bool {
		return d.From.Overlaps(flows.From) && d.Arrives.Overlaps(flows.Services)
	})
}

// covered is what one guarantee speaks of.
type covered struct {
	origin           flow.Origin
	always, standing bool
	outward          bool
	targets          []string // in order
	flows            flow.Box
}

func coverOf(s Side) (list []covered) {
	resolve := flow.NewResolver(s.Estate, s.Plan)
	for _, st := range s.Estate.SentencesOf(sentence.VerbNever, sentence.VerbAlways) {
		c := covered{origin: flow.OriginOf(st)}
		var services sentence.Services
		var from, to sentence.Set
		switch g := st.Sentence.(type) {
		case sentence.Never:
			services, from, to, c.standing = g.Services, g.From, g.To, g.Standing
		case sentence.Always:
			services, from, to, c.always = g.Services, g.From, g.To, true
		}
		c.flows = flow.Box{Services: resolve.Services(services), From: resolve.Source(from)}
		if c.outward = s.Estate.CallsOutside(to); c.outward {
			c.flows.From, to = resolve.Outside(to), from
		}
		for _, t := range Targets(s.Estate, s.Plan, to) {
			c.targets = append(c.targets, TargetName(s.Plan, t))
		}
		slices.Sort(c.targets)
		list = append(list, c)
	}
	return list
}

func (c covered) equal(o covered) bool {
	return c.outward == o.outward && c.flows.Services.Equal(o.flows.Services) && c.flows.From.Equal(o.flows.From) && slices.Equal(c.targets, o.targets)
}

// coverage is what guarantees speak of on two sides.
type coverage struct {
	before, after []covered
	gone          flow.Addrs // which are no sources any more
	there         Side
}

// lost lists what guarantees of some kind covered and do not any more, a member for each set
// of targets that fare alike.
func (c *coverage) lost(of func(covered) bool) (list []Uncovered) {
	for _, g := range c.before {
		if !of(g) || slices.ContainsFunc(c.after, func(o covered) bool { return of(o) && o.equal(g) }) {
			continue
		}
		alike, boxes := map[string][]string{}, map[string][]flow.Box{}
		for _, target := range g.targets {
			if !c.targetThere(target) {
				continue
			}
			var key strings.Builder
			var by []flow.Box
			for i, o := range c.after {
				if _, has := slices.BinarySearch(o.targets, target); has && of(o) && o.outward == g.outward {
					by = append(by, o.flows)
					fmt.Fprint(&key, i, " ")
				}
			}
			alike[key.String()], boxes[key.String()] = append(alike[key.String()], target), by
		}
		for _, key := range slices.Sorted(maps.Keys(alike)) {
			for _, rest := range g.flows.Less(boxes[key]) {
				if rest.From = rest.From.Subtract(c.gone); !rest.IsEmpty() {
					list = append(list, Uncovered{Guarantee: g.origin, Targets: alike[key], Flows: rest, Outward: g.outward})
				}
			}
		}
	}
	return list
}

func (c *coverage) targetThere(name string) bool {
	if _, machine := c.there.Plan.MachineByName(name); machine {
		return true
	}
	n, ok := c.there.Estate.Lookup(name)
	return ok && (n.Kind == estate.KindFront || n.Kind == estate.KindBastion)
}
