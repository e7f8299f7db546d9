package work

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/exposure"
	"ironbark/internal/fault"
	"ironbark/internal/findings"
	"ironbark/internal/flow"
	"ironbark/internal/ledger"
	"ironbark/internal/sentence"
	"ironbark/internal/site"
)

// Progress is told of each step as it is done.
type Progress func(Event)

// Event is one step of an enactment.
type Event struct {
	Text    string
	Done    int // steps done, this one included
	Of      int
	Failure error // why this step failed; the others go on
}

// PartlyDoneError says that some steps failed and the rest was done.
type PartlyDoneError struct{ Failed []error }

// Error tells the first failure and how many there are.
func (p *PartlyDoneError) Error() string {
	return fmt.Sprintf("%d of the steps failed; the rest is done. First: %v", len(p.Failed), p.Failed[0])
}

// Kind is that of a failure.
func (p *PartlyDoneError) Kind() fault.Kind { return fault.Partial }

// Advice says what to do: what the first failures ask for, and then to enact once more.
func (p *PartlyDoneError) Advice() fault.Advice {
	var list []fault.Advice
	for _, err := range p.Failed {
		one := fault.AdviceOf(err)
		if !one.IsZero() && !slices.ContainsFunc(list, one.Equal) && len(list) < mostRemedies {
			list = append(list, one)
		}
	}
	return fault.Join("; then ", append(list, fault.Run("enact").Say(" goes on with what is left"))...)
}

// mostRemedies is how many failures tell what to do about them: after that they are looked at one by one.
const mostRemedies = 3

// Unwrap returns the failures.
func (p *PartlyDoneError) Unwrap() []error { return p.Failed }

// NotBegunError says that an enactment did not begin, and nothing was done. It tells why:
// ledger.ErrChanged, a *ledger.BusyError, or that the site could not be written to.
type NotBegunError struct{ Why error }

// Error tells why.
func (n *NotBegunError) Error() string { return n.Why.Error() }

// Unwrap returns why.
func (n *NotBegunError) Unwrap() error { return n.Why }

// BrokenOffError says that an enactment stopped on its way. What was done stays done.
type BrokenOffError struct{ Why error }

// Error tells why, and what to do.
func (b *BrokenOffError) Error() string {
	return fmt.Sprintf("the enactment was broken off, and enacting again completes it: %v", b.Why)
}

// Unwrap returns why.
func (b *BrokenOffError) Unwrap() error { return b.Why }

// Kind is that of a failure.
func (b *BrokenOffError) Kind() fault.Kind { return fault.Partial }

// Enact does what a review told, in an order that is safe at every step:
//
//  1. end openings that are permitted no more
//  2. cut the tables down to what is open both before and after
//  3. remove, make and alter resources; what is new is closed, for no table knows it
//  4. install the new tables and keep the files, at one moment
//
// Broken off anywhere, it leaves less open than either side, and a second
// enactment completes it. The errors are a *NotBegunError, a *PartlyDoneError, and a *BrokenOffError.
func (w *Work) Enact(ctx context.Context, r *Review, progress Progress) (err error) {
	if err := w.second(ctx, r); err != nil {
		return &NotBegunError{err}
	}
	e, err := w.Site.Begin(ctx, w.Person, r.Basis, r.Changes)
	if err != nil {
		return &NotBegunError{err}
	}
	defer func() { err = errors.Join(err, e.Close()) }()
	x := &enacting{w: w, r: r, e: e, progress: progress}
	before := r.before.Plan.WithoutOpenings(func(int64) bool { return true })
	after := r.after.Plan.WithoutOpenings(func(int64) bool { return true })
	cut := flow.Intersection(before, after)
	closes := r.closes() && !flow.SameTables(cut, r.before.Report.BasePlan())
	x.of = len(r.Ending) + len(r.Changes) + 1
	if closes {
		x.of++
	}
	for _, end := range r.Ending {
		if err := x.end(ctx, end); err != nil {
			return &BrokenOffError{err}
		}
	}
	if closes {
		if err := x.step("close what will not be open any more", x.e.Install(ctx, cut, "closed what will not be open any more")); err != nil {
			return &BrokenOffError{err}
		}
	}
	var failed []error
	var undone []change.Change
	for _, c := range r.Changes {
		text := fmt.Sprintf("%s %s %s", c.Verb, c.Resource.Kind, c.Resource.Name)
		var err error
		if why := c.BlockedBy(undone); why != "" {
			err = errors.New(why)
		} else {
			err = x.change(ctx, c)
		}
		if x.step(text, err) != nil {
			failed, undone = append(failed, fmt.Errorf("%s: %w", text, err)), append(undone, c)
		}
		if ctx.Err() != nil {
			return &BrokenOffError{ctx.Err()}
		}
	}
	if err := x.step("put the new tables in place", x.finish(ctx, len(failed) > 0)); err != nil {
		return &BrokenOffError{err}
	}
	x.taken.Wait()
	if len(failed) == 0 && x.census != nil {
		w.remember(x.key, *x.census)
	}
	failed = append(failed, w.handPasswords(ctx, r.Estate)...)
	if len(failed) > 0 {
		return &PartlyDoneError{failed}
	}
	return nil
}

// Leaving names the machines that the enactment takes away or starts anew.
func (r *Review) Leaving() (machines []string) {
	for _, c := range r.Changes {
		if c.Resource.Kind == change.Machine && (c.Verb == change.Remove || c.Restart) {
			machines = append(machines, c.Resource.Name)
		}
	}
	return machines
}

// closes reports whether anything that is installed must be cut down on the way:
// something closes, or changes under tables that know it. What is only made is
// in no table yet.
func (r *Review) closes() bool {
	if !r.Drift.IsEmpty() { // what others took away may have left its addresses in the tables
		return true
	}
	if r.same || r.FirstEnactment {
		return false
	}
	closes := func(d exposure.Difference) bool {
		return !d.Closed.IsEmpty() || !d.Moved.IsEmpty() || !d.Lost.IsEmpty()
	}
	return closes(r.Exposure) || closes(r.Outward) || slices.ContainsFunc(r.Changes, func(c change.Change) bool { return c.Verb != change.Make })
}

type enacting struct {
	w        *Work
	r        *Review
	e        *site.Enactment
	progress Progress
	done, of int

	taken  sync.WaitGroup   // until the census is taken
	census *findings.Census // of what is installed in the end; nil: the files did not pass every check
	key    string           // of that
}

// takeCensus looks over what is being installed, meanwhile, where that is not known from the review.
func (x *enacting) takeCensus(plan *flow.Plan) {
	x.taken.Wait()
	x.census = x.r.census
	if !x.r.checked {
		return
	}
	now := x.w.Clock.Now()
	x.taken.Go(func() { x.key = installedKey(x.r.Files, plan) })
	if x.census == nil {
		x.taken.Go(func() {
			c := findings.NewCensus(findings.Side{Estate: x.r.Estate, Plan: plan}, now)
			x.census = &c
		})
	}
}

func (x *enacting) step(text string, err error) error {
	x.done++
	if x.progress != nil {
		x.progress(Event{Text: text, Done: x.done, Of: x.of, Failure: err})
	}
	return err
}

// end ends an opening, or takes from it what it loses.
func (x *enacting) end(ctx context.Context, end Ending) error {
	if end.Narrowed {
		return x.step(fmt.Sprintf("narrow opening %d: %s", end.Opening.ID, end.Why), x.e.Narrow(ctx, end.Why, end.Opening))
	}
	return x.step(fmt.Sprintf("end opening %d: %s", end.Opening.ID, end.Why), x.e.End(ctx, end.Why, end.Opening.ID))
}

func (x *enacting) change(ctx context.Context, c change.Change) error {
	if c.Resource.Kind == change.Image && c.Verb == change.Make {
		return x.e.Do(ctx, c, func() (io.ReadCloser, error) { return x.w.upload(c.Resource) })
	}
	return x.e.Do(ctx, c, nil)
}

// finish compiles the tables once more, with the addresses that the site gave. What was opened
// meanwhile in an emergency, and would not be permitted any more, ends before.
func (x *enacting) finish(ctx context.Context, partly bool) error {
	text := x.r.summary()
	if partly {
		text += "; some steps failed"
	}
	for range mostTries {
		report, err := x.w.Site.Report(ctx)
		if err != nil {
			return err
		}
		plan := flow.Compile(x.r.Estate, assigned(report, report.Resources))
		list := endings(&State{Report: report, Estate: x.r.before.Estate}, &State{Estate: x.r.Estate, Plan: plan}, x.r.Changes, x.w.Clock.Now())
		for _, end := range list {
			x.of++
			if err := x.end(ctx, end); err != nil {
				return err
			}
		}
		if len(list) > 0 {
			continue
		}
		x.takeCensus(plan)
		if err := x.e.Finish(ctx, report.Basis, plan, x.r.Files, x.r.Estate.NamesOf("recipient"), text); !errors.Is(err, ledger.ErrChanged) {
			return err
		}
	}
	return ledger.ErrChanged
}

// Await waits until the machines of a review that were made or started anew run,
// or are as they will stay, and tells of each.
func (w *Work) Await(ctx context.Context, r *Review, limit time.Duration, tell func(name string, m driver.Machine)) error {
	var names []string
	for _, c := range r.Changes {
		if c.Resource.Kind == change.Machine && (c.Verb == change.Make || c.Restart) {
			names = append(names, c.Resource.Name)
		}
	}
	return w.Settle(ctx, names, limit, tell)
}

// firstLook is when machines are looked at for the second time of which it is not known when they will be ready.
const firstLook = 20 * time.Millisecond

// Settle waits until machines are as they will stay, and tells of each, in the
// order of their names. It gives up after limit, or when ctx ends; the machines
// go on by themselves.
func (w *Work) Settle(ctx context.Context, names []string, limit time.Duration, tell func(name string, m driver.Machine)) error {
	waiting := slices.SortedFunc(slices.Values(names), sentence.CompareNames)
	end := w.Clock.Now().Add(limit)
	begun := w.Clock.Now()
	for {
		if len(waiting) == 0 {
			return nil
		}
		report, err := w.Site.Report(ctx)
		if err != nil {
			return err
		}
		now := w.Clock.Now()
		last := now // when the last of those is ready that are waited for, as far as that is known
		known := true
		waiting = slices.DeleteFunc(waiting, func(name string) bool {
			m, there := report.Machines[name]
			if !there || m.State.Settled() && !now.Before(m.Ready) {
				if there {
					tell(name, m)
				}
				return true
			}
			if m.Ready.After(last) {
				last = m.Ready
			}
			known = known && !m.Ready.IsZero()
			return false
		})
		if len(waiting) == 0 {
			return nil
		}
		next := now.Add(time.Second)
		if !known { // it is looked at ever more seldom
			next = now.Add(min(max(firstLook, now.Sub(begun)/8), time.Second))
		}
		if last.After(now) && last.Before(next) { // no look before: each reads the whole site
			next = last
		}
		if next.After(end) {
			return fmt.Errorf("%d machines are not as they will be after %s", len(waiting), limit)
		}
		if err := w.Clock.Sleep(ctx, next.Sub(now)); err != nil {
			return err
		}
	}
}

// mostTold is how many sentences a summary quotes.
const mostTold = 5

// done is what was done, by verb.
var done = map[change.Verb]string{change.Make: "made", change.Alter: "altered", change.Remove: "removed"}

// summary tells in a line what an enactment came to.
func (r *Review) summary() string {
	count := map[change.Verb]int{}
	for _, c := range r.Changes {
		count[c.Verb]++
	}
	text := "finished"
	for _, v := range []change.Verb{change.Make, change.Alter, change.Remove} {
		if n := count[v]; n > 0 {
			text += fmt.Sprintf(", %s %d", done[v], n)
		}
	}
	quote := func(word string, list []sentence.Statement) {
		for i, s := range list {
			if i == mostTold {
				text += fmt.Sprintf("; %s %d more", word, len(list)-mostTold)
				return
			}
			text += fmt.Sprintf("; %s “%s”", word, s.Sentence)
		}
	}
	quote("said", r.Added)
	quote("retracted", r.Retracted)
	for i, m := range r.Meanings {
		if i == mostTold {
			text += fmt.Sprintf("; %d more words mean something else", len(r.Meanings)-mostTold)
			break
		}
		text += fmt.Sprintf("; %s %s %s: %s", done[m.Verb], m.Kind, m.Name, m)
	}
	if r.Drift.putRight() {
		text += "; put right what others had changed"
	}
	return text
}

// Restore returns a review of what was last enacted: of what it takes to have all of it
// again, whatever the files in the folder say by now. Openings that hold pass again with it.
// It is nil where nothing was ever enacted.
func (w *Work) Restore(ctx context.Context) (*Review, error) {
	before, err := w.Installed(ctx)
	if err != nil || len(before.Files) == 0 {
		return nil, err
	}
	return w.reviewOf(before, before.Files, before.Estate, false)
}
