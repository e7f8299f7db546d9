package estate

import (
	"fmt"
	"time"

	"go.yaml.in/yaml/v4"

	"ironbark/internal/sentence"
)

// AsOf returns the estate as rights are at a moment: people, keys of theirs and permits whose end has come grant nothing in it. All of them are still listed. It shares all of its parts with e. Cost: constant.
func (e *Estate) AsOf(at time.Time) *Estate {
	if e == nil {
		return nil
	}
	then := *e
	then.at = at
	return &then
}

// ended reports whether an end has come at a moment; no end does, and at no moment any.
func ended(until, at time.Time) bool { return !until.IsZero() && !at.IsZero() && !at.Before(until) }

// EndOf is when a person's rights end; zero: never, or there is no such person.
func (e *Estate) EndOf(person string) time.Time {
	for _, p := range e.People {
		if p.Name == person {
			return p.Until
		}
	}
	return time.Time{}
}

// KeyEnded reports whether the end of a machines' key has come, and when it did.
func (e *Estate) KeyEnded(name string) (until time.Time, over bool) {
	i, known := e.names.keys[name]
	if !known {
		return time.Time{}, false
	}
	return e.Keys[i].Until, ended(e.Keys[i].Until, e.at)
}

// KeysOf lists the keys of a person whose end has not come; none where their own has.
func (e *Estate) KeysOf(p Person) (keys []string) {
	if ended(p.Until, e.at) {
		return nil
	}
	for _, k := range p.Keys {
		if !ended(p.Ends[k], e.at) {
			keys = append(keys, k)
		}
	}
	return keys
}

// NextEnd is the earliest end of a person, a key of theirs or a permit after the moment that the estate is of; zero where none comes.
func (e *Estate) NextEnd() (next time.Time) {
	take := func(t time.Time) {
		if t.After(e.at) && (next.IsZero() || t.Before(next)) {
			next = t
		}
	}
	for _, p := range e.People {
		take(p.Until)
		for _, t := range p.Ends {
			take(t)
		}
	}
	for _, st := range e.said.of(sentence.VerbPermit) {
		take(sentence.EndOf(st.Sentence))
	}
	return next
}

// holding leaves out permits whose end has come.
func (e *Estate) holding(list []sentence.Statement) []sentence.Statement {
	if e.at.IsZero() {
		return list
	}
	for i, st := range list {
		if _, permit := st.Sentence.(sentence.Permit); permit && ended(sentence.EndOf(st.Sentence), e.at) {
			left := append([]sentence.Statement{}, list[:i]...)
			for _, st := range list[i+1:] {
				if _, permit := st.Sentence.(sentence.Permit); !permit || !ended(sentence.EndOf(st.Sentence), e.at) {
					left = append(left, st)
				}
			}
			return left
		}
	}
	return list
}

// moment reads an end.
func (r *reader) moment(n *yaml.Node) time.Time {
	text, ok := r.text(n, "until")
	if !ok {
		return time.Time{}
	}
	t, err := time.Parse(time.RFC3339, text)
	if err != nil {
		r.failAt(n, fmt.Sprintf("%q is no time", text), "write it as 2026-11-23T18:00:00Z")
	}
	return t.UTC()
}

// endingKey reads a public key: a line, or one with its end.
func (r *reader) endingKey(n *yaml.Node, what string) (public string, until time.Time) {
	if n.Kind != yaml.MappingNode {
		return r.publicKey(n), time.Time{}
	}
	r.fields(n, what, map[string]field{
		"public": func(v *yaml.Node) { public = r.publicKey(v) },
		"until":  func(v *yaml.Node) { until = r.moment(v) },
	}, "public")
	return public, until
}
