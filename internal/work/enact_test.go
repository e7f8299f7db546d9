package work

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/driver/sim"
	"ironbark/internal/estate"
	"ironbark/internal/exposure"
	"ironbark/internal/fault"
	"ironbark/internal/flow"
	"ironbark/internal/ledger"
	"ironbark/internal/opening"
	"ironbark/internal/oracle"
	"ironbark/internal/sentence"
	"ironbark/internal/site"
)

type testClock struct{ at time.Time }

func (c *testClock) Now() time.Time { return c.at }

func (c *testClock) Sleep(_ context.Context, d time.Duration) error { c.at = c.at.Add(d); return nil }

// open lists the sampled flows that pass what is installed, each with the machine it arrives at.
func openFlows(t require.TestingT, s *site.Site, flows []driver.Packet, at time.Time) map[string]bool {
	r, err := s.Report(context.Background())
	require.NoError(t, err)
	walker, err := sim.NewWalker(r.Plan.Rows())
	require.NoError(t, err)
	open := map[string]bool{}
	for _, p := range flows {
		for _, f := range walker.Walk(p, at) {
			if f.Open {
				open[p.Source.String()+" "+p.Target.String()+" "+p.Service.String()+" "+f.Machine] = true
			}
		}
	}
	return open
}

func files(w oracle.World) Files {
	nouns, rules, _ := strings.Cut(w.Text, "---\n")
	return Files{{Name: estate.FileName, Data: []byte(nouns)}, {Name: estate.RulesName, Data: []byte(rules)}}
}

// TestNothingIsOpenOnTheWay enacts one random estate after another, killed after
// writes of the ledger and of the driver in turn. At no step is anything open that is open neither before nor
// after; the next enactment completes the work; and what it comes to is the same.
func TestNothingIsOpenOnTheWay(t *testing.T) {
	ctx := context.Background()
	transitions, kills := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		shift := rapid.IntRange(0, 5).Draw(t, "shift")
		first := oracle.DrawShifted(t, shift).WithoutHost()
		second := first.Altered(t)
		if rapid.Bool().Draw(t, "other") {
			second = oracle.DrawShifted(t, shift).WithoutHost()
		}
		flows := sample(rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1)), first, second)
		var final []flow.Row
		var resources []change.Resource
		steps := 0
		every, from := 3, rapid.IntRange(0, 2).Draw(t, "kill") // each step is met in some of the many transitions
		for kill := -1; kill < steps; kill++ {
			if kill >= 0 && kill%every != from {
				continue
			}
			w, place, clean := begin(t, files(first))
			before := openFlows(t, w.Site, flows, w.Clock.Now())
			r, err := w.Review(ctx, files(second))
			if err != nil || len(r.Stopped()) > 0 {
				clean()
				return // what cannot be altered, or must not be
			}
			var between []map[string]bool
			inner := w.Site
			spy := &spy{kill: kill}
			spy.after = func() {
				if kill < 0 || spy.steps == kill-1 { // those before are looked at in the enactment that is not killed
					between = append(between, openFlows(t, inner, flows, w.Clock.Now()))
				}
			}
			w.Site = spy.between(w.Folder.Dir, place, w.Clock)
			err = w.Enact(ctx, r, nil)
			require.NoError(t, w.Site.Close())
			w.Site = inner
			if err != nil {
				require.ErrorIs(t, err, errKilled)
				kills++
				again, err := w.Review(ctx, files(second))
				require.NoError(t, err)
				require.True(t, kill == 0 || again.Unfinished != nil)
				if kill > 0 {
					_, err = w.Open(ctx, sentence.Open{})
					require.ErrorIs(t, err, ledger.ErrUnfinished, "nothing is opened while an enactment is unfinished")
					_, err = w.Open(ctx, sentence.Open{Emergency: true})
					_, judged := errors.AsType[*opening.RefusalError](err)
					require.True(t, judged, "but in an emergency it is judged: %v", err)
				}
				require.NoError(t, w.Enact(ctx, again, nil))
			}
			last, err := w.Review(ctx, files(second))
			require.NoError(t, err)
			require.True(t, last.IsEmpty(), "nothing is left to do")
			report, err := inner.Report(ctx)
			require.NoError(t, err)
			after := openFlows(t, inner, flows, w.Clock.Now())
			for i, open := range between {
				for f := range open {
					require.True(t, before[f] || after[f], "step %d, killed after %d: %s is open neither before nor after\n%s\n=====\n%s", i, kill, f, first.Text, second.Text)
				}
			}
			if kill < 0 {
				final, resources, steps = report.Base(), report.Resources, spy.steps
				transitions++
			} else {
				require.Equal(t, final, report.Base(), "completed after a kill, the tables are those of an enactment in one go")
				require.Equal(t, resources, report.Resources)
			}
			broken, err := inner.CheckRecord(ctx, true)
			require.NoError(t, err)
			require.Empty(t, broken)
			clean()
		}
	})
	t.Logf("%d transitions, killed %d times", transitions, kills)
	require.Positive(t, kills)
}

// fast is where the folders of these tests are: in memory where there is such a file
// system, since nothing here is about a disk. "" is the usual place.
var fast = func() string {
	if info, err := os.Stat("/dev/shm"); err == nil && info.IsDir() {
		return "/dev/shm"
	}
	return ""
}()

// begin makes a site with an estate enacted, and an opening if the estate permits one.
func begin(t require.TestingT, fs Files) (*Work, *sim.Site, func()) {
	ctx := context.Background()
	dir, err := os.MkdirTemp(fast, "ironbark-work-")
	require.NoError(t, err)
	clock := &testClock{oracle.Epoch.Add(-10 * time.Second)}
	s, d := simSite(dir, clock, sim.Faults{})
	w := &Work{Folder: Folder{dir}, Site: s, Clock: clock, Person: "mara", Caller: &Caller{Site: func() ([]netip.Addr, error) {
		return []netip.Addr{netip.MustParseAddr("198.51.100.7"), netip.MustParseAddr("2001:db8:ca11::7")}, nil
	}}}
	r, err := w.Review(ctx, fs)
	require.NoError(t, err)
	r.Broken = nil
	require.NoError(t, w.Enact(ctx, r, nil))
	clock.at = oracle.Epoch
	for _, words := range []string{"open ssh, https to m-1 from everywhere for 1h because \"drawn\"", "open any to m-* from 198.51.100.0/24 for 2h because \"drawn\""} {
		o, err := sentence.ParseArgs([]string{words}, clock.at)
		require.NoError(t, err)
		_, err = w.Open(ctx, o.(sentence.Open))
		if refusal := (*opening.RefusalError)(nil); err != nil && !errors.As(err, &refusal) {
			require.ErrorContains(t, err, "m-")
		}
	}
	return w, d, func() {
		require.NoError(t, s.Close())
		require.NoError(t, os.RemoveAll(dir))
	}
}

// sample draws flows between addresses that matter in either world.
func sample(r *rand.Rand, worlds ...oracle.World) (flows []driver.Packet) {
	var targets, sources []netip.Addr
	var services []flow.Service
	for _, w := range worlds {
		p := w.Plan()
		addrs, list := w.Interesting()
		sources, services = append(sources, addrs...), append(services, list...)
		for i := range p.Machines {
			for _, run := range p.AddrsOf(int32(i)).Runs() {
				targets = append(targets, run.Lo.Addr())
			}
		}
		for _, run := range p.Own().Runs() {
			targets = append(targets, run.Lo.Addr())
		}
	}
	for range 300 {
		p := driver.Packet{Source: sources[r.IntN(len(sources))], Target: targets[r.IntN(len(targets))], Service: services[r.IntN(len(services))]}
		if r.IntN(4) == 0 { // a machine calls somebody, outside perhaps
			p.Source, p.Target = p.Target, p.Source
		}
		if p.Source.Is4() == p.Target.Is4() {
			flows = append(flows, p)
		}
	}
	return flows
}

// TestTheReviewTellsTheDifferenceThatComesAbout compares the difference that a
// review told with what changed between the two installed plans.
func TestTheReviewTellsTheDifferenceThatComesAbout(t *testing.T) {
	ctx := context.Background()
	rapid.Check(t, func(t *rapid.T) {
		shift := rapid.IntRange(0, 5).Draw(t, "shift")
		first := oracle.DrawShifted(t, shift).WithoutHost()
		second := first.Altered(t)
		if rapid.Bool().Draw(t, "other") {
			second = oracle.DrawShifted(t, shift).WithoutHost()
		}
		w, _, clean := begin(t, files(first))
		defer clean()
		old, err := w.Installed(ctx)
		require.NoError(t, err)
		r, err := w.Review(ctx, files(second))
		if err != nil || len(r.Stopped()) > 0 {
			return
		}
		require.NoError(t, w.Enact(ctx, r, nil))
		now, err := w.Installed(ctx)
		require.NoError(t, err)
		// Public addresses that the site chose on the way are no sources any more; the review could not know them.
		told, came := r.Exposure, exposure.Compare(exposure.NewView(old.Plan, w.Clock.Now()), exposure.NewView(now.Plan, w.Clock.Now()))
		own := old.Plan.Own().Union(now.Plan.Own())
		require.Equal(t, shape(came.Opened, own), shape(told.Opened, own))
		require.Equal(t, shape(came.Closed, own), shape(told.Closed, own))
	})
}

func shape(list exposure.Changes, own flow.Addrs) (out []string) {
	for c := range list.All() {
		if from := c.Entry.From.Subtract(own); !from.IsEmpty() {
			out = append(out, strings.Join([]string{
				c.Machine, c.Entry.Door.Kind.String(), c.Entry.Door.Via, strings.Join(flow.ServiceRuns(c.Entry.Services), ","), strings.Join(flow.AddrRuns(from), ","),
			}, " "))
		}
	}
	slices.Sort(out)
	return out
}

// TestWhatFailedSaysWhatToDoFirst: to enact once more does not help where something has to be done before.
func TestWhatFailedSaysWhatToDoFirst(t *testing.T) {
	const again = "enact goes on with what is left"
	off := func(machine string) error {
		return fmt.Errorf("alter machine %s: %w", machine, &driver.NoConsoleError{Why: "it is off", Try: fault.Run("start", machine)})
	}
	for want, failed := range map[string][]error{
		again:                          {errors.New("no space left")},
		"start gauge-1; then " + again: {errors.New("no space left"), off("gauge-1"), off("gauge-1")},
		"start a; then start b; then start c; then " + again: {off("a"), off("b"), off("c"), off("d")},
	} {
		require.Equal(t, want, (&PartlyDoneError{Failed: failed}).Advice().String())
	}
}
