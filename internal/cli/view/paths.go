package view

import (
	"fmt"

	"ironbark/internal/exposure"
	"ironbark/internal/sentence"
)

// PathsTo are the shortest paths to one place.
type PathsTo struct {
	Target string
	Paths  []exposure.Path
}

// Paths prints chains of hops, and the sentence that lets each through.
func (p *Printer) Paths(found []PathsTo, ask sentence.Ask, ph *Phrasing) {
	if len(found) == 0 {
		p.Line("No path leads from %s to %s.", ask.From, ask.To)
		return
	}
	for i, to := range found {
		if i > 0 {
			p.Line("")
		}
		for _, path := range to.Paths {
			text := ask.From.String()
			for _, hop := range path {
				text += fmt.Sprintf(" → %s %s", hop.To, p.marked(hop.Entry.Services, ph))
			}
			p.Wrap("", text)
			for _, hop := range path {
				p.Wrap("    by  ", doorWord(hop.Entry)+": "+ph.because(hop.Entry.Origin, hop.Entry.Opening))
			}
		}
	}
}

func doorWord(e exposure.Entry) string {
	text := e.Door.Kind.String()
	if e.Door.Via != "" {
		text += " " + e.Door.Via
	}
	if e.Door.Translated() {
		text += " " + e.Door.Service.String()
	}
	return text
}

// pathsHop is a part of the document PathsDoc.
type pathsHop struct {
	From string `json:"from"`
	To   string `json:"to"`
	reachJSON
}

// pathsTarget is a part of the document PathsDoc.
type pathsTarget struct {
	Target string       `json:"target"`
	Hops   int          `json:"hops"`
	Paths  [][]pathsHop `json:"paths"`
}

// PathsDoc is the document that PathsJSON makes.
type PathsDoc struct {
	From    string        `json:"source"`
	Targets []pathsTarget `json:"targets"`
}

// PathsJSON is the document of paths.
func PathsJSON(found []PathsTo, ask sentence.Ask, ph *Phrasing) PathsDoc {
	out := make([]pathsTarget, 0, len(found))
	for _, f := range found {
		t := pathsTarget{Target: f.Target, Paths: [][]pathsHop{}}
		for _, path := range f.Paths {
			list := []pathsHop{}
			for _, h := range path {
				from := h.From
				if from == "" {
					from = ask.From.String()
				}
				list = append(list, pathsHop{from, h.To, entryJSON(h.Entry, ph)})
			}
			t.Hops = len(path)
			t.Paths = append(t.Paths, list)
		}
		out = append(out, t)
	}
	return PathsDoc{ask.From.String(), out}
}
