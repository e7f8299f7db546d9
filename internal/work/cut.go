package work

import (
	"cmp"
	"context"
	"errors"
	"strings"

	"ironbark/internal/flow"
	"ironbark/internal/ledger"
	"ironbark/internal/sentence"
	"ironbark/internal/site"
)

// ClosesOnly reports whether a review of an edit opens nothing, lets nobody open
// anything, and makes nothing: then nothing may stop it.
func (w *Work) ClosesOnly(r *Review) bool {
	return len(r.before.Report.Files) > 0 && r.opensNothing(w.Clock.Now())
}

// CutTo closes what an edit closes, and does nothing else: also while somebody
// enacts, or an enactment is unfinished. What is let pass is what is let pass now and
// would be by the edit; the edit counts as enacted. Where the site changes meanwhile, it
// is worked out anew. The errors are ledger.ErrChanged, after many tries or where the
// edit would open something by now, and those of ReviewEdit; nothing was done then.
func (w *Work) CutTo(ctx context.Context, e Edit) error {
	for range 20 {
		r, err := w.ReviewEdit(ctx, e)
		if err != nil {
			return err
		}
		if !w.ClosesOnly(r) {
			break
		}
		if err := w.cut(ctx, r); !errors.Is(err, ledger.ErrChanged) {
			return err
		}
	}
	return ledger.ErrChanged
}

func (w *Work) cut(ctx context.Context, r *Review) error {
	none := func(int64) bool { return true }
	cut := flow.Intersection(r.before.Plan.WithoutOpenings(none), r.after.Plan.WithoutOpenings(none))
	err := w.Site.Cut(ctx, w.Person, r.Basis, cut, r.Files, r.Estate.NamesOf("recipient"), "closed at once"+told("said", r.Added)+told("retracted", r.Retracted))
	if _, closed := errors.AsType[*site.UnrecordedError](err); len(r.Ending) == 0 || err != nil && !closed {
		return err
	}
	var ids []int64
	var narrowed error
	for _, e := range r.Ending {
		if e.Narrowed {
			narrowed = cmp.Or(narrowed, w.Site.Narrow(ctx, w.Person, e.Why, e.Opening))
		} else {
			ids = append(ids, e.Opening.ID)
		}
	}
	if len(ids) == 0 {
		return cmp.Or(narrowed, err)
	}
	return cmp.Or(w.Site.End(ctx, w.Person, uncovered, ids...), narrowed, err)
}

func told(word string, list []sentence.Statement) string {
	var b strings.Builder
	for _, s := range list {
		b.WriteString("; " + word + " “" + s.Sentence.String() + "”")
	}
	return b.String()
}
