package flow

import (
	"cmp"
	"maps"
	"slices"
)

// SameTables reports whether two plans are installed as the same tables: whether their [Plan.Rows] are equal. It
// writes no rows out. Cost: linear in the rules and the runs of their sets.
func SameTables(a, b *Plan) bool {
	var x, y fingerprints
	return SameDoors(a, b) && maps.Equal(x.rules(a.Rules), y.rules(b.Rules)) && maps.Equal(x.rules(a.Outward), y.rules(b.Outward))
}

// SameDoors reports whether two plans differ at most in their rules.
func SameDoors(a, b *Plan) bool {
	var x, y fingerprints
	return a.AdminServices.Equal(b.AdminServices) && a.ExcludedSources.Equal(b.ExcludedSources) && sameNouns(a, b) && maps.Equal(x.doors(a.Doors), y.doors(b.Doors))
}

// sameNouns compares what is known by name.
func sameNouns(a, b *Plan) bool {
	return slices.EqualFunc(byName(a.Networks, func(n Network) string { return n.Name }), byName(b.Networks, func(n Network) string { return n.Name }), func(m, n Network) bool {
		return m.Name == n.Name && m.Space.Equal(n.Space) && m.Outside == n.Outside && outwardWord(m) == outwardWord(n) && slices.Equal(m.Joins, n.Joins)
	}) && slices.EqualFunc(byName(a.Lines, func(l Line) string { return l.Name }), byName(b.Lines, func(l Line) string { return l.Name }), func(m, n Line) bool {
		return m.Name == n.Name && m.Network == n.Network && m.Range.Equal(n.Range)
	}) && slices.EqualFunc(a.Machines, b.Machines, func(m, n Machine) bool {
		return m.Name == n.Name && m.Public == n.Public && slices.EqualFunc(m.Interfaces, n.Interfaces, func(i, j Interface) bool {
			return i.Subnet == j.Subnet && i.Network == j.Network && slices.Equal(i.Addrs, j.Addrs)
		})
	}) && slices.Equal(byName(a.Fronts, func(f Front) string { return f.Name }), byName(b.Fronts, func(f Front) string { return f.Name })) &&
		slices.EqualFunc(byName(a.Gateways, func(g Gateway) string { return g.Name }), byName(b.Gateways, func(g Gateway) string { return g.Name }), func(m, n Gateway) bool {
			return m.Name == n.Name && m.Network == n.Network && slices.Equal(m.Inside, n.Inside) && m.Public == n.Public && m.From.Equal(n.From)
		})
}

func byName[T any](list []T, name func(T) string) []T {
	return slices.SortedFunc(slices.Values(list), func(a, b T) int { return cmp.Compare(name(a), name(b)) })
}

// fingerprints are what rules and doors come to, each as a text that equal ones share. Machines stand in them by place.
type fingerprints struct{ encoder }

func (f *fingerprints) rules(list []Rule) map[string]struct{} {
	out := make(map[string]struct{}, len(list))
	for _, r := range list {
		f.b = append(f.b[:0], byte(r.Kind))
		f.addrs(r.From)
		f.group(r.To)
		f.services(r.Services)
		f.moment(r.Begin)
		f.moment(r.Until)
		f.count(int(r.Opening))
		f.origin(r.Origin)
		out[string(f.b)] = struct{}{}
	}
	return out
}

func (f *fingerprints) doors(list []Published) map[string]struct{} {
	out := make(map[string]struct{}, len(list))
	for _, d := range list {
		f.b = append(f.b[:0], byte(d.Kind))
		f.text(d.Front)
		f.addrs(d.From)
		f.group(d.To)
		f.count(int(d.Service))
		f.count(int(d.On))
		f.bool(d.Standing)
		f.moment(d.Until)
		f.origin(d.Origin)
		out[string(f.b)] = struct{}{}
	}
	return out
}
