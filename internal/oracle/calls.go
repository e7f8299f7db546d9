package oracle

import (
	"net/netip"
	"slices"
	"time"

	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// What machines call outside, and the site's host.

// isHost reports whether an address is one of the site's host.
func (w World) isHost(a netip.Addr) bool {
	return w.Estate.Uplink != nil && slices.Contains(w.Given.Host, a) && w.place(a) == "internet"
}

// callsThrough is the network through which a machine calls outside from an address, which is its first one of the family in a network that is
// outside; nil where it does not.
func (w World) callsThrough(m estate.Machine, src netip.Addr) *estate.Network {
	for _, sub := range m.Subnets {
		s, _ := w.Estate.Subnet(sub)
		n := w.network(s.Network)
		for _, a := range w.Given.Machines[m.Name].Inside[sub] {
			if !n.Outside || a.Is4() != src.Is4() || netip.MustParsePrefix("fc00::/7").Contains(a) {
				continue
			}
			if a == src {
				return &n
			}
			return nil
		}
	}
	return nil
}

// targets reports whether a target names a machine, or the site's host.
func (w World) targets(to sentence.Set, name string) bool {
	if name == estate.SiteHost {
		is := func(a sentence.Atom) bool { return a.Kind() == sentence.Named && a.Text() == name }
		return slices.ContainsFunc(to.List, is) && !slices.ContainsFunc(to.Except, is)
	}
	return slices.ContainsFunc(w.Estate.Targets(to), func(i int) bool { return w.Estate.Machines[i].Name == name })
}

// calls judges a call of a machine to an address outside: a deny, an allow, and then what the network chooses.
func (w World) calls(m estate.Machine, src, dst netip.Addr, service flow.Service, at time.Time) Verdict {
	network := w.callsThrough(m, src)
	if network == nil {
		return Verdict{Reason: "no-door"}
	}
	applies := func(services sentence.Services, from, to sentence.Set, until time.Time) bool {
		return (until.IsZero() || at.Before(until)) && w.inServices(service, services) && w.Estate.CallsOutside(to) && w.inSource(dst, to) && w.targets(from, m.Name)
	}
	for _, st := range w.Estate.Sentences() {
		if d, ok := st.Sentence.(sentence.Deny); ok && applies(d.Services, d.From, d.To, d.Until) {
			return Verdict{Reason: "deny"}
		}
	}
	for _, st := range w.Estate.Sentences() {
		if d, ok := st.Sentence.(sentence.Allow); ok && applies(d.Services, d.From, d.To, d.Until) {
			return Verdict{Open: true, Reason: "allow"}
		}
	}
	if network.OpenOutward {
		return Verdict{Open: true, Reason: "allow"}
	}
	return Verdict{Reason: "default"}
}
