// Package findings looks over an estate for what is allowed by the language and
// still seldom meant: sentences that do nothing, exceptions that stand, machines
// that nobody can administer. The package is pure.
package findings

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// Level says how much a finding matters. The zero Level is invalid.
type Level uint8

// The levels, rising.
const (
	Note    Level = iota + 1 // worth knowing
	Caution                  // probably not meant
	Serious                  // exposes something, or leaves somebody without a way in
)

// String names the level.
func (l Level) String() string {
	return [...]string{"invalid", "note", "caution", "serious"}[min(l, 4)%4]
}

// Finding is one thing found.
type Finding struct {
	Level Level
	What  string
	Mend  string // what to do; may be empty
	At    sentence.Pos
}

// Look returns what is found in an estate and its plan at a moment, in the order
// of the files.
func Look(e *estate.Estate, p *flow.Plan, at time.Time) []Finding {
	l := &looker{e: e, p: p, at: at, resolve: flow.NewResolver(e, p), namings: flow.Namings(nil, e), doors: map[int32]flow.Addrs{}}
	for _, st := range e.Sentences {
		l.pos = st.At
		l.sentence(st.Sentence)
	}
	l.withoutAdministrator()
	return l.list
}

type looker struct {
	e       *estate.Estate
	p       *flow.Plan
	at      time.Time
	resolve flow.Resolver
	namings []flow.Naming
	doors   map[int32]flow.Addrs // the sources of all doors of a machine
	pos     sentence.Pos
	list    []Finding
}

func (l *looker) find(level Level, mend, format string, args ...any) {
	l.list = append(l.list, Finding{Level: level, What: fmt.Sprintf(format, args...), Mend: mend, At: l.pos})
}

func (l *looker) sentence(s sentence.Sentence) {
	switch s := s.(type) {
	case sentence.Allow:
		l.expired(s, s.Until)
		if l.empty(s, &s.From, &s.To) {
			return
		}
		l.guarded(s)
		l.reaches(s, s.From, s.To)
	case sentence.Deny:
		l.expired(s, s.Until)
	case sentence.Forward:
		l.expired(s, s.Until)
		if !l.empty(s, nil, &s.To) && s.Standing && flow.Active(s.Until, l.at) {
			l.standing(s, s.Until)
		}
	case sentence.Spread:
		if !l.empty(s, nil, &s.Over) {
			l.spread(s)
		}
	case sentence.Route:
		l.empty(s, nil, &s.To)
		l.members(s, s.For)
	case sentence.Permit:
		l.empty(s, &s.From, &s.To)
		if limit := l.e.Limits.Opening(); s.UpTo.Length() > limit {
			cut := s
			cut.UpTo = sentence.DurationOf(limit)
			l.find(Caution, "write it as: "+cut.String(), "this permit is for longer than the estate's limit of %s, and grants no more than that: %s", cut.UpTo, s)
		}
		l.members(s, s.People)
		l.members(s, s.Approvers)
	}
}

func (l *looker) expired(s sentence.Sentence, until time.Time) {
	if !flow.Active(until, l.at) {
		l.find(Note, "retract it", "this sentence ended at %s and does nothing: %s", until.UTC().Format(time.RFC3339), s)
	}
}

// empty finds sets that stand for nothing.
func (l *looker) empty(s sentence.Sentence, from, to *sentence.Set) bool {
	switch {
	case to != nil && len(l.resolve.Group(*to).Machines) == 0:
		l.find(Caution, "", "“%s” stands for no machine, so this sentence does nothing: %s", to, s)
	case from != nil && l.resolve.Source(*from).IsEmpty():
		l.find(Caution, "", "“from %s” stands for no address, so this sentence does nothing: %s", from, s)
	default:
		return false
	}
	return true
}

// guarded names the administrative services that an ordinary allow covers and
// does not open, and tells of those that a standing one does open.
func (l *looker) guarded(s sentence.Allow) {
	inside := l.resolve.Services(s.Services).Intersect(l.p.Guard)
	if inside.IsEmpty() {
		return
	}
	if s.Standing {
		if flow.Active(s.Until, l.at) {
			l.standing(s, s.Until)
		}
		return
	}
	level, mend := Note, ""
	if l.resolve.Services(s.Services).Equal(inside) {
		level, mend = Caution, "let people open it for a while: permit … to open …"
	}
	l.find(level, mend, "administrative services stay closed to an “allow”: %s in: %s", flow.PrintServices(inside, l.namings), s)
}

func (l *looker) standing(s sentence.Sentence, until time.Time) {
	l.find(Serious, "retract it as soon as it is not needed", "an administrative service is left open until %s: %s", until.UTC().Format(time.RFC3339), s)
}

// reaches finds an allow that no door leads to, and one whose names cover both
// families while its machines have one.
func (l *looker) reaches(s sentence.Allow, from, to sentence.Set) {
	source := l.resolve.Source(from)
	uses := l.leads(l.resolve.Group(to)).Intersect(source)
	if uses.IsEmpty() {
		l.find(Caution, "give the machines a public address, a forward or a spread", "no door leads from there to there, so this sentence opens nothing: %s", s)
		return
	}
	for _, all := range []flow.Addrs{flow.AllIPv4, flow.AllIPv6} {
		word := map[bool]string{true: "IPv4", false: "IPv6"}[all.Equal(flow.AllIPv4)]
		if source.Overlaps(all) && !uses.Overlaps(all) && !general(from) {
			l.find(Note, "", "“%s” has %s addresses, from which no door leads there: %s", from, word, s)
		}
	}
}

// leads returns the sources from which a door leads to any machine of a group.
// Machines are looked at once, however many sentences speak of them.
func (l *looker) leads(g *flow.Group) (all flow.Addrs) {
	var last flow.Addrs
	for _, m := range g.Machines {
		from, known := l.doors[m]
		if !known {
			for _, d := range l.p.DoorsTo(m) {
				from = from.Union(d.From)
			}
			l.doors[m] = from
		}
		if !from.Equal(last) { // most machines of a group are led to alike
			all, last = all.Union(from), from
		}
	}
	return all
}

// general reports whether a source is one of the wide words, which nobody
// expects to matter in each family.
func general(s sentence.Set) bool {
	return slices.ContainsFunc(s.List, func(a sentence.Atom) bool {
		return a.Kind() == sentence.Everywhere || a.Kind() == sentence.Internet
	})
}

// spread finds machines of a spread that share no family with its front.
func (l *looker) spread(s sentence.Spread) {
	for _, m := range l.resolve.Group(s.Over).Machines {
		led := slices.ContainsFunc(l.p.DoorsTo(m), func(d flow.Door) bool { return d.Via == s.Front.Text })
		if !led {
			l.find(Caution, "", "%s cannot be reached by front %s: they share no network or family: %s", l.p.Machines[m].Name, s.Front, s)
		}
	}
}

// members finds groups that nobody belongs to.
func (l *looker) members(s sentence.Sentence, names []sentence.Name) {
	for _, n := range names {
		if !slices.ContainsFunc(l.e.People, func(p estate.Person) bool { return l.e.Belongs(p.Name, n.Text) }) {
			l.find(Caution, "", "nobody is in “%s”: %s", n, s)
		}
	}
}

// withoutAdministrator finds machines that nobody has a way to administer: no
// permit, route or standing exception names an administrative service of theirs.
func (l *looker) withoutAdministrator() {
	way := make([]bool, len(l.p.Machines))
	mark := func(services sentence.Services, to sentence.Set) {
		if l.resolve.Services(services).Overlaps(l.p.Guard) {
			for _, m := range l.resolve.Group(to).Machines {
				way[m] = true
			}
		}
	}
	for _, st := range l.e.Sentences {
		switch s := st.Sentence.(type) {
		case sentence.Permit:
			mark(s.Services, s.To)
		case sentence.Route:
			mark(s.Services, s.To)
		case sentence.Allow:
			if s.Standing && flow.Active(s.Until, l.at) {
				mark(s.Services, s.To)
			}
		}
	}
	var names []string
	l.pos = sentence.Pos{}
	for i, m := range l.p.Machines {
		if !way[i] {
			names = append(names, m.Name)
			if l.pos.File == "" {
				n, _ := l.e.Lookup(m.Name)
				l.pos = n.At
			}
		}
	}
	if len(names) == 0 {
		return
	}
	who := strings.Join(names, ", ")
	if len(names) > 5 {
		who = fmt.Sprintf("%s and %d more", strings.Join(names[:5], ", "), len(names)-5)
	}
	l.find(Note, "permit … to open ssh to …", "nobody has a way to administer %s: no permit, route or standing exception", who)
}
