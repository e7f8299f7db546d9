package work

import (
	"context"
	"errors"
	"slices"
	"sync"

	"ironbark/internal/driver"
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
	"ironbark/internal/opening"
	"ironbark/internal/site"
)

// Closed is what was closed.
type Closed struct {
	Openings []opening.Opening // none where nothing was open
	Sessions []driver.Session  // that it ended
	Known    bool              // whether the place knows the sessions
}

// Close ends openings early: those of a state, which Held or HeldOf returned, that which
// reports true for. A *NotYoursError closes nothing. While the record cannot be read nobody
// knows whose they are, and anybody may. The error may be a *site.UnrecordedError: then they
// are closed.
func (w *Work) Close(ctx context.Context, st *State, which func(opening.Opening) bool) (c Closed, err error) {
	var list []opening.Opening
	var ids []int64
	leads := sync.OnceValue(func() bool { return w.leads(ctx) })
	for _, o := range Active(st.Report.Openings, st.Clock(w.Clock.Now())) {
		if !which(o) {
			continue
		}
		if !st.Alone && o.Person != w.Person && !leads() {
			return c, &NotYoursError{Person: w.Person, Opening: o}
		}
		list = append(list, o)
		ids = append(ids, o.ID)
	}
	if len(ids) == 0 {
		return c, nil
	}
	sessions, known, whyNot := w.Site.Sessions(ctx)
	for i := range list {
		list[i].Ended, list[i].EndedBy = w.Clock.Now().UTC(), w.Person
	}
	err = w.Site.EndOf(ctx, w.Person, st.Report, ids...)
	if _, closed := errors.AsType[*site.UnrecordedError](err); err != nil && !closed {
		return c, err
	}
	c.Openings, c.Known = list, known && whyNot == nil
	c.Sessions, whyNot = w.ended(ctx, list, sessions)
	c.Known = c.Known && whyNot == nil
	return c, err
}

// EndRestored ends openings that a backup brought back: nobody knows whether they were closed after it was made. With the place in the backup it
// ends all of them; else those that the place does not let pass, which restoring the site would install again. It returns them.
func (w *Work) EndRestored(ctx context.Context, withPlace bool) ([]opening.Opening, error) {
	st, err := w.Installed(ctx)
	if err != nil {
		return nil, err
	}
	passes := map[int64]bool{}
	for _, r := range st.Plan.Rules {
		passes[r.Opening] = true
	}
	var list []opening.Opening
	var ids []int64
	for _, o := range Active(st.Report.Openings, w.Clock.Now()) {
		if !o.Waits() && (withPlace || !passes[o.ID]) {
			list, ids = append(list, o), append(ids, o.ID)
		}
	}
	if len(ids) == 0 {
		return nil, nil
	}
	return list, w.Site.End(ctx, w.Person, "it came back with a backup, and may have been closed after that was made", ids...)
}

// Outlets lists which of the sources of some openings their machines may still call, and returns the state that says so. It reads the plan, which
// closing does not.
func (w *Work) Outlets(ctx context.Context, list []opening.Opening) (*State, []exposure.Outlet, error) {
	if len(list) == 0 {
		return nil, nil, nil
	}
	st, err := w.judged(ctx)
	if err != nil {
		return nil, nil, err
	}
	sources := map[int32]flow.Addrs{}
	for _, o := range list {
		for _, part := range o.Parts {
			if part.Console() { // nothing comes over the network to a console
				continue
			}
			for _, name := range part.Machines {
				if m, there := st.Plan.MachineByName(name); there {
					sources[m] = sources[m].Union(part.From)
				}
			}
		}
	}
	return st, exposure.Outlets(st.Plan, w.Clock.Now(), sources), nil
}

// CloseOne is Close of the opening with a number: of none where nothing holds under it.
func (w *Work) CloseOne(ctx context.Context, id int64) (Closed, error) {
	held, err := w.HeldOf(ctx, id)
	if err != nil {
		return Closed{}, err
	}
	return w.Close(ctx, held, func(o opening.Opening) bool { return o.ID == id })
}

// ended lists those of some sessions that openings let in, and that nothing lets in any more.
func (w *Work) ended(ctx context.Context, list []opening.Opening, sessions []driver.Session) (ended []driver.Session, err error) {
	for _, s := range sessions {
		if slices.ContainsFunc(list, func(o opening.Opening) bool { return o.LetsIn(s.Machine, s.Service, s.From) }) {
			ended = append(ended, s)
		}
	}
	if len(ended) == 0 {
		return nil, nil
	}
	r, err := w.Site.Report(ctx)
	if err != nil {
		return nil, err
	}
	view := exposure.NewView(r.Plan, w.Clock.Now())
	return slices.DeleteFunc(ended, func(s driver.Session) bool {
		m, there := r.Plan.MachineByName(s.Machine)
		if !there {
			return false
		}
		parts := view.Ask(flow.ServicesAt(s.Service), span.One(flow.PointOf(s.From)), exposure.Target{Machine: m})
		return slices.ContainsFunc(parts, func(p exposure.Part) bool { return p.Open })
	}), nil
}
