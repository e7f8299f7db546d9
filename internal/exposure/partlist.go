package exposure

import (
	"encoding/binary"
	"hash/fnv"
	"net/netip"

	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
)

// partList collects parts of an answer about one target, and joins those that differ in their services only. Cost: about that of the parts.
type partList struct {
	target Target
	done   []Part // that are joined to nothing
	list   []Part
	more   [][2][]span.Run[flow.Service] // for each in list, its further services, as asked and arriving
	alike  Buckets[partKey]              // in list
}

// partKey is the same for parts that may be joined, and rarely for others.
type partKey struct {
	machine int32
	open    bool
	reason  Reason
	origin  flow.Origin
	opening int64
	kind    flow.DoorKind
	via     string
	family  flow.Family
	address netip.Addr
	service flow.Service
	from    uint64
}

// hashedRuns is how many runs at either end of a set [hashOf] reads: sets that differ mostly differ there.
const hashedRuns = 8

// hashOf is the same for equal sets, and rarely for others. Cost: constant.
func hashOf(s flow.Addrs) uint64 {
	var room [2 * hashedRuns * 34]byte
	runs := s.Runs()
	data := binary.NativeEndian.AppendUint32(room[:0], uint32(len(runs)))
	for _, r := range runs[:min(len(runs), hashedRuns)] {
		data = r.Hi.AppendTo(r.Lo.AppendTo(data))
	}
	for _, r := range runs[max(len(runs)-hashedRuns, 0):] {
		data = r.Hi.AppendTo(r.Lo.AppendTo(data))
	}
	h := fnv.New64a()
	_, _ = h.Write(data) // it never fails
	return h.Sum64()
}

// add adds a part over services.
func (l *partList) add(services flow.Services, p Part) {
	p.Target, p.Services = l.target, services
	if p.Door.Kind != 0 {
		p.Arrives = services
		if p.Door.Translated() {
			p.Arrives = p.Door.Arrives
		}
	}
	d := p.Door
	key := partKey{p.Machine, p.Open, p.Reason, p.Origin, p.Opening, d.Kind, d.Via, d.Family, d.Address, d.Service, hashOf(p.From)}
	if l.alike == nil {
		l.alike = Buckets[partKey]{}
	}
	if i, found := l.alike.Place(key, len(l.list), func(i int) bool { return l.list[i].Cause.Same(p.Cause) && l.list[i].From.Equal(p.From) }); found {
		l.more[i][0] = append(l.more[i][0], p.Services.Runs()...)
		l.more[i][1] = append(l.more[i][1], p.Arrives.Runs()...)
		return
	}
	l.list, l.more = append(l.list, p), append(l.more, [2][]span.Run[flow.Service]{})
}

// parts returns the parts, in the order in which the first of each came.
func (l *partList) parts() []Part {
	for i, more := range l.more {
		if p := &l.list[i]; more[0] != nil {
			p.Services = span.Of(append(more[0], p.Services.Runs()...)...)
			p.Arrives = span.Of(append(more[1], p.Arrives.Runs()...)...)
		}
	}
	l.more, l.alike = nil, nil
	return append(l.done, l.list...)
}
