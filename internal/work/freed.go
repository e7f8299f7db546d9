package work

import (
	"net/netip"
	"slices"

	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// Freed is a public address of the estate that is its no more. Somebody else may get it.
type Freed struct {
	Address netip.Addr
	NamedBy []string // sentences and sources that name it, so that they name somebody else from then on
}

// mostFreed is how many freed addresses are looked at one by one.
const mostFreed = 1000

// freed lists the public addresses that an estate gives back.
func freed(before, after *State) (list []Freed) {
	for _, run := range before.Plan.Own().Subtract(after.Plan.Own()).Runs() {
		for p := run.Lo; p.Compare(run.Hi) <= 0 && len(list) < mostFreed; p = p.Next() {
			list = append(list, Freed{Address: p.Addr(), NamedBy: namers(after, p)})
		}
	}
	return list
}

// namers lists the sources and sentences of an estate that name an address, or a range with
// it, in numbers.
func namers(st *State, p flow.Point) (list []string) {
	names := func(atoms []sentence.Atom) bool {
		return slices.ContainsFunc(atoms, func(a sentence.Atom) bool {
			lo, hi := a.Bounds()
			return lo.IsValid() && flow.PointOf(lo).Compare(p) <= 0 && p.Compare(flow.PointOf(hi)) <= 0
		})
	}
	for _, s := range st.Estate.Sources {
		if names(s.Ranges) {
			list = append(list, "source "+s.Name)
		}
	}
	for _, stated := range st.Estate.Sentences() {
		if v := stated.Sentence.Verb(); v == sentence.VerbDeny || v == sentence.VerbNever || v == sentence.VerbAlways { // they let nobody in
			continue
		}
		from := sentence.SourceOf(stated.Sentence)
		if names(from.List) && !names(from.Except) {
			list = append(list, "“"+stated.Sentence.String()+"”")
		}
	}
	return list
}
