package work

import (
	"fmt"
	"net/netip"
	"time"

	"ironbark/internal/driver"
	"ironbark/internal/exposure"
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
	Parts   []exposure.Part
	Verdict string // open, closed or some
}

// Ask answers a question of a state at a moment.
func (w *Work) Ask(st *State, ask sentence.Ask, at time.Time) (*Answer, error) {
	if err := st.Estate.CheckSentence(ask); err != nil {
		return nil, err
	}
	resolve := flow.NewResolver(st.Estate, st.Plan)
	if err := w.meKnown(ask.From); err != nil {
		return nil, err
	}
	ask.From = w.resolveMe(ask.From, st.Plan, resolve.Group(ask.To).Machines)
	a := &Answer{
		Ask: ask, State: st, View: exposure.NewView(st.Plan, at),
		From: resolve.Source(ask.From), Service: resolve.Services(ask.Services),
	}
	targets := exposure.Targets(st.Estate, st.Plan, ask.To)
	switch {
	case len(targets) == 0:
		return nil, &sentence.Error{Problem: fmt.Sprintf("“%s” is nothing that is there", ask.To), Hint: "enact makes what stands in the files only; --draft asks the files"}
	case a.From.IsEmpty():
		return nil, &sentence.Error{Problem: fmt.Sprintf("“from %s” is no address that a flow can come from", ask.From)}
	case a.Service.IsEmpty():
		return nil, &sentence.Error{Problem: fmt.Sprintf("“%s” is no service", ask.Services)}
	}
	a.Parts = a.View.Ask(a.Service, a.From, targets...)
	a.Verdict = exposure.Verdict(a.Parts)
	return a, nil
}

// Machine tells how the machine of a part is doing, and whether it listens on
// any of the part's arriving services.
func (a *Answer) Machine(p exposure.Part) (m driver.Machine, listens, known bool) {
	if p.Machine < 0 {
		return driver.Machine{}, false, false
	}
	m, known = a.State.Report.Machines[a.State.Plan.Machines[p.Machine].Name]
	return m, m.Listens.Overlaps(p.Arrives), known
}

// Mend suggests the words that would open a closed part, the least first.
func (a *Answer) Mend(p exposure.Part, person string) (list []string) {
	if p.Open {
		return nil
	}
	services, from, to := a.Ask.Services.String(), a.Ask.From.String(), a.Ask.To.String()
	if p.Target.Machine < 0 && p.Machine >= 0 { // what is opened is the machine behind a front or address
		to = a.State.Plan.Machines[p.Machine].Name
		services = flow.PrintServices(p.Arrives, flow.Namings(nil, a.State.Estate))
	}
	switch p.Reason {
	case exposure.Denied:
		return []string{"retract " + sentence.Quote(p.Origin.Sentence)}
	case exposure.Default:
		return []string{fmt.Sprintf("allow %s from %s to %s", services, from, to)}
	case exposure.Administrative:
		if !a.permitted(person, p) {
			list = append(list, fmt.Sprintf("permit %s to open %s to %s from %s up to 1h", a.who(person), services, to, from))
		}
		return append(list, fmt.Sprintf("open %s to %s from %s for 1h because \"…\"", services, to, from))
	case exposure.NoDoor:
		if p.Target.Machine >= 0 {
			name := a.State.Plan.Machines[p.Target.Machine].Name
			if from, to, apart := familiesApart(p.From, a.State.Plan.AddrsOf(p.Target.Machine)); apart {
				return []string{fmt.Sprintf("come from an %s address: %s is %s, and every address of %s is %s", to, a.Ask.From, from, name, to)}
			}
			return []string{fmt.Sprintf("give %s a public address (address: auto), or lead a front's port to it (forward … to %s on …)", name, name)}
		}
	}
	return nil
}

// familiesApart tells the family of each of two sets of addresses, if they have none in common
// and each has one.
func familiesApart(from, to flow.Addrs) (string, string, bool) {
	family := func(s flow.Addrs) (four, six bool) {
		for _, run := range s.Runs() {
			four, six = four || run.Lo.Addr().Is4(), six || run.Lo.Addr().Is6()
		}
		return four, six
	}
	from4, from6 := family(from)
	to4, to6 := family(to)
	switch {
	case from4 && !from6 && to6 && !to4:
		return "IPv4", "IPv6", true
	case from6 && !from4 && to4 && !to6:
		return "IPv6", "IPv4", true
	}
	return "", "", false
}

// who names the first of a person's groups, or the person.
func (a *Answer) who(person string) string {
	for _, p := range a.State.Estate.People {
		if p.Name == person && len(p.Groups) > 0 {
			return p.Groups[0]
		}
	}
	if a.State.Estate.PersonKnown(person) {
		return person
	}
	return "PEOPLE"
}

// permitted reports whether a permit covers the part for a person, length apart.
func (a *Answer) permitted(person string, p exposure.Part) bool {
	resolve := flow.NewResolver(a.State.Estate, a.State.Plan)
	for _, st := range a.State.Estate.Sentences {
		m, ok := st.Sentence.(sentence.Permit)
		if !ok || !resolve.Group(m.To).Has(p.Machine) || !resolve.Services(m.Services).Covers(p.Arrives) || !resolve.Source(m.From).Covers(p.From) {
			continue
		}
		for _, name := range m.People {
			if a.State.Estate.Belongs(person, name.Text) {
				return true
			}
		}
	}
	return false
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
			if t.Machine >= 0 && !d.Arrives.Overlaps(a.Service) {
				continue
			}
			c := Call{Address: d.Address, door: d}
			if t.Machine < 0 {
				c.door = flow.Door{} // the called service is the question's own
			}
			add(c)
		}
	}
	return list
}

// ResolveMe puts the caller's own addresses in place of "me", for a group of machines.
func (w *Work) ResolveMe(s sentence.Set, st *State, g *flow.Group) sentence.Set {
	return w.resolveMe(s, st.Plan, g.Machines)
}
