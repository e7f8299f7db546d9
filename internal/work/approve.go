package work

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"ironbark/internal/exposure"
	"ironbark/internal/fault"
	"ironbark/internal/ledger"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
)

// CannotApproveError says why somebody cannot approve or decline a request.
type CannotApproveError struct {
	ID  int64
	Why string
	May bool // nothing is wrong with the person
}

// Error tells why.
func (c *CannotApproveError) Error() string { return c.Why }

// Kind is that of bad input, or of a person who may not.
func (c *CannotApproveError) Kind() fault.Kind {
	if c.May {
		return fault.Invalid
	}
	return fault.Denied
}

// Advice says where requests are listed.
func (c *CannotApproveError) Advice() fault.Advice {
	return fault.Run("openings").Say(" lists what waits, and for whom")
}

// requested finds a request that somebody may approve. The error is a *CannotApproveError.
func (w *Work) requested(st *State, id int64) (opening.Opening, error) {
	now := w.Clock.Now()
	i := slices.IndexFunc(st.Report.Openings, func(o opening.Opening) bool { return o.ID == id && o.Active(now) && o.Waits() })
	if i < 0 {
		return opening.Opening{}, &CannotApproveError{id, fmt.Sprintf("there is no request %d that waits for approval", id), true}
	}
	switch o := st.Report.Openings[i]; {
	case o.Person == w.Person:
		return o, &CannotApproveError{id, fmt.Sprintf("nobody approves what they asked for themselves; close %d takes it back", id), false}
	case slices.ContainsFunc(o.Approvals, func(a opening.Approval) bool { return a.Person == w.Person }):
		return o, &CannotApproveError{id, fmt.Sprintf("you have approved request %d already; it takes different people", id), true}
	case !o.MayApprove(w.Person, st.Estate):
		return o, &CannotApproveError{id, fmt.Sprintf("request %d is for %v to approve, and %s is none of them", id, o.Waiting.From, w.Person), false}
	default:
		return o, nil
	}
}

// WouldOpen returns a request that waits, with when it would begin were it approved now, and what it would open then.
func (w *Work) WouldOpen(ctx context.Context, id int64) (o opening.Opening, d exposure.Difference, st *State, err error) {
	if st, err = w.Installed(ctx); err != nil {
		return o, d, nil, err
	}
	var end time.Time
	if o, err = w.requested(st, id); err != nil {
		return o, d, st, err
	}
	o.Begin, end = o.Window(w.Clock.Now())
	open := o
	open.Waiting, open.Parts = opening.Waiting{}, slices.Clone(o.Parts)
	for i := range open.Parts {
		open.Parts[i].End = end
	}
	after := *st
	after.Plan = st.Plan.With(open.Rules(st.Plan)...)
	return o, exposure.Compare(exposure.NewView(st.Plan, o.Begin), exposure.NewView(after.Plan, o.Begin)), st, nil
}

// Approve gives the person's approval. With the last one that it needs, the request is
// fully judged again, and opens; otherwise it waits on. The errors are a
// *CannotApproveError, an *opening.RefusalError, which declines nothing, and those of
// *site.Site.Open.
func (w *Work) Approve(ctx context.Context, id int64) (granted opening.Granted, err error) {
	for range mostTries {
		if granted, err = w.approveOnce(ctx, id); !errors.Is(err, ledger.ErrChanged) {
			break
		}
	}
	return granted, err
}

func (w *Work) approveOnce(ctx context.Context, id int64) (opening.Granted, error) {
	st, err := w.judged(ctx, id)
	if err != nil {
		return opening.Granted{}, err
	}
	if st.Report.Unfinished != nil {
		return opening.Granted{}, ledger.ErrUnfinished
	}
	o, err := w.requested(st, id)
	if err != nil {
		return opening.Granted{}, err
	}
	now := w.Clock.Now()
	o.Approvals = append(slices.Clone(o.Approvals), opening.Approval{Person: w.Person, Request: o.Request, At: now.UTC()})
	machines, err := w.Site.Machines(ctx, o.Machines()...)
	if err != nil {
		return opening.Granted{}, err
	}
	granted, err := opening.Approved(opening.Request{
		Person: o.Person, Words: o.Words, Now: now, Estate: st.Estate, Plan: st.Plan,
		Running: running(machines),
	}, o)
	if err != nil {
		return granted, w.refused(ctx, st, fmt.Sprintf("approval of request %d: %s", o.ID, o.Words), err)
	}
	if granted.Opening.Waits() {
		granted.Opening, err = w.Site.Ask(ctx, st.Report.Basis, w.Person, "approve", "", granted.Opening)
		return granted, err
	}
	granted.Opening, err = w.Site.Open(ctx, st.Report.Basis, granted.Opening)
	return granted, err
}

// Decline ends a request that waits, with a reason. The error is a *CannotApproveError.
func (w *Work) Decline(ctx context.Context, id int64, why string) (opening.Opening, error) {
	for range mostTries {
		st, err := w.judged(ctx, id)
		if err != nil {
			return opening.Opening{}, err
		}
		o, err := w.requested(st, id)
		if err != nil {
			return o, err
		}
		o.Ended, o.EndedBy, o.Why = w.Clock.Now().UTC(), w.Person, why
		o, err = w.Site.Ask(ctx, st.Report.Basis, w.Person, "decline", "; declined because "+sentence.Quote(why), o)
		if !errors.Is(err, ledger.ErrChanged) {
			return o, err
		}
	}
	return opening.Opening{}, ledger.ErrChanged
}
