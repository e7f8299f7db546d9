// Package oracle is for tests: it answers the five questions of docs/language.md
// for one flow at a time, slowly and obviously, straight from the sentences, and it draws
// random estates to ask about. It shares no code with the flow plan or the
// analysis but the types.
package oracle

import (
	"net/netip"
	"slices"
	"time"

	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
)

// World is an estate with the addresses that a site gave and the openings that there are.
type World struct {
	Estate   *estate.Estate
	Given    flow.Assigned
	Openings []opening.Opening
	Text     string              // the files, for failures
	rename   func(string) string // its names in place of those of the lists that are drawn from
}

// Verdict is the answer for one flow and the machine it leads to.
type Verdict struct {
	Open    bool
	Machine string // "" where it leads nowhere or to a gateway
	Reason  string
}

// Ask judges one flow in the order of the five questions. A spread leads to
// several machines; each has a verdict.
func (w World) Ask(src, dst netip.Addr, service flow.Service, at time.Time) (list []Verdict) {
	place := w.place(src)
	if place == "own" || src.Is4() != dst.Is4() {
		return []Verdict{{Reason: "no-door"}}
	}
	m, machine := w.has(src)
	switch {
	case w.isHost(dst) && (!machine || w.callsThrough(m, src) == nil):
		return []Verdict{{Reason: "no-door"}}
	case w.isHost(dst):
		return []Verdict{w.judge(estate.Machine{Name: estate.SiteHost}, src, service, nil, at)}
	case machine && w.place(dst) == "internet":
		return []Verdict{w.calls(m, src, dst, service, at)}
	}
	outside := place == "internet" || w.isNetwork(place) && w.network(place).Outside
	for _, b := range w.Estate.Bastions {
		given := w.Given.Bastions[b.Name].Public
		s, _ := w.Estate.Subnet(b.Subnet)
		if slices.Contains(append(b.Address.Fixed, given.Addr4, given.Addr6), dst) {
			if outside && w.network(s.Network).Outside && service == flow.GatewayService && w.inSource(src, b.From) {
				return []Verdict{{Open: true, Reason: "door"}}
			}
			return []Verdict{{Reason: "no-door"}}
		}
	}
	for _, f := range w.Estate.Fronts {
		given := w.Given.Fronts[f.Name]
		if slices.Contains(append(f.Address.Fixed, given.Addr4, given.Addr6), dst) && outside && w.network(f.Network).Outside {
			list = append(list, w.front(f, src, dst, service, at)...)
		}
	}
	for _, m := range w.Estate.Machines {
		if w.leads(m, place, outside, dst) {
			list = append(list, w.judge(m, src, service, nil, at))
		}
	}
	if len(list) == 0 {
		return []Verdict{{Reason: "no-door"}}
	}
	return list
}

// has finds the machine with an inside address.
func (w World) has(a netip.Addr) (estate.Machine, bool) {
	for _, m := range w.Estate.Machines {
		for _, list := range w.Given.Machines[m.Name].Inside {
			if slices.Contains(list, a) {
				return m, true
			}
		}
	}
	return estate.Machine{}, false
}

// place is the network, line or "internet" that an address belongs to; "own" for public addresses of the estate.
func (w World) place(a netip.Addr) string {
	if slices.Contains(w.Given.Reserved, a) || a.IsLinkLocalUnicast() {
		return "own"
	}
	for _, m := range w.Estate.Machines {
		if m.Address.Wanted() && a == w.Given.Machines[m.Name].Public {
			return "own"
		}
	}
	for _, p := range w.Given.Fronts {
		if a == p.Addr4 || a == p.Addr6 {
			return "own"
		}
	}
	for _, b := range w.Given.Bastions {
		if a == b.Public.Addr4 || a == b.Public.Addr6 {
			return "own"
		}
	}
	for _, n := range w.Estate.Networks {
		if contains(n.Space, a) {
			return n.Name
		}
	}
	for _, l := range w.Estate.Lines {
		if contains(l.Range, a) {
			return l.Name
		}
	}
	return "internet"
}

func contains(list []netip.Prefix, a netip.Addr) bool {
	return slices.ContainsFunc(list, func(p netip.Prefix) bool { return p.Contains(a) })
}

func (w World) isNetwork(name string) bool { _, ok := w.Estate.Network(name); return ok }

func (w World) network(name string) estate.Network { n, _ := w.Estate.Network(name); return n }

// leads reports whether a call to dst from a place arrives at a machine itself.
func (w World) leads(m estate.Machine, place string, outside bool, dst netip.Addr) bool {
	given := w.Given.Machines[m.Name]
	for _, at := range m.Subnets {
		s, _ := w.Estate.Subnet(at)
		n := w.network(s.Network)
		if m.Address.Wanted() && dst == given.Public && n.Outside && outside && estate.HasFamily(s.Range, sentence.IPv4) {
			return true
		}
		if !slices.Contains(given.Inside[at], dst) {
			continue
		}
		if place == n.Name || slices.Contains(n.Joins, place) || w.isNetwork(place) && slices.Contains(w.network(place).Joins, n.Name) {
			return true
		}
		for _, l := range w.Estate.Lines {
			if place == l.Name && l.Network == n.Name {
				return true
			}
		}
		local := netip.MustParsePrefix("fc00::/7").Contains(dst) || netip.MustParsePrefix("fe80::/10").Contains(dst)
		if dst.Is6() && !local && n.Outside && outside {
			return true
		}
	}
	return false
}

// front judges a call to a front at each machine that the called port leads to.
func (w World) front(f estate.Front, src, dst netip.Addr, service flow.Service, at time.Time) (list []Verdict) {
	for _, st := range w.Estate.Sentences() {
		var name string
		var calls, on sentence.Service
		var to sentence.Set
		var until time.Time
		switch s := st.Sentence.(type) {
		case sentence.Forward:
			name, calls, on, to = s.Front.Text, s.Service, s.On, s.To
			until = s.Until
		case sentence.Spread:
			name, calls, on, to = s.Front.Text, s.Service, s.On, s.Over
		}
		if !until.IsZero() && !at.Before(until) || name != f.Name || !w.inServices(service, sentence.Services{List: []sentence.Service{calls}}) {
			continue
		}
		for _, i := range w.Estate.Targets(to) {
			m := w.Estate.Machines[i]
			for _, sub := range m.Subnets {
				s, _ := w.Estate.Subnet(sub)
				if s.Network == f.Network && estate.HasFamily(s.Range, sentence.FamilyOf(dst)) {
					list = append(list, w.judge(m, src, w.single(on), st.Sentence, at))
					break
				}
			}
		}
	}
	return list
}

// single finds the one port of a service by trying all of them.
func (w World) single(s sentence.Service) flow.Service {
	for p := range flow.Other {
		if w.inServices(p, sentence.Services{List: []sentence.Service{s}}) {
			return p
		}
	}
	panic("oracle: no port in " + s.String())
}

// judge asks questions two to five about a flow that arrives at a machine.
func (w World) judge(m estate.Machine, src netip.Addr, service flow.Service, door sentence.Sentence, at time.Time) Verdict {
	active := func(until time.Time) bool { return until.IsZero() || at.Before(until) }
	for _, st := range w.Estate.Sentences() {
		if d, ok := st.Sentence.(sentence.Deny); ok && active(d.Until) && w.inServices(service, d.Services) && w.inSource(src, d.From) && w.targets(d.To, m.Name) {
			return Verdict{Machine: m.Name, Reason: "deny"}
		}
	}
	administrative := w.administrative(service)
	for _, o := range w.Openings {
		passes := func(p opening.Part) bool {
			return at.Before(p.End) && slices.Contains(p.Machines, m.Name) && p.Services.Contains(service) && p.From.Contains(flow.PointOf(src))
		}
		if o.Ended.IsZero() && !at.Before(o.Begin) && slices.ContainsFunc(o.Parts, passes) {
			return Verdict{Open: true, Machine: m.Name, Reason: "opening"}
		}
	}
	for _, st := range w.Estate.Sentences() {
		if r, ok := st.Sentence.(sentence.Route); ok && w.inServices(service, r.Services) && w.targets(r.To, m.Name) && slices.Contains(w.Given.Bastions[r.Via.Text].Inside, src) {
			return Verdict{Open: true, Machine: m.Name, Reason: "route"}
		}
	}
	for _, standing := range []bool{true, false} {
		for _, st := range w.Estate.Sentences() {
			a, ok := st.Sentence.(sentence.Allow)
			if ok && a.Standing == standing && (standing || !administrative) && active(a.Until) && w.inServices(service, a.Services) && w.inSource(src, a.From) && w.targets(a.To, m.Name) {
				return Verdict{Open: true, Machine: m.Name, Reason: map[bool]string{true: "standing", false: "allow"}[standing]}
			}
		}
	}
	switch d := door.(type) {
	case sentence.Forward:
		if active(d.Until) && !d.From.IsEmpty() && (d.Standing || !administrative) && w.inSource(src, d.From) {
			return Verdict{Open: true, Machine: m.Name, Reason: "door"}
		}
	case sentence.Spread:
		if !d.From.IsEmpty() && !administrative && w.inSource(src, d.From) {
			return Verdict{Open: true, Machine: m.Name, Reason: "door"}
		}
	}
	if administrative {
		return Verdict{Machine: m.Name, Reason: "administrative"}
	}
	return Verdict{Machine: m.Name, Reason: "default"}
}

func (w World) administrative(service flow.Service) bool {
	list := slices.Clone(w.Estate.Admin)
	for _, name := range []string{"ssh", "telnet", "rdp", "vnc", "winrm"} {
		s, _ := sentence.ParseService(name)
		list = append(list, s)
	}
	return w.inServices(service, sentence.Services{List: list})
}

func (w World) inServices(service flow.Service, s sentence.Services) bool {
	if s.Any {
		return !w.inServices(service, sentence.Services{List: s.Except})
	}
	for _, one := range s.List {
		ports := []sentence.Service{one}
		if name, named := one.Name(); named {
			if name == "admin" {
				if w.administrative(service) {
					return true
				}
				continue
			}
			ports, _ = w.Estate.Ports(name)
		}
		for _, port := range ports {
			p, lo, hi, ok := port.Ports()
			first, last := flow.TCPPort(lo), flow.TCPPort(hi)
			if p == sentence.UDP {
				first, last = flow.UDPPort(lo), flow.UDPPort(hi)
			}
			if ok && service >= first && service <= last || port.Ping() && service == flow.Ping {
				return true
			}
		}
	}
	return false
}

func (w World) inSource(a netip.Addr, s sentence.Set) bool {
	if w.place(a) == "own" {
		return false
	}
	in := func(list []sentence.Atom) bool {
		return slices.ContainsFunc(list, func(atom sentence.Atom) bool { return w.inAtom(a, atom) })
	}
	return in(s.List) && !in(s.Except)
}

func (w World) inAtom(a netip.Addr, atom sentence.Atom) bool {
	lo, hi := atom.Bounds()
	switch atom.Kind() {
	case sentence.Everywhere:
		return true
	case sentence.Internet:
		return w.place(a) == "internet"
	case sentence.Address, sentence.Prefix, sentence.Range:
		return a.Is4() == lo.Is4() && lo.Compare(a) <= 0 && a.Compare(hi) <= 0
	case sentence.All, sentence.Pattern, sentence.Tagged:
		return w.ofMachines(a, w.Estate.MachinesOf(atom))
	case sentence.Named:
		n, _ := w.Estate.Lookup(atom.Text())
		switch n.Kind {
		case estate.KindSource:
			return slices.ContainsFunc(w.Estate.Sources[n.I].Ranges, func(r sentence.Atom) bool { return w.inAtom(a, r) })
		case estate.KindLine:
			return contains(w.Estate.Lines[n.I].Range, a)
		case estate.KindNetwork:
			return contains(w.Estate.Networks[n.I].Space, a)
		case estate.KindSubnet:
			return contains(w.Estate.Networks[n.Net].Subnets[n.I].Range, a)
		case estate.KindMachine:
			return w.ofMachines(a, []int{n.I})
		case estate.KindHost:
			return w.isHost(a)
		}
	}
	return false
}

func (w World) ofMachines(a netip.Addr, list []int) bool {
	return slices.ContainsFunc(list, func(i int) bool {
		for _, addrs := range w.Given.Machines[w.Estate.Machines[i].Name].Inside {
			if slices.Contains(addrs, a) {
				return true
			}
		}
		return false
	})
}

// InSource reports whether an address is in a source.
func (w World) InSource(a netip.Addr, s sentence.Set) bool { return w.inSource(a, s) }

// InServices reports whether a service is in a list.
func (w World) InServices(service flow.Service, s sentence.Services) bool {
	return w.inServices(service, s)
}

// Standing reports whether a flow to a machine is let in by a sentence that
// stands: an allow, not an opening and not a route. The worlds that it is asked of
// have no fronts.
func (w World) Standing(src netip.Addr, m estate.Machine, service flow.Service, at time.Time) bool {
	for _, list := range w.Given.Machines[m.Name].Inside {
		for _, dst := range list {
			for _, v := range w.Ask(src, dst, service, at) {
				if v.Open && (v.Reason == "allow" || v.Reason == "standing") {
					return true
				}
				if v.Open && v.Reason == "route" { // an allow may let it in as well
					without := w
					without.Given.Bastions = nil
					for _, v := range without.Ask(src, dst, service, at) {
						if v.Open {
							return true
						}
					}
				}
			}
		}
	}
	return false
}

// Possible reports whether a flow to a machine could be let in: somebody could
// open it under a permit, if it has a door, or a route could carry it for a client
// that its gateway lets in. A deny keeps out what it concerns.
func (w World) Possible(src netip.Addr, m estate.Machine, service flow.Service, at time.Time) bool {
	door := false
	for _, list := range w.Given.Machines[m.Name].Inside {
		for _, dst := range list {
			for _, v := range w.Ask(src, dst, service, at) {
				if v.Reason == "deny" {
					return false
				}
				door = door || v.Machine != ""
			}
		}
	}
	for _, st := range w.Estate.Sentences() {
		switch s := st.Sentence.(type) {
		case sentence.Permit:
			if door && w.inServices(service, s.Services) && w.inSource(src, s.From) && w.targets(s.To, m.Name) {
				return true
			}
		case sentence.Route:
			if w.inServices(service, s.Services) && w.targets(s.To, m.Name) && w.carries(s.Via.Text, src, m, service, at) {
				return true
			}
		}
	}
	return false
}

// carries reports whether a bastion's gateway lets a client in, and nothing denies
// the client or the gateway the machine.
func (w World) carries(bastion string, src netip.Addr, m estate.Machine, service flow.Service, at time.Time) bool {
	for _, b := range w.Estate.Bastions {
		if b.Name != bastion {
			continue
		}
		given := w.Given.Bastions[b.Name]
		reaches, serves := false, false
		for _, public := range []netip.Addr{given.Public.Addr4, given.Public.Addr6} {
			for _, v := range w.Ask(src, public, flow.GatewayService, at) {
				reaches = reaches || public.IsValid() && v.Open
			}
		}
		for _, inside := range given.Inside {
			for _, list := range w.Given.Machines[m.Name].Inside {
				for _, dst := range list {
					for _, v := range w.Ask(inside, dst, service, at) {
						serves = serves || v.Open
					}
				}
			}
		}
		for _, st := range w.Estate.Sentences() {
			if d, ok := st.Sentence.(sentence.Deny); ok && (d.Until.IsZero() || at.Before(d.Until)) && w.inServices(service, d.Services) && w.inSource(src, d.From) &&
				w.targets(d.To, m.Name) {
				return false
			}
		}
		return reaches && serves
	}
	return false
}

// Forwards reports whether a bastion forwards a person who comes from an address to a TCP service of a
// machine: a route speaks of all of them, and what carries says.
func (w World) Forwards(bastion, person string, src netip.Addr, m estate.Machine, service flow.Service, at time.Time) bool {
	routed := slices.ContainsFunc(w.Estate.Sentences(), func(st sentence.Statement) bool {
		r, ok := st.Sentence.(sentence.Route)
		return ok && r.Via.Text == bastion && w.inServices(service, r.Services) &&
			slices.ContainsFunc(r.For, func(n sentence.Name) bool { return w.Estate.Belongs(person, n.Text) }) &&
			w.targets(r.To, m.Name)
	})
	return routed && service <= flow.TCPPort(65535) && w.carries(bastion, src, m, service, at)
}
