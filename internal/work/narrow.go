package work

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbark/internal/fault"
	"ironbark/internal/flow"
	"ironbark/internal/ledger"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
	"ironbark/internal/site"
)

// heldOf finds an opening that holds and is the person's, or anybody's for a lead. The errors
// are a *NotYoursError and, where there is none, a *sentence.Error.
func (w *Work) heldOf(ctx context.Context, st *State, id int64) (opening.Opening, error) {
	i := slices.IndexFunc(st.Report.Openings, func(o opening.Opening) bool {
		return o.ID == id && o.Active(w.Clock.Now()) && !o.Waits()
	})
	if i < 0 {
		return opening.Opening{}, noneHolds(id)
	}
	o := st.Report.Openings[i]
	if o.Person != w.Person && !w.leads(ctx) {
		return o, &NotYoursError{Person: w.Person, Opening: o}
	}
	return o, nil
}

func noneHolds(id int64) error {
	return &sentence.Error{Problem: fmt.Sprintf("there is no opening %d that holds", id), Remedy: fault.Run("openings").Say(" lists them")}
}

// Extend asks for an opening of the person's own for longer: for a length from now, or from its beginning where that is to come, or until
// a moment. It is judged as a request for the same.
func (w *Work) Extend(ctx context.Context, id int64, words sentence.Open) (opening.Granted, error) {
	st, err := w.judged(ctx, id)
	if err != nil {
		return opening.Granted{}, err
	}
	o, err := w.heldOf(ctx, st, id)
	if err != nil {
		return opening.Granted{}, err
	}
	switch {
	case o.Person != w.Person:
		return opening.Granted{}, &NotYoursError{Person: w.Person, Opening: o}
	case len(o.Parts) > 1:
		return opening.Granted{}, &sentence.Error{Problem: fmt.Sprintf("opening %d has parts with ends of their own, so it cannot be extended as a whole", id), Remedy: fault.Say("open what you need of it for longer: open …")}
	}
	asked := o.Words
	asked.Starting, asked.For, asked.Until = time.Time{}, words.For, words.Until
	if o.Begin.After(w.Clock.Now()) {
		asked.Starting = o.Begin
	}
	if words.Because != "" {
		asked.Because = words.Because
	}
	if frozen := o.Parts[0].From; !flow.NewResolver(st.Estate, st.Plan).Source(asked.From).Equal(frozen) {
		if asked.From, err = sentence.ParseSource(strings.Join(flow.AddrRuns(frozen), ", ")); err != nil {
			return opening.Granted{}, err
		}
	}
	asked.To = sentence.Set{}
	for _, name := range o.Machines() { // the machines that it has, whatever its words stand for by now
		asked.To.List = append(asked.To.List, sentence.NameAtom(name))
	}
	return w.open(ctx, asked, id)
}

// Narrower is what is to be left of an opening; what is zero stays as it is.
type Narrower struct {
	Services sentence.Services
	To, From sentence.Set
	End      time.Time
}

// Narrow leaves less of an opening, at once: what it has in common with what is to be left.
// It always works for whoever may close it. The errors are those of Extend, and a
// *sentence.Error where nothing would be left, or nothing be less.
func (w *Work) Narrow(ctx context.Context, id int64, to Narrower) (opening.Opening, error) {
	for range mostTries {
		st, err := w.judged(ctx, id)
		if err != nil {
			return opening.Opening{}, err
		}
		o, err := w.heldOf(ctx, st, id)
		if err != nil {
			return o, err
		}
		kept, err := w.narrowed(st, o, to)
		if err != nil {
			return o, err
		}
		err = w.Site.Narrow(ctx, w.Person, "narrowed", kept)
		if _, closed := errors.AsType[*site.UnrecordedError](err); !errors.Is(err, ledger.ErrChanged) || closed {
			return kept, err
		}
	}
	return opening.Opening{}, ledger.ErrChanged
}

func (w *Work) narrowed(st *State, o opening.Opening, to Narrower) (opening.Opening, error) {
	resolve := flow.NewResolver(st.Estate, st.Plan)
	from, err := w.FromMe(st, to.From, &flow.Group{})
	if err != nil {
		return o, err
	}
	words := sentence.Open{Services: to.Services, To: to.To, From: from}
	if err := checkNarrower(st, words, to); err != nil {
		return o, err
	}
	if !to.From.IsEmpty() && slices.ContainsFunc(o.Parts, opening.Part.Console) {
		return o, &sentence.Error{At: to.From.List[0].At(), Problem: "a console has no source: it is for the person who opens it", Remedy: fault.Say("leave out “from …”")}
	}
	kept := o
	kept.Parts = nil
	for _, p := range o.Parts {
		if to.Services.Any || len(to.Services.List) > 0 {
			p.Services = p.Services.Intersect(resolve.Services(to.Services))
		}
		if !to.From.IsEmpty() {
			p.From = p.From.Intersect(resolve.Source(words.From))
		}
		if !to.To.IsEmpty() {
			group := resolve.Group(to.To)
			p.Machines = slices.DeleteFunc(slices.Clone(p.Machines), func(name string) bool {
				m, there := st.Plan.MachineByName(name)
				return !there || !group.Has(m)
			})
		}
		if !to.End.IsZero() && to.End.Before(p.End) {
			p.End = to.End.UTC().Truncate(time.Second)
		}
		if len(p.Machines) > 0 && !p.Services.IsEmpty() && !p.From.IsEmpty() && p.End.After(w.Clock.Now()) {
			kept.Parts = append(kept.Parts, p)
		}
	}
	switch {
	case len(kept.Parts) == 0:
		return o, &sentence.Error{Problem: fmt.Sprintf("nothing of opening %d would be left", o.ID), Remedy: fault.Say(fmt.Sprintf("close %d ends it", o.ID))}
	case o.Within(kept):
		return o, &sentence.Error{Problem: fmt.Sprintf("opening %d has no more than that already", o.ID)}
	}
	kept.Words = opening.Reworded(kept, st.Estate, st.Plan)
	return kept, nil
}

// checkNarrower checks the words that are given. In place of the others it takes such as are
// always right: what the opening says may name what is no more in the estate.
func checkNarrower(st *State, words sentence.Open, to Narrower) error {
	whole := words
	if !to.Services.Any && len(to.Services.List) == 0 {
		whole.Services = sentence.Services{Any: true}
	}
	if to.To.IsEmpty() {
		all, err := sentence.ParseAtom("all")
		if err != nil {
			return err
		}
		whole.To = sentence.Of(all)
	}
	if to.From.IsEmpty() {
		everywhere, err := sentence.ParseAtom("everywhere")
		if err != nil {
			return err
		}
		whole.From = sentence.Of(everywhere)
	}
	return st.Estate.CheckSentence(whole)
}
