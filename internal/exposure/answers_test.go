package exposure_test

import (
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/opening"
	"ironbark/internal/oracle"
	"ironbark/internal/sentence"
)

var update = flag.Bool("update", false, "write what is told into the golden files")

// told answers the questions of a golden file about one estate.
type told struct {
	w     oracle.World
	plan  *flow.Plan
	names *exposure.Names
	lines []string
}

func (o *told) say(format string, args ...any) {
	o.lines = append(o.lines, "  "+strings.TrimRight(fmt.Sprintf(format, args...), " "))
}

func end(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return " until " + t.UTC().Format("15:04")
}

func by(o flow.Origin, opening int64) string {
	switch {
	case opening > 0:
		return fmt.Sprint("opening ", opening)
	case o.Line > 0:
		return fmt.Sprint(":", o.Line)
	}
	return o.Sentence
}

func (o *told) entry(e exposure.Entry) string {
	mark := ""
	if e.Administrative {
		mark = "!"
	}
	return fmt.Sprintf("%s: %s%s from %s by %s %s%s", exposure.DoorWords(e.Door), strings.Join(flow.ServiceRuns(e.Services), ","), mark, o.names.Plain(e.From), e.Reason, by(e.Origin, e.Opening), end(e.Until))
}

// answer answers one question.
func (o *told) answer(t require.TestingT, v *exposure.View, question string) {
	verb, words, _ := strings.Cut(question, " ")
	switch verb {
	case "why":
		s, err := sentence.ParseArgs([]string{question}, oracle.Epoch)
		require.NoError(t, err, question)
		ask, resolve := s.(sentence.Ask), flow.NewResolver(o.w.Estate, o.plan)
		targets := exposure.Targets(o.w.Estate, o.plan, ask.To)
		parts := v.Ask(resolve.Services(ask.Services), resolve.Source(ask.From), targets...)
		o.say("%s", exposure.Verdict(parts))
		for _, p := range parts {
			leads := "nowhere"
			if p.Machine >= 0 {
				leads = o.plan.Machines[p.Machine].Name + " " + strings.Join(flow.ServiceRuns(p.Arrives), ",")
			}
			o.say("%s: %s from %s%s → %s", exposure.TargetName(o.plan, p.Target), strings.Join(flow.ServiceRuns(p.Services), ","), o.names.Plain(p.From), end(p.Until), leads)
			for _, s := range v.Steps(p, flow.Namings(nil, o.w.Estate)) {
				o.say("  %s: %s %s%s", s.Question, s.Answer, by(s.Origin, 0), map[bool]string{true: "", false: " ."}[s.Passed])
			}
		}
	case "guarantees":
		for _, b := range exposure.Guarantees(o.w.Estate, o.plan, oracle.Epoch) {
			from, to := b.Ends()
			o.say("%s: at %s %s from %s to %s, by %s %s%s", by(b.Guarantee, 0), b.At.UTC().Format("15:04"), b.Flow.Service, from, to, b.By.Reason, by(b.By.Origin, max(b.By.Opening, 0)), map[bool]string{true: ", potential"}[b.Potential])
		}
	case "call": // what a machine calls outside, and why
		s, err := sentence.ParseArgs([]string{"why " + words + " to all"}, oracle.Epoch)
		require.NoError(t, err, question)
		resolve := flow.NewResolver(o.w.Estate, o.plan)
		for _, m := range resolve.Group(s.(sentence.Ask).From).Machines {
			for _, p := range v.Calls().Ask(resolve.Services(s.(sentence.Ask).Services), o.plan.Internet(), exposure.Target{Machine: m}) {
				o.say("%s: %s to %s", o.plan.Machines[m].Name, strings.Join(flow.ServiceRuns(p.Services), ","), o.names.Plain(p.From))
				for _, s := range v.Calls().Steps(p, nil) {
					o.say("  %s: %s", s.Question, s.Answer)
				}
			}
		}
	case "number":
		o.names.Number(words)
	case "doors":
		s, err := sentence.ParseArgs([]string{"why any from everywhere to " + words}, oracle.Epoch)
		require.NoError(t, err, question)
		for _, target := range exposure.Targets(o.w.Estate, o.plan, s.(sentence.Ask).To) {
			doors := v.DoorsOf(target)
			for _, d := range doors {
				o.say("%s", exposure.DoorWords(d))
			}
			has := 0
			for m := range o.plan.Machines {
				for _, d := range o.plan.DoorsTo(int32(m)) {
					if target.Has(d) {
						has++
					}
				}
			}
			for _, d := range o.plan.GatewayDoors() {
				if target.Has(d) {
					has++
				}
			}
			require.Equal(t, len(doors), has, "each of them, and no other, is the target's")
		}
	case "reach":
		m, ok := o.plan.MachineByName(words)
		require.True(t, ok)
		for _, e := range v.Reach(m) {
			o.say("%s", o.entry(e))
		}
	case "gateways":
		for e := range v.GatewayReach() {
			o.say("%s", o.entry(e))
		}
	case "calls":
		m, _ := o.plan.MachineByName(words)
		for _, e := range v.Calls().Reach(m) {
			o.say("%s", o.entry(e))
		}
	case "effects":
		m, _ := o.plan.MachineByName(words)
		for _, e := range slices.Concat(v.Effects(m), v.DoorEffects(m), v.Calls().Effects(m)) {
			o.say("%s %s %s %s", by(e.Origin, e.Opening), e.State, e.Why, by(e.By, 0))
		}
	case "paths":
		from, to, _ := strings.Cut(words, " to ")
		permits, from := strings.HasSuffix(from, " with-permits"), strings.TrimSuffix(from, " with-permits")
		if permits {
			v = exposure.NewView(exposure.WithPermits(o.w.Estate, o.plan), oracle.Epoch)
		}
		set, err := sentence.ParseArgs([]string{"why any from " + strings.TrimSuffix(from, " alone") + " to all"}, oracle.Epoch)
		require.NoError(t, err)
		alone := strings.HasSuffix(from, " alone")
		ways := v.Paths(flow.NewResolver(o.w.Estate, o.plan).Source(set.(sentence.Ask).From), !alone)
		o.say("%s", strings.Join(ways.Reached(), ", "))
		for _, path := range ways.To(to) {
			for _, h := range path {
				o.say("%s → %s  %s", h.From, h.To, o.entry(h.Entry))
			}
		}
	case "name":
		set, err := sentence.ParseArgs([]string{"why any from " + words + " to all"}, oracle.Epoch)
		require.NoError(t, err, question)
		o.say("%s", o.names.Plain(flow.NewResolver(o.w.Estate, o.plan).Source(set.(sentence.Ask).From)))
	default:
		require.Fail(t, "no question", question)
	}
}

// TestAnswers asks the questions in testdata/answers.txt, each a line after “> ”, of the estate above them, and compares the answers, which stand below.
func TestAnswers(t *testing.T) {
	const path = "testdata/answers.txt"
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	parts := strings.Split(string(data), "====\n")
	require.Len(t, parts, 3, "the estate, its sentences, and the questions")
	w := oracle.WorldOf(parts[0], strings.Split(strings.TrimSpace(parts[1]), "\n")...)
	require.Len(t, w.Estate.Sentences(), len(strings.Split(strings.TrimSpace(parts[1]), "\n")), "every sentence is sound")
	o := &told{w: w}
	open := open(t, w, `open ssh to web from 203.0.113.64/27 for 1h because "x"`)
	o.w.Openings = []opening.Opening{open}
	o.plan = o.w.Plan()
	o.names = exposure.NewNames(w.Estate, o.plan)
	v := exposure.NewView(o.plan, oracle.Epoch)
	for line := range strings.Lines(parts[2]) {
		if question, is := strings.CutPrefix(strings.TrimRight(line, "\n"), "> "); is {
			o.lines = append(o.lines, "> "+question)
			o.answer(t, v, question)
		}
	}
	got := strings.Join([]string{parts[0], parts[1], strings.Join(o.lines, "\n") + "\n"}, "====\n")
	if *update {
		require.NoError(t, os.WriteFile(path, []byte(got), 0o644))
	}
	assert.Equal(t, string(data), got)
}
