// Package sentence is the language in which an estate's relations are said:
// who may reach what, through which door, until when and why.
//
// One sentence stands on one line. The same sentence is typed at the shell,
// kept in a rules file, printed in listings, recorded in the journal and quoted
// in answers, so there is one parser and one printer, and
// Parse(s.String()) equals s for every sentence s.
//
//	bytes ──lex──▶ tokens ──parse──▶ Sentence ──String──▶ bytes
//	                  │
//	                  └─ parse of an unfinished line ──▶ Next: what may follow
//
// The parser is recursive descent, one method a production of the grammar in
// docs/language.md. Every look at a token that does not match notes what would
// have matched there; at the end of the input those notes are exactly what may
// come next, so completion and errors are answered by the grammar itself.
//
// The package is pure: values in, values out. Names are not looked up here;
// that is the estate's work. Parsing costs time and memory linear in the text.
package sentence

import (
	"cmp"
	"fmt"
	"time"
)

// Verb is the first word of a sentence. The zero Verb is invalid.
type Verb uint8

// The verbs, in the order in which listings show them.
const (
	VerbAllow Verb = iota + 1
	VerbDeny
	VerbForward
	VerbSpread
	VerbRoute
	VerbPermit
	VerbNever
	VerbAlways
	VerbOpen
	VerbWhy
	VerbProbe
)

var verbWords = [...]string{
	VerbAllow: "allow", VerbDeny: "deny", VerbForward: "forward", VerbSpread: "spread",
	VerbRoute: "route", VerbPermit: "permit", VerbNever: "never", VerbAlways: "always",
	VerbOpen: "open", VerbWhy: "why", VerbProbe: "probe",
}

// String returns the verb's word, or "verb(N)" for an invalid one.
func (v Verb) String() string {
	if v == 0 || int(v) >= len(verbWords) {
		return fmt.Sprintf("verb(%d)", uint8(v))
	}
	return verbWords[v]
}

// InFiles reports whether sentences of this verb are kept in rules files.
// The others (open, why, probe) are only ever typed.
func (v Verb) InFiles() bool { return v >= VerbAllow && v <= VerbAlways }

// Sentence is one statement of the language. It is implemented by the ten types
// of this package and by no other; switch on the type to use one.
type Sentence interface {
	Verb() Verb
	// String prints the sentence in its canonical form, which parses to an equal sentence.
	String() string
	sentence()
}

// Tail is the optional end and reason of a sentence.
type Tail struct {
	Until   time.Time // the moment from which the sentence no longer holds; zero: no end
	Because string    // why; empty: no reason given
}

// Allow lets flows of non-administrative services pass. With Standing it lets
// administrative ones pass too, and then needs an end and a reason.
type Allow struct {
	Services Services
	From, To Set
	Standing bool
	Tail
}

// Deny stops flows, whatever else lets them pass.
type Deny struct {
	Services Services
	From, To Set
	Tail
}

// Forward publishes one service of one machine at a port of a front. From, if
// it is not empty, permits flows through this very door.
type Forward struct {
	Front    Name
	Service  Service // at the front: one protocol and port, or a range where a person types
	To       Set
	On       Service // at the machine: one protocol and port
	From     Set
	Standing bool
	Tail
}

// Spread publishes one service of several machines at a port of a front.
type Spread struct {
	Front   Name
	Service Service
	Over    Set
	On      Service
	From    Set
	Tested  Test
}

// Route lets people reach services of machines through a bastion's gateway.
type Route struct {
	Services Services
	To       Set
	Via      Name
	For      []Name
}

// Permit lets people open services for a while.
type Permit struct {
	People    []Name
	Services  Services
	To, From  Set
	UpTo      Duration
	Approvals int       // how many approvals an opening needs; 0: none
	Approvers []Name    // who may give them; empty when Approvals is 0
	Emergency bool      // only what is asked for as an emergency; then Approvals is 0
	Until     time.Time // it permits nothing from then on, and what was opened by it ends; zero: no end
}

// Never is a guarantee: no such flow is open. Without Standing it also counts what
// permits could open and routes could carry.
type Never struct {
	Services Services
	From, To Set
	Standing bool
}

// Always is a guarantee: every such flow is open.
type Always struct {
	Services Services
	From, To Set
}

// Open asks for an opening: services that pass for a while. Exactly one of For
// and Until is set.
type Open struct {
	Services Services
	To, From Set
	Starting time.Time // zero: at once
	For      Duration
	Until    time.Time
	// Emergency asks for it by a permit for emergencies, and owes an account of it.
	Emergency bool
	Because   string
}

// Ask is a question about flows; Probe asks it with a real packet. With a Via it is about what a bastion
// forwards: for the people of For, or where there are none for whoever asks (then From is me).
type Ask struct {
	Probe    bool
	Services Services
	From, To Set
	For      []Name
	Via      Name
}

func (Allow) Verb() Verb   { return VerbAllow }
func (Deny) Verb() Verb    { return VerbDeny }
func (Forward) Verb() Verb { return VerbForward }
func (Spread) Verb() Verb  { return VerbSpread }
func (Route) Verb() Verb   { return VerbRoute }
func (Permit) Verb() Verb  { return VerbPermit }
func (Never) Verb() Verb   { return VerbNever }
func (Always) Verb() Verb  { return VerbAlways }
func (Open) Verb() Verb    { return VerbOpen }

// Verb is VerbProbe or VerbWhy.
func (a Ask) Verb() Verb {
	if a.Probe {
		return VerbProbe
	}
	return VerbWhy
}

func (Allow) sentence()   {}
func (Deny) sentence()    {}
func (Forward) sentence() {}
func (Spread) sentence()  {}
func (Route) sentence()   {}
func (Permit) sentence()  {}
func (Never) sentence()   {}
func (Always) sentence()  {}
func (Open) sentence()    {}
func (Ask) sentence()     {}

// Pos is where something stands: a file and a line and column in it, both from
// 1, columns counted in characters. File is empty for what was typed.
type Pos struct {
	File      string
	Line, Col int
}

// String returns "file:line:col", leaving out what is not known.
func (p Pos) String() string {
	switch {
	case p.File == "" && p.Col == 0:
		return ""
	case p.File == "":
		return fmt.Sprintf("column %d", p.Col)
	case p.Line == 0:
		return p.File
	case p.Col == 0:
		return fmt.Sprintf("%s:%d", p.File, p.Line)
	}
	return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Col)
}

// Compare orders positions by file, line and column.
func (p Pos) Compare(q Pos) int {
	return cmp.Or(cmp.Compare(p.File, q.File), cmp.Compare(p.Line, q.Line), cmp.Compare(p.Col, q.Col))
}

// Name is a name that a sentence uses, with its place for errors. Names are
// lower-case letters, digits and hyphens, begin with a letter, have at most
// [MaxName] characters and are not words of the grammar.
type Name struct {
	Text string
	At   Pos
}

// String returns the bare name.
func (n Name) String() string { return n.Text }

// TestKind is how a spread tests its machines. The zero TestKind is "not tested".
type TestKind uint8

// The ways to test.
const (
	TestNone TestKind = iota
	TestTCP
	TestHTTP
)

// Test is how a spread finds out which of its machines answer.
type Test struct {
	Kind TestKind
	Path string // for TestHTTP: the absolute path asked for
}
