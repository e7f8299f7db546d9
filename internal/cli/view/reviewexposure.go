package view

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbark/internal/exposure"
	"ironbark/internal/rights"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// exposureDifference prints what opens and closes, and what people may more and less.
func (p *Printer) exposureDifference(r *work.Review, before, after *Phrasing) {
	p.Line("")
	p.Head("2  Exposure: who can newly reach what, and who no longer can")
	d := r.Exposure
	if d.IsEmpty() && r.Outward.IsEmpty() {
		p.Line("   nothing opens and nothing closes")
	}
	c := &cited{}
	ends := func(ph *Phrasing) func(exposure.Change) string {
		return func(x exposure.Change) string { return until(x.Entry.Until, ph.now) }
	}
	p.changes(p.Open("newly open"), d.Opened, after, ends(after), c)
	p.changes("no longer open", d.Closed, before, ends(before), c)
	p.changes("open until another moment", d.Moved, after, func(x exposure.Change) string {
		return fmt.Sprintf("%s, was %s", orEver(x.Entry.Until, after.now), orEver(x.Before, after.now))
	}, c)
	p.changes("open through a further door", d.Gained, after, ends(after), c)
	p.changes("open as before, but through this door no more", d.Lost, before, ends(before), c)
	p.outwardDifference(r.Outward, before, after, c)
	c.tell(p, "   ")
	p.rights("may do more", r.Rights.Gained, after, r)
	p.rights("may do less", r.Rights.Lost, before, r)
	p.freed(r)
}

// WouldOpen tells what an opening would let pass that does not pass now.
func (p *Printer) WouldOpen(d exposure.Difference, ph *Phrasing) {
	if d.Opened.IsEmpty() && d.Moved.IsEmpty() && d.Gained.IsEmpty() {
		p.Line("   nothing opens that is not open already")
	}
	c := &cited{}
	end := func(x exposure.Change) string { return until(x.Entry.Until, ph.now) }
	p.changes(p.Open("newly open"), d.Opened, ph, end, c)
	p.changes("open until another moment", d.Moved, ph, end, c)
	p.changes("open through a further door", d.Gained, ph, end, c)
}

// changes prints differences of one sort, a row a machine and service; end tells the end.
func (p *Printer) changes(head string, list exposure.Changes, ph *Phrasing, end func(exposure.Change) string, c *cited) {
	rows, total := ph.firstRows(list, mostChanges)
	p.changeTable(head, total, p.flowRows(rows, mostChanges, ph, func(r entryRow) string {
		return end(exposure.Change{Entry: r.entry, Before: r.before})
	}, c))
}

// changeTable prints the cells of the first rows of differences of one sort, of so many in all, if there are any.
func (p *Printer) changeTable(head string, total int, cells [][]string) {
	if total == 0 {
		return
	}
	p.Line("   %s", head)
	p.TableIn("     ", nil, cells)
	if total > mostChanges {
		p.Line("     … and %d more: --json tells all of them", total-mostChanges)
	}
}

// firstRows gathers differences, a row a machine and service: those of the first machines by name until there are most, and how many there
// are in all. Of machines that fare alike one is gathered, but for those that are shown.
func (ph *Phrasing) firstRows(list exposure.Changes, most int) (rows []entryRow, total int) {
	groups := slices.Clone(list.Groups())
	name := func(g exposure.Group) string {
		if g.Machine == "" {
			return g.Changes()[0].Entry.Door.Via
		}
		return g.Machine
	}
	slices.SortStableFunc(groups, func(a, b exposure.Group) int { return sentence.CompareNames(name(a), name(b)) })
	count := map[any]int{}
	for _, g := range groups {
		n, known := count[g.Alike()]
		if known && len(rows) >= most {
			total += n
			continue
		}
		own := ph.rowsOf(g.Changes())
		if len(rows) < most {
			rows = append(rows, own...)
		}
		count[g.Alike()] = len(own)
		total += len(own)
	}
	return rows, total
}

// rowsOf gathers differences, a row a machine and service: those of one end are gathered, since rows of other ends are others.
func (ph *Phrasing) rowsOf(list []exposure.Change) (rows []entryRow) {
	for first := 0; first < len(list); {
		last := first
		for last < len(list) && list[last].Before.Equal(list[first].Before) {
			last++
		}
		entries := make([]exposure.Entry, last-first)
		for i, c := range list[first:last] {
			entries[i] = c.Entry
		}
		own := ph.gather(entries)
		for i := range own {
			own[i].before = list[first].Before
		}
		if first == 0 {
			rows = own // mostly all have one end
		} else {
			rows = append(rows, own...)
		}
		first = last
	}
	return rows
}

// rights prints what people may more, or less.
func (p *Printer) rights(head string, list []rights.Right, ph *Phrasing, r *work.Review) {
	if len(list) == 0 {
		return
	}
	before, after := r.States()
	e := after.Estate
	if ph.mark != "" {
		e = before.Estate
	}
	p.Line("   %s", head)
	var rows [][]string
	for i, one := range list {
		if i == mostChanges {
			break
		}
		rows = append(rows, []string{people(one.People, e), changedRight(one, ph)})
	}
	p.TableIn("     ", nil, rows)
	if len(list) > mostChanges {
		p.Line("     … and %d more: --json tells all of them", len(list)-mostChanges)
	}
}

// RightsOf prints the rights of one person, each with the sentence that gives it.
func (p *Printer) RightsOf(list []rights.Right, ph *Phrasing) {
	c := &cited{}
	var rows [][]string
	for _, r := range list {
		by := ""
		if r.Origin.Sentence != "" {
			by = c.cite(ph, r.Origin, 0)
		}
		rows = append(rows, []string{rightWords(r, ph), by})
	}
	p.TableIn("  ", nil, rows)
	if len(c.list) > 0 {
		p.Line("")
		c.tell(p, "  ")
	}
}

func lengthOf(r rights.Right) string { return sentence.DurationOf(r.Length).String() }

// plain leaves a text as it is.
func plain(text string) string { return text }

func rightWords(r rights.Right, ph *Phrasing) string {
	switch r.Kind {
	case rights.Close:
		return "close what others opened" + rightEnd(r)
	case rights.Second:
		return "approve edits of others" + rightEnd(r)
	}
	what := fmt.Sprintf("%s to %s%s", markedWith(r.Flows.Services, ph, plain), few(r.Machines), ph.fromWords(r.Flows.From))
	switch r.Kind {
	case rights.Reach:
		return fmt.Sprintf("reach %s through %s", what, r.Via) + rightEnd(r)
	case rights.Approve:
		return "approve that others open " + what + rightEnd(r)
	}
	return "open " + what + ", " + termsWords(r)
}

// termsWords are the terms on which something may be opened: for how long, with what and until when.
func termsWords(r rights.Right) string {
	text := fmt.Sprintf("for %s at most", lengthOf(r))
	if r.Approvals > 0 {
		text += ", with " + Count(r.Approvals, "approval")
	}
	if r.Emergency {
		text += ", in an emergency"
	}
	return text + rightEnd(r)
}

// changedRight is a right that somebody gains or loses, with the terms on which they had it before.
func changedRight(r rights.Right, ph *Phrasing) string {
	lost := ph.mark != ""
	text := rightWords(r, ph)
	switch {
	case r.Denied.Sentence != "" && lost:
		return text + ": denied by “" + r.Denied.Sentence + "”"
	case r.Denied.Sentence != "":
		return text + ": no longer denied by “" + r.Denied.Sentence + "”"
	case r.Instead == nil || r.Kind != rights.Open:
		return text
	case lost:
		was := r
		r.Length, r.Approvals, r.Emergency, r.Until = r.Instead.Length, r.Instead.Approvals, r.Instead.Emergency, r.Instead.Until
		return rightWords(r, ph) + "; before, " + termsWords(was)
	}
	return text + "; before, " + termsWords(*r.Instead)
}

// rightEnd tells when a right ends; nothing where it does not.
func rightEnd(r rights.Right) string {
	if r.Until.IsZero() {
		return ""
	}
	return ", until " + r.Until.UTC().Format(time.RFC3339)
}

// freed tells public addresses that the estate gives back, those first that are named as
// sources.
func (p *Printer) freed(r *work.Review) {
	var quiet []string
	for _, f := range r.Freed {
		if len(f.NamedBy) > 0 {
			p.Wrap("   "+p.Bad("given back")+"  ", fmt.Sprintf("%s, and whoever gets it next is let in by %s", f.Address, strings.Join(f.NamedBy, ", ")))
		} else {
			quiet = append(quiet, f.Address.String())
		}
	}
	if len(quiet) > 0 {
		p.Wrap("   given back  ", few(quiet))
	}
}

// weakened tells what guarantees speak of no more.
func (p *Printer) weakened(list []exposure.Uncovered, before *Phrasing) {
	for i, u := range list {
		if i == mostChanges {
			p.Line("   … and %d more: --json tells all of them", len(list)-mostChanges)
			return
		}
		what := "may be open: no guarantee speaks of it any more"
		switch {
		case u.Always:
			what = "need not be open: no guarantee speaks of it any more"
		case u.Standing:
			what = "may be open for a while or by a bastion: what is left speaks of standing sentences only"
		}
		from, to, ph := before.names.Plain(u.Flows.From), few(u.Targets), before
		source, target := u.Example.Source.String(), u.Targets[0]
		if u.Outward {
			from, to, source, target, ph = to, from, target, source, before.Calls()
		}
		p.Wrap("   "+p.Bad("weaker")+"  ", fmt.Sprintf("%s from %s to %s %s", p.marked(u.Flows.Services, ph), from, to, what))
		p.Wrap("           ", fmt.Sprintf("for example %s from %s to %s, as it was by %s", u.Example.Service, source, target, sentenceAt(u.Guarantee)))
	}
}
