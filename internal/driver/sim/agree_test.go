package sim

import (
	"math/rand/v2"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/driver"
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
	"ironbark/internal/oracle"
	"ironbark/internal/sentence"
)

// TestAnalysisWalkerAndOracleAgree is the test that everything rests on: the
// analysis on sets, the packet walker on installed rows, and the slow oracle on
// sentences give the same verdict, reason and machine for every flow asked.
func TestAnalysisWalkerAndOracleAgree(t *testing.T) {
	var flows, open atomic.Int64
	reasons, clauses := map[string]int{}, map[string]int{}
	rapid.Check(t, func(t *rapid.T) {
		w := oracle.Draw(t)
		for _, st := range w.Estate.Sentences() {
			for _, c := range clausesOf(st.Sentence) {
				clauses[c]++
			}
		}
		plan := w.Plan()
		rows := plan.Rows()
		walker, err := NewWalker(rows)
		require.NoError(t, err)
		again, err := flow.FromRows(rows)
		require.NoError(t, err)
		require.Equal(t, rows, again.Rows(), "tables put together again are the same tables")
		addrs, services := w.Interesting()
		r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		for _, at := range oracle.Moments {
			view := exposure.NewView(again, at)
			for range 400 {
				dst, service := target(r, plan, addrs), services[r.IntN(len(services))]
				if len(plan.Doors) > 0 && r.IntN(5) == 0 { // a published port, which chance would seldom find
					service = plan.Doors[r.IntN(len(plan.Doors))].Service
					if own := plan.Own().Runs(); len(own) > 0 {
						dst = own[len(own)-1-r.IntN(min(2, len(own)))].Hi.Addr()
						for step := r.IntN(4); step > 0 && dst.Prev().IsValid() && plan.Own().Contains(flow.PointOf(dst.Prev())); step-- {
							dst = dst.Prev()
						}
					}
				}
				src := addrs[r.IntN(len(addrs))]
				for src.Is4() != dst.Is4() && r.IntN(50) > 0 {
					src = addrs[r.IntN(len(addrs))]
				}
				if r.IntN(4) == 0 { // a machine calls somebody outside
					src, dst = outwardFlow(r, plan, addrs, src, dst)
				}
				want := w.Ask(src, dst, service, at)
				got := walker.Walk(driver.Packet{Source: src, Target: dst, Service: service}, at)
				parts := view.Ask(span.One(service), span.One(flow.PointOf(src)), exposure.Target{Machine: -1, Address: dst})
				require.Equal(t, words(want), fates(got), "walker: %v to %v %v at %v in\n%s", src, dst, service, at, w.Text)
				require.Equal(t, words(want), verdicts(plan, parts), "analysis: %v to %v %v at %v in\n%s", src, dst, service, at, w.Text)
				flows.Add(1)
				for _, v := range want {
					if v.Open {
						open.Add(1)
					}
					reason := v.Reason
					if plan.AddrsOf(all(plan)...).Contains(flow.PointOf(src)) && plan.Internet().Contains(flow.PointOf(dst)) {
						reason = "outward " + reason
					}
					reasons[reason]++
				}
			}
		}
	})
	t.Logf("%d flows, %d verdicts open; by reason: %v", flows.Load(), open.Load(), reasons)
	t.Logf("sentences by clause: %v", clauses)
	for _, c := range everyClause {
		require.Positive(t, clauses[c], c)
	}
	if os.Getenv("RAPID_CHECKS") == "" {
		require.GreaterOrEqual(t, flows.Load(), int64(100_000))
		for _, reason := range []string{"no-door", "deny", "administrative", "default", "opening", "route", "standing", "allow", "door", "outward no-door", "outward deny", "outward allow", "outward default"} {
			require.Positive(t, reasons[reason], reason)
		}
	}
}

// all lists the machines of a plan.
func all(p *flow.Plan) (list []int32) {
	for i := range p.Machines {
		list = append(list, int32(i))
	}
	return list
}

// outwardFlow picks a machine and an address outside, if there are any.
func outwardFlow(r *rand.Rand, p *flow.Plan, addrs []netip.Addr, src, dst netip.Addr) (netip.Addr, netip.Addr) {
	own := p.AddrsOf(all(p)...)
	from := slices.DeleteFunc(slices.Clone(addrs), func(a netip.Addr) bool { return !own.Contains(flow.PointOf(a)) })
	if len(from) == 0 {
		return src, dst
	}
	src = from[r.IntN(len(from))]
	to := slices.DeleteFunc(slices.Clone(addrs), func(a netip.Addr) bool { return a.Is4() != src.Is4() || !p.Internet().Contains(flow.PointOf(a)) })
	if len(to) == 0 {
		return src, dst
	}
	return src, to[r.IntN(len(to))]
}

// target picks where a flow goes: mostly to something that is there.
func target(r *rand.Rand, p *flow.Plan, addrs []netip.Addr) netip.Addr {
	var there []netip.Addr
	for i := range p.Machines {
		for _, run := range p.AddrsOf(int32(i)).Runs() {
			there = append(there, run.Lo.Addr())
		}
	}
	for _, run := range p.Own().Runs() {
		there = append(there, run.Lo.Addr())
	}
	if len(there) == 0 || r.IntN(10) == 0 {
		return addrs[r.IntN(len(addrs))]
	}
	return there[r.IntN(len(there))]
}

func line(open bool, machine, reason string) string {
	return map[bool]string{true: "open ", false: "closed "}[open] + machine + " " + reason
}

// settled brings verdicts of one flow into one form: sorted, each once. The
// reason for which a flow is open may be any that holds, so it is left out.
func settled(list []string) string {
	for i, l := range list {
		if strings.HasPrefix(l, "open") {
			list[i] = l[:strings.LastIndex(l, " ")]
		}
	}
	slices.Sort(list)
	return strings.Join(slices.Compact(list), "; ")
}

func words(list []oracle.Verdict) string {
	var out []string
	for _, v := range list {
		out = append(out, line(v.Open, v.Machine, v.Reason))
	}
	return settled(out)
}

func fates(list []driver.ProbeResult) string {
	var out []string
	for _, f := range list {
		out = append(out, line(f.Open, f.Machine, f.Reason))
	}
	return settled(out)
}

func verdicts(p *flow.Plan, parts []exposure.Part) string {
	var out []string
	for _, part := range parts {
		machine := ""
		if part.Machine >= 0 {
			machine = p.Machines[part.Machine].Name
		}
		out = append(out, line(part.Open, machine, string(part.Reason)))
	}
	return settled(out)
}

// TestCommonIsOpenOnlyWhereBothAre walks flows through two plans and through what
// an enactment cuts the tables down to between them.
func TestCommonIsOpenOnlyWhereBothAre(t *testing.T) {
	both, kept := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		shift := rapid.IntRange(0, 5).Draw(t, "shift")
		a := oracle.DrawShifted(t, shift)
		b := a.Altered(t)
		if rapid.IntRange(0, 3).Draw(t, "other") == 0 {
			b = oracle.DrawShifted(t, shift)
		}
		pa, pb := a.Plan(), b.Plan()
		for _, p := range []*flow.Plan{pb, flow.Intersection(pa, pb)} {
			require.Equal(t, slices.Equal(pa.Rows(), p.Rows()), flow.SameTables(pa, p), "the tables are the same where their rows are")
		}
		again, err := flow.FromRows(pa.Rows())
		require.NoError(t, err)
		require.True(t, flow.SameTables(pa, again))
		addrs, services := a.Interesting()
		walk := make([]*Walker, 3)
		for i, p := range []*flow.Plan{pa, pb, flow.Intersection(pa, pb)} {
			var err error
			walk[i], err = NewWalker(p.WithoutOpenings(func(int64) bool { return true }).Rows())
			require.NoError(t, err)
		}
		r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		for range 500 {
			p := driver.Packet{Source: addrs[r.IntN(len(addrs))], Target: target(r, pa, addrs), Service: services[r.IntN(len(services))]}
			if r.IntN(4) == 0 {
				p.Source, p.Target = outwardFlow(r, pa, addrs, p.Source, p.Target)
			}
			at := oracle.Moments[r.IntN(len(oracle.Moments))]
			open := make([]map[string]bool, 3)
			for i, w := range walk {
				open[i] = map[string]bool{}
				for _, f := range w.Walk(p, at) {
					if f.Open {
						open[i][f.Machine] = true
					}
				}
			}
			for machine := range open[2] {
				require.True(t, open[0][machine] && open[1][machine], "%v at %v to %q\n%s\n=====\n%s", p, at, machine, a.Text, b.Text)
				kept++
			}
			for machine := range open[0] {
				if open[1][machine] {
					both++
				}
			}
		}
	})
	t.Logf("%d flows are open in both plans, and %d of them in what they have in common", both, kept)
	require.Greater(t, kept*10, both*9, "what is open on both sides stays open on the way, but for rare mixtures")
}

// everyClause are the clauses of the grammar that bear on flows; each must be hit.
var everyClause = []string{
	"allow", "deny", "forward", "spread", "route", "permit", "standing", "until", "forward from", "spread from",
	"except in a source", "except in a target", "any", "any except", "list of services", "ports", "range of ports", "ping", "named service",
	"everywhere", "internet", "all", "name", "pattern", "tag", "address", "prefix", "range",
}

// clausesOf names the clauses of the grammar that a sentence uses.
func clausesOf(s sentence.Sentence) (list []string) {
	hit := func(name string, yes bool) {
		if yes {
			list = append(list, name)
		}
	}
	services := func(s sentence.Services) {
		hit("any", s.Any && len(s.Except) == 0)
		hit("any except", s.Any && len(s.Except) > 0)
		hit("list of services", len(s.List) > 1)
		for _, one := range slices.Concat(s.List, s.Except) {
			_, lo, hi, ports := one.Ports()
			_, named := one.Name()
			hit("ports", ports && lo == hi)
			hit("range of ports", ports && lo < hi)
			hit("ping", one.Ping())
			hit("named service", named)
		}
	}
	set := func(s sentence.Set, side string) {
		hit("except in a "+side, len(s.Except) > 0)
		for _, a := range slices.Concat(s.List, s.Except) {
			hit([]string{"", "everywhere", "internet", "all", "me", "name", "pattern", "tag", "address", "prefix", "range"}[a.Kind()], true)
		}
	}
	tail := func(t sentence.Tail) { hit("until", !t.Until.IsZero()) }
	hit(s.Verb().String(), true)
	switch s := s.(type) {
	case sentence.Allow:
		services(s.Services)
		set(s.From, "source")
		set(s.To, "target")
		hit("standing", s.Standing)
		tail(s.Tail)
	case sentence.Deny:
		services(s.Services)
		set(s.From, "source")
		set(s.To, "target")
		tail(s.Tail)
	case sentence.Forward:
		set(s.From, "source")
		hit("forward from", !s.From.IsEmpty())
		hit("standing", s.Standing)
		tail(s.Tail)
	case sentence.Spread:
		set(s.From, "source")
		hit("spread from", !s.From.IsEmpty())
	case sentence.Route:
		services(s.Services)
		set(s.To, "target")
	}
	return list
}
