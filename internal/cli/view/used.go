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
func (p *Printer) Used(list []Used, since time.Time, ph *Phrasing) {
	if len(list) == 0 {
		p.Line("Nothing is reachable.")
		return
	}
	var rows [][]string
	for _, u := range list {
		amount, last := ph.used(u.Count)
		rows = append(rows, []string{ph.because(u.Origin, u.Opening), amount, last})
	}
	p.Table([]string{"BECAUSE OF", "LET PASS", "LAST"}, rows)
	p.Line("")
	p.Wrap("", "Counted since "+Moment(since, ph.now)+": packets, not their answers. “Last” lies between two readings of the counters.")
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
	Used  []usedJSON `json:"used"`
}

// UsedJSON is the document of what sentences have let pass.
func UsedJSON(list []Used, since time.Time) UsedDoc {
	out := []usedJSON{}
	for _, u := range list {
		out = append(out, u.json())
	}
	return UsedDoc{moment(since), out}
}
