package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"ironbark/internal/cli/view"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// editRequestDoc is the document of an edit that waits for approval.
type editRequestDoc struct {
	Edit     string    `json:"edit"`
	Person   string    `json:"person"`
	At       time.Time `json:"at"`
	Lapses   time.Time `json:"lapses"`
	What     string    `json:"what"`
	Approved []string  `json:"approved"`
	Needs    int       `json:"needs"`
	From     []string  `json:"from"`
}

func editRequestJSON(q work.EditRequest, st *work.State) editRequestDoc {
	return editRequestDoc{q.Name(), q.Person, q.At.UTC(), q.Until().UTC(), q.What, append([]string{}, q.Approved...), st.Estate.Edits.Approvals, append([]string{}, st.Estate.Edits.From...)}
}

// approveEdit shows the review of an edit that waits, and gives the person's approval.
func (a *app) approveEdit(ctx context.Context, w *work.Work, seq int64, yes bool) error {
	q, e, st, err := w.AskedEdit(ctx, seq)
	if err != nil {
		return err
	}
	if err := w.MayApproveEdit(q, st); err != nil {
		return err
	}
	r, err := w.ReviewEdit(ctx, e)
	if err != nil {
		return err
	}
	if !a.json {
		a.print.Wrap("", fmt.Sprintf("Edit %s of %s, asked for at %s:", q.Name(), q.Person, view.Moment(q.At, a.clock.Now())))
		if err := a.showReview(w, r); err != nil {
			return err
		}
		a.print.Note("")
	}
	if err := a.confirm(yes, "Approve this?"); err != nil {
		return err
	}
	more, err := w.ApproveEdit(ctx, seq)
	if err != nil {
		return err
	}
	q.Approved = append(q.Approved, w.Person)
	switch {
	case a.json:
		return a.print.JSON(editRequestJSON(q, st))
	case more > 0:
		a.print.Line("approved  edit %s waits for %s more", q.Name(), view.Count(more, "approval"))
	default:
		a.print.Line("approved  edit %s: ironbark enact --request %s", q.Name(), q.Name())
	}
	return nil
}

// declineEdit declines an edit that waits.
func (a *app) declineEdit(ctx context.Context, w *work.Work, seq int64, because string) error {
	if problem := sentence.ReasonProblem(because); problem != "" {
		return usage("the reason %s", problem)
	}
	q, err := w.DeclineEdit(ctx, seq, because)
	if err != nil {
		return err
	}
	a.print.Line("declined  edit %s of %s", q.Name(), q.Person)
	return nil
}

// enactAsked enacts an edit that was asked for.
func (a *app) enactAsked(ctx context.Context, w *work.Work, name string, opt *editing) error {
	seq, ok := work.ParseEditName(name)
	if !ok {
		return usage("--request takes an edit by its name, such as e41, not “%s”", name)
	}
	q, e, _, err := w.AskedEdit(ctx, seq)
	if err != nil {
		return err
	}
	return a.edit(ctx, w, e.Old, e.New, "as asked for by "+q.Person+" in "+q.Name(), opt)
}

// editsThatWait prints the edits that wait for approval.
func (a *app) editsThatWait(list []work.EditRequest, w *work.Work, st *work.State) {
	var rows [][]string
	for _, q := range list {
		state := "waits for " + view.Count(st.Estate.Edits.Approvals, "approval") + " of " + strings.Join(st.Estate.Edits.From, " or ") + ", lapses " + view.Moment(q.Until(), a.clock.Now())
		if len(q.Approved) > 0 {
			state += "; approved by " + strings.Join(q.Approved, ", ")
		}
		rows = append(rows, []string{q.Name(), q.What, state, q.Person})
	}
	if len(rows) > 0 {
		a.print.Line("")
		a.print.Head("Edits that wait")
		a.print.Table([]string{"EDIT", "WHAT", "STATE", "BY"}, rows)
	}
	for _, q := range list {
		if w.MayApproveEdit(q, st) == nil {
			a.print.Note("edit %s waits for you: ironbark approve %s, or ironbark decline %s because \"…\"", q.Name(), q.Name(), q.Name())
		}
	}
}
