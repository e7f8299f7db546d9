package view

import (
	"fmt"
	"iter"
	"math"
	"strings"
	"time"

	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/work"
)

// Calls returns the phrasing of what machines call outside, where nothing is administrative.
func (ph *Phrasing) Calls() *Phrasing {
	q := *ph
	q.plan = ph.plan.Calls()
	return &q
}

// callRows are the cells of the first rows of what machines call: machine, services, what is called, end, and what decided.
func (p *Printer) callRows(rows []entryRow, most int, ph *Phrasing, end func(entryRow) string, c *cited) (cells [][]string) {
	for _, row := range p.flowRows(rows, most, ph, end, c) {
		cells = append(cells, append(row[:3:3], row[4:]...)) // each machine has the one door
	}
	return cells
}

// Called prints what machines call outside.
func (p *Printer) Called(list []exposure.Entry, ph *Phrasing) {
	c := &cited{}
	ph = ph.Calls()
	rows := p.callRows(ph.gather(list), math.MaxInt, ph, func(r entryRow) string { return until(r.entry.Until, ph.now) }, c)
	if len(rows) == 0 {
		p.Line("Nothing outside may be called.")
		return
	}
	p.Table([]string{"FROM", "SERVICE", "TO", "UNTIL", "BY"}, rows)
	if len(c.list) > 0 {
		p.Line("")
		c.tell(p, "")
	}
}

// outwardDifference prints what machines may newly call outside, and what no more.
func (p *Printer) outwardDifference(d exposure.Difference, before, after *Phrasing, c *cited) {
	if d.IsEmpty() {
		return
	}
	before, after = before.Calls(), after.Calls()
	tell := func(head string, list exposure.Changes, ph *Phrasing, end func(r entryRow) string) {
		rows, total := ph.firstRows(list, mostChanges)
		p.changeTable(head, total, p.callRows(rows, mostChanges, ph, end, c))
	}
	end := func(r entryRow) string { return until(r.entry.Until, after.now) }
	tell(p.Open("machines may newly call outside"), d.Opened, after, end)
	tell("machines may call outside no more", d.Closed, before, end)
	tell("machines may call outside until another moment", d.Moved, after, func(r entryRow) string {
		return fmt.Sprintf("%s, was %s", orEver(r.entry.Until, after.now), orEver(r.before, after.now))
	})
}

// outwardVerdict tells in a few words how what machines call outside differs.
func outwardVerdict(d exposure.Difference) (words []string) {
	for _, one := range []struct {
		list   exposure.Changes
		format string
	}{{d.Opened, "%d newly open outward"}, {d.Closed, "%d no longer open outward"}, {d.Moved, "%d open outward until another moment"}} {
		if n, _ := told(one.list); n > 0 {
			words = append(words, fmt.Sprintf(one.format, n))
		}
	}
	return words
}

// callJSON is what a machine may call outside, as programs read it.
type callJSON struct {
	Machine   string     `json:"machine"`   // that calls
	Addresses []string   `json:"addresses"` // from which it does
	To        []string   `json:"to"`
	ToName    string     `json:"toName"`
	Service   string     `json:"service"`
	Until     *time.Time `json:"until"`
	Sentence  string     `json:"sentence"`
	File      string     `json:"file"`
	Line      int        `json:"line"`
}

func (e addressed) call(ph *Phrasing) callJSON {
	return callJSON{
		Machine: ph.machine(e.Door.Machine, e.Door), Addresses: e.addressWords(), To: flow.AddrRuns(e.From), ToName: ph.names.Plain(e.From),
		Service: strings.Join(flow.ServiceRuns(e.Services), ","), Until: moment(e.Until), Sentence: e.Origin.Sentence, File: e.Origin.File, Line: e.Origin.Line,
	}
}

// CallsDoc is the document of what machines may call outside at a moment.
type CallsDoc struct {
	At    time.Time  `json:"at"`
	Calls []callJSON `json:"calls"`
}

// CallsJSON prints the document of what machines call outside.
func (p *Printer) CallsJSON(list iter.Seq[exposure.Entry], ph *Phrasing, at time.Time) error {
	return p.JSONList(at.UTC(), "calls", func(yield func(any) bool) {
		for e := range byAddress(list) {
			if !yield(e.call(ph)) {
				return
			}
		}
	})
}

// outwardJSON is how what machines call outside differs.
type outwardJSON struct {
	Opened []callJSON   `json:"opened"`
	Closed []callJSON   `json:"closed"`
	Moved  []callsMoved `json:"moved"`
}

// callsMoved is a difference of ends: before is the end that it had.
type callsMoved struct {
	callJSON
	Before *time.Time `json:"before"`
}

func outwardDoc(r *work.Review, before, after *Phrasing) outwardJSON {
	calls := func(list exposure.Changes, ph *Phrasing) []callJSON { return callList(entriesIn(list), ph) }
	doc := outwardJSON{calls(r.Outward.Opened, after), calls(r.Outward.Closed, before), []callsMoved{}}
	for c := range r.Outward.Moved.All() {
		doc.Moved = append(doc.Moved, callsMoved{alone(c.Entry).call(after), moment(c.Before)})
	}
	return doc
}
