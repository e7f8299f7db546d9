package opening

import (
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// Hindered lists what speaks against opening some services of some machines from some
// sources now, whoever asked: each machine with all its reasons and what remedies them. Cost:
// that of a view of the plan.
func Hindered(r Request, part Part, from string) []Reason {
	j := &judge{Request: r, resolve: flow.NewResolver(r.Estate, r.Plan), o: Opening{Begin: r.Now}, part: part}
	j.part.End = r.Now.Add(LapseTime)
	if a, err := sentence.ParseSource(from); err == nil {
		j.Words.From = a
	}
	j.judgeTarget()
	return j.refusal.Reasons
}
