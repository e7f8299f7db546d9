package flow_test

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
	"ironbark/internal/oracle"
)

// asked are questions about single flows of some plans, in either direction.
type asked struct {
	sources, targets []netip.Addr
	services         []flow.Service
}

func askedOf(worlds ...oracle.World) (q asked) {
	for _, w := range worlds {
		addrs, services := w.Interesting()
		q.sources, q.services = append(q.sources, addrs...), append(q.services, services...)
		p := w.Plan()
		for m := range p.Machines {
			for _, run := range p.AddrsOf(int32(m)).Runs() {
				q.targets = append(q.targets, run.Lo.Addr())
			}
		}
		for _, run := range p.Own().Runs() {
			q.targets = append(q.targets, run.Lo.Addr())
		}
	}
	return q
}

// passes reports whether a flow to an address passes, and whether a machine may call it.
func passes(p *flow.Plan, src, dst netip.Addr, s flow.Service, at time.Time) (in, out bool) {
	open := func(parts []exposure.Part) bool {
		for _, part := range parts {
			if part.Open {
				return true
			}
		}
		return false
	}
	in = open(exposure.NewView(p, at).Ask(span.One(s), span.One(flow.PointOf(src)), exposure.Target{Machine: -1, Address: dst}))
	for m := range p.Machines {
		if p.AddrsOf(int32(m)).Contains(flow.PointOf(dst)) {
			out = out || open(exposure.NewView(p.Calls(), at).Ask(span.One(s), span.One(flow.PointOf(src)), exposure.Target{Machine: int32(m)}))
		}
	}
	return in, out
}

// TestOnlyWhatIsOpenInBothStaysOpenBetween draws two worlds and asks single flows of both plans and of what they have in common: nothing passes there that does not
// pass in both. What a plan has in common with itself passes all that it does, and what it has with one of the same nouns most of what passes in both.
func TestOnlyWhatIsOpenInBothStaysOpenBetween(t *testing.T) {
	both, kept := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		shift := rapid.IntRange(0, 5).Draw(t, "shift")
		first := oracle.DrawShifted(t, shift)
		second, sameNouns := first.Altered(t), true
		if rapid.Bool().Draw(t, "other") {
			second, sameNouns = oracle.DrawShifted(t, shift), false
		}
		a, b := flow.Compile(first.Estate, first.Given), flow.Compile(second.Estate, second.Given)
		between, self := flow.Intersection(a, b), flow.Intersection(a, a)
		require.Len(t, self.Rules, len(a.Rules), "each rule once")
		require.Len(t, self.Outward, len(a.Calls().Rules))
		require.Len(t, self.Doors, len(a.Doors))
		require.True(t, flow.SameTables(self, flow.Intersection(first.Plan(), first.Plan())), "openings are left out")
		for _, r := range slices.Concat(between.Rules, between.Outward) {
			require.False(t, r.From.IsEmpty() || r.Services.IsEmpty() || len(r.To.Machines) == 0, "%v", r)
			require.NotEqual(t, flow.Opening, r.Kind)
		}
		q := askedOf(first, second)
		r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 0))
		var open []exposure.Entry // on one of the sides
		for _, p := range []*flow.Plan{a, b} {
			open = slices.AppendSeq(open, exposure.NewView(p, oracle.Epoch).ReachAll())
		}
		for range 60 {
			src, dst, s, at := q.sources[r.IntN(len(q.sources))], q.targets[r.IntN(len(q.targets))], q.services[r.IntN(len(q.services))], oracle.Moments[r.IntN(len(oracle.Moments))]
			if len(open) > 0 && r.IntN(2) == 0 {
				e := open[r.IntN(len(open))]
				from, on := e.From.Runs(), e.Services.Runs()
				src, dst, s = from[r.IntN(len(from))].Lo.Addr(), e.Door.Address, on[r.IntN(len(on))].Lo
				if e.Door.Translated() {
					s = e.Door.Service
				}
			}
			if src.Is4() != dst.Is4() {
				continue
			}
			inA, outA := passes(a, src, dst, s, at)
			inB, outB := passes(b, src, dst, s, at)
			in, out := passes(between, src, dst, s, at)
			require.False(t, in && !(inA && inB), "%v to %v on %v at %v", src, dst, s, at)
			require.False(t, out && !(outA && outB), "%v from %v on %v at %v", src, dst, s, at)
			inSelf, outSelf := passes(self, src, dst, s, at)
			require.Equal(t, outA, outSelf, "%v from %v on %v at %v", src, dst, s, at)
			require.Equal(t, inA, inSelf, "%v to %v on %v at %v", src, dst, s, at)
			if sameNouns && inA && inB {
				if both++; in {
					kept++
				}
			}
		}
	})
	assert.Greater(t, both, 100)
	assert.Greater(t, kept, both*9/10)
	t.Logf("%d of %d flows that pass on both sides pass between", kept, both)
}
