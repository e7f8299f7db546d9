package view

import (
	"fmt"
	"slices"
	"strings"

	"ironbark/internal/rights"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// Could tells what somebody may open: permit by permit, and what of it cannot be opened now.
func (p *Printer) Could(c work.Could, ph *Phrasing) {
	if len(c.May) == 0 {
		p.Line("%s may open nothing.", c.Person)
	} else {
		p.Head(c.Person + " may open")
	}
	p.couldOpen(c.May, ph, func(one work.CouldOpen) string { return few(one.Machines) })
	for i, o := range c.Already {
		if i == 0 {
			p.Line("")
			p.Head("Open already, or waiting")
		}
		p.Wrap("  ", fmt.Sprintf("%d  %s to %s%s, %s", o.ID, o.Words.Services, few(o.Machines()), sentence.FromWords(o.Words.From), OpeningState(o, ph.now, "")))
	}
	p.hindered(c.May, "Of these %s cannot be opened now")
	if len(c.Uncovered) > 0 {
		p.Line("")
		p.Wrap("", fmt.Sprintf("No permit of theirs covers %s: %s", Count(len(c.Uncovered), "machine"), few(c.Uncovered)))
	}
}

// couldOpen tells what may be opened, a line for each permit, which is told below.
func (p *Printer) couldOpen(list []work.CouldOpen, ph *Phrasing, who func(work.CouldOpen) string) {
	cites := &cited{}
	var rows [][]string
	for _, one := range list {
		approvals := ""
		if one.Approvals > 0 {
			approvals = fmt.Sprintf("with %s of %s", Count(one.Approvals, "approval"), strings.Join(one.Approvers, " or "))
		}
		if one.Emergency {
			approvals = "in an emergency"
		}
		rows = append(rows, []string{
			markedWith(one.Flows.Services, ph, plain), who(one), ph.names.Plain(one.Flows.From), "for " + lengthOf(one.Right) + " at most", approvals, cites.cite(ph, one.Origin, 0),
		})
	}
	p.TableIn("  ", nil, rows)
	if len(cites.list) > 0 {
		p.Line("")
		cites.tell(p, "  ")
	}
}

// CouldDoc is one thing that may be opened, and the machines that cannot take it now.
type CouldDoc struct {
	RightDoc
	Hindered []HinderedDoc `json:"hindered"`
}

// HinderedDoc is why a machine cannot take an opening now.
type HinderedDoc struct {
	Machine string `json:"machine"`
	Reason  string `json:"reason"`
	Remedy  string `json:"remedy,omitempty"`
}

// CouldJSON is what may be opened as programs read it.
func CouldJSON(one work.CouldOpen) CouldDoc {
	d := CouldDoc{RightsJSON([]rights.Right{one.Right})[0], []HinderedDoc{}}
	for _, h := range one.Hindered {
		d.Hindered = append(d.Hindered, HinderedDoc{h.Machine, h.What, Advice(h.Remedy)})
	}
	return d
}

// hinderedHere tells why one machine cannot take an opening now, each reason once.
func (p *Printer) hinderedHere(list []work.CouldOpen) {
	var told []reason
	for _, one := range list {
		for _, r := range reasonsOf(one.Hindered) {
			if !slices.Contains(told, r) {
				told = append(told, r)
			}
		}
	}
	for i, r := range told {
		if i == 0 {
			p.Line("")
		}
		p.Wrap("  "+p.Bad("but not now")+": ", hindranceWords(r))
	}
}

func hindranceWords(r reason) string {
	if r.remedy == "" {
		return r.what
	}
	return r.what + "; to fix it: " + r.remedy
}

// hindered tells the machines that cannot take an opening now, each once with all its
// reasons. head has a place for how many there are.
func (p *Printer) hindered(list []work.CouldOpen, head string) {
	var order []string
	reasons := map[string][]reason{}
	for _, one := range list {
		for _, r := range reasonsOf(one.Hindered) {
			if len(reasons[r.machine]) == 0 {
				order = append(order, r.machine)
			}
			if !slices.Contains(reasons[r.machine], r) {
				reasons[r.machine] = append(reasons[r.machine], r)
			}
		}
	}
	if len(order) == 0 {
		return
	}
	p.Line("")
	p.Head(fmt.Sprintf(head, Count(len(order), "machine")))
	for i, m := range order {
		if i == mostChanges {
			p.Line("  … and %d more: --json tells all of them", len(order)-mostChanges)
			return
		}
		for _, r := range reasons[m] {
			p.Wrap("  ", hindranceWords(r))
		}
	}
}
