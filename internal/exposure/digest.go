package exposure

import (
	"encoding/binary"
	"hash/maphash"

	"ironbark/internal/flow"
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
	rules       []digest // by rank
	sets        map[*flow.Run]digest
	ruleClasses map[*ruleClass]digest
	classes     map[*class]digest
	doorsOf     map[*class][]flow.Door // of the class's first machine

	cuts    []*cutDown
	scratch []byte
}

// cutDown is what is left of a view where only some services and sources matter.
type cutDown struct {
	services flow.Services
	from     flow.Addrs
	reached  []bool // by rank, whether the rule concerns any of them
	few      map[*ruleClass]*ruleClass
}

// cut returns the view cut down to services and sources.
func (s *side) cut(services flow.Services, from flow.Addrs) *cutDown {
	for _, c := range s.cuts {
		if c.services.Equal(services) && c.from.Equal(from) {
			return c
		}
	}
	c := &cutDown{services: services, from: from, reached: make([]bool, len(s.v.ranked)), few: map[*ruleClass]*ruleClass{}}
	for i, r := range s.v.ranked {
		c.reached[i] = r.Services.Overlaps(services) && r.From.Overlaps(from)
	}
	s.cuts = append(s.cuts, c)
	return c
}

func newSide(v *View, own flow.Addrs) *side {
	s := &side{v: v, own: own, sets: map[*flow.Run]digest{}, ruleClasses: map[*ruleClass]digest{}, classes: map[*class]digest{}, doorsOf: make(map[*class][]flow.Door, len(v.classes))}
	s.rules = make([]digest, len(v.ranked))
	for i, r := range v.ranked {
		from := s.set(r.From)
		data := append(s.scratch[:0], byte(r.Kind))
		data = binary.NativeEndian.AppendUint64(data, uint64(r.Until.UnixNano()))
		data = appendServices(from.append(data), r.Services)
		s.rules[i], s.scratch = digestOf(data), data
	}
	for _, c := range v.classes {
		s.doorsOf[c] = v.Plan.DoorsTo(c.first)
		s.doors(c)
		s.ruleDigest(c.ruleClass)
	}
	return s
}

func appendServices(data []byte, s flow.Services) []byte {
	for _, r := range s.Runs() {
		data = binary.NativeEndian.AppendUint32(data, uint32(r.Lo))
		data = binary.NativeEndian.AppendUint32(data, uint32(r.Hi))
	}
	return data
}

// set digests a set of sources, less the own public addresses. Sets that share
// their runs are digested once.
func (s *side) set(from flow.Addrs) digest {
	if from.IsEmpty() {
		return digest{}
	}
	key := &from.Runs()[0]
	d, known := s.sets[key]
	if !known {
		var data []byte
		for _, r := range from.Subtract(s.own).Runs() {
			data = r.Lo.AppendTo(r.Hi.AppendTo(data))
		}
		d = digestOf(data)
		s.sets[key] = d
	}
	return d
}

// ruleDigest digests all rules that concern a rule class.
func (s *side) ruleDigest(a *ruleClass) digest {
	d, known := s.ruleClasses[a]
	if !known {
		for _, r := range a.ranks {
			d = d.plus(s.rules[r])
		}
		s.ruleClasses[a] = d
	}
	return d
}

// doors digests the doors of a class: everything but their addresses.
func (s *side) doors(c *class) digest {
	d, known := s.classes[c]
	if known {
		return d
	}
	for _, door := range s.doorsOf[c] {
		data := append(s.scratch[:0], byte(door.Kind), 0)
		if door.V4 {
			data[1] = 1
		}
		data = append(append(data, door.Via...), 0)
		data = binary.NativeEndian.AppendUint32(data, uint32(door.Service))
		data = appendServices(s.set(door.From).append(data), door.Arrives)
		if own := door.Own; own != nil && flow.Active(own.Until, s.v.At) {
			data = binary.NativeEndian.AppendUint64(s.set(own.From).append(data), uint64(own.Until.UnixNano()))
			if own.Standing {
				data = append(data, 1)
			}
		}
		d = d.plus(digestOf(data))
		s.scratch = data
	}
	s.classes[c] = d
	return d
}

// limited computes what is open at a class for some services and sources only:
// rules for other sources are left out before anything is computed.
func (s *side) limited(c *class, services flow.Services, from flow.Addrs) (list []shared) {
	cut := s.cut(services, from)
	few := cut.few[c.ruleClass]
	if few == nil {
		few = &ruleClass{}
		for _, r := range c.ranks {
			if cut.reached[r] {
				few.ranks = append(few.ranks, r)
			}
		}
		few.once.Do(func() { few.combinations, few.services = grouped(s.v.slicesFor(few, services)) })
		cut.few[c.ruleClass] = few
	}
	for i, d := range s.doorsOf[c] {
		for _, l := range s.v.throughDoor(few, d) {
			if l.from = l.from.Intersect(from); !l.from.IsEmpty() {
				list = append(list, shared{entry: l.entry(flow.Door{}), door: i})
			}
		}
	}
	return list
}
