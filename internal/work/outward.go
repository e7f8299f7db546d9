package work

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"ironbark/internal/exposure"
	"ironbark/internal/fault"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// outward compares what machines may call outside. What a network leaves open to a machine that only one side has is not told:
// it is the network's choice, and each new machine would tell it again.
func outward(before, after *flow.Plan, now time.Time) exposure.Difference {
	d := exposure.Compare(exposure.NewView(before.Calls(), now), exposure.NewView(after.Calls(), now))
	leftOpen := func(other *flow.Plan) func(exposure.Change) bool {
		return func(c exposure.Change) bool {
			_, there := other.MachineByName(c.Machine)
			return !there && c.Entry.Origin.IsOpenNetwork()
		}
	}
	d.Opened, d.Closed = d.Opened.Without(leftOpen(before)), d.Closed.Without(leftOpen(after))
	return d
}

// differs reports whether anything that passes differs, in either direction.
func (r *Review) differs() bool { return !r.Exposure.IsEmpty() || !r.Outward.IsEmpty() }

// Callers lists the addresses from which the machines of a question about calls can call an address.
func (a *Answer) Callers(to flow.Point) (list []netip.Addr) {
	for _, t := range exposure.Targets(a.State.Estate, a.State.Plan, a.Ask.From) {
		for _, d := range a.View.DoorsOf(t) {
			if d.From.Contains(to) {
				list = append(list, d.Address)
			}
		}
	}
	return list
}

// CallsOutside reports whether a question is about what machines call outside: it names what can be nothing else, or machines and an
// address that is nobody's inside.
func CallsOutside(st *State, ask sentence.Ask) bool {
	if st.Estate.AsksOutside(ask) {
		return true
	}
	internet := func(a sentence.Atom) bool {
		lo, _ := a.Bounds()
		return a.Kind() == sentence.Address && st.Plan.Callable().Contains(flow.PointOf(lo))
	}
	return !slices.ContainsFunc(ask.To.List, func(a sentence.Atom) bool { return !internet(a) }) && st.Estate.CanCall(ask.From)
}

// askOutward answers a question about what machines call outside.
func (w *Work) askOutward(st *State, ask sentence.Ask, at time.Time, resolve flow.Resolver) (*Answer, error) {
	a := &Answer{
		Ask: ask, State: st, Outward: true,
		From: resolve.Outside(ask.To), Service: resolve.Services(ask.Services),
	}
	return a.answered(st.Plan.Calls(), at, ask.From, exposure.Targets(st.Estate, st.Plan, ask.From), fmt.Sprintf("“to %s” is no address outside", ask.To))
}

// remediesOutward suggests what would open a call that is closed: nothing, where a guarantee forbids it.
func (a *Answer) remediesOutward(p exposure.Part) []fault.Advice {
	caller := exposure.TargetName(a.State.Plan, p.Target)
	switch p.Reason {
	case exposure.Denied:
		return a.lift(p)
	case exposure.Default:
		words := fmt.Sprintf("allow %s from %s to %s", a.Ask.Services, a.Ask.From, a.Ask.To)
		s, err := sentence.ParseArgs([]string{words}, fileTime)
		if err != nil || a.State.Estate.CheckSentence(s) != nil {
			return nil
		}
		resolve := flow.NewResolver(a.State.Estate, a.State.Plan)
		for _, st := range a.State.Estate.SentencesOf(sentence.VerbNever) {
			n := st.Sentence.(sentence.Never)
			if a.State.Estate.CallsOutside(n.To) && resolve.Services(n.Services).Overlaps(p.Services) && resolve.Outside(n.To).Overlaps(p.From) && resolve.Group(n.From).Has(p.Target.Machine) {
				return []fault.Advice{forbiddenBy(n.String())}
			}
		}
		return []fault.Advice{saying(words)}
	case exposure.NoDoor:
		if called, to, apart := familiesApart(p.From, a.State.Plan.AddrsOf(p.Target.Machine)); apart {
			return []fault.Advice{fault.Say(fmt.Sprintf("call an %s address: %s is %s, and every address of %s is %s", to, a.Ask.To, called, caller, to))}
		}
		m, _ := a.State.Estate.Machine(caller)
		for _, at := range m.Subnets {
			if sub, _ := a.State.Estate.Subnet(at); sub.Network != "" {
				if n, _ := a.State.Estate.Network(sub.Network); !n.Outside {
					return []fault.Advice{fault.Say("give its network a way outside: ").Run("change", "network", n.Name, "--outside")}
				}
			}
		}
	}
	return nil
}
