package view

import (
	"fmt"
	"strings"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/exposure"
	"ironbark/internal/findings"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// Review prints the four parts of a review, with its verdict before and after them.
func (p *Printer) Review(r *work.Review, before, after *Phrasing) {
	before.mark = "was "
	short := verdict(r)
	p.inShort(r, short)
	p.Line("")
	if r.Unfinished != nil {
		p.Wrap("", fmt.Sprintf("An enactment that %s began at %s was broken off. Enacting completes it.", r.Unfinished.Person, Moment(r.Unfinished.Since, after.now)))
		p.Line("")
	}
	if !r.Drift.IsEmpty() {
		p.Head("Not as it was enacted: somebody changed the site without ironbark")
		p.Drift(r.Drift, before)
		p.Line("")
	}
	p.resources(r, before)
	p.exposureDifference(r, before, after)
	p.found(r, before)
	p.costs(r)
	p.Line("")
	p.inShort(r, short)
}

func (p *Printer) resources(r *work.Review, before *Phrasing) {
	p.Head("1  What is made, altered and removed")
	var rows [][]string
	for _, c := range r.Changes {
		what := c.Resource.Describe()
		if c.Verb == change.Alter {
			what = strings.Join(c.How, "; ")
			if c.Restart {
				what += "; it is stopped and started again for that"
			}
		}
		rows = append(rows, []string{string(c.Verb), string(c.Resource.Kind), c.Resource.Name, what})
	}
	quote := func(verb string, list []sentence.Statement) {
		for i, s := range list {
			if i == mostChanges {
				rows = append(rows, []string{verb, "", "", fmt.Sprintf("… and %d more", len(list)-mostChanges)})
				return
			}
			rows = append(rows, []string{verb, "", "", s.Sentence.String()})
		}
	}
	for i, m := range r.Meanings {
		if i == mostChanges {
			rows = append(rows, []string{"alter", "", "", fmt.Sprintf("what %d more words stand for", len(r.Meanings)-mostChanges)})
			break
		}
		rows = append(rows, []string{string(m.Verb), m.Kind, m.Name, m.String()})
	}
	quote("say", r.Added)
	quote("retract", r.Retracted)
	for _, e := range r.Ending {
		rows = append(rows, endingRows(e, before)...)
	}
	if len(rows) == 0 {
		p.Line("   nothing")
	}
	p.rows(rows)
	for _, n := range r.Notes {
		p.Wrap("   note  ", Advice(n))
	}
}

// endingRows tells what an opening loses, a row a loss.
func endingRows(e work.Ending, ph *Phrasing) (rows [][]string) {
	verb, id := "end", fmt.Sprint(e.Opening.ID)
	if e.Narrowed {
		verb = "narrow"
	}
	for _, l := range e.Lost {
		why := e.Why
		if !l.End.IsZero() {
			why = fmt.Sprintf("ends at %s by “%s”", Moment(l.End, ph.now), l.By)
		}
		rows = append(rows, []string{verb, "opening", id, fmt.Sprintf("%s to %s%s: %s", ph.service(l.Part.Services), few(l.Part.Machines), ph.fromWords(l.Part.From), why)})
	}
	if len(rows) == 0 {
		rows = append(rows, []string{verb, "opening", id, e.Why + ": " + e.Opening.Words.String()})
	}
	return rows
}

// rows prints rows whose middle cells may be empty: then what follows moves left.
func (p *Printer) rows(rows [][]string) {
	var resources [][]string
	verbs := 0
	for _, row := range rows {
		verbs = max(verbs, len(row[0]))
		if row[1] != "" {
			resources = append(resources, row)
		}
	}
	for _, row := range resources {
		row[0] += strings.Repeat(" ", verbs-len(row[0]))
	}
	p.TableIn("   ", nil, resources)
	for _, row := range rows {
		if row[1] == "" {
			p.Wrap(fmt.Sprintf("   %-*s  ", verbs, row[0]), row[3])
		}
	}
}

// mostChanges is how many things of one sort a review shows to people.
const mostChanges = 200

func orEver(t, now time.Time) string {
	if t.IsZero() {
		return "further notice"
	}
	return Moment(t, now)
}

func (p *Printer) found(r *work.Review, before *Phrasing) {
	p.Line("")
	p.Head("3  Findings and guarantees")
	none := true
	for _, b := range r.Broken {
		none = false
		p.Broken(b)
	}
	p.weakened(r.Weakened, before)
	none = none && len(r.Weakened) == 0
	old := r.FindingsBefore
	var told []findings.Finding
	for _, f := range r.Findings {
		if !f.New && f.Level < findings.Serious {
			old++
			continue
		}
		told = append(told, f.Finding)
	}
	none = none && len(told) == 0
	p.Findings(told, "ironbark findings --draft --all, or --json")
	if old > 0 {
		p.Line("   and %s from before: ironbark findings", Count(old, "finding"))
	} else if none {
		p.Line("   none")
	}
}

// Broken tells a broken guarantee and the flow that shows it.
func (p *Printer) Broken(b exposure.Broken) {
	p.Wrap("   "+p.Bad("broken")+"  ", sentenceAt(b.Guarantee))
	kept := "is let in by"
	switch {
	case b.Outward && b.By.Open:
		kept = "is open by"
	case b.Outward:
		kept = "stays closed: " + string(b.By.Reason)
	case b.Potential:
		kept = "could be let in by"
	case !b.By.Open:
		kept = "stays out: " + string(b.By.Reason)
	}
	from, to := b.Ends()
	text := fmt.Sprintf("%s from %s to %s %s", b.Flow.Service, from, to, kept)
	if b.By.Origin.Sentence != "" {
		text += " “" + b.By.Origin.Sentence + "”"
	}
	p.Wrap("           ", text)
}

func sentenceAt(o flow.Origin) string {
	if at := place(o); at != "" {
		return o.Sentence + "  (" + at + ")"
	}
	return o.Sentence
}

func (p *Printer) costs(r *work.Review) {
	p.Line("")
	p.Head("4  Cost and quota")
	text := fmt.Sprintf("%s %s a month", r.After.Currency, r.After.Month())
	if step := costStep(r.Before, r.After); step != "" && r.Before.Month() != 0 {
		text += ", " + strings.TrimPrefix(strings.Replace(step, " a month", "", 1), r.After.Currency+" ") + " than now"
	}
	p.Line("   %s; %s an hour", text, hourly(r.After.Hour()))
	var parts []string
	for _, q := range r.After.Used.Against(r.Limits) {
		parts = append(parts, fmt.Sprintf("%d of %d %s", q.Used, q.Limit, q.What))
	}
	p.Wrap("   quota  ", strings.Join(parts, ", "))
	for _, over := range r.QuotaExceeded {
		p.Wrap("   "+p.Bad("too much")+"  ", over)
	}
	if q := r.After.Used.Addresses; q > r.Limits.Addresses {
		st, _ := r.States()
		for _, h := range holders(st) {
			p.Wrap("     ", h.Address+" is held: "+h.By)
		}
	}
}
