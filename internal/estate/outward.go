package estate

import (
	"fmt"
	"net/netip"
	"slices"

	"ironbark/internal/sentence"
)

// This file tells sentences about what machines call outside from those about what comes to them. They have the same words,
// and only what stands after “to” tells them apart: machines, or addresses outside.
//
//	allow https from office to role=web        comes to machines
//	allow https from role=web to internet      is called by machines

// CallsOutside reports whether a sentence “to” this is about what machines call outside.
func (e *Estate) CallsOutside(to sentence.Set) bool {
	return slices.ContainsFunc(to.List, e.isOutside)
}

// AsksOutside reports whether a question can be about nothing but what machines call outside. One about an address may be: that
// hangs on whose it is.
func (e *Estate) AsksOutside(s sentence.Ask) bool {
	return slices.ContainsFunc(s.To.List, func(a sentence.Atom) bool { return a.Kind() != sentence.Address && e.isOutside(a) })
}

// CanCall reports whether a set names machines and nothing else, as whoever calls outside is named.
func (e *Estate) CanCall(from sentence.Set) bool {
	return !slices.ContainsFunc(from.List, func(a sentence.Atom) bool {
		switch a.Kind() {
		case sentence.All, sentence.Pattern, sentence.Tagged:
			return false
		case sentence.Named:
			n, _ := e.Lookup(a.Text())
			return n.Kind != KindMachine && n.Kind != KindSubnet && n.Kind != KindNetwork
		}
		return true
	})
}

// isOutside reports whether an atom stands for addresses outside: the internet, a source by name, an address, a prefix or a range.
func (e *Estate) isOutside(a sentence.Atom) bool {
	switch a.Kind() {
	case sentence.Internet, sentence.Address, sentence.Prefix, sentence.Range:
		return true
	case sentence.Named:
		n, _ := e.Lookup(a.Text())
		return n.Kind == KindSource
	}
	return false
}

// fromTo checks where a sentence's flows come from and go to, in either direction. further are the kinds that are targets besides machines.
func (r *reader) fromTo(from, to sentence.Set, further ...Kind) {
	if !r.estate.CallsOutside(to) {
		r.sourceNames(from)
		r.targetNames(to, further...)
		return
	}
	r.destination(to)
	r.callers(from)
}

// callers checks who calls outside: machines, and nothing else.
func (r *reader) callers(from sentence.Set) {
	for _, a := range slices.Concat(from.List, from.Except) {
		n, known := r.estate.Lookup(a.Text())
		machines := !known || n.Kind == KindMachine || n.Kind == KindSubnet || n.Kind == KindNetwork
		switch {
		case a.Kind() == sentence.Named && machines:
			r.noun(a.At(), a.Text(), KindMachine, KindSubnet, KindNetwork)
		case a.Kind() == sentence.All, a.Kind() == sentence.Pattern, a.Kind() == sentence.Tagged:
		default:
			r.fail(a.At(), fmt.Sprintf("“%s” calls nobody outside: machines do, by name, pattern, tag, subnet, network or all", a), "what comes from outside leads to machines: write them after “to”")
		}
	}
}

// destination checks what machines call outside.
func (r *reader) destination(to sentence.Set) {
	for _, a := range slices.Concat(to.List, to.Except) {
		n, known := r.estate.Lookup(a.Text())
		switch kind := a.Kind(); {
		case kind == sentence.Internet:
		case kind == sentence.Address, kind == sentence.Prefix, kind == sentence.Range:
			if inside := r.estate.insideOf(a); inside != "" {
				r.fail(a.At(), fmt.Sprintf("“%s” lies in %s, and is not outside", a, inside), "name the machines, the subnet or the network there")
			}
		case kind == sentence.Named && (!known || n.Kind == KindSource):
			r.noun(a.At(), a.Text(), KindSource)
			if inside := r.estate.sourceInside(n); inside != "" {
				r.fail(a.At(), fmt.Sprintf("“%s” lies in %s, and is not outside", a, inside), "machines call what is inside as any other source does")
			}
		default:
			r.fail(a.At(), fmt.Sprintf("“%s” is not outside, and what stands beside it is", a), "say it in two sentences: one to machines, and one to what they call outside")
		}
	}
}

// sourceInside names the network or line in which the whole of a source lies; "": there is more of it.
func (e *Estate) sourceInside(n Noun) (where string) {
	if n.Kind != KindSource {
		return ""
	}
	for _, a := range e.Sources[n.I].Ranges {
		if where = e.insideOf(a); where == "" {
			return ""
		}
	}
	return where
}

// insideOf names the network or line in which all of an address, prefix or range lies; "": in none.
func (e *Estate) insideOf(a sentence.Atom) string {
	lo, hi := a.Bounds()
	in := func(list []netip.Prefix) bool {
		return slices.ContainsFunc(list, func(p netip.Prefix) bool { return p.Contains(lo) && p.Contains(hi) })
	}
	for _, n := range e.Networks {
		if in(n.Space) {
			return "network " + n.Name
		}
	}
	for _, l := range e.Lines {
		if in(l.Range) {
			return "line " + l.Name
		}
	}
	return ""
}
