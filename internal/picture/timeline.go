package picture

import (
	"fmt"
	"slices"
	"strings"

	"ironbark/internal/timeline"
)

// The measures of a time line, in pixels.
const (
	namesWide = 190 // for the names of machines
	laneHigh  = 20
	barHigh   = 12
	thinnest  = 4 // of a bar, however short it is
	gap       = 6
	mostNames = 4   // lines for the names of a row
	mostBars  = 500 // that are drawn
)

// barLooks are the styles of bars.
var barLooks = map[timeline.Kind]style{
	timeline.Opening: styleOpen, timeline.Asked: styleAsked, timeline.Standing: styleAdministrative, timeline.Deny: styleDeny, timeline.Allow: styleOpen, timeline.Outside: styleOutside,
}

// LayOutTimeline places the rows of a time line below one another. Bars of a row that would lie over one another, or over what is said of one, stand in lanes
// of their own. Cost: linear in the bars for each lane.
func LayOutTimeline(title string, l timeline.Line) *Scene {
	l, left := l.First(mostBars)
	s := &Scene{w: width}
	s.words(margin, margin, title, styleHead)
	chart := chart{Scene: s, l: l, left: margin + namesWide, right: width - margin}
	top := float64(margin + headHigh + pad)
	at := top + lineHigh + pad
	for _, r := range l.Rows {
		at = chart.row(r, at)
	}
	if len(l.Rows) == 0 {
		s.words(chart.left, at, "nothing was open for a while, denied for a while, or changed by others", styleQuiet)
		at += lineHigh
	}
	if left > 0 {
		s.words(chart.left, at, fmt.Sprintf("… and %d more, which are not drawn", left), styleQuiet)
		at += lineHigh
	}
	var behind []rect
	end := 0.0
	for _, t := range l.Marks(10) {
		x := chart.x(l.Position(t.At))
		behind = append(behind, rect{x, top + lineHigh, 1, at - top - lineHigh, styleMark})
		if x >= end && x+wide(t.Text) <= chart.right {
			s.words(x, top, t.Text, styleQuiet)
			end = x + wide(t.Text) + gap
		}
	}
	now := chart.x(l.Position(l.Now))
	behind = append(behind, rect{now, top + lineHigh, 2, at - top - lineHigh, styleNow})
	s.rects = slices.Concat(behind, s.rects)
	s.timelineLegend(at + pad)
	s.h = at + pad + headHigh + margin
	return s
}

// chart is the part of a scene in which the bars stand.
type chart struct {
	*Scene
	l           timeline.Line
	left, right float64
}

func (c *chart) x(position float64) float64 { return c.left + position*(c.right-c.left) }

// row places one row, and returns where it ends.
func (c *chart) row(r timeline.Row, y float64) float64 {
	names := wrap(r.Name(), chars(namesWide-2*gap))
	if len(names) > mostNames {
		names = append(names[:mostNames-1], cut(strings.Join(names[mostNames-1:], " "), chars(namesWide-2*gap)))
	}
	c.rects = append(c.rects, rect{margin, y, c.right - margin, 1, styleMark})
	for i, name := range names {
		c.words(margin, y+4+float64(i)*lineHigh, name, styleText)
	}
	var lanes []float64 // where each is free from
	for _, b := range r.Bars {
		p := c.place(b)
		lane := 0
		for !free(lanes, lane, p.lanes, p.from-2*gap) {
			lane++
		}
		for len(lanes) < lane+p.lanes {
			lanes = append(lanes, 0)
		}
		for i := range p.lanes {
			lanes[lane+i] = p.to
		}
		c.bar(b, p.x, y+gap+float64(lane)*laneHigh, p.w)
		c.rects = append(c.rects, rect{p.labelX, y + 4 + float64(lane+p.lanes-1)*laneHigh, wide(p.text), laneHigh - 4, stylePage}) // the marks do not run through words
		c.words(p.labelX, y+3+float64(lane+p.lanes-1)*laneHigh, p.text, styleText)
	}
	return y + max(float64(len(lanes))*laneHigh, float64(len(names))*lineHigh) + pad
}

// placed is where a bar and its words stand in their lanes, and how much of those they take.
type placed struct {
	text         string
	x, w, labelX float64
	from, to     float64
	lanes        int // 2: the words stand below the bar
}

// place finds room for a bar and its words: after it, before it, or where there is none on either side below it.
func (c *chart) place(b *timeline.Bar) placed {
	begin, end := c.l.Extent(b)
	p := placed{text: cut(b.Text(), chars(c.right-c.left-2*gap)), x: min(c.x(begin), c.right-thinnest), lanes: 1}
	p.w = max(c.x(end)-p.x, thinnest)
	p.from, p.to = p.x, p.x+p.w
	switch label := wide(p.text); {
	case p.to+gap+label <= c.right:
		p.labelX = p.to + gap
		p.to = p.labelX + label
	case p.x-gap-label >= c.left:
		p.labelX = p.x - gap - label
		p.from = p.labelX
	default:
		p.lanes = 2
		p.labelX = min(p.x, c.right-label)
		p.from, p.to = p.labelX, max(p.to, p.labelX+label)
	}
	return p
}

// free reports whether lanes are free from a place on.
func free(lanes []float64, first, count int, from float64) bool {
	for i := first; i < min(first+count, len(lanes)); i++ {
		if lanes[i] > from {
			return false
		}
	}
	return true
}

// bar draws a bar, and in it when it was used.
func (c *chart) bar(b *timeline.Bar, x, y, w float64) {
	c.rects = append(c.rects, rect{x, y, w, barHigh, barLooks[b.Kind]})
	if !b.Used.IsZero() {
		from, to := c.x(c.l.Position(b.Used.After)), c.x(c.l.Position(b.Used.Before))
		from = min(max(from, x), x+w-thinnest)
		c.rects = append(c.rects, rect{from, y + 3, max(min(to, x+w)-from, thinnest), barHigh - 6, styleUsed})
	}
}

func (s *Scene) timelineLegend(y float64) {
	x := float64(margin)
	for _, k := range []struct {
		look style
		text string
	}{
		{styleOpen, "opened, or allowed until a time"},
		{styleUsed, "last used"},
		{styleAsked, "asked for"},
		{styleAdministrative, "left open by a sentence"},
		{styleDeny, "denied"},
		{styleOutside, "changed by others"},
		{styleNow, "now"},
	} {
		s.rects = append(s.rects, rect{x, y + 4, 18, barHigh, k.look})
		s.words(x+26, y+2, k.text, styleQuiet)
		x += 26 + wide(k.text) + 2*pad
	}
}
