package exposure

import (
	"slices"

	"ironbark/internal/estate"
	"ironbark/internal/flow"
)

// Hop is one step of a path: from a source, or a machine that was reached, to the
// next machine.
type Hop struct {
	From  string // a machine or gateway; "" for the source that the path begins at
	To    string // a machine or gateway
	Entry Entry  // what lets the hop through
}

// Path is a chain of hops, each from where the one before it led.
type Path []Hop

// MostPaths is how many of the shortest paths to one target are told.
const MostPaths = 8

// Paths finds how far somebody gets who breaks into what they reach: the shortest
// chains from a source to each machine, over what is open in the view. A target
// that the source cannot get to has none. Gateways count as places to break into
// when gateways is set. Cost: the estate's entries, once for each length of path.
func (v *View) Paths(from flow.Addrs, gateways bool) *Ways {
	w := &Ways{v: v, level: map[string]int{}, into: map[string][]Hop{}}
	w.spread("", from, 1, gateways)
	for length := 2; ; length++ {
		var next []string
		for name, l := range w.level {
			if l == length-1 {
				next = append(next, name)
			}
		}
		if len(next) == 0 {
			return w
		}
		slices.Sort(next)
		for _, name := range next {
			w.spread(name, w.addrs(name), length, gateways)
		}
	}
}

// Ways is what Paths found.
type Ways struct {
	v     *View
	level map[string]int   // the length of the shortest paths to each place
	into  map[string][]Hop // the last hops of those
}

// addrs are the addresses from which a place calls.
func (w *Ways) addrs(name string) flow.Addrs {
	if m, ok := w.v.Plan.MachineByName(name); ok {
		return w.v.Plan.AddrsOf(m)
	}
	for _, g := range w.v.Plan.Gateways {
		if g.Name == name {
			return flow.AddrSet(g.Inside...)
		}
	}
	return flow.Addrs{}
}

// spread notes what can be reached from a place by paths of a length.
func (w *Ways) spread(name string, from flow.Addrs, length int, gateways bool) {
	for e := range w.v.ReachAll() {
		to := e.Door.Via
		if e.Door.Machine >= 0 {
			to = w.v.Plan.Machines[e.Door.Machine].Name
		} else if !gateways {
			continue
		}
		if !gateways && e.Reason == ByRoute { // it is a person's, by the gateway alone
			continue
		}
		if to == name || w.level[to] > 0 && w.level[to] < length {
			continue
		}
		if e.From = e.From.Intersect(from); e.From.IsEmpty() {
			continue
		}
		w.level[to] = length
		w.into[to] = append(w.into[to], Hop{From: name, To: to, Entry: e})
	}
}

// Reached lists the places that can be reached, the nearest first.
func (w *Ways) Reached() []string {
	var names []string
	for name := range w.level {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b string) int {
		if w.level[a] != w.level[b] {
			return w.level[a] - w.level[b]
		}
		if a < b {
			return -1
		}
		return 1
	})
	return names
}

// To returns the shortest paths to a place, at most [MostPaths]; none where it
// cannot be reached. Each pair of places is told with its first entry.
func (w *Ways) To(name string) (paths []Path) {
	var walk func(at string, rest Path)
	walk = func(at string, rest Path) {
		told := map[string]bool{}
		for _, hop := range w.into[at] {
			if told[hop.From] || len(paths) == MostPaths {
				continue
			}
			told[hop.From] = true
			path := append(Path{hop}, rest...)
			if hop.From == "" {
				paths = append(paths, path)
				continue
			}
			walk(hop.From, path)
		}
	}
	walk(name, nil)
	return paths
}

// CouldBe returns the plan with everything in place that its estate's permits
// could let somebody open.
func CouldBe(e *estate.Estate, p *flow.Plan) *flow.Plan { return p.With(possible(e, p)...) }
