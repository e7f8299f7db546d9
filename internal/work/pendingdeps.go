package work

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"ironbark/internal/change"
	"ironbark/internal/estate"
	"ironbark/internal/fault"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// DependsOnPendingError says that an edit cannot be enacted by itself: it hinges on other edits that
// stand in the files and were not enacted.
type DependsOnPendingError struct{ On []string }

// Error tells on what.
func (h *DependsOnPendingError) Error() string {
	return "this edit hinges on others that are pending: " + strings.Join(h.On, "; ")
}

// Kind is that of a refusal.
func (h *DependsOnPendingError) Kind() fault.Kind { return fault.Unavailable }

// Advice says what to do.
func (h *DependsOnPendingError) Advice() fault.Advice {
	return fault.Say("--with-pending enacts all of them with it, --draft leaves it with them; nothing was changed")
}

// ReviewEdit works out what enacting an edit would do, and nothing but the edit: it
// is put into the files that were last enacted. Where nothing was ever enacted, all
// of the files count. The errors are those of Review, and a *DependsOnPendingError where the edit
// cannot be put there, or would come to something else there than in the files.
func (w *Work) ReviewEdit(ctx context.Context, e Edit) (*Review, error) {
	before, err := w.Installed(ctx)
	if err != nil {
		return nil, err
	}
	if len(before.Report.Files) == 0 {
		return w.review(before, e.New, false)
	}
	files, err := e.On(before.Report.Files)
	if overlap, ok := errors.AsType[*OverlapError](err); ok {
		return nil, &DependsOnPendingError{[]string{"lines of " + overlap.File + " that it changes were edited and not enacted"}}
	}
	if err != nil {
		return nil, err
	}
	r, err := w.review(before, files, true)
	if err != nil {
		if _, bad := errors.AsType[sentence.Errors](err); bad && !e.Old.Equal(before.Report.Files) {
			if _, whole := w.review(before, e.New, false); whole == nil { // in the files it is right
				return nil, &DependsOnPendingError{[]string{err.Error()}}
			}
		}
		return nil, err
	}
	if e.Old.Equal(before.Report.Files) {
		return r, nil
	}
	return r, w.sameThere(r, e)
}

// sameThere compares what an edit comes to by itself with what it comes to in the
// files. Files that are in error stop what opens anything, and nothing else.
func (w *Work) sameThere(r *Review, e Edit) error {
	old, err := e.Old.Estate()
	if err == nil {
		var now *estate.Estate
		if now, err = e.New.Estate(); err == nil {
			return w.compare(r, old, now)
		}
	}
	if r.opensNothing(w.Clock.Now()) {
		return nil
	}
	return err
}

func (w *Work) compare(r *Review, old, now *estate.Estate) error {
	has := r.before.Report.Resources
	alone, err := w.touched(r.before.Estate, r.Estate, has)
	if err != nil {
		return err
	}
	there, err := w.touched(old, now, has)
	if err != nil {
		return err
	}
	a, err := w.asked(r.Estate, has)
	if err != nil {
		return err
	}
	b, err := w.asked(now, has)
	if err != nil {
		return err
	}
	var on []string
	maps.Copy(alone, there)
	for _, id := range slices.Sorted(maps.Keys(alone)) {
		if x, y := a[id], b[id]; !x.Equal(y) {
			on = append(on, id+" is another one there")
		}
	}
	meant := change.Meanings(old, now)
	for _, m := range r.Meanings {
		if !slices.ContainsFunc(meant, func(o change.Meaning) bool { return o.Kind == m.Kind && o.Name == m.Name && o.After == m.After }) {
			on = append(on, fmt.Sprintf("%s %s means something else there", m.Kind, m.Name))
		}
	}
	plan := flow.Compile(now, assigned(r.before.Report, has))
	for _, st := range r.Added {
		if meaning(st.Sentence, r.Estate, r.after.Plan) != meaning(st.Sentence, now, plan) {
			on = append(on, fmt.Sprintf("“%s” has another meaning there", st.Sentence))
		}
	}
	if len(on) > 0 {
		return &DependsOnPendingError{on}
	}
	return nil
}

// meaning tells what the names in a sentence stand for.
func meaning(s sentence.Sentence, e *estate.Estate, p *flow.Plan) string {
	resolve := flow.NewResolver(e, p)
	tell := func(services sentence.Services, from, to sentence.Set) string {
		addrs, machines, _ := resolve.Speaks(from, to)
		var names []string
		for _, m := range machines.Machines {
			names = append(names, p.Machines[m].Name)
		}
		return fmt.Sprint(flow.ServiceRuns(resolve.Services(services)), flow.AddrRuns(addrs), names)
	}
	switch s := s.(type) {
	case sentence.Allow:
		return tell(s.Services, s.From, s.To)
	case sentence.Deny:
		return tell(s.Services, s.From, s.To)
	case sentence.Permit:
		return tell(s.Services, s.From, s.To)
	case sentence.Forward:
		return tell(sentence.Services{}, s.From, s.To)
	case sentence.Spread:
		return tell(sentence.Services{}, s.From, s.Over)
	}
	return ""
}
