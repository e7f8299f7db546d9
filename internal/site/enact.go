package site

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/journal"
	"ironbark/internal/ledger"
	"ironbark/internal/opening"
)

// Enactment is the right to change a site, held by one process at a time. What a
// method did stays done when a later one fails.
type Enactment struct {
	s       *Site
	person  string
	release func() error
	fence   int64 // how often the plan had been cut when it began
	seen    int64 // what others did up to here was seen by an enactment before
	last    ledger.Receipt
}

// Begin starts an enactment of changes that were planned, if nothing has changed since
// they were, and nobody else enacts. The errors are those of the ledger: ErrChanged, a
// *BusyError, a *ClockError, a *RecordError.
func (s *Site) Begin(ctx context.Context, person string, on Basis, planned []change.Change) (_ *Enactment, err error) {
	release, err := s.ledger.TryLock(ctx, ledger.Enacting)
	if err != nil {
		return nil, err
	}
	if release == nil {
		busy := &ledger.BusyError{}
		if st, err := s.ledger.State(ctx, ledger.Scope{Openings: s.some()}); err == nil {
			busy.Who = st.Unfinished
		}
		return nil, busy
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, release())
		}
	}()
	e := &Enactment{s: s, person: person, release: release}
	if err := s.checkUnchanged(ctx, on); err != nil {
		return nil, err
	}
	st, o, _, err := s.look(ctx, ledger.Everything, driver.Everything)
	if err != nil {
		return nil, err
	}
	text := "began an enactment"
	if st.Unfinished != nil {
		text = "took up the enactment that " + st.Unfinished.Person + " began"
	}
	now, _ := journal.Later(s.clock.Now(), st.Latest)
	d := ledger.Decision{
		Revision: on.Revision, Fence: -1, Opens: true, Move: true, Person: person, Action: "enact", Text: text,
		Begin: &ledger.Unfinished{Person: person, Since: now.UTC()}, Planned: planned,
	}
	_, done := settled(st, o.Resources) // what was done before the last one broke off, and not recorded
	for _, c := range done {
		d = withChange(d, c)
	}
	if e.last, err = s.write(ctx, d); err != nil {
		return nil, err
	}
	e.fence, e.seen = e.last.Fence, st.Seen
	for _, c := range done {
		if err := e.recordChange(ctx, c, "; it was done before, and is recorded now"); err != nil {
			return nil, err
		}
	}
	return e, nil
}

// Close gives the right back. Without Finish the site stays marked as unfinished.
func (e *Enactment) Close() error { return e.release() }

// Install puts a plan in place of the one before, at one moment: one that lets nothing
// pass that the one before does not.
func (e *Enactment) Install(ctx context.Context, plan *flow.Plan, text string) error {
	if _, err := e.install(ctx, plan); err != nil {
		return err
	}
	return e.record(ctx, ledger.Decision{Action: "tables", Text: text, Plan: plan})
}

// most is how often an installation is tried while others change the place.
const most = 50

// install installs a plan, unless somebody cut it down since the enactment began: that
// is looked up after the mark is read, and raised before a cut is installed, so
// that neither can undo the other. It returns up to where what others did was seen.
func (e *Enactment) install(ctx context.Context, plan *flow.Plan) (seen int64, err error) {
	for range most {
		o, err := e.s.driver.Observe(ctx, driver.Scope{After: e.seen})
		if err != nil {
			return 0, err
		}
		fence, err := e.s.ledger.Fence(ctx)
		if err != nil {
			return 0, err
		}
		if fence != e.fence {
			return 0, ledger.ErrCut
		}
		err = e.s.driver.Install(ctx, plan, o.Mark)
		if errors.Is(err, driver.ErrMoved) || errors.Is(err, driver.ErrLost) {
			continue
		}
		seen = e.seen
		if n := len(o.Outside); n > 0 {
			seen = o.Outside[n-1].Seq
		}
		return seen, err
	}
	return 0, ledger.ErrChanged
}

// record records something of the enactment, unless somebody cut the plan down meanwhile.
// The place is told of it when the enactment ends.
func (e *Enactment) record(ctx context.Context, d ledger.Decision) error {
	d.Fence = e.fence
	return e.note(ctx, d)
}

func (e *Enactment) note(ctx context.Context, d ledger.Decision) error {
	d.AnyRevision, d.Person, d.At = true, e.person, e.s.clock.Now()
	r, err := e.s.ledger.Write(ctx, d)
	if err == nil {
		e.last = r
	}
	return err
}

// Do makes, alters or removes one resource. content opens that of an image; nil: none.
func (e *Enactment) Do(ctx context.Context, c change.Change, content func() (io.ReadCloser, error)) error {
	var t change.Resource
	err := answered(func() (err error) {
		if content == nil {
			t, err = e.s.driver.Apply(ctx, c, nil)
			return err
		}
		r, err := content()
		if err != nil {
			return err
		}
		defer func() { err = errors.Join(err, r.Close()) }()
		t, err = e.s.driver.Apply(ctx, c, r)
		return err
	})
	if err != nil {
		return err
	}
	c.Resource = t
	return e.recordChange(ctx, c, "")
}

// recordChange records what was done: also where somebody cut the plan down meanwhile.
func (e *Enactment) recordChange(ctx context.Context, c change.Change, more string) error {
	t := c.Resource
	return e.note(ctx, withChange(ledger.Decision{Fence: -1, Action: string(c.Verb), Text: fmt.Sprintf("%s %s: %s%s", t.Kind, t.Name, t.Describe(), more)}, c))
}

// withChange adds what a change came to to a decision.
func withChange(d ledger.Decision, c change.Change) ledger.Decision {
	if c.Verb == change.Remove {
		d.Drop = append(d.Drop, c.Resource)
	} else {
		d.Put = append(d.Put, c.Resource)
	}
	return d
}

// End ends openings.
func (e *Enactment) End(ctx context.Context, why string, ids ...int64) error {
	return e.s.End(ctx, e.person, why, ids...)
}

// Narrow puts an opening in place of the one with its number, which lets more pass.
func (e *Enactment) Narrow(ctx context.Context, why string, o opening.Opening) error {
	return e.s.narrow(ctx, o, nil, func() error {
		return e.record(ctx, narrowing(why, o))
	})
}

// Narrow puts an opening in place of the one with its number, which lets more pass: also
// beside an enactment. Where somebody closed it meanwhile, it stays closed.
func (s *Site) Narrow(ctx context.Context, person, why string, o opening.Opening) error {
	return s.narrowBy(ctx, person, why, o, nil)
}

// Shorten is Narrow for whoever wants it to pass until its end from now on: where somebody
// closed it meanwhile, the error is ErrChanged.
func (s *Site) Shorten(ctx context.Context, person string, o opening.Opening) error {
	return s.narrowBy(ctx, person, "shortened", o, ledger.ErrChanged)
}

func (s *Site) narrowBy(ctx context.Context, person, why string, o opening.Opening, closed error) error {
	return s.narrow(ctx, o, closed, func() error {
		d := narrowing(why, o)
		d.AnyRevision, d.Fence, d.Move, d.Person = true, -1, true, person
		_, err := s.write(ctx, d)
		return err
	})
}

func narrowing(why string, o opening.Opening) ledger.Decision {
	return ledger.Decision{
		Action: "narrow", Text: fmt.Sprintf("opening %d: %s; left is %s", o.ID, why, o.Describe()), Openings: []opening.Opening{o}, Intended: !o.Waits(),
	}
}

// narrow puts an opening in place of a wider one, once that is recorded. closed is returned where
// somebody closed it.
func (s *Site) narrow(ctx context.Context, o opening.Opening, closed error, record func() error) (err error) {
	release, err := s.ledger.Lock(ctx, ledger.Opening) // or somebody takes the intent for that of a process that died
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, release()) }()
	st, err := s.ledger.State(ctx, ledger.Scope{Openings: s.some(o.ID)})
	if err != nil {
		return err
	}
	i := slices.IndexFunc(st.Openings, func(now opening.Opening) bool { return now.ID == o.ID })
	if i < 0 || !st.Openings[i].Ended.IsZero() { // that is less still
		return closed
	}
	if now := st.Openings[i]; !o.Within(now) || o.Waits() != now.Waits() || len(o.Approvals) != len(now.Approvals) { // somebody narrowed it otherwise, or approved it
		return ledger.ErrChanged
	}
	if err := record(); err != nil {
		return err
	}
	err = s.let(ctx, o)
	if errors.Is(err, driver.ErrShut) {
		return closed
	}
	if err != nil || o.Waits() {
		return err
	}
	return s.passed(ctx, o.ID)
}

// Finish installs the last plan and keeps the files that it came from. It is recorded
// before it is installed, as what may be open from then on; that it was installed is
// recorded after it. The error is ErrChanged where something was opened or closed since on:
// an emergency goes by what was enacted before, until this is done.
func (e *Enactment) Finish(ctx context.Context, on Basis, plan *flow.Plan, files []estate.File, recipients []string, text string) (err error) {
	release, err := e.s.ledger.Lock(ctx, ledger.Opening)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, release()) }()
	e.last, err = e.s.ledger.Write(ctx, ledger.Decision{
		Revision: on.Revision, Fence: e.fence, At: e.s.clock.Now(), Opens: true, Person: e.person, Action: "enact", Text: text, Plan: plan, Files: files, Recipients: recipients,
	})
	if err != nil {
		return err
	}
	seen, err := e.install(ctx, plan)
	if err != nil {
		return err
	}
	if err := e.record(ctx, ledger.Decision{Finish: true, Move: true, Seen: &seen}); err != nil {
		return err
	}
	e.s.keep(ctx, e.last)
	if e.s.memory != nil && len(files) > 0 { // they were reviewed, and so read
		e.s.memory.Keep(files)
	}
	return nil
}

// Cut closes at once, also while somebody else enacts or an enactment is unfinished:
// plan, which lets nothing pass that is not let pass now, takes the place of the
// installed one, and files that of the enacted ones. An enactment that is under way
// installs nothing after it; it must be begun anew. The errors are ErrChanged where the
// site is not what it was any more, and an *UnrecordedError.
func (s *Site) Cut(ctx context.Context, person string, on Basis, plan *flow.Plan, files []estate.File, recipients []string, text string) error {
	raised := ledger.Decision{Revision: on.Revision, Fence: -1, Cut: true, Move: true}
	var r ledger.Receipt
	unrecorded := s.closing(func() (err error) {
		r, err = s.write(ctx, raised)
		return err
	})
	if errors.Is(unrecorded, ledger.ErrChanged) {
		return unrecorded
	}
	err := s.closing(func() error { return s.driver.Install(ctx, plan, on.Mark) })
	if errors.Is(err, driver.ErrMoved) {
		return ledger.ErrChanged
	}
	if err != nil {
		return err
	}
	if unrecorded == nil {
		unrecorded = s.closing(func() error {
			_, err := s.write(ctx, ledger.Decision{AnyRevision: true, Fence: r.Fence, Move: true, Person: person, Action: "cut", Text: text, Plan: plan, Files: files, Recipients: recipients})
			return err
		})
	}
	if errors.Is(unrecorded, ledger.ErrCut) { // another cut came between, and goes by what was enacted before
		return ledger.ErrChanged
	}
	if unrecorded != nil {
		return &UnrecordedError{unrecorded}
	}
	return nil
}
