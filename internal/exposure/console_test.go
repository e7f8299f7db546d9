package exposure_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/oracle"
)

// TestAConsoleIsNoPartOfTheNetwork adds openings of consoles to random estates: what the network lets in stays as it was, flow by flow, and the
// consoles are listed for exactly the machines and times of their openings.
func TestAConsoleIsNoPartOfTheNetwork(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := oracle.Draw(t)
		plain := w.Plan()
		at := oracle.Epoch
		var rules []flow.Rule
		open := map[string][]int64{} // by machine
		for id := range rapid.Int64Range(1, 4).Draw(t, "openings") {
			r := flow.Rule{Kind: flow.Opening, From: flow.ConsoleSource, To: &flow.Group{}, Services: flow.ConsoleOnly, Opening: id + 1}
			r.Begin = at.Add(time.Duration(rapid.IntRange(-2, 1).Draw(t, "begin")) * time.Hour)
			r.Until = r.Begin.Add(time.Duration(rapid.IntRange(1, 3).Draw(t, "length")) * time.Hour)
			for m := range plain.Machines {
				if rapid.Bool().Draw(t, "in") {
					r.To.Machines = append(r.To.Machines, int32(m))
					if !r.Begin.After(at) && at.Before(r.Until) {
						open[plain.Machines[m].Name] = append(open[plain.Machines[m].Name], id+1)
					}
				}
			}
			rules = append(rules, r)
		}
		with := plain.With(rules...)
		before, after := exposure.NewView(plain, at), exposure.NewView(with, at)
		for m := range plain.Machines {
			var consoles []int64
			network := slices.DeleteFunc(after.Reach(int32(m)), func(e exposure.Entry) bool {
				if e.Door.Kind == flow.DoorConsole {
					require.True(t, e.Administrative)
					consoles = append(consoles, e.Opening)
				}
				return e.Door.Kind == flow.DoorConsole
			})
			require.ElementsMatch(t, before.Reach(int32(m)), network)
			require.ElementsMatch(t, open[plain.Machines[m].Name], consoles)
			target := exposure.Target{Machine: int32(m)}
			require.Equal(t, before.Ask(flow.AnyService, flow.AllAddrs, target), after.Ask(flow.AnyService, flow.AllAddrs, target))
			verdict := exposure.Verdict(after.Ask(flow.ConsoleOnly, flow.ConsoleSource, target))
			require.Equal(t, len(consoles) > 0, verdict == "open")
		}
		for m := range plain.Machines {
			for o := range m {
				if after.Alike(int32(m)) == after.Alike(int32(o)) {
					require.Equal(t, open[plain.Machines[m].Name], open[plain.Machines[o].Name], "machines that fare alike have the same consoles open")
				}
			}
		}
		d := exposure.Compare(before, after)
		for x := range d.Opened.All() {
			require.Equal(t, flow.DoorConsole, x.Entry.Door.Kind)
			require.Contains(t, open[x.Machine], x.Entry.Opening)
			open[x.Machine] = slices.DeleteFunc(open[x.Machine], func(id int64) bool { return id == x.Entry.Opening })
		}
		for name, left := range open {
			require.Empty(t, left, "the difference leaves out %s", name)
		}
		require.True(t, d.Closed.IsEmpty() && d.Moved.IsEmpty() && d.Gained.IsEmpty() && d.Lost.IsEmpty())
		require.True(t, exposure.Compare(after, before).Opened.IsEmpty())
	})
}
