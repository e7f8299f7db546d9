package sentence

import (
	"fmt"
	"strings"

	"ironbark/internal/fault"
)

// Error tells what is wrong with a sentence, where, and what to do about it.
type Error struct {
	At      Pos
	Line    string       // the whole line as it stands in the file or was typed
	Problem string       // what is wrong, lower case, no full stop
	Remedy  fault.Advice // what to do; may be none
}

// Error returns place and problem; the line, the caret and the remedy are for whoever shows it.
func (e *Error) Error() string {
	if at := e.At.String(); at != "" {
		return at + ": " + e.Problem
	}
	return e.Problem
}

// Errors are all that is wrong with a text, in the order of the text. It is never empty.
type Errors []*Error

// MostErrors is how many errors are told of one text.
const MostErrors = 20

// Error returns the errors a line each.
func (es Errors) Error() string {
	lines := make([]string, len(es))
	for i, e := range es {
		lines[i] = e.Error()
	}
	return strings.Join(lines, "\n")
}

// Unwrap returns the errors one by one.
func (es Errors) Unwrap() []error {
	list := make([]error, len(es))
	for i, e := range es {
		list[i] = e
	}
	return list
}

// didYouMean returns the remedy that offers the candidate nearest to word, or "".
func didYouMean(word string, candidates []string) string {
	if near, ok := Nearest(word, candidates); ok {
		return fmt.Sprintf("did you mean “%s”?", near)
	}
	return ""
}

// Kind is that of words or files that are wrong.
func (e *Error) Kind() fault.Kind { return fault.Invalid }

// Kind is that of words or files that are wrong.
func (es Errors) Kind() fault.Kind { return fault.Invalid }
