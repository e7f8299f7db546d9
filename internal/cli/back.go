package cli

import (
	"context"
	"time"

	"github.com/aymanbagabas/go-udiff"
	"github.com/spf13/cobra"

	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// back are the options of review and enact by which the files go back.
type back struct {
	to   string // to what was enacted at a moment
	drop bool   // to what was last enacted
}

func (b *back) flags(c *cobra.Command) {
	c.Flags().StringVar(&b.to, "back-to", "", "take the files back to what was enacted at a moment: a time, or a length back from now")
	c.Flags().BoolVar(&b.drop, "drop-drafts", false, "give the pending edits up")
}

// wanted reports whether the files are to go back at all.
func (b *back) wanted() bool { return b.to != "" || b.drop }

// edit returns the edit that takes the files back, and what it is in a few words.
func (a *app) backEdit(ctx context.Context, w *work.Work, b *back) (e work.Edit, told string, err error) {
	if b.to != "" && b.drop {
		return e, "", usage("--back-to and --drop-drafts are two things: give the pending edits up first")
	}
	now, err := w.Installed(ctx)
	if err != nil {
		return e, "", err
	}
	if len(now.Report.Files) == 0 {
		return e, "", wrong("nothing was enacted yet, so there is nothing to go back to")
	}
	if b.drop {
		files, err := w.Folder.Read()
		return work.Edit{Old: files, New: now.Report.Files}, "gave the pending edits up", err
	}
	at, err := a.past("--back-to", b.to)
	if err != nil {
		return e, "", err
	}
	then, err := w.At(ctx, at)
	if err != nil {
		return e, "", err
	}
	if len(then.Files) == 0 {
		return e, "", wrong("nothing had been enacted by %s: ironbark journal tells when what was", at.UTC().Format(time.RFC3339))
	}
	return work.Edit{Old: now.Report.Files, New: then.Files}, "went back to what was enacted at " + at.UTC().Format(time.RFC3339), nil
}

// past reads a moment that is past, or a length back from now.
func (a *app) past(option, text string) (time.Time, error) {
	if t, ok := timeIn(text); ok {
		if t.After(a.clock.Now()) {
			return t, usage("%s %s is not past", option, text)
		}
		return t, nil
	}
	if d, err := sentence.ParseDuration(text); err == nil {
		return a.clock.Now().Add(-d.Length()), nil
	}
	return time.Time{}, usage("%s takes a time such as 2026-11-20T18:00:00Z, a date (its midnight, UTC), or a length back from now such as 7d, not %q", option, text)
}

// reviewBack tells what taking the files back would do.
func (a *app) reviewBack(ctx context.Context, w *work.Work, b *back) error {
	e, _, err := a.backEdit(ctx, w, b)
	if err != nil {
		return err
	}
	if b.drop {
		return a.showDrafts(ctx, w, e)
	}
	r, err := w.ReviewEdit(ctx, e)
	if err != nil {
		return err
	}
	if err := a.showReview(w, r); err != nil {
		return err
	}
	if a.json {
		if err := a.print.JSON(a.review); err != nil {
			return err
		}
	}
	return a.told(r)
}

// showDrafts shows the edits that would be given up: as lines, and as what they would do.
func (a *app) showDrafts(ctx context.Context, w *work.Work, e work.Edit) error {
	if e.Old.Equal(e.New) {
		a.print.Line("No edit is pending: the files are as they were enacted.")
		return nil
	}
	for _, name := range e.Names() {
		a.print.Text(udiff.Unified(name, name+" as it was enacted", string(e.Old.Get(name)), string(e.New.Get(name))))
	}
	r, err := w.Review(ctx, e.Old)
	if err != nil { // what is in error is given up, too
		a.print.Note("the files are in error as they are: %v", err)
		return nil
	}
	a.print.Line("")
	a.print.Line("What is given up is this:")
	a.print.Line("")
	return a.showReview(w, r)
}

// goBack takes the files back, and enacts that where it is of an earlier moment.
func (a *app) goBack(ctx context.Context, w *work.Work, b *back, opt *editing) error {
	e, told, err := a.backEdit(ctx, w, b)
	if err != nil {
		return err
	}
	if !b.drop {
		if e.Old.Equal(e.New) {
			a.print.Line("Nothing to go back to: what was enacted then is what is enacted now.")
			return nil
		}
		return a.edit(ctx, w, e.Old, e.New, told, opt)
	}
	if err := a.showDrafts(ctx, w, e); err != nil || e.Old.Equal(e.New) {
		return err
	}
	a.print.Note("")
	if err := a.confirm(opt.yes, "Give these edits up?"); err != nil {
		return err
	}
	written, _, err := a.write(w, e, opt)
	if err != nil {
		return err
	}
	written.Done()
	a.print.Note("edited: %s", told)
	return nil
}
