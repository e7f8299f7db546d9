package exposure

import (
	"encoding/binary"
	"slices"

	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
)

// cutDown is what is left of a view where only some services and sources matter.
type cutDown struct {
	box
	any     bool                               // all services matter
	v       *View                              // of those rules that were looked at and concern what matters, cut down to those sources
	places  []int32                            // by rank, the place of a rule among those, from 1; 0: it was not looked at
	meets   map[span.Memory[flow.Service]]bool // rules share their sets
	leaves  map[span.Memory[flow.Point]]active // what is left of a rule's sources
	asked   []flow.Services
	few     [][]*ruleClass        // what is left of rule classes: by the place of what was asked, and by theirs
	byRanks map[string]*ruleClass // those of the same rules and services are one

	ranks []int32 // of one of them, while it is put together, and its key among those
	key   []byte
}

// unconcerned stands in place of a place: the rule concerns nothing that matters.
const unconcerned = -1

// cuts are what is left of one view, for each services and sources that mattered so far. They are not safe for concurrent use.
type cuts []*cutDown

// of returns the view of a side cut down to services and sources.
func (list *cuts) of(s *side, look box) *cutDown {
	for _, c := range *list {
		if c.services.Equal(look.services) && c.from.Equal(look.from) {
			return c
		}
	}
	c := &cutDown{
		box: look, any: look.services.Equal(flow.AnyService), v: &View{Plan: s.v.Plan, At: s.v.At}, places: make([]int32, len(s.v.ranked)),
		meets: map[span.Memory[flow.Service]]bool{}, leaves: map[span.Memory[flow.Point]]active{}, byRanks: map[string]*ruleClass{},
	}
	*list = append(*list, c)
	return c
}

// look cuts a rule down, and returns its place.
func (c *cutDown) look(r *active) int32 {
	if r.services.IsEmpty() || r.from.IsEmpty() {
		return unconcerned
	}
	if !c.any {
		service := r.services.Memory()
		met, known := c.meets[service]
		if !known {
			met = r.services.Overlaps(c.services)
			c.meets[service] = met
		}
		if !met {
			return unconcerned
		}
	}
	source := r.from.Memory()
	left, known := c.leaves[source]
	if !known {
		left.from = r.from.Intersect(c.from)
		left.wide = left.from.ContainsAll(c.from.Intersect(c.v.Plan.Everywhere()))
		c.leaves[source] = left
	}
	if left.from.IsEmpty() {
		return unconcerned
	}
	left.Rule, left.services, left.part = r.Rule, r.services, r.part
	c.v.ranked = append(c.v.ranked, left)
	return int32(len(c.v.ranked))
}

// class returns what is left of a rule class of the view of a side for services that are asked about.
func (s *side) class(c *cutDown, a *ruleClass, asked flow.Services) *ruleClass {
	i := slices.IndexFunc(c.asked, asked.Equal)
	if i < 0 {
		i = len(c.asked)
		c.asked, c.few = append(c.asked, asked), append(c.few, make([]*ruleClass, s.v.kinds))
	}
	if few := c.few[i][a.place]; few != nil {
		return few
	}
	c.ranks, c.key = c.ranks[:0], binary.NativeEndian.AppendUint32(c.key[:0], uint32(i))
	for _, r := range a.ranks {
		if c.places[r] == 0 {
			c.places[r] = c.look(&s.v.ranked[r])
		}
		if place := c.places[r]; place != unconcerned {
			c.ranks, c.key = append(c.ranks, place-1), binary.NativeEndian.AppendUint32(c.key, uint32(place))
		}
	}
	few := c.byRanks[string(c.key)]
	if few == nil {
		few = &ruleClass{ranks: slices.Clone(c.ranks)}
		c.byRanks[string(c.key)] = few
	}
	c.few[i][a.place] = few
	return few
}

// open computes what is open at a class of a side for some services and sources only:
// rules for others are left out before anything is computed. asked are those of the services that are asked about.
func (list *cuts) open(s *side, c *class, look box, asked flow.Services) (open []shared) {
	cut := list.of(s, look)
	few := s.class(cut, c.ruleClass, asked)
	few.once.Do(func() { few.combinations, few.services = grouped(cut.v.slicesFor(few, asked)) })
	for i, d := range s.doorsOf[c.place] {
		for _, g := range cut.v.throughDoor(few, d) {
			if g.from = g.from.Intersect(look.from); !g.from.IsEmpty() {
				open = append(open, g.shared(d, i))
			}
		}
	}
	return open
}
