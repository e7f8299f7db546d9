package exposure

import (
	"cmp"
	"slices"

	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
)

// Effect is what a sentence comes to at one machine.
type Effect struct {
	Origin  flow.Origin
	Opening int64
	Kind    flow.RuleKind
	State   EffectState
	Why     string // for what has no effect: in words
	By      flow.Origin
}

// EffectState says whether a sentence matters at a machine.
type EffectState string

// The states of a sentence at a machine.
const (
	InForce    EffectState = "in force"   // without it something would be otherwise
	Redundant  EffectState = "redundant"  // others do all that it does
	Overridden EffectState = "overridden" // denies keep out all that it would let in
	Dead       EffectState = "dead"       // it can never match here
)

// Effects tells what each sentence that concerns machine m comes to there. One is
// in force if taking it away alone would change what is open; two that do the
// same are both redundant.
func (v *View) Effects(m int32) []Effect {
	doors := v.Plan.DoorsTo(m)
	c := v.classes[v.classOf[m]]
	rules := v.rulesOf(c.ruleClass)
	parts := v.slicesFor(c.ruleClass, flow.AnyService, translated(doors)...)
	list := make([]Effect, 0, len(rules))
	places := map[*flow.Rule]int{} // in list, from 1
	for _, r := range rules {
		if at := places[r.whole()]; at > 0 { // another part of the same rule
			v.effect(&list[at-1], r, parts, doors)
			continue
		}
		e := Effect{Origin: r.Origin, Opening: r.Opening, Kind: r.Kind, State: Dead, Why: v.inWords("no door leads here from its source", "it has no way there")}
		v.effect(&e, r, parts, doors)
		list = append(list, e)
		places[r.whole()] = len(list)
	}
	slices.SortStableFunc(list, func(a, b Effect) int { return a.Origin.Compare(b.Origin) })
	return list
}

// effect looks at what a rule does in each slice that it meets. Slices are in order, and cut where a rule begins or ends.
func (v *View) effect(e *Effect, r *active, parts []slice, doors []flow.Door) {
	for _, run := range r.Services.Runs() {
		at, _ := slices.BinarySearchFunc(parts, run.Lo, func(s slice, lo flow.Service) int { return cmp.Compare(s.services.Lo, lo) })
		for ; at < len(parts) && parts[at].services.Lo <= run.Hi; at++ {
			v.weigh(e, r, parts[at], doors)
		}
	}
}

// DoorEffects tells of each forward and spread that leads to machine m whether anything gets in
// by it there.
func (v *View) DoorEffects(m int32) (list []Effect) {
	reach := v.Reach(m)
	for _, d := range v.Plan.DoorsTo(m) {
		if !d.Translated() || slices.ContainsFunc(list, func(e Effect) bool { return e.Origin == d.Own.Origin }) {
			continue
		}
		e := Effect{Origin: d.Own.Origin, State: Dead, Why: "nothing lets anybody in by it"}
		if slices.ContainsFunc(reach, func(r Entry) bool { return r.Door.Own != nil && r.Door.Own.Origin == d.Own.Origin }) {
			e.State, e.Why = InForce, ""
		}
		list = append(list, e)
	}
	slices.SortStableFunc(list, func(a, b Effect) int { return a.Origin.Compare(b.Origin) })
	return list
}

func translated(doors []flow.Door) (cuts []flow.Service) {
	for _, d := range doors {
		if d.Translated() {
			cuts = append(cuts, d.Own.On)
		}
	}
	return cuts
}

// weigh looks at what a rule does in a slice, door by door, since a door's own
// from holds for that door alone, and keeps the weightiest of what was found.
func (v *View) weigh(e *Effect, r *active, s slice, doors []flow.Door) {
	for _, d := range doors {
		mine := r.From.Intersect(d.From)
		if !d.Arrives.Contains(s.services.Lo) || mine.IsEmpty() {
			continue
		}
		own, _ := d.OwnPass(v.Plan.AdminServices, v.At)
		state, why, by := v.weighAt(r, s, mine, own)
		rank := map[EffectState]int{Dead: 0, Overridden: 1, Redundant: 2, InForce: 3}
		if rank[state] > rank[e.State] || state == Dead && e.State == Dead {
			e.State, e.Why, e.By = state, why, by
		}
	}
}

// weighAt looks at what a rule does for the sources of a door, whose own from
// lets in own.
func (v *View) weighAt(r *active, s slice, mine, own flow.Addrs) (EffectState, string, flow.Origin) {
	switch {
	case r.Kind == flow.Deny:
		return v.weighDeny(r, s, mine, own)
	case !s.passes(r):
		return Dead, "what it covers is administrative, which an allow does not open", flow.Origin{}
	}
	free := mine.Subtract(s.deny)
	if free.IsEmpty() {
		by := flow.Origin{}
		for _, p := range s.denied() {
			if p.from.Overlaps(mine) {
				by = p.rule.Origin
				break
			}
		}
		return Overridden, "denied", by
	}
	var others span.Builder[flow.Point]
	others.Reset(own)
	by := flow.Origin{Sentence: "the door's own from"}
	for _, o := range s.letting() {
		if o.whole() != r.whole() {
			others.Add(o.from)
			if by.File == "" && o.from.Overlaps(free) {
				by = o.Origin
			}
		}
	}
	if others.Rest(free).IsEmpty() {
		return Redundant, v.inWords("let in anyway", "open anyway"), by
	}
	return InForce, "", flow.Origin{}
}

// weighDeny looks at what a deny keeps out that would be let in without it.
func (v *View) weighDeny(r *active, s slice, mine, own flow.Addrs) (EffectState, string, flow.Origin) {
	var let, others span.Builder[flow.Point]
	let.Reset(own)
	for _, o := range s.letting() {
		let.Add(o.from)
	}
	wanted := mine.Subtract(let.Rest(mine))
	if wanted.IsEmpty() {
		return Redundant, v.inWords("nothing would let in what it keeps out", "closed anyway"), flow.Origin{}
	}
	by := flow.Origin{}
	s.all.each(s.met, func(o *active) {
		if o.Kind == flow.Deny && o.whole() != r.whole() {
			others.Add(o.from)
			if by.Sentence == "" && o.from.Overlaps(wanted) {
				by = o.Origin
			}
		}
	})
	if others.Rest(wanted).IsEmpty() {
		return Redundant, v.inWords("kept out anyway", "denied anyway"), by
	}
	return InForce, "", flow.Origin{}
}

// inWords returns the words for what comes to machines, or those for what machines call outside.
func (v *View) inWords(inward, outward string) string {
	if v.Plan.OfCalls() {
		return outward
	}
	return inward
}
