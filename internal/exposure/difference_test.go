package exposure_test

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/oracle"
)

// TestTheDifferenceAppliedToOneGivesTheOther takes what closed away from what was
// open and adds what opened: that is what is open now.
func TestTheDifferenceAppliedToOneGivesTheOther(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a := oracle.Draw(t)
		b := a.Altered(t)
		if rapid.IntRange(0, 3).Draw(t, "other") == 0 {
			b = oracle.Draw(t)
		}
		pa, pb := a.Plan(), b.Plan()
		if rapid.Bool().Draw(t, "calls") {
			pa, pb = pa.Calls(), pb.Calls()
		}
		before, after := exposure.NewView(pa, rapid.SampledFrom(oracle.Moments).Draw(t, "before")), exposure.NewView(pb, rapid.SampledFrom(oracle.Moments).Draw(t, "after"))
		own := pa.Own().Union(pb.Own())
		d := exposure.Compare(before, after)
		sorts := []exposure.Changes{d.Opened, d.Closed, d.Moved, d.Gained, d.Lost}
		require.Equal(t, !slices.ContainsFunc(sorts, func(c exposure.Changes) bool { return !c.IsEmpty() }), d.IsEmpty())
		for _, list := range sorts {
			listed(t, list)
		}
		// As flows, through whichever door.
		was, is, opened, closed := boxes(before, own, flat), boxes(after, own, flat), changes(d.Opened, flat), changes(d.Closed, flat)
		for key := range keys(was, is, opened, closed) {
			for _, s := range points(was[key], is[key], opened[key], closed[key]) {
				x, y, plus, minus := at(was[key], s), at(is[key], s), at(opened[key], s), at(closed[key], s)
				require.True(t, x.Subtract(minus).Union(plus).Equal(y), "%s %v: was %v, is %v, opened %v, closed %v\n%s\n=====\n%s", key, s, x, y, plus, minus, a.Text, b.Text)
				require.False(t, plus.Overlaps(x), "what opened was not open before")
				require.True(t, x.ContainsAll(minus) && !minus.Overlaps(y), "what closed was open, and is not")
			}
		}
		// Door by door: what is told is there, and nothing is left out.
		was, is, opened, closed = boxes(before, own, byDoor), boxes(after, own, byDoor), changes(d.Opened, byDoor), changes(d.Closed, byDoor)
		gained, lost, moved := changes(d.Gained, byDoor), changes(d.Lost, byDoor), changes(d.Moved, byDoor)
		ends := changes(d.Moved, flat)
		for key := range keys(was, is, opened, closed, gained, lost) {
			for _, s := range points(was[key], is[key], opened[key], closed[key], gained[key], lost[key]) {
				x, y := at(was[key], s), at(is[key], s)
				require.True(t, x.Union(at(opened[key], s)).Union(at(gained[key], s)).Union(at(moved[key], s)).ContainsAll(y), "%s %v", key, s)
				require.True(t, x.ContainsAll(at(lost[key], s)) && !at(lost[key], s).Overlaps(y), "%s %v: lost is what this door led to", key, s)
				require.True(t, y.ContainsAll(at(gained[key], s)) && !at(gained[key], s).Overlaps(x), "%s %v: gained is what this door leads to now", key, s)
				machine, _, _ := strings.Cut(key, " ")
				require.True(t, y.Union(at(closed[key], s)).Union(at(lost[key], s)).Union(at(ends[machine], s)).ContainsAll(x), "%s %v", key, s)
			}
		}
	})
}

// TestRulesAreNumberedAsPublished compares the digests of numbers with the first values that SplitMix64 gives from zero, and sums of them in another order.
func TestRulesAreNumberedAsPublished(t *testing.T) {
	for i, want := range []uint64{0xe220a8397b1dcdaf, 0x6e789e6aa1b965f4, 0x06c45d188009454f} {
		n := uint64(i + 1)
		require.Equal(t, want, exposure.Numbered(n)[0])
		require.Equal(t, want, exposure.Numbered(^n)[1], "the other half is that of the number's complement")
	}
	require.Equal(t, exposure.Sum(1, 2, 3), exposure.Sum(3, 1, 2))
	require.NotEqual(t, exposure.Sum(1, 2), exposure.Sum(1, 1, 2))
}

// listed holds what differs, told in groups, to what is told one by one.
func listed(t require.TestingT, list exposure.Changes) {
	all := slices.Collect(list.All())
	require.Equal(t, len(all) == 0, list.IsEmpty())
	for _, is := range []bool{true, false} {
		administrative := func(c exposure.Change) bool { return c.Entry.Administrative == is }
		require.Equal(t, slices.DeleteFunc(slices.Clone(all), administrative), append(all[:0:0], slices.Collect(list.Without(administrative).All())...))
		require.Equal(t, slices.ContainsFunc(all, administrative), list.Any(administrative))
	}
	for first := range list.All() {
		require.Equal(t, all[0], first)
		break
	}
	var byGroup []exposure.Change
	for _, g := range list.Groups() {
		byGroup = append(byGroup, g.Changes()...)
	}
	require.Equal(t, all, byGroup)
}

// box is a set of flows through one door.
type box struct {
	services flow.Services
	from     flow.Addrs
}

// byDoor tells flows apart by their doors, flat by their machines or gateways alone.
func byDoor(machine string, d flow.Door) string {
	return fmt.Sprint(flat(machine, d), " ", d.Kind, d.Via, d.Family, d.Service)
}

func flat(machine string, d flow.Door) string { return cmp.Or(machine, d.Via) }

type keyed func(machine string, d flow.Door) string

func boxes(v *exposure.View, own flow.Addrs, key keyed) map[string][]box {
	out := map[string][]box{}
	for e := range v.ReachAll() {
		machine := ""
		if e.Door.Machine >= 0 {
			machine = v.Plan.Machines[e.Door.Machine].Name
		}
		k := key(machine, e.Door)
		out[k] = append(out[k], box{e.Services, e.From.Subtract(own)})
	}
	return out
}

func changes(list exposure.Changes, key keyed) map[string][]box {
	out := map[string][]box{}
	for c := range list.All() {
		k := key(c.Machine, c.Entry.Door)
		out[k] = append(out[k], box{c.Entry.Services, c.Entry.From})
	}
	return out
}

func keys(maps ...map[string][]box) map[string]bool {
	out := map[string]bool{}
	for _, m := range maps {
		for k := range m {
			out[k] = true
		}
	}
	return out
}

// points lists one service of each slice in which the boxes do not change.
func points(lists ...[]box) (out []flow.Service) {
	for _, list := range lists {
		for _, b := range list {
			for _, r := range b.services.Runs() {
				out = append(out, r.Lo, min(r.Hi+1, flow.Other))
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func at(list []box, s flow.Service) (from flow.Addrs) {
	for _, b := range list {
		if b.services.Contains(s) {
			from = from.Union(b.from)
		}
	}
	return from
}
