package exposure

import (
	"encoding/binary"
	"hash/maphash"
	"sync"

	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
)

// digest stands for a rule, a set or a door in a comparison: two independent
// hashes of 64 bits. Sums of digests stand for multisets.
type digest [2]uint64

func (d digest) plus(o digest) digest { return digest{d[0] + o[0], d[1] + o[1]} }

// seeds of the two hashes. Digests are compared within one process only.
var seeds = [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}

func digestOf(data []byte) digest {
	return digest{maphash.Bytes(seeds[0], data), maphash.Bytes(seeds[1], data)}
}

func (d digest) append(data []byte) []byte {
	return binary.NativeEndian.AppendUint64(binary.NativeEndian.AppendUint64(data, d[0]), d[1])
}

// side is one view of a comparison, digested.
type side struct {
	v           *View
	own         flow.Addrs
	rules       []digest         // by rank
	sources     sets[flow.Point] // of rules, as are the next
	services    sets[flow.Service]
	doorSources sets[flow.Point]
	ruleClasses []digest      // by place
	classes     []digest      // of the doors of each class, by place
	doorsOf     [][]flow.Door // of the first machine of each class, by place

	scratch [2][]byte // of rules and of doors
}

// sets are the digests of sets that rules or doors share.
type sets[P span.Point[P]] map[span.Memory[P]]digest

// of returns the digest of a set, which is that of what write appends of it.
func (x sets[P]) of(s span.Set[P], write func(s span.Set[P], data []byte) []byte) digest {
	d, known := x[s.Memory()]
	if !known {
		d = digestOf(write(s, nil))
		x[s.Memory()] = d
	}
	return d
}

// newSides digests two views. Rules that stand in the same order on both sides are told by their number in it; the few others by what they come to.
func newSides(a, b *View, own flow.Addrs) (x, y *side) {
	x, y = newSide(a, own), newSide(b, own)
	var both sync.WaitGroup
	both.Go(func() {
		x.digestDoors()
		y.digestDoors()
	})
	i, j := 0, 0
	for n := uint64(1); i < len(a.ranked) && j < len(b.ranked); n++ {
		skipX, skipY := skipped(a.ranked[i:], b.ranked[j:])
		x.byContent(i, i+skipX)
		y.byContent(j, j+skipY)
		i, j = i+skipX, j+skipY
		if i == len(a.ranked) || j == len(b.ranked) || skipX+skipY > 0 && !sameRule(&a.ranked[i], &b.ranked[j]) {
			continue
		}
		x.rules[i], y.rules[j] = numbered(n), numbered(n)
		i, j = i+1, j+1
	}
	x.byContent(i, len(a.ranked))
	y.byContent(j, len(b.ranked))
	both.Go(x.digestRules)
	y.digestRules()
	both.Wait()
	return x, y
}

// skipped tells how many rules are to be passed over on each side until the next one is the same; one on each, where that is not within reach.
func skipped(x, y []active) (skipX, skipY int) {
	if sameRule(&x[0], &y[0]) {
		return 0, 0
	}
	for n := 1; n <= mostSkipped; n++ {
		switch {
		case n < len(y) && sameRule(&x[0], &y[n]):
			return 0, n
		case n < len(x) && sameRule(&x[n], &y[0]):
			return n, 0
		}
	}
	return 1, 1
}

// sameRule reports whether two rules come to the same, and false where that cannot be told at a glance.
func sameRule(x, y *active) bool {
	return x.Kind == y.Kind && x.Until.Equal(y.Until) && x.Services.Equal(y.Services) && x.From.Equal(y.From)
}

// numbered is the digest of a rule that has a number on both sides: two rounds of SplitMix64 (Steele, Lea and Flood, 2014).
func numbered(n uint64) digest {
	mix := func(z uint64) uint64 {
		z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
		z = (z ^ z>>27) * 0x94d049bb133111eb
		return z ^ z>>31
	}
	return digest{mix(n * 0x9e3779b97f4a7c15), mix(^n * 0x9e3779b97f4a7c15)}
}

func newSide(v *View, own flow.Addrs) *side {
	s := &side{v: v, own: own, rules: make([]digest, len(v.ranked)), ruleClasses: make([]digest, v.kinds), classes: make([]digest, len(v.classes)), doorsOf: make([][]flow.Door, len(v.classes))}
	s.sources, s.services, s.doorSources = sets[flow.Point]{}, sets[flow.Service]{}, sets[flow.Point]{}
	return s
}

// byContent digests the rules of some ranks by what they come to.
func (s *side) byContent(from, to int) {
	for i := from; i < to; i++ {
		r := &s.v.ranked[i]
		data := binary.NativeEndian.AppendUint64(append(s.scratch[0][:0], byte(r.Kind)), uint64(r.Until.UnixNano()))
		data = s.services.of(r.Services, appendServices).append(s.set(s.sources, r.From).append(data))
		s.rules[i], s.scratch[0] = digestOf(data), data
	}
}

// digestDoors digests the doors of the classes.
func (s *side) digestDoors() {
	for i, c := range s.v.classes {
		s.doorsOf[i] = s.v.Plan.DoorsTo(c.first)
		s.classes[i] = s.doors(s.doorsOf[i])
	}
}

// digestRules digests the classes, of whose rules each is digested.
func (s *side) digestRules() {
	digested := make([]bool, s.v.kinds)
	for _, c := range s.v.classes {
		if digested[c.ruleClass.place] {
			continue
		}
		var d digest
		for _, r := range c.ranks {
			d = d.plus(s.rules[r])
		}
		s.ruleClasses[c.ruleClass.place], digested[c.ruleClass.place] = d, true
	}
}

// set digests a set of sources, less the own public addresses.
func (s *side) set(known sets[flow.Point], from flow.Addrs) digest {
	return known.of(from, func(from flow.Addrs, data []byte) []byte {
		for _, r := range from.Subtract(s.own).Runs() {
			data = r.Lo.AppendTo(r.Hi.AppendTo(data))
		}
		return data
	})
}

func appendServices(s flow.Services, data []byte) []byte {
	for _, r := range s.Runs() {
		data = binary.NativeEndian.AppendUint32(data, uint32(r.Lo))
		data = binary.NativeEndian.AppendUint32(data, uint32(r.Hi))
	}
	return data
}

// doors digests doors: everything but their addresses.
func (s *side) doors(list []flow.Door) (d digest) {
	for _, door := range list {
		data := append(s.scratch[1][:0], byte(door.Kind), byte(door.Family))
		data = append(append(data, door.Via...), 0)
		data = binary.NativeEndian.AppendUint32(data, uint32(door.Service))
		data = appendServices(door.Arrives, s.set(s.doorSources, door.From).append(data))
		if own := door.Own; own != nil && flow.Active(own.Until, s.v.At) {
			data = binary.NativeEndian.AppendUint64(s.set(s.doorSources, own.From).append(data), uint64(own.Until.UnixNano()))
			if own.Standing {
				data = append(data, 1)
			}
		}
		d = d.plus(digestOf(data))
		s.scratch[1] = data
	}
	return d
}
