package linux

import (
	"ironbark/internal/driver"
	"ironbark/internal/flow"
)

// altered is the sentence of what passes by a packet filter that somebody else wrote to.
const altered = "the packet filter was altered by hand, and nobody can tell what it lets pass"

// readBack tells of a packet filter that somebody else wrote to. On doubt all of it is open:
// that is what is told, and the next enactment puts it right.
func (s *Site) readBack(plan *flow.Plan, _ []driver.Passage) (*flow.Plan, error) {
	all := &flow.Group{}
	for i := range plan.Machines {
		all.Machines = append(all.Machines, int32(i))
	}
	return plan.With(flow.Rule{Kind: flow.Standing, From: plan.Everywhere(), To: all, Services: flow.AnyService, Origin: flow.Origin{Sentence: altered}}), nil
}
