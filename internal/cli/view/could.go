package view

import (
	"fmt"
	"strings"

	"ironbark/internal/opening"
	"ironbark/internal/work"
)

// Could tells what somebody may open: permit by permit, and what of it cannot be opened now.
func (p *Printer) Could(c work.Could, ph *Phrasing) {
	if len(c.May) == 0 {
		p.Line("%s may open nothing.", c.Person)
	} else {
		p.Head(c.Person + " may open")
	}
	cites := &cited{}
	var rows [][]string
	for _, one := range c.May {
		approvals := ""
		if one.Approvals > 0 {
			approvals = fmt.Sprintf("with %s of %s", count(one.Approvals, "approval"), strings.Join(one.Approvers, " or "))
		}
		if one.Emergency {
			approvals = "in an emergency"
		}
		rows = append(rows, []string{
			markedWith(one.Flows.Services, ph, plain), few(one.Machines), ph.names.Plain(one.Flows.From), "for " + lengthOf(one.Right) + " at most", approvals, cites.cite(ph, one.Origin, 0),
		})
	}
	p.TableIn("  ", nil, rows)
	if len(cites.list) > 0 {
		p.Line("")
		cites.tell(p, "  ")
	}
	p.hindered(c)
	if len(c.Uncovered) > 0 {
		p.Line("")
		p.Wrap("", fmt.Sprintf("No permit of theirs covers %s: %s", count(len(c.Uncovered), "machine"), few(c.Uncovered)))
	}
}

// hindered tells the machines that cannot take an opening now, each once with all its
// reasons.
func (p *Printer) hindered(c work.Could) {
	var order []string
	reasons := map[string][]opening.Reason{}
	for _, one := range c.May {
		for _, r := range one.Hindered {
			if len(reasons[r.Machine]) == 0 {
				order = append(order, r.Machine)
			}
			known := false
			for _, k := range reasons[r.Machine] {
				known = known || k == r
			}
			if !known {
				reasons[r.Machine] = append(reasons[r.Machine], r)
			}
		}
	}
	if len(order) == 0 {
		return
	}
	p.Line("")
	p.Head(fmt.Sprintf("Of these %s cannot be opened now", count(len(order), "machine")))
	for i, m := range order {
		if i == mostChanges {
			p.Line("  … and %d more: --json tells all of them", len(order)-mostChanges)
			return
		}
		for _, r := range reasons[m] {
			text := r.What
			if r.Mend != "" {
				text += "; to mend it: " + r.Mend
			}
			p.Wrap("  ", text)
		}
	}
}
