// Package fault says of which kind an error is, and what somebody can do about it, as values.
//
// An error says in its own words what is wrong. Two further facts are kept apart from those words, since each edge shows them in its own way: the
// command line turns a [Kind] into an exit status and an [Advice] into commands that can be pasted.
//
//	core, edges ──▶ error ─┬─ Error()   what is wrong, where
//	                       ├─ Kind()    Invalid, Denied, Conflict …   ──▶ exit status
//	                       └─ Advice()  words, commands among them    ──▶ “complete it first: ironbark enact”
//
// An error type has a Kind method if its kind is not [Failure], and an Advice method if something can be done about it. [KindOf] and [AdviceOf] look for
// them through wrapped and joined errors, as [errors.As] does.
package fault

import "errors"

// Kind is the kind of an error.
type Kind uint8

// The kinds. The zero Kind is that of an error that says none.
const (
	Failure     Kind = iota // something did not work; the message says what was done
	Invalid                 // words, files or values are wrong. Nothing was done
	NotFound                // what is named is not there. Nothing was done
	Unsupported             // the site, the host or this build cannot do it. Nothing was done
	Unavailable             // the answer is no: it is closed, does not answer, or is refused. Nothing was done
	Conflict                // it is not as it was when it was looked at, or others are at work on it. Nothing was done
	Waiting                 // others have to approve it first. Nothing was done
	Denied                  // the person may not. Nothing was done
	Partial                 // part of it was done, and the message says which
	Done                    // all of it was done; the message is about something besides
	kinds
)

var kindNames = [kinds]string{"failure", "invalid", "not-found", "unsupported", "unavailable", "conflict", "waiting", "denied", "partial", "done"}

// String returns the name of a kind, in lower case.
func (k Kind) String() string {
	if k >= kinds {
		return "unknown"
	}
	return kindNames[k]
}

// Fault is an error that says its kind.
type Fault interface {
	error
	Kind() Kind
}

// KindOf returns the kind of the first error in a tree of errors that says one; [Failure] where none does.
func KindOf(err error) Kind {
	if f, ok := errors.AsType[Fault](err); ok {
		return f.Kind()
	}
	return Failure
}

// New returns an error of a kind with advice, for callers that do not tell apart more than kinds.
func New(k Kind, message string, a Advice) error { return &plain{k, message, a} }

type plain struct {
	kind    Kind
	message string
	advice  Advice
}

func (p *plain) Error() string  { return p.message }
func (p *plain) Kind() Kind     { return p.kind }
func (p *plain) Advice() Advice { return p.advice }
