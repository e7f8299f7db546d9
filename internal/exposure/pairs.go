package exposure

import (
	"time"

	"ironbark/internal/flow"
	"ironbark/internal/parallel"
)

// prepare compares each pair of classes that machines have before and after, on all processors.
func (c *comparison) prepare(olds []int32) {
	type job struct {
		x, y *class
		pair *pair
	}
	var jobs []job
	for m, old := range olds {
		if old != noMachine {
			key := [2]int32{c.a.v.classOf[old], c.b.v.classOf[m]}
			if c.pairs[key] == nil {
				c.pairs[key] = &pair{}
				jobs = append(jobs, job{c.a.v.classes[key[0]], c.b.v.classes[key[1]], c.pairs[key]})
			}
		}
	}
	parallel.Parts(len(jobs), func(from, to int) {
		w := &comparer{comparison: c, differ: map[[2]*ruleClass]discrepancy{}}
		for _, j := range jobs[from:to] {
			w.compare(j.x, j.y, j.pair)
		}
	})
}

// comparer compares pairs of classes, one after the other.
type comparer struct {
	*comparison
	differ        map[[2]*ruleClass]discrepancy
	before, after cuts
}

// compare tells what differs between a class before and one after.
func (c *comparer) compare(x, y *class, p *pair) {
	look, differ := c.look(x, y)
	switch {
	case !differ:
	case look.shut == nil:
		c.compareOpen(x, y, outside(c.own, c.before.open(c.a, x, look.box, look.arrives)), outside(c.own, c.after.open(c.b, y, look.box, look.arrives)), p)
	case look.shut.before: // what was shut is opened
		p.opened.list = look.shut.of(outside(c.own, c.after.open(c.b, y, look.box, look.arrives)))
	default:
		p.closed.list = look.shut.of(outside(c.own, c.before.open(c.a, x, look.box, look.arrives)))
	}
}

// compareOpen tells what differs between what is open at a class before, and at one after.
func (c *comparer) compareOpen(x, y *class, before, after []shared, p *pair) {
	opened, moved, ends := c.against(c.b, y, after, c.a, x, before)
	closed, _, _ := c.against(c.a, x, before, c.b, y, after)
	p.moved.list, p.moved.before = moved, ends
	move := func(now shared, was time.Time) {
		p.moved.list, p.moved.before = append(p.moved.list, now), append(p.moved.before, was)
	}
	p.opened.list, p.gained.list = elsewhere(opened, before, func(here, there shared) { move(here, there.entry.Until) })
	p.closed.list, p.lost.list = elsewhere(closed, after, func(here, there shared) { move(there, here.entry.Until) })
}

// box is a set of services and one of sources.
type box struct {
	services flow.Services
	from     flow.Addrs
}

// look tells for which services and sources two classes can differ at all, and
// false where they do not.
func (c *comparer) look(x, y *class) (d discrepancy, differ bool) {
	same := c.a.classes[x.place] == c.b.classes[y.place] && !c.everything
	if same && c.a.ruleClasses[x.ruleClass.place] == c.b.ruleClasses[y.ruleClass.place] {
		return d, false
	}
	d.box = box{flow.AnyService, flow.AllAddrs}
	if same {
		d = c.differing(x.ruleClass, y.ruleClass)
	}
	// Only what arrives at all through a door from there can differ.
	d.arrives = d.services.Intersect(c.a.arriving(x, d.from).Union(c.b.arriving(y, d.from)))
	return d, !d.arrives.IsEmpty()
}

// discrepancy is where two rule classes can differ.
type discrepancy struct {
	box
	arrives flow.Services // those of the services at which anything can arrive
	shut    *shutting     // all that one of them has more are denies, and the other one has nothing more
}

// differing returns the services and sources of the rules that only one of two
// rule classes has.
func (c *comparer) differing(x, y *ruleClass) discrepancy {
	key := [2]*ruleClass{x, y}
	d, known := c.differ[key]
	if known {
		return d
	}
	onlyX, onlyY, aligned := c.align(x.ranks, y.ranks)
	if aligned {
		d.box = c.boxOf(onlyX, onlyY, func(*side, int32) bool { return true })
		d.shut = c.shutting(onlyX, onlyY)
	} else {
		count := make(map[digest]int, len(x.ranks))
		for _, r := range x.ranks {
			count[c.a.rules[r]]++
		}
		for _, r := range y.ranks {
			count[c.b.rules[r]]--
		}
		d.box = c.boxOf(x.ranks, y.ranks, func(s *side, rank int32) bool { return count[s.rules[rank]] != 0 })
	}
	c.differ[key] = d
	return d
}

// shutting returns the denies in which alone two rule classes differ; nil where that is not so.
func (c *comparer) shutting(onlyX, onlyY []int32) *shutting {
	s, side, ranks := &shutting{}, c.b, onlyY
	if len(onlyY) == 0 {
		s.before, side, ranks = true, c.a, onlyX
	} else if len(onlyX) > 0 {
		return nil
	}
	for _, rank := range ranks {
		r := side.v.ranked[rank]
		if r.Kind != flow.Deny {
			return nil
		}
		s.denies = append(s.denies, flow.Box{Services: r.Services, From: r.From})
	}
	return s
}

// mostSkipped is how many rules in a row one rule class may have more than the other
// for the two to be aligned.
const mostSkipped = 4

// align walks the rules of two rule classes, which stand in the same order on both
// sides, and collects those that only one of them has. It gives up, and reports
// false, where too many differ in one place.
func (c *comparer) align(x, y []int32) (onlyX, onlyY []int32, aligned bool) {
	for len(x) > 0 && len(y) > 0 {
		if c.a.rules[x[0]] == c.b.rules[y[0]] {
			x, y = x[1:], y[1:]
			continue
		}
		skipped := false
		for n := 1; n <= mostSkipped && !skipped; n++ {
			switch {
			case n < len(y) && c.a.rules[x[0]] == c.b.rules[y[n]]:
				onlyY, y, skipped = append(onlyY, y[:n]...), y[n:], true
			case n < len(x) && c.a.rules[x[n]] == c.b.rules[y[0]]:
				onlyX, x, skipped = append(onlyX, x[:n]...), x[n:], true
			}
		}
		if !skipped {
			return nil, nil, false
		}
	}
	return append(onlyX, x...), append(onlyY, y...), true
}

// boxOf joins the services and sources of those rules of two rule classes that differ.
func (c *comparer) boxOf(x, y []int32, differs func(s *side, rank int32) bool) (b box) {
	collect := func(s *side, ranks []int32) {
		for _, r := range ranks {
			if differs(s, r) {
				b.services = b.services.Union(s.v.ranked[r].Services)
				b.from = b.from.Union(s.v.ranked[r].From)
			}
		}
	}
	collect(c.a, x)
	collect(c.b, y)
	return b
}

// arriving returns the services at which anything can arrive at a class from
// some sources.
func (s *side) arriving(c *class, from flow.Addrs) (services flow.Services) {
	for _, d := range s.doorsOf[c.place] {
		if d.From.Overlaps(from) {
			services = services.Union(d.Arrives)
		}
	}
	return services
}

// shutting are denies in which alone two rule classes differ: what is open on the side that has not got them, and in any of them, is shut on the other one, through
// whichever door.
type shutting struct {
	before bool // it is the earlier side that has them
	denies []flow.Box
}

// of returns what of some flows the denies shut.
func (s *shutting) of(list []shared) (shut []shared) {
	for _, one := range list {
		left := []Entry{one.entry}
		for _, d := range s.denies {
			var next []Entry
			for _, l := range left {
				services, from := l.Services.Intersect(d.Services), l.From.Intersect(d.From)
				if services.IsEmpty() || from.IsEmpty() {
					next = append(next, l)
					continue
				}
				here := with(l, services, from)
				shut = append(shut, shared{entry: here, door: one.door})
				next = append(next, less(l, []Entry{here})...)
			}
			left = next
		}
	}
	return shut
}
