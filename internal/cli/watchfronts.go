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
			"fails twice in a row, or refuses one connection, gets no new connections until it passes a test. If all fail, all get some.\n" +
			"A front can set both: change front NAME --test-every 2s --test-failures 3. The command runs until it is interrupted;\n" +
			"members then keep their last state. Each change is in the journal. A systemd unit ships: systemd/ironbark-watch@.service.",
		RunE: a.with(func(ctx context.Context, w *work.Work, _ []string) error {
			if a.json {
				return usage("this command prints no document: leave --json out; journal --did spread lists the changes")
			}
			if every < leastBetween {
				return usage("--every is %s at least", leastBetween)
			}
			ctx, stop := untilSignal(ctx)
			defer stop()
			return w.WatchFronts(ctx, every, func(text string) { a.print.NoteWrap("", text) })
		}),
	}
	c.Flags().DurationVar(&every, "every", every, "time between two tests, where a front has no test-every")
	return c
}
