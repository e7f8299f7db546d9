package view

import (
	"fmt"
	"strings"
	"time"

	"ironbark/internal/driver"
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// Answer prints the answer to a question: the verdict in one sentence, the
// questions that were asked, and what would remedy it.
func (p *Printer) Answer(a *work.Answer, ph *Phrasing, person string) {
	parts := joinFamilies(a.Parts)
	for i, part := range parts {
		if len(parts) > 1 && i == 0 {
			p.Wrap("", fmt.Sprintf("%s: %s%s to %s, in %d parts", a.Verdict, a.Ask.Services, sentence.FromWords(a.Ask.From), a.Ask.To, len(parts)))
		}
		if len(parts) > 1 {
			p.Line("")
		}
		p.part(a, part, ph, person, len(parts) == 1)
	}
}

// joinFamilies joins parts that differ in the family of their sources alone, and in the
// doors that each family has to a machine.
func joinFamilies(parts []exposure.Part) (out []exposure.Part) {
	type key struct {
		target  exposure.Target
		machine int32
		reason  exposure.Reason
		origin  flow.Origin
		opening int64
		first   flow.Service
	}
	alike := exposure.Buckets[key]{} // in out
	for _, p := range parts {
		_, six, apart := familyOf(p.From)
		k := key{p.Target, p.Machine, p.Reason, p.Origin, p.Opening, p.Services.Runs()[0].Lo}
		i, found := alike.Place(k, len(out), func(i int) bool {
			o := out[i]
			return o.Open == p.Open && o.Cause.Same(p.Cause) && o.Services.Equal(p.Services) && o.Arrives.Equal(p.Arrives) && apart && otherFamily(o.From, six) &&
				(o.Target.IsMachine() || o.Door.Kind == p.Door.Kind && o.Door.Via == p.Door.Via)
		})
		if found {
			out[i].From = out[i].From.Union(p.From)
		} else {
			out = append(out, p)
		}
	}
	return out
}

// familyOf tells which families a set has; apart, that it is one.
func familyOf(s flow.Addrs) (four, six, apart bool) {
	parts := flow.ByFamily(s)
	six, four = !parts[0].IsEmpty(), !parts[1].IsEmpty()
	return four, six, four != six
}

func otherFamily(s flow.Addrs, than6 bool) bool {
	_, six, apart := familyOf(s)
	return apart && six != than6
}

func (p *Printer) part(a *work.Answer, part exposure.Part, ph *Phrasing, person string, alone bool) {
	word := "closed"
	if part.Open {
		word = p.Open("open") + "  "
	}
	target := exposure.TargetName(a.State.Plan, part.Target)
	head := fmt.Sprintf("%s%s to %s", ph.service(part.Services), ph.fromWords(part.From), target)
	if part.Door.Kind == flow.DoorConsole && part.Open {
		head += ph.openerWords(part.Opening)
	}
	if a.Outward {
		head = fmt.Sprintf("%s from %s to %s", ph.service(part.Services), target, ph.names.Plain(part.From))
	}
	if part.Machine >= 0 && !part.Target.IsMachine() {
		head += fmt.Sprintf(", which leads to %s %s", ph.machine(part.Machine, part.Door), ph.service(part.Arrives))
	}
	if silent := silentWords(a, part, ph); silent != "" {
		head += ", " + p.Bad("but nothing answers:") + " " + silent
	}
	p.Wrap(word+"  ", head)
	p.Wrap("        ", why(a, part, ph))
	if !alone {
		return
	}
	p.Line("")
	steps := a.View.Steps(part, ph.namings)
	for i, s := range steps {
		text := s.Answer
		if s.Origin.Sentence != "" {
			text += ": " + ph.because(s.Origin, 0)
		}
		mark := " "
		if i == len(steps)-1 {
			mark = "→" // this one decided
		}
		p.Wrap(fmt.Sprintf("  %s %d %-16s", mark, i+1, s.Question), text)
	}
	if m, listens, known := a.Machine(part); known && !a.Outward {
		text := string(m.State)
		switch at := part.Arrives.Intersect(m.Listens); {
		case part.Door.Kind == flow.DoorConsole: // nothing listens there
		case listens:
			text += ", and something listens on " + ph.service(at)
		case m.State == driver.Running:
			text += ", but nothing listens on " + ph.service(part.Arrives)
		}
		p.Wrap("    then the machine  ", text)
	}
	p.Outlets("    the other way     ", a.Outlets(part), ph)
	if remedy := a.Remedies(part, person); len(remedy) > 0 {
		p.Line("")
		p.Line("  to open it")
		for _, m := range remedy {
			p.Wrap("    ", Advice(m))
		}
	}
}

// silentWords tells why nothing answers where flows are let in; "" where something does, or
// nobody knows.
func silentWords(a *work.Answer, part exposure.Part, ph *Phrasing) string {
	m, listens, known := a.Machine(part)
	if words := a.NotLed(part.Door); words != "" && part.Open {
		return words
	}
	switch {
	case a.Outward || !known || !part.Open || listens && m.State == driver.Running:
		return ""
	case m.State != driver.Running:
		return fmt.Sprintf("%s is %s", ph.machine(part.Machine, part.Door), m.State)
	}
	return fmt.Sprintf("%s does not listen on %s", ph.machine(part.Machine, part.Door), ph.service(part.Arrives))
}

// openerWords names the person for whom an opening is; nothing where it is not known.
func (ph *Phrasing) openerWords(id int64) string {
	for _, o := range ph.openings {
		if o.ID == id {
			return ", for " + o.Person
		}
	}
	return ""
}

// why tells why a part of an answer is as it is, in one line.
func why(a *work.Answer, part exposure.Part, ph *Phrasing) string {
	if !a.Outward {
		return Why(part, ph)
	}
	switch {
	case part.Reason == exposure.NoDoor:
		return "no way out: its network leads nowhere outside in this family"
	case part.Reason == exposure.Default:
		return "by default: its network is “outward: closed”, and no sentence allows it"
	case part.Origin.IsOpenNetwork():
		return "by default: " + part.Origin.Sentence + ", and no sentence denies it"
	}
	return Why(part, ph)
}

// Why tells why a part is as it is, in one line.
func Why(part exposure.Part, ph *Phrasing) string {
	switch part.Reason {
	case exposure.NoDoor:
		return "no way in: nothing leads there from this source"
	case exposure.Denied:
		return "denied by “" + part.Origin.Sentence + "”"
	case exposure.Administrative:
		return "administrative, and nobody has opened it"
	case exposure.Default:
		return "by default: nothing says it may pass"
	case exposure.ByOpening:
		return fmt.Sprintf("by opening %d%s, until %s", part.Opening, thenWords(part.Then), until(part.Until, ph.now))
	}
	text := "by “" + part.Origin.Sentence + "”" + thenWords(part.Then)
	if !part.Until.IsZero() {
		text += ", until " + until(part.Until, ph.now)
	}
	return text
}

// thenWords names the openings that keep something open after what opened it.
func thenWords(then []int64) (text string) {
	for _, id := range then {
		text += fmt.Sprintf(", then opening %d", id)
	}
	return text
}

// AnswerDoc is the document of an answer: with parts, or with one part whose steps it tells.
type AnswerDoc struct {
	Flow      whyFlow     `json:"flow"`
	Verdict   string      `json:"verdict"`
	Reason    string      `json:"reason,omitempty"`
	Door      *whyDoor    `json:"door,omitempty"`
	DecidedBy *whyBy      `json:"decidedBy,omitempty"`
	Until     *time.Time  `json:"until,omitempty"`
	Then      []int64     `json:"then,omitempty"` // openings that keep it open after what decided
	Steps     []whyStep   `json:"steps,omitempty"`
	Machine   *whyMachine `json:"machine,omitempty"`
	Outward   []OutletDoc `json:"outward,omitempty"` // what the machine may still call of the source
	Remedies  []string    `json:"remedies,omitempty"`
	Parts     []whyPart   `json:"parts,omitempty"`
}

type whyMachine struct {
	Running   bool   `json:"running"`
	Listening bool   `json:"listening"`
	Member    string `json:"member,omitempty"` // of a spread: in, failing, out, draining or not there
}

type whyFlow struct {
	Source  string    `json:"source"`
	Target  string    `json:"target"`
	Service string    `json:"service"`
	At      time.Time `json:"at"`
}

type whyDoor struct {
	Kind    string `json:"kind"`
	Via     string `json:"via,omitempty"`
	Address string `json:"address"`
	Service string `json:"service"`
}

type whyBy struct {
	Sentence string `json:"sentence"`
	File     string `json:"file"`
	Line     int    `json:"line"`
}

type whyStep struct {
	Question string `json:"question"`
	Answer   string `json:"answer"`
	Passed   bool   `json:"passed"`
	Sentence string `json:"sentence"`
}

type whyPart struct {
	From      []string   `json:"from"`
	FromName  string     `json:"fromName"`
	Target    string     `json:"target"`
	To        []string   `json:"to,omitempty"` // of calls outside: the addresses that are called
	Machine   string     `json:"machine,omitempty"`
	Service   string     `json:"service"`
	Verdict   string     `json:"verdict"`
	Reason    string     `json:"reason"`
	Door      *whyDoor   `json:"door,omitempty"`
	DecidedBy whyBy      `json:"decidedBy"`
	Until     *time.Time `json:"until,omitempty"`
	Then      []int64    `json:"then,omitempty"`
}

// AnswerJSON is the document of an answer.
func AnswerJSON(a *work.Answer, ph *Phrasing, person string, at time.Time) AnswerDoc {
	doc := AnswerDoc{
		Flow:    whyFlow{a.Ask.From.String(), a.Ask.To.String(), strings.Join(flow.ServiceRuns(a.Service), ","), at.UTC()},
		Verdict: a.Verdict,
	}
	if len(a.Parts) > 1 {
		for _, part := range a.Parts {
			verdict := "closed"
			if part.Open {
				verdict = "open"
			}
			machine := ""
			if part.Machine >= 0 && !a.Outward {
				machine = a.State.Plan.Machines[part.Machine].Name
			}
			from, fromName, target := SourceRuns(part.From), ph.names.Plain(part.From), exposure.TargetName(a.State.Plan, part.Target)
			var to []string
			if a.Outward { // who is asked about calls, and what is told of is called
				from, fromName, target, to = flow.AddrRuns(a.State.Plan.AddrsOf(part.Target.Machine)), target, fromName, from
			}
			doc.Parts = append(doc.Parts, whyPart{
				From: from, FromName: fromName, Target: target, To: to, Machine: machine,
				Service: strings.Join(flow.ServiceRuns(part.Services), ","), Verdict: verdict, Reason: string(part.Reason), Door: doorJSON(part),
				DecidedBy: whyBy(part.Origin), Until: moment(part.Until), Then: part.Then,
			})
		}
		return doc
	}
	part := a.Parts[0]
	doc.Reason, doc.Door = string(part.Reason), doorJSON(part)
	for _, m := range a.Remedies(part, person) {
		doc.Remedies = append(doc.Remedies, Advice(m))
	}
	doc.Outward = OutletsJSON(a.Outlets(part), a.State.Plan)
	doc.DecidedBy = &whyBy{part.Origin.Sentence, part.Origin.File, part.Origin.Line}
	doc.Until, doc.Then = moment(part.Until), part.Then
	for _, s := range a.View.Steps(part, ph.namings) {
		doc.Steps = append(doc.Steps, whyStep{s.Question, s.Answer, s.Passed, s.Origin.Sentence})
	}
	if m, listens, known := a.Machine(part); known && !a.Outward {
		member, _ := a.Member(part.Door)
		doc.Machine = &whyMachine{m.State == "running", listens, string(member.State)}
	}
	return doc
}

func doorJSON(part exposure.Part) *whyDoor {
	if part.Door.Kind == 0 {
		return nil
	}
	called := part.Services
	if part.Door.Translated() {
		called = part.Door.Called()
	}
	d := &whyDoor{Kind: part.Door.Kind.String(), Via: part.Door.Via, Service: strings.Join(flow.ServiceRuns(called), ",")}
	if part.Door.Address.IsValid() {
		d.Address = part.Door.Address.String()
	}
	return d
}
