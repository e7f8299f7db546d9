package cli

import (
	"context"

	"github.com/spf13/cobra"

	"ironbark/internal/change"
	"ironbark/internal/cli/view"
	"ironbark/internal/work"
)

func (a *app) adoptCommand() *cobra.Command {
	opt := &editing{}
	var all bool
	c := &cobra.Command{
		Use: "adopt KIND NAME | adopt --all", Short: "Write what somebody else did to the site into the files",
		Long: "Write a thing as it is on the site into the files: one that is in no file, or one that was altered. Without words,\n" +
			"list what there is to adopt. The other way round, enact puts what was altered right, and remove takes away what is\nin no file.",
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			st, err := w.Asked(ctx, false)
			if err != nil {
				return err
			}
			d := w.Drift(st)
			var list []change.Drifted
			switch {
			case all && len(args) == 0:
				for _, one := range d.Resources {
					if !one.Gone {
						list = append(list, one)
					}
				}
			case len(args) == 2:
				one, ok := d.Drifted(args[0], args[1])
				if !ok {
					return wrong("%s %s is as it was enacted, or is not there: there is nothing to adopt", args[0], args[1])
				}
				list = append(list, one)
			case len(args) == 0 && a.json:
				return a.print.JSON(view.DriftJSON(d, a.phrasing(st)))
			case len(args) == 0:
				a.print.Drift(d, a.phrasing(st))
				return nil
			default:
				return usage("adopt takes a kind and a name, or --all")
			}
			if len(list) == 0 {
				a.print.Line("There is nothing to adopt.")
				return nil
			}
			old, err := w.Folder.Read()
			if err != nil {
				return err
			}
			files := old
			for _, one := range list {
				if files, err = w.Adopt(files, one); err != nil {
					return err
				}
			}
			return a.edit(ctx, w, old, files, "adopted what was on the site", opt)
		}),
	}
	c.Flags().BoolVar(&all, "all", false, "everything that can be adopted")
	return opt.flags(c)
}
