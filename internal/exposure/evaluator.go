package exposure

import (
	"cmp"
	"encoding/binary"
	"slices"

	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
)

// ruleCombination is what the rules that a slice meets come to. Slices that meet the
// same rules share it.
type ruleCombination struct {
	all     *evaluator
	met     []byte // places of the rules met, 4 bytes each, ascending, those of the base apart
	guarded bool
	deny    flow.Addrs // all that denies keep out
	passed  [2][]piece // disjoint, less what is denied; by family
}

// evaluator computes what the rules of a class come to where they meet. It remembers
// what slices have in common.
type evaluator struct {
	rules []*active
	base  []int32                        // places of the rules for any service, which every slice meets
	shut  flow.Addrs                     // what the denies of the base keep out
	known [2]map[string]*ruleCombination // by the other rules met; unguarded, guarded
	deny  map[string]flow.Addrs          // by the denies met, those of the base apart

	passes []*active // scratch, as are the next
	denies []byte
	pile   span.Builder[flow.Point]
}

func newEvaluator(rules []*active) *evaluator {
	c := &evaluator{rules: rules, known: [2]map[string]*ruleCombination{{}, {}}, deny: map[string]flow.Addrs{}}
	var runs []flow.Run
	for i, r := range rules {
		if r.Services.Equal(flow.AnyService) {
			c.base = append(c.base, int32(i))
			if r.Kind == flow.Deny {
				runs = append(runs, r.from.Runs()...)
			}
		}
	}
	c.shut = span.Of(runs...)
	return c
}

// each hands over the rules of a combination, the longest-lasting first.
func (c *evaluator) each(met []byte, do func(r *active)) {
	base := c.base
	for ; len(met) > 0; met = met[4:] {
		place := int32(binary.BigEndian.Uint32(met))
		for len(base) > 0 && base[0] < place {
			do(c.rules[base[0]])
			base = base[1:]
		}
		do(c.rules[place])
	}
	for _, place := range base {
		do(c.rules[place])
	}
}

// evaluate returns what the rules at the places in met and those of the base evaluate to.
func (c *evaluator) evaluate(met []byte, guarded bool) *ruleCombination {
	known := c.known[0]
	if guarded {
		known = c.known[1]
	}
	if m := known[string(met)]; m != nil {
		return m
	}
	m := &ruleCombination{all: c, met: met, guarded: guarded, deny: c.deniedBy(met)}
	known[string(met)] = m
	c.passes = c.passes[:0]
	c.each(met, func(r *active) {
		if m.passes(r) {
			c.passes = append(c.passes, r)
		}
	})
	m.passed = byFamily(passed(&c.pile, c.passes, nil, flow.Addrs{}, m.deny))
	return m
}

// deniedBy returns what the denies among the rules met and those of the base keep out.
func (c *evaluator) deniedBy(met []byte) flow.Addrs {
	c.denies = c.denies[:0]
	for rest := met; len(rest) > 0; rest = rest[4:] {
		if c.rules[binary.BigEndian.Uint32(rest)].Kind == flow.Deny {
			c.denies = append(c.denies, rest[:4]...)
		}
	}
	deny, ok := c.deny[string(c.denies)]
	if !ok {
		var runs []flow.Run
		for rest := c.denies; len(rest) > 0; rest = rest[4:] {
			runs = append(runs, c.rules[binary.BigEndian.Uint32(rest)].from.Runs()...)
		}
		deny = c.shut.Union(span.Of(runs...))
		c.deny[string(c.denies)] = deny
	}
	return deny
}

// passes reports whether a rule lets sources in where it is met: guarded services
// are let in by no ordinary allow.
func (m *ruleCombination) passes(r *active) bool {
	return r.Kind != flow.Deny && (r.Kind != flow.Allow || !m.guarded)
}

// letting lists the rules that let sources in, the longest-lasting first.
func (m *ruleCombination) letting() []*active {
	list := make([]*active, 0, len(m.all.base)+len(m.met)/4)
	m.all.each(m.met, func(r *active) {
		if m.passes(r) {
			list = append(list, r)
		}
	})
	return list
}

// denied cuts what is kept out into pieces, each with the deny that keeps it out the longest.
func (m *ruleCombination) denied() []piece {
	var list []*active
	m.all.each(m.met, func(r *active) {
		if r.Kind == flow.Deny {
			list = append(list, r)
		}
	})
	return passed(&span.Builder[flow.Point]{}, list, nil, flow.Addrs{}, flow.Addrs{})
}

// eachMet hands over each rule, but those of the base, with each run that it meets.
func (c *evaluator) eachMet(runs []span.Run[flow.Service], do func(rule, run int)) {
	base := c.base
	for i, r := range c.rules {
		if len(base) > 0 && int(base[0]) == i {
			base = base[1:]
			continue
		}
		at := 0
		for _, services := range r.Services.Runs() {
			skip, _ := slices.BinarySearchFunc(runs[at:], services.Lo, func(s span.Run[flow.Service], lo flow.Service) int { return cmp.Compare(s.Lo, lo) })
			for at += skip; at < len(runs) && runs[at].Lo <= services.Hi; at++ {
				do(i, at)
			}
		}
	}
}
