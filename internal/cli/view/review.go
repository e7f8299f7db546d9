package view

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/cost"
	"ironbark/internal/exposure"
	"ironbark/internal/findings"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// Review prints the four parts of a review.
func (p *Printer) Review(r *work.Review, before, after *Phrasing) {
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
	p.found(r)
	p.costs(r)
}

func (p *Printer) resources(r *work.Review, before *Phrasing) {
	p.Head("1  What is made, altered and removed")
	var rows [][]string
	for _, c := range r.Changes {
		what := c.Resource.Describe()
		if c.Verb == change.Alter {
			what = strings.Join(c.How, "; ")
			if c.Restart {
				what += "; it starts anew"
			}
		}
		rows = append(rows, []string{string(c.Verb), string(c.Resource.Kind), c.Resource.Name, what})
	}
	quote := func(verb string, list []sentence.Stated) {
		for i, s := range list {
			if i == mostChanges {
				rows = append(rows, []string{verb, "", "", fmt.Sprintf("… and %d more", len(list)-mostChanges)})
				return
			}
			rows = append(rows, []string{verb, "", "", s.Sentence.String()})
		}
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
		p.Wrap("   note  ", n)
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
		rows = append(rows, []string{verb, "opening", id, fmt.Sprintf("%s to %s from %s: %s", ph.service(l.Part.Services), few(l.Part.Machines), ph.names.Plain(l.Part.From), why)})
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

func (p *Printer) exposureDifference(r *work.Review, before, after *Phrasing) {
	p.Line("")
	p.Head("2  Exposure: who can newly reach what, and who no longer can")
	d := r.Exposure
	if d.IsEmpty() {
		p.Line("   nothing opens and nothing closes")
	}
	p.changes(p.Open("newly open"), d.Opened, after)
	p.changes("no longer open", d.Closed, before)
	moved := slices.Clone(d.Moved)
	for i, c := range moved {
		moved[i].Entry.Origin.Sentence = fmt.Sprintf("was until %s: %s", orEver(c.Before, after.now), c.Entry.Origin.Sentence)
	}
	p.changes("open until another moment", moved, after)
	p.possible("may be opened from now on", r.Added)
	p.possible("may not be opened any more", r.Retracted)
}

// possible tells what permits and routes make possible that is not open by itself.
func (p *Printer) possible(head string, list []sentence.Stated) {
	for _, st := range list {
		switch s := st.Sentence.(type) {
		case sentence.Permit:
			p.Wrap("   "+head+"  ", fmt.Sprintf("%s to %s from %s, by %s, for %s at most", s.Services, s.To, s.From, names(s.People), s.UpTo))
		case sentence.Route:
			p.Wrap("   "+head+"  ", fmt.Sprintf("%s to %s through %s, by %s", s.Services, s.To, s.Via, names(s.For)))
		}
	}
}

func names(list []sentence.Name) string {
	words := make([]string, len(list))
	for i, n := range list {
		words[i] = n.Text
	}
	return strings.Join(words, ", ")
}

// mostNamed is how many machines are named one by one.
const mostNamed = 5

func few(names []string) string {
	if len(names) > mostNamed+1 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:mostNamed], ", "), len(names)-mostNamed)
	}
	return strings.Join(names, ", ")
}

func orEver(t, now time.Time) string {
	if t.IsZero() {
		return "further notice"
	}
	return Moment(t, now)
}

// mostChanges is how many things of one sort a review shows to people.
const mostChanges = 200

func (p *Printer) changes(head string, list []exposure.Change, ph *Phrasing) {
	if len(list) == 0 {
		return
	}
	p.Line("   %s", head)
	entries := make([]exposure.Entry, len(list))
	for i, c := range list {
		entries[i] = c.Entry
	}
	rows := ph.gather(entries)
	for i, row := range rows {
		if i == mostChanges {
			p.Line("     … and %d more: --json tells all of them", len(rows)-mostChanges)
			break
		}
		service := ph.service(row.services)
		if row.entry.Administrative {
			service += " (administrative)"
		}
		text := fmt.Sprintf("%s → %s %s, %s", ph.names.Plain(row.from), row.machine, service, strings.Join(row.doors, " and "))
		if t := row.entry.Until; !t.IsZero() {
			text += ", until " + Moment(t, ph.now)
		}
		p.Wrap("     ", text)
		p.Wrap("       by  ", ph.because(row.entry.Origin, row.entry.Opening))
	}
}

func (p *Printer) found(r *work.Review) {
	p.Line("")
	p.Head("3  Findings and guarantees")
	none := true
	for _, b := range r.Broken {
		none = false
		p.Broken(b)
	}
	old, told := 0, 0
	for _, f := range r.Findings {
		if !f.New && f.Level < findings.Serious {
			old++
			continue
		}
		none = false
		if told++; told <= mostChanges {
			p.Finding(f.Finding)
		}
	}
	if told > mostChanges {
		p.Line("   … and %d more: ironbark findings --draft", told-mostChanges)
	}
	if old > 0 {
		p.Line("   and %s from before: ironbark findings", count(old, "finding"))
	} else if none {
		p.Line("   none")
	}
}

// Broken tells a broken guarantee and the flow that shows it.
func (p *Printer) Broken(b exposure.Broken) {
	p.Wrap("   "+p.Bad("broken")+"  ", sentenceAt(b.Guarantee))
	kept := "is let in by"
	switch {
	case b.Potential:
		kept = "could be let in by"
	case !b.By.Open:
		kept = "stays out: " + string(b.By.Reason)
	}
	text := fmt.Sprintf("%s from %s to %s %s", b.Flow.Service, b.Flow.Source, b.Target, kept)
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

// Finding tells one finding.
func (p *Printer) Finding(f findings.Finding) {
	text := f.What
	if at := f.At.String(); at != "" {
		text += "  (" + at + ")"
	}
	level := f.Level.String()
	if f.Level == findings.Serious {
		level = p.Bad(level)
	}
	p.Wrap("   "+level+"  ", text)
	if f.Mend != "" {
		p.Wrap("         ", "to mend it: "+f.Mend)
	}
}

func (p *Printer) costs(r *work.Review) {
	p.Line("")
	p.Head("4  Cost and quota")
	before, after := r.Before.Month(), r.After.Month()
	text := fmt.Sprintf("%s %s a month", r.After.Currency, after)
	if before != after {
		sign := "more"
		step := after - before
		if step < 0 {
			sign, step = "less", -step
		}
		text += fmt.Sprintf(", %s %s than now", step, sign)
	}
	p.Line("   %s", text)
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

// ReviewJSON is the document of a review.
func ReviewJSON(r *work.Review, before, after *Phrasing) any {
	type resource struct {
		Verb   string   `json:"verb"`
		Kind   string   `json:"kind"`
		Name   string   `json:"name"`
		Detail []string `json:"detail"`
	}
	type broken struct {
		Guarantee string    `json:"guarantee"`
		File      string    `json:"file"`
		Line      int       `json:"line"`
		At        time.Time `json:"at"`
		Source    string    `json:"source"`
		Service   string    `json:"service"`
		Target    string    `json:"target"`
		Potential bool      `json:"potential"`
		By        string    `json:"by"`
	}
	doc := struct {
		Nothing   bool        `json:"nothing"`
		Stopped   []string    `json:"stopped"`
		Resources []resource  `json:"resources"`
		Said      []string    `json:"said"`
		Back      []string    `json:"retracted"`
		Opened    []reachJSON `json:"opened"`
		Closed    []reachJSON `json:"closed"`
		Moved     []reachJSON `json:"moved"`
		Findings  any         `json:"findings"`
		Broken    []broken    `json:"broken"`
		Before    any         `json:"before"`
		After     any         `json:"after"`
		Drift     any         `json:"drift"`
		Notes     []string    `json:"notes"`
	}{
		Nothing: r.IsEmpty(), Stopped: append([]string{}, r.Stopped()...), Resources: []resource{}, Said: texts(r.Added), Back: texts(r.Retracted), Broken: []broken{},
		Opened: changesJSON(r.Exposure.Opened, after), Closed: changesJSON(r.Exposure.Closed, before), Moved: changesJSON(r.Exposure.Moved, after),
		Before: BillJSON(r.Before), After: BillJSON(r.After), Drift: DriftJSON(r.Drift, before), Notes: append([]string{}, r.Notes...),
	}
	for _, c := range r.Changes {
		detail := c.How
		if len(detail) == 0 {
			detail = []string{c.Resource.Describe()}
		}
		doc.Resources = append(doc.Resources, resource{string(c.Verb), string(c.Resource.Kind), c.Resource.Name, detail})
	}
	var list []findings.Finding
	for _, f := range r.Findings {
		list = append(list, f.Finding)
	}
	doc.Findings = FindingsJSON(list)
	for _, b := range r.Broken {
		doc.Broken = append(doc.Broken, broken{
			b.Guarantee.Sentence, b.Guarantee.File, b.Guarantee.Line, b.At.UTC(), b.Flow.Source.String(), b.Flow.Service.String(), b.Target, b.Potential, b.By.Origin.Sentence,
		})
	}
	return doc
}

func texts(list []sentence.Stated) []string {
	out := make([]string, 0, len(list))
	for _, s := range list {
		out = append(out, s.Sentence.String())
	}
	return out
}

func changesJSON(list []exposure.Change, ph *Phrasing) []reachJSON {
	out := make([]reachJSON, 0, len(list))
	for _, c := range list {
		out = append(out, entryJSON(c.Entry, ph))
	}
	return out
}

// FindingsJSON is the list of findings as programs read it.
func FindingsJSON(list []findings.Finding) any {
	type finding struct {
		Level string `json:"level"`
		What  string `json:"what"`
		Mend  string `json:"mend"`
		File  string `json:"file"`
		Line  int    `json:"line"`
	}
	out := make([]finding, 0, len(list))
	for _, f := range list {
		out = append(out, finding{f.Level.String(), f.What, f.Mend, f.At.File, f.At.Line})
	}
	return out
}

// BillJSON is a bill as programs read it: money as decimal strings with their currency.
func BillJSON(b cost.Bill) any {
	money := func(m cost.Money) string { return m.String() + " " + b.Currency }
	return struct {
		Month string       `json:"month"`
		Used  cost.Amounts `json:"used"`
	}{money(b.Month()), b.Used}
}
