package exposure

import (
	"cmp"
	"slices"

	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
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
// when gateways is set. Cost: what is open at the classes of machines, once, and for each length of path
// the machines that are not reached before; hops are looked for when they are asked for.
func (v *View) Paths(from flow.Addrs, gateways bool) *Ways {
	w := &Ways{v: v, gateways: gateways, from: from, level: map[string]int{}, into: map[string][]string{}}
	v.Prepare()
	w.classes = make([]flow.Addrs, len(v.classes))
	for i, c := range v.classes {
		w.classes[i] = w.letsIn(c)
	}
	next := w.spread(frontier{names: []string{""}, addrs: []held{}, all: from}, 1)
	for length := 2; len(next) > 0; length++ {
		next = w.spread(w.frontierOf(next), length)
	}
	return w
}

// Ways is what Paths found.
type Ways struct {
	v        *View
	gateways bool
	from     flow.Addrs
	classes  []flow.Addrs        // by class, the sources that it lets in at all
	level    map[string]int      // the length of the shortest paths to each place
	into     map[string][]string // the places from which those come there, the first by name; "" for the source
}

// letsIn are the sources that anything lets in to a class, but for routes where gateways are no places: those are a
// person's, by the gateway alone.
func (w *Ways) letsIn(c *class) flow.Addrs {
	var runs []flow.Run
	for _, door := range c.reach {
		for _, l := range door {
			if w.gateways || l.rule == nil || l.rule.Kind != flow.Route {
				runs = append(runs, l.from.Runs()...)
			}
		}
	}
	return span.Of(runs...)
}

// frontier are places that were just reached, by name, and the addresses from which they call, ascending.
type frontier struct {
	names []string
	addrs []held
	all   flow.Addrs
}

// held is an address, and whose it is: a place in the frontier's names.
type held struct {
	addr flow.Point
	by   int
}

func (w *Ways) frontierOf(names []string) frontier {
	f := frontier{names: names}
	var runs []flow.Run
	for i, name := range names {
		for _, r := range w.addrs(name).Runs() {
			runs = append(runs, r)
			for a := r.Lo; ; a = a.Next() {
				f.addrs = append(f.addrs, held{a, i})
				if a == r.Hi {
					break
				}
			}
		}
	}
	slices.SortFunc(f.addrs, func(a, b held) int { return a.addr.Compare(b.addr) })
	f.all = span.Of(runs...)
	return f
}

// first lists the places of a frontier that some sources hold an address of, the first few by name.
func (f frontier) first(in flow.Addrs, few int) (list []int) {
	if len(f.names) == 1 {
		if in.Overlaps(f.all) {
			list = []int{0}
		}
		return list
	}
	met := map[int]bool{}
	for _, r := range in.Runs() {
		at, _ := slices.BinarySearchFunc(f.addrs, r.Lo, func(h held, lo flow.Point) int { return h.addr.Compare(lo) })
		for ; at < len(f.addrs) && f.addrs[at].addr.Compare(r.Hi) <= 0; at++ {
			met[f.addrs[at].by] = true
		}
	}
	for i := range met {
		list = append(list, i)
	}
	slices.Sort(list)
	return list[:min(len(list), few)]
}

// addrs are the addresses from which a place calls.
func (w *Ways) addrs(name string) flow.Addrs {
	if name == "" {
		return w.from
	}
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

// spread notes what can be reached from a frontier by paths of a length, and returns it, by name.
func (w *Ways) spread(f frontier, length int) (next []string) {
	known := make([][]int, len(w.classes)) // by class, the first places that it lets in
	reach := func(to string, from []int) {
		if w.level[to] > 0 {
			return
		}
		for _, i := range from { // never itself: those of the frontier are reached already
			w.into[to] = append(w.into[to], f.names[i])
		}
		if len(from) > 0 {
			w.level[to] = length
			next = append(next, to)
		}
	}
	for m, machine := range w.v.Plan.Machines {
		if w.level[machine.Name] > 0 {
			continue
		}
		c := w.v.classOf[m]
		if known[c] == nil {
			known[c] = append([]int{}, f.first(w.classes[c], MostPaths)...) // never nil
		}
		reach(machine.Name, known[c])
	}
	if w.gateways {
		in := map[string]flow.Addrs{}
		for e := range w.v.GatewayReach() {
			in[e.Door.Via] = in[e.Door.Via].Union(e.From)
		}
		for _, g := range w.v.Plan.Gateways {
			reach(g.Name, f.first(in[g.Name], MostPaths))
		}
	}
	slices.Sort(next)
	return next
}

// hop finds the first entry that lets one place in to another.
func (w *Ways) hop(from, to string) Hop {
	addrs, hop := w.addrs(from), Hop{From: from, To: to}
	take := func(e Entry) bool {
		if !w.gateways && e.Reason == ByRoute {
			return true
		}
		if e.From = e.From.Intersect(addrs); e.From.IsEmpty() {
			return true
		}
		hop.Entry = e
		return false
	}
	if m, ok := w.v.Plan.MachineByName(to); ok {
		w.v.each(m, take)
		return hop
	}
	for e := range w.v.GatewayReach() {
		if e.Door.Via == to && !take(e) {
			break
		}
	}
	return hop
}

// Reached lists the places that can be reached, the nearest first.
func (w *Ways) Reached() []string {
	var names []string
	for name := range w.level {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b string) int {
		return cmp.Or(cmp.Compare(w.level[a], w.level[b]), cmp.Compare(a, b))
	})
	return names
}

// To returns the shortest paths to a place, at most [MostPaths]; none where it
// cannot be reached. Each pair of places is told with its first entry.
func (w *Ways) To(name string) (paths []Path) {
	var walk func(at string, rest Path)
	walk = func(at string, rest Path) {
		for _, from := range w.into[at] {
			if len(paths) == MostPaths {
				return
			}
			path := append(Path{w.hop(from, at)}, rest...)
			if from == "" {
				paths = append(paths, path)
				continue
			}
			walk(from, path)
		}
	}
	walk(name, nil)
	return paths
}

// WithPermits returns the plan with everything in place that its estate's permits
// could let somebody open.
func WithPermits(e *estate.Estate, p *flow.Plan) *flow.Plan { return p.With(possible(e, p)...) }
