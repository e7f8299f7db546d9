package cli

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"ironbark/internal/cli/view"
	"ironbark/internal/exposure"
	"ironbark/internal/findings"
	"ironbark/internal/journal"
	"ironbark/internal/work"
)

func (a *app) journalCommand() *cobra.Command {
	var last int
	c := &cobra.Command{
		Use: "journal", Short: "List what was done to the site, and check that the record is whole", Args: noArgs,
		Long: "List what was done to the site, by whom and when. The entries are chained by hash: one that is missing or was\naltered is told, with exit status 1.",
		RunE: a.with(func(ctx context.Context, w *work.Work, _ []string) error {
			entries, head, err := w.Site.Journal(ctx)
			if err != nil {
				return err
			}
			broken := journal.Verify(entries, head)
			shown := entries
			if last > 0 && len(shown) > last {
				shown = shown[len(shown)-last:]
			}
			if a.json {
				type entry struct {
					Seq    int64     `json:"seq"`
					At     time.Time `json:"at"`
					Person string    `json:"person"`
					Action string    `json:"action"`
					Text   string    `json:"text"`
					Hash   string    `json:"hash"`
				}
				list := make([]entry, 0, len(shown))
				for _, e := range shown {
					list = append(list, entry{e.Seq, e.At.UTC(), e.Person, e.Action, e.Text, e.Hash})
				}
				err = a.print.JSON(map[string]any{"whole": broken == nil, "entries": list})
			} else {
				var rows [][]string
				for _, e := range shown {
					rows = append(rows, []string{fmt.Sprint(e.Seq), e.At.UTC().Format("2006-01-02 15:04:05Z"), e.Person, e.Action, e.Text})
				}
				a.print.Table([]string{"NO", "AT", "BY", "DID", "WHAT"}, rows, 0)
				if broken == nil {
					a.print.Note("%d entries, and the chain is whole", len(entries))
				}
			}
			if broken != nil {
				return fmt.Errorf("the journal is not whole: %w", broken)
			}
			return err
		}),
	}
	c.Flags().IntVar(&last, "last", 0, "only so many of the latest entries")
	return c
}

func (a *app) statusCommand() *cobra.Command {
	return &cobra.Command{
		Use: "status", Short: "Show the estate on one screen", Args: noArgs,
		RunE: a.with(func(ctx context.Context, w *work.Work, _ []string) error {
			st, err := w.Asked(ctx, false)
			if err != nil {
				return err
			}
			now := a.clock.Now()
			reach := exposure.NewView(st.Plan, now).ReachAll()
			found := findings.Look(st.Estate, st.Plan, now)
			broken := exposure.Guarantees(st.Estate, st.Plan, now)
			drift := w.Drift(st)
			if a.json {
				return a.print.JSON(view.StatusJSON(st, drift, slices.Collect(reach), found, broken, now))
			}
			a.print.Status(st, drift, reach, found, broken, now)
			return nil
		}),
	}
}
