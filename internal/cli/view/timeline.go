package view

import (
	"slices"
	"strings"
	"time"

	"ironbark/internal/timeline"
)

// TimelineTitle tells what a time line shows, and of when.
func TimelineTitle(name string, l timeline.Line) string {
	const layout = "2006-01-02 15:04Z"
	return name + ", " + l.Since.UTC().Format(layout) + " to " + l.Until.UTC().Format(layout) + ", now " + l.Now.UTC().Format(layout)
}

// strokes are the signs of which bars are made in a terminal.
var strokes = map[timeline.Kind]rune{
	timeline.Opening: '━', timeline.Asked: '╌', timeline.Standing: '═', timeline.Deny: '░', timeline.Outside: '▲', timeline.Allow: '─',
}

// mostTold is how many bars are told on a terminal.
const mostTold = 200

// Timeline prints a time line: a line for each bar, with who brought it about and why.
func (p *Printer) Timeline(name string, l timeline.Line) {
	p.Head(TimelineTitle(name, l))
	p.Line("")
	if len(l.Rows) == 0 {
		p.Line("Nothing was opened, left open or denied for a while, or changed by others.")
		return
	}
	left := 0
	if p.ToTerminal {
		l, left = l.First(mostTold)
	}
	width := max(p.Width, least)
	columns := min(max((width-30)*2/5, 20), 72, (width-2)/2) // where there is no room for a table the scale stands beside a bar
	var rows [][]string
	for _, r := range l.Rows {
		name := r.Name()
		for _, b := range r.Bars {
			rows = append(rows, []string{name, p.stroke(b.Kind, bar(l, b, columns)), b.Text()})
			name = ""
		}
	}
	p.Table([]string{"MACHINE", scale(l, columns), "WHO, WHAT AND WHY"}, rows)
	if left > 0 {
		p.Line("… and %d more: --machine and --by choose among them; a pipe and --json have all", left)
	}
	p.Line("")
	p.Wrap("", p.Quiet("━ opened  █ last used  ╌ asked for  ═ left open by a sentence  ─ allowed until  ░ denied  ▲ changed by others  │ now"))
}

// stroke marks a bar as open where it let something in.
func (p *Printer) stroke(k timeline.Kind, text string) string {
	switch k {
	case timeline.Opening, timeline.Standing, timeline.Allow:
		return p.Open(text)
	case timeline.Outside:
		return p.Bad(text)
	}
	return text
}

// bar draws a bar between dots. It has no spaces: a table would break it there.
func bar(l timeline.Line, b *timeline.Bar, columns int) string {
	cells := []rune(strings.Repeat("·", columns))
	at := func(position float64) int { return min(int(position*float64(columns)), columns-1) }
	cells[at(l.Position(l.Now))] = '│'
	begin, end := l.Extent(b)
	last := at(end)
	if float64(last) == end*float64(columns) && last > at(begin) { // it ends where that column begins
		last--
	}
	for i := at(begin); i <= last; i++ {
		cells[i] = strokes[b.Kind]
	}
	if !b.Used.IsZero() {
		for i := max(at(l.Position(b.Used.After)), at(begin)); i <= min(at(l.Position(b.Used.Before)), last); i++ {
			cells[i] = '█'
		}
	}
	return string(cells)
}

// scale writes round moments where they stand, with dots between them.
func scale(l timeline.Line, columns int) string {
	cells := []rune(strings.Repeat("·", columns))
	for _, t := range l.Marks(columns / 9) {
		at := int(l.Position(t.At) * float64(columns))
		if text := []rune(strings.ReplaceAll(t.Text, " ", "-")); at+len(text) <= columns {
			copy(cells[at:], text)
		}
	}
	return string(cells)
}

type barJSON struct {
	Kind     string     `json:"kind"`
	Begin    *time.Time `json:"begin"`
	End      *time.Time `json:"end"`
	Opening  int64      `json:"opening,omitempty"`
	Person   string     `json:"person"`
	What     string     `json:"what"`
	Because  string     `json:"because"`
	UsedFrom *time.Time `json:"lastUsedAfter"`
	UsedTo   *time.Time `json:"lastUsedBefore"`
}

type rowJSON struct {
	Machines []string  `json:"machines"`
	Bars     []barJSON `json:"bars"`
}

// TimelineDoc is the document that TimelineJSON makes.
type TimelineDoc struct {
	Since time.Time `json:"since"`
	Now   time.Time `json:"now"`
	Until time.Time `json:"until"`
	Rows  []rowJSON `json:"rows"`
}

// TimelineJSON is the document of a time line.
func TimelineJSON(l timeline.Line) TimelineDoc {
	doc := TimelineDoc{l.Since.UTC(), l.Now.UTC(), l.Until.UTC(), []rowJSON{}}
	for _, r := range l.Rows {
		row := rowJSON{append([]string{}, r.Machines...), []barJSON{}}
		for _, b := range r.Bars {
			row.Bars = append(row.Bars, barJSON{b.Kind.String(), moment(b.Begin), moment(b.End), b.Number, b.Who, b.What, b.Why, moment(b.Used.After), moment(b.Used.Before)})
		}
		doc.Rows = append(doc.Rows, row)
	}
	return doc
}

// shown is text of any origin in one line, with what does not show written out.
func shown(text string) string { return oneLine(text) }

// Plain returns a line whose words, whoever wrote them, may stand in a drawing.
func Plain(l timeline.Line) timeline.Line {
	l.Rows = slices.Clone(l.Rows)
	for i, r := range l.Rows {
		bars := make([]*timeline.Bar, len(r.Bars))
		for j, b := range r.Bars {
			one := *b
			one.Who, one.What, one.Why = shown(b.Who), shown(b.What), shown(b.Why)
			bars[j] = &one
		}
		l.Rows[i].Bars = bars
	}
	return l
}
