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

// wish is one thing that somebody does.
type wish struct {
	do      string // open, emergency, extend, shorten, close, close all, approve, decline, enact, wait
	who     string
	machine string
	ahead   time.Duration // before it begins
	length  time.Duration
	id      int64
	narrow  bool // enact the narrow rules
}

// outcome is what a wish came to.
type outcome struct {
	id       int64
	end      time.Time
	waits    bool
	ids      []int64 // that were closed
	err      error
	moments  []time.Time // that the clock showed meanwhile
	from, to int         // steps of all people
}

// shoreState is the model: what there is if one thing is done after the other.
type shoreState struct {
	held   map[int64]heldOne
	gone   map[int64]bool   // closed by somebody
	owed   map[int64]string // who owes an account of an emergency
	narrow bool
}

type heldOne struct {
	who, machine string
	begin, end   time.Time
	length       time.Duration // of a request
	starting     time.Time     // of one that was asked for ahead of time
	waits, emerg bool
}

func (s shoreState) clone() shoreState {
	return shoreState{maps.Clone(s.held), maps.Clone(s.gone), maps.Clone(s.owed), s.narrow}
}

func (s shoreState) active(id int64, now time.Time) (heldOne, bool) {
	h, known := s.held[id]
	return h, known && now.Before(h.end)
}

var groups = map[string][]string{"mara": {"ops"}, "ilse": {"ops", "leads"}, "tom": {"crew"}, "lena": {"leads"}}

func in(who, group string) bool { return slices.Contains(groups[who], group) }

// may tells whether somebody may open a machine for a length, and whether that needs approval.
func (s shoreState) may(who, machine string, length time.Duration, emergency bool) (may, approval bool) {
	ops := in(who, "ops") && length <= 3*time.Hour && (!s.narrow || machine == "m-1")
	switch {
	case emergency:
		return ops && !s.narrow, false
	case ops:
		return true, false
	}
	return in(who, "crew") && length <= 2*time.Hour && !s.narrow, true
}

// after tells what a wish comes to at a moment, if nothing else is done meanwhile; ok is false
// where its outcome is another one. What is there is looked at then or later.
func (s shoreState) after(w wish, o outcome, now, seen time.Time) (next shoreState, ok bool) {
	next = s.clone()
	h, active := s.active(w.id, now)
	refused := o.err != nil
	switch w.do {
	case "open", "emergency":
		emergency := w.do == "emergency"
		may, approval := s.may(w.who, w.machine, w.length, emergency)
		begin := now
		if w.ahead > 0 {
			begin = o.moments[0].Add(w.ahead)
		}
		end := begin.Add(w.length)
		same, mine := int64(0), heldOne{}
		for id, one := range s.held {
			if _, active := s.active(id, seen); active && one.who == w.who && one.machine == w.machine && one.emerg == emergency && (one.waits || w.ahead == 0 && !one.begin.After(now)) {
				same, mine = id, one
			}
		}
		for id, who := range s.owed {
			may = may && !(emergency && who == w.who && id != same)
		}
		switch {
		case !may, w.ahead > 0 && !begin.After(now), mine.waits, same > 0 && end.Sub(mine.begin) > 3*time.Hour:
			return next, refused
		case refused, o.waits != approval, same > 0 && !approval && same != o.id:
			return next, false
		}
		if _, known := s.held[o.id]; known && (same == 0 || approval) {
			return next, false
		}
		one := heldOne{who: w.who, machine: w.machine, begin: begin, end: end, waits: approval, emerg: emergency, length: w.length}
		if w.ahead > 0 {
			one.starting = begin
		}
		if same > 0 && !approval {
			one.begin = mine.begin
		}
		if approval {
			one.end = now.Add(opening.LapseTime)
		}
		if emergency {
			next.owed[o.id] = w.who
		}
		next.held[o.id] = one
		return next, o.end.Equal(one.end)
	case "extend":
		end := now.Add(w.length)
		if !active || h.waits || h.who != w.who || h.begin.After(now) || end.Before(h.end) || end.Sub(h.begin) > 3*time.Hour {
			return next, refused
		}
		switch may, approval := s.may(w.who, h.machine, end.Sub(h.begin), h.emerg); {
		case !may:
			return next, refused
		case approval: // it goes on until its own end, and the rest waits
			h.waits, h.end, h.length = true, now.Add(opening.LapseTime), w.length
			next.held[o.id] = h
			return next, !refused && o.waits && o.end.Equal(h.end) && o.id != w.id
		}
		h.end = end
	case "shorten":
		end := o.moments[0].Add(w.length)
		if !active || !end.After(now) || h.waits || h.who != w.who && !in(w.who, "leads") || !end.Before(h.end) {
			return next, refused
		}
		h.end = end
	case "close", "close all":
		var want []int64
		for id, one := range s.held {
			if _, active := s.active(id, now); active && (w.do == "close all" || id == w.id) {
				if want = append(want, id); one.who != w.who && !in(w.who, "leads") {
					return next, refused
				}
			}
		}
		for _, id := range want {
			delete(next.held, id)
			next.gone[id] = true
		}
		for _, id := range o.ids { // of two who close the same at once, both are told that it is closed
			if !slices.Contains(want, id) && !s.gone[id] {
				return next, false
			}
		}
		return next, !refused && !slices.ContainsFunc(want, func(id int64) bool { return !slices.Contains(o.ids, id) })
	case "approve":
		if !active || !h.waits || h.who == w.who || !in(w.who, "leads") {
			return next, refused
		}
		if may, _ := s.may(h.who, h.machine, h.length, false); !may {
			return next, refused
		}
		h.waits, h.begin, h.end = false, now, now.Add(h.length)
		if !h.starting.IsZero() { // the window stays where it was asked for
			h.end = h.starting.Add(h.length)
		}
		if h.starting.After(now) {
			h.begin = h.starting
		}
		if !h.end.After(now) {
			return next, refused
		}
	case "decline":
		if !active || !h.waits || h.who == w.who || !in(w.who, "leads") {
			return next, refused
		}
		delete(next.held, w.id)
		next.gone[w.id] = true
		return next, !refused
	case "enact":
		next.narrow = w.narrow
		for id, one := range s.held {
			may, _ := next.may(one.who, one.machine, 0, one.emerg)
			if !may {
				delete(next.held, id)
				next.gone[id] = true
			}
		}
		return next, !refused
	case "wait":
		return next, true
	}
	next.held[w.id] = h
	return next, !refused && o.id == w.id && o.waits == h.waits && o.end.Equal(h.end)
}

// passing tells why what somebody was refused for does not tell of the state: something else
// went on, and they are to try again.
func passing(err error) bool {
	unopened := (*site.NotOpenedError)(nil)
	notBegun := (*NotBegunError)(nil)
	return errors.Is(err, ledger.ErrUnfinished) || errors.Is(err, ledger.ErrChanged) || errors.As(err, &notBegun) ||
		errors.As(err, &unopened) && unopened.Back == nil && errors.Is(err, driver.ErrShut)
}

// explained looks for an order of what was done, each at a moment between its beginning and its end,
// that comes to what is there now.
func explained(s shoreState, wishes []wish, outcomes []outcome, left []int, is func(shoreState) bool) bool {
	if len(left) == 0 {
		return is(s)
	}
	for i, at := range left {
		if slices.ContainsFunc(left, func(other int) bool { return outcomes[other].to < outcomes[at].from }) {
			continue // that one was over before this one began
		}
		rest := slices.Delete(slices.Clone(left), i, i+1)
		late := !outcomes[at].end.IsZero() && !outcomes[at].end.After(outcomes[at].moments[len(outcomes[at].moments)-1])
		if passing(outcomes[at].err) || late { // what was over before it was told is as nothing
			if explained(s, wishes, outcomes, rest, is) {
				return true
			}
			if !late {
				continue
			}
		}
		for i, now := range outcomes[at].moments {
			for _, seen := range outcomes[at].moments[i:] {
				if next, ok := s.after(wishes[at], outcomes[at], now, seen); ok && explained(next, wishes, outcomes, rest, is) {
					return true
				}
			}
		}
	}
	return false
}

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
