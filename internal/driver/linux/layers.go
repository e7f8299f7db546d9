package linux

import (
	"cmp"
	"maps"
	"slices"
	"time"

	"ironbark/internal/driver"
	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
)

// nanos is a moment as the kernel has it; that of a zero time is given.
func nanos(t time.Time, zero uint64) uint64 {
	if t.IsZero() {
		return zero
	}
	return uint64(max(0, t.UnixNano()))
}

// moment is a moment of the kernel's.
func moment(n uint64) time.Time { return time.Unix(0, int64(min(n, forever/2))).UTC() }

// last is the last moment before an end.
func last(end uint64) uint64 {
	if end == forever {
		return forever
	}
	return end - 1
}

// layer is what one rule says: flows and a span of time, its end not included.
type layer struct {
	services   flow.Services
	from       flow.Addrs
	begin, end uint64
}

// layers are rules that may overlap in all of it.
type layers []layer

// boxes cuts layers into boxes that do not overlap and together are all of them. Along
// the services it is cut where a rule begins or ends; there, sources are cut so that
// each has its own spans of time, joined where they touch.
func (l layers) boxes() (out []Box) {
	for _, slice := range l.slices() {
		from := map[interval][]flow.Run{} // nearly all rules have the same span of time
		for _, r := range l {
			if r.end > r.begin && r.services.Contains(slice.Lo) {
				t := interval{r.begin, r.end}
				from[t] = append(from[t], r.from.Runs()...)
			}
		}
		var pieces []piece
		for _, t := range slices.SortedFunc(maps.Keys(from), func(a, b interval) int {
			return cmp.Or(cmp.Compare(a.begin, b.begin), cmp.Compare(a.end, b.end))
		}) {
			pieces = cut(pieces, span.Of(from[t]...), t)
		}
		for _, p := range pieces {
			for _, run := range p.from.Runs() {
				for _, t := range p.times {
					out = append(out, Box{Services: slice, Source: run, Begin: t.begin, End: last(t.end)})
				}
			}
		}
	}
	return join(out)
}

// slices cuts the line of services where a layer begins or ends, and where the protocol
// changes.
func (l layers) slices() (list []span.Run[flow.Service]) {
	cuts := []flow.Service{flow.UDPPort(0), flow.Ping, flow.Other}
	var all flow.Services
	for _, r := range l {
		all = all.Union(r.services)
		for _, run := range r.services.Runs() {
			cuts = append(cuts, run.Lo, run.Hi.Next())
		}
	}
	slices.Sort(cuts)
	cuts = slices.Compact(cuts)
	for _, run := range all.Runs() {
		lo := run.Lo
		i, found := slices.BinarySearch(cuts, lo)
		if found {
			i++
		}
		for ; i < len(cuts) && cuts[i] <= run.Hi; i++ {
			list = append(list, span.Run[flow.Service]{Lo: lo, Hi: cuts[i].Prev()})
			lo = cuts[i]
		}
		list = append(list, span.Run[flow.Service]{Lo: lo, Hi: run.Hi})
	}
	return list
}

// interval is a span of time, its end not included.
type interval struct{ begin, end uint64 }

// piece is a set of sources with the same spans of time, which are apart and ascending.
type piece struct {
	from  flow.Addrs
	times []interval
}

// cut adds a span of time for some sources to pieces that do not overlap.
func cut(pieces []piece, from flow.Addrs, t interval) (out []piece) {
	for _, p := range pieces {
		both := p.from.Intersect(from)
		if both.IsEmpty() {
			out = append(out, p)
			continue
		}
		if rest := p.from.Subtract(from); !rest.IsEmpty() {
			out = append(out, piece{rest, p.times})
		}
		out = append(out, piece{both, merge(p.times, t)})
		from = from.Subtract(p.from)
	}
	if !from.IsEmpty() {
		out = append(out, piece{from, []interval{t}})
	}
	return out
}

// merge adds a span of time, and joins those that touch.
func merge(times []interval, t interval) (out []interval) {
	for _, o := range times {
		switch {
		case o.end < t.begin || t.end < o.begin:
			out = append(out, o)
		default:
			t.begin, t.end = min(t.begin, o.begin), max(t.end, o.end)
		}
	}
	out = append(out, t)
	slices.SortFunc(out, func(a, b interval) int { return cmp.Compare(a.begin, b.begin) })
	return out
}

// join joins boxes that differ in nothing but services that follow on one another.
func join(list []Box) (out []Box) {
	open := map[Box]int{} // by the box without its services: where it stands
	for _, b := range list {
		key := b
		key.Services = span.Run[flow.Service]{}
		i, ok := open[key]
		if ok && out[i].Services.Hi.Next() == b.Services.Lo && protocol(out[i].Services.Lo) == protocol(b.Services.Lo) {
			out[i].Services.Hi = b.Services.Hi
			continue
		}
		open[key] = len(out)
		out = append(out, b)
	}
	return out
}

// protocol is the number that stands for a service's protocol in the sets: TCP's and
// UDP's own, that of ICMP for an echo request of either family, and 255 for all others.
func protocol(s flow.Service) uint8 {
	switch {
	case s < flow.UDPPort(0):
		return 6
	case s < flow.Ping:
		return 17
	case s == flow.Ping:
		return 1
	}
	return 255
}

// openings cuts what passages let pass to one machine into boxes. They have no class.
func openings(list []driver.Passage, machine string) []Box {
	var l layers
	for _, p := range list {
		for _, part := range p.Parts {
			if services := part.Services.Intersect(flow.AnyService); !services.IsEmpty() && slices.Contains(part.Machines, machine) { // a console is no part of the tables
				l = append(l, layer{services, part.From, nanos(p.Begin, 0), nanos(part.End, 0)})
			}
		}
	}
	return l.boxes()
}
