package change

import (
	"cmp"
	"fmt"
	"slices"

	"ironbark/internal/fault"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// Verb says what a change does to a resource.
type Verb string

// The verbs, as reviews name them.
const (
	Make   Verb = "make"
	Alter  Verb = "alter"
	Remove Verb = "remove"
	Adopt  Verb = "adopt" // what is there, as it is
)

// Change is one resource to be made, altered or removed.
type Change struct {
	Verb     Verb
	Resource Resource // as it will be; for Remove, as it is
	How      []string // for Alter: what differs, in words
	// Restart is set where an alteration starts a machine anew.
	Restart bool
}

// Diff compares what a site has with what is wanted. Snapshots of what is
// there come first, then removals in the order that is safe for what depends on
// them, then what gives its public address up for another, and then what is made
// and altered, each after what it needs. Unmanaged resources are left alone, but for those in
// discard, by ID.
func Diff(has, wanted []Resource, discard map[string]bool) ([]Change, error) {
	have, want := byID(has), byID(wanted)
	var first, removed, given, list []Change
	var errs sentence.Errors
	unwanted := ordered(has, func(t *Resource) bool { return want[t.ID()] == nil && (!t.Unmanaged || discard[t.ID()]) })
	for _, t := range slices.Backward(unwanted) {
		removed = append(removed, Change{Verb: Remove, Resource: t})
	}
	claimed := claims(wanted)
	for _, t := range wanted {
		there := have[t.ID()]
		old := there.orNone()
		t.Given = old.Given
		if there == nil {
			c := Change{Verb: Make, Resource: t}
			if subject := t.subject(); t.Kind == Snapshot {
				if have[subject] != nil {
					first = append(first, c)
					continue
				} else if want[subject] == nil {
					errs = append(errs, &sentence.Error{Problem: fmt.Sprintf("snapshot %s: there is no %s", t.Name, subject), Remedy: fault.Say("a snapshot is of something that is there")})
				}
			}
			list = append(list, c)
			continue
		}
		how := append(differs(old.Spec, t.Spec), takes(t, *old, have)...)
		switch bad, advice := unalterable(*old, t); {
		case len(how) == 0 && (old.Unmanaged || old.LastEnacted != nil):
			list = append(list, Change{Verb: Adopt, Resource: t})
		case len(how) == 0:
		case bad != "":
			switch {
			case old.Unmanaged:
				advice = fault.Say("somebody made one of that name without ironbark: take yours out of the files, remove theirs, and add it again")
			case advice.IsZero():
				advice = fault.Say("remove it, enact, and add it again")
			}
			errs = append(errs, &sentence.Error{Problem: fmt.Sprintf("%s %s: %s", t.Kind, t.Name, bad), Remedy: advice})
		default:
			alter := Change{Verb: Alter, Resource: t, How: how, Restart: t.Kind == Machine && (old.Spec.Size != t.Spec.Size || !slices.Equal(old.Spec.Subnets, t.Spec.Subnets))}
			switch {
			case !old.cedesAddress(claimed):
				list = append(list, alter)
			case len(t.publics()) == 0 && !t.Spec.Auto4: // it wants none in its place
				given = append(given, alter)
			default:
				given = append(given, Change{Verb: Alter, Resource: without(*old), How: []string{"gives its public address up"}})
				list = append(list, alter)
			}
		}
	}
	if len(errs) > 0 {
		return nil, errs
	}
	return slices.Concat(first, removed, given, afterNeeds(list)), nil
}

// takes tells of the reserved addresses that a resource asks for as before, and does
// not have: somebody took the reservation away, and it is made again.
func takes(t, old Resource, have map[string]*Resource) (how []string) {
	for _, name := range t.Spec.Reserved {
		if !slices.Contains(old.Spec.Reserved, name) {
			continue // told as a difference
		}
		r := have[string(Address)+" "+name]
		if r == nil || r.Given.Addr4.IsValid() && r.Given.Addr4 != old.Given.Addr4 || r.Given.Addr6.IsValid() && r.Given.Addr6 != old.Given.Addr6 {
			how = append(how, "takes the reserved address "+name+" as it is now")
		}
	}
	return how
}

// claims tells who wants each reserved or given public address, by its name.
func claims(wanted []Resource) map[string]string {
	m := map[string]string{}
	for _, t := range wanted {
		if t.Kind != Address {
			for _, name := range t.publics() {
				m[name] = t.ID()
			}
		}
	}
	return m
}

// publics names the reserved and given public addresses that a resource asks for.
func (t Resource) publics() []string {
	list := slices.Clone(t.Spec.Reserved)
	for _, a := range t.Spec.Fixed {
		list = append(list, a.String())
	}
	return list
}

// cedesAddress reports whether the resource has a public address that another one wants.
func (t Resource) cedesAddress(claimed map[string]string) bool {
	return t.Kind != Address && slices.ContainsFunc(t.publics(), func(name string) bool { return claimed[name] != "" && claimed[name] != t.ID() })
}

// without returns the resource without its public addresses.
func without(t Resource) Resource {
	t.Spec.Fixed, t.Spec.Reserved, t.Given = nil, nil, flow.Public{}
	return t
}

// subject is the ID of what a snapshot is of.
func (t Resource) subject() string {
	if t.Spec.Machine != "" {
		return string(Machine) + " " + t.Spec.Machine
	}
	return string(Volume) + " " + t.Spec.Volume
}

// needs lists the IDs of what must be made before a resource, where it is made too.
func (t Resource) needs() []string {
	switch t.Kind {
	case Snapshot:
		return []string{t.subject()}
	case Machine:
		return []string{string(Image) + " " + t.Spec.Image, string(Snapshot) + " " + t.Spec.Image, string(Volume) + " " + t.Spec.Boot}
	case Volume:
		list := []string{string(Snapshot) + " " + t.Spec.From, string(Snapshot) + " " + t.Spec.Image, string(Image) + " " + t.Spec.Image}
		if !t.Boots() {
			list = append(list, string(Machine)+" "+t.Spec.Machine)
		}
		return list
	}
	return nil
}

// afterNeeds puts each change after those that it needs and otherwise keeps the order.
func afterNeeds(list []Change) []Change {
	place := map[string]int{}
	for i, c := range list {
		place[c.Resource.ID()] = i
	}
	done := make([]bool, len(list))
	out := make([]Change, 0, len(list))
	var visit func(i int)
	visit = func(i int) {
		if done[i] {
			return
		}
		done[i] = true
		for _, id := range list[i].Resource.needs() {
			if j, ok := place[id]; ok {
				visit(j)
			}
		}
		out = append(out, list[i])
	}
	for i := range list {
		visit(i)
	}
	return out
}

// unalterable tells what of a resource cannot be altered once it is made.
func unalterable(old, t Resource) (problem string, advice fault.Advice) {
	switch {
	case t.Kind == Machine && old.Spec.Boot != t.Spec.Boot:
		return "what a machine that exists boots from cannot be altered", advice
	case t.Kind == Machine && old.Spec.Image != t.Spec.Image:
		return "the image of a machine that exists cannot be altered", advice
	case t.Kind == Machine && old.Spec.Key != t.Spec.Key && !t.Rotates:
		return "the key of a machine that exists is inside it", fault.Run("change", "machine", t.Name, "--key", cmp.Or(t.Spec.Key, "NAME")).Say(" puts the new one there")
	case (t.Kind == Machine || t.Kind == Volume) && t.Spec.GB < old.Spec.GB:
		return fmt.Sprintf("a disk cannot shrink, from %d GB to %d GB", old.Spec.GB, t.Spec.GB), advice
	case (t.Kind == Machine || t.Kind == Volume) && t.Spec.Speed != old.Spec.Speed:
		return "the kind of a disk that exists cannot be altered", advice
	case t.Kind == Volume && (t.Spec.From != old.Spec.From || t.Spec.Image != old.Spec.Image):
		return "what a volume began as cannot be altered", advice
	case t.Kind == Snapshot && old.subject() != t.subject():
		return "what a snapshot is of cannot be altered", advice
	case t.Kind == Image && old.Spec.File != t.Spec.File:
		return "the file of an image that exists cannot be altered", advice
	case t.Kind == Address && old.Spec.V6 != t.Spec.V6:
		return "its family cannot be altered", advice
	case (t.Kind == Subnet || t.Kind == Line || t.Kind == Front) && old.Spec.Network != t.Spec.Network:
		return "it cannot move to another network", advice
	}
	return "", advice
}

// byID finds resources by ID.
func byID(list []Resource) map[string]*Resource {
	m := make(map[string]*Resource, len(list))
	for i := range list {
		m[list[i].ID()] = &list[i]
	}
	return m
}

// orNone returns the resource, or one that asks for nothing where there is none.
func (t *Resource) orNone() *Resource {
	if t == nil {
		return &Resource{}
	}
	return t
}

// ordered returns the resources of a list that are asked for, in the order in which they are made. Resources are large: each is copied once.
func ordered(list []Resource, asked func(*Resource) bool) []Resource {
	var byRank [][]int
	n := 0
	for i := range list {
		if !asked(&list[i]) {
			continue
		}
		r := max(0, list[i].rank()) // a kind of another version of the program comes first
		for len(byRank) <= r {
			byRank = append(byRank, nil)
		}
		byRank[r] = append(byRank[r], i)
		n++
	}
	out := make([]Resource, 0, n)
	for _, places := range byRank {
		for _, i := range places {
			out = append(out, list[i])
		}
	}
	return out
}

// Planned returns the wanted resources with the public addresses that they will
// have, as far as that is known: given ones, reserved ones that the site has
// chosen, and those that it gave before.
func Planned(has, wanted []Resource) []Resource {
	have := byID(has)
	reserved := map[string]flow.Public{}
	for _, t := range wanted {
		if t.Kind == Address {
			reserved[t.Name] = t.fixed(have[t.ID()].orNone().Given)
		}
	}
	out := slices.Clone(wanted)
	for i, t := range out {
		old := have[t.ID()].orNone()
		switch {
		case len(t.Spec.Reserved) > 0:
			for _, name := range t.Spec.Reserved {
				out[i].Given = merge(out[i].Given, reserved[name])
			}
		case len(t.Spec.Fixed) > 0:
			out[i].Given = t.fixed(flow.Public{})
		case slices.Equal(old.publics(), t.publics()):
			out[i].Given = old.Given
		}
	}
	return out
}

// fixed returns the given addresses of a resource, or those that it has.
func (t Resource) fixed(has flow.Public) flow.Public {
	for _, a := range t.Spec.Fixed {
		if a.Is4() {
			has.Addr4 = a
		} else {
			has.Addr6 = a
		}
	}
	return has
}

func merge(a, b flow.Public) flow.Public {
	if b.Addr4.IsValid() {
		a.Addr4 = b.Addr4
	}
	if b.Addr6.IsValid() {
		a.Addr6 = b.Addr6
	}
	return a
}

// BlockedBy tells which of the changes that failed keep this one from being done: what
// is needed was not made, or the snapshot of what would be removed or altered was
// not taken. It returns "" where none does.
func (c Change) BlockedBy(failed []Change) string {
	for _, f := range failed {
		switch {
		case slices.Contains(c.Resource.needs(), f.Resource.ID()) && f.Verb == Make:
			return fmt.Sprintf("it needs %s, which was not made", f.Resource.ID())
		case f.Resource.Kind == Snapshot && f.Resource.subject() == c.Resource.ID() && c.Verb != Make:
			return fmt.Sprintf("it stays as it is, since %s was not taken", f.Resource.ID())
		}
	}
	return ""
}
