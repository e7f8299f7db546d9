package view

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbark/internal/cost"
	"ironbark/internal/exposure"
	"ironbark/internal/findings"
	"ironbark/internal/flow"
	"ironbark/internal/rights"
	"ironbark/internal/work"
)

// verdict tells in a line what a review comes to: whether it can be enacted, and then what
// it opens before all else.
func verdict(r *work.Review) string {
	if stopped := r.Stopped(); len(stopped) > 0 {
		return "this cannot be enacted: " + strings.Join(stopped, "; ")
	}
	d := r.Exposure
	var words []string
	say := func(n int, format string) {
		if n > 0 {
			words = append(words, fmt.Sprintf(format, n))
		}
	}
	opened, administrative := told(d.Opened)
	if administrative > 0 {
		words = append(words, fmt.Sprintf("%d newly open (%d administrative)", opened, administrative))
	} else {
		say(opened, "%d newly open")
	}
	closed, _ := told(d.Closed)
	say(closed, "%d no longer open")
	moved, _ := told(d.Moved)
	say(moved, "%d open until another moment")
	doors, _ := toldOf(slices.AppendSeq(slices.Collect(d.Gained.All()), d.Lost.All()))
	say(doors, "%d through other doors")
	words = append(words, outwardVerdict(r.Outward)...)
	if len(words) == 0 {
		words = append(words, "nothing opens and nothing closes")
	}
	for _, may := range []struct {
		who  []rights.Right
		what string
	}{{r.Rights.Gained, " may do more"}, {r.Rights.Lost, " may do less"}} {
		switch n := persons(may.who); n {
		case 0:
		case 1:
			words = append(words, "1 person"+may.what)
		default:
			words = append(words, fmt.Sprintf("%d people%s", n, may.what))
		}
	}
	if len(r.Weakened) > 0 {
		words = append(words, "guarantees speak of less")
	}
	serious := 0
	for _, f := range r.Findings {
		if f.New && f.Level == findings.Serious {
			serious++
		}
	}
	if serious > 0 {
		words = append(words, Count(serious, "new serious finding"))
	}
	if step := costStep(r.Before, r.After); step != "" {
		words = append(words, step)
	}
	return strings.Join(words, "; ")
}

// told counts differences as listings gather them, over doors, and the administrative ones. Of machines that fare alike one is
// counted for all.
func told(list exposure.Changes) (all, administrative int) {
	type count struct{ all, administrative int }
	known := map[any]count{}
	for _, g := range list.Groups() {
		n, counted := known[g.Alike()]
		if !counted {
			n.all, n.administrative = toldOf(g.Changes())
			known[g.Alike()] = n
		}
		all, administrative = all+n.all, administrative+n.administrative
	}
	return all, administrative
}

func toldOf(list []exposure.Change) (all, administrative int) {
	type row struct {
		machine       string
		origin        flow.Origin
		opening       int64
		until, before time.Time
		first         flow.Service // the services, as near as it takes to count rows
		runs          int
	}
	known := map[row]bool{}
	for _, c := range list {
		machine := c.Machine
		if machine == "" {
			machine = c.Entry.Door.Via
		}
		runs := c.Entry.Services.Runs()
		key := row{machine: machine, origin: c.Entry.Origin, opening: c.Entry.Opening, until: c.Entry.Until, before: c.Before, first: runs[0].Lo, runs: len(runs)}
		if known[key] {
			continue
		}
		known[key] = true
		if all++; c.Entry.Administrative {
			administrative++
		}
	}
	return all, administrative
}

// persons counts the people of some rights, each once.
func persons(list []rights.Right) int {
	known := map[string]bool{}
	for _, r := range list {
		for _, p := range r.People {
			known[p] = true
		}
	}
	return len(known)
}

// costStep tells how much more or less a month costs; "" where it is the same.
func costStep(before, after cost.Bill) string {
	step := after.Month() - before.Month()
	switch {
	case step > 0:
		return fmt.Sprintf("%s %s a month more", after.Currency, step)
	case step < 0:
		return fmt.Sprintf("%s %s a month less", after.Currency, -step)
	}
	return ""
}

// inShort prints the verdict of a review, which stands first and last.
func (p *Printer) inShort(r *work.Review, text string) {
	if len(r.Stopped()) > 0 {
		text = p.Bad(text)
	} else if !r.Exposure.Opened.IsEmpty() || !r.Outward.Opened.IsEmpty() || len(r.Weakened) > 0 {
		text = p.Open(text)
	}
	p.Wrap("In short  ", text)
}
