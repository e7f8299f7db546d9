package flow

import (
	"maps"
	"slices"

	"ironbark/internal/estate"
	"ironbark/internal/sentence"
)

// Edit is what an edit of sentences comes to in a plan.
type Edit struct {
	Plan                  *Plan   // the plan afterwards
	Out, In               []Rule  // rules about what comes to machines that only the earlier plan has, and only the later one
	OutwardOut, OutwardIn []Rule  // such rules about what machines call outside
	Machines              []int32 // those that the rules in Out and In are about, ascending
	Same                  bool    // both plans are installed as the same tables
}

// Edited returns the plan of an estate that differs from the plan's own in some sentences, none of which makes a door: it is what [Compile] makes of e
// with the same addresses. The plan must be one without openings, as Compile made it. Cost: linear in the rules.
func (p *Plan) Edited(e *estate.Estate, d *estate.Delta) Edit {
	q := *p
	out := make(map[Origin]bool, len(d.Out))
	for _, st := range d.Out {
		out[OriginOf(st)] = true
	}
	made := p.madeOf(e, d.In)
	edit := Edit{Plan: &q, In: made.Rules, OutwardIn: made.Outward}
	var moves [3]bool
	q.Rules, edit.Out, moves[0] = edited(p.Rules, made.Rules, out, d)
	q.Outward, edit.OutwardOut, moves[1] = edited(p.Outward, made.Outward, out, d)
	q.Doors = slices.Clone(p.Doors)
	for i := range q.Doors {
		moves[2] = move(&q.Doors[i].Origin, d) || moves[2]
	}
	var x, y fingerprints
	edit.Same = moves == [3]bool{} && maps.Equal(x.rules(edit.Out), y.rules(edit.In)) && maps.Equal(x.rules(edit.OutwardOut), y.rules(edit.OutwardIn))
	about := make([]bool, len(p.Machines))
	for _, r := range slices.Concat(edit.Out, edit.In) {
		for _, m := range r.To.Machines {
			about[m] = true
		}
	}
	for m, is := range about {
		if is {
			edit.Machines = append(edit.Machines, int32(m))
		}
	}
	return edit
}

// madeOf compiles some sentences. Their rules share the groups of the plan's.
func (p *Plan) madeOf(e *estate.Estate, list []sentence.Statement) *Plan {
	made := *p
	made.Rules, made.Outward = nil, nil
	c := NewResolver(e, &made).c
	for _, g := range p.Gateways {
		c.gateways = append(c.gateways, g.Name)
	}
	for _, st := range list {
		c.sentence(st)
	}
	there := map[*Group]*Group{} // by those that were made
	met := map[*Group]bool{}
	for _, rules := range [][]Rule{p.Rules, p.Outward} {
		for i := range rules {
			if g := rules[i].To; !met[g] {
				met[g] = true
				for _, mine := range c.groups {
					if slices.Equal(mine.Machines, g.Machines) {
						there[mine] = g
					}
				}
			}
		}
	}
	for _, rules := range [][]Rule{made.Rules, made.Outward} {
		for i := range rules {
			if g, ok := there[rules[i].To]; ok {
				rules[i].To = g
			}
		}
	}
	return &made
}

// edited returns rules with others in their places among them, and without those of some sentences, which are returned besides. All keep the order of their lines.
// moves tells whether any that stays stands on another line.
func edited(list, in []Rule, out map[Origin]bool, d *estate.Delta) (now, without []Rule, moves bool) {
	if len(list)+len(in) == 0 {
		return list, nil, false
	}
	now = make([]Rule, 0, len(list)+len(in))
	for _, r := range list {
		if out[r.Origin] {
			without = append(without, r)
			continue
		}
		moves = move(&r.Origin, d) || moves
		for len(in) > 0 && in[0].Origin.Compare(r.Origin) < 0 {
			now, in = append(now, in[0]), in[1:]
		}
		now = append(now, r)
	}
	return append(now, in...), without, moves
}

// move puts an origin on its line of the later files, and reports whether that is another one.
func move(o *Origin, d *estate.Delta) bool {
	was := o.Line
	o.Line = d.Moved(o.File, was)
	return o.Line != was
}
