package opening_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/flow"
	"ironbark/internal/opening"
	"ironbark/internal/oracle"
	"ironbark/internal/sentence"
)

// covers judges one flow of an opening at a moment by the words of the permits alone.
func covers(w oracle.World, person, machine string, service flow.Service, from flow.Point, held time.Duration) bool {
	resolve, plan := flow.NewResolver(w.Estate, w.Plan()), w.Plan()
	m, _ := plan.MachineByName(machine)
	for _, st := range w.Estate.Sentences() {
		p, ok := st.Sentence.(sentence.Permit)
		if ok && slices.ContainsFunc(p.People, func(n sentence.Name) bool { return w.Estate.Belongs(person, n.Text) }) &&
			resolve.Group(p.To).Has(m) && resolve.Services(p.Services).Contains(service) && resolve.Source(p.From).Contains(from) &&
			held < p.UpTo.Length() && held < w.Estate.Limits.Opening() {
			return true
		}
	}
	return false
}

// TestAnOpeningKeepsWhatIsCovered takes openings that were granted once, and permits as
// they may be by now, and compares flow by flow what is kept.
func TestAnOpeningKeepsWhatIsCovered(t *testing.T) {
	people := []string{"ops", "mara", "leads"}
	services := []string{"ssh", "rdp", "ssh, rdp", "any", "tcp/20-25"}
	targets := []string{"web-1", "web-*", "all", "store", "landing"}
	sources := []string{"office", "everywhere", "203.0.113.64/28", "198.51.100.7", "office except 203.0.113.70"}
	lengths := []string{"30m", "1h", "2h", "5h"}
	rapid.Check(t, func(t *rapid.T) {
		pick := func(list []string) string { return rapid.SampledFrom(list).Draw(t, "word") }
		var permits []string
		for range rapid.IntRange(0, 4).Draw(t, "permits") {
			permits = append(permits, fmt.Sprintf("permit %s to open %s to %s from %s up to %s", pick(people), pick(services), pick(targets), pick(sources), pick(lengths)))
		}
		w := oracle.WorldOf(nouns+"limits: {opening: 3h}\n", permits...)
		resolve := flow.NewResolver(w.Estate, w.Plan())
		s, err := sentence.ParseArgs([]string{fmt.Sprintf("open %s to %s from %s for %s because \"x\"", pick(services), pick(targets), pick(sources), pick(lengths))}, oracle.Epoch)
		require.NoError(t, err)
		words := s.(sentence.Open)
		part := opening.Part{
			Services: resolve.Services(words.Services), From: resolve.Source(words.From), End: oracle.Epoch.Add(words.For.Length()), Permit: "one that is gone",
		}
		for _, m := range resolve.Group(words.To).Machines {
			part.Machines = append(part.Machines, w.Plan().Machines[m].Name)
		}
		words.For, words.Until = sentence.Duration{}, part.End
		o := opening.Opening{ID: 1, Person: "mara", Words: words, Begin: oracle.Epoch, Parts: []opening.Part{part}}
		kept, lost := opening.Covered(o, w.Estate, w.Plan())
		assert.True(t, kept.Within(o))
		if len(kept.Parts) == 1 { // several may make up all of it
			assert.Equal(t, len(lost) == 0, o.Within(kept))
		}
		passes := func(o opening.Opening, machine string, service flow.Service, from flow.Point, held time.Duration) (n int) {
			for _, p := range o.Parts {
				if slices.Contains(p.Machines, machine) && p.Services.Contains(service) && p.From.Contains(from) && oracle.Epoch.Add(held).Before(p.End) {
					n++
				}
			}
			return n
		}
		for _, machine := range []string{"web-1", "web-2", "store"} {
			for _, service := range []flow.Service{flow.TCPPort(20), flow.TCPPort(22), flow.TCPPort(3389), flow.UDPPort(53)} {
				for _, a := range []string{"203.0.113.64", "203.0.113.70", "203.0.113.90", "198.51.100.7", "192.0.2.1"} {
					atom, err := sentence.ParseAddress(a)
					require.NoError(t, err)
					from := flow.PointOf(atom)
					for _, held := range []time.Duration{0, 29 * time.Minute, 30 * time.Minute, 90 * time.Minute, 150 * time.Minute, 4 * time.Hour} {
						want := 0
						if passes(o, machine, service, from, held) > 0 && covers(w, "mara", machine, service, from, held) {
							want = 1
						}
						require.Equal(t, want, passes(kept, machine, service, from, held), "%s %s from %s after %s: %v", machine, service, a, held, permits)
					}
				}
			}
		}
	})
}

// TestTheWordsOfWhatIsLeft takes from an opening what permits do not cover any more, and reads the words of what is left.
func TestTheWordsOfWhatIsLeft(t *testing.T) {
	for _, c := range []struct {
		permits []string
		words   string // of what is left; "" nothing is
		parts   int
		lost    int
	}{
		{[]string{"permit ops to open ssh, rdp to all from everywhere up to 4h"}, `open ssh, rdp to web-* from office for 2h in emergency because "x"`, 1, 0},
		{[]string{"permit ops to open ssh to all from everywhere up to 4h"}, `open ssh to web-1, web-2 from office until 2026-11-23T11:00:00Z in emergency because "x"`, 1, 1},
		{[]string{"permit ops to open ssh, rdp to web-1 from everywhere up to 4h"}, `open ssh, rdp to web-1 from office until 2026-11-23T11:00:00Z in emergency because "x"`, 1, 1},
		{[]string{"permit ops to open ssh, rdp to web-1 from 203.0.113.64 up to 4h"}, `open ssh, rdp to web-1 from 203.0.113.64 until 2026-11-23T11:00:00Z in emergency because "x"`, 1, 2},
		{[]string{"permit ops to open ssh, rdp to all from everywhere up to 1h"}, `open ssh, rdp to web-1, web-2 from office until 2026-11-23T10:00:00Z in emergency because "x"`, 1, 1},
		{[]string{"permit ops to open ssh, rdp to all from everywhere up to 2h"}, `open ssh, rdp to web-* from office for 2h in emergency because "x"`, 1, 0}, // it may last so long and no longer
		{[]string{"permit ops to open ssh to web-1 from everywhere up to 4h", "permit ops to open rdp to web-2 from everywhere up to 4h"}, `open ssh, rdp to web-* from office for 2h in emergency because "x"`, 2, 2},
		{[]string{"permit ops to open ssh to store from everywhere up to 4h"}, "", 0, 1},
		{[]string{"permit leads to open ssh, rdp to all from everywhere up to 4h"}, "", 0, 1},
	} {
		for i, permit := range c.permits {
			c.permits[i] = permit + " in emergency"
		}
		w := oracle.WorldOf(nouns, c.permits...)
		s, err := sentence.ParseArgs([]string{`open ssh, rdp to web-* from office for 2h in emergency because "x"`}, oracle.Epoch)
		require.NoError(t, err)
		words, resolve := s.(sentence.Open), flow.NewResolver(w.Estate, w.Plan())
		part := opening.Part{Machines: []string{"web-1", "web-2"}, Services: resolve.Services(words.Services), From: resolve.Source(words.From), End: oracle.Epoch.Add(2 * time.Hour)}
		kept, lost := opening.Covered(opening.Opening{ID: 1, Person: "mara", Words: words, Begin: oracle.Epoch, Emergency: true, Parts: []opening.Part{part}}, w.Estate, w.Plan())
		assert.Len(t, kept.Parts, c.parts, c.permits)
		assert.Len(t, lost, c.lost, c.permits)
		if c.words != "" {
			assert.Equal(t, c.words, kept.Words.String(), c.permits)
		}
		for _, p := range kept.Parts {
			assert.NotEmpty(t, p.Machines)
		}
		if c.parts == 2 { // its words are those that were asked for, but for the end
			assert.Equal(t, `open ssh, rdp to web-* from office until 2026-11-23T11:00:00Z in emergency because "x"`, opening.Reworded(kept, w.Estate, w.Plan()).String())
		}
	}
}
