package estate

import (
	"slices"

	"ironbark/internal/sentence"
)

// Targets returns the machines that a target names, as places in e.Machines,
// ascending. Atoms that name no machines (a front, an address) add none.
// Cost: atoms × machines for patterns and tags.
func (e *Estate) Targets(s sentence.Set) []int {
	in := make([]bool, len(e.Machines))
	for _, a := range s.List {
		e.mark(in, a, true)
	}
	for _, a := range s.Except {
		e.mark(in, a, false)
	}
	var list []int
	for i, yes := range in {
		if yes {
			list = append(list, i)
		}
	}
	return list
}

// MachinesOf returns the machines that one atom names.
func (e *Estate) MachinesOf(a sentence.Atom) []int { return e.Targets(sentence.Of(a)) }

func (e *Estate) mark(in []bool, a sentence.Atom, value bool) {
	switch a.Kind() {
	case sentence.All:
		for i := range in {
			in[i] = value
		}
	case sentence.Pattern:
		for i, m := range e.Machines {
			if sentence.MatchPattern(a.Text(), m.Name) {
				in[i] = value
			}
		}
	case sentence.Tagged:
		key, text := a.Tag()
		for i, m := range e.Machines {
			if slices.Contains(m.Tags, Tag{key, text}) {
				in[i] = value
			}
		}
	case sentence.Named:
		e.markNamed(in, a.Text(), value)
	}
}

func (e *Estate) markNamed(in []bool, name string, value bool) {
	n, _ := e.Lookup(name)
	switch n.Kind {
	case KindMachine:
		in[n.I] = value
	case KindSubnet:
		for i, m := range e.Machines {
			if slices.Contains(m.Subnets, name) {
				in[i] = value
			}
		}
	case KindNetwork:
		for i, m := range e.Machines {
			if slices.ContainsFunc(m.Subnets, func(at string) bool {
				s, ok := e.Subnet(at)
				return ok && s.Network == name
			}) {
				in[i] = value
			}
		}
	}
}
