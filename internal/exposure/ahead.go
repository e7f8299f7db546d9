package exposure

import (
	"cmp"
	"slices"
	"time"

	"ironbark/internal/flow"
)

// An opening may begin before what is open now ends. What both let in is open until the later end:
//
//	opening 1   ├────────────┤
//	opening 2          ├───────────┤
//	both let in ├──────────────────┤  by opening 1, then opening 2
//
// So a rule that ends is cut where such openings let in what it does, and the parts have the later ends. All else is computed as if each part
// were a rule. Denies need no look ahead: none begins later.

// lengthened is a part of a rule, as a rule.
type lengthened struct {
	rule *flow.Rule
	of   *flow.Rule
	then []next // openings that keep it open after the rule's end, in the order in which they take over
}

// next is an opening that takes over, and when.
type next struct {
	opening int64
	at      time.Time
}

// lengthen cuts rules that hold at a moment and end, where openings that begin later take over. It returns the rules as they are where none
// does, which costs one look at each rule of the plan. parts are the cut ones, by their rule.
func lengthen(ending []*flow.Rule, rules []flow.Rule, at time.Time) (list []*flow.Rule, parts map[*flow.Rule]*lengthened) {
	var later []*flow.Rule
	for i := range rules {
		if rules[i].Begin.After(at) {
			later = append(later, &rules[i])
		}
	}
	if len(later) == 0 {
		return ending, nil
	}
	slices.SortStableFunc(later, func(a, b *flow.Rule) int { return cmp.Or(a.Begin.Compare(b.Begin), lasting(a.Until, b.Until)) })
	parts = map[*flow.Rule]*lengthened{}
	for _, r := range ending {
		cut := []lengthened{{rule: r, of: r}}
		if r.Kind != flow.Deny {
			for _, l := range later {
				cut = takeOver(cut, l)
			}
		}
		for _, p := range cut {
			list = append(list, p.rule)
			if len(cut) > 1 || len(p.then) > 0 {
				parts[p.rule] = &p
			}
		}
	}
	return list, parts
}

// takeOver cuts parts where a later opening lets in what they do when they end, and lasts longer.
func takeOver(parts []lengthened, later *flow.Rule) (list []lengthened) {
	for _, p := range parts {
		if later.Begin.After(p.rule.Until) || lasting(later.Until, p.rule.Until) >= 0 {
			list = append(list, p)
			continue
		}
		both, rest := overlap(p.rule, later)
		if both == nil {
			list = append(list, p)
			continue
		}
		both.Until = later.Until
		list = append(list, lengthened{both, p.of, append(slices.Clip(p.then), next{later.Opening, p.rule.Until})})
		for _, r := range rest {
			list = append(list, lengthened{r, p.of, p.then})
		}
	}
	return list
}

// overlap returns what of a rule another is about too, and what is left of the rule. Nothing of either is another's.
func overlap(r, o *flow.Rule) (both *flow.Rule, rest []*flow.Rule) {
	to, others := &flow.Group{}, &flow.Group{}
	for _, m := range r.To.Machines {
		if o.To.Has(m) {
			to.Machines = append(to.Machines, m)
		} else {
			others.Machines = append(others.Machines, m)
		}
	}
	services, from := r.Services.Intersect(o.Services), r.From.Intersect(o.From)
	if len(to.Machines) == 0 || services.IsEmpty() || from.IsEmpty() {
		return nil, nil
	}
	of := func(to *flow.Group, services flow.Services, from flow.Addrs) *flow.Rule {
		part := *r
		part.To, part.Services, part.From = to, services, from
		return &part
	}
	add := func(to *flow.Group, services flow.Services, from flow.Addrs) {
		if len(to.Machines) > 0 && !services.IsEmpty() && !from.IsEmpty() {
			rest = append(rest, of(to, services, from))
		}
	}
	add(others, r.Services, r.From)
	add(to, r.Services.Subtract(services), r.From)
	add(to, services, r.From.Subtract(from))
	return of(to, services, from), rest
}
