// Package findings looks over an estate for what is allowed by the language and
// still seldom meant: sentences that do nothing, exceptions that stand, machines
// that nobody can administer, services that are hardly ever meant for everybody. The
// package is pure.
package findings

import (
	"slices"
	"sync"
	"time"

	"ironbark/internal/estate"
	"ironbark/internal/fault"
	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
	"ironbark/internal/parallel"
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

// Finding is one thing found. Those of one problem differ in their subjects.
type Finding struct {
	Level   Level
	Kind    Kind
	Problem string       // in words, without its subject
	Subject string       // a sentence or the name of a thing
	Remedy  fault.Advice // what to do; may be none
	At      sentence.Pos
}

// What tells the whole finding in a line.
func (f Finding) What() string { return f.Problem + ": " + f.Subject }

// Listening tells on what a machine listens; known is false where nobody can tell.
type Listening func(machine string) (services flow.Services, known bool)

// Lint returns what is found in an estate and its plan at a moment, in the order
// of the files. listens may be nil. Cost: that of a view of the plan, and linear in the sentences.
func Lint(e *estate.Estate, p *flow.Plan, at time.Time, listens Listening) []Finding {
	l := newLooker(Side{e, p}, at, listens)
	return append(slices.Concat(l.each(e.Sentences())...), l.besides()...)
}

// Side is an estate and its plan.
type Side struct {
	Estate *estate.Estate
	Plan   *flow.Plan
}

// LintBoth is [Lint] for two states of an estate: what is found after, and before, by [Finding.What]. Where they differ in sentences alone, those
// that stand on both sides are looked at once.
func LintBoth(before, after Side, at time.Time, listens Listening) (was map[string]bool, is []Finding) {
	l, m, now := newLooker(before, at, listens), newLooker(after, at, listens), after.Estate.Sentences()
	each := m.each(now)
	is = append(slices.Concat(each...), m.besides()...)
	alike := map[string]int{} // by its line, where a sentence stands after
	if before.Estate.SameNouns(after.Estate) && flow.SameDoors(before.Plan, after.Plan) {
		for i, st := range now {
			if !hangsOnOthers(st.Sentence) {
				alike[st.Text] = i
			}
		}
	}
	was = map[string]bool{}
	var others []sentence.Statement
	for _, st := range before.Estate.Sentences() {
		i, known := alike[st.Text]
		if !known {
			others = append(others, st)
			continue
		}
		for _, f := range each[i] {
			was[f.What()] = true
		}
	}
	for _, f := range append(slices.Concat(l.each(others)...), l.besides()...) {
		was[f.What()] = true
	}
	return was, is
}

// hangsOnOthers reports whether what is found of a sentence hangs on other sentences, and not on doors, machines and sources alone: of a door it is whether
// anybody gets in by it.
func hangsOnOthers(s sentence.Sentence) bool {
	switch s.(type) {
	case sentence.Forward, sentence.Spread:
		return true
	}
	return false
}

// looker looks over one state. It remembers what sentences have in common, and is not safe for concurrent use.
type looker struct {
	*common
	resolve flow.Resolver
	doors   map[int32]flow.Addrs // the sources of all doors of a machine that lead to all of its services
	led     map[*flow.Group]flow.Addrs
	ports   map[ported]flow.Addrs
	large   map[span.Memory[flow.Point]]bool
	pos     sentence.Pos
	list    []Finding
}

// common is what all lookers of one state share. It is safe for concurrent use.
type common struct {
	e        *estate.Estate
	p        *flow.Plan
	at       time.Time
	listens  Listening
	namings  []flow.Naming
	private  flow.Services
	families families
	least    float64

	publishedOn func() map[flow.Service]map[int32]flow.Addrs // by service, and then by machine, the sources from which ports of fronts lead there
	couldLet    func() []lets                                // by machine, what sentences let in there, or could
	outward     func() *flow.Plan                            // what machines call outside
	leftOpen    func() map[int32]string                      // by machine, the network that leaves calls open to it
}

func newLooker(of Side, at time.Time, listens Listening) *looker {
	c := &common{e: of.Estate, p: of.Plan, at: at, listens: listens, namings: flow.Particular(flow.Namings(nil, of.Estate)), private: privates(), families: familiesOf(of.Plan.Internet())}
	c.least = c.families.least()
	c.publishedOn, c.couldLet = sync.OnceValue(c.fronted), sync.OnceValue(c.letting)
	c.outward, c.leftOpen = sync.OnceValue(c.p.Calls), sync.OnceValue(c.networksLeftOpen)
	return c.looker()
}

func (c *common) looker() *looker {
	return &looker{common: c, resolve: flow.NewResolver(c.e, c.p), doors: map[int32]flow.Addrs{}, led: map[*flow.Group]flow.Addrs{}, ports: map[ported]flow.Addrs{}, large: map[span.Memory[flow.Point]]bool{}}
}

// each returns what is found of each of some sentences, on all processors.
func (l *looker) each(list []sentence.Statement) [][]Finding {
	out := make([][]Finding, len(list))
	parallel.Parts(len(list), func(from, to int) {
		l := l.looker()
		for i := from; i < to; i++ {
			l.pos, l.list = list[i].At, nil
			l.sentence(list[i].Sentence)
			out[i] = l.list
		}
	})
	return out
}

// besides returns what is found besides sentences.
func (l *looker) besides() []Finding {
	l.list = nil
	l.bastions()
	l.fronts()
	l.resolvers()
	l.withoutAdministrator()
	l.withoutLogin()
	return l.list
}

// identity is what tells two findings apart.
type identity struct {
	level            Level
	kind             Kind
	subject, problem string
	at               sentence.Pos
}

func (f Finding) identity() identity { return identity{f.Level, f.Kind, f.Subject, f.Problem, f.At} }

// find notes a finding; remedy is prose.
func (l *looker) find(level Level, kind Kind, subject, remedy, problem string) {
	l.advise(level, kind, subject, fault.Say(remedy), problem)
}

// advise notes a finding about which commands help.
func (l *looker) advise(level Level, kind Kind, subject string, advice fault.Advice, problem string) {
	l.list = append(l.list, Finding{Level: level, Kind: kind, Problem: problem, Subject: subject, Remedy: advice, At: l.pos})
}

// sentence looks at one. What is handed on is the interface, since each conversion would copy the whole sentence.
func (l *looker) sentence(whole sentence.Sentence) {
	switch s := whole.(type) {
	case sentence.Allow:
		if l.e.CallsOutside(s.To) {
			l.allowOutward(s)
			return
		}
		l.ended(whole, s.Until)
		if l.empty(whole, &s.From, &s.To) {
			return
		}
		if flow.Active(s.Until, l.at) {
			l.open(whole, s.Services, s.From, l.resolve.Group(s.To))
			l.host(s)
		}
		l.guarded(s)
		l.reaches(s, s.From, s.To)
	case sentence.Deny:
		if l.e.CallsOutside(s.To) {
			l.denyOutward(s)
			return
		}
		l.ended(whole, s.Until)
	case sentence.Forward:
		l.ended(whole, s.Until)
		if l.empty(whole, nil, &s.To) {
			return
		}
		if s.Standing && flow.Active(s.Until, l.at) {
			l.standing(whole, s.Until)
		}
		l.door(whole, s.On, s.From, s.To, s.Standing)
	case sentence.Spread:
		if !l.empty(whole, nil, &s.Over) {
			l.spread(s)
			l.tested(s)
			l.door(whole, s.On, s.From, s.Over, false)
		}
	case sentence.Route:
		l.empty(whole, nil, &s.To)
		l.members(whole, s.For)
	case sentence.Permit:
		if !l.empty(whole, &s.From, &s.To) {
			l.permit(s)
		}
		l.ended(whole, s.Until)
		l.members(whole, s.People)
		l.members(whole, s.Approvers)
	}
}

func (l *looker) ended(s sentence.Sentence, until time.Time) {
	if !flow.Active(until, l.at) {
		l.find(Note, Ended, s.String(), "retract it", "this sentence ended at "+until.UTC().Format(time.RFC3339)+" and does nothing")
	}
}

// empty finds sets that stand for nothing.
func (l *looker) empty(s sentence.Sentence, from, to *sentence.Set) bool {
	switch {
	case to != nil && len(l.resolve.Group(*to).Machines) == 0:
		l.find(Caution, Empty, s.String(), "retract it, or name machines that are there", "“"+to.String()+"” stands for no machine, so this sentence does nothing")
	case from != nil && l.resolve.Source(*from).IsEmpty():
		l.find(Caution, Empty, s.String(), "retract it, or name addresses", "“from "+from.String()+"” stands for no address, so this sentence does nothing")
	default:
		return false
	}
	return true
}

// guarded names the administrative services that an ordinary allow covers and
// does not open, and tells of those that a standing one does open.
func (l *looker) guarded(s sentence.Allow) {
	inside := l.resolve.Services(s.Services).Intersect(l.p.AdminServices)
	if inside.IsEmpty() {
		return
	}
	if s.Standing {
		if flow.Active(s.Until, l.at) {
			l.standing(s, s.Until)
		}
		return
	}
	level, remedy := Note, ""
	if l.resolve.Services(s.Services).Equal(inside) {
		level, remedy = Caution, "let people open it for a while: permit … to open …"
	}
	l.find(level, Guarded, s.String(), remedy, "administrative services stay closed to an “allow”: "+flow.PrintServices(inside, l.namings)+" in")
}

// elsewhere finds services that are led to from outside on ports to which administrative ones are often moved.
func (l *looker) elsewhere(s sentence.Sentence, services flow.Services) {
	for _, known := range movedServices {
		if set := services.Intersect(flow.ServicesOf(shipped{}, known.ports)).Subtract(l.p.AdminServices); !set.IsEmpty() && !services.Contains(flow.Other) {
			l.advise(Note, AdminElsewhere, s.String(), fault.Run("add", append([]string{"admin"}, flow.ServiceRuns(set)...)...),
				known.name+" is often moved there, and counts as administrative only where the estate says so: "+flow.PrintServices(set, l.namings)+" in")
		}
	}
}

// host finds what a sentence lets machines call on the site's host: each service is a note, and all of them are a caution.
func (l *looker) host(s sentence.Allow) {
	if !l.e.TargetsHost(s.To) {
		return
	}
	services := l.resolve.Services(s.Services)
	if !s.Standing {
		services = services.Subtract(l.p.AdminServices)
	}
	level, remedy := Note, ""
	if services.Contains(flow.Other) {
		level, remedy = Caution, "name the services that are meant"
	}
	if !services.IsEmpty() {
		l.find(level, HostReached, s.String(), remedy, "machines may call the site's host: "+flow.PrintServices(services, l.namings))
	}
}

func (l *looker) standing(s sentence.Sentence, until time.Time) {
	l.find(Serious, Standing, s.String(), "retract it as soon as it is not needed", "an administrative service is left open until "+until.UTC().Format(time.RFC3339))
}

// reaches finds an allow that no door leads to, and one whose names cover both
// families while its machines have one.
func (l *looker) reaches(s sentence.Allow, from, to sentence.Set) {
	source := l.resolve.Source(from)
	uses := l.leads(l.resolve.Group(to), l.resolve.Services(s.Services)).Intersect(source)
	if uses.IsEmpty() {
		l.find(Caution, NoDoor, s.String(), "give the machines a public address, a forward or a spread", "no door leads from there to there, so this sentence opens nothing")
		return
	}
	for _, all := range []flow.Addrs{flow.AllIPv4, flow.AllIPv6} {
		word := map[bool]string{true: "IPv4", false: "IPv6"}[all.Equal(flow.AllIPv4)]
		if source.Overlaps(all) && !uses.Overlaps(all) && !general(from) {
			l.find(Note, NoFamily, s.String(), "", "“"+from.String()+"” has "+word+" addresses, from which no door leads there")
		}
	}
}

// leads returns the sources from which a door leads to some services of any machine of a group.
func (l *looker) leads(g *flow.Group, services flow.Services) flow.Addrs {
	all := l.leadsToAll(g)
	for on, by := range l.publishedOn() {
		if services.Contains(on) {
			all = all.Union(l.published(g, on, by))
		}
	}
	return all
}

func (c *common) fronted() map[flow.Service]map[int32]flow.Addrs {
	fronted := map[flow.Service]map[int32]flow.Addrs{}
	for m := range c.p.Machines {
		for _, d := range c.p.DoorsTo(int32(m)) {
			if d.Own == nil {
				continue
			}
			by := fronted[d.Own.On]
			if by == nil {
				by = map[int32]flow.Addrs{}
				fronted[d.Own.On] = by
			}
			by[int32(m)] = by[int32(m)].Union(d.From)
		}
	}
	return fronted
}

// published returns the sources from which a front's port leads to a service of any machine of a group.
func (l *looker) published(g *flow.Group, on flow.Service, by map[int32]flow.Addrs) (from flow.Addrs) {
	key := ported{g, on}
	if known, ok := l.ports[key]; ok {
		return known
	}
	for _, m := range g.Machines {
		if add := by[m]; !add.IsEmpty() && !from.ContainsAll(add) {
			from = from.Union(add)
		}
	}
	l.ports[key] = from
	return from
}

// ported is a service that is led to and a group.
type ported struct {
	group *flow.Group
	on    flow.Service
}

// leadsToAll returns the sources from which a door leads to every service of any machine of a group.
// Machines are looked at once, however many sentences speak of them.
func (l *looker) leadsToAll(g *flow.Group) (all flow.Addrs) {
	if known, ok := l.led[g]; ok {
		return known
	}
	var last flow.Addrs
	for _, m := range g.Machines {
		from, known := l.doors[m]
		if !known {
			for _, d := range l.p.DoorsTo(m) {
				if !d.Translated() {
					from = from.Union(d.From)
				}
			}
			l.doors[m] = from
		}
		if !from.Equal(last) { // most machines of a group are led to alike
			all, last = all.Union(from), from
		}
	}
	l.led[g] = all
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
			l.find(Caution, NoFamily, s.String(), "", l.p.Machines[m].Name+" cannot be reached by front "+s.Front.Text+": they share no network or family")
		}
	}
}

// members finds groups that nobody belongs to.
func (l *looker) members(s sentence.Sentence, names []sentence.Name) {
	for _, n := range names {
		if !slices.ContainsFunc(l.e.People, func(p estate.Person) bool { return l.e.Belongs(p.Name, n.Text) }) {
			l.advise(Caution, Nobody, s.String(), fault.Run("change", "person", "NAME", "--group", n.Text), "nobody is in “"+n.Text+"”")
		}
	}
}

// withoutAdministrator finds machines that nobody has a way to administer: no
// permit, route or standing exception names an administrative service of theirs.
func (l *looker) withoutAdministrator() {
	way := make([]bool, len(l.p.Machines))
	mark := func(services flow.Services, to *flow.Group) {
		if services.Overlaps(l.p.AdminServices) {
			for _, m := range to.Machines {
				way[m] = true
			}
		}
	}
	for i := range l.p.Rules {
		if r := &l.p.Rules[i]; r.Origin.File != "" && (r.Kind == flow.Route || r.Kind == flow.Standing && r.Active(l.at)) { // what others put into the tables is no sentence
			mark(r.Services, r.To)
		}
	}
	for _, st := range l.e.SentencesOf(sentence.VerbPermit) {
		s := st.Sentence.(sentence.Permit)
		mark(l.resolve.Services(s.Services), l.resolve.Group(s.To))
	}
	for i, m := range l.p.Machines {
		if !way[i] && !m.IsSiteHost() {
			l.machine(Note, NoAdministrator, m.Name, fault.Say("permit PEOPLE to open admin to NAME from SOURCE up to 2h"), "nobody has a way to administer, by permit, route or standing exception")
		}
	}
}

// machine finds something of a machine, at its place in the files.
func (l *looker) machine(level Level, kind Kind, name string, advice fault.Advice, problem string) {
	n, _ := l.e.Lookup(name)
	l.pos = n.At
	l.advise(level, kind, name, advice, problem)
}
