package view

import (
	"fmt"
	"strings"

	"ironbark/internal/bastion"
	"ironbark/internal/flow"
	"ironbark/internal/work"
)

// Forwarding prints what a bastion forwards, for whom and from where.
func (p *Printer) Forwarding(a *work.Forwarding, ph *Phrasing) {
	for i, one := range a.People {
		if i > 0 {
			p.Line("")
		}
		who := strings.Join(one.Names, " and ")
		for _, part := range gatherMachines(one.Parts) {
			word := "closed"
			if part.Forward && !a.Stopped {
				word = p.Open("open") + "  "
			}
			p.Wrap(word+"  ", fmt.Sprintf("%s from %s at %s via %s to %s", ph.service(part.Services), who, ph.names.Plain(part.Client), a.Ask.Via.Text, part.Machine))
			p.Wrap("        ", ForwardingWhy(part, who, a.Ask.Via.Text, ph))
			if part.Forward && a.Stopped {
				p.Wrap("        ", "but the gateway is not running: ironbark gateway "+a.Ask.Via.Text+" runs it, and ironbark connect runs one for a session")
			}
		}
	}
	if len(a.People) == 0 {
		p.Line("closed  nobody is in %s", a.Ask.From)
	}
}

// gatherMachines tells machines of which the same is true together.
func gatherMachines(parts []bastion.Part) (out []bastion.Part) {
	for _, p := range parts {
		joined := false
		for i := range out {
			o := &out[i]
			if o.Forward == p.Forward && o.Reason == p.Reason && o.Origin == p.Origin && o.Services.Equal(p.Services) && o.Client.Equal(p.Client) {
				o.Machine += ", " + p.Machine
				joined = true
				break
			}
		}
		if !joined {
			out = append(out, p)
		}
	}
	return out
}

// ForwardingWhy tells what decided about a part.
func ForwardingWhy(p bastion.Part, who, via string, ph *Phrasing) string {
	switch p.Reason {
	case bastion.ByRoute:
		return "a route lets " + who + " through: " + ph.because(p.Origin, 0)
	case bastion.ByDeny:
		return "kept out: " + ph.because(p.Origin, 0)
	case bastion.NoRoute:
		return "no route via " + via + " lets " + who + " through to that"
	case bastion.NoMachine:
		return via + " has no way there from inside"
	case bastion.NotTCP:
		return "a gateway forwards TCP alone"
	}
	return via + " may not be reached from there"
}

// ForwardingDoc is the answer to a question about what a bastion forwards.
type ForwardingDoc struct {
	Ask     string           `json:"ask"`
	Verdict string           `json:"verdict"` // open, closed or some
	Via     string           `json:"via"`
	Stopped bool             `json:"stopped"` // the gateway is not running, so nobody gets in; parts say what it would forward
	Parts   []ForwardingPart `json:"parts"`
}

// ForwardingPart is a part of the document ForwardingDoc.
type ForwardingPart struct {
	People   []string `json:"people"`
	Machine  string   `json:"machine"`
	Services []string `json:"services"`
	From     []string `json:"from"`     // runs of the clients' addresses
	FromName string   `json:"fromName"` // what they are called
	Forward  bool     `json:"forward"`
	Reason   string   `json:"reason"` // route, no-route, deny, no-machine, not-tcp or not-from-there
	Sentence string   `json:"sentence,omitempty"`
	File     string   `json:"file,omitempty"`
	Line     int      `json:"line,omitempty"`
}

// ForwardingJSON is the document of an answer.
func ForwardingJSON(a *work.Forwarding, ph *Phrasing) ForwardingDoc {
	doc := ForwardingDoc{Ask: a.Ask.String(), Verdict: a.Verdict, Via: a.Ask.Via.Text, Stopped: a.Stopped, Parts: []ForwardingPart{}}
	for _, one := range a.People {
		for _, p := range one.Parts {
			doc.Parts = append(doc.Parts, ForwardingPart{
				People: one.Names, Machine: p.Machine, Services: flow.ServiceRuns(p.Services), From: flow.AddrRuns(p.Client), FromName: ph.names.Plain(p.Client), Forward: p.Forward,
				Reason: string(p.Reason), Sentence: p.Origin.Sentence, File: p.Origin.File, Line: p.Origin.Line,
			})
		}
	}
	return doc
}
