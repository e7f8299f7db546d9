package view

import (
	"bytes"
	"fmt"
	"strings"

	"ironbark/internal/opening"
)

// Watched is a list of openings on a screen.
type Watched struct {
	OpeningList
	Name     string // of the estate
	Selected int    // the place in the list of the one that is chosen
	Message  string // what was done last, or is asked
	Trouble  string // why the list is not as it is now
}

const watchKeys = "↑ ↓ choose   c close   e extend by an hour   q end"

// Watched draws a list of openings for a screen of a size, the chosen one always on it.
func (p *Printer) Watched(w Watched, width, height int) []string {
	foot := p.drawn(width, func(q *Printer) { q.watchedFoot(w) })
	room := max(height-4-len(foot), 1)
	from := min(max(w.Selected-room/2, 0), max(len(w.List)-room, 0))
	shown := w.List[from:min(from+room, len(w.List))]
	lines := p.drawn(width, func(q *Printer) { q.watchedList(w, shown) })
	if most := max(height-len(foot), 1); len(lines) > most {
		lines = lines[:most]
	}
	return append(lines, foot...)
}

// drawn are the lines that something prints.
func (p *Printer) drawn(width int, draw func(q *Printer)) []string {
	var out bytes.Buffer
	draw(&Printer{Out: &out, Err: &out, Width: width, Colour: p.Colour})
	return strings.Split(strings.TrimSuffix(out.String(), "\n"), "\n")
}

func (p *Printer) watchedList(w Watched, shown []opening.Opening) {
	p.Line("%s  %s", p.style(styleHead, w.Name+": open for a while"), p.Quiet(w.Now.UTC().Format("15:04:05Z")))
	p.Line("")
	if len(w.List) == 0 {
		p.Line("Nothing is open for a while.")
		return
	}
	heads, rows := p.openingRows(w.OpeningList, shown)
	at := 0
	for _, o := range shown {
		for range o.Parts {
			mark := " "
			if o.ID == w.List[w.Selected].ID {
				mark = "▸"
			}
			rows[at] = append([]string{mark}, rows[at]...)
			at++
		}
	}
	p.Table(append([]string{" "}, heads...), rows, 1)
	if hidden := len(w.List) - len(shown); hidden > 0 {
		p.Line("%s", p.Quiet(fmt.Sprintf("number %d of %d; %d do not fit", w.Selected+1, len(w.List), hidden)))
	}
}

func (p *Printer) watchedFoot(w Watched) {
	p.Line("")
	if w.Trouble != "" {
		p.Wrap(p.Bad("not as it is now: "), strings.ReplaceAll(w.Trouble, "\n", "; "))
	}
	p.Wrap("", strings.ReplaceAll(w.Message, "\n", "; "))
	keys := watchKeys
	if len(w.List) == 0 {
		keys = "q end"
	}
	p.Line("%s", p.Quiet(keys))
}
