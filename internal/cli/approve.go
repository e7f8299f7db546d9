package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"ironbark/internal/cli/view"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// requestNumber reads the number of a request.
func requestNumber(args []string) (int64, error) {
	if len(args) == 0 {
		return 0, usage("say which, by its number: ironbark openings lists them")
	}
	id, err := strconv.ParseInt(args[0], 10, 64)
	if err != nil || id < 1 {
		return 0, usage("“%s” is no number of an opening", args[0])
	}
	return id, nil
}

func (a *app) approveCommand() *cobra.Command {
	var yes bool
	c := &cobra.Command{
		Use: "approve NUMBER", Short: "Approve what somebody asked to open",
		Long: "Approve a request that waits, as its permit says who may. What it will open is shown first. With the last approval\n" +
			"that it needs it is judged once more, by what is enacted by then, and opens; its time begins then. An edit that waits\n" +
			"(e41) is shown as its review, and enacted by: ironbark enact --request e41.\n\n" +
			"Exit status 6: this person may not.",
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			if len(args) == 1 {
				if seq, edit := work.ParseEditName(args[0]); edit {
					return a.approveEdit(ctx, w, seq, yes)
				}
			}
			id, err := requestNumber(args)
			if err != nil {
				return err
			}
			if len(args) > 1 {
				return usage("approve takes one number")
			}
			o, d, st, err := w.WouldOpen(ctx, id)
			if err != nil {
				return err
			}
			a.print.Wrap("", fmt.Sprintf("Request %d of %s: %s because %s", o.ID, o.Person, askedFor(o.Request), sentence.Quote(o.Words.Because)))
			if o.Begin.After(a.clock.Now()) {
				a.print.Line("   it begins %s, in %s", view.Moment(o.Begin, a.clock.Now()), view.Left(o.Begin, a.clock.Now()))
			}
			a.print.WouldOpen(d, a.phrasing(st))
			if !a.json {
				a.print.Note("")
			}
			if err := a.confirm(yes, "Approve this?"); err != nil {
				return err
			}
			granted, err := w.Approve(ctx, id)
			if err != nil {
				return err
			}
			if a.json {
				return a.print.JSON(openedDoc{openingJSON(granted.Opening, a.clock.Now()), granted.Notes, doorsOf(granted)})
			}
			if o := granted.Opening; o.Waits() {
				a.print.Line("approved  request %d waits for %s more", o.ID, view.Count(o.Waiting.Needs-len(o.Approvals), "approval"))
			} else {
				a.openUntil(a.print.Open("opened"), o)
			}
			for _, n := range granted.Notes {
				a.print.Wrap("        but ", n)
			}
			return nil
		}),
	}
	c.Flags().BoolVar(&yes, "yes", false, "approve without asking")
	return c
}

// askedFor is a request as it was asked for, without its reason.
func askedFor(request string) string {
	text, _, _ := strings.Cut(request, " because ")
	return text
}

func (a *app) declineCommand() *cobra.Command {
	return &cobra.Command{
		Use: "decline NUMBER because REASON", Short: "Decline what somebody asked to open, with a reason",
		Example: "  ironbark decline 3 because \"use the bastion\"",
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			if len(args) == 3 && args[1] == "because" && strings.TrimSpace(args[2]) != "" {
				if seq, edit := work.ParseEditName(args[0]); edit {
					return a.declineEdit(ctx, w, seq, args[2])
				}
			}
			id, err := requestNumber(args)
			if err != nil {
				return err
			}
			if len(args) != 3 || args[1] != "because" || strings.TrimSpace(args[2]) == "" {
				return usage("declining needs a reason: decline %d because \"use the bastion\"", id)
			}
			if problem := sentence.ReasonProblem(args[2]); problem != "" {
				return usage("the reason %s", problem)
			}
			o, err := w.Decline(ctx, id, args[2])
			if err != nil {
				return err
			}
			return a.openingDone(o, "declined  request %d of %s", o.ID, o.Person)
		}),
	}
}
