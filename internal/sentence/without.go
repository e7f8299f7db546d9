package sentence

import (
	"slices"
	"time"
)

// Without returns a sentence that speaks no more of what has certain names, and
// whether anything is left that it says. A sentence whose set becomes empty, or
// whose front or bastion is gone, says nothing. Patterns and tags stay.
func Without(s Sentence, gone func(name string) bool) (Sentence, bool) {
	ok := true
	set := func(s Set) Set {
		if s.IsEmpty() {
			return s
		}
		out := Set{List: atomsWithout(s.List, gone), Except: atomsWithout(s.Except, gone)}
		ok = ok && len(out.List) > 0
		return out
	}
	switch s := s.(type) {
	case Allow:
		s.From, s.To = set(s.From), set(s.To)
		return s, ok
	case Deny:
		s.From, s.To = set(s.From), set(s.To)
		return s, ok
	case Forward:
		s.From, s.To = set(s.From), set(s.To)
		return s, ok && !gone(s.Front.Text)
	case Spread:
		s.From, s.Over = set(s.From), set(s.Over)
		return s, ok && !gone(s.Front.Text)
	case Route:
		s.To = set(s.To)
		return s, ok && !gone(s.Via.Text)
	case Permit:
		s.From, s.To = set(s.From), set(s.To)
		return s, ok
	case Never:
		s.From, s.To = set(s.From), set(s.To)
		return s, ok
	case Always:
		s.From, s.To = set(s.From), set(s.To)
		return s, ok
	}
	return s, true
}

func atomsWithout(list []Atom, gone func(name string) bool) []Atom {
	return slices.DeleteFunc(slices.Clone(list), func(a Atom) bool { return a.Kind() == Named && gone(a.Text()) })
}

// EndOf returns the end that a sentence states; zero where it states none.
func EndOf(s Sentence) time.Time {
	switch s := s.(type) {
	case Allow:
		return s.Until
	case Deny:
		return s.Until
	case Forward:
		return s.Until
	case Permit:
		return s.Until
	}
	return time.Time{}
}

// Ended reports whether the end that a sentence states has come at a moment.
func Ended(s Sentence, at time.Time) bool {
	end := EndOf(s)
	return !end.IsZero() && !at.Before(end)
}

// SourceOf returns the source of a sentence; the absent set of one that has none.
func SourceOf(s Sentence) Set {
	switch s := s.(type) {
	case Allow:
		return s.From
	case Deny:
		return s.From
	case Forward:
		return s.From
	case Spread:
		return s.From
	case Permit:
		return s.From
	case Never:
		return s.From
	case Always:
		return s.From
	case Open:
		return s.From
	case Ask:
		return s.From
	}
	return Set{}
}

// FromAll reports whether the source of a sentence names all machines, which is easily taken
// for everybody.
func FromAll(s Sentence) bool {
	var to Set // what machines call outside, perhaps: then only they can be meant
	switch s := s.(type) {
	case Allow:
		to = s.To
	case Deny:
		to = s.To
	case Never:
		to = s.To
	case Always:
		to = s.To
	case Ask:
		to = s.To
	}
	called := slices.ContainsFunc(to.List, func(a Atom) bool {
		return a.kind == Internet || a.kind == Address || a.kind == Prefix || a.kind == Range
	})
	return !called && slices.ContainsFunc(SourceOf(s).List, func(a Atom) bool { return a.kind == All })
}
