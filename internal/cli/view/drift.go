package view

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"ironbark/internal/driver"
	"ironbark/internal/exposure"
	"ironbark/internal/work"
)

// Drift tells what somebody did to the site without Ironbark: in exposure first.
func (p *Printer) Drift(d *work.Drift, ph *Phrasing) {
	if d.IsEmpty() {
		p.Line("  nothing: all is as it was enacted")
		return
	}
	for _, line := range driftLines(d, ph) {
		text := line.text
		if line.open {
			text = p.Open(text)
		}
		p.Wrap("  ", text)
	}
	for _, t := range d.Resources {
		p.Wrap("  ", t.String())
	}
	for _, a := range d.Network {
		p.Wrap("  ", a.What)
	}
	for _, o := range d.Outside {
		at := "at some time"
		if !o.At.IsZero() {
			at = Moment(o.At, ph.now)
		}
		p.Wrap("  "+p.Quiet(at+"  "), p.Quiet(fmt.Sprintf("%s: %s", cmp.Or(o.Who, "somebody"), o.What)))
	}
	p.Wrap("  ", "enact puts right what was altered or is gone; adopt takes it into the files; what is in no file is left alone")
}

type driftLine struct {
	text  string
	open  bool
	since time.Time
}

// driftLines tells the difference in exposure, as in “ssh to gauge-web-1 has been
// open to everywhere since 14:02”.
func driftLines(d *work.Drift, ph *Phrasing) (lines []driftLine) {
	tell := func(ph *Phrasing, list exposure.Changes, format string, open bool) {
		var entries []exposure.Entry
		for c := range list.All() {
			entries = append(entries, c.Entry)
		}
		for _, row := range ph.gather(entries) {
			since := d.Since(row.entry)
			lines = append(lines, driftLine{
				text: fmt.Sprintf(format, ph.service(row.services), row.machine, ph.names.Plain(row.from), Clock(since, ph.now)),
				open: open, since: since,
			})
		}
	}
	tell(ph, d.Exposure.Opened, "%s to %s has been open to %s since %s", true)
	if d.Enacted != nil { // what was closed may be of a machine that is not there any more
		tell(NewPhrasing(d.Enacted, ph.now), d.Exposure.Closed, "%s to %s has been closed to %s since %s", false)
	}
	tell(ph, d.Exposure.Gained, "%s to %s is open to %s by another door too since %s", true)
	if d.Enacted != nil {
		tell(NewPhrasing(d.Enacted, ph.now), d.Exposure.Lost, "%s to %s is open to %s by a door less since %s", false)
	}
	lines = append(lines, outwardDrift(d, ph)...)
	for c := range d.Exposure.Moved.All() {
		since := d.Since(c.Entry)
		lines = append(lines, driftLine{text: fmt.Sprintf("%s to %s is open to %s until %s, and not until %s, since %s", ph.service(c.Entry.Services), ph.machine(c.Entry.Door.Machine, c.Entry.Door),
			ph.names.Plain(c.Entry.From), orEver(c.Entry.Until, ph.now), orEver(c.Before, ph.now), Clock(since, ph.now)), open: true, since: since})
	}
	return lines
}

// outwardDrift tells what machines may call outside, and could not as it was enacted, and the other way round.
func outwardDrift(d *work.Drift, ph *Phrasing) (lines []driftLine) {
	tell := func(ph *Phrasing, list exposure.Changes, format string, open bool) {
		for _, row := range ph.Calls().rowsOf(slices.Collect(list.All())) {
			since := d.Since(row.entry)
			text := fmt.Sprintf(format, ph.service(row.services), row.machine, ph.names.Plain(row.from), Clock(since, ph.now))
			lines = append(lines, driftLine{text, open, since})
		}
	}
	tell(ph, d.Outward.Opened, "%s from %s to %s has been open outward since %s", true)
	if d.Enacted != nil {
		tell(NewPhrasing(d.Enacted, ph.now), d.Outward.Closed, "%s from %s to %s has been closed outward since %s", false)
	}
	tell(ph, d.Outward.Moved, "%s from %s to %s is open outward until another moment since %s", true)
	return lines
}

// Clock prints the time of day of a moment of today, and the whole of another.
func Clock(t, now time.Time) string {
	if t.IsZero() {
		return "some time ago"
	}
	if t.UTC().Format(time.DateOnly) == now.UTC().Format(time.DateOnly) {
		return t.UTC().Format("15:04Z")
	}
	return Moment(t, now)
}

// driftExposed is a part of the document DriftDoc.
type driftExposed struct {
	Text  string    `json:"text"`
	Open  bool      `json:"open"`
	Since time.Time `json:"since"`
}

// driftResource is a part of the document DriftDoc.
type driftResource struct {
	Kind string   `json:"kind"`
	Name string   `json:"name"`
	Is   string   `json:"is"` // stray, gone or altered
	How  []string `json:"how"`
}

// DriftDoc is the document that DriftJSON makes.
type DriftDoc struct {
	Exposure  []driftExposed      `json:"exposure"`
	Resources []driftResource     `json:"resources"`
	Network   []driver.Alteration `json:"network,omitempty"`
}

// DriftJSON is the document of a drift.
func DriftJSON(d *work.Drift, ph *Phrasing) DriftDoc {
	doc := DriftDoc{[]driftExposed{}, []driftResource{}, d.Network}
	for _, l := range driftLines(d, ph) {
		doc.Exposure = append(doc.Exposure, driftExposed{l.text, l.open, l.since.UTC()})
	}
	for _, t := range d.Resources {
		is := "altered"
		switch {
		case t.Gone:
			is = "gone"
		case t.Resource.Unmanaged:
			is = "stray"
		}
		doc.Resources = append(doc.Resources, driftResource{string(t.Resource.Kind), t.Resource.Name, is, append([]string{}, t.How...)})
	}
	return doc
}
