package work

import (
	"fmt"
	"slices"
	"time"

	"ironbark/internal/exposure"
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
	d.Opened, d.Closed = slices.DeleteFunc(d.Opened, leftOpen(before)), slices.DeleteFunc(d.Closed, leftOpen(after))
	return d
}

// differs reports whether anything that passes differs, in either direction.
func (r *Review) differs() bool { return !r.Exposure.IsEmpty() || !r.Outward.IsEmpty() }

// callsOutside reports whether a question is about what machines call outside: it names what can be nothing else, or machines and an
// address that is nobody's inside.
func callsOutside(st *State, ask sentence.Ask, resolve flow.Resolver) bool {
	if st.Estate.AsksOutside(ask) {
		return true
	}
	internet := func(a sentence.Atom) bool {
		lo, _ := a.Bounds()
		return a.Kind() == sentence.Address && st.Plan.Internet().Contains(flow.PointOf(lo))
	}
	return !slices.ContainsFunc(ask.To.List, func(a sentence.Atom) bool { return !internet(a) }) && st.Estate.CanCall(ask.From)
}

// askOutward answers a question about what machines call outside.
func (w *Work) askOutward(st *State, ask sentence.Ask, at time.Time, resolve flow.Resolver) (*Answer, error) {
	a := &Answer{
		Ask: ask, State: st, Outward: true, View: exposure.NewView(st.Plan.Calls(), at),
		From: resolve.Outside(ask.To), Service: resolve.Services(ask.Services),
	}
	callers := exposure.Targets(st.Estate, st.Plan, ask.From)
	switch {
	case len(callers) == 0:
		return nil, &sentence.Error{Problem: fmt.Sprintf("“%s” is nothing that is there", ask.From), Hint: "enact makes what stands in the files only; --draft asks the files"}
	case a.From.IsEmpty():
		return nil, &sentence.Error{Problem: fmt.Sprintf("“to %s” is no address outside", ask.To)}
	case a.Service.IsEmpty():
		return nil, &sentence.Error{Problem: fmt.Sprintf("“%s” is no service", ask.Services)}
	}
	a.Parts = a.View.Ask(a.Service, a.From, callers...)
	a.Verdict = exposure.Verdict(a.Parts)
	return a, nil
}
