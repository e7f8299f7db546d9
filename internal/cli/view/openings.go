package view

import (
	"fmt"
	"strings"
	"time"

	"ironbark/internal/driver"
	"ironbark/internal/flow"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// OpeningList is a list of openings at a moment.
type OpeningList struct {
	State      *work.State
	Now        time.Time
	List       []opening.Opening
	Overridden map[int64]string // by which deny some are kept shut
	Counts     *driver.Counts   // nil: it is not told what they let in
	Left       int              // how many more there are than are in the list
}

// Openings prints a list of openings, a row for each of their parts.
func (p *Printer) Openings(l OpeningList) {
	heads, rows := p.openingRows(l, l.List)
	p.Table(heads, rows, 0)
	if l.Counts != nil {
		p.Line("")
		p.Wrap("", "Counted since "+Moment(l.Counts.Since, l.Now)+": packets to machines, not their answers. “Last” lies between two readings of the counters.")
	}
}

// openingRows are the rows of some of the openings of a list.
func (p *Printer) openingRows(l OpeningList, list []opening.Opening) (heads []string, rows [][]string) {
	ph := NewPhrasing(l.State, l.Now)
	heads = []string{"NO", "SERVICE", "TO", "FROM", "UNTIL", "STATE", "BY", "BECAUSE"}
	if l.Counts != nil {
		heads = []string{"NO", "SERVICE", "TO", "FROM", "ASKED", "LET IN", "LAST", "STATE", "BY"}
	}
	for _, o := range list {
		state := OpeningState(o, l.Now, l.Overridden[o.ID])
		for _, part := range o.Parts {
			services, from := ph.Passing(o, part)
			row := []string{fmt.Sprint(o.ID), services, sentence.Few(part.Machines), from}
			if l.Counts == nil {
				rows = append(rows, append(row, Moment(part.End, l.Now), state, o.Person, o.Words.Because))
				continue
			}
			amount, last := ph.used(countOf(flow.Origin{}, o.ID, l.Counts))
			rows = append(rows, append(row, sentence.DurationOf(part.End.Sub(o.Begin)).String(), amount, last, state, o.Person))
		}
	}
	return heads, rows
}

// OpeningState tells in words how an opening stands. overridden is the deny that keeps it shut.
func OpeningState(o opening.Opening, now time.Time, overridden string) string {
	state := Left(o.End(), now) + " left"
	switch {
	case !o.Ended.IsZero() && o.Waits():
		state = "declined by " + o.EndedBy
	case !o.Ended.IsZero():
		state = "closed by " + o.EndedBy
	case !o.Active(now) && o.Waits():
		state = "lapsed"
	case !o.Active(now):
		state = "over"
	case o.Waits():
		state = fmt.Sprintf("waits for %s of %s, lapses in %s", Count(o.Waiting.Needs-len(o.Approvals), "approval"), strings.Join(o.Waiting.From, " or "), Left(o.End(), now))
	case o.StateAt(now) == opening.Scheduled:
		state = "begins " + Moment(o.Begin, now) + ", in " + Left(o.Begin, now)
	case overridden != "":
		state += ", overridden by “" + overridden + "”"
	}
	if o.Emergency {
		state = "emergency, " + state
	}
	switch {
	case o.Owes() && now.After(o.Account.Due):
		state += ", account overdue since " + Moment(o.Account.Due, now)
	case o.Owes():
		state += ", account owed by " + Moment(o.Account.Due, now)
	}
	return state
}

// CountDoc is what an opening has let in.
type CountDoc struct {
	Packets uint64     `json:"packets"`
	Bytes   uint64     `json:"bytes"`
	After   *time.Time `json:"after"` // the last of it came after this moment and not after the next
	Before  *time.Time `json:"before"`
	With    []int64    `json:"with,omitempty"` // openings that it is not told apart from
	From    []string   `json:"from,omitempty"` // of a sentence: from where, each address or run of them
	Many    bool       `json:"many,omitempty"` // it was from more addresses than are kept
}

// UsedByJSON is what an opening has let in as programs read it.
func UsedByJSON(o opening.Opening, counts *driver.Counts) CountDoc {
	return countJSON(countOf(flow.Origin{}, o.ID, counts))
}

func countJSON(c driver.Count) CountDoc {
	return CountDoc{c.Packets, c.Bytes, moment(c.After), moment(c.Before), c.Openings, flow.AddrRuns(c.From), c.Many}
}
