package work

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"ironbark/internal/cache"
	"ironbark/internal/change"
	"ironbark/internal/cost"
	"ironbark/internal/estate"
	"ironbark/internal/exposure"
	"ironbark/internal/fault"
	"ironbark/internal/findings"
	"ironbark/internal/flow"
	"ironbark/internal/opening"
	"ironbark/internal/parallel"
	"ironbark/internal/rights"
	"ironbark/internal/sentence"
)

// MostStanding is how far ahead the end of a standing exception may lie when it is first enacted.
const MostStanding = 90 * 24 * time.Hour

// Review works out what enacting some files would do. It changes nothing. Files
// that are in error are refused with sentence.Errors.
func (w *Work) Review(ctx context.Context, files Files) (*Review, error) {
	before, err := w.Installed(ctx)
	if err != nil {
		return nil, err
	}
	return w.review(before, files, false)
}

// review is Review for what is installed. For an edit of what was last enacted only
// things count that the edit itself changes: what others did to the rest, and steps
// that failed before, stay for an enactment of everything.
func (w *Work) review(before *State, files Files, edit bool) (*Review, error) {
	if r, ok := w.reviewOfLines(before, files, edit); ok {
		return r, nil
	}
	e, err := files.Estate()
	if err != nil {
		return nil, w.moreErrors(files, err)
	}
	before.Estate.ReadLike(e)
	r, err := w.reviewOf(before, files, e, edit)
	if err == nil {
		r.checked = true
		if r.NoEffect && before.Report.Compiled != "" && files.Equal(before.Files) && asEnacted(before, r.Drift) {
			w.remember(cache.Key(files, []byte(before.Report.Compiled)), findings.NewCensus(findings.Side{Estate: e, Plan: before.Plan}, w.Clock.Now()))
		}
	}
	return r, err
}

// needs is what an estate asks of a place, and what is to be done for it.
type needs struct {
	own     cost.Sizes
	wanted  []change.Resource
	changes []change.Change
}

// needsOf works out what an estate asks of a place that has what the state before has.
func (w *Work) needsOf(before *State, e *estate.Estate) (n needs, err error) {
	has := before.Report.Resources
	n.own = w.sizes(e, has)
	uploads, err := w.uploads(e, has, n.own)
	if err != nil {
		return n, err
	}
	if err := w.Site.Catalogue().Check(e, n.own); err != nil {
		return n, err
	}
	if n.wanted, err = w.desired(e, has, n.own); err != nil {
		return n, err
	}
	for i, t := range n.wanted {
		if up, ok := uploads[t.Name]; ok && t.Kind == change.Image {
			n.wanted[i].Spec.Format, n.wanted[i].Spec.GB, n.wanted[i].Spec.Bytes = up.Format, up.GB(), up.Size
		}
	}
	if err := gatewaysFree(e, n.wanted); err != nil {
		return n, err
	}
	n.changes, err = change.Diff(has, n.wanted, w.Discard)
	return n, err
}

// reviewOf is review for files that are read already.
func (w *Work) reviewOf(before *State, files Files, e *estate.Estate, edit bool) (*Review, error) {
	now := w.Clock.Now()
	e = e.AsOf(now)
	w.inside, w.resting = before.Report.Keys, before.Report.Resting
	need, err := w.needsOf(before, e)
	if err != nil {
		return nil, err
	}
	added := without(e.Sentences(), before.Estate.Sentences())
	if err := tooLong(added, e, now); err != nil {
		return nil, err
	}
	after := w.draft(files, e, before.Report, need.wanted)
	changes := need.changes
	if edit {
		touched, err := w.touched(before.Estate, e, before.Report.Resources)
		if err != nil {
			return nil, err
		}
		changes = slices.DeleteFunc(changes, func(c change.Change) bool { return !touched[c.Resource.ID()] && !w.Discard[c.Resource.ID()] })
	}
	ending := endings(before, after, changes, now)
	after.Plan = withoutEnded(after.Plan, ending)
	r := &Review{
		Files: files, Estate: e, Basis: before.Report.Basis, FirstEnactment: len(before.Report.Files) == 0, Changes: changes,
		Before: w.Bill(before), After: w.Site.Catalogue().Bill(e, meter(before.Report, need.own)).With(w.strays(e, before.Report, need.own)), Limits: w.Site.Catalogue().LimitsOf(e),
		Unfinished: before.Report.Unfinished, Drift: w.Drift(before), before: before, after: after,
		Added: added, Ending: ending,
	}
	var all sync.WaitGroup // none of these needs another one
	all.Go(func() { r.Findings = found(before, after, now) })
	all.Go(func() {
		r.Exposure = exposure.Compare(exposure.NewView(before.Plan, now), exposure.NewView(after.Plan, now))
	})
	all.Go(func() { r.Outward = outward(before.Plan, after.Plan, now) })
	all.Go(func() { r.Broken = exposure.Guarantees(e, after.Plan, now) })
	all.Go(func() { r.Retracted = without(before.Estate.Sentences(), e.Sentences()) })
	all.Go(func() {
		r.Rights = rights.Compare(rights.State{Estate: before.Estate, Plan: before.Plan}, rights.State{Estate: e, Plan: after.Plan})
		r.Weakened = exposure.CoverageLost(exposure.Side{Estate: before.Estate, Plan: before.Plan}, exposure.Side{Estate: e, Plan: after.Plan})
		r.Meanings = change.Meanings(before.Estate, e)
	})
	all.Go(func() {
		r.same = flow.SameTables(after.Plan.WithoutOpenings(func(int64) bool { return true }), before.Report.BasePlan())
	})
	all.Wait()
	r.Freed = freed(before, after)
	w.conclude(r, edit)
	return r, nil
}

// conclude tells what follows from all else in a review.
func (w *Work) conclude(r *Review, edit bool) {
	now, has := w.Clock.Now(), r.before.Report.Resources
	r.Notes = slices.Concat(w.notes(r), trustNotes(r.before.Estate, r.Estate), displaced(has, r.Changes))
	r.Blocked = strayIn(has, r.Changes, w.Discard)
	r.Notes = append(r.Notes, r.Blocked...)
	r.QuotaExceeded = r.After.Used.Over(r.Limits)
	if len(r.Broken)+len(r.QuotaExceeded) > 0 {
		r.broken, r.overNewly = r.newlyWrong(now, edit)
		r.onlyCloses = len(r.before.Report.Files) > 0 && r.opensNothing(now)
	}
	r.NoEffect = len(r.Changes) == 0 && r.same && len(r.Ending)+len(r.Added)+len(r.Retracted)+len(r.Meanings) == 0
}

// moreErrors adds to what is wrong with files by themselves what the site has to
// say to them, as far as they can be read, so that all of it is told at once.
func (w *Work) moreErrors(files Files, err error) error {
	errs, ok := errors.AsType[sentence.Errors](err)
	e, unread := files.Enacted()
	if !ok || unread != nil {
		return err
	}
	more, _ := errors.AsType[sentence.Errors](w.Site.Catalogue().Check(e, nil))
	return append(slices.Clone(errs), more...)
}

// SaidBeside lists the sentences of a state that another one does not have, however they are written.
func (st *State) SaidBeside(other *State) []sentence.Statement {
	return without(st.Estate.Sentences(), other.Estate.Sentences())
}

// without returns the sentences of a that b does not have, however they are written.
func without(a, b []sentence.Statement) (list []sentence.Statement) {
	if len(b) == 0 {
		return slices.Clone(a)
	}
	lines := make(map[string]struct{}, len(b))
	for i := range b {
		lines[b[i].Text] = struct{}{}
	}
	for _, s := range a {
		if _, known := lines[s.Text]; !known || s.Text == "" { // what stands in no file has no line
			list = append(list, s)
		}
	}
	if len(list) == 0 {
		return list
	}
	texts := make([]string, len(b))
	parallel.Parts(len(b), func(from, to int) {
		for i := from; i < to; i++ {
			texts[i] = b[i].Sentence.String()
		}
	})
	known := make(map[string]struct{}, len(b))
	for _, text := range texts {
		known[text] = struct{}{}
	}
	return slices.DeleteFunc(list, func(s sentence.Statement) bool {
		_, there := known[s.Sentence.String()]
		return there
	})
}

// tooLong refuses new standing exceptions that would stand for too long, and new permits
// for longer than the estate's limits.
func tooLong(added []sentence.Statement, e *estate.Estate, now time.Time) error {
	var errs sentence.Errors
	for _, st := range added {
		if err := e.CheckLength(st); err != nil {
			errs = append(errs, err)
		}
		if last := now.Add(MostStanding); standingUntil(st.Sentence).After(last) {
			errs = append(errs, &sentence.Error{
				At: st.At, Line: st.Text, Problem: fmt.Sprintf("a standing exception may stand for %d days at most", MostStanding/(24*time.Hour)),
				Remedy: fault.Say("its end can be " + last.UTC().Format("2006-01-02") + " at the latest"),
			})
		}
	}
	if len(errs) > 0 {
		return errs
	}
	return nil
}

// standingUntil is the end of a standing exception; zero of other sentences.
func standingUntil(s sentence.Sentence) time.Time {
	switch s := s.(type) {
	case sentence.Allow:
		if s.Standing {
			return s.Until
		}
	case sentence.Forward:
		if s.Standing {
			return s.Until
		}
	}
	return time.Time{}
}

// endings finds the openings that the new files do not permit any more, in whole or in
// part, and those that lose machines.
func endings(before, after *State, changes []change.Change, now time.Time) (list []Ending) {
	removed := map[string]bool{}
	for _, c := range changes {
		if c.Verb == change.Remove && c.Resource.Kind == change.Machine {
			removed[c.Resource.Name] = true
		}
	}
	peers := peersGone(before.Estate, after.Estate)
	for _, o := range Active(before.Report.Openings, now) {
		there := o.Without(func(m string) bool { return removed[m] })
		there, without := withoutPeers(there, peers)
		kept, lost := opening.Covered(there, after.Estate, after.Plan)
		switch {
		case without && len(there.Parts) == 0:
			list = append(list, Ending{Opening: o, Why: "its peer is removed"})
		case without && len(lost) == 0:
			list = append(list, Ending{Opening: kept, Why: "peers of it are removed", Narrowed: true})
		case len(there.Parts) == 0:
			list = append(list, Ending{Opening: o, Why: "its machine is removed"})
		case !after.Estate.PersonKnown(o.Person):
			list = append(list, Ending{Opening: o, Why: o.Person + " is no longer in the estate"})
		case !kept.Active(now), o.Waits() && len(lost) > 0:
			list = append(list, Ending{Opening: o, Why: uncovered})
		case len(lost) > 0:
			list = append(list, Ending{Opening: kept, Why: uncovered, Narrowed: true, Lost: lost})
		case len(there.Machines()) < len(o.Machines()):
			list = append(list, Ending{Opening: kept, Why: "machines of it are removed", Narrowed: true})
		}
	}
	return list
}

// gonePeer are the addresses of a peer that is to be removed, and those of its line.
type gonePeer struct{ own, line flow.Addrs }

// peersGone lists the peers that an estate has no more, or with another key: whoever has their addresses next is somebody else.
func peersGone(before, after *estate.Estate) (list []gonePeer) {
	stays := map[string]bool{}
	for _, l := range after.Lines {
		for _, p := range l.Peers {
			for _, a := range p.Addrs {
				stays[p.Key+" "+a.String()] = true
			}
		}
	}
	for _, l := range before.Lines {
		line := flow.PrefixSet(l.Range...)
		for _, p := range l.Peers {
			for _, a := range p.Addrs {
				if !stays[p.Key+" "+a.String()] {
					list = append(list, gonePeer{flow.AddrSet(a), line})
				}
			}
		}
	}
	return list
}

// withoutPeers takes the addresses of peers out of an opening, but for parts that are for all of their lines.
func withoutPeers(o opening.Opening, gone []gonePeer) (opening.Opening, bool) {
	without := false
	parts := slices.Clone(o.Parts)
	for i := range parts {
		for _, g := range gone {
			if parts[i].From.Overlaps(g.own) && !parts[i].From.ContainsAll(g.line) {
				parts[i].From, without = parts[i].From.Subtract(g.own), true
			}
		}
	}
	o.Parts = slices.DeleteFunc(parts, func(p opening.Part) bool { return p.From.IsEmpty() })
	return o, without
}

// uncovered is why an opening ends, or part of it, when its permit is gone.
const uncovered = "no permit covers it any more"

// found looks over the new state, and tells what was there before.
func found(before, after *State, now time.Time) (list []findings.Judged) {
	was, is := findings.LintBoth(findings.Side{Estate: before.Estate, Plan: before.Plan}, findings.Side{Estate: after.Estate, Plan: after.Plan}, now, before.Listening())
	list = make([]findings.Judged, 0, len(is))
	for _, f := range is {
		list = append(list, findings.Judged{Finding: f, New: !was[f.What()]})
	}
	return list
}
