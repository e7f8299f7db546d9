package picture

import (
	"strings"
	"unicode/utf8"
)

// The measures of a drawing, in pixels.
const (
	width     = 1240
	margin    = 20
	pad       = 10
	size      = 13 // of words
	lineHigh  = 18
	headHigh  = 24
	mostChars = 44 // of a line in a node's box
)

// charWide is the width of every character: the face is monospaced, 0.6 of its size.
const charWide = size * 0.6

// style names a look; the two renderers know what it is.
type style uint8

const (
	stylePage style = iota
	styleNetwork
	styleSubnet
	styleClosed
	styleOpen
	styleAdministrative
	styleDown
	styleThrough
	styleText
	styleQuiet
	styleHead
	styleOpenText
	styleAdministrativeText
	styleAsked
	styleUsed
	styleDeny
	styleOutside
	styleNow
	styleMark
)

// rect is a box.
type rect struct {
	x, y, w, h float64
	look       style
}

// label is a line of words; x and y are where its first letter stands on the base line.
type label struct {
	x, y float64
	text string
	look style
}

// Scene is a map laid out.
type Scene struct {
	w, h   float64
	rects  []rect
	labels []label
}

// Words is how many lines of words the scene has.
func (s *Scene) Words() int { return len(s.labels) }

func wide(text string) float64 { return float64(utf8.RuneCountInString(text)) * charWide }

// LayOut places everything.
func LayOut(m Map) *Scene {
	m = m.Gathered()
	s := &Scene{w: width}
	y := float64(margin)
	s.words(margin, y, m.Title, styleHead)
	y += headHigh
	if m.Note != "" {
		for _, line := range wrap(m.Note, chars(width-2*margin)) {
			s.words(margin, y, line, styleQuiet)
			y += lineHigh
		}
	}
	for _, n := range m.Networks {
		y = s.network(n, y+pad) + pad
	}
	if len(m.Lines) > 0 {
		y = s.shelf(m.Lines, margin, y+pad, width-2*margin) + pad
	}
	s.legend(y + pad)
	s.h = y + pad + headHigh + margin
	return s
}

func (s *Scene) words(x, y float64, text string, look style) {
	s.labels = append(s.labels, label{x, y + size, text, look})
}

// network places a network's box and returns where it ends.
func (s *Scene) network(n Network, y float64) float64 {
	box := len(s.rects)
	s.rects = append(s.rects, rect{margin, y, width - 2*margin, 0, styleNetwork})
	s.words(margin+pad, y+4, n.Name, styleHead)
	s.words(margin+pad+wide(n.Name+"  "), y+4, cut(n.About(), chars(width-2*margin-4*pad)-utf8.RuneCountInString(n.Name)), styleQuiet)
	at := y + headHigh + pad/2
	if len(n.Fronts) > 0 {
		at = s.shelf(n.Fronts, margin+pad, at, width-2*margin-2*pad) + pad
	}
	for _, sub := range n.Subnets {
		at = s.subnet(sub, at) + pad
	}
	s.rects[box].h = at - y
	return at
}

func (s *Scene) subnet(sub Subnet, y float64) float64 {
	x, w := float64(margin+pad), float64(width-2*margin-2*pad)
	box := len(s.rects)
	s.rects = append(s.rects, rect{x, y, w, 0, styleSubnet})
	s.words(x+pad, y+4, sub.Name, styleText)
	s.words(x+pad+wide(sub.Name+"  "), y+4, cut(sub.About, chars(w-2*pad)-utf8.RuneCountInString(sub.Name)-2), styleQuiet)
	end := s.shelf(sub.Nodes, x+pad, y+headHigh+pad/2, w-2*pad)
	s.rects[box].h = end - y + pad
	return end + pad
}

// shelf places nodes from left to right in rows, the open ones with what they
// let through, and the closed ones in small boxes after them, in columns.
func (s *Scene) shelf(nodes []Node, x, y, w float64) float64 {
	if len(nodes) == 0 {
		s.words(x, y, "nothing stands in it", styleQuiet)
		return y + lineHigh
	}
	at, right, high := y, x, 0.0
	place := func(bw, bh float64) (bx, by float64) {
		if right > x && right+bw > x+w {
			at, right, high = at+high+pad, x, 0
		}
		bx, by = right, at
		right, high = right+bw+pad, max(high, bh)
		return bx, by
	}
	column := 0.0
	for _, n := range nodes {
		if n.quiet() {
			column = max(column, wide(caption(n))+2*pad)
		}
	}
	closed := false
	for _, n := range nodes {
		if n.quiet() {
			if !closed && right > x { // they begin in a row of their own
				at, right, high = at+high+pad, x, 0
			}
			closed = true
			bx, by := place(column, headHigh)
			look := styleClosed
			if n.Down {
				look = styleDown
			} else if len(n.Through) > 0 {
				look = styleThrough
			}
			s.rects = append(s.rects, rect{bx, by, column, headHigh, look})
			s.words(bx+pad, by+4, caption(n), styleQuiet)
			continue
		}
		s.open(n, place)
	}
	return at + high
}

func caption(n Node) string {
	text := n.Name
	if n.Kind != "machine" {
		text = n.Kind + " " + n.Name
	}
	return text
}

// open places a node that has something to tell.
func (s *Scene) open(n Node, place func(w, h float64) (x, y float64)) {
	type line struct {
		text string
		look style
	}
	lines := []line{{caption(n), styleHead}}
	for _, text := range wrap(n.Heading(), mostChars) {
		lines = append(lines, line{text, styleQuiet})
	}
	for _, l := range n.Lets {
		look := styleOpenText
		mark := ""
		switch l.Level {
		case Administrative:
			look, mark = styleAdministrativeText, "! "
		case Closed:
			look = styleQuiet
		}
		for i, text := range wrap(mark+l.Text(), mostChars) {
			if i > 0 {
				text = "    " + text
			}
			lines = append(lines, line{text, look})
		}
	}
	w := 0.0
	for _, l := range lines {
		w = max(w, wide(l.text))
	}
	look := [...]style{styleClosed, styleOpen, styleAdministrative}[n.Level()]
	x, y := place(w+2*pad, float64(len(lines))*lineHigh+pad)
	s.rects = append(s.rects, rect{x, y, w + 2*pad, float64(len(lines))*lineHigh + pad, look})
	for i, l := range lines {
		s.words(x+pad, y+4+float64(i)*lineHigh, l.text, l.look)
	}
}

func (s *Scene) legend(y float64) {
	x := float64(margin)
	for _, k := range []struct {
		look style
		text string
	}{{styleClosed, "closed"}, {styleThrough, "only through a bastion"}, {styleOpen, "lets somebody in"}, {styleAdministrative, "! an administrative service is open"}, {styleDown, "does not run"}} {
		s.rects = append(s.rects, rect{x, y + 2, 18, 16, k.look})
		s.words(x+26, y+2, k.text, styleQuiet)
		x += 26 + wide(k.text) + 3*pad
	}
}

// cut shortens words to a number of characters.
func cut(text string, most int) string {
	runes := []rune(text)
	if len(runes) <= max(most, 1) {
		return text
	}
	return string(runes[:max(most-1, 0)]) + "…"
}

// wrap breaks words into lines of a number of characters; a longer word is broken.
func wrap(text string, most int) (lines []string) {
	line := ""
	for _, word := range strings.Fields(text) {
		for utf8.RuneCountInString(word) > most {
			if line != "" {
				lines, line = append(lines, line), ""
			}
			runes := []rune(word)
			lines, word = append(lines, string(runes[:most])), string(runes[most:])
		}
		switch {
		case line == "":
			line = word
		case utf8.RuneCountInString(line)+1+utf8.RuneCountInString(word) > most:
			lines, line = append(lines, line), word
		default:
			line += " " + word
		}
	}
	if line != "" {
		lines = append(lines, line)
	}
	return lines
}

// chars is how many characters fit into a width.
func chars(w float64) int { return int(w / charWide) }
