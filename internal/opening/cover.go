package opening

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// Longest is the longest opening that a permit allows in an estate.
func Longest(m sentence.Permit, l estate.Limits) time.Duration {
	return min(m.UpTo.Length(), l.Opening())
}

// Loss is what of an opening no permit covers any more.
type Loss struct {
	Part Part      // as it was
	End  time.Time // its end from now on; zero: it is lost altogether
	By   string    // the permit that covers it until then
}

// Covered returns what the permits of an estate still cover of an opening, each part with
// the permit that covers it for longest, and what they cover no more. Approvals are no
// question of coverage. An opening of which nothing is covered has no parts. Cost: parts ×
// permits of the person.
func Covered(o Opening, e *estate.Estate, p *flow.Plan) (kept Opening, lost []Loss) {
	permits := granting(o, e, p)
	kept, kept.Parts = o, nil
	for _, part := range o.Parts {
		rest := []Part{part}
		for _, m := range permits {
			var next []Part
			for _, piece := range rest {
				in, out := piece.split(m)
				if len(in.Machines) > 0 {
					was := in
					in.Permit = m.words
					if last := m.last(o.Begin); last.Before(part.End) {
						in.End = last
						lost = append(lost, Loss{Part: was, End: last, By: m.words})
					}
					kept.Parts = append(kept.Parts, in)
				}
				next = append(next, out...)
			}
			rest = next
		}
		for _, piece := range rest {
			lost = append(lost, Loss{Part: piece})
		}
	}
	if len(lost) > 0 && len(kept.Parts) == 1 {
		kept.Words = Reworded(kept, e, p)
	}
	return kept, lost
}

// Reworded returns the words of an opening that has lost something: of one with several parts
// they stay as they were, but for its end.
func Reworded(o Opening, e *estate.Estate, p *flow.Plan) sentence.Open {
	words, part := o.Words, o.Parts[0]
	if len(o.Parts) > 1 {
		words.For, words.Until = sentence.Duration{}, o.End().UTC()
		return words
	}
	resolve := flow.NewResolver(e, p)
	services, from := words.Services.String(), sentence.FromWords(words.From)
	if !resolve.Services(words.Services).Equal(part.Services) {
		services = flow.PrintServices(part.Services, flow.Namings(nil, e))
	}
	if !resolve.Source(words.From).Equal(part.From) {
		from = " from " + strings.Join(flow.AddrRuns(part.From), ", ")
	}
	starting := ""
	if !words.Starting.IsZero() {
		starting = " starting " + words.Starting.UTC().Format(time.RFC3339)
	}
	text := "open " + services + " to " + strings.Join(part.Machines, ", ") + from + starting + " until " + part.End.UTC().Format(time.RFC3339) + map[bool]string{true: " in emergency"}[words.Emergency] + ` because "x"`
	if s, err := sentence.ParseArgs([]string{text}, time.Time{}); err == nil {
		because := words.Because
		words = s.(sentence.Open)
		words.Because = because
	}
	return words
}

// grant is a permit as what its names stand for.
type grant struct {
	words    string
	to       map[string]bool
	services flow.Services
	from     flow.Addrs
	length   time.Duration
	until    time.Time // nothing by it lasts longer; zero: no end
}

// last is when the longest opening by a permit ends.
func (g grant) last(begin time.Time) time.Time {
	return flow.Earlier(begin.Add(g.length).Truncate(time.Second), g.until)
}

// granting lists the permits that concern the person of an opening, the most generous
// first: those for emergencies where it is one, and otherwise the others.
func granting(o Opening, e *estate.Estate, p *flow.Plan) (list []grant) {
	if !e.PersonKnown(o.Person) {
		return nil
	}
	resolve := flow.NewResolver(e, p)
	for m := range e.PermitsOf(o.Person) {
		if m.Emergency != o.Emergency {
			continue
		}
		g := grant{words: m.String(), to: map[string]bool{}, services: resolve.Services(m.Services), from: resolve.Source(m.From), length: Longest(m, e.Limits), until: flow.Earlier(m.Until, e.EndOf(o.Person))}
		for _, i := range resolve.Group(m.To).Machines {
			g.to[p.Machines[i].Name] = true
		}
		list = append(list, g)
	}
	slices.SortStableFunc(list, func(a, b grant) int { return cmp.Compare(b.length, a.length) })
	return list
}

// split divides a part into what a permit covers, which has no machines where that is
// nothing, and the rest, in parts that do not overlap.
func (p Part) split(m grant) (in Part, out []Part) {
	in = p
	in.Services, in.From = p.Services.Intersect(m.services), p.From.Intersect(m.from)
	in.Machines = nil
	var others []string
	for _, name := range p.Machines {
		if m.to[name] && !in.Services.IsEmpty() && !in.From.IsEmpty() {
			in.Machines = append(in.Machines, name)
		} else {
			others = append(others, name)
		}
	}
	put := func(machines []string, services flow.Services, from flow.Addrs) {
		if len(machines) > 0 && !services.IsEmpty() && !from.IsEmpty() {
			rest := p
			rest.Machines, rest.Services, rest.From = machines, services, from
			out = append(out, rest)
		}
	}
	put(others, p.Services, p.From)
	put(in.Machines, p.Services.Subtract(in.Services), p.From)
	put(in.Machines, in.Services, p.From.Subtract(in.From))
	return in, out
}
