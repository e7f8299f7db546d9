package sentence

import (
	"fmt"
	"slices"
	"strconv"
	"time"
)

// sentence parses one whole sentence: the productions of docs/language.md, one method each.
func (p *parser) sentence() Sentence {
	if p.typed {
		if verb := p.peek().text; p.peek().kind == tokenWord && (verb == "why" || verb == "probe" || verb == "open") {
			p.advance()
			if verb == "open" {
				return p.open()
			}
			return p.ask(verb == "probe")
		}
	}
	words := make([]string, 0, len(verbWords))
	for v := VerbAllow; v <= VerbAlways; v++ {
		words = append(words, v.String())
	}
	if p.typed {
		words = append(words, "open", "why", "probe")
	} else if t := p.peek(); t.text == "open" || t.text == "why" || t.text == "probe" {
		p.fail(t.at, fmt.Sprintf("“%s” is typed at the shell; it does not stand in a file", t.text), "")
		return nil
	}
	switch p.need(words...) {
	case "allow":
		return p.allow()
	case "deny":
		return p.deny()
	case "forward":
		return p.forward()
	case "spread":
		return p.spread()
	case "route":
		return p.route()
	case "permit":
		return p.permit()
	case "never":
		return p.never()
	case "always":
		return p.always()
	}
	return nil
}

// servicesFromTo parses the middle that several sentences share.
func (p *parser) servicesFromTo() (s Services, from, to Set) {
	s = p.services()
	if t := p.peek(); p.natural && t.kind == tokenWord && t.text == "to" {
		p.advance()
		to = p.set(WantDestination)
		p.need("from")
		p.read = true
		return s, p.set(WantSource), to
	}
	p.need("from")
	from = p.set(WantSource)
	p.need("to")
	to = p.set(WantDestination)
	return s, from, to
}

func (p *parser) allow() Sentence {
	var a Allow
	a.Services, a.From, a.To = p.servicesFromTo()
	a.Standing = p.word("standing")
	a.Tail = p.standingTail(a.Standing)
	return a
}

// standingTail parses Tail, and holds a standing exception to an end and a reason.
func (p *parser) standingTail(standing bool) Tail {
	t := p.tail()
	if !standing || p.err != nil {
		return t
	}
	const remedy = `for example: standing until 2026-12-24T00:00:00Z because "vendor's visit"`
	switch {
	case t.Until.IsZero():
		p.unexpectedTail("a standing exception needs an end", remedy)
	case t.Because == "":
		p.unexpectedTail("a standing exception needs a reason", remedy)
	}
	return t
}

func (p *parser) unexpectedTail(problem, remedy string) { p.fail(p.peek().at, problem, remedy) }

func (p *parser) deny() Sentence {
	var d Deny
	d.Services, d.From, d.To = p.servicesFromTo()
	d.Tail = p.tail()
	return d
}

func (p *parser) forward() Sentence {
	f := Forward{Front: p.name(WantFront), Service: p.port(p.typed)}
	p.need("to")
	f.To = p.set(WantTarget)
	p.need("on")
	f.On = p.port(false)
	if p.word("from") {
		f.From = p.set(WantSource)
		f.Standing = p.word("standing")
	}
	f.Tail = p.standingTail(f.Standing)
	return f
}

func (p *parser) spread() Sentence {
	s := Spread{Front: p.name(WantFront), Service: p.port(false)}
	p.need("over")
	s.Over = p.set(WantTarget)
	p.need("on")
	s.On = p.port(false)
	if p.word("from") {
		s.From = p.set(WantSource)
	}
	if p.word("tested") {
		p.need("by")
		s.Tested = p.test()
	}
	return s
}

func (p *parser) test() Test {
	if p.need("tcp", "http") != "http" {
		return Test{Kind: TestTCP}
	}
	t, ok := p.take(WantPath)
	if ok && t.text[0] != '/' {
		p.fail(t.at, fmt.Sprintf("%q is no path: it begins with /", t.text), "")
	}
	return Test{Kind: TestHTTP, Path: t.text}
}

func (p *parser) route() Sentence {
	r := Route{Services: p.services()}
	p.need("to")
	r.To = p.set(WantTarget)
	p.need("via")
	r.Via = p.name(WantBastion)
	p.need("for")
	r.For = p.people()
	return r
}

func (p *parser) permit() Sentence {
	m := Permit{People: p.people()}
	p.need("to")
	p.need("open")
	m.Services = p.openable()
	p.need("to")
	m.To = p.set(WantTarget)
	m.From = p.sourceOf(m.Services)
	if p.natural && p.word("for") {
		p.read = true
	} else {
		p.need("up")
		p.need("to")
	}
	m.UpTo = p.duration()
	if p.word("needing") {
		m.Approvals = p.number()
		p.need("approval", "approvals")
		p.need("from")
		m.Approvers = p.people()
	}
	if at := p.peek().at; p.word("in") {
		m.Emergency = p.need("emergency") != ""
		if m.Approvals > 0 {
			p.fail(at, "a permit for emergencies needs no approvals", "say it in two permits: one with approvals, one in emergency")
		}
	}
	if p.word("until") {
		m.Until = p.time()
	}
	return m
}

// MaxApprovals is the greatest number of approvals that a permit may need.
const MaxApprovals = 9

func (p *parser) number() int {
	t, ok := p.take(WantNumber)
	if !ok {
		return 0
	}
	n, err := strconv.Atoi(t.text)
	if err != nil || n < 1 || n > MaxApprovals || t.text != strconv.Itoa(n) {
		p.fail(t.at, fmt.Sprintf("%q: a number of approvals is from 1 to %d", t.text, MaxApprovals), "")
	}
	return n
}

func (p *parser) never() Sentence {
	var n Never
	n.Services, n.From, n.To = p.servicesFromTo()
	n.Standing = p.word("standing")
	return n
}

func (p *parser) always() Sentence {
	var a Always
	a.Services, a.From, a.To = p.servicesFromTo()
	return a
}

func (p *parser) open() Sentence {
	o := Open{Services: p.openable()}
	if p.natural {
		return p.openAnyOrder(o)
	}
	p.need("to")
	o.To = p.set(WantTarget)
	o.From = p.sourceOf(o.Services)
	if p.word("starting") {
		o.Starting = p.time()
	}
	p.openLength(&o, p.need("for", "until"))
	if p.word("in") {
		o.Emergency = p.need("emergency") != ""
	}
	p.openReason(&o)
	return o
}

// sourceOf parses the source of a sentence about some services; that of a console is not written.
func (p *parser) sourceOf(s Services) Set {
	if s.Console() {
		p.noSource(s)
		return ConsoleSource()
	}
	p.need("from")
	return p.set(WantSource)
}

// noSource refuses a source where a sentence about consoles has one.
func (p *parser) noSource(s Services) {
	if t := p.peek(); s.Console() && p.err == nil && t.kind == tokenWord && t.text == "from" {
		p.fail(t.at, "a console has no source: it is for the person who opens it", "leave out “from …”")
	}
}

func (p *parser) openLength(o *Open, word string) {
	switch word {
	case "for":
		o.For = p.duration()
	case "until":
		o.Until = p.time()
	}
}

func (p *parser) openReason(o *Open) {
	switch {
	case p.word("because"):
		o.Because = p.reason()
	case p.peek().kind == tokenEnd:
		p.fail(p.peek().at, "an opening needs a reason", `add: because "rotate keys"`)
	default:
		p.unexpected()
	}
}

// openAnyOrder parses the parts of an opening, each once, in any order; what is missing is
// told in the canonical one.
func (p *parser) openAnyOrder(o Open) Sentence {
	order := 0
	if o.Services.Console() {
		o.From = ConsoleSource()
	}
	for p.err == nil {
		part := 0
		switch {
		case o.To.IsEmpty() && p.word("to"):
			o.To, part = p.set(WantTarget), 1
		case o.From.IsEmpty() && p.word("from"):
			o.From, part = p.set(WantSource), 2
		case o.Starting.IsZero() && p.word("starting"):
			o.Starting, part = p.time(), 3
		case o.For.IsZero() && o.Until.IsZero() && p.word("for"):
			p.openLength(&o, "for")
			part = 4
		case o.For.IsZero() && o.Until.IsZero() && p.word("until"):
			p.openLength(&o, "until")
			part = 4
		case !o.Emergency && p.word("in"):
			o.Emergency, part = p.need("emergency") != "", 5
		case o.Because == "" && p.word("because"):
			o.Because, part = p.reason(), 6
		}
		if part == 0 {
			p.noSource(o.Services)
			break
		}
		p.read = p.read || part < order
		order = part
	}
	switch {
	case p.err != nil:
	case o.To.IsEmpty():
		p.missing("to")
	case o.Because == "":
		p.openReason(&o)
	default:
		p.openDefaults(&o)
	}
	return o
}

// DefaultLength is how long an opening lasts where nobody says.
var DefaultLength = Duration{int64(time.Hour / time.Second)}

// openDefaults gives an opening that says nothing of it the caller's own address and an hour.
func (p *parser) openDefaults(o *Open) {
	if o.From.IsEmpty() {
		o.From, p.read = Of(Atom{kind: Me}), true
	}
	if o.For.IsZero() && o.Until.IsZero() {
		o.For, p.read = DefaultLength, true
	}
}

// missing fails because one of some words is nowhere.
func (p *parser) missing(words ...string) {
	p.wants = slices.DeleteFunc(p.wants, func(w Want) bool {
		return w.Kind == WantWord && !slices.Contains(words, w.Word) && w.Word != "except"
	})
	p.unexpected()
}

func (p *parser) ask(probe bool) Sentence {
	a := Ask{Probe: probe}
	if probe {
		a.Services, a.From, a.To = p.servicesFromTo()
		return a
	}
	a.Services = p.openable()
	if a.Services.Console() {
		a.From = ConsoleSource()
		p.noSource(a.Services)
		p.need("to")
		a.To = p.set(WantTarget)
		p.noSource(a.Services)
		return a
	}
	if t := p.peek(); p.natural && t.kind == tokenWord && t.text == "to" {
		p.advance()
		a.To = p.set(WantDestination)
		p.need("from")
		p.read = true
		a.From = p.set(WantSource)
		return a
	}
	p.need("from")
	a.From = p.set(WantSource)
	if p.word("via") {
		a.For, a.From = p.peopleOf(a.From)
		a.Via = p.name(WantBastion)
	}
	p.need("to")
	a.To = p.set(WantDestination)
	return a
}

// peopleOf takes what stood where a source may for people; me stays.
func (p *parser) peopleOf(from Set) (people []Name, me Set) {
	if len(from.List) == 1 && from.List[0].Kind() == Me && len(from.Except) == 0 {
		return nil, from
	}
	if len(from.Except) > 0 {
		p.fail(from.Except[0].At(), "people who come through a bastion are listed, and nobody is excepted", "name those who come")
		return nil, Set{}
	}
	for _, a := range from.List {
		if a.Kind() != Named {
			p.fail(a.At(), fmt.Sprintf("through a bastion people come, and “%s” is no person or group", a), "")
			return nil, Set{}
		}
		people = append(people, Name{Text: a.Text(), At: a.At()})
	}
	return people, Set{}
}
