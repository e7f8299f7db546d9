package estate

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"ironbark/internal/sentence"
)

// members finds machines by what targets say of them. Lists are ascending.
type members struct {
	all    []int
	at     map[string][]int // by subnet, and by network
	tagged map[Tag][]int
	sorted []int // by name, for patterns
}

func membersOf(e *Estate) members {
	m := members{at: map[string][]int{}, tagged: map[Tag][]int{}}
	for i, machine := range e.Machines {
		m.all = append(m.all, i)
		m.sorted = append(m.sorted, i)
		for _, t := range machine.Tags {
			m.tagged[t] = append(m.tagged[t], i)
		}
		for _, at := range machine.Subnets {
			m.at[at] = append(m.at[at], i)
			s, _ := e.Subnet(at)
			if list := m.at[s.Network]; len(list) == 0 || list[len(list)-1] != i {
				m.at[s.Network] = append(list, i)
			}
		}
	}
	slices.SortFunc(m.sorted, func(a, b int) int { return cmp.Compare(e.Machines[a].Name, e.Machines[b].Name) })
	return m
}

// Targets returns the machines that a target names, as places in e.Machines,
// ascending. Atoms that name no machines (a front, an address, the site's host) add none. The
// caller must not change the list. Cost: linear in the machines that are named.
func (e *Estate) Targets(s sentence.Set) []int {
	if len(s.List) == 1 && len(s.Except) == 0 {
		return e.MachinesOf(s.List[0])
	}
	in := map[int]bool{}
	for _, a := range s.List {
		for _, i := range e.MachinesOf(a) {
			in[i] = true
		}
	}
	for _, a := range s.Except {
		for _, i := range e.MachinesOf(a) {
			delete(in, i)
		}
	}
	list := make([]int, 0, len(in))
	for i := range in {
		list = append(list, i)
	}
	slices.Sort(list)
	return list
}

// TargetsHost reports whether a target names the site's host.
func (e *Estate) TargetsHost(s sentence.Set) bool {
	names := func(a sentence.Atom) bool {
		n, _ := e.Lookup(a.Text())
		return a.Kind() == sentence.Named && n.Kind == KindHost
	}
	return slices.ContainsFunc(s.List, names) && !slices.ContainsFunc(s.Except, names)
}

// MachinesOf returns the machines that one atom names, ascending.
func (e *Estate) MachinesOf(a sentence.Atom) []int {
	switch a.Kind() {
	case sentence.All:
		return e.members.all
	case sentence.Pattern:
		return e.matching(a.Text())
	case sentence.Tagged:
		key, value := a.Tag()
		return e.members.tagged[Tag{key, value}]
	case sentence.Named:
		switch n, _ := e.Lookup(a.Text()); n.Kind {
		case KindMachine:
			return []int{n.I}
		case KindSubnet, KindNetwork:
			return e.members.at[a.Text()]
		}
	}
	return nil
}

// matching finds the machines whose names match a pattern, among those that
// begin with what stands before its first '*'.
func (e *Estate) matching(pattern string) (list []int) {
	prefix, _, _ := strings.Cut(pattern, "*")
	sorted := e.members.sorted
	from, _ := slices.BinarySearchFunc(sorted, prefix, func(i int, p string) int { return cmp.Compare(e.Machines[i].Name, p) })
	for _, i := range sorted[from:] {
		if !strings.HasPrefix(e.Machines[i].Name, prefix) {
			break
		}
		if sentence.MatchPattern(pattern, e.Machines[i].Name) {
			list = append(list, i)
		}
	}
	slices.Sort(list)
	return list
}

// Tags lists the tags that machines carry, each once, in order.
func (e *Estate) Tags() []Tag {
	return slices.SortedFunc(maps.Keys(e.members.tagged), func(a, b Tag) int {
		return cmp.Or(cmp.Compare(a.Key, b.Key), cmp.Compare(a.Value, b.Value))
	})
}
