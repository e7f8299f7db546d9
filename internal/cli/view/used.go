package view

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"ironbark/internal/driver"
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
)

// Used is what a sentence or an opening that lets something pass has let pass.
type Used struct {
	Origin  flow.Origin
	Opening int64
	Count   driver.Count // without packets: nothing
}

// UsedOf tells of each sentence and opening by which entries are open what was counted for it,
// those that were never used last.
func UsedOf(list []exposure.Entry, counts *driver.Counts) (out []Used) {
	for _, e := range list {
		u := Used{Origin: e.Origin, Opening: e.Opening}
		if e.Opening > 0 {
			u.Origin = flow.Origin{Sentence: e.Origin.Sentence}
		}
		if slices.ContainsFunc(out, func(o Used) bool { return o.Origin == u.Origin && o.Opening == u.Opening }) {
			continue
		}
		u.Count = countOf(u.Origin, u.Opening, counts)
		out = append(out, u)
	}
	slices.SortStableFunc(out, func(a, b Used) int {
		switch never := func(u Used) bool { return u.Count.Packets == 0 }; {
		case never(a) == never(b):
			return 0
		case never(a):
			return 1
		}
		return -1
	})
	return out
}

// countOf adds up what was counted for a sentence, or an opening.
func countOf(origin flow.Origin, opening int64, counts *driver.Counts) (sum driver.Count) {
	for _, c := range counts.List {
		if opening == 0 && (len(c.Openings) > 0 || c.Sentence != origin.Sentence) || opening > 0 && !slices.Contains(c.Openings, opening) {
			continue
		}
		sum.Packets += c.Packets
		sum.Bytes += c.Bytes
		sum.From, sum.Many = sum.From.Union(c.From), sum.Many || c.Many
		if c.Before.After(sum.Before) {
			sum.After, sum.Before = c.After, c.Before
		}
		for _, id := range c.Openings {
			if id != opening && !slices.Contains(sum.Openings, id) {
				sum.Openings = append(sum.Openings, id)
			}
		}
	}
	return sum
}

// Used prints what sentences have let pass.
func (p *Printer) Used(list []Used, counts *driver.Counts, ph *Phrasing) {
	if len(list) == 0 {
		p.Line("Nothing is reachable.")
		return
	}
	var rows [][]string
	for _, u := range list {
		amount, last := ph.used(u.Count)
		rows = append(rows, []string{ph.because(u.Origin, u.Opening), amount, last, usedFrom(u.Count)})
	}
	heads := []string{"BECAUSE OF", "LET PASS", "LAST", "FROM"}
	from := slices.ContainsFunc(rows, func(r []string) bool { return r[3] != "" })
	if !from {
		heads = heads[:3]
		for i := range rows {
			rows[i] = rows[i][:3]
		}
	}
	p.Table(heads, rows)
	p.Line("")
	text := "Counted since " + Moment(counts.Since, ph.now) + ": packets, not their answers. “Last” lies between two readings of the counters."
	if from {
		text += " “From” is noted of sentences that let somebody in, since " + Moment(counts.Noted, ph.now) + " without a gap; what probe sends is not."
	}
	p.Wrap("", text)
}

// fewSources is how many addresses, or runs of them, are told one by one.
const fewSources = 3

// usedFrom tells from where a sentence was used; "" where it is not known.
func usedFrom(c driver.Count) string {
	words := flow.AddrRuns(c.From)
	switch {
	case c.Many:
		return "many addresses"
	case len(words) <= fewSources:
		return strings.Join(words, ", ")
	}
	n := int64(0)
	for _, run := range c.From.Runs() { // they are few enough to be counted
		for a := run.Lo; a.Compare(run.Hi) < 0; a = a.Next() {
			n++
		}
		n++
	}
	return humanize.Comma(n) + " addresses"
}

// used tells how much was let in, and when last.
func (ph *Phrasing) used(c driver.Count) (amount, last string) {
	if c.Packets == 0 {
		return "nothing", "never"
	}
	amount = humanize.Comma(int64(c.Packets)) + " packets, " + humanize.Bytes(c.Bytes)
	if c.Packets == 1 {
		amount = "1 packet, " + humanize.Bytes(c.Bytes)
	}
	if len(c.Openings) > 0 {
		words := make([]string, len(c.Openings))
		for i, id := range c.Openings {
			words[i] = fmt.Sprintf("opening %d", id)
		}
		amount += ", with " + strings.Join(words, ", ")
	}
	return amount, Moment(c.After, ph.now) + " to " + Moment(c.Before, ph.now)
}

type usedJSON struct {
	Sentence string `json:"sentence"`
	File     string `json:"file"`
	Line     int    `json:"line"`
	Opening  int64  `json:"opening,omitempty"`
	CountDoc
}

func (u Used) json() usedJSON {
	return usedJSON{u.Origin.Sentence, u.Origin.File, u.Origin.Line, u.Opening, countJSON(u.Count)}
}

// UsedDoc is the document that UsedJSON makes.
type UsedDoc struct {
	Since *time.Time `json:"since"`
	Noted *time.Time `json:"noted"` // since when no address from which a sentence was used is missing
	Used  []usedJSON `json:"used"`
}

// UsedJSON is the document of what sentences have let pass.
func UsedJSON(list []Used, counts *driver.Counts) UsedDoc {
	out := []usedJSON{}
	for _, u := range list {
		out = append(out, u.json())
	}
	return UsedDoc{moment(counts.Since), moment(counts.Noted), out}
}
