package cli

import (
	"context"
	"slices"

	"github.com/spf13/cobra"

	"ironbark/internal/change"
	"ironbark/internal/cli/view"
	"ironbark/internal/exposure"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

func (a *app) showCommand() *cobra.Command {
	q := &asking{}
	show := &cobra.Command{
		Use: "show KIND NAME", Short: "Show one thing, and who gets to it",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return usage("show needs a kind and a name: show machine gauge-web-1")
			}
			return unknownKind(c, args[0])
		},
	}
	machine := &cobra.Command{
		Use: "machine NAME", Short: "Show a machine: who gets in, by which sentence, and which sentences do nothing there",
		Example: "  ironbark show machine gauge-web-1", ValidArgsFunction: a.completeNouns("machine"),
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			if len(args) != 1 {
				return usage("show machine takes one name")
			}
			at, err := a.moment(q.at)
			if err != nil {
				return err
			}
			st, err := a.state(ctx, w, q, at)
			if err != nil {
				return err
			}
			m, ok := st.Plan.MachineByName(args[0])
			if !ok {
				if near, ok := sentence.Nearest(args[0], st.Estate.NamesOf("machine")); ok {
					return usage("there is no machine “%s”; did you mean “%s”?", args[0], near)
				}
				return usage("there is no machine “%s”", args[0])
			}
			shown := view.Machine{Name: args[0], State: st.Report.Machines[args[0]]}
			i := slices.IndexFunc(st.Report.Things, func(t change.Thing) bool { return t.Kind == change.Machine && t.Name == args[0] })
			if i >= 0 {
				shown.Thing = st.Report.Things[i]
			}
			v := exposure.NewView(st.Plan, at)
			shown.Reach, shown.Effects = v.Reach(m), v.Effects(m)
			ph := view.NewPhrasing(st, at)
			if a.json {
				return a.print.JSON(view.MachineJSON(shown, ph))
			}
			a.print.Machine(shown, ph)
			return nil
		}),
	}
	show.AddCommand(q.flags(machine))
	return show
}
