package linux

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"github.com/google/nftables"
	"golang.org/x/sys/unix"

	"ironbark/internal/driver"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
)

// What is told of a packet filter that somebody else wrote to.
const (
	altered = "the packet filter was altered by hand, and nobody can tell what it lets pass"
	added   = "put into the packet filter by hand"
	kept    = "a deny as the packet filter has it"
)

// rulesDigest is a digest of the chains and rules of some tables as the kernel has them; those do not
// hang on what the sets hold. The thread is in the router's namespace.
func rulesDigest(tables ...string) (digest string, err error) {
	err = untilWhole(func() error {
		type line struct{ in, has string }
		var lines []line
		gather := func(message uint16, table, chain uint16, without ...uint16) error {
			return askFilter(message, nil, func(body []byte) error {
				var has []byte
				own, in := false, fmt.Sprint(message, body[0])
				err := eachAttribute(body[4:], func(kind uint16, value []byte) error {
					switch {
					case kind == table:
						name := unix.ByteSliceToString(value)
						own = slices.Contains(tables, name)
						in += " " + name
					case kind == chain:
						in += " " + unix.ByteSliceToString(value)
					}
					if !slices.Contains(without, kind) {
						has = append(binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint16(has, kind), uint32(len(value))), value...)
					}
					return nil
				})
				if own {
					lines = append(lines, line{in, string(has)})
				}
				return err
			})
		}
		err := errors.Join(
			gather(unix.NFT_MSG_GETCHAIN, unix.NFTA_CHAIN_TABLE, unix.NFTA_CHAIN_NAME, unix.NFTA_CHAIN_HANDLE, unix.NFTA_CHAIN_USE, unix.NFTA_CHAIN_COUNTERS),
			gather(unix.NFT_MSG_GETRULE, unix.NFTA_RULE_TABLE, unix.NFTA_RULE_CHAIN, unix.NFTA_RULE_HANDLE, unix.NFTA_RULE_POSITION))
		slices.SortStableFunc(lines, func(a, b line) int { return strings.Compare(a.in, b.in) }) // the order of a chain's rules counts
		h := sha256.New()
		for _, l := range lines {
			fmt.Fprintf(h, "%q %q\n", l.in, l.has)
		}
		digest = hex.EncodeToString(h.Sum(nil))
		return err
	})
	return digest, err
}

// readBack tells of a packet filter that somebody else wrote to what it lets pass: by the
// boxes in its sets, where its rules are those that were installed. Otherwise nobody can
// tell, and all is told as open, as is what lies in sets that lead elsewhere.
func (s *Site) readBack(plan *flow.Plan, passing []driver.Passage, ways Ways, m *meta) (*flow.Plan, error) {
	var digest string
	shut := false
	err := within(s.prefix, func() (err error) {
		if shut, err = guarded(m.Guard); err != nil || shut {
			return err
		}
		digest, err = rulesDigest(tableName, guardName)
		return err
	})
	if err != nil {
		return nil, err
	}
	if shut { // a table is gone, and what is left lets nothing pass
		nothing := plan.WithCalls(nil)
		nothing.Rules, nothing.Doors, nothing.Gateways = nil, nil, nil
		return flow.FromRows(nothing.Rows())
	}
	if digest != m.Rules || m.Layout != layout {
		return everythingOpen(plan), nil
	}
	addrs := map[string][]netip.Addr{}
	for _, one := range plan.Machines {
		for _, i := range one.Interfaces {
			addrs[one.Name] = append(addrs[one.Name], i.Addrs...)
		}
	}
	linked := maps.Clone(addrs)
	delete(linked, estate.SiteHost)
	for _, g := range plan.Gateways {
		linked[g.Name] = g.Inside
	}
	links, err := s.links(linked, nil)
	if err != nil {
		return nil, err
	}
	tunnels, err := s.lineLinks(m)
	if err != nil {
		return nil, err
	}
	links = append(links, tunnels...)
	t := NewTable(plan, s.running, ways)
	read := &reading{namespace: s.prefix}
	calls := &reading{namespace: s.prefix, prefix: callsPrefix}
	readable := read.judged(t) && calls.judged(t.Calls) && read.same("public", publics(t))
	for _, f := range families {
		want := aroundBy(f, t, links)
		for _, name := range []string{"links", "outside", "callable", "self", "own"} {
			readable = readable && read.same(name+f.name, want[name+f.name])
		}
	}
	if !readable {
		return everythingOpen(plan), errors.Join(read.err, calls.err)
	}
	read.openings(addrs, passing)
	if err := errors.Join(read.err, calls.err); err != nil {
		return nil, err
	}
	out := read.apply(plan, t)
	if outward := calls.apply(plan.Calls(), t.Calls); calls.found() {
		out = out.WithCalls(outward.Rules)
	}
	return out, nil
}

// judged reads the sets by which packets are judged: what was put in, and what is denied. It reports false where nobody can tell what
// passes.
func (r *reading) judged(t *Table) bool {
	for _, f := range families {
		want := judgedBy(r.prefix, f, t)
		for _, name := range []string{"class", "audience", "who", "reach"} {
			if name = r.prefix + name + f.name; !r.same(name, want[name]) {
				return false
			}
		}
		for sort, suffix := range sortNames {
			for _, name := range []string{"deny-until", "pass-until"} {
				r.differences(f, sort, r.prefix+name+suffix, want[r.prefix+name+suffix+f.name])
			}
		}
	}
	r.entries(t)
	return true
}

// found reports whether anything is otherwise than it was installed.
func (r *reading) found() bool { return r.denied || len(r.pass)+len(r.passes)+len(r.machines) > 0 }

// reading is what was found in the kernel's sets.
type reading struct {
	namespace string
	prefix    string // of the names of the sets
	err       error
	known     map[string][]nftables.SetElement // by the name of the set: each is read once

	pass     []Box // that were not installed
	deny     []Box // all, where some are missing or new
	denied   bool
	passes   []Entry     // as pass, by profile
	denies   []Entry     // as deny
	machines []toMachine // boxes of openings that were not installed
}

type toMachine struct {
	name string
	box  Box
}

func (r *reading) elements(name string) []nftables.SetElement {
	if list, known := r.known[name]; known {
		return list
	}
	var list []nftables.SetElement
	err := within(r.namespace, func() (err error) {
		list, err = dumpWhole(name)
		return err
	})
	r.err = errors.Join(r.err, err)
	if r.known == nil {
		r.known = map[string][]nftables.SetElement{}
	}
	r.known[name] = list
	return list
}

// identity is what an element is known by.
func identity(e nftables.SetElement) string {
	end := e.KeyEnd
	if bytes.Equal(end, e.Key) {
		end = nil
	}
	return fmt.Sprintf("%x %x %x %v", e.Key, end, e.Val, e.IntervalEnd)
}

// same reports whether a set holds just what was installed.
func (r *reading) same(name string, want []nftables.SetElement) bool {
	have := map[string]bool{}
	for _, e := range r.elements(name) {
		if e.IntervalEnd && bytes.Count(e.Key, []byte{0}) == len(e.Key) { // what lies before the first interval
			continue
		}
		have[identity(e)] = true
	}
	for _, e := range want {
		if !have[identity(e)] {
			return false
		}
		delete(have, identity(e))
	}
	return len(have) == 0
}

// differences finds the boxes of a set that were not installed, and whether some are missing.
func (r *reading) differences(f family, sort int, name string, want []nftables.SetElement) {
	wanted := map[string]bool{}
	for _, e := range want {
		wanted[identity(e)] = true
	}
	list := r.elements(name + f.name)
	var extra []Box
	var all []Box
	for _, e := range list {
		b, err := boxOf(f, sort, e)
		if err != nil {
			r.err = errors.Join(r.err, err)
			return
		}
		all = append(all, b)
		if !wanted[identity(e)] {
			extra = append(extra, b)
		}
		delete(wanted, identity(e))
	}
	if strings.HasPrefix(name, r.prefix+"pass") { // what is missing passes less, and is installed again
		r.pass = append(r.pass, extra...)
		return
	}
	r.deny = append(r.deny, all...)
	r.denied = r.denied || len(extra)+len(wanted) > 0
}

// entries finds what profiles let pass that was not installed, and all that they deny.
func (r *reading) entries(t *Table) {
	passed, wanted := entries(t.Pass), entries(t.Deny)
	for sort, name := range sortNames {
		deny, pass := r.prefix+"deny"+name, r.prefix+"pass"+name
		r.denies = append(r.denies, r.read(sort, deny)...)
		r.denied = r.denied || !r.same(deny, wanted[sort])
		if !r.same(pass, passed[sort]) {
			r.passes = append(r.passes, r.read(sort, pass)...)
		}
	}
	// What was installed is let pass by its sentence, and not by somebody's hand.
	installed := map[uint32]flow.Services{}
	for _, e := range t.Pass {
		installed[e.Profile] = installed[e.Profile].Union(span.Of(e.Services))
	}
	var added []Entry
	for _, e := range r.passes {
		for _, run := range span.Of(e.Services).Subtract(installed[e.Profile]).Runs() {
			added = append(added, Entry{Profile: e.Profile, Services: run})
		}
	}
	r.passes = added
}

// read reads a set of entries as the kernel has it.
func (r *reading) read(sort int, name string) (list []Entry) {
	if sort == ported {
		for _, one := range r.flat(name) {
			if len(one.lo) == entryBytes-4 {
				list = append(list, Entry{Profile: one.number, Services: servicesOf(binary.BigEndian.Uint64(one.lo), binary.BigEndian.Uint64(one.hi))})
			}
		}
		return list
	}
	at := map[int]flow.Service{echo: flow.Ping, other: flow.Other}[sort]
	for _, e := range r.elements(name) {
		if profile, _, ok := profileOf(sort, e); ok {
			list = append(list, Entry{Profile: profile, Services: span.Run[flow.Service]{Lo: at, Hi: at}})
		}
	}
	return list
}

func compareBool(a, b bool) int {
	switch {
	case a == b:
		return 0
	case a:
		return 1
	}
	return -1
}

// boxOf reads an element of a set by service.
func boxOf(f family, sort int, e nftables.SetElement) (b Box, err error) {
	lo, hi := e.Key, e.KeyEnd
	if len(hi) == 0 {
		hi = lo
	}
	need := 4 + int(f.size) + 8
	if sort == ported {
		need += 8
	}
	if len(lo) != need || len(hi) != need {
		return b, fmt.Errorf("the packet filter has an element of %d bytes where %d are due", len(lo), need)
	}
	b.Class = binary.NativeEndian.Uint32(lo)
	lo, hi = lo[4:], hi[4:]
	b.Services = span.Run[flow.Service]{Lo: flow.Ping, Hi: flow.Ping}
	switch sort {
	case other:
		b.Services = span.Run[flow.Service]{Lo: flow.Other, Hi: flow.Other}
	case ported:
		base := flow.TCPPort(0)
		if lo[0] == 17 {
			base = flow.UDPPort(0)
		}
		b.Services.Lo, b.Services.Hi = base+flow.Service(binary.BigEndian.Uint16(lo[4:])), base+flow.Service(binary.BigEndian.Uint16(hi[4:]))
		lo, hi = lo[8:], hi[8:]
	}
	from, _ := netip.AddrFromSlice(lo[:f.size])
	to, _ := netip.AddrFromSlice(hi[:f.size])
	b.Source = flow.RunOf(from, to)
	b.Begin, b.End = binary.BigEndian.Uint64(lo[f.size:]), binary.BigEndian.Uint64(hi[f.size:])
	return b, nil
}

// flatSpan is a range of a key's last part, whose others are one number: what a flat set has.
type flatSpan struct {
	number uint32
	lo, hi []byte // both included
	value  uint32
}

// flat reads a flat set whose keys begin with a number.
func (r *reading) flat(name string) (list []flatSpan) {
	elements := slices.Clone(r.elements(name))
	slices.SortFunc(elements, func(a, b nftables.SetElement) int {
		return cmp.Or(bytes.Compare(a.Key, b.Key), compareBool(b.IntervalEnd, a.IntervalEnd))
	})
	for i, e := range elements {
		if e.IntervalEnd || len(e.Key) < 8 {
			continue
		}
		one := flatSpan{number: binary.NativeEndian.Uint32(e.Key), lo: e.Key[4:], hi: bytes.Repeat([]byte{0xff}, len(e.Key)-4)}
		if i+1 < len(elements) && bytes.Equal(elements[i+1].Key[:4], e.Key[:4]) {
			one.hi = before(elements[i+1].Key[4:])
		}
		if len(e.Val) == 4 {
			one.value = binary.NativeEndian.Uint32(e.Val)
		}
		list = append(list, one)
	}
	return list
}

// before is the number before a long one that is not zero.
func before(n []byte) []byte {
	out := slices.Clone(n)
	for i := len(out) - 1; i >= 0; i-- {
		out[i]--
		if out[i] != 0xff {
			break
		}
	}
	return out
}

// openings finds what is open under the numbers to which addresses lead and was not installed.
func (r *reading) openings(addrs map[string][]netip.Addr, passing []driver.Passage) {
	owner := map[netip.Addr]string{}
	installed := map[string][]Box{}
	for name, list := range addrs {
		installed[name] = openings(passing, name)
		for _, a := range list {
			owner[a] = name
		}
	}
	times := map[uint32][]Box{}
	for _, one := range r.flat("open-when") {
		times[one.number] = append(times[one.number], Box{Begin: binary.BigEndian.Uint64(one.lo), End: binary.BigEndian.Uint64(one.hi)})
	}
	boxes := map[uint32][]Box{} // by whom
	for _, one := range r.flat("open-service") {
		for _, t := range times[one.value] {
			t.Services = servicesOf(binary.BigEndian.Uint64(one.lo), binary.BigEndian.Uint64(one.hi))
			boxes[one.number] = append(boxes[one.number], t)
		}
	}
	for _, f := range families {
		byNumber := map[uint32]string{}
		for _, e := range r.elements("opens" + f.name) {
			if a, ok := netip.AddrFromSlice(e.Key); ok && len(e.Val) == 4 {
				byNumber[binary.NativeEndian.Uint32(e.Val)] = owner[a]
			}
		}
		for _, one := range r.flat("open-from" + f.name) {
			machine := byNumber[one.number]
			if machine == "" {
				continue
			}
			lo, _ := netip.AddrFromSlice(one.lo)
			hi, _ := netip.AddrFromSlice(one.hi)
			for _, b := range boxes[one.value] {
				b.Source = flow.RunOf(lo, hi)
				if !slices.ContainsFunc(installed[machine], func(x Box) bool { return x.covers(b) }) {
					r.machines = append(r.machines, toMachine{machine, b})
				}
			}
		}
	}
}

// covers reports whether all of another box's packets are a box's own, whatever their class and way.
func (x Box) covers(o Box) bool {
	return x.Services.Lo <= o.Services.Lo && o.Services.Hi <= x.Services.Hi && x.Source.Lo.Compare(o.Source.Lo) <= 0 && o.Source.Hi.Compare(x.Source.Hi) <= 0 &&
		x.Begin <= o.Begin && o.End <= x.End
}

// servicesOf are the services between two keys of any service, both included.
func servicesOf(lo, hi uint64) span.Run[flow.Service] {
	service := func(key uint64) flow.Service {
		switch port := flow.Service(key >> 16 & 0xffff); key >> 56 {
		case 6:
			return flow.TCPPort(0) + port
		case 17:
			return flow.UDPPort(0) + port
		case 1:
			return flow.Ping
		}
		return flow.Other
	}
	if hi>>56 != lo>>56 { // beyond the last port of its protocol
		hi = lo | 0xffff<<16
	}
	return span.Run[flow.Service]{Lo: service(lo), Hi: service(hi)}
}
