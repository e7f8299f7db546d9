package exposure

import (
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
	doors := v.Plan.DoorsTo(m)
	var cuts []flow.Service
	for _, d := range doors {
		if d.Translated() {
			cuts = append(cuts, d.Own.On)
		}
	}
	parts := v.slices(m, flow.AnyService, cuts...)
	var list []Entry
	for _, d := range doors {
		first := len(list)
		for _, s := range parts {
			if !d.Arrives.Contains(s.services.Lo) {
				continue
			}
			for _, p := range v.through(s, d) {
				e := Entry{Door: d, Services: span.Of(s.services), From: p.from, Administrative: s.guarded}
				e.Reason, e.Until, e.Origin, e.Opening = p.decided()
				list = merge(list, first, e)
			}
		}
	}
	return list
}

// merge adds an entry to those of its door, joining it to one that differs in its services only.
func merge(list []Entry, first int, e Entry) []Entry {
	for i := first; i < len(list); i++ {
		o := &list[i]
		if o.Administrative == e.Administrative && o.Reason == e.Reason && o.Origin == e.Origin && o.Opening == e.Opening && o.From.Equal(e.From) {
			o.Services = o.Services.Union(e.Services)
			return list
		}
	}
	return append(list, e)
}

// ReachAll lists what is open at every machine, by machine name, and then at the
// gateways themselves.
func (v *View) ReachAll() []Entry {
	var list []Entry
	for m := range v.Plan.Machines {
		list = append(list, v.Reach(int32(m))...)
	}
	for _, d := range v.Plan.GatewayDoors() {
		if !d.From.IsEmpty() {
			list = append(list, Entry{
				Door: d, Services: d.Arrives, From: d.From, Administrative: true, Reason: ByDoor,
				Origin: flow.Origin{Sentence: "bastion " + d.Via},
			})
		}
	}
	return list
}
