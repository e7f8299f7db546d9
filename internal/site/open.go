package site

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbark/internal/driver"
	"ironbark/internal/fault"
	"ironbark/internal/flow"
	"ironbark/internal/journal"
	"ironbark/internal/ledger"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
)

// Open lets an opening pass. One with a number replaces the one that has it. The errors
// are those of the ledger: ErrChanged, ErrUnfinished, a *ClockError, a *RecordError; and
// a *NotOpenedError where the place did not let it pass.
func (s *Site) Open(ctx context.Context, on Basis, o opening.Opening) (_ opening.Opening, err error) {
	release, err := s.ledger.Lock(ctx, ledger.Opening)
	if err != nil {
		return o, err
	}
	defer func() { err = errors.Join(err, release()) }()
	if err := s.checkUnchanged(ctx, on); err != nil {
		return o, err
	}
	action, more := "extend", ""
	if len(o.Approvals) > 0 { // it waited
		action, more = "open", "; approved by "+approvers(o)
	}
	if o.ID == 0 {
		action = "open"
		if o.ID, err = s.nextNumber(ctx); err != nil {
			return o, err
		}
	}
	_, err = s.write(ctx, ledger.Decision{
		Revision: on.Revision, Fence: -1, Opens: true, Finished: !o.Emergency, Move: true,
		Person: o.Person, Action: action, Text: fmt.Sprintf("opening %d: %s%s", o.ID, o.Words, more), Openings: []opening.Opening{o}, Intended: true,
	})
	if err != nil {
		return o, err
	}
	if err := s.let(ctx, o); err != nil {
		return o, &NotOpenedError{Why: err, Back: s.takeBack(context.WithoutCancel(ctx), o, err)}
	}
	return o, s.passed(ctx, o.ID)
}

func approvers(o opening.Opening) string {
	names := make([]string, len(o.Approvals))
	for i, a := range o.Approvals {
		names[i] = a.Person
	}
	return strings.Join(names, ", ")
}

// nextNumber is a number that no opening ever had, at the place either: a record that is
// begun anew does not know of those before.
func (s *Site) nextNumber(ctx context.Context) (int64, error) {
	next, err := s.ledger.NextOpening(ctx)
	if err != nil {
		return 0, err
	}
	o, err := s.driver.Observe(ctx, driver.Scope{After: -1})
	if err != nil {
		return 0, err
	}
	return max(next, o.Highest+1), nil
}

// checkUnchanged tells whether the place is what it was when something was decided on it.
func (s *Site) checkUnchanged(ctx context.Context, on Basis) error {
	mark, err := s.driver.Mark(ctx)
	if err == nil && mark != on.Mark {
		err = ledger.ErrChanged
	}
	return err
}

func (s *Site) passed(ctx context.Context, ids ...int64) error {
	return s.record(ctx, ledger.Decision{Passed: ids})
}

// let lets an opening pass. A request passes nothing, whatever becomes of it: only who approves it makes an opening of it.
func (s *Site) let(ctx context.Context, o opening.Opening) error {
	if o.Waits() {
		return nil
	}
	return answered(func() error { return s.driver.Pass(ctx, passage(o)) })
}

// passage is what an opening lets pass.
func passage(o opening.Opening) driver.Passage {
	p := driver.Passage{ID: o.ID, Begin: o.Begin, Sentence: o.Words.String()}
	for _, part := range o.Parts {
		p.Parts = append(p.Parts, driver.Part{Machines: part.Machines, Services: part.Services, From: part.From, End: part.End})
	}
	return p
}

// NotOpenedError says that the place did not let an opening pass, and whether it is
// certain that nothing of it is open.
type NotOpenedError struct {
	Why  error
	Back error // why it could not be taken back; nil: it was
}

// Error tells why, and what is certain.
func (n *NotOpenedError) Error() string {
	if n.Back == nil {
		return fmt.Sprintf("nothing was opened: %v", n.Why)
	}
	return fmt.Sprintf("it is not known whether it was opened: %v; it could not be taken back: %v", n.Why, n.Back)
}

// Unwrap returns both reasons.
func (n *NotOpenedError) Unwrap() []error { return []error{n.Why, n.Back} }

// Kind is that of a failure, or where somebody closed it meanwhile that of
// something that changed since it was looked at.
func (n *NotOpenedError) Kind() fault.Kind {
	if n.Back == nil && errors.Is(n.Why, driver.ErrShut) {
		return fault.Conflict
	}
	return fault.Failure
}

// takeBack takes an opening back that was intended and does not pass for certain: it is
// shut for good, and recorded so. What it was to extend ends with it; less is open,
// never more.
func (s *Site) takeBack(ctx context.Context, o opening.Opening, why error) error {
	now := s.clock.Now()
	if err := s.closing(func() error { return s.driver.Shut(ctx, now, o.ID) }); err != nil {
		return err
	}
	o.Ended, o.EndedBy, o.Why = now.UTC(), o.Person, fmt.Sprintf("it did not come about: %v", why)
	return s.closing(func() error {
		return s.record(ctx, ledger.Decision{
			Move: true, Person: o.Person, Action: "close", Text: fmt.Sprintf("closed opening %d: %s; %s", o.ID, o.Words, o.Why), Openings: []opening.Opening{o},
		})
	})
}

// UnrecordedError says that something was closed, and that it could not be recorded. It
// is recorded by the next command that can.
type UnrecordedError struct{ Why error }

// Error tells why.
func (u *UnrecordedError) Error() string { return fmt.Sprintf("closed, not recorded: %v", u.Why) }

// Unwrap returns why.
func (u *UnrecordedError) Unwrap() error { return u.Why }

// Kind is that of a thing that was done as it was asked for.
func (u *UnrecordedError) Kind() fault.Kind { return fault.Done }

// Advice says when it will be recorded.
func (u *UnrecordedError) Advice() fault.Advice {
	return fault.Say("the next command that can records it")
}

// End ends openings before their time. It always works, whatever else goes on: they are
// shut at the place first. The error is an *UnrecordedError where they were, and it could
// not be recorded.
func (s *Site) End(ctx context.Context, person, why string, ids ...int64) error {
	return s.end(ctx, person, why, nil, ids)
}

// EndOf is End for openings of a report, which spares reading them once more where nothing was
// decided since.
func (s *Site) EndOf(ctx context.Context, person string, r *Report, ids ...int64) error {
	return s.end(ctx, person, "", r, ids)
}

func (s *Site) end(ctx context.Context, person, why string, r *Report, ids []int64) error {
	now := s.clock.Now()
	if err := s.closing(func() error { return s.driver.Shut(ctx, now, ids...) }); err != nil {
		return err
	}
	if err := s.recordEnd(ctx, person, why, now, r, ids); err != nil {
		return &UnrecordedError{err}
	}
	return nil
}

// recordEnd records that openings ended; r is a report that has them as they were, or nil.
func (s *Site) recordEnd(ctx context.Context, person, why string, at time.Time, r *Report, ids []int64) error {
	ending := make(map[int64]bool, len(ids))
	for _, id := range ids {
		ending[id] = true
	}
	return s.closing(func() error {
		st, err := s.ledger.State(ctx, ledger.Scope{Openings: s.some()})
		if err == nil && r != nil && st.Revision == r.Revision && len(st.Intended) == 0 {
			st.Openings = r.Openings
		} else if err == nil {
			st, err = s.ledger.State(ctx, ledger.Scope{Openings: s.some(ids...)})
		}
		if err != nil {
			return err
		}
		now, behind := journal.Later(at, st.Latest)
		var told []string
		var ended []opening.Opening
		for _, o := range st.Openings {
			if ending[o.ID] && o.Active(at.Add(-behind)) {
				o.Ended, o.EndedBy, o.Why, o.Closing = now.UTC(), person, why, false
				ended = append(ended, o)
				if len(ended) <= mostAnEntry {
					told = append(told, fmt.Sprintf("opening %d: %s", o.ID, o.Words))
				}
			}
		}
		if len(ended) == 0 && why == "" {
			return nil
		}
		if more := len(ended) - len(told); more > 0 {
			told = append(told, fmt.Sprintf("and %d more", more))
		}
		if why != "" {
			told = append(told, why)
		}
		return s.record(ctx, ledger.Decision{Move: true, Person: person, Action: "close", Text: "closed " + strings.Join(told, "; "), Openings: ended})
	})
}

// recover completes what a process that died has begun, and reports whether anything
// was done. An opening that was intended either passes as it was meant to, or is taken
// back. One that was shut and is not recorded as such is recorded.
func (s *Site) recover(ctx context.Context, st *ledger.State, o *driver.Observation) (again bool, err error) {
	var unrecorded []opening.Opening
	now := s.clock.Now()
	for _, one := range st.Openings {
		at, shut := o.Shut[one.ID]
		if _, intended := st.Intended[one.ID]; shut && !intended && one.Active(now) && now.Sub(at) > settle {
			unrecorded = append(unrecorded, one)
		}
	}
	if len(st.Intended) == 0 && len(unrecorded) == 0 {
		return false, s.recordTurns(ctx, st)
	}
	release, err := s.ledger.TryLock(ctx, ledger.Opening)
	if err != nil || release == nil { // where nothing can be written nothing is recovered, and whoever has the lock is at it
		return false, nil
	}
	defer func() { err = errors.Join(err, release()) }()
	if fresh, err := s.ledger.State(ctx, ledger.Scope{Openings: s.some()}); err != nil || fresh.Revision != st.Revision || len(fresh.Intended) != len(st.Intended) {
		return err == nil, err
	}
	for _, one := range unrecorded {
		why := "it was closed at " + utc(o.Shut[one.ID]) + ", which could not be recorded then; by whom is not known"
		if err := s.recordEnd(ctx, one.Person, why, now, nil, []int64{one.ID}); err != nil {
			return false, nil // it stays closed, and the next command records it
		}
	}
	for _, one := range st.Openings {
		intent, intended := st.Intended[one.ID]
		if !intended {
			continue
		}
		if err := s.resolve(ctx, one, intent, o.Plan); err != nil {
			return false, err
		}
	}
	return true, nil
}

// recordTurns records the openings that began or ended by themselves since something was
// recorded last, each once. Where that cannot be done, the next command does it.
func (s *Site) recordTurns(ctx context.Context, st *ledger.State) error {
	now, behind := journal.Later(s.clock.Now(), st.Latest)
	if begun, over := turned(st, now); behind > 0 || len(begun)+len(over) == 0 {
		return nil
	}
	release, err := s.ledger.TryLock(ctx, ledger.Opening)
	if err != nil || release == nil {
		return nil
	}
	defer func() { _ = release() }()
	fresh, err := s.ledger.State(ctx, ledger.Scope{Openings: s.some()})
	if err != nil {
		return nil
	}
	begun, over := turned(fresh, now) // what was recorded meanwhile is no more among them
	s.recordTurn(ctx, begun, func(o opening.Opening) string {
		return fmt.Sprintf("opening %d began by itself at %s: %s", o.ID, utc(o.Begin), o.Words)
	}, func(ids []int64) ledger.Decision { return ledger.Decision{Action: "begin", Begun: ids} })
	s.recordTurn(ctx, over, func(o opening.Opening) string {
		if o.Waits() {
			return fmt.Sprintf("request %d lapsed at %s: %s", o.ID, utc(o.End()), o.Words)
		}
		return fmt.Sprintf("opening %d ended by itself at %s: %s", o.ID, utc(o.End()), o.Words)
	}, func(ids []int64) ledger.Decision { return ledger.Decision{Action: "end", Over: ids} })
	return nil
}

// turned lists the openings that came to their beginning or their end, which is not recorded.
func turned(st *ledger.State, now time.Time) (begun, over []opening.Opening) {
	for _, o := range st.Openings {
		if _, intended := st.Intended[o.ID]; intended || !o.Ended.IsZero() {
			continue
		}
		if st.Beginning[o.ID] && !now.Before(o.Begin) {
			begun = append(begun, o)
		}
		if !now.Before(o.End()) {
			over = append(over, o)
		}
	}
	return begun, over
}

// recordTurn records openings with their people, many in an entry.
func (s *Site) recordTurn(ctx context.Context, list []opening.Opening, text func(opening.Opening) string, decision func(ids []int64) ledger.Decision) {
	byPerson := map[string][]opening.Opening{}
	var people []string
	for _, o := range list {
		if len(byPerson[o.Person]) == 0 {
			people = append(people, o.Person)
		}
		byPerson[o.Person] = append(byPerson[o.Person], o)
	}
	for _, person := range people {
		for some := range slices.Chunk(byPerson[person], mostAnEntry) {
			var told []string
			var ids []int64
			for _, o := range some {
				told, ids = append(told, text(o)), append(ids, o.ID)
			}
			d := decision(ids)
			d.Person, d.Text = person, strings.Join(told, "; ")
			if s.record(ctx, d) != nil {
				return
			}
		}
	}
}

// mostAnEntry is how many openings one entry of the journal tells of.
const mostAnEntry = 50

// settle is how long whoever shut an opening may take to record it.
const settle = 2 * time.Second

// resolve completes an opening that passes as it was meant to, and takes it back where
// it does not: to what it was to replace, as far as that still passes.
func (s *Site) resolve(ctx context.Context, o opening.Opening, i ledger.Intent, plan *flow.Plan) error {
	if passesAs(plan, o) {
		return s.passed(ctx, o.ID)
	}
	if i.Before != nil && i.Before.Waits() && !slices.ContainsFunc(plan.Rules, func(r flow.Rule) bool { return r.Kind == flow.Opening && r.Opening == o.ID }) {
		return s.record(ctx, ledger.Decision{
			Move: true, Person: o.Person, Action: "ask", Text: fmt.Sprintf("opening %d was not opened; it waits as before: %s", o.ID, i.Before.Words), Openings: []opening.Opening{*i.Before},
		})
	}
	if i.Before != nil && !i.Before.Waits() && passesAs(plan, *i.Before) {
		if o.Within(*i.Before) { // it was to become narrower, and no permit covers the rest
			err := s.let(ctx, o)
			if err != nil && !errors.Is(err, driver.ErrShut) {
				return err
			}
			return s.passed(ctx, o.ID)
		}
		return s.record(ctx, ledger.Decision{
			Move: true, Person: o.Person, Action: "extend", Text: fmt.Sprintf("opening %d was not extended; it holds as before: %s", o.ID, i.Before.Words), Openings: []opening.Opening{*i.Before},
		})
	}
	return s.takeBack(ctx, o, errors.New("whoever asked for it was gone before it was installed"))
}

// passesAs reports whether a plan has the rules of an opening, and no others of its number.
func passesAs(plan *flow.Plan, o opening.Opening) bool {
	var have []flow.Rule
	for _, r := range plan.Rules {
		if r.Kind == flow.Opening && r.Opening == o.ID {
			have = append(have, r)
		}
	}
	want := o.Rules(plan)
	same := func(a, b flow.Rule) bool {
		return a.Until.Equal(b.Until) && a.From.Equal(b.From) && a.Services.Equal(b.Services) && slices.Equal(a.To.Machines, b.To.Machines)
	}
	return len(have) == len(want) && !slices.ContainsFunc(want, func(w flow.Rule) bool {
		return !slices.ContainsFunc(have, func(h flow.Rule) bool { return same(w, h) })
	})
}

// passing returns the openings that a plan lets pass, as far as the place knows them.
func passing(plan *flow.Plan) (list []opening.Opening) {
	byID := map[int64]int{}
	for _, r := range plan.Rules {
		if r.Kind != flow.Opening {
			continue
		}
		i, known := byID[r.Opening]
		if !known {
			i = len(list)
			byID[r.Opening] = i
			o := opening.Opening{ID: r.Opening, Begin: r.Begin}
			if s, err := sentence.ParseArgs([]string{r.Origin.Sentence}, time.Time{}); err == nil {
				o.Words, _ = s.(sentence.Open)
			}
			list = append(list, o)
		}
		p := opening.Part{Services: r.Services, From: r.From, End: r.Until}
		for _, m := range r.To.Machines {
			p.Machines = append(p.Machines, plan.Machines[m].Name)
		}
		list[i].Parts = append(list[i].Parts, p)
	}
	slices.SortFunc(list, func(a, b opening.Opening) int { return int(a.ID - b.ID) })
	return list
}
