package work

import (
	"slices"

	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// NeedNoAddress names the machines of a network that have a public address of their own, and to which no
// sentence lets anybody in from outside but for administrative services: people could get there through a
// bastion.
func NeedNoAddress(e *estate.Estate, network string) (names []string) {
	admin := flow.ServicesOf(e, sentence.Services{List: e.Administrative()})
	needed := map[int]bool{}
	for _, st := range e.Sentences() {
		switch s := st.Sentence.(type) {
		case sentence.Allow:
			mark(needed, e, s.To, !flow.ServicesOf(e, s.Services).Subtract(admin).IsEmpty() || s.Standing)
		case sentence.Permit:
			mark(needed, e, s.To, !flow.ServicesOf(e, s.Services).Subtract(admin).IsEmpty())
		case sentence.Always:
			mark(needed, e, s.To, true)
		}
	}
	for i, m := range e.Machines {
		in := slices.ContainsFunc(m.Subnets, func(at string) bool {
			s, ok := e.Subnet(at)
			return ok && s.Network == network
		})
		if in && m.Address.Wanted() && !needed[i] {
			names = append(names, m.Name)
		}
	}
	return names
}

func mark(needed map[int]bool, e *estate.Estate, to sentence.Set, yes bool) {
	if yes {
		for _, i := range e.Targets(to) {
			needed[i] = true
		}
	}
}
