package rights

import (
	"slices"

	"ironbark/internal/flow"
)

// This file is what denies take from rights: a person who may open a service may do less once a deny keeps it out.

// denied is what a deny keeps out, of machines by name.
type denied struct {
	flows    flow.Box
	machines []string // in order
	origin   flow.Origin
}

// takes reports whether a deny concerns what a right is to do: to open, or to approve that others do.
func (r Right) takes() bool { return r.Kind == Open || r.Kind == Approve }

// denies lists what the denies of a plan keep out, whatever their ends.
func denies(p *flow.Plan) (list []denied) {
	names := map[*flow.Group][]string{}
	for _, r := range p.Rules {
		if r.Kind != flow.Deny {
			continue
		}
		if names[r.To] == nil {
			for _, m := range r.To.Machines {
				names[r.To] = append(names[r.To], p.Machines[m].Name)
			}
			slices.Sort(names[r.To])
		}
		list = append(list, denied{flow.Box{Services: r.Services, From: r.From}, names[r.To], r.Origin})
	}
	return list
}

// newDenies lists those of some denies that are not among others.
func newDenies(list, others []denied) []denied {
	alike := map[string][]denied{}
	for _, d := range others {
		alike[d.origin.Sentence] = append(alike[d.origin.Sentence], d)
	}
	return slices.DeleteFunc(slices.Clone(list), func(d denied) bool {
		return slices.ContainsFunc(alike[d.origin.Sentence], func(o denied) bool {
			return o.flows.From.Equal(d.flows.From) && o.flows.Services.Equal(d.flows.Services) && slices.Equal(o.machines, d.machines)
		})
	})
}

// keptOut lists what of those rights that a person has on both sides denies of one side keep out, and none of the other.
func (h held) keptOut(theirs held, new, old []denied, without func(machine string) bool) (list []Right) {
	if len(new) == 0 {
		return nil
	}
	same := theirs.keys()
	for _, i := range h.list {
		g := h.all.list[i]
		if !same[g.key] || !g.takes() {
			continue
		}
		g.Until = h.until(i)
		for _, d := range new {
			one := g.Right
			if one.Flows, one.Denied = g.Flows.Intersect(d.flows), d.origin; one.Flows.IsEmpty() {
				continue
			}
			one.Machines = slices.DeleteFunc(slices.Clone(d.machines), func(m string) bool {
				_, mine := slices.BinarySearch(g.Machines, m)
				return !mine || without != nil && without(m)
			})
			if len(one.Machines) == 0 {
				continue
			}
			var others []Right
			for _, o := range old {
				if o.flows.Services.Overlaps(one.Flows.Services) && o.flows.From.Overlaps(one.Flows.From) {
					others = append(others, Right{Machines: o.machines, Flows: o.flows})
				}
			}
			list = append(list, beyond(one, others, nil)...)
		}
	}
	return list
}
