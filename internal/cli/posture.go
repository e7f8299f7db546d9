package cli

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"ironbark/internal/cli/view"
	"ironbark/internal/findings"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// foundNow lists what is found of a state now: mistakes, and how it has come to be used.
func (a *app) foundNow(ctx context.Context, w *work.Work, st *work.State, now time.Time) ([]findings.Finding, error) {
	facts, err := w.Facts(ctx, now)
	if err != nil {
		return nil, err
	}
	if facts.From, err = w.UsedFrom(ctx, now); err != nil {
		a.print.NoteWrap("", fmt.Sprintf("from where sentences were used is not looked at: %v", err))
	}
	return foundAt(st, now, facts), nil
}

// foundAt lists what is found of a state at a moment. Of the past, and of what is still to come, it is not known who uses what.
func foundAt(st *work.State, at time.Time, facts findings.Facts) []findings.Finding {
	return append(findings.Lint(st.Estate, st.Plan, at, st.Listening()), findings.Posture(findings.Side{Estate: st.Estate, Plan: st.Plan}, at, facts)...)
}

// fix retracts the sentences of findings that only close something or only tidy up, as one edit.
func (a *app) fix(ctx context.Context, w *work.Work, opt *editing) error {
	st, err := w.Asked(ctx, true)
	if err != nil {
		return err
	}
	list, err := a.foundNow(ctx, w, st, a.clock.Now())
	if err != nil {
		return err
	}
	said := map[sentence.Pos]sentence.Sentence{}
	for _, st := range st.Estate.Sentences() {
		said[st.At] = st.Sentence
	}
	var out []sentence.Pos
	for _, f := range list {
		if s, there := said[f.At]; there && f.Fixable(s) {
			a.print.NoteWrap("retract  ", f.Subject+"  ("+f.At.String()+"): "+f.Problem)
			out = append(out, f.At)
			delete(said, f.At) // what else is found of it goes with it
		}
	}
	if len(out) == 0 {
		a.print.Line("Nothing is found that could be fixed by closing something or tidying up alone.")
		return nil
	}
	return a.edit(ctx, w, st.Files, st.Files.WithoutLines(out), fmt.Sprintf("took back %s of which nothing is left or nobody makes use", view.Count(len(out), "sentence")), opt)
}

// scoresSince tells how the score came about.
func (a *app) scoresSince(ctx context.Context, w *work.Work, text string) error {
	since, err := a.since(text)
	if err != nil {
		return err
	}
	list, err := w.ScoresSince(ctx, since)
	if err != nil {
		return err
	}
	if a.json {
		return a.print.JSON(view.ScoresJSON(list))
	}
	a.print.Scores(list, a.clock.Now())
	return nil
}

func (a *app) permitsCommand() *cobra.Command {
	var unused bool
	var since string
	c := &cobra.Command{
		Use: "permits", Short: "List who may open what, who used that last, and what nobody uses", Args: noArgs,
		Long: "List the permits that are enacted, those first that were not used for longest: when somebody last opened by each, and how\n" +
			"often. --unused lists those that nobody used since they were enacted, or for 90 days: retract them, or keep them\n" +
			"and know why.\n\nExit status 3: with --unused, there is one.",
		Example: "  ironbark permits\n  ironbark permits --unused --since 30d",
		RunE: a.with(func(ctx context.Context, w *work.Work, _ []string) error {
			if since != "" && !unused {
				return usage("--since goes with --unused: a permit counts as such that nobody used since then")
			}
			from := a.clock.Now().Add(-findings.UnusedAfter)
			if since != "" {
				var err error
				if from, err = a.since(since); err != nil {
					return err
				}
			}
			list, err := w.Permits(ctx)
			if err != nil {
				return err
			}
			if unused {
				list = slices.DeleteFunc(list, func(p work.Permitted) bool {
					return p.Last.After(from) || p.Since.IsZero() || p.Since.After(from)
				})
			}
			if a.json {
				err = a.print.JSON(view.PermitsJSON(list))
			} else {
				a.print.Permits(list, unused, a.clock.Now())
			}
			if err == nil && unused && len(list) > 0 {
				return errNo
			}
			return err
		}),
	}
	c.Flags().BoolVar(&unused, "unused", false, "only those that nobody used for 90 days")
	c.Flags().StringVar(&since, "since", "", "with --unused: since a time, or a length back from now, in place of 90 days")
	return c
}
