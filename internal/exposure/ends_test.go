package exposure_test

import (
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/opening"
	"ironbark/internal/oracle"
	"ironbark/internal/sentence"
)

// TestEndsAreExact draws flows that are open in random estates, whose openings begin and end at several times. Each is open at each time until the
// end that it has, by the oracle, and closed at the end: through the same door for what reach lists, through any for what a question about a
// machine says.
func TestEndsAreExact(t *testing.T) {
	ends, taken := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		w := oracle.Draw(t)
		at := rapid.SampledFrom(oracle.Moments).Draw(t, "at")
		more, takenHere := judgeEnds(t, w, at, rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 3)))
		ends, taken = ends+more, taken+takenHere
	})
	require.Positive(t, ends)
	t.Logf("%d ends, and %d openings took over", ends, taken)
}

// TestAnOpeningTakesOverByAnotherDoor has a forward with sources of its own end, when an opening lets the same source in directly.
func TestAnOpeningTakesOverByAnotherDoor(t *testing.T) {
	w := oracle.WorldOf(small, `forward pier tcp/2222 to web on ssh from 203.0.113.64/28 standing until 2026-11-23T09:30:00Z because "x"`)
	o := open(t, w, `open ssh to web from 203.0.113.72/29 for 2h because "x"`)
	o.Begin = oracle.Epoch.Add(20 * time.Minute)
	w.Openings = []opening.Opening{o}
	_, taken := judgeEnds(t, w, oracle.Epoch, rand.New(rand.NewPCG(1, 1)))
	require.Positive(t, taken)
}

// TestAnOpeningTakesOverWhileItsDoorIsThere has two openings, one after the other, come by a forward that ends before or after the second begins to
// matter.
func TestAnOpeningTakesOverWhileItsDoorIsThere(t *testing.T) {
	for until, want := range map[string][]int64{"09:15:00Z": nil, "09:30:00Z": {8}} {
		w := oracle.WorldOf(small, "forward pier tcp/2222 to web on ssh until 2026-11-23T"+until)
		first, second := open(t, w, `open ssh to web from 203.0.113.72/29 for 20m because "x"`), open(t, w, `open ssh to web from 203.0.113.72/29 for 2h because "x"`)
		second.ID, second.Begin = 8, oracle.Epoch.Add(10*time.Minute)
		w.Openings = []opening.Opening{first, second}
		judgeEnds(t, w, oracle.Epoch, rand.New(rand.NewPCG(1, 1)))
		p := w.Plan()
		m, _ := p.MachineByName("web")
		seen := 0
		for _, e := range exposure.NewView(p, oracle.Epoch).Reach(m) {
			if e.Door.Kind == flow.DoorForward {
				seen++
				require.Equal(t, want, e.Then, until)
			}
		}
		require.Positive(t, seen)
	}
}

// judgeEnds compares the ends of drawn flows with the oracle's, and returns how many had one, and how many openings took over.
func judgeEnds(t require.TestingT, w oracle.World, at time.Time, r *rand.Rand) (ends, taken int) {
	p := w.Plan()
	view := exposure.NewView(p, at)
	turns := append([]time.Time{at}, p.Turns(at)...)
	open := func(m int32, d flow.Door, src netip.Addr, arrives flow.Service, at time.Time) bool {
		if !d.Address.IsValid() || sentence.FamilyOf(d.Address) != sentence.FamilyOf(src) {
			return false
		}
		service := arrives
		if d.Translated() {
			service = d.Service
		}
		for _, v := range w.Ask(src, d.Address, service, at) {
			if v.Machine == p.Machines[m].Name && v.Open {
				return true
			}
		}
		return false
	}
	holds := func(c exposure.Cause, what any, openAt func(time.Time) bool) {
		for _, turn := range turns {
			if c.Until.IsZero() || turn.Before(c.Until) {
				require.True(t, openAt(turn), "%v is open until %v, and closed at %v\n%s", what, c.Until, turn, w.Text)
			}
		}
		if !c.Until.IsZero() {
			ends++
			taken += len(c.Then)
			require.False(t, openAt(c.Until), "%v ends at %v, and is open\n%s", what, c.Until, w.Text)
		}
	}
	for m := range p.Machines {
		m := int32(m)
		doors := p.DoorsTo(m)
		for _, e := range view.Reach(m) {
			if src, service := drawn(r, e.From), drawnService(r, e.Services); e.Door.Address.IsValid() {
				holds(e.Cause, []any{src, service, e.Door.Kind, e.Door.Address}, func(at time.Time) bool { return open(m, e.Door, src, service, at) })
			}
		}
		for _, part := range view.Ask(flow.AnyService, p.Everywhere(), exposure.Target{Machine: m}) {
			if src, service := drawn(r, part.From), drawnService(r, part.Services); part.Open && part.Door.Address.IsValid() {
				holds(part.Cause, []any{src, service, "by any door"}, func(at time.Time) bool {
					for _, d := range doors {
						if d.Arrives.Contains(service) && open(m, d, src, service, at) {
							return true
						}
					}
					return false
				})
			}
		}
	}
	return ends, taken
}

func drawn(r *rand.Rand, s flow.Addrs) netip.Addr {
	run := s.Runs()[r.IntN(len(s.Runs()))]
	if r.IntN(2) == 0 {
		return run.Lo.Addr()
	}
	return run.Hi.Addr()
}

func drawnService(r *rand.Rand, s flow.Services) flow.Service {
	run := s.Runs()[r.IntN(len(s.Runs()))]
	if r.IntN(2) == 0 {
		return run.Lo
	}
	return run.Hi
}
