package work

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"ironbark/internal/exposure"
	"ironbark/internal/fault"
	"ironbark/internal/flow"
	"ironbark/internal/ledger"
	"ironbark/internal/opening"
	"ironbark/internal/rights"
	"ironbark/internal/sentence"
)

// mostTries is how often a request is judged anew because somebody else changed what it was
// judged on. At each try one of those that are at it gets through.
const mostTries = 100

// Open judges a request and, if nothing speaks against it, installs the opening. Where
// somebody else changes something meanwhile it is judged anew.
// The errors are sentence.Errors for unknown names, an *opening.RefusalError, and
// those of *site.Site.Open.
func (w *Work) Open(ctx context.Context, words sentence.Open) (opening.Granted, error) {
	return w.open(ctx, words, 0)
}

// open is Open; with a number it extends that opening, or asks for approval of that, and opens
// nothing else.
func (w *Work) open(ctx context.Context, words sentence.Open, extends int64) (granted opening.Granted, err error) {
	for range mostTries {
		if granted, err = w.openOnce(ctx, words, extends); !errors.Is(err, ledger.ErrChanged) {
			break
		}
	}
	return granted, err
}

func (w *Work) openOnce(ctx context.Context, words sentence.Open, extends int64) (opening.Granted, error) {
	st, err := w.judged(ctx)
	if err != nil {
		return opening.Granted{}, err
	}
	if st.Report.Unfinished != nil && !words.Emergency {
		return opening.Granted{}, ledger.ErrUnfinished
	}
	if err := st.Estate.CheckSentence(words); err != nil {
		return opening.Granted{}, err
	}
	now := w.Clock.Now()
	targets := flow.NewResolver(st.Estate, st.Plan).Group(words.To)
	if words.From, err = w.FromMe(st, words.From, targets); err != nil {
		return opening.Granted{}, err
	}
	var names []string
	for _, m := range targets.Machines {
		names = append(names, st.Plan.Machines[m].Name)
	}
	machines, err := w.Site.Machines(ctx, names...)
	if err != nil {
		return opening.Granted{}, err
	}
	owed, err := w.Owed(ctx, words.Emergency)
	if err != nil {
		return opening.Granted{}, err
	}
	request := opening.Request{
		Person: w.Person, Words: words, Now: now, Estate: st.Estate, Plan: st.Plan, Owed: owed[w.Person], Extends: extends,
		Running: running(machines),
	}
	alike, err := w.Site.Alike(ctx, w.Person, opening.Flows(request))
	if err != nil {
		return opening.Granted{}, err
	}
	request.Alike = Active(alike, now)
	granted, err := opening.Judge(request)
	if err != nil {
		return granted, w.refused(ctx, st, words.String(), err)
	}
	if extends > 0 && granted.Shorter {
		return opening.Granted{}, w.refused(ctx, st, words.String(), &opening.RefusalError{Reasons: []opening.Reason{{
			What:   fmt.Sprintf("opening %d holds until later than %s already", extends, granted.Opening.End().UTC().Format(time.RFC3339)),
			Remedy: fault.Say(fmt.Sprintf("narrow %d until %s", extends, granted.Opening.End().UTC().Format(time.RFC3339))),
		}}})
	}
	if extends > 0 && !granted.Opening.Waits() && granted.Opening.ID != extends { // somebody closed it meanwhile
		return opening.Granted{}, noneHolds(extends)
	}
	if granted.Opening.Waits() {
		granted.Opening, err = w.Site.Ask(ctx, st.Report.Basis, w.Person, "ask", "", granted.Opening)
		return granted, err
	}
	if granted.Shorter {
		return granted, w.Site.Shorten(ctx, w.Person, granted.Opening)
	}
	granted.Opening, err = w.Site.Open(ctx, st.Report.Basis, granted.Opening)
	return granted, err
}

// refused records a refusal, and returns it. One that cannot be recorded is one all the same.
func (w *Work) refused(ctx context.Context, st *State, request string, why error) error {
	refusal, ok := errors.AsType[*opening.RefusalError](why)
	if !ok || len(st.Report.Files) == 0 { // nothing was ever enacted
		return why
	}
	_ = w.Site.Refused(ctx, w.Person, request, refusal)
	return why
}

// NotYoursError says that a person may not close somebody else's opening.
type NotYoursError struct {
	Person  string
	Opening opening.Opening
}

// Error tells whose it is.
func (n *NotYoursError) Error() string {
	return fmt.Sprintf("opening %d is %s's; its owner or a lead can close it", n.Opening.ID, n.Opening.Person)
}

// Kind is that of a person who may not.
func (n *NotYoursError) Kind() fault.Kind { return fault.Denied }

// UnknownPersonError says that a person is none of the estate's.
type UnknownPersonError struct{ Person string }

// Error tells the person.
func (u *UnknownPersonError) Error() string {
	return fmt.Sprintf("there is no person “%s” in the estate", u.Person)
}

// Kind is that of a person who may not.
func (u *UnknownPersonError) Kind() fault.Kind { return fault.Denied }

// leads reports whether the person may close anybody's openings: a member of leads, or where
// there is none anybody whom the estate knows.
func (w *Work) leads(ctx context.Context) bool {
	st, err := w.judged(ctx)
	if err != nil {
		return false
	}
	return rights.MayClose(w.Person, st.Estate)
}

// Overridden tells by number which of some openings a deny keeps shut, and by which sentence.
func Overridden(st *State, list []opening.Opening, at time.Time) map[int64]string {
	view := exposure.NewView(st.Plan, at)
	out := map[int64]string{}
	var denies []flow.Rule
	for _, r := range st.Plan.Rules {
		if r.Kind == flow.Deny && flow.Active(r.Until, at) {
			denies = append(denies, r)
		}
	}
	for _, o := range list {
		if o.StateAt(at) != opening.Open {
			continue
		}
		passes, deny := false, ""
		for _, part := range o.Parts {
			if !slices.ContainsFunc(denies, func(r flow.Rule) bool { return r.Services.Overlaps(part.Services) && r.From.Overlaps(part.From) }) {
				passes = true
				continue
			}
			for _, name := range part.Machines {
				m, ok := st.Plan.MachineByName(name)
				if !ok {
					continue
				}
				for _, p := range view.Ask(part.Services, part.From, exposure.Target{Machine: m}) {
					passes = passes || p.Open
					if p.Reason == exposure.Denied {
						deny = p.Origin.Sentence
					}
				}
			}
		}
		if !passes && deny != "" {
			out[o.ID] = deny
		}
	}
	return out
}
