package work

import (
	"slices"

	"ironbark/internal/driver"
	"ironbark/internal/opening"
	"ironbark/internal/rights"
	"ironbark/internal/sentence"
)

// Could tells what somebody may open, and what of it cannot be opened now.
type Could struct {
	Person    string
	May       []CouldOpen
	Uncovered []string // machines of which they may open nothing
}

// CouldOpen is one thing that somebody may open by one permit.
type CouldOpen struct {
	rights.Right
	Approvers []string         // people and groups whose approvals it needs
	Hindered  []opening.Reason // machines that cannot take it now
}

// Could tells what the person may open by what is enacted. Cost: that of a view for each of
// their permits.
func (w *Work) Could(st *State) Could {
	now := w.Clock.Now()
	c := Could{Person: w.Person}
	covered := map[string]bool{}
	permits := map[string]sentence.Permit{}
	for _, stated := range st.Estate.Sentences {
		if m, ok := stated.Sentence.(sentence.Permit); ok {
			permits[m.String()] = m
		}
	}
	for _, r := range rights.Of(w.Person, rights.State{Estate: st.Estate, Plan: st.Plan}) {
		if r.Kind != rights.Open {
			continue
		}
		permit := permits[r.Origin.Sentence]
		one := CouldOpen{Right: r}
		for _, n := range permit.Approvers {
			one.Approvers = append(one.Approvers, n.Text)
		}
		one.Hindered = opening.Hindered(opening.Request{
			Person: w.Person, Now: now, Estate: st.Estate, Plan: st.Plan,
			Running: func(name string) bool { return st.Report.Machines[name].State == driver.Running },
		}, opening.Part{Machines: r.Machines, Services: r.Flows.Services, From: r.Flows.From}, permit.From.String())
		for _, m := range r.Machines {
			covered[m] = true
		}
		c.May = append(c.May, one)
	}
	for _, m := range st.Plan.Machines {
		if !covered[m.Name] {
			c.Uncovered = append(c.Uncovered, m.Name)
		}
	}
	slices.Sort(c.Uncovered)
	return c
}
