package cli

import (
	"context"

	"github.com/spf13/cobra"

	"ironbark/internal/cli/view"
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

func (a *app) pathsCommand() *cobra.Command {
	q := &asking{}
	var start string
	var permits bool
	c := &cobra.Command{
		Use: "paths from SOURCE to TARGET | --from MACHINE", Short: "Trace how far an intruder gets from what they reach",
		Long: "Find the shortest chains from a source to machines, each from one that was reached before. With --from, all that\n" +
			"a machine that was broken into could reach, step by step. With --with-permits, over what permits and routes could\n" +
			"open as well.\n\nExit status 3: there is no path.",
		Example: "  ironbark paths from internet to tide-archive\n  ironbark paths --from gauge-web-1 --with-permits",
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			at, err := a.moment(q.at)
			if err != nil {
				return err
			}
			words := args
			if start != "" {
				if len(args) > 0 {
					return usage("paths takes either “from … to …” or --from")
				}
				words = []string{"from", start, "to", "all"}
			}
			if len(words) == 0 || words[0] != "from" {
				return usage("paths takes “from SOURCE to TARGET”, or --from MACHINE")
			}
			ask, err := a.question("why", append([]string{"any"}, words...))
			if err != nil {
				return err
			}
			st, err := a.flows(ctx, w, q, at)
			if err != nil {
				return err
			}
			if err := st.Estate.CheckSentence(ask); err != nil {
				return err
			}
			return a.paths(st, w, ask, start == "", exposure.NewView(pathPlan(st, permits), at), permits)
		}),
	}
	c.Flags().StringVar(&start, "from", "", "the machine or source that it begins at; all that is reached is listed")
	c.Flags().BoolVar(&permits, "with-permits", false, "over what permits and routes could open, too")
	return q.flags(c)
}

func pathPlan(st *work.State, permits bool) *flow.Plan {
	if permits {
		return exposure.WithPermits(st.Estate, st.Plan)
	}
	return st.Plan
}

// paths finds and prints the paths of a question; toTargets leaves out what is
// not one of its targets.
func (a *app) paths(st *work.State, w *work.Work, ask sentence.Ask, toTargets bool, v *exposure.View, gateways bool) error {
	resolve := flow.NewResolver(st.Estate, st.Plan)
	group := resolve.Group(ask.To)
	mine, err := w.FromMe(st, ask.From, group)
	if err != nil {
		return err
	}
	from := resolve.Source(mine)
	ways := v.Paths(from, gateways)
	wanted := map[string]bool{}
	for _, m := range group.Machines {
		wanted[st.Plan.Machines[m].Name] = true
	}
	var found []view.PathsTo
	for _, name := range ways.Reached() {
		if name != ask.From.String() && (wanted[name] || !toTargets) {
			found = append(found, view.PathsTo{Target: name, Paths: ways.To(name)})
		}
	}
	ph := view.NewPhrasing(st, v.At)
	if a.json {
		if err := a.print.JSON(view.PathsJSON(found, ask, ph)); err != nil {
			return err
		}
	} else {
		a.print.Paths(found, ask, ph)
	}
	if len(found) == 0 {
		return errNo
	}
	return nil
}
