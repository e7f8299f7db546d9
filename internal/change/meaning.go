package change

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbark/internal/estate"
	"ironbark/internal/sentence"
)

// Meaning is a word of an estate that stands for something else in the next one, or that
// only one of them has: sentences that name it mean something else though their words stay.
type Meaning struct {
	Verb          Verb
	Kind          string // service, source, person, key, authority, recipient, edits, admin, limit or stun
	Name          string
	Before, After string // what it stands for; "": it is not there
}

// String tells how it changes.
func (m Meaning) String() string {
	switch m.Verb {
	case Make:
		return m.After
	case Remove:
		return m.Before
	}
	return fmt.Sprintf("%s → %s", cmp.Or(m.Before, "nothing"), cmp.Or(m.After, "nothing"))
}

// wordKinds are the kinds of words, in the order in which they are told, each with what an estate says of it.
var wordKinds = []struct {
	name string
	said func(*estate.Estate) []Meaning
}{
	{"service", services},
	{"source", sources},
	{"admin", admin},
	{"person", people},
	{"key", endingKeys},
	{"authority", authorities},
	{"recipient", recipients},
	{"limit", limits},
	{"edits", edits},
	{"stun", stun},
}

// Said lists all words of an estate with what they stand for, as After; limits that hold without being said are among them.
func Said(e *estate.Estate) (list []Meaning) {
	for _, k := range wordKinds {
		for _, m := range k.said(e) {
			m.Verb, m.Kind = Make, k.name
			list = append(list, m)
		}
	}
	return list
}

// Meanings lists the words that stand for something else in b than in a: services, sources,
// what is administrative, people with their groups and keys, authorities, recipients, limits, and who tells what “me” is. What is made of
// resources is told by [Diff].
func Meanings(a, b *estate.Estate) (list []Meaning) {
	find := func(in []Meaning, name string) (Meaning, bool) {
		i := slices.IndexFunc(in, func(m Meaning) bool { return m.Name == name })
		if i < 0 {
			return Meaning{}, false
		}
		return in[i], true
	}
	for _, k := range wordKinds {
		before, after := k.said(a), k.said(b)
		for _, m := range after {
			old, there := find(before, m.Name)
			switch {
			case !there:
				list = append(list, Meaning{Verb: Make, Kind: k.name, Name: m.Name, After: m.After})
			case old.After != m.After:
				list = append(list, Meaning{Verb: Alter, Kind: k.name, Name: m.Name, Before: old.After, After: m.After})
			}
		}
		for _, m := range before {
			if _, there := find(after, m.Name); !there {
				list = append(list, Meaning{Verb: Remove, Kind: k.name, Name: m.Name, Before: m.After})
			}
		}
	}
	return list
}

func services(e *estate.Estate) (list []Meaning) {
	for _, s := range e.Services {
		list = append(list, Meaning{Name: s.Name, After: joined(s.Ports)})
	}
	return list
}

func sources(e *estate.Estate) (list []Meaning) {
	for _, s := range e.Sources {
		list = append(list, Meaning{Name: s.Name, After: joined(s.Ranges)})
	}
	return list
}

// admin tells each service that the estate adds to the administrative ones, with its ports.
func admin(e *estate.Estate) (list []Meaning) {
	for _, s := range e.Admin {
		m := Meaning{Name: s.String(), After: "administrative"}
		if name, named := s.Name(); named {
			ports, _ := e.Ports(name)
			m.After += ", " + joined(ports)
		}
		list = append(list, m)
	}
	return list
}

func people(e *estate.Estate) (list []Meaning) {
	for _, p := range e.People {
		groups := slices.Sorted(slices.Values(p.Groups))
		what := "in no group"
		if len(groups) > 0 {
			what = "in " + strings.Join(groups, ", ")
		}
		for _, key := range p.Keys {
			what += ", key " + tail(key)
			if end := p.Ends[key]; !end.IsZero() {
				what += " until " + end.UTC().Format(time.RFC3339)
			}
		}
		if !p.Until.IsZero() {
			what += ", until " + p.Until.UTC().Format(time.RFC3339)
		}
		list = append(list, Meaning{Name: p.Name, After: what})
	}
	return list
}

// endingKeys tells of keys that have an end when that is. All else of keys is told by [Diff].
func endingKeys(e *estate.Estate) (list []Meaning) {
	for _, k := range e.Keys {
		if !k.Until.IsZero() {
			list = append(list, Meaning{Name: k.Name, After: "lets nobody log in from " + k.Until.UTC().Format(time.RFC3339) + " on"})
		}
	}
	return list
}

func authorities(e *estate.Estate) (list []Meaning) {
	for _, a := range e.Authorities {
		list = append(list, Meaning{Name: a.Name, After: "certificates of key " + tail(a.Public) + " let people log in to gateways"})
	}
	return list
}

// recipients tells who is told of entries of the journal. A command is told whole: whoever enacts it has it run.
func recipients(e *estate.Estate) (list []Meaning) {
	for _, t := range e.Recipients {
		what := "all of the journal"
		if len(t.Only) > 0 {
			what = "of " + strings.Join(t.Only, ", ")
		}
		if t.Syslog.CA != "" {
			what += ", by " + t.Syslog.CA
		}
		list = append(list, Meaning{Name: t.Name, After: "is told " + what + ": " + t.To()})
	}
	return list
}

// tail is the end of a public key, by which people tell keys apart.
func tail(key string) string {
	words := strings.Fields(key)
	if len(words) < 2 {
		return key
	}
	blob := strings.TrimRight(words[1], "=")
	return "…" + blob[max(0, len(blob)-8):]
}

func limits(e *estate.Estate) []Meaning {
	return []Meaning{{Name: "opening", After: sentence.DurationOf(e.Limits.Opening()).String()}, {Name: "image", After: sentence.DurationOf(e.Limits.Image()).String()}}
}

// edits tells who else has to approve edits.
func edits(e *estate.Estate) []Meaning {
	if e.Edits.Approvals == 0 {
		return nil
	}
	return []Meaning{{Name: "approvals", After: fmt.Sprintf("that open anything, weaken a guarantee or give rights need %d of %s", e.Edits.Approvals, strings.Join(e.Edits.From, " or "))}}
}

// stun is who tells what “me” stands for.
func stun(e *estate.Estate) []Meaning {
	if e.STUN == "" {
		return nil
	}
	return []Meaning{{Name: "me", After: e.STUN}}
}

func joined[T fmt.Stringer](items []T) string {
	words := make([]string, len(items))
	for i, item := range items {
		words[i] = item.String()
	}
	return strings.Join(words, ", ")
}
