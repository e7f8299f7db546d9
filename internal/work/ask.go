package work

import (
	"context"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"time"

	"ironbark/internal/driver"
	"ironbark/internal/exposure"
	"ironbark/internal/fault"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// fileTime is the moment that stands for now where no sentence may depend on it.
var fileTime = time.Time{}

// Answer is the answer to a question about flows.
type Answer struct {
	Ask     sentence.Ask
	State   *State
	View    *exposure.View
	From    flow.Addrs
	Service flow.Services
	Outward bool // machines call: From is what they call, the targets are who does, and View is that of calls
	Parts   []exposure.Part
	Verdict string // open, closed or some

	members map[memberName]Member // of spreads; see [Work.LookAtMembers]
}

// Ask answers a question of a state at a moment.
func (w *Work) Ask(st *State, ask sentence.Ask, at time.Time) (*Answer, error) {
	if err := st.Estate.CheckSentence(ask); err != nil {
		return nil, err
	}
	if ask.Via.Text != "" {
		return nil, &sentence.Error{At: ask.Via.At, Problem: "a question about a bastion is asked by itself", Remedy: saying(ask.String())}
	}
	resolve := flow.NewResolver(st.Estate, st.Plan)
	if !ask.Services.Console() && CallsOutside(st, ask) {
		return w.askOutward(st, ask, at, resolve)
	}
	from, err := w.FromMe(st, ask.From, resolve.Group(ask.To))
	if err != nil {
		return nil, err
	}
	ask.From = from
	a := &Answer{
		Ask: ask, State: st,
		From: resolve.Source(ask.From), Service: resolve.Services(ask.Services),
	}
	return a.answered(st.Plan, at, ask.To, exposure.Targets(st.Estate, st.Plan, ask.To), fmt.Sprintf("“from %s” is no address that a flow can come from", ask.From))
}

// mostTargets is for how many machines a view is made of them alone: for more of them it is made of all.
const mostTargets = 16

// viewOf is a view that answers about some targets.
func viewOf(plan *flow.Plan, at time.Time, targets ...exposure.Target) *exposure.View {
	var machines []int32
	for _, t := range targets {
		if machines = append(machines, t.Machine); !t.IsMachine() || len(machines) > mostTargets { // what an address leads to is not known yet
			return exposure.NewView(plan, at)
		}
	}
	return exposure.NewViewOf(plan, at, machines...)
}

// answered asks about the targets for which a set stands; nowhere says what is wrong where there are no addresses.
func (a *Answer) answered(plan *flow.Plan, at time.Time, named sentence.Set, targets []exposure.Target, nowhere string) (*Answer, error) {
	switch {
	case len(targets) == 0:
		return nil, &sentence.Error{Problem: fmt.Sprintf("“%s” is nothing that is there", named), Remedy: fault.Say("enact makes what stands in the files only; --draft asks the files")}
	case a.From.IsEmpty():
		return nil, &sentence.Error{Problem: nowhere}
	case a.Service.IsEmpty():
		return nil, &sentence.Error{Problem: fmt.Sprintf("“%s” is no service", a.Ask.Services)}
	}
	a.View = viewOf(plan, at, targets...)
	a.Parts = a.View.Ask(a.Service, a.From, targets...)
	a.Verdict = exposure.Verdict(a.Parts)
	return a, nil
}

// Outlets lists what the machine of a closed part may call of the part's sources: with those it can still exchange data.
func (a *Answer) Outlets(p exposure.Part) []exposure.Outlet {
	if a.Outward || p.Open || p.Machine < 0 || p.Door.Kind == flow.DoorConsole {
		return nil
	}
	return exposure.Outlets(a.State.Plan, a.View.At, map[int32]flow.Addrs{p.Machine: p.From})
}

// LookAt adds to an answer's state how the machines are doing to which its parts lead.
func (w *Work) LookAt(ctx context.Context, a *Answer) error {
	names := map[string]bool{}
	for _, p := range a.Parts {
		if p.Machine >= 0 {
			names[a.State.Plan.Machines[p.Machine].Name] = true
		}
		if p.Door.Kind == flow.DoorSpread { // whether it gets connections depends on the others
			for _, m := range p.Door.Own.To.Machines {
				names[a.State.Plan.Machines[m].Name] = true
			}
		}
	}
	machines, err := w.Site.Machines(ctx, slices.Sorted(maps.Keys(names))...)
	if a.State.Report.Machines = machines; err != nil {
		return err
	}
	return w.LookAtMembers(ctx, a)
}

// LookAtMembers adds to an answer to which members of a spread the front leads new connections. The answer's state has the members' machines.
func (w *Work) LookAtMembers(ctx context.Context, a *Answer) error {
	fronts := map[string]bool{}
	for _, p := range a.Parts {
		if p.Door.Kind == flow.DoorSpread {
			fronts[p.Door.Via] = true
		}
	}
	a.members = map[memberName]Member{}
	for front := range fronts {
		list, err := w.members(ctx, a.State, front, false)
		if err != nil {
			return err
		}
		for _, m := range list {
			a.members[memberName{m.Front, m.Service, m.Machine}] = m
		}
	}
	return nil
}

// Member returns the member of a spread to which a door leads; there is false where it is no door of a spread, or nobody looked.
func (a *Answer) Member(d flow.Door) (m Member, there bool) {
	if d.Kind != flow.DoorSpread || d.Machine < 0 {
		return Member{}, false
	}
	m, there = a.members[memberName{d.Via, d.Service, a.State.Plan.Machines[d.Machine].Name}]
	return m, there
}

// NotLed says why the front leads no new connections to the machine of a door; empty where it does, or the door is not one of a spread.
func (a *Answer) NotLed(d flow.Door) string {
	if m, there := a.Member(d); there && !m.Gets() {
		return fmt.Sprintf("%s leads no new connections to %s: %s", m.Front, m.Machine, m.Why)
	}
	return ""
}

// Machine tells how the machine of a part is doing, and whether it listens on
// any of the part's arriving services.
func (a *Answer) Machine(p exposure.Part) (m driver.Machine, listens, known bool) {
	if p.Machine < 0 {
		return driver.Machine{}, false, false
	}
	m, known = a.State.Report.Machines[a.State.Plan.Machines[p.Machine].Name]
	if p.Door.Kind == flow.DoorConsole {
		return m, m.State == driver.Running, known
	}
	return m, m.Listens.Overlaps(p.Arrives), known
}

// Call is one address that leads to a target, as a client would call it.
type Call struct {
	Address netip.Addr
	door    flow.Door
}

// Calls returns the service that a client calls to arrive at another.
func (c Call) Calls(arrives flow.Service) flow.Service {
	if c.door.Translated() {
		return c.door.Service
	}
	return arrives
}

// NoConnection is what a client sees of a member to which the front leads nothing.
const NoConnection = "no connection"

// Sees tells what a client would see of its packet to a service that it calls: an answer, a
// refusal by a machine on which nothing listens, silence, or [NoConnection].
func (a *Answer) Sees(c Call, called flow.Service, open bool, machine string) (what, why string) {
	m, known := a.State.Report.Machines[machine]
	arrives, notLed := called, ""
	if i, there := a.State.Plan.MachineByName(machine); there {
		for _, d := range a.State.Plan.DoorsTo(i) {
			if d.Translated() && d.Address == c.Address && d.Service == called {
				arrives, notLed = d.Own.On, a.NotLed(d)
			}
		}
	}
	switch {
	case !open:
		return "silence", ""
	case notLed != "":
		return NoConnection, notLed
	case !known: // a gateway
		return "an answer", ""
	case m.State != driver.Running:
		return "silence", machine + " is " + string(m.State)
	case !m.Listens.Contains(arrives):
		return "a refusal", machine + " does not listen on " + arrives.String()
	}
	return "an answer", ""
}

// Calls lists the addresses of the question's targets that lead there from a source; all of
// them where none does, so that a packet can show it.
func (a *Answer) Calls(source netip.Addr) []Call {
	all := a.Doors(source)
	leading := slices.DeleteFunc(slices.Clone(all), func(c Call) bool {
		return c.door.Kind != 0 && !c.door.From.Contains(flow.PointOf(source))
	})
	if len(leading) > 0 {
		return leading
	}
	return all
}

// Doors lists the addresses of the question's targets that a source can call: for
// a machine those of its doors, and otherwise the very destination.
func (a *Answer) Doors(source netip.Addr) (list []Call) {
	seen := map[netip.AddrPort]bool{}
	add := func(c Call) {
		key := netip.AddrPortFrom(c.Address, uint16(c.door.Service))
		if c.Address.IsValid() && c.Address.Is4() == source.Is4() && !seen[key] {
			seen[key] = true
			list = append(list, c)
		}
	}
	for _, t := range exposure.Targets(a.State.Estate, a.State.Plan, a.Ask.To) {
		if t.Address.IsValid() {
			add(Call{Address: t.Address})
		}
		for _, d := range a.View.DoorsOf(t) {
			if t.IsMachine() && !d.Arrives.Overlaps(a.Service) {
				continue
			}
			c := Call{Address: d.Address, door: d}
			if !t.IsMachine() {
				c.door = flow.Door{} // the called service is the question's own
			}
			add(c)
		}
	}
	return list
}
