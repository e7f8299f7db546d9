package work

import (
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
)

// boxOf is the flows of an entry.
func boxOf(e exposure.Entry) flow.Box { return flow.Box{Services: e.Services, From: e.From} }

// with returns an entry with other flows.
func with(e exposure.Entry, b flow.Box) exposure.Entry {
	e.Services, e.From = b.Services, b.From
	return e
}

// beyond returns the flows of an entry that are in none of some others, as disjoint entries.
func beyond(e exposure.Entry, others []exposure.Entry) (list []exposure.Entry) {
	boxes := make([]flow.Box, len(others))
	for i, o := range others {
		boxes[i] = boxOf(o)
	}
	for _, b := range boxOf(e).Less(boxes) {
		list = append(list, with(e, b))
	}
	return list
}

// entriesOf are the entries of intervals.
func entriesOf(intervals []ExposureInterval) []exposure.Entry {
	list := make([]exposure.Entry, len(intervals))
	for i, s := range intervals {
		list[i] = s.Entry
	}
	return list
}

// joined makes one of intervals of one cause that begin together and whose flows are a rectangle together.
func joined(list []ExposureInterval) []ExposureInterval {
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
