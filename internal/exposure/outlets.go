package exposure

import (
	"slices"
	"time"

	"ironbark/internal/flow"
)

// Outlet is what machines may call outside of those that reach them no longer: a conversation can continue as a call of the machine's own.
type Outlet struct {
	Machines []int32 // ascending
	To       flow.Addrs
	Services flow.Services
	By       flow.Origin // a sentence, or what a network leaves open
}

// Outlets lists what machines may call, at a time, of some sources. Machines that may call the same by the same sentence share one. Cost:
// linear in the plan's outward rules.
func Outlets(p *flow.Plan, at time.Time, sources flow.Addrs, machines ...int32) (list []Outlet) {
	outside := sources.Intersect(p.Internet())
	if outside.IsEmpty() || len(machines) == 0 {
		return nil
	}
	calls := NewViewOf(p.Calls(), at, machines...)
	for _, m := range slices.Compact(slices.Sorted(slices.Values(machines))) {
		for _, part := range calls.Ask(flow.AnyService, outside, Target{Machine: m}) {
			if !part.Open {
				continue
			}
			i := slices.IndexFunc(list, func(o Outlet) bool {
				return o.By == part.Origin && o.Services.Equal(part.Services) && o.To.Equal(part.From)
			})
			if i < 0 {
				list = append(list, Outlet{To: part.From, Services: part.Services, By: part.Origin})
				i = len(list) - 1
			}
			list[i].Machines = append(list[i].Machines, m)
		}
	}
	return list
}

// Equal reports whether two outlets are the same in all of their parts.
func (o Outlet) Equal(p Outlet) bool {
	return o.By == p.By && slices.Equal(o.Machines, p.Machines) && o.To.Equal(p.To) && o.Services.Equal(p.Services)
}
