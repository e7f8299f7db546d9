package work

import (
	"context"
	"strings"

	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// ClosesOnly reports whether a review of an edit opens nothing, lets nobody open
// anything, and makes nothing: then nothing may stop it.
func (w *Work) ClosesOnly(r *Review) bool {
	return len(r.before.Report.Files) > 0 && r.opensNothing(w.Clock.Now())
}

// CutTo closes what an edit closes, and does nothing else: also while somebody
// enacts, or an enactment is unfinished. What is let pass is what is let pass now and
// would be by the edit; the edit counts as enacted.
func (w *Work) CutTo(ctx context.Context, r *Review) error {
	none := func(int64) bool { return true }
	cut := flow.Common(r.before.Plan.WithoutOpenings(none), r.after.Plan.WithoutOpenings(none))
	var ids []int64
	for _, e := range r.Ending {
		ids = append(ids, e.Opening.ID)
	}
	if len(ids) > 0 {
		if err := w.Site.End(ctx, w.Person, "no permit covers it any more", ids...); err != nil {
			return err
		}
	}
	return w.Site.Cut(ctx, w.Person, cut.Rows(), r.Files, "closed at once"+told("said", r.Said)+told("retracted", r.Back))
}

func told(word string, list []sentence.Stated) string {
	var b strings.Builder
	for _, s := range list {
		b.WriteString("; " + word + " “" + s.Sentence.String() + "”")
	}
	return b.String()
}
