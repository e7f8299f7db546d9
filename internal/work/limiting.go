package work

import (
	"slices"

	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/rights"
)

// Limiting sets those denies in force, among the effects of sentences at a machine, that keep out what permits would let people open there,
// though nothing is open now.
func Limiting(list []exposure.Effect, st *State, machine string) []exposure.Effect {
	idle := func(e exposure.Effect) bool {
		return e.Kind == flow.Deny && e.State == exposure.Redundant && e.By.Sentence == ""
	}
	if !slices.ContainsFunc(list, idle) {
		return list
	}
	could := slices.DeleteFunc(rights.At(machine, rights.State{Estate: st.Estate, Plan: st.Plan}), func(r rights.Right) bool { return r.Kind != rights.Open })
	limits := func(o flow.Origin) bool {
		return slices.ContainsFunc(st.Plan.Rules, func(r flow.Rule) bool {
			box := flow.Box{Services: r.Services, From: r.From}
			return r.Kind == flow.Deny && r.Origin == o && slices.ContainsFunc(could, func(may rights.Right) bool { return !may.Flows.Intersect(box).IsEmpty() })
		})
	}
	for i, e := range list {
		if idle(e) && limits(e.Origin) {
			list[i].State, list[i].Why = exposure.InForce, ""
		}
	}
	return list
}
