package exposure

import (
	"maps"
	"slices"
	"strings"
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

// Outlets lists what machines may call, at a time, of the sources that each of them had. Machines that may call the same by the same sentence
// share one. Cost: linear in the plan's outward rules and in the sources.
func Outlets(p *flow.Plan, at time.Time, sources map[int32]flow.Addrs) (list []Outlet) {
	if len(sources) == 0 {
		return nil
	}
	type what struct {
		to       string
		services string
		by       flow.Origin
	}
	machines := slices.Sorted(maps.Keys(sources))
	calls, outside := NewViewOf(p.Calls(), at, machines...), p.Internet()
	known := map[what]int{}
	for _, m := range machines {
		from := sources[m].Intersect(outside)
		if from.IsEmpty() {
			continue
		}
		for _, part := range calls.Ask(flow.AnyService, from, Target{Machine: m}) {
			if !part.Open {
				continue
			}
			key := what{strings.Join(flow.AddrRuns(part.From), ","), strings.Join(flow.ServiceRuns(part.Services), ","), part.Origin}
			i, ok := known[key]
			if !ok {
				i, list = len(list), append(list, Outlet{To: part.From, Services: part.Services, By: part.Origin})
				known[key] = i
			}
			list[i].Machines = append(list[i].Machines, m)
		}
	}
	return list
}
