package exposure

import (
	"iter"
	"slices"
	"strings"

	"go4.org/netipx"

	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
)

// This file puts sets of addresses into words part by part: names, machines and at last prefixes.

// list names the parts of a set within a domain, the largest names first, and
// prints the rest as machines and prefixes. It gives up, and reports false, where the words become longer than so many bytes.
func (n *Names) list(s, domain flow.Addrs, longest int) (string, bool) {
	var words bounded
	words.left = longest
	rest := s
	take := func(name string, part flow.Addrs) {
		if !part.IsEmpty() && rest.ContainsAll(part) {
			words.add(name)
			rest = rest.Subtract(part)
		}
	}
	which := whole
	switch {
	case domain.Equal(flow.AllIPv6):
		which = 0
	case domain.Equal(flow.AllIPv4):
		which = 1
	}
	for k := range n.within(rest, which) {
		if take(n.wide[k].name, n.wide[k].sets[which]); words.over {
			return "", false
		}
	}
	for k := range n.within(rest, 0, 1) {
		for i := range 2 {
			if take(n.wide[k].name+familyWord(i), n.wide[k].sets[i]); words.over {
				return "", false
			}
		}
	}
	n.single(rest, &words)
	return strings.Join(words.list, ", "), !words.over
}

// bounded are words that may be so long in all, joined by commas.
type bounded struct {
	list []string
	left int
	over bool
}

func (b *bounded) add(word string) {
	if len(b.list) > 0 {
		b.left -= len(", ")
	}
	b.left -= len(word)
	b.over = b.over || b.left < 0
	b.list = append(b.list, word)
}

// within lists the wide names that begin in a set, so that they may lie in it, the widest first. Where those are many it lists all of
// them, in which nothing is looked up.
func (n *Names) within(s flow.Addrs, which ...int) iter.Seq[int] {
	var list []int
	for _, w := range which {
		all := n.begins[w]
		for _, r := range s.Runs() {
			at, _ := slices.BinarySearchFunc(all, r.Lo, func(b begin, lo flow.Point) int { return b.at.Compare(lo) })
			for ; at < len(all) && all[at].at.Compare(r.Hi) <= 0; at++ {
				if list = append(list, all[at].of); len(list) > len(n.wide)/8 {
					return func(yield func(int) bool) {
						for k := range n.wide {
							if !yield(k) {
								return
							}
						}
					}
				}
			}
		}
	}
	slices.Sort(list)
	return slices.Values(slices.Compact(list))
}

// mostSingle is the longest run, in addresses, in which machines are looked for one by one.
const mostSingle = 256

// single names the machines all of whose addresses, or all of one family, are in
// a set, in the order of the addresses, and prints what is left as prefixes.
func (n *Names) single(rest flow.Addrs, words *bounded) {
	var left []flow.Run
	known := map[int32][2]bool{} // by machine, the families that are named
	for _, r := range rest.Runs() {
		if long(r) {
			left = append(left, r)
			continue
		}
		for a := r.Lo; ; a = a.Next() {
			family := 0
			if a.Addr().Is4() {
				family = 1
			}
			m, there := n.machines[a]
			if there && n.plan.Machines[m].IsSiteHost() && !n.plan.AddrsOf(m).ContainsAll(span.Of(r)) {
				there = false // a range may include some of its addresses
			}
			told, met := [2]bool{}, false
			if there {
				told, met = known[m]
			}
			if there && !met {
				word := ""
				word, told = n.machineWord(m, rest)
				if known[m] = told; word != "" {
					words.add(word)
				}
			}
			if !told[family] {
				left = append(left, flow.Run{Lo: a, Hi: a})
			}
			if a == r.Hi {
				break
			}
		}
		if words.over || words.left < len(left) { // each of those left takes a byte at the least, but for those that touch
			if left = span.Of(left...).Runs(); words.over || words.left < len(left) {
				words.over = true
				return
			}
		}
	}
	for _, word := range Prefixes(span.Of(left...)) {
		words.add(word)
	}
}

// long reports whether a run has more than mostSingle addresses.
func long(r flow.Run) bool {
	end := r.Lo
	for range mostSingle {
		if end == r.Hi {
			return false
		}
		end = end.Next()
	}
	return true
}

// machineWord names a machine as far as all of its addresses are in a set, and
// tells which families the word covers.
func (n *Names) machineWord(m int32, s flow.Addrs) (word string, told [2]bool) {
	name, set := n.plan.Machines[m].Name, n.plan.AddrsOf(m)
	if s.ContainsAll(set) {
		return name, [2]bool{true, true}
	}
	for i, part := range flow.ByFamily(set) {
		if !part.IsEmpty() && s.ContainsAll(part) {
			told[i] = true
			return name + familyWord(i), told
		}
	}
	return "", told
}

// Prefixes prints a set as addresses and prefixes, a run that needs many of them as first-last.
func Prefixes(s flow.Addrs) (words []string) {
	for _, r := range s.Runs() {
		list := netipx.IPRangeFrom(r.Lo.Addr(), r.Hi.Addr()).Prefixes()
		if len(list) > 2 {
			words = append(words, r.Lo.Addr().String()+"-"+r.Hi.Addr().String())
			continue
		}
		for _, p := range list {
			if p.IsSingleIP() {
				words = append(words, p.Addr().String())
			} else {
				words = append(words, p.String())
			}
		}
	}
	return words
}
