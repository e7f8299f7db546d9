package work

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"ironbark/internal/driver"
	"ironbark/internal/flow"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
	"ironbark/internal/site"
	"ironbark/internal/timeline"
)

// TimelineAsk says what of a time line is asked for. Until may be zero: then it goes on for as long as what is open now, within bounds.
type TimelineAsk struct {
	Since, Until time.Time
	Machine, By  string // only what concerns this machine, and what this person brought about; "": all
}

// Timeline tells what was open for a while, what sentences left open or denied for a while, and what others changed. Cost: linear in the journal, and in the
// plan for each time that it was changed since then.
func (w *Work) Timeline(ctx context.Context, ask TimelineAsk) (*State, timeline.Line, error) {
	now := w.Clock.Now()
	st, err := w.installed(ctx, w.Site.Report)
	if err != nil {
		return nil, timeline.Line{}, err
	}
	openings, err := w.Site.Openings(ctx)
	if err != nil {
		return nil, timeline.Line{}, err
	}
	counts, err := w.Site.Counts(ctx)
	if err != nil {
		counts = &driver.Counts{} // the place counts nothing
	}
	var bars []timeline.Bar
	for _, o := range openings {
		bars = append(bars, openingBar(o, counts))
	}
	p := &pastRules{since: ask.Since, held: map[ruled][]spanOfRule{}, foreign: map[string]bool{}}
	if err := w.Site.History(ctx, ask.Since, func(m site.Moment) (bool, error) {
		p.look(m)
		return true, nil
	}); err != nil {
		return nil, timeline.Line{}, err
	}
	bars = append(bars, p.done()...)
	bars = append(bars, p.unrecorded(st.Report)...)
	bars = slices.DeleteFunc(bars, func(b timeline.Bar) bool {
		return ask.By != "" && b.Who != ask.By || ask.Machine != "" && !slices.Contains(b.Machines, ask.Machine)
	})
	if ask.Machine != "" {
		for i := range bars {
			bars[i].Machines = []string{ask.Machine}
		}
	}
	if ask.Until.IsZero() {
		ask.Until = timelineEnd(ask.Since, now, bars)
	}
	return st, timeline.New(ask.Since, now, ask.Until, bars), nil
}

// timelineEnd is a quarter of what is past ahead, and further where something that holds now ends later, but not further than it goes back.
func timelineEnd(since, now time.Time, bars []timeline.Bar) time.Time {
	past := now.Sub(since)
	end := now.Add(past / 4)
	for _, b := range bars {
		if b.End.After(end) && b.End.Before(now.Add(past)) {
			end = b.End
		}
	}
	return end
}

// openingBar is the bar of an opening, or of a request that was not granted.
func openingBar(o opening.Opening, counts *driver.Counts) timeline.Bar {
	b := timeline.Bar{Kind: timeline.Opening, Begin: o.Begin, End: o.End(), Number: o.ID, Who: o.Person, Why: o.Words.Because, Machines: o.Machines()}
	b.What = o.Words.Services.String() + sentence.FromWords(o.Words.From)
	if o.Emergency {
		b.What = "emergency, " + b.What
	}
	var by []string
	for _, a := range o.Approvals {
		by = append(by, a.Person)
	}
	if len(by) > 0 {
		b.What += ", approved by " + strings.Join(by, " and ")
	}
	if o.Waits() {
		b.Kind = timeline.Asked
	}
	if !o.Ended.IsZero() && o.Ended.Before(b.End) {
		b.End = o.Ended
		if b.End.Before(b.Begin) {
			b.Begin = b.End
		}
		if o.EndedBy != "" && o.EndedBy != o.Person {
			b.What += ", ended by " + o.EndedBy
		}
	}
	for _, c := range counts.List {
		if slices.Contains(c.Openings, o.ID) && c.Before.After(b.Used.Before) {
			b.Used = timeline.Span{After: c.After, Before: c.Before}
		}
	}
	return b
}

// ruled is what rules are told apart by: what a sentence says of a kind.
type ruled struct {
	kind     flow.RuleKind
	sentence string
}

// spanOfRule is since when a rule has been about some machines.
type spanOfRule struct {
	begin    time.Time // zero: since before it was looked at
	until    time.Time // of the rule
	who      string
	machines []string
}

// pastRules joins the rules of one moment after the other into bars.
type pastRules struct {
	since   time.Time
	base    *flow.Plan
	held    map[ruled][]spanOfRule
	others  []timeline.Bar  // what others changed and nobody has put right yet
	foreign map[string]bool // sentences that they put into the tables
	bars    []timeline.Bar
	last    time.Time // that it looked at
}

// look notes what holds from a moment on, and ends what does not any more.
func (p *pastRules) look(m site.Moment) {
	p.last = m.At
	switch {
	case m.Outside != nil:
		p.outside(m)
	case m.Base != p.base: // an enactment puts all in place of what others did
		p.end(m.At)
	}
	if m.Base == p.base {
		return
	}
	begin, who := m.At, m.Person
	if !m.At.After(p.since) {
		begin, who = time.Time{}, ""
	}
	now := timed(m.Base)
	for key, spans := range p.held {
		p.held[key] = p.stays(key, spans, now[key].machines, m.At)
	}
	maps.DeleteFunc(now, func(key ruled, _ spanOfRule) bool { return p.foreign[key.sentence] })
	p.begin(now, begin, who)
	p.base = m.Base
}

// timed are the rules of a plan of which a line tells, with the names of their machines.
func timed(plan *flow.Plan) map[ruled]spanOfRule {
	groups := map[ruled]map[int32]bool{}
	out := map[ruled]spanOfRule{}
	for _, rules := range [][]flow.Rule{plan.Rules, plan.Outward} {
		for i := range rules {
			r := &rules[i]
			if r.Kind != flow.Deny && r.Kind != flow.Standing && r.Until.IsZero() {
				continue
			}
			key := ruled{r.Kind, r.Origin.Sentence}
			if groups[key] == nil {
				groups[key] = map[int32]bool{}
				out[key] = spanOfRule{until: r.Until}
			}
			for _, m := range r.To.Machines {
				groups[key][m] = true
			}
		}
	}
	for key, s := range out {
		for _, m := range slices.Sorted(maps.Keys(groups[key])) {
			s.machines = append(s.machines, plan.Machines[m].Name)
		}
		out[key] = s
	}
	return out
}

// stays returns of the spans of a sentence those of machines that it is still about, and ends the others.
func (p *pastRules) stays(key ruled, spans []spanOfRule, now []string, at time.Time) (left []spanOfRule) {
	still := make(map[string]bool, len(now))
	for _, m := range now {
		still[m] = true
	}
	for _, s := range spans {
		gone, on := s, s
		gone.machines, on.machines = nil, nil
		for _, m := range s.machines {
			if still[m] {
				on.machines = append(on.machines, m)
			} else {
				gone.machines = append(gone.machines, m)
			}
		}
		p.bar(key, gone, at)
		if len(on.machines) > 0 {
			left = append(left, on)
		}
	}
	return left
}

// begin notes the rules of machines that they were not about before.
func (p *pastRules) begin(now map[ruled]spanOfRule, begin time.Time, who string) {
	for key, s := range now {
		held := map[string]bool{}
		for _, before := range p.held[key] {
			for _, m := range before.machines {
				held[m] = true
			}
		}
		s.begin, s.who = begin, who
		s.machines = slices.DeleteFunc(s.machines, func(m string) bool { return held[m] })
		if len(s.machines) > 0 {
			p.held[key] = append(p.held[key], s)
		}
	}
}

// bar puts a span that ended on the line; end is zero where it has not. A deny that neither begins nor ends is what is always so, and not told.
func (p *pastRules) bar(key ruled, s spanOfRule, end time.Time) {
	if !s.until.IsZero() && (end.IsZero() || s.until.Before(end)) {
		end = s.until
	}
	if len(s.machines) == 0 || key.kind == flow.Deny && s.begin.IsZero() && end.IsZero() {
		return
	}
	kind := map[flow.RuleKind]timeline.Kind{flow.Deny: timeline.Deny, flow.Standing: timeline.Standing}[key.kind]
	p.bars = append(p.bars, timeline.Bar{Kind: cmp.Or(kind, timeline.Allow), Begin: s.begin, End: end, Who: s.who, What: key.sentence, Machines: s.machines})
}

// outside notes what others did, with the machines that it is about.
func (p *pastRules) outside(m site.Moment) {
	o := m.Outside
	b := timeline.Bar{Kind: timeline.Outside, Begin: o.At, Who: o.Who, What: o.What}
	if len(o.In)+len(o.Out) == 0 { // of resources: whether it was put right is not in the tables
		b.End = o.At
		b.Machines = slices.DeleteFunc(strings.Fields(o.What), func(word string) bool {
			_, there := m.Base.MachineByName(word)
			return !there
		})
		p.bars = append(p.bars, b)
		return
	}
	for text := range sentencesOf(o.In) {
		p.foreign[text] = true
	}
	b.Machines = concerned(*o, m.Base, p.base)
	p.others = append(p.others, b)
}

// sentencesOf are the sentences that rows stand for.
func sentencesOf(rows []flow.Row) map[string]bool {
	texts := map[string]bool{}
	for _, r := range rows {
		if text, err := flow.RowSentence(r); err == nil && text != "" {
			texts[text] = true
		}
	}
	return texts
}

// concerned names the machines that a change of the tables is about, in one of some plans; nil plans have none.
func concerned(o driver.OutOfBandChange, plans ...*flow.Plan) []string {
	texts := sentencesOf(slices.Concat(o.In, o.Out))
	names := map[string]bool{}
	for _, plan := range plans {
		if plan == nil {
			continue
		}
		mark := func(origin flow.Origin, g *flow.Group) {
			if texts[origin.Sentence] {
				for _, m := range g.Machines {
					names[plan.Machines[m].Name] = true
				}
			}
		}
		for _, rules := range [][]flow.Rule{plan.Rules, plan.Outward} {
			for i := range rules {
				mark(rules[i].Origin, rules[i].To)
			}
		}
		for i := range plan.Doors {
			mark(plan.Doors[i].Origin, plan.Doors[i].To)
		}
	}
	return slices.SortedFunc(maps.Keys(names), sentence.CompareNames)
}

// end ends what others did.
func (p *pastRules) end(at time.Time) {
	for _, b := range p.others {
		b.End = at
		p.bars = append(p.bars, b)
	}
	p.others = nil
	clear(p.foreign)
}

// done returns all bars, with what goes on.
func (p *pastRules) done() []timeline.Bar {
	for key, spans := range p.held {
		for _, s := range spans {
			p.bar(key, s, time.Time{})
		}
	}
	return append(p.bars, p.others...)
}

// unrecorded tells what others did where the place has no record of that: it came about since the site was last changed.
func (p *pastRules) unrecorded(r *site.Report) (bars []timeline.Bar) {
	for _, o := range r.Outside {
		if o.At.IsZero() && len(r.Files) > 0 {
			bars = append(bars, timeline.Bar{Kind: timeline.Outside, Begin: p.last, What: o.What + ", nobody recorded when", Machines: concerned(o, r.Plan, p.base)})
		}
	}
	return bars
}
