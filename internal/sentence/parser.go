package sentence

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbark/internal/fault"
)

// Want is something that may stand at a place in a sentence: a word of the
// grammar, or a thing of some kind.
type Want struct {
	Kind WantKind
	Word string // for WantWord
}

// WantKind says what may stand at a place. The zero WantKind is invalid.
type WantKind uint8

// The kinds of thing that a grammar can want.
const (
	WantWord        WantKind = iota + 1 // the very word in Want.Word
	WantService                         // a service, or any
	WantPort                            // one protocol and one port
	WantSource                          // a member of a source
	WantTarget                          // a member of a target
	WantDestination                     // a member of a target, or of what machines call outside
	WantFront                           // the name of a front
	WantBastion                         // the name of a bastion
	WantPerson                          // the name of a person or group
	WantDuration                        // a length of time
	WantTime                            // a moment
	WantReason                          // a text
	WantNumber                          // a whole number from 1
	WantPath                            // an absolute path
	WantComma                           // a comma and one more of the same
)

// String names what is wanted, for errors.
func (w Want) String() string {
	switch w.Kind {
	case WantWord:
		return "“" + w.Word + "”"
	case WantService:
		return "a service"
	case WantPort:
		return "one port such as tcp/443"
	case WantSource:
		return "a source"
	case WantTarget, WantDestination:
		return "a target"
	case WantFront:
		return "a front"
	case WantBastion:
		return "a bastion"
	case WantPerson:
		return "a person or group"
	case WantDuration:
		return "a length of time such as 1h"
	case WantTime:
		return "a time such as 2026-11-23T18:00:00Z"
	case WantReason:
		return "a reason in quotes"
	case WantNumber:
		return "a number"
	case WantPath:
		return "a path such as /healthz"
	case WantComma:
		return "a comma"
	}
	return "nothing"
}

// parser walks the tokens of one sentence. After the first error every method
// returns at once with a zero value, so productions need no checks between steps.
type parser struct {
	lex    *lexer
	tokens []token // ends with a tokenEnd
	i      int
	wants  []Want // what would have matched at tokens[i]; begins in room
	room   [8]Want
	err    *Error
	near   bool // the error offers a word that is like the one that was typed
	typed  bool
	now    time.Time

	natural bool // words are understood as people type them first
	read    bool // some were
}

func (p *parser) peek() token { return p.tokens[p.i] }

func (p *parser) advance() token {
	t := p.tokens[p.i]
	p.i++
	p.wants = p.wants[:0]
	return t
}

func (p *parser) want(w Want) {
	if p.err == nil && !slices.Contains(p.wants, w) {
		p.wants = append(p.wants, w)
	}
}

func (p *parser) fail(at Pos, problem, remedy string) {
	if p.err == nil {
		p.err = p.lex.fail(at, problem, remedy)
	}
}

// advise fails with advice that has commands.
func (p *parser) advise(at Pos, problem string, advice fault.Advice) {
	if p.err == nil {
		p.err = p.lex.fail(at, problem, "")
		p.err.Remedy = advice
	}
}

// word takes the next token if it is this word of the grammar.
func (p *parser) word(w string) bool {
	if p.err != nil {
		return false
	}
	if t := p.peek(); t.kind == tokenWord && t.text == w {
		p.advance()
		return true
	}
	p.want(Want{Kind: WantWord, Word: w})
	return false
}

// need takes one of these words or fails.
func (p *parser) need(words ...string) string {
	for _, w := range words {
		if p.word(w) {
			return w
		}
	}
	p.unexpected()
	return ""
}

// unexpected fails with what was wanted instead of the next token.
func (p *parser) unexpected() {
	if p.err != nil {
		return
	}
	t := p.peek()
	words, names := make([]string, 0, len(p.wants)), make([]string, 0, len(p.wants))
	for _, w := range p.wants {
		names = append(names, w.String())
		if w.Kind == WantWord {
			words = append(words, w.Word)
		}
	}
	problem := "expected " + or(names) + ", not " + t.String()
	if t.kind == tokenEnd {
		problem = "the sentence breaks off: expected " + or(names)
	}
	remedy := ""
	if t.kind == tokenWord {
		remedy = didYouMean(t.text, words)
	}
	p.near = remedy != ""
	p.fail(t.at, problem, remedy)
}

func or(names []string) string {
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + " or " + names[len(names)-1]
}

// take takes the next token if it is a word that is not of the grammar where
// grammar words cannot stand, and fails otherwise.
func (p *parser) take(w WantKind) (token, bool) {
	p.want(Want{Kind: w})
	if p.err != nil {
		return token{}, false
	}
	t := p.peek()
	if t.kind != tokenWord {
		p.unexpected()
		return token{}, false
	}
	return p.advance(), true
}

// stops reports whether the next token is a word of the grammar that cannot be
// what is wanted here, so that a missing word is told as such.
func (p *parser) stops(meaningful ...string) bool {
	t := p.peek()
	return t.kind == tokenWord && Reserved(t.text) && !slices.Contains(meaningful, t.text)
}

func (p *parser) comma() bool {
	if p.err != nil {
		return false
	}
	if p.peek().kind == tokenComma {
		p.advance()
		return true
	}
	p.want(Want{Kind: WantComma})
	return false
}

// end fails unless the sentence ends here.
func (p *parser) end() {
	if p.err != nil || p.peek().kind == tokenEnd {
		return
	}
	t := p.peek()
	if p.typed && p.i > 1 && p.tokens[p.i-1].kind == tokenString && t.kind == tokenWord {
		p.fail(t.at, "a word too many after the reason: "+t.String(), `put the whole reason in quotes: because "rotate keys"`)
		return
	}
	if len(p.wants) == 0 {
		p.fail(t.at, "the sentence should end here, before "+t.String(), "")
		return
	}
	words := make([]string, 0, len(p.wants))
	for _, w := range p.wants {
		if w.Kind == WantWord {
			words = append(words, w.Word)
		}
	}
	remedy := didYouMean(t.text, words)
	p.near = remedy != ""
	if !p.near && len(words) > 0 {
		for i, w := range words {
			words[i] = "“" + w + "”"
		}
		remedy = "what may follow is " + or(words)
	}
	p.fail(t.at, t.String()+" does not belong here", remedy)
}

func (p *parser) name(w WantKind) Name {
	if p.err == nil && p.stops() {
		p.want(Want{Kind: w})
		p.unexpected()
		return Name{}
	}
	t, ok := p.take(w)
	if !ok {
		return Name{}
	}
	if bad := ValidName(t.text); bad != nil {
		p.fail(t.at, t.String()+" is no name: "+bad.Error(), "")
		return Name{}
	}
	return Name{Text: t.text, At: t.at}
}

func (p *parser) people() []Name {
	list := []Name{p.name(WantPerson)}
	for p.comma() {
		list = append(list, p.name(WantPerson))
	}
	return list
}

func (p *parser) atom(w WantKind) Atom {
	if w == WantSource {
		if a, ok := p.naturalAtom(); ok {
			return a
		}
	}
	if p.err == nil && p.stops("everywhere", "internet", "all", "me") {
		p.want(Want{Kind: w})
		if p.unexpected(); p.peek().text == "any" && p.err.Remedy.IsZero() {
			p.err.Remedy = fault.Say(map[bool]string{true: "all machines are “all”", false: "everybody is “everywhere”"}[w != WantSource])
		}
		return Atom{}
	}
	t, ok := p.take(w)
	if !ok {
		return Atom{}
	}
	a, err := ParseAtom(t.text)
	if err != nil {
		p.fail(t.at, err.Error(), "")
		return Atom{}
	}
	if a.kind == Me && !p.typed {
		p.fail(t.at, "“me” stands for whoever types it, and nobody types a file", "write the address itself")
	}
	a.at = t.at
	return a
}

func (p *parser) atoms(w WantKind) []Atom {
	list := []Atom{p.atom(w)}
	for p.comma() {
		list = append(list, p.atom(w))
	}
	return list
}

// set parses Set; w tells whether it is a source or a target.
func (p *parser) set(w WantKind) Set {
	s := Set{List: p.atoms(w)}
	if p.word("except") {
		s.Except = p.atoms(w)
	}
	return s
}

func (p *parser) service(w WantKind) Service {
	if s, ok := p.naturalPort(); ok {
		return s
	}
	if p.err == nil && p.stops("ping", "http", "any", ConsoleName) {
		p.want(Want{Kind: w})
		p.unexpected()
		return Service{}
	}
	t, ok := p.take(w)
	if !ok {
		return Service{}
	}
	if t.text == "any" {
		p.fail(t.at, "“any” cannot be one service among others", "it stands alone, or as: any except ping")
		return Service{}
	}
	s, err := ParseService(t.text)
	if err != nil {
		p.fail(t.at, err.Error(), "")
		return Service{}
	}
	s.at = t.at
	return s
}

func (p *parser) serviceList() []Service {
	list := []Service{p.service(WantService)}
	if list[0].Console() && p.peek().kind != tokenComma {
		return list // it is alone, so no comma is offered
	}
	for p.comma() {
		list = append(list, p.service(WantService))
	}
	return list
}

// services parses the services of a sentence about the network.
func (p *parser) services() Services {
	s := p.openable()
	if s.Console() {
		p.advise(s.List[0].at, "a console is no service of the network", fault.Say("open it for a while: ").Run("open", "console", "to", "MACHINE", "for", "30m", "because", "…"))
	}
	return s
}

// openable parses services: Svcs, or a console.
func (p *parser) openable() Services {
	s := p.someServices()
	if i := slices.IndexFunc(s.List, Service.Console); i >= 0 && len(s.List) > 1 {
		p.fail(s.List[i].at, "“console” is alone in a sentence", "write two sentences, one of them for the console")
	}
	if i := slices.IndexFunc(s.Except, Service.Console); i >= 0 {
		p.fail(s.Except[i].at, "“any” does not cover consoles", "leave “console” out")
	}
	return s
}

func (p *parser) someServices() Services {
	if !p.naturalAny() && !p.word("any") {
		return Services{List: p.serviceList()}
	}
	s := Services{Any: true}
	if p.word("except") {
		s.Except = p.serviceList()
	}
	return s
}

// port parses Svc1: one protocol and one port, or a name for one. A range is
// let through here and judged where its meaning is known.
func (p *parser) port(ranges bool) Service {
	s := p.service(WantPort)
	if s.kind == servicePing {
		p.fail(s.at, "ping has no port", "name one protocol and port, such as tcp/443")
	}
	if s.kind == serviceConsole {
		p.fail(s.at, "a console has no port", "name one protocol and port, such as tcp/443")
	}
	if s.kind == servicePorts && s.lo != s.hi && !ranges {
		p.fail(s.at, fmt.Sprintf("%q is a range where one port stands", s.String()), "")
	}
	return s
}

func (p *parser) duration() Duration {
	if d, ok := p.naturalDuration(); ok {
		return d
	}
	t, ok := p.take(WantDuration)
	if !ok {
		return Duration{}
	}
	d, err := ParseDuration(t.text)
	if err != nil {
		p.fail(t.at, err.Error(), "")
	}
	return d
}

func (p *parser) time() time.Time {
	t, ok := p.take(WantTime)
	if !ok {
		return time.Time{}
	}
	moment, err := parseTime(t.text, p.typed, p.now)
	if err != nil {
		p.fail(t.at, err.Error(), "")
	}
	return moment
}

func (p *parser) reason() string {
	p.want(Want{Kind: WantReason})
	if p.err != nil {
		return ""
	}
	if p.peek().kind != tokenString {
		remedy := ""
		if p.peek().kind == tokenWord {
			remedy = `a reason stands in quotes: because "rotate keys"`
		}
		at := p.peek().at
		p.unexpected()
		if remedy != "" && p.err.At == at {
			p.err.Remedy = fault.Say(remedy)
		}
		return ""
	}
	t := p.advance()
	if strings.TrimSpace(t.text) == "" {
		p.fail(t.at, "the reason is empty", "say why in a few words")
	}
	return t.text
}

// tail parses Tail.
func (p *parser) tail() (t Tail) {
	if p.word("until") {
		t.Until = p.time()
	}
	if p.word("because") {
		t.Because = p.reason()
	}
	return t
}
