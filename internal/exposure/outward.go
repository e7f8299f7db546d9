package exposure

import (
	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
)

// Calls returns the view of what machines call outside: where it tells of sources, read destinations. See [flow.Plan.Calls].
func (v *View) Calls() *View {
	v.callsOnce.Do(func() { v.calls = NewView(v.Plan.Calls(), v.At) })
	return v.calls
}

// askCalls asks what of a question about one address is a call of machines to it, and returns the sources that are no
// machines' and for which it is not: an address outside is called, and any other is called at its doors.
func (v *View) askCalls(t Target, services flow.Services, from flow.Addrs) (list []Part, rest flow.Addrs) {
	if !t.Address.IsValid() || !v.Plan.Callable().Contains(flow.PointOf(t.Address)) {
		return nil, from
	}
	calls, called := v.Calls(), span.One(flow.PointOf(t.Address))
	rest = from
	for m := range v.Plan.Machines {
		for _, d := range calls.Plan.DoorsTo(int32(m)) {
			own := span.One(flow.PointOf(d.Address))
			if !d.From.Overlaps(called) || !from.Overlaps(own) {
				continue
			}
			for _, p := range calls.Ask(services, called, Target{Machine: int32(m)}) {
				p.From, p.Target, p.Machine = own, t, -1 // where it leads is no machine of the estate
				list = append(list, p)
			}
			rest = rest.Subtract(own)
		}
	}
	return list, rest
}
