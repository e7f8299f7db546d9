package change

import (
	"fmt"
	"slices"

	"ironbark/internal/sentence"
)

// Verb says what a change does to a thing.
type Verb string

// The verbs, as reviews name them.
const (
	Make   Verb = "make"
	Alter  Verb = "alter"
	Remove Verb = "remove"
)

// Change is one thing to be made, altered or removed.
type Change struct {
	Verb  Verb
	Thing Thing    // as it will be; for Remove, as it is
	How   []string // for Alter: what differs, in words
	// Restart is set where an alteration starts a machine anew.
	Restart bool
}

// Between compares what a site has with what is wanted. Removals come first, in
// the order that is safe for what depends on them, then what is made and altered.
func Between(has, wanted []Thing) ([]Change, error) {
	have, want := byID(has), byID(wanted)
	var list []Change
	var errs sentence.Errors
	for _, t := range slices.Backward(ordered(has)) {
		if _, keep := want[t.ID()]; !keep {
			list = append(list, Change{Verb: Remove, Thing: t})
		}
	}
	for _, t := range wanted {
		old, there := have[t.ID()]
		if !there {
			list = append(list, Change{Verb: Make, Thing: t})
			continue
		}
		t.Given = old.Given
		how := differs(old.Spec, t.Spec)
		if len(how) == 0 {
			continue
		}
		if bad := unalterable(old, t); bad != "" {
			errs = append(errs, &sentence.Error{Problem: fmt.Sprintf("%s %s: %s", t.Kind, t.Name, bad), Hint: "remove it, enact, and add it again"})
			continue
		}
		list = append(list, Change{Verb: Alter, Thing: t, How: how, Restart: t.Kind == Machine && old.Spec.Size != t.Spec.Size})
	}
	if len(errs) > 0 {
		return nil, errs
	}
	return list, nil
}

// unalterable tells what of a thing cannot be altered once it is made.
func unalterable(old, t Thing) string {
	switch {
	case t.Kind == Machine && old.Spec.Image != t.Spec.Image:
		return "the image of a machine that exists cannot be altered"
	case t.Kind == Machine && !slices.Equal(old.Spec.Subnets, t.Spec.Subnets):
		return "the subnets of a machine that exists cannot be altered"
	case t.Kind == Machine && old.Spec.Key != t.Spec.Key:
		return "the key of a machine that exists is inside it and cannot be altered from here"
	case (t.Kind == Subnet || t.Kind == Line || t.Kind == Front) && old.Spec.Network != t.Spec.Network:
		return "it cannot move to another network"
	}
	return ""
}

func byID(list []Thing) map[string]Thing {
	m := make(map[string]Thing, len(list))
	for _, t := range list {
		m[t.ID()] = t
	}
	return m
}

// ordered sorts things by the order in which they are made.
func ordered(list []Thing) []Thing {
	out := slices.Clone(list)
	slices.SortStableFunc(out, func(a, b Thing) int {
		return slices.Index(kindOrder, a.Kind) - slices.Index(kindOrder, b.Kind)
	})
	return out
}

// Planned returns the wanted things with the public addresses that the site gave
// to those it has already.
func Planned(has, wanted []Thing) []Thing {
	have := byID(has)
	out := slices.Clone(wanted)
	for i := range out {
		out[i].Given = have[out[i].ID()].Given
	}
	return out
}
