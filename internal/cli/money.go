package cli

import (
	"context"
	"slices"

	"github.com/spf13/cobra"

	"ironbark/internal/cli/view"
	"ironbark/internal/work"
)

func (a *app) costCommand() *cobra.Command {
	var transfer int
	var by string
	c := &cobra.Command{
		Use: "cost", Short: "Show what the estate costs, by machine and by tag, now and after the pending edits", Args: noArgs,
		Long: "Tell what the estate costs an hour and a month (730 hours), item by item and by tag, now and after the edits that\n" +
			"are pending. --transfer GB tells what so much transfer to the internet a month would cost, tier by tier.",
		Example: "  ironbark cost\n  ironbark cost --per role\n  ironbark cost --transfer 500",
		RunE: a.with(func(ctx context.Context, w *work.Work, _ []string) error {
			if transfer < 0 {
				return usage("--transfer is a number of GB, not %d", transfer)
			}
			r, err := reviewed(ctx, w)
			if err != nil {
				return err
			}
			prices := w.Site.Catalogue().Prices
			if by != "" {
				if err := knownTag(by, r); err != nil {
					return err
				}
			}
			if a.json {
				return a.print.JSON(view.CostJSON(r.Before, r.After, prices, transfer))
			}
			a.print.Cost(r.Before, r.After, prices, transfer, by)
			return nil
		}),
	}
	c.Flags().IntVar(&transfer, "transfer", 0, "GB of transfer to the internet a month")
	c.Flags().StringVar(&by, "per", "", "only by this tag")
	return c
}

// knownTag refuses a tag that nothing has, now or after the pending edits.
func knownTag(key string, r *work.Review) error {
	var known []string
	before, after := r.States()
	for _, st := range []*work.State{before, after} {
		for _, m := range st.Estate.Machines {
			for _, t := range m.Tags {
				if t.Key == key {
					return nil
				}
				if !slices.Contains(known, t.Key) {
					known = append(known, t.Key)
				}
			}
		}
	}
	return unknownName("tag", key, known)
}

func (a *app) quotaCommand() *cobra.Command {
	return &cobra.Command{
		Use: "quota", Short: "Show how much of the site's quota is used, now and after the pending edits", Args: noArgs,
		Long: "Show what is used of the site's limits, now and after the edits that are pending, how many public addresses each pool has left, and who holds them.\n\nExit status 3: the files ask for more than there is.",
		RunE: a.with(func(ctx context.Context, w *work.Work, _ []string) error {
			r, err := reviewed(ctx, w)
			if err != nil {
				return err
			}
			before, _ := r.States()
			pools := w.Site.Catalogue().Pools(before.Estate)
			if a.json {
				if err := a.print.JSON(view.QuotaJSON(r, before, pools)); err != nil {
					return err
				}
			} else {
				a.print.Quota(r, before, pools)
			}
			if len(r.QuotaExceeded) > 0 {
				return errNo
			}
			return nil
		}),
	}
}
