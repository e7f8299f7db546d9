package work

import "ironbark/internal/exposure"

// An entry's flows are a rectangle: its sources by its services. These functions cut such rectangles, and keep all else of the entry.

// isEmpty reports whether an entry has no flows.
func isEmpty(e exposure.Entry) bool { return e.From.IsEmpty() || e.Services.IsEmpty() }

// common returns the flows of an entry that are another's, too.
func common(e, other exposure.Entry) exposure.Entry {
	e.From, e.Services = e.From.Intersect(other.From), e.Services.Intersect(other.Services)
	return e
}

// beyond returns the flows of an entry that are in none of some others, as disjoint entries. Cost: linear in the others where they are
// disjoint from it or contain it; each other one may cut it in two.
func beyond(e exposure.Entry, others []exposure.Entry) []exposure.Entry {
	list := []exposure.Entry{e}
	for _, o := range others {
		var left []exposure.Entry
		for _, one := range list {
			both := common(one, o)
			if isEmpty(both) {
				left = append(left, one)
				continue
			}
			services, sources := one, one
			services.Services = one.Services.Subtract(both.Services)
			sources.Services, sources.From = both.Services, one.From.Subtract(both.From)
			for _, part := range []exposure.Entry{services, sources} {
				if !isEmpty(part) {
					left = append(left, part)
				}
			}
		}
		list = left
	}
	return list
}

// entriesOf are the entries of spells.
func entriesOf(spells []Spell) []exposure.Entry {
	list := make([]exposure.Entry, len(spells))
	for i, s := range spells {
		list[i] = s.Entry
	}
	return list
}

// joined makes one of spells of one cause that begin together and whose flows are a rectangle together.
func joined(list []Spell) []Spell {
	for i := 0; i < len(list); i++ {
		for k := i + 1; k < len(list); k++ {
			a, b := &list[i], list[k]
			if !a.Begin.Equal(b.Begin) || a.By != b.By || !a.Entry.Until.Equal(b.Entry.Until) {
				continue
			}
			switch {
			case a.Entry.From.Equal(b.Entry.From):
				a.Entry.Services = a.Entry.Services.Union(b.Entry.Services)
			case a.Entry.Services.Equal(b.Entry.Services):
				a.Entry.From = a.Entry.From.Union(b.Entry.From)
			default:
				continue
			}
			list = append(list[:k], list[k+1:]...)
			i = -1 // it may make one with those before
			break
		}
	}
	return list
}
