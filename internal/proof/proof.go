// Package proof writes guarantees as questions to a solver, so that nobody needs to take
// Ironbark's word for them: one file a guarantee, in SMT-LIB 2.6 (https://smt-lib.org),
// which any solver of quantifier-free bit vectors can read. A file asks for a flow that
// speaks against the guarantee, now or at any moment to come. Where there is none
// (“unsat”) it holds.
//
// A file is written from the plan's rules and doors, a formula each, and with nothing of
// the analysis that finds broken guarantees: no classes of machines, no slices of services.
//
//	plan ── rules, doors ──▶ formulas ──┐
//	never … / always …      ──▶ asserts ┴─▶ FILE.smt2 ──▶ any solver: sat or unsat
//
// The package is pure: it writes to the writer that it is given.
package proof

import (
	"bufio"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"
	"time"

	"ironbark/internal/estate"
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// Guarantee is one that is to be proved.
type Guarantee struct {
	Estate *estate.Estate
	Plan   *flow.Plan // with openings
	Stated sentence.Statement
	At     time.Time // from when on
	Broken bool      // what Ironbark found
}

// Write writes the question whether a guarantee is broken. Cost: linear in the rules and
// doors, times the moments at which something begins or ends.
func Write(to io.Writer, g Guarantee) error {
	out := bufio.NewWriter(to)
	w := &writer{Guarantee: g, out: out, resolve: flow.NewResolver(g.Estate, g.Plan), groups: map[*flow.Group]string{}}
	w.moments = append([]time.Time{g.At}, g.Plan.Turns(g.At)...)
	w.head()
	switch s := g.Stated.Sentence.(type) {
	case sentence.Never:
		if g.Estate.CallsOutside(s.To) {
			w.outward(s.Services, s.From, s.To, true)
			break
		}
		w.never(s)
	case sentence.Always:
		if g.Estate.CallsOutside(s.To) {
			w.outward(s.Services, s.From, s.To, false)
			break
		}
		w.always(s)
	default:
		return fmt.Errorf("“%s” is no guarantee", s)
	}
	w.line("(check-sat)")
	return out.Flush()
}

type writer struct {
	Guarantee
	out     *bufio.Writer
	resolve flow.Resolver
	moments []time.Time
	groups  map[*flow.Group]string
}

func (w *writer) line(format string, args ...any) { fmt.Fprintf(w.out, format+"\n", args...) }

// comment writes words as comments: a sentence holds no line breaks, and nothing else ends one.
func (w *writer) comment(format string, args ...any) {
	w.line("; %s", strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return '?'
		}
		return r
	}, fmt.Sprintf(format, args...)))
}

func (w *writer) head() {
	expected := "unsat"
	if w.Broken {
		expected = "sat"
	}
	w.comment("%s", w.Stated.Sentence)
	w.comment("%s of estate %s, from %s on", w.Stated.At, w.Estate.Name, w.At.UTC().Format(time.RFC3339))
	w.comment("")
	w.comment("Is there a flow that speaks against it? unsat: there is none, and the guarantee holds.")
	w.comment("sat: there is one, and (get-model) tells it. Ironbark found: %s", expected)
	w.comment("")
	w.comment("v6       the source's address is IPv6; a6 is it then, and a4 otherwise")
	w.comment("m        the machine, by number; they are listed below")
	w.comment("s        the service at which the flow arrives: a TCP port, 0x10000 more for a UDP port, 0x20000 ping, 0x20001 other")
	w.comment("t        the moment, by number; between two of them nothing begins or ends")
	w.comment("deny     a deny matches; admin: the service is administrative; pass: a sentence or an opening lets it pass")
	w.line("(set-info :smt-lib-version 2.6)")
	w.line("(set-info :status %s)", expected)
	w.line("(set-option :produce-models true)")
	w.line("(set-logic QF_BV)")
	w.line("(declare-const v6 Bool)\n(declare-const a4 (_ BitVec 32))\n(declare-const a6 (_ BitVec 128))")
	w.line("(declare-const m (_ BitVec 24))\n(declare-const s (_ BitVec 24))\n(declare-const t (_ BitVec 24))")
	for i, m := range w.Plan.Machines {
		w.comment("machine %d is %s", i, m.Name)
	}
	for i, at := range w.moments {
		w.comment("moment %d is %s", i, at.UTC().Format(time.RFC3339Nano))
	}
	w.line("(assert (bvult t %s))", number(len(w.moments)))
}

func is(term string, n int) string { return fmt.Sprintf("(= %s %s)", term, number(n)) }

func number(n int) string { return fmt.Sprintf("#x%06x", n) }

// either is a formula: one of some holds.
func either(parts []string) string {
	switch len(parts) {
	case 0:
		return "false"
	case 1:
		return parts[0]
	}
	return "(or\n  " + strings.Join(parts, "\n  ") + ")"
}

// all is a formula: all of some hold.
func all(parts ...string) string {
	parts = slices.DeleteFunc(parts, func(p string) bool { return p == "true" })
	switch {
	case slices.Contains(parts, "false"):
		return "false"
	case len(parts) == 0:
		return "true"
	case len(parts) == 1:
		return parts[0]
	}
	return "(and " + strings.Join(parts, " ") + ")"
}

// source is a formula: the source lies in a set.
func source(set flow.Addrs) string {
	var parts []string
	for _, r := range set.Runs() {
		lo, hi := r.Lo.Addr(), r.Hi.Addr()
		if lo.Is4() != hi.Is4() { // a run over the end of one family and the beginning of the other
			parts = append(parts, fmt.Sprintf("(and (not v6) (bvule %s a4))", bits(lo)), fmt.Sprintf("(and v6 (bvule a6 %s))", bits(hi)))
			continue
		}
		if lo.Is4() {
			parts = append(parts, fmt.Sprintf("(and (not v6) (bvule %s a4) (bvule a4 %s))", bits(lo), bits(hi)))
		} else {
			parts = append(parts, fmt.Sprintf("(and v6 (bvule %s a6) (bvule a6 %s))", bits(lo), bits(hi)))
		}
	}
	return either(parts)
}

func bits(a netip.Addr) string { return fmt.Sprintf("#x%x", a.AsSlice()) }

// service is a formula: a service, by its term, lies in a set.
func service(set flow.Services, term string) string {
	var parts []string
	for _, r := range set.Runs() {
		parts = append(parts, fmt.Sprintf("(and (bvule %s %s) (bvule %s %s))", number(int(r.Lo)), term, term, number(int(r.Hi))))
	}
	return either(parts)
}

// machines is a formula: the machine, by its term, is one of a group.
func (w *writer) machines(g *flow.Group, term string) string {
	name, known := w.groups[g]
	if !known {
		name = fmt.Sprintf("group%d", len(w.groups))
		w.groups[g] = name
		var parts []string
		for _, m := range g.Machines {
			parts = append(parts, fmt.Sprintf("(= x %s)", number(int(m))))
		}
		w.line("(define-fun %s ((x (_ BitVec 24))) Bool %s)", name, either(parts))
	}
	return fmt.Sprintf("(%s %s)", name, term)
}

// while is a formula: the moment is one at which something holds.
func (w *writer) while(holds func(at time.Time) bool) string {
	var parts []string
	for i, at := range w.moments {
		if holds(at) {
			parts = append(parts, fmt.Sprintf("(= t %s)", number(i)))
		}
	}
	if len(parts) == len(w.moments) {
		return "true"
	}
	return either(parts)
}

// rules defines deny and pass, with those kinds of rules that count.
func (w *writer) rules(list []flow.Rule, counts func(flow.RuleKind) bool) {
	w.line("(define-fun admin ((y (_ BitVec 24))) Bool %s)", service(w.Plan.AdminServices, "y"))
	var deny, pass []string
	for _, r := range list {
		if r.Kind != flow.Deny && !counts(r.Kind) {
			continue
		}
		parts := []string{w.machines(r.To, "x"), service(r.Services, "y"), source(r.From), w.while(r.Active)}
		switch r.Kind {
		case flow.Deny:
			deny = append(deny, all(parts...))
		case flow.Allow:
			pass = append(pass, all(append([]string{"(not (admin y))"}, parts...)...))
		default:
			pass = append(pass, all(parts...))
		}
	}
	w.line("(define-fun deny ((x (_ BitVec 24)) (y (_ BitVec 24))) Bool %s)", either(deny))
	w.line("(define-fun pass ((x (_ BitVec 24)) (y (_ BitVec 24))) Bool %s)", either(pass))
}

// uses is a formula: the source can use a door, and the door is there.
func (w *writer) uses(d flow.Door) string {
	there := "true"
	if d.Own != nil {
		there = w.while(func(at time.Time) bool { return flow.Active(d.Own.Until, at) })
	}
	return all(there, source(d.From))
}

// lets is a formula: whoever uses a door is let in to machine m at service s.
func (w *writer) lets(d flow.Door) string {
	by := []string{"(pass m s)"}
	if from, ok := d.OwnPass(w.Plan.AdminServices, w.At); ok { // it ends with the door
		by = append(by, source(from))
	}
	return all(either(by), "(not (deny m s))")
}

// never asks for a flow that is open, or could be.
func (w *writer) never(s sentence.Never) {
	rules := w.Plan.Rules
	counts := func(k flow.RuleKind) bool { return k == flow.Allow || k == flow.Standing }
	if !s.Standing {
		w.comment("What permits could open counts as open, and so does what routes could carry.")
		rules = exposure.WithPermits(w.Estate, w.Plan).Rules
		counts = func(flow.RuleKind) bool { return true }
	}
	w.rules(rules, counts)
	services := w.resolve.Services(s.Services)
	found := w.open(services, s.To)
	if !s.Standing {
		found = append(found, w.carried(services, s.To)...)
	}
	w.line("(assert %s)", source(w.resolve.Source(s.From)))
	w.line("(assert %s)", either(found))
}

// open lists formulas: the flow is open to one of the targets.
func (w *writer) open(services flow.Services, to sentence.Set) (list []string) {
	for _, t := range exposure.Targets(w.Estate, w.Plan, to) {
		switch {
		case t.IsMachine():
			for _, d := range w.Plan.DoorsTo(t.Machine) {
				list = append(list, all(is("m", int(t.Machine)), service(services.Intersect(d.Arrives), "s"), w.uses(d), w.lets(d)))
			}
		case t.Bastion != "":
			for _, d := range w.Plan.GatewayDoors() {
				if d.Via == t.Bastion && services.Contains(d.Service) {
					list = append(list, all(is("s", int(d.Service)), source(d.From)))
				}
			}
		case t.Front != "":
			for _, d := range w.doorsOf(t.Front) {
				if services.Contains(d.Service) {
					list = append(list, all(arrives(d), w.uses(d), w.lets(d)))
				}
			}
		}
	}
	return list
}

// arrives is a formula: the flow is the one to which a published door leads.
func arrives(d flow.Door) string { return all(is("m", int(d.Machine)), service(d.Arrives, "s")) }

// doorsOf lists the doors of a front.
func (w *writer) doorsOf(front string) (doors []flow.Door) {
	for m := range w.Plan.Machines {
		for _, d := range w.Plan.DoorsTo(int32(m)) {
			if d.Translated() && d.Via == front {
				doors = append(doors, d)
			}
		}
	}
	return doors
}

// carried lists formulas: a route would carry the flow for a client that meets its
// gateway's from, and no deny concerns the gateway or the client.
func (w *writer) carried(services flow.Services, to sentence.Set) (list []string) {
	group := w.resolve.Group(to)
	for i, g := range w.Plan.Gateways {
		var clients []string
		for _, d := range w.Plan.GatewayDoors() {
			if d.Via == g.Name {
				clients = append(clients, source(d.From))
			}
		}
		for j, inside := range g.Inside {
			from := flow.PointOf(inside)
			denied := fmt.Sprintf("deny%d-%d", i, j)
			w.comment("%s: a deny matches what comes from %s, an address of %s", denied, inside, g.Name)
			var deny, routes []string
			for _, r := range w.Plan.Rules {
				if !r.From.Contains(from) {
					continue
				}
				formula := all(w.machines(r.To, "x"), service(r.Services, "y"), w.while(r.Active))
				switch r.Kind {
				case flow.Deny:
					deny = append(deny, formula)
				case flow.Route:
					routes = append(routes, strings.NewReplacer(" x)", " m)", " y)", " s)", " y ", " s ").Replace(formula))
				}
			}
			if len(routes) == 0 {
				continue
			}
			w.line("(define-fun %s ((x (_ BitVec 24)) (y (_ BitVec 24))) Bool %s)", denied, either(deny))
			var doors []string
			for _, m := range group.Machines {
				for _, d := range w.Plan.DoorsTo(m) {
					if d.From.Contains(from) {
						here := d
						here.From = flow.AllAddrs
						doors = append(doors, all(is("m", int(m)), service(services.Intersect(d.Arrives), "s"), w.uses(here)))
					}
				}
			}
			list = append(list, all(either(clients), either(routes), either(doors), "(not ("+denied+" m s))", "(not (deny m s))"))
		}
	}
	return list
}

// always asks for a flow that is not open.
func (w *writer) always(s sentence.Always) {
	w.comment("c        the service that is called at a front or a bastion")
	w.line("(declare-const c (_ BitVec 24))")
	w.rules(w.Plan.Rules, func(flow.RuleKind) bool { return true })
	services := w.resolve.Services(s.Services)
	var closed []string
	for _, t := range exposure.Targets(w.Estate, w.Plan, s.To) {
		switch {
		case t.IsMachine():
			var open []string
			for _, d := range w.Plan.DoorsTo(t.Machine) {
				open = append(open, all(service(d.Arrives, "s"), w.uses(d), w.lets(d)))
			}
			closed = append(closed, all(is("m", int(t.Machine)), service(services, "s"), not(either(open))))
		case t.Bastion != "":
			var open []string
			for _, d := range w.Plan.GatewayDoors() {
				if d.Via == t.Bastion {
					open = append(open, all(is("c", int(d.Service)), source(d.From)))
				}
			}
			closed = append(closed, all(service(services, "c"), not(either(open))))
		case t.Front != "":
			var leads []string
			for _, d := range w.doorsOf(t.Front) {
				called := all(is("c", int(d.Service)), w.uses(d))
				leads = append(leads, called)
				closed = append(closed, all(service(services, "c"), called, arrives(d), not(w.lets(d))))
			}
			closed = append(closed, all(service(services, "c"), not(either(leads))))
		}
	}
	w.line("(assert %s)", source(w.resolve.Source(s.From)))
	w.line("(assert %s)", either(closed))
}

// outward asks for a call of one of some machines to an address outside that is open, or one that is closed.
func (w *writer) outward(services sentence.Services, from, to sentence.Set, open bool) {
	w.comment("the guarantee is about what machines call outside: m calls, and v6, a4 and a6 are the address that it calls")
	w.Plan = w.Plan.Calls()
	w.rules(w.Plan.Rules, func(flow.RuleKind) bool { return true })
	var calls []string
	for _, m := range w.resolve.Group(from).Machines {
		var ways []string
		for _, d := range w.Plan.DoorsTo(m) {
			ways = append(ways, all(service(d.Arrives, "s"), w.uses(d), w.lets(d)))
		}
		passes := either(ways)
		if !open {
			passes = not(passes)
		}
		calls = append(calls, all(is("m", int(m)), service(w.resolve.Services(services), "s"), passes))
	}
	w.line("(assert %s)", source(w.resolve.Outside(to)))
	w.line("(assert %s)", either(calls))
}

func not(formula string) string { return "(not " + formula + ")" }
