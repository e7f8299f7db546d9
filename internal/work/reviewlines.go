package work

import (
	"path/filepath"
	"slices"
	"sync"

	"ironbark/internal/cache"
	"ironbark/internal/estate"
	"ironbark/internal/exposure"
	"ironbark/internal/findings"
	"ironbark/internal/flow"
	"ironbark/internal/rights"
	"ironbark/internal/sentence"
)

// An edit of a few sentences is reviewed without looking at all the others again: they are installed as the files have them, and what was found of them is
// remembered. What is remembered holds for the very files and tables that it came from, and the files had passed every check. Where anything else differs than
// sentences that make no door, the whole is reviewed.

// memory is where the census of what is installed is remembered.
func (w *Work) memory() cache.Answer {
	return cache.AnswerIn(filepath.Join(w.Folder.Dir, StateDir), "found")
}

// remember keeps the census of files that passed every check, and of the plan without openings that they come to, once that is installed.
func (w *Work) remember(key string, c findings.Census) {
	w.memory().Keep(key, w.Clock.Now(), c.Until, c)
}

// installedKey is the key of files and their plan as it will be read back.
func installedKey(files Files, plan *flow.Plan) string {
	p, err := flow.FromRows(plan.Rows())
	if err != nil {
		return "" // nothing is remembered under that
	}
	return cache.Key(files, p.Binary())
}

// asEnacted reports whether what is installed is as it was enacted, all of it.
func asEnacted(st *State, drift *Drift) bool {
	return len(st.Report.Files) > 0 && st.Report.Unfinished == nil && len(st.Report.Outside) == 0 && drift.IsEmpty()
}

// reviewOfLines is reviewOf for files that differ from those that were last enacted in a few sentences. It reports false where that cannot be done.
func (w *Work) reviewOfLines(before *State, files Files, edit bool) (*Review, bool) {
	drift := w.Drift(before)
	if w.AllFindings || before.Report.Compiled == "" || !asEnacted(before, drift) {
		return nil, false
	}
	e, delta, ok := before.Estate.Edited(before.Files, files)
	if !ok {
		return nil, false
	}
	now := w.Clock.Now()
	e = e.AsOf(now)
	w.inside, w.resting = before.Report.Keys, before.Report.Resting
	base := before.Report.BasePlan()
	var census findings.Census
	var remembered, asksNothing bool
	var both, asking sync.WaitGroup
	both.Go(func() {
		remembered = w.memory().Get(cache.Key(before.Files, []byte(before.Report.Compiled)), now, &census)
	})
	defer asking.Wait()
	asking.Go(func() {
		need, err := w.needsOf(before, e)
		asksNothing = err == nil && len(need.changes) == 0
	})
	rules := base.Edited(e, delta)
	added, retracted, sure := worded(before.Estate, base, rules, delta)
	both.Wait()
	if !remembered || !sure || census.Sentences+len(delta.In)-len(delta.Out) > sentence.MaxSentences || tooLong(added, e, now) != nil {
		return nil, false
	}
	after := &State{Report: before.Report, Files: files, Estate: e, Plan: withOpenings(rules.Plan, before.Report.Openings, now), Draft: true, Differ: !files.Equal(before.Files)}
	ending := endings(before, after, nil, now)
	after.Plan = withoutEnded(after.Plan, ending)
	r := &Review{
		Files: files, Estate: e, Basis: before.Report.Basis, Limits: w.Site.Catalogue().LimitsOf(e), Drift: drift, before: before, after: after,
		Added: added, Retracted: retracted, Ending: ending, checked: true,
		same: rules.Same,
	}
	var all sync.WaitGroup
	all.Go(func() {
		found := census.LintEdited(findings.Side{Estate: before.Estate, Plan: before.Plan}, findings.Side{Estate: e, Plan: after.Plan}, delta, now, before.Listening())
		r.Findings, r.FindingsBefore, r.census = found.Told, found.Others, &found.Census
	})
	all.Go(func() {
		about := rules.Machines
		for _, end := range ending {
			for _, rule := range end.Opening.Rules(before.Plan) {
				about = slices.Concat(about, rule.To.Machines)
			}
		}
		r.Exposure = exposure.Compare(exposure.NewView(before.Plan.About(about...), now), exposure.NewView(after.Plan.About(about...), now))
	})
	all.Go(func() {
		r.Before = w.Bill(before)
		r.After = r.Before
		r.Broken = exposure.Guarantees(e, after.Plan, now)
	})
	if len(rules.OutwardOut)+len(rules.OutwardIn) > 0 {
		all.Go(func() { r.Outward = outward(before.Plan, after.Plan, now) })
	}
	compare := rights.CompareDenies
	if says(delta, sentence.VerbPermit, sentence.VerbRoute) {
		compare = rights.Compare
	}
	if says(delta, sentence.VerbPermit, sentence.VerbRoute, sentence.VerbDeny) {
		all.Go(func() {
			r.Rights = compare(rights.State{Estate: before.Estate, Plan: before.Plan}, rights.State{Estate: e, Plan: after.Plan})
		})
	}
	if says(delta, sentence.VerbNever, sentence.VerbAlways) {
		all.Go(func() {
			r.Weakened = exposure.CoverageLost(exposure.Side{Estate: before.Estate, Plan: before.Plan}, exposure.Side{Estate: e, Plan: after.Plan})
		})
	}
	all.Wait()
	if asking.Wait(); !asksNothing {
		return nil, false
	}
	w.conclude(r, edit)
	return r, true
}

// says reports whether any sentence that differs is of some verbs.
func says(d *estate.Delta, verbs ...sentence.Verb) bool {
	return slices.ContainsFunc(slices.Concat(d.Out, d.In), func(st sentence.Statement) bool { return slices.Contains(verbs, st.Sentence.Verb()) })
}

// worded lists the sentences that are new, and those that are retracted, however they are written. It reports false where one of them might stand in the files a
// second time: what comes to rules is looked for among the rules, and all else among the sentences of its verb.
func worded(before *estate.Estate, base *flow.Plan, rules flow.Edit, d *estate.Delta) (added, retracted []sentence.Statement, sure bool) {
	added, retracted = without(d.In, d.Out), without(d.Out, d.In)
	differs := map[flow.Origin]bool{}
	for _, st := range d.Out {
		differs[flow.OriginOf(st)] = true
	}
	made := map[flow.Origin]bool{}
	for _, r := range slices.Concat(rules.Out, rules.In, rules.OutwardOut, rules.OutwardIn) {
		made[r.Origin] = true
	}
	texts, read := map[string]bool{}, map[sentence.Verb]bool{}
	var verbs []sentence.Verb
	for _, st := range slices.Concat(added, retracted) {
		texts[st.Sentence.String()] = true
		switch v := st.Sentence.Verb(); v {
		case sentence.VerbAllow, sentence.VerbDeny:
			if !made[flow.OriginOf(st)] {
				return nil, nil, false
			}
		default:
			if !read[v] {
				read[v] = true
				verbs = append(verbs, v)
			}
		}
	}
	if len(texts) == 0 {
		return added, retracted, true
	}
	again := func(o flow.Origin) bool { return texts[o.Sentence] && !differs[o] }
	for _, rules := range [][]flow.Rule{base.Rules, base.Outward} {
		for i := range rules {
			if again(rules[i].Origin) {
				return nil, nil, false
			}
		}
	}
	for _, st := range before.SentencesOf(verbs...) {
		if again(flow.OriginOf(st)) {
			return nil, nil, false
		}
	}
	return added, retracted, true
}
