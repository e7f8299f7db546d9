package work

import (
	"fmt"
	"slices"

	"ironbark/internal/fault"
	"ironbark/internal/opening"
	"ironbark/internal/rights"
)

// Could tells what somebody may open, and what of it cannot be opened now.
type Could struct {
	Person    string
	May       []CouldOpen
	Uncovered []string          // machines of which they may open nothing
	Already   []opening.Opening // of theirs that hold, or wait
}

// CouldOpen is one thing that somebody may open by one permit.
type CouldOpen struct {
	rights.Right
	Hindered []opening.Reason // machines that cannot take it now
}

// Could tells what the person may open by what is enacted. Cost: that of a view for each of
// their permits.
func (w *Work) Could(st *State) Could {
	c := Could{Person: w.Person}
	covered := map[string]bool{}
	for _, r := range rights.Of(w.Person, rights.State{Estate: st.Estate, Plan: st.Plan}) {
		if r.Kind != rights.Open {
			continue
		}
		for _, m := range r.Machines {
			covered[m] = true
		}
		c.May = append(c.May, w.CouldOpen(st, r))
	}
	for _, o := range Active(st.Report.Openings, w.Clock.Now()) {
		if o.Person == w.Person {
			c.Already = append(c.Already, o)
		}
	}
	for _, m := range st.Plan.Machines {
		if !covered[m.Name] {
			c.Uncovered = append(c.Uncovered, m.Name)
		}
	}
	slices.Sort(c.Uncovered)
	return c
}

// CouldAt tells who may open what of one machine, and what of it cannot be opened now.
func (w *Work) CouldAt(st *State, machine string) (list []CouldOpen) {
	for _, r := range rights.At(machine, rights.State{Estate: st.Estate, Plan: st.Plan}) {
		if r.Kind == rights.Open {
			list = append(list, w.CouldOpen(st, r))
		}
	}
	return list
}

// CouldOpen tells what of a right to open cannot be opened now. Cost: that of a view of the plan.
func (w *Work) CouldOpen(st *State, r rights.Right) CouldOpen {
	return CouldOpen{Right: r, Hindered: opening.Hindered(opening.Request{
		Person: w.Person, Now: w.Clock.Now(), Estate: st.Estate, Plan: st.Plan,
		Running: running(st.Report.Machines),
	}, opening.Part{Machines: r.Machines, Services: r.Flows.Services, From: r.Flows.From}, r.Source)}
}

// NothingToOpenError says that no permit lets somebody open anything.
type NothingToOpenError struct {
	Person    string
	Emergency bool // not in an emergency either
}

// Error tells the person.
func (n *NothingToOpenError) Error() string {
	if n.Emergency {
		return fmt.Sprintf("no permit lets %s open anything in an emergency", n.Person)
	}
	return fmt.Sprintf("no permit lets %s open anything", n.Person)
}

// Kind is that of a person who may not.
func (n *NothingToOpenError) Kind() fault.Kind { return fault.Denied }

// Advice says where permits are.
func (n *NothingToOpenError) Advice() fault.Advice {
	return fault.Run("show", "permit").Say(" lists who may open what")
}
