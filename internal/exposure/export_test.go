package exposure

import "ironbark/internal/flow"

// Listed is how a set is told part by part, where the words are of some length at most.
func (n *Names) Listed(s flow.Addrs, longest int) (string, bool) {
	return n.list(s, flow.AllAddrs, longest)
}

// PlainSlowly is Plain without giving anything up for being too long: the first of the shortest words.
func (n *Names) PlainSlowly(s flow.Addrs) string {
	if name := n.exactName(s); name != "" {
		return name
	}
	excepting := ""
	for _, k := range n.around(s) {
		for _, domain := range []flow.Addrs{flow.AllAddrs, flow.AllIPv4, flow.AllIPv6} {
			base := k.sets[whole].Intersect(domain)
			if base.IsEmpty() || !base.ContainsAll(s) {
				continue
			}
			words, _ := n.list(base.Subtract(s), domain, noBound)
			if words = k.name + only(base, k.sets[whole]) + " except " + words; excepting == "" || len(words) < len(excepting) {
				excepting = words
			}
		}
	}
	if list, _ := n.list(s, flow.AllAddrs, noBound); excepting == "" || len(list) <= len(excepting) {
		return list
	}
	return excepting
}

// Numbered is the digest of the rule with a number.
func Numbered(n uint64) [2]uint64 { return numbered(n) }

// Sum is that of the digests of rules with some numbers.
func Sum(numbers ...uint64) [2]uint64 {
	d := numbered(numbers[0])
	for _, n := range numbers[1:] {
		d = d.plus(numbered(n))
	}
	return d
}
