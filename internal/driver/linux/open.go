package linux

import (
	"net/netip"
	"slices"
	"time"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"

	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
)

// opened is what openings let pass to an address of a machine. It is under numbers of its
// own, to the first of which the address leads, so nothing that may expire at any moment has
// to be deleted: other openings come under others.
//
//	address ─▶ number ──with its source──▶ who ──with the service──▶ when: the times
type opened struct {
	to       netip.Addr
	number   uint32
	from     []openFrom
	services []openService
	times    []openTime
}

// openFrom is a run of sources for all of which the same is open.
type openFrom struct {
	source flow.Run
	who    uint32
}

type openService struct {
	who      uint32
	services span.Run[flow.Service]
	when     uint32
}

type openTime struct {
	when       uint32
	begin, end uint64 // both included
}

// newOpened arranges boxes that do not overlap. It takes the numbers after the last one that was
// given, which it brings forward.
func newOpened(to netip.Addr, boxes []Box, last *uint32) opened {
	next := func() uint32 {
		*last++
		return *last
	}
	o := opened{to: to, number: next()}
	var cuts []flow.Point
	for _, b := range boxes {
		if b.Source.Lo.Addr().Is4() == to.Is4() {
			cuts = append(cuts, b.Source.Lo, b.Source.Hi.Next())
		}
	}
	slices.SortFunc(cuts, flow.Point.Compare)
	cuts = slices.Compact(cuts)
	byStart := slices.Clone(boxes)
	slices.SortFunc(byStart, func(a, b Box) int { return a.Source.Lo.Compare(b.Source.Lo) })
	when := map[openTime]uint32{}
	var active []Box
	for i, at := range cuts {
		for len(byStart) > 0 && byStart[0].Source.Lo.Compare(at) <= 0 {
			active, byStart = append(active, byStart[0]), byStart[1:]
		}
		active = slices.DeleteFunc(active, func(b Box) bool { return b.Source.Hi.Compare(at) < 0 })
		if len(active) == 0 {
			continue
		}
		end := active[0].Source.Hi // of the last address of all nothing comes after
		if i+1 < len(cuts) && cuts[i+1].Prev().Compare(at) >= 0 {
			end = cuts[i+1].Prev()
		}
		one := openFrom{flow.Run{Lo: at, Hi: end}, next()}
		o.from = append(o.from, one)
		for _, slice := range layersOf(active).slices() {
			var times []interval
			for _, b := range active {
				if b.Services.Lo <= slice.Lo && slice.Lo <= b.Services.Hi {
					times = merge(times, interval{b.Begin, b.End + 1})
				}
			}
			for _, t := range times {
				key := openTime{begin: t.begin, end: t.end - 1}
				if when[key] == 0 {
					n := next()
					when[key] = n
					o.times = append(o.times, openTime{n, key.begin, key.end})
				}
			}
			// Several times of one service come under one number.
			number := when[openTime{begin: times[0].begin, end: times[0].end - 1}]
			if len(times) > 1 {
				number = next()
				for _, t := range times {
					o.times = append(o.times, openTime{number, t.begin, t.end - 1})
				}
			}
			o.services = append(o.services, openService{one.who, slice, number})
		}
	}
	return o
}

// layersOf are boxes as layers of all times.
func layersOf(boxes []Box) (l layers) {
	for _, b := range boxes {
		l = append(l, layer{services: span.Of(b.Services), end: 1})
	}
	return l
}

// openSets are the sets of one family.
type openSets struct {
	opens, from, service, when, counted *nftables.Set
}

// openSetsOf names them. Both families have all but the first two in common.
func openSetsOf(table *nftables.Table, f family) openSets {
	return openSets{
		opens:   &nftables.Set{Table: table, Name: "opens" + f.name, IsMap: true, KeyType: f.addressType, DataType: nftables.TypeMark},
		from:    &nftables.Set{Table: table, Name: "open-from" + f.name, IsMap: true, Interval: true, KeyType: flatType(4 + f.size), DataType: nftables.TypeMark},
		service: &nftables.Set{Table: table, Name: "open-service", IsMap: true, Interval: true, KeyType: flatType(entryBytes), DataType: nftables.TypeMark},
		when:    &nftables.Set{Table: table, Name: "open-when", Interval: true, HasTimeout: true, KeyType: flatType(12)},
		counted: &nftables.Set{Table: table, Name: openedName, KeyType: nftables.TypeMark, Counter: true},
	}
}

// addOpened puts openings into the sets. Each time has the wall clock in its key and a time-out
// besides, whichever comes first; one that is over is none.
func (b *batch) addOpened(s openSets, o opened, now time.Time) {
	var from, services []flatRange
	for _, one := range o.from {
		k := (&key{}).both(native(o.number)).source(Box{Source: one.source})
		from = append(from, flatRange{k.lo, k.hi, native(one.who)})
	}
	for _, one := range o.services {
		k := (&key{}).both(native(one.who)).anyService(one.services)
		services = append(services, flatRange{k.lo, k.hi, native(one.when)})
	}
	var times []nftables.SetElement
	for _, t := range o.times {
		left := time.Duration(int64(t.end) - now.UnixNano())
		if t.end >= forever/2 || left < time.Millisecond {
			continue // a time-out of less than that would be for ever
		}
		k := (&key{}).both(native(t.when)).time(Box{Begin: t.begin, End: t.end})
		pair := flatElements([]flatRange{{lo: k.lo, hi: k.hi}})
		pair[0].Timeout = left.Truncate(time.Millisecond)
		times = append(times, pair...)
	}
	b.add(s.from, flatElements(from))
	b.add(s.service, flatElements(services))
	b.add(s.when, times)
	b.add(s.opens, []nftables.SetElement{{Key: o.to.AsSlice(), Val: native(o.number)}})
	b.add(s.counted, []nftables.SetElement{{Key: native(o.number)}})
}

// byOpening are the expressions that look a packet of one sort of service up among openings, by
// its mark, which is the number to which its address leads. The mark becomes each number that is found in turn: nft(8) cannot print a number
// that a rule looks up and uses at once.
func byOpening(source []expr.Any, sort int, s openSets) []expr.Any {
	into := func(m *nftables.Set) []expr.Any {
		return append(markBy(m), loadMeta(expr.MetaKeyMARK, 0)...)
	}
	return slices.Concat(loadMeta(expr.MetaKeyMARK, 0), source, into(s.from), serviceOfPacket(sort), into(s.service), clock(1), lookup(s.when, 0, false))
}

// markBy sets the packet's mark to what a map has for the registers from the first on. Where it has nothing the rule ends.
func markBy(m *nftables.Set) []expr.Any {
	return []expr.Any{
		&expr.Lookup{SourceRegister: register(0), DestRegister: register(0), IsDestRegSet: true, SetName: m.Name, SetID: m.ID},
		&expr.Meta{Key: expr.MetaKeyMARK, SourceRegister: true, Register: register(0)},
	}
}

// reopen puts other openings in place of those that pass to some addresses. led tells which of
// the addresses lead to openings already.
func reopen(c *filterConn, list []opened, led map[netip.Addr]bool, now time.Time) error {
	return c.commit(func(c *nftables.Conn) error {
		b := &batch{c: c, table: &nftables.Table{Name: tableName, Family: nftables.TableFamilyINet}}
		b.reopen(list, led, now)
		return b.err
	})
}

func (b *batch) reopen(list []opened, led map[netip.Addr]bool, now time.Time) {
	for _, f := range families {
		s := openSetsOf(b.table, f)
		for _, o := range list {
			if o.to.Is4() != f.v4 {
				continue
			}
			if led[o.to] {
				b.do(b.c.SetDeleteElements(s.opens, []nftables.SetElement{{Key: o.to.AsSlice()}}))
			}
			if len(o.from) > 0 {
				b.addOpened(s, o, now)
			}
		}
	}
}
