package view

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"ironbark/internal/estate"
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// cited are the sentences that rows of a listing refer to by their places. Each is told
// once, below.
type cited struct {
	list  [][]string // places and words
	known map[string]bool
}

// cite returns the place of what decided about something, as rows refer to it: “:7” of
// estate.rules, team.rules:7, or an opening's number.
func (c *cited) cite(ph *Phrasing, o flow.Origin, opening int64) string {
	ref, words := "", o.Sentence
	switch at := place(o); {
	case opening > 0:
		ref = fmt.Sprintf("opening %d", opening)
		words = strings.TrimPrefix(ph.because(o, opening), ref+" ")
	case o.File == estate.RulesName:
		ref = fmt.Sprintf("%s:%d", ph.mark, o.Line)
	case at != "":
		ref = ph.mark + at
	case o.IsOpenNetwork():
		return o.Sentence
	case len(o.Sentence) <= len("bastion ")+16: // it stands in no file, and is short: bastion beacon
		return o.Sentence
	default: // done by somebody else
		ref = "others"
		for n := 2; c.known[ref] && !c.told(ref, words); n++ {
			ref = fmt.Sprintf("others %d", n)
		}
	}
	if c.known == nil {
		c.known = map[string]bool{}
	}
	if !c.known[ref] {
		c.known[ref] = true
		c.list = append(c.list, []string{ref, words})
	}
	return ref
}

// told reports whether a place was cited with these words.
func (c *cited) told(ref, words string) bool {
	return slices.ContainsFunc(c.list, func(one []string) bool { return one[0] == ref && one[1] == words })
}

// tell prints the sentences that were cited, each with its place.
func (c *cited) tell(p *Printer, indent string) {
	wide := 0
	for _, one := range c.list {
		wide = max(wide, len(one[0]))
	}
	for _, one := range c.list {
		p.Wrap(fmt.Sprintf("%s%-*s  ", indent, wide, one[0]), one[1])
	}
}

// flowRows are the cells of the first rows of what is open: machine, services, source,
// doors, end, and what decided. A machine that has several rows is named in the first.
func (p *Printer) flowRows(rows []entryRow, most int, ph *Phrasing, end func(entryRow) string, c *cited) (cells [][]string) {
	slices.SortStableFunc(rows, func(a, b entryRow) int {
		return cmp.Or(sentence.CompareNames(a.machine, b.machine), administrativeFirst(a, b))
	})
	rows = rows[:min(len(rows), most)]
	last := ""
	for _, r := range rows {
		machine := r.machine
		if machine == last {
			machine = ""
		}
		last = r.machine
		cells = append(cells, []string{
			machine, p.marked(r.services, ph), ph.names.Plain(r.from), strings.Join(r.doors, ", "), end(r), c.cause(ph, r.entry.Cause),
		})
	}
	return cells
}

// cause cites what lets flows in, and the openings that keep them open after that.
func (c *cited) cause(ph *Phrasing, why exposure.Cause) string {
	text := c.cite(ph, why.Origin, why.Opening)
	for _, id := range why.Then {
		text += ", then " + c.cite(ph, flow.Origin{}, id)
	}
	return text
}

// marked prints services with a mark behind each administrative one.
func (p *Printer) marked(s flow.Services, ph *Phrasing) string {
	open := p.Open
	if ph.mark != "" { // it was open
		open = plain
	}
	return markedWith(s, ph, open)
}

// markedWith is marked with a style for what is administrative.
func markedWith(s flow.Services, ph *Phrasing, open func(string) string) string {
	admin := s.Intersect(ph.plan.AdminServices.Union(flow.ConsoleOnly))
	if admin.IsEmpty() {
		return ph.service(s)
	}
	text := ph.service(s)
	if strings.HasPrefix(text, "any") { // the exceptions may be administrative too
		return open(strings.Replace(text, "any", "any!", 1))
	}
	words := strings.Split(ph.service(admin), ", ")
	for i, w := range words {
		words[i] = open(w + "!")
	}
	if rest := s.Subtract(admin); !rest.IsEmpty() {
		words = append(words, ph.service(rest))
	}
	return strings.Join(words, ", ")
}

// people lists people by name, a group's name in place of all of its members.
func people(names []string, e *estate.Estate) string {
	members := map[string][]string{}
	for _, p := range e.People {
		for _, g := range p.Groups {
			members[g] = append(members[g], p.Name)
		}
	}
	for _, g := range slices.Sorted(maps.Keys(members)) {
		if list := members[g]; len(list) > 1 && sameSet(list, names) {
			return g
		}
	}
	return few(names)
}

func sameSet(a, b []string) bool {
	return slices.Equal(slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b)))
}

func few(names []string) string { return sentence.First(names) }
