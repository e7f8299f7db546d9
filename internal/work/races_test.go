package work

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/driver/linux"
	"ironbark/internal/driver/sim"
	"ironbark/internal/flow"
	"ironbark/internal/ledger"
	"ironbark/internal/ledger/sqlite"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
	"ironbark/internal/site"
)

const twoMachines = `estate: tides
site: sim
people: {mara: {groups: [ops]}, ilse: {groups: [ops, leads]}, tom: {groups: [crew]}, lena: {groups: [leads]}}
networks: {estuary: {space: [10.60.0.0/16], outside: true, subnets: {landing: {range: [10.60.1.0/24]}}}}
machines:
  m-1: {image: linux-web, size: c1m1, at: landing, address: auto}
  m-2: {image: linux-web, size: c1m1, at: landing, address: auto}
`

// Two sets of rules: by the second ops may open nothing of m-2, and crew nothing at all.
const wideRules = `permit ops to open ssh to all from everywhere up to 3h
permit ops to open ssh to all from everywhere up to 3h in emergency
permit crew to open ssh to all from everywhere up to 2h needing 1 approval from leads
`

const narrowRules = "permit ops to open ssh to m-1 from everywhere up to 3h\n"

// things are what people do; where time passes by itself nobody waits.
var things = []string{"open", "open", "emergency", "extend", "extend", "shorten", "close", "close all", "approve", "approve", "decline", "enact", "wait", "wait"}

func drawWish(t *rapid.T, label string, real bool) wish {
	list := things
	if real {
		list = things[:len(things)-2]
	}
	w := wish{
		do:      rapid.SampledFrom(list).Draw(t, label),
		who:     rapid.SampledFrom([]string{"mara", "mara", "ilse", "tom", "lena"}).Draw(t, "who"),
		machine: rapid.SampledFrom([]string{"m-1", "m-2"}).Draw(t, "machine"),
		length:  time.Duration(rapid.IntRange(1, 6).Draw(t, "half hours")) * 30 * time.Minute,
		id:      int64(rapid.IntRange(1, 3).Draw(t, "id")),
		narrow:  rapid.Bool().Draw(t, "narrow"),
	}
	if w.do == "open" && !real && rapid.IntRange(0, 3).Draw(t, "ahead") == 0 {
		w.ahead = 30 * time.Minute
	}
	if w.do == "approve" || w.do == "decline" {
		w.who, w.id = rapid.SampledFrom([]string{"ilse", "lena", "tom"}).Draw(t, "lead"), 2
	}
	return w
}

// does does what somebody wishes.
func does(ctx context.Context, w *Work, clock *testClock, nouns string, one wish) (o outcome) {
	words := func(text string) sentence.Open {
		s, err := sentence.ParseArgs([]string{text}, clock.at)
		if err != nil {
			panic(err)
		}
		return s.(sentence.Open)
	}
	var granted opening.Granted
	switch one.do {
	case "open", "emergency":
		text := fmt.Sprintf("open ssh to %s from 198.51.100.7 ", one.machine)
		if one.ahead > 0 {
			text += "starting " + clock.at.Add(one.ahead).UTC().Format(time.RFC3339) + " "
		}
		text += "for " + sentence.DurationOf(one.length).String()
		if one.do == "emergency" {
			text += " in emergency"
		}
		granted, o.err = w.Open(ctx, words(text+" because \"drawn\""))
	case "extend":
		d, err := sentence.ParseDuration(sentence.DurationOf(one.length).String())
		if err != nil {
			panic(err)
		}
		granted, o.err = w.Extend(ctx, one.id, sentence.Open{For: d})
	case "shorten":
		granted.Opening, o.err = w.Narrow(ctx, one.id, Narrower{End: clock.at.Add(one.length)})
	case "close", "close all":
		var st *State
		if st, o.err = w.HeldOf(ctx, one.id); one.do == "close all" {
			st, o.err = w.Held(ctx)
		}
		if o.err != nil {
			return o
		}
		var c Closed
		c, o.err = w.Close(ctx, st, func(h opening.Opening) bool { return one.do == "close all" || h.ID == one.id })
		for _, h := range c.Openings {
			o.ids = append(o.ids, h.ID)
		}
		return o
	case "approve":
		granted, o.err = w.Approve(ctx, one.id)
	case "decline":
		granted.Opening, o.err = w.Decline(ctx, one.id, "drawn")
	case "enact":
		rules := wideRules
		if one.narrow {
			rules = narrowRules
		}
		r, err := w.Review(ctx, bothFiles(nouns, rules))
		if err == nil {
			err = w.Enact(ctx, r, nil)
		}
		o.err = err
		return o
	case "wait":
		clock.at = clock.at.Add(one.length)
		return o
	}
	o.id, o.end, o.waits = granted.Opening.ID, granted.Opening.End(), granted.Opening.Waits()
	return o
}

// TestAtOnceIsAsOneAfterTheOther has people open, extend, narrow, close, approve and enact at
// once while time passes, a step of one and then a step of another. What they are told and what is
// there in the end is as if they had come one after the other; nothing ever passes that the
// ledger does not have; and what was closed never passes again.
func TestAtOnceIsAsOneAfterTheOther(t *testing.T) {
	runs, told := 0, map[string]int{}
	rapid.Check(t, func(t *rapid.T) {
		dir, err := os.MkdirTemp(fast, "ironbark-races-")
		require.NoError(t, err)
		defer os.RemoveAll(dir)
		clock := &testClock{time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)}
		place := sim.New(filepath.Join(dir, StateDir), clock, sim.Faults{})
		defer place.Close()
		atOnce(t, dir, twoMachines, place, clock, told)
		runs++
	})
	t.Logf("%d runs: %v", runs, told)
	for _, do := range []string{"open", "close all", "approve", "enact"} {
		require.Positive(t, told[do], do)
	}
}

// TestAtOnceInTheKernel is the same on a Linux host, where packets tell in the end what is open.
func TestAtOnceInTheKernel(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("network namespaces and the packet filter need root")
	}
	told := map[string]int{}
	for seed := range 20 {
		dir := t.TempDir()
		clock := &testClock{time.Now().UTC().Truncate(time.Second)}
		place := linux.New(filepath.Join(dir, StateDir), clock)
		t.Cleanup(func() { require.NoError(t, errors.Join(place.RemoveEverything(), place.Close())) })
		rapid.Custom(func(t *rapid.T) bool {
			nouns := strings.NewReplacer("site: sim", "site: linux", "linux-web", "light").Replace(twoMachines)
			open := atOnce(t, dir, nouns, place, clock, told)
			o, err := place.Observe(context.Background(), driver.Everything)
			require.NoError(t, err)
			for _, m := range o.Resources {
				if m.Kind != change.Machine {
					continue
				}
				sent, err := place.Probe(context.Background(), driver.Packet{Source: netip.MustParseAddr("198.51.100.7"), Target: m.Given.Addr4, Service: flow.TCPPort(22)})
				require.NoError(t, err)
				require.Equal(t, open[m.Name], sent[0].Open, m.Name)
			}
			return true
		}).Example(seed)
	}
	t.Log(told)
}

// atOnce is one run on a place where nothing is yet. It returns the machines that are open in
// the end.
func atOnce(t *rapid.T, dir, nouns string, place driver.Driver, clock *testClock, told map[string]int) map[string]bool {
	ctx := context.Background()
	_, real := place.(*linux.Site)
	record := sqlite.New(filepath.Join(dir, StateDir), sqlite.Options{})
	defer record.Close()
	as := func(who string, s *site.Site) *Work {
		return &Work{Folder: Folder{dir}, Site: s, Clock: clock, Person: who}
	}
	free := site.New(record, place, clock)
	first := as("ilse", free)
	r, err := first.Review(ctx, bothFiles(nouns, wideRules))
	require.NoError(t, err)
	require.NoError(t, first.Enact(ctx, r, nil))
	require.NoError(t, first.Await(ctx, r, time.Minute, func(string, driver.Machine) {}))
	if !real {
		clock.at = clock.at.Truncate(time.Hour).Add(time.Hour)
	}

	model := shoreState{held: map[int64]heldOne{}, gone: map[int64]bool{}, owed: map[int64]string{}}
	for _, one := range []wish{ // opening 1 holds, 2 waits
		{do: "open", who: "mara", machine: "m-1", length: time.Hour}, {do: "open", who: "tom", machine: "m-2", length: time.Hour},
	} {
		o := does(ctx, as(one.who, free), clock, nouns, one)
		require.NoError(t, o.err)
		next, ok := model.after(one, o, clock.at, clock.at)
		require.True(t, ok)
		model = next
	}

	wishes := make([]wish, rapid.IntRange(2, 5).Draw(t, "people"))
	outcomes, moments := make([]outcome, len(wishes)), make([][]time.Time, len(wishes))
	var people []func(step func())
	steps := 0
	closed := map[int64]bool{}
	for i := range wishes {
		wishes[i] = drawWish(t, fmt.Sprint("wish ", i), real)
		people = append(people, func(step func()) {
			s, done := steppedSite(dir, place, clock, step)
			from := steps
			moments[i] = []time.Time{clock.at}
			o := does(ctx, as(wishes[i].who, s), clock, nouns, wishes[i])
			o.from, o.to, o.moments = from, steps, moments[i]
			moments[i], outcomes[i] = nil, o
			if err := done(); o.err == nil {
				outcomes[i].err = err
			}
			for _, id := range o.ids {
				closed[id] = true
			}
		})
	}
	last := clock.at
	new(turns).run(people, func(list []int) int {
		steps++
		return rapid.IntRange(0, len(list)-1).Draw(t, "turn")
	}, func() {
		if clock.at.After(last) {
			last = clock.at
			for i := range moments { // whoever is under way may go by either
				if moments[i] != nil {
					moments[i] = append(moments[i], last)
				}
			}
		}
		onlyDecided(ctx, t, record, place, closed, clock.at)
	})
	for i, o := range outcomes {
		if o.err == nil {
			told[wishes[i].do]++
		} else if passing(o.err) && o.id > 0 { // whoever closed it before it came about is told so
			model.gone[o.id] = true
		}
	}
	all := make([]int, len(wishes))
	for i := range all {
		all[i] = i
	}
	report, err := free.Report(ctx)
	require.NoError(t, err)
	now := clock.at
	is := func(s shoreState) bool {
		for _, o := range Active(report.Openings, now) {
			h, active := s.active(o.ID, now)
			if !active || !o.End().Equal(h.end) || o.Waits() != h.waits || !slices.Equal(o.Machines(), []string{h.machine}) {
				return false
			}
			delete(s.held, o.ID)
		}
		return !slices.ContainsFunc(slices.Collect(maps.Keys(s.held)), func(id int64) bool { _, active := s.active(id, now); return active })
	}
	if !explained(model, wishes, outcomes, all, func(s shoreState) bool { return is(s.clone()) }) {
		var b strings.Builder
		for i := range wishes {
			fmt.Fprintf(&b, "%+v\n  → %+v\n", wishes[i], outcomes[i])
			if outcomes[i].err != nil {
				fmt.Fprintf(&b, "  %v\n", outcomes[i].err)
			}
		}
		for _, o := range report.Openings {
			fmt.Fprintf(&b, "opening %d of %s until %v, waits %v, ended %v: %s\n", o.ID, o.Person, o.End(), o.Waits(), o.Ended, o.Describe())
		}
		require.Fail(t, "no order explains it", "%s", b.String())
	}
	rules := map[int64]bool{}
	for _, r := range report.Plan.Rules {
		if r.Kind == flow.Opening && flow.Active(r.Until, now) {
			rules[r.Opening] = true
		}
	}
	open := map[string]bool{}
	for _, o := range Active(report.Openings, now) {
		for _, m := range o.Machines() {
			open[m] = open[m] || !o.Waits()
		}
		require.Equal(t, !o.Waits(), rules[o.ID], "opening %d is recorded, and the place lets it pass or not", o.ID)
		delete(rules, o.ID)
	}
	require.Empty(t, rules)
	require.Empty(t, report.Altered)
	return open
}

// onlyDecided asserts that the place lets nothing pass that the ledger does not have, as it is
// or as it was before what is under way, and nothing that was closed.
func onlyDecided(ctx context.Context, t *rapid.T, record ledger.Ledger, place driver.Driver, closed map[int64]bool, now time.Time) {
	o, err := place.Observe(ctx, driver.Scope{Plan: true, After: -1})
	require.NoError(t, err)
	st, err := record.State(ctx, ledger.Scope{})
	require.NoError(t, err)
	for _, r := range o.Plan.Rules {
		if r.Kind != flow.Opening || !flow.Active(r.Until, now) {
			continue
		}
		require.False(t, closed[r.Opening], "opening %d was closed", r.Opening)
		i := slices.IndexFunc(st.Openings, func(one opening.Opening) bool { return one.ID == r.Opening })
		require.GreaterOrEqual(t, i, 0, "opening %d passes and is not recorded", r.Opening)
		lets := func(one opening.Opening) bool {
			return !one.Waits() && slices.ContainsFunc(one.Rules(o.Plan), func(w flow.Rule) bool {
				return !r.Until.After(w.Until) && !r.Begin.Before(w.Begin) && slices.Equal(r.To.Machines, w.To.Machines)
			})
		}
		intent := st.Intended[r.Opening]
		require.True(t, lets(st.Openings[i]) || intent.Before != nil && lets(*intent.Before), "opening %d passes otherwise than was decided", r.Opening)
	}
}
