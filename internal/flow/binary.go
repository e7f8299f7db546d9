package flow

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"net/netip"
	"slices"
	"strings"
	"time"

	"ironbark/internal/flow/span"
)

// A plan in binary is what [FromRows] makes of rows, so that it need not be made again. Sets and groups that rules share stand in it once:
//
//	magic │ guard, nowhere │ sets of addresses │ sets of services │ nouns │ groups │ doors │ rules │ outward rules │ CRC-32C
//
// Numbers are varints (encoding/binary); texts and lists begin with their length. The form is of this very version of the program: a reader that
// does not know it falls back on the rows.
const binaryMagic = "ironbark plan 1\n"

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// ErrBinary says that bytes are no plan as this program writes it.
var ErrBinary = errors.New("these bytes are no plan in the form that this program writes")

// Binary returns the plan in binary, for [FromBinary]. Cost: linear in the rules and in the runs of the sets that differ.
func (p *Plan) Binary() []byte {
	w := &binaryWriter{addrSets: index{of: map[string]uint64{}}, serviceSets: index{of: map[string]uint64{}}, groups: map[*Group]uint64{}}
	w.collect(p)
	w.b = append(w.b, binaryMagic...)
	w.services(p.AdminServices)
	w.addrs(p.ExcludedSources)
	w.index(w.addrSets)
	w.index(w.serviceSets)
	w.nouns(p)
	w.count(len(w.order))
	for _, g := range w.order {
		w.group(g)
	}
	w.count(len(p.Doors))
	for _, d := range p.Doors {
		w.b = append(w.b, byte(d.Kind))
		w.text(d.Front)
		w.count(int(d.Service))
		w.count(int(d.On))
		w.uint(w.groups[d.To])
		w.shared(&w.addrSets, w.addrKey(d.From))
		w.bool(d.Standing)
		w.moment(d.Until)
		w.origin(d.Origin)
	}
	w.rules(p.Rules)
	w.rules(p.Outward)
	return binary.BigEndian.AppendUint32(w.b, crc32.Checksum(w.b, castagnoli))
}

// index numbers what is written once and meant by number, in the order in which it comes.
type index struct {
	of   map[string]uint64
	list []string
}

func (x *index) number(key []byte) uint64 {
	if n, ok := x.of[string(key)]; ok {
		return n
	}
	n := uint64(len(x.list))
	x.list = append(x.list, string(key))
	x.of[x.list[n]] = n
	return n
}

type binaryWriter struct {
	encoder
	key                   encoder
	addrSets, serviceSets index
	groups                map[*Group]uint64
	order                 []*Group
}

// collect numbers all that is shared.
func (w *binaryWriter) collect(p *Plan) {
	group := func(g *Group) {
		if _, known := w.groups[g]; !known {
			w.groups[g] = uint64(len(w.order))
			w.order = append(w.order, g)
		}
	}
	for _, d := range p.Doors {
		group(d.To)
		w.addrSets.number(w.addrKey(d.From))
	}
	for _, list := range [][]Rule{p.Rules, p.Outward} {
		for i := range list {
			group(list[i].To)
			w.addrSets.number(w.addrKey(list[i].From))
			w.serviceSets.number(w.serviceKey(list[i].Services))
		}
	}
}

func (w *binaryWriter) index(x index) {
	w.count(len(x.list))
	for _, s := range x.list {
		w.b = append(w.b, s...)
	}
}

// shared writes the number of a set that was collected.
func (w *binaryWriter) shared(x *index, key []byte) { w.uint(x.of[string(key)]) }

// addrKey and serviceKey write a set out by itself.
func (w *binaryWriter) addrKey(s Addrs) []byte {
	w.key.b = w.key.b[:0]
	w.key.addrs(s)
	return w.key.b
}

func (w *binaryWriter) serviceKey(s Services) []byte {
	w.key.b = w.key.b[:0]
	w.key.services(s)
	return w.key.b
}

func (w *binaryWriter) nouns(p *Plan) {
	w.count(len(p.Networks))
	for _, n := range p.Networks {
		w.text(n.Name)
		w.addrs(n.Space)
		w.bool(n.Outside)
		w.bool(n.OpenOutward)
		w.count(len(n.Joins))
		for _, j := range n.Joins {
			w.text(j)
		}
	}
	w.count(len(p.Lines))
	for _, l := range p.Lines {
		w.text(l.Name)
		w.text(l.Network)
		w.addrs(l.Range)
	}
	w.count(len(p.Machines))
	for _, m := range p.Machines {
		w.text(m.Name)
		w.public(m.Public)
		w.count(len(m.Interfaces))
		for _, i := range m.Interfaces {
			w.text(i.Subnet)
			w.text(i.Network)
			w.addrList(i.Addrs)
		}
	}
	w.count(len(p.Fronts))
	for _, f := range p.Fronts {
		w.text(f.Name)
		w.text(f.Network)
		w.public(f.Public)
	}
	w.count(len(p.Gateways))
	for _, g := range p.Gateways {
		w.text(g.Name)
		w.text(g.Network)
		w.addrList(g.Inside)
		w.public(g.Public)
		w.addrs(g.From)
	}
}

func (w *binaryWriter) rules(list []Rule) {
	w.count(len(list))
	for i := range list {
		r := &list[i]
		w.b = append(w.b, byte(r.Kind))
		w.shared(&w.addrSets, w.addrKey(r.From))
		w.uint(w.groups[r.To])
		w.shared(&w.serviceSets, w.serviceKey(r.Services))
		w.moment(r.Begin)
		w.moment(r.Until)
		w.count(int(r.Opening))
		w.origin(r.Origin)
	}
}

// FromBinary reads a plan that [Plan.Binary] wrote. Its texts share memory with data. The error is [ErrBinary], for all other bytes. Cost: linear,
// some 0.1 microseconds a rule.
func FromBinary(data string) (*Plan, error) {
	const sum = 4
	body := len(data) - sum
	if body < len(binaryMagic) || data[:len(binaryMagic)] != binaryMagic {
		return nil, ErrBinary
	}
	if crc32.Checksum([]byte(data[:body]), castagnoli) != binary.BigEndian.Uint32([]byte(data[body:])) {
		return nil, fmt.Errorf("%w: its sum is wrong", ErrBinary)
	}
	r := &binaryReader{s: data[len(binaryMagic):body]}
	p := r.plan()
	if r.bad || r.s != "" {
		return nil, ErrBinary
	}
	p.finish()
	p.finishDoors()
	return p, nil
}

// binaryReader reads what binaryWriter wrote. After the first thing that is not as it must be every method returns a zero value.
type binaryReader struct {
	s        string
	bad      bool
	machines int
	from     []Addrs
	services []Services
	groups   []*Group
}

func (r *binaryReader) fail() { r.bad, r.s = true, "" }

func (r *binaryReader) byte() byte {
	if r.s == "" {
		r.fail()
		return 0
	}
	b := r.s[0]
	r.s = r.s[1:]
	return b
}

func (r *binaryReader) uint() (n uint64) {
	for shift := 0; shift < 64; shift += 7 {
		b := r.byte()
		if n |= uint64(b&0x7f) << shift; b < 0x80 {
			return n
		}
	}
	r.fail()
	return 0
}

// count reads the length of a list, each of whose parts takes a byte at least.
func (r *binaryReader) count() int {
	n := r.uint()
	if n > uint64(len(r.s)) {
		r.fail()
		return 0
	}
	return int(n)
}

func (r *binaryReader) bool() bool { return r.byte() == 1 }

func (r *binaryReader) take(n int) string {
	if n > len(r.s) {
		r.fail()
		return ""
	}
	s := r.s[:n]
	r.s = r.s[n:]
	return s
}

func (r *binaryReader) text() string { return r.take(r.count()) }

func (r *binaryReader) moment() time.Time {
	if !r.bool() {
		return time.Time{}
	}
	n := r.uint() // zigzag, as encoding/binary has it
	seconds := int64(n >> 1)
	if n&1 != 0 {
		seconds = ^seconds
	}
	return time.Unix(seconds, int64(r.uint())).UTC()
}

func (r *binaryReader) point(family byte) (p Point) {
	big := func(n int) (v uint64) {
		for _, b := range []byte(r.take(n)) {
			v = v<<8 | uint64(b)
		}
		return v
	}
	switch family {
	case 4:
		return Point{lo: big(4)}
	case 6:
		return Point{hi: big(8), lo: big(8), v6: true}
	}
	r.fail()
	return p
}

func (r *binaryReader) addr() netip.Addr {
	family := r.byte()
	if family == 0 {
		return netip.Addr{}
	}
	return r.point(family).Addr()
}

func (r *binaryReader) addrs() Addrs {
	runs := make([]Run, r.count())
	for i := range runs {
		runs[i] = Run{Lo: r.point(r.byte()), Hi: r.point(r.byte())}
	}
	return readSet(r, runs)
}

func (r *binaryReader) serviceSet() Services {
	runs := make([]span.Run[Service], r.count())
	for i := range runs {
		runs[i] = span.Run[Service]{Lo: Service(r.uint()), Hi: Service(r.uint())}
	}
	return readSet(r, runs)
}

// readSet makes a set of runs that were those of a set.
func readSet[T span.Point[T]](r *binaryReader, runs []span.Run[T]) span.Set[T] {
	s, ok := span.Sorted(runs)
	if !ok {
		r.fail()
	}
	return s
}

func (r *binaryReader) public() Public {
	return Public{Wants4: r.bool(), Wants6: r.bool(), Addr4: r.addr(), Addr6: r.addr()}
}

func (r *binaryReader) origin() Origin { return Origin{r.text(), r.text(), int(r.uint())} }

// list reads a list; nil where it is empty, as all parts of plans are then.
func list[T any](r *binaryReader, one func() T) []T {
	n := r.count()
	if n == 0 {
		return nil
	}
	out := make([]T, 0, n)
	for range n {
		if out = append(out, one()); r.bad {
			return nil
		}
	}
	return out
}

func (r *binaryReader) plan() *Plan {
	p := &Plan{AdminServices: r.serviceSet(), ExcludedSources: r.addrs()}
	r.from, r.services = list(r, r.addrs), list(r, r.serviceSet)
	p.Networks = list(r, func() Network { return Network{r.text(), r.addrs(), r.bool(), r.bool(), list(r, r.text)} })
	p.Lines = list(r, func() Line { return Line{r.text(), r.text(), r.addrs()} })
	p.Machines = list(r, func() Machine {
		m := Machine{Name: r.text(), Public: r.public()}
		m.Interfaces = list(r, func() Interface { return Interface{r.text(), r.text(), list(r, r.addr)} })
		return m
	})
	if !slices.IsSortedFunc(p.Machines, func(a, b Machine) int { return strings.Compare(a.Name, b.Name) }) {
		r.fail()
	}
	p.Fronts = list(r, func() Front { return Front{r.text(), r.text(), r.public()} })
	p.Gateways = list(r, func() Gateway { return Gateway{r.text(), r.text(), list(r, r.addr), r.public(), r.addrs()} })
	r.machines = len(p.Machines)
	r.groups = list(r, r.group)
	p.Doors = list(r, r.door)
	p.Rules = list(r, r.rule)
	p.Outward = list(r, r.rule)
	return p
}

func (r *binaryReader) group() *Group {
	g := &Group{make([]int32, r.count())}
	last := uint64(0)
	for i := range g.Machines {
		step := r.uint()
		if last += step; i > 0 && step == 0 || last >= uint64(r.machines) {
			r.fail()
			return g
		}
		g.Machines[i] = int32(last)
	}
	return g
}

// shared returns the thing of a number.
func shared[T any](r *binaryReader, list []T) (one T) {
	n := r.uint()
	if n >= uint64(len(list)) {
		r.fail()
		return one
	}
	return list[n]
}

func (r *binaryReader) door() Published {
	d := Published{Kind: DoorKind(r.byte()), Front: r.text(), Service: Service(r.uint()), On: Service(r.uint()), To: shared(r, r.groups), From: shared(r, r.from), Standing: r.bool(), Until: r.moment(), Origin: r.origin()}
	if d.Kind != DoorForward && d.Kind != DoorSpread {
		r.fail()
	}
	return d
}

func (r *binaryReader) rule() Rule {
	rule := Rule{Kind: RuleKind(r.byte()), From: shared(r, r.from), To: shared(r, r.groups), Services: shared(r, r.services), Begin: r.moment(), Until: r.moment(), Opening: int64(r.uint()), Origin: r.origin()}
	if rule.Kind < Deny || rule.Kind > Allow {
		r.fail()
	}
	return rule
}
