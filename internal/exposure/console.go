package exposure

import (
	"maps"
	"slices"

	"ironbark/internal/flow"
)

// This file is the consoles of machines. They are no part of the network: no door of it leads to one, no deny or guarantee covers it, and
// openings alone let somebody in, each the person who has it.

// consoleDoor is the door to a machine's console.
func consoleDoor(m int32) flow.Door {
	return flow.Door{Kind: flow.DoorConsole, Machine: m, Family: flow.ConsoleFamily, Arrives: flow.ConsoleOnly, From: flow.ConsoleSource}
}

// addConsoles finds the openings of consoles that are open.
func (v *View) addConsoles(rules []flow.Rule) {
	for i := range rules {
		r := &rules[i]
		if !r.OpensConsole() || !r.Active(v.At) {
			continue
		}
		if v.consoles == nil {
			v.consoles = map[int32][]*flow.Rule{}
		}
		for _, m := range r.To.Machines {
			v.consoles[m] = append(v.consoles[m], r)
		}
	}
}

// Consoles lists the openings of a machine's console, one entry each: they are of different people, or begin and end at different times.
func (v *View) Consoles(m int32) (list []Entry) {
	for _, r := range v.consoles[m] {
		list = append(list, Entry{
			Door: consoleDoor(m), Services: flow.ConsoleOnly, From: flow.ConsoleSource, Administrative: true,
			Cause: Cause{Reason: ByOpening, Until: r.Until, Opening: r.Opening, Origin: r.Origin},
		})
	}
	return list
}

// askConsole asks whether a machine's console is open: a part for each opening of it, or one that is closed.
func (v *View) askConsole(t Target) (list []Part) {
	part := Part{Target: t, Machine: t.Machine, Door: consoleDoor(t.Machine), Services: flow.ConsoleOnly, Arrives: flow.ConsoleOnly, From: flow.ConsoleSource}
	for _, e := range v.Consoles(t.Machine) {
		open := part
		open.Open, open.Cause = true, e.Cause
		list = append(list, open)
	}
	if len(list) == 0 {
		part.Cause = Cause{Reason: Administrative}
		list = append(list, part)
	}
	return list
}

// consoleSteps are the questions that a part about a console meets: no deny and no allow covers one.
func consoleSteps(p Part) []Step {
	steps := []Step{{Question: "door", Answer: DoorWords(p.Door), Passed: true}}
	if !p.Open {
		return append(steps, Step{Question: "administrative", Answer: "yes, and no opening is there for it"})
	}
	return append(steps,
		Step{Question: "administrative", Answer: "yes, a console always is", Passed: true},
		Step{Question: "pass", Answer: passWords[p.Reason], Passed: true, Origin: p.Origin})
}

// consoles adds which openings of consoles came, went or got another end. An opening is the same on both sides by its number.
func (d *Difference) consoles(a, b *View) {
	before, after := a.consolesByName(), b.consolesByName()
	for _, name := range slices.Sorted(maps.Keys(after)) {
		for _, e := range after[name] {
			switch was, there := find(before[name], e.Opening); {
			case !there:
				d.Opened.addWhole(Change{Machine: name, Entry: e})
			case !was.Until.Equal(e.Until):
				d.Moved.addWhole(Change{Machine: name, Entry: e, Before: was.Until})
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(before)) {
		for _, e := range before[name] {
			if _, there := find(after[name], e.Opening); !there {
				d.Closed.addWhole(Change{Machine: name, Entry: e})
			}
		}
	}
}

func (v *View) consolesByName() map[string][]Entry {
	open := make(map[string][]Entry, len(v.consoles))
	for m := range v.consoles {
		open[v.Plan.Machines[m].Name] = v.Consoles(m)
	}
	return open
}

func find(list []Entry, opening int64) (Entry, bool) {
	i := slices.IndexFunc(list, func(e Entry) bool { return e.Opening == opening })
	if i < 0 {
		return Entry{}, false
	}
	return list[i], true
}
