package cli

import (
	"context"
	"time"

	"github.com/spf13/cobra"

	"ironbark/internal/work"
)

// leastBetween is how often members are tested at most.
const leastBetween = 200 * time.Millisecond

func (a *app) watchFrontsCommand() *cobra.Command {
	every := 5 * time.Second
	c := &cobra.Command{
		Use: "watch", Short: "Test the members of spreads, and take out those that do not answer", Args: noArgs,
		Long: "Test the machines over which fronts spread connections (tested by tcp, tested by http /PATH), again and again. One that\n" +
			"fails twice in a row gets no new connections, and gets them again once it passes. Where none passes, all get some. It\n" +
			"runs until it is interrupted; when it ends, whatever ended it, traffic goes on as it was last said. Each change is in the\n" +
			"journal. A systemd unit ships: systemd/ironbark-watch@.service.",
		RunE: a.with(func(ctx context.Context, w *work.Work, _ []string) error {
			if a.json {
				return usage("what it tells is no document: leave --json out; journal --did spread has it")
			}
			if every < leastBetween {
				return usage("--every is %s at least", leastBetween)
			}
			ctx, stop := untilSignal(ctx)
			defer stop()
			return w.WatchFronts(ctx, every, func(text string) { a.print.NoteWrap("", text) })
		}),
	}
	c.Flags().DurationVar(&every, "every", every, "how long passes between two tests")
	return c
}
