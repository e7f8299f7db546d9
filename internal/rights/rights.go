// Package rights tells what people may do that is not open by itself, and how that differs
// between two estates: what they may open for a while, reach through a bastion, approve,
// and close for others.
//
// What somebody may is the union of all sentences that concern them, so a difference is one
// of sets and not of texts: a permit that is retracted while another covers the same takes
// nothing away, and a group, a tag or a source that changes its meaning gives or takes
// without a word of the permits being altered.
//
// The package is pure.
package rights

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbark/internal/bastion"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
)

// Kind says what a right is to do. The zero Kind is invalid.
type Kind uint8

// The kinds.
const (
	Open    Kind = iota + 1 // services for a while
	Reach                   // services through a bastion
	Approve                 // what others ask to open
	Close                   // what others opened
	Second                  // approve edits of others, where the estate asks for that
)

// String names the kind.
func (k Kind) String() string {
	return [...]string{"invalid", "open", "reach", "approve", "close", "approve-edits"}[min(k, 6)%6]
}

// Right is what some people may do.
type Right struct {
	Kind      Kind
	People    []string // by name, in order
	Machines  []string // by name, in order; none for Close and Second
	Flows     flow.Box // nothing for Close and Second
	Via       string   // the bastion, for Reach
	Length    time.Duration
	Approvals int       // how many an opening needs
	Approvers []string  // people and groups who may give them
	Emergency bool      // in an emergency alone
	Until     time.Time // when it ends, by the sentence or with the person; zero: it has no end. Of people together ([At]) by the sentence alone
	Source    string    // the sources, as the sentence says them
	Origin    flow.Origin
	Denied    flow.Origin // in a difference: the deny that takes it, or took it; the zero Origin where no deny does
	Instead   *Right      // in a difference: what of the same flows the other side gives, less generously or for less long; nil: nothing
}

// Difference is what people may do after and not before, and the other way round.
type Difference struct{ Gained, Lost []Right }

// IsEmpty reports whether nobody may more or less.
func (d Difference) IsEmpty() bool { return len(d.Gained)+len(d.Lost) == 0 }

// State is an estate with its plan.
type State struct {
	Estate *estate.Estate
	Plan   *flow.Plan
}

// Leads is the group whose members may close what others opened. Where it has none, everybody whom the estate knows may.
const Leads = "leads"

// closers are the people and groups who may close what others opened.
func closers(e *estate.Estate) (list []sentence.Name) {
	for _, p := range e.People {
		if e.Belongs(p.Name, Leads) {
			return []sentence.Name{{Text: Leads}}
		}
		list = append(list, sentence.Name{Text: p.Name})
	}
	return list
}

// MayClose reports whether a person may close what others opened.
func MayClose(person string, e *estate.Estate) bool {
	return e.PersonKnown(person) && slices.ContainsFunc(closers(e), func(n sentence.Name) bool { return e.Belongs(person, n.Text) })
}

// Compare finds the difference from a to b. What is lost with a machine that is removed is
// not told. Cost: linear in sentences × people of different memberships, and sentences that
// differ × sentences × machines for each of those.
func Compare(a, b State) Difference { return compare(a, b, true) }

// CompareDenies is [Compare] for estates that differ in denies alone: what bastions lead to is left out, which is most of the cost.
func CompareDenies(a, b State) Difference { return compare(a, b, false) }

func compare(a, b State, routes bool) Difference {
	own := a.Plan.Own().Union(b.Plan.Own()) // no sources on either side
	before, after := grantsOf(a, own, routes), grantsOf(b, own, routes)
	removed := func(machine string) bool { _, there := b.Plan.MachineByName(machine); return !there }
	type class struct {
		mine, theirs held
		people       []string
	}
	var classes []*class
	alike := map[string]*class{}
	for _, person := range people(a.Estate, b.Estate) {
		mine, theirs := before.of(person, a.Estate), after.of(person, b.Estate)
		key := fmt.Sprint(mine.list, mine.end.UTC(), theirs.list, theirs.end.UTC())
		if alike[key] == nil {
			alike[key] = &class{mine: mine, theirs: theirs}
			classes = append(classes, alike[key])
		}
		alike[key].people = append(alike[key].people, person)
	}
	var gained, lost gathered
	was, is := denies(a.Plan), denies(b.Plan)
	lifted, newly := newDenies(was, is), newDenies(is, was)
	for _, c := range classes {
		gained.add(c.people, more(c.theirs, c.mine, nil))
		gained.add(c.people, c.theirs.keptOut(c.mine, lifted, is, nil))
		lost.add(c.people, more(c.mine, c.theirs, removed))
		lost.add(c.people, c.mine.keptOut(c.theirs, newly, was, removed))
	}
	for _, r := range slices.Concat(gained.list, lost.list) {
		slices.Sort(r.People)
	}
	return Difference{Gained: gained.list, Lost: lost.list}
}

// Of lists what one person may do, in the order of the sentences that give it.
func Of(person string, s State) (list []Right) {
	h := grantsOf(s, s.Plan.Own(), true).of(person, s.Estate)
	for _, i := range h.list {
		r := h.all.list[i].Right
		r.People, r.Until = []string{person}, h.until(i)
		list = append(list, r)
	}
	return list
}

// At lists what people may do to one machine, in the order of the sentences that give it.
// What nobody may is left out. Cost: linear in sentences × people.
func At(machine string, s State) (list []Right) {
	for _, g := range grantsOf(s, s.Plan.Own(), true).list {
		if !slices.Contains(g.Machines, machine) {
			continue
		}
		r := g.Right
		r.Machines = []string{machine}
		for _, p := range s.Estate.People {
			if g.gives(p.Name, s.Estate) {
				r.People = append(r.People, p.Name)
			}
		}
		if len(r.People) > 0 {
			list = append(list, r)
		}
	}
	return list
}

// people lists the people of two estates, each once, in order.
func people(a, b *estate.Estate) (names []string) {
	for _, p := range slices.Concat(a.People, b.People) {
		names = append(names, p.Name)
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// grant is a right with what makes it the same as another.
type grant struct {
	Right
	key string
	to  []sentence.Name
}

// grants are all rights that an estate's sentences give, whoever they give them to.
type grants struct {
	list []grant
	ends map[string]time.Time // of people who have one
}

// gives reports whether a grant is somebody's.
func (g grant) gives(person string, e *estate.Estate) bool {
	return slices.ContainsFunc(g.to, func(n sentence.Name) bool { return e.Belongs(person, n.Text) })
}

// held are grants that one person has, by their places.
type held struct {
	all  *grants
	list []int
	end  time.Time // of whatever the person may do; zero: none
}

// until is when the person has a grant no more.
func (h held) until(i int) time.Time { return flow.Earlier(h.all.list[i].Until, h.end) }

// keys are those of what the person is granted.
func (h held) keys() map[string]bool {
	keys := make(map[string]bool, len(h.list))
	for _, i := range h.list {
		keys[h.all.list[i].key] = true
	}
	return keys
}

// reader puts the words of sentences into sets, each of the same words once.
type reader struct {
	State
	resolve  flow.Resolver
	own      flow.Addrs
	machines map[string][]string
	flows    map[string]flow.Box
	keys     map[string]string
	policies map[string]*bastion.Policy // by bastion; nil where it is not there
}

func (r *reader) machinesOf(to sentence.Set) []string {
	text := to.String()
	names, known := r.machines[text]
	if !known {
		for _, m := range r.resolve.Group(to).Machines {
			names = append(names, r.Plan.Machines[m].Name)
		}
		slices.Sort(names)
		r.machines[text] = names
	}
	return names
}

func (r *reader) box(services sentence.Services, from sentence.Set) flow.Box {
	text := services.String() + " from " + from.String()
	box, known := r.flows[text]
	if !known {
		box = flow.Box{Services: r.resolve.Services(services), From: r.resolve.Source(from).Subtract(r.own)}
		r.flows[text] = box
	}
	return box
}

// key tells rights of the same sets by the same text.
func (r *reader) key(right Right, services sentence.Services, from, to sentence.Set) string {
	of := func(text string, print func() string) string {
		if r.keys[text] == "" {
			r.keys[text] = print()
		}
		return r.keys[text]
	}
	return fmt.Sprint(right.Kind, right.Via, right.Length, right.Approvals, right.Emergency, right.Until.UTC(),
		of("to "+to.String(), func() string { return strings.Join(right.Machines, " ") }), "|",
		of(services.String()+" from "+from.String(), func() string {
			return fmt.Sprint(flow.ServiceRuns(right.Flows.Services), flow.AddrRuns(right.Flows.From))
		}))
}

// route is what a route lets people reach: what its gateway forwards, from where that can be reached.
func (r *reader) route(m sentence.Route) Right {
	policy, known := r.policies[m.Via.Text]
	if !known {
		policy, _ = bastion.Compile(r.Estate, r.Plan, m.Via.Text)
		r.policies[m.Via.Text] = policy
	}
	right := Right{Kind: Reach, Via: m.Via.Text}
	if policy == nil {
		return right
	}
	right.Flows = flow.Box{Services: r.resolve.Services(m.Services).Intersect(bastion.Forwardable), From: policy.From.Subtract(r.own)}
	for _, name := range r.machinesOf(m.To) {
		if at, there := r.Plan.MachineByName(name); there && policy.Reaches(at) {
			right.Machines = append(right.Machines, name)
		}
	}
	return right
}

// grantsOf reads all rights that an estate gives; those through bastions where routes says so.
func grantsOf(s State, own flow.Addrs, routes bool) *grants {
	g := &grants{ends: map[string]time.Time{}}
	for _, p := range s.Estate.People {
		if !p.Until.IsZero() {
			g.ends[p.Name] = p.Until
		}
	}
	r := &reader{State: s, resolve: flow.NewResolver(s.Estate, s.Plan), own: own, machines: map[string][]string{}, flows: map[string]flow.Box{}, keys: map[string]string{}, policies: map[string]*bastion.Policy{}}
	add := func(people []sentence.Name, services sentence.Services, to, from sentence.Set, right Right) {
		right.Flows, right.Machines = r.box(services, from), r.machinesOf(to)
		if !right.Flows.IsEmpty() && len(right.Machines) > 0 {
			g.list = append(g.list, grant{Right: right, key: r.key(right, services, from, to), to: people})
		}
	}
	for _, st := range s.Estate.SentencesOf(sentence.VerbPermit, sentence.VerbRoute) {
		switch m := st.Sentence.(type) {
		case sentence.Permit:
			origin := flow.OriginOf(st)
			may := Right{Kind: Open, Length: opening.Longest(m, s.Estate.Limits), Approvals: m.Approvals, Emergency: m.Emergency, Until: m.Until, Source: m.From.String(), Origin: origin}
			for _, n := range m.Approvers {
				may.Approvers = append(may.Approvers, n.Text)
			}
			add(m.People, m.Services, m.To, m.From, may)
			if m.Approvals > 0 {
				add(m.Approvers, m.Services, m.To, m.From, Right{Kind: Approve, Until: m.Until, Origin: origin})
			}
		case sentence.Route:
			if !routes {
				continue
			}
			if right := r.route(m); len(right.Machines) > 0 && !right.Flows.IsEmpty() {
				right.Origin = flow.OriginOf(st)
				g.list = append(g.list, grant{Right: right, key: right.text(), to: m.For})
			}
		}
	}
	g.list = append(g.list, grant{Right: Right{Kind: Close}, key: "close", to: closers(s.Estate)})
	if edits := s.Estate.Edits; edits.Approvals > 0 {
		second := grant{Right: Right{Kind: Second}, key: "approve edits"}
		for _, name := range edits.From {
			second.to = append(second.to, sentence.Name{Text: name})
		}
		g.list = append(g.list, second)
	}
	return g
}

// of lists what one person is granted.
func (g *grants) of(person string, e *estate.Estate) held {
	h := held{all: g, end: g.ends[person]}
	if !e.PersonKnown(person) {
		return h
	}
	for i, one := range g.list {
		if one.gives(person, e) {
			h.list = append(h.list, i)
		}
	}
	return h
}

// covers reports whether r gives in its flows what g does, at least as generously and for at least as long.
func (r Right) covers(g Right) bool {
	return flow.Lasts(r.Until, g.Until) && r.Kind == g.Kind && r.Via == g.Via && r.Emergency == g.Emergency && r.Length >= g.Length && r.Approvals <= g.Approvals
}

// more lists what the first has and the second has not, leaving out some machines.
func more(mine, theirs held, without func(machine string) bool) (list []Right) {
	same := theirs.keys()
	for _, i := range mine.list {
		r := mine.all.list[i]
		r.Until = mine.until(i)
		switch {
		case same[r.key] && flow.Lasts(theirs.end, r.Until): // by the same end of the sentence
		case r.Kind == Close || r.Kind == Second:
			list = append(list, r.Right)
		default:
			var others, lesser []Right
			for _, j := range theirs.list {
				o := theirs.all.list[j]
				if o.Until = theirs.until(j); o.Flows.Intersect(r.Flows).IsEmpty() {
					continue
				}
				if o.covers(r.Right) {
					others = append(others, o.Right)
				} else if o.Kind == r.Kind && o.Via == r.Via {
					lesser = append(lesser, o.Right)
				}
			}
			for _, one := range beyond(r.Right, others, without) {
				one.Instead = one.most(lesser)
				list = append(list, one)
			}
		}
	}
	return list
}

// beyond lists what of a right no other covers, a right for each set of machines that fare alike.
func beyond(r Right, others []Right, without func(machine string) bool) (list []Right) {
	alike := map[string][]string{}
	covering := map[string][]flow.Box{}
	for _, machine := range r.Machines {
		if without != nil && without(machine) {
			continue
		}
		var boxes []flow.Box
		var key strings.Builder
		for i, o := range others {
			if _, has := slices.BinarySearch(o.Machines, machine); has {
				boxes = append(boxes, o.Flows)
				fmt.Fprint(&key, i, " ")
			}
		}
		alike[key.String()] = append(alike[key.String()], machine)
		covering[key.String()] = boxes
	}
	for key, machines := range alike {
		for _, rest := range r.Flows.Less(covering[key]) {
			one := r
			one.Machines, one.Flows = machines, rest
			list = append(list, one)
		}
	}
	slices.SortFunc(list, func(a, b Right) int {
		return cmp.Or(slices.Compare(a.Machines, b.Machines), cmp.Compare(a.text(), b.text()))
	})
	return list
}

// most returns the most generous of some rights that give all flows of r; nil where none does.
func (r Right) most(list []Right) (most *Right) {
	for _, o := range list {
		lacks := func(machine string) bool { _, has := slices.BinarySearch(o.Machines, machine); return !has }
		if slices.ContainsFunc(r.Machines, lacks) || len(r.Flows.Less([]flow.Box{o.Flows})) > 0 {
			continue
		}
		if most == nil || cmp.Or(cmp.Compare(o.Length, most.Length), cmp.Compare(most.Approvals, o.Approvals)) > 0 {
			most = &o
		}
	}
	return most
}

// text is what a right is of, but for people: two of the same text are one right.
func (r Right) text() string {
	return fmt.Sprint(r.Kind, r.Machines, flow.ServiceRuns(r.Flows.Services), flow.AddrRuns(r.Flows.From), r.Via, r.Length, r.Approvals, r.Emergency, r.Until.UTC(), r.Denied)
}

// gathered are rights of people, those of the same sentence and sets together.
type gathered struct {
	list []Right
	at   map[string]int
}

func (g *gathered) add(people []string, rights []Right) {
	if g.at == nil {
		g.at = map[string]int{}
	}
	for _, r := range rights {
		key := fmt.Sprint(r.Origin.File, r.Origin.Line, r.text())
		i, known := g.at[key]
		if !known {
			i = len(g.list)
			g.at[key] = i
			g.list = append(g.list, r)
		}
		for _, p := range people {
			if !slices.Contains(g.list[i].People, p) {
				g.list[i].People = append(g.list[i].People, p)
			}
		}
	}
}
