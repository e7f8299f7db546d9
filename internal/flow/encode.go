package flow

import (
	"encoding/binary"
	"net/netip"
	"time"
)

// encoder writes parts of plans one after the other, so that equal parts are equal bytes. Numbers are varints (encoding/binary), and texts and lists begin
// with their length.
type encoder struct{ b []byte }

func (e *encoder) uint(n uint64) { e.b = binary.AppendUvarint(e.b, n) }
func (e *encoder) count(n int)   { e.uint(uint64(n)) }

func (e *encoder) bool(is bool) {
	e.b = append(e.b, 0)
	if is {
		e.b[len(e.b)-1] = 1
	}
}

func (e *encoder) text(s string) {
	e.count(len(s))
	e.b = append(e.b, s...)
}

func (e *encoder) moment(t time.Time) {
	if e.bool(!t.IsZero()); !t.IsZero() {
		e.b = binary.AppendVarint(e.b, t.Unix())
		e.count(t.Nanosecond())
	}
}

func (e *encoder) origin(o Origin) {
	e.text(o.Sentence)
	e.text(o.File)
	e.count(o.Line)
}

func (e *encoder) point(p Point) {
	if !p.v6 {
		e.b = binary.BigEndian.AppendUint32(append(e.b, 4), uint32(p.lo))
		return
	}
	e.b = binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint64(append(e.b, 6), p.hi), p.lo)
}

// addr writes an address; one that is not given yet as a family of 0.
func (e *encoder) addr(a netip.Addr) {
	if !a.IsValid() {
		e.b = append(e.b, 0)
		return
	}
	e.point(PointOf(a))
}

func (e *encoder) addrList(list []netip.Addr) {
	e.count(len(list))
	for _, a := range list {
		e.addr(a)
	}
}

func (e *encoder) public(p Public) {
	e.bool(p.Wants4)
	e.bool(p.Wants6)
	e.addr(p.Addr4)
	e.addr(p.Addr6)
}

func (e *encoder) addrs(s Addrs) {
	e.count(len(s.Runs()))
	for _, r := range s.Runs() {
		e.point(r.Lo)
		e.point(r.Hi)
	}
}

func (e *encoder) services(s Services) {
	e.count(len(s.Runs()))
	for _, r := range s.Runs() {
		e.uint(uint64(r.Lo))
		e.uint(uint64(r.Hi))
	}
}

// group writes machines by place, each as its step from the one before.
func (e *encoder) group(g *Group) {
	e.count(len(g.Machines))
	last := int32(0)
	for _, m := range g.Machines {
		e.count(int(m - last))
		last = m
	}
}
