package cli

import (
	"context"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"ironbark/internal/cli/view"
	"ironbark/internal/exposure"
	"ironbark/internal/ledger"
	"ironbark/internal/work"
)

func (a *app) reportCommand() *cobra.Command {
	var to, since string
	c := &cobra.Command{
		Use: "report --to FILE.html", Short: "Write all of it into one page: who can reach what, the map, what changed, findings, cost", Args: noArgs,
		Long: "Write one page of HTML that needs nothing else, to read on a screen or on paper: who can reach what now, the map,\n" +
			"guarantees and their verdicts, what was open when, what changed since a moment, findings with the score, cost.",
		Example: "  ironbark report --to saltmarsh.html\n  ironbark report --to week.html --since 7d",
		RunE: a.with(func(ctx context.Context, w *work.Work, _ []string) error {
			switch {
			case a.json:
				return usage("a report is a page for people: leave --json out; status, reach, findings and cost have documents")
			case to == "":
				return usage("say where to write it: ironbark report --to FILE.html")
			case !strings.EqualFold(filepath.Ext(to), ".html"):
				return usage("--to takes the name of a file that ends in .html, not “%s”", to)
			}
			from, err := a.past("--since", since)
			if err != nil {
				return err
			}
			st, err := w.Asked(ctx, false)
			if err != nil {
				return err
			}
			if broken, err := w.Site.CheckRecord(ctx, false); err != nil {
				return err
			} else if len(broken) > 0 { // what is told of the past would be made up
				return &ledger.RecordError{Breaks: broken}
			}
			now := a.clock.Now()
			r := &view.Report{State: st, Now: now, Since: from, Person: w.Person, Version: Version, Drift: w.Drift(st), Bill: w.Bill(st), Broken: exposure.Guarantees(st.Estate, st.Plan, now)}
			if r.Before, err = w.At(ctx, from); err != nil {
				return err
			}
			if _, r.Timeline, err = w.Timeline(ctx, work.TimelineAsk{Since: from}); err != nil {
				return err
			}
			if r.Findings, err = a.foundNow(ctx, w, st, now); err != nil {
				return err
			}
			r.Map = a.mapOf(w, st, now)
			if err := writeWhole(to, 0o600, r.Write); err != nil {
				return err
			}
			a.print.Note("wrote %s", to)
			return nil
		}),
	}
	c.Flags().StringVar(&to, "to", "", "the file, FILE.html")
	c.Flags().StringVar(&since, "since", "7d", "what changed is told from this time on, or from a length back from now")
	return c
}
