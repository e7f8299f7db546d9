package cli

import (
	"bytes"
	"context"
	"io"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"ironbark/internal/cli/view"
	"ironbark/internal/exposure"
	"ironbark/internal/picture"
	"ironbark/internal/work"
)

// drawers write a map as a file's ending says.
var drawers = map[string]func(w io.Writer, m picture.Map) error{
	".svg": func(w io.Writer, m picture.Map) error { return picture.LayOut(m).SVG(w) },
	".png": func(w io.Writer, m picture.Map) error { return picture.LayOut(m).PNG(w) },
	".dot": picture.DOT,
}

func (a *app) mapCommand() *cobra.Command {
	var to string
	q := &asking{}
	c := &cobra.Command{
		Use: "map", Short: "Draw the networks, what stands in them, and what is let through", Args: noArgs,
		Long:    "Draw the networks as nested boxes, the machines in them, their doors and what those let through: in the terminal,\nor with --to FILE as .svg, .png or .dot.",
		Example: "  ironbark map\n  ironbark map --to saltmarsh.svg",
		RunE: a.with(func(ctx context.Context, w *work.Work, _ []string) error {
			at, err := a.moment(q.at)
			if err != nil {
				return err
			}
			st, err := a.state(ctx, w, q, at)
			if err != nil {
				return err
			}
			m := view.MapOf(st, exposure.NewView(st.Plan, at), view.NewPhrasing(st, at))
			switch {
			case to != "":
				draw, ok := drawers[strings.ToLower(filepath.Ext(to))]
				if !ok {
					return usage("--to %s: a map is written as .svg, .png or .dot", to)
				}
				var b bytes.Buffer
				if err := draw(&b, m); err != nil {
					return err
				}
				if err := work.WriteFile(to, b.Bytes(), 0o644); err != nil {
					return err
				}
				a.print.Note("drew %s", to)
				return nil
			case a.json:
				return a.print.JSON(view.MapJSON(m))
			}
			a.print.Map(m)
			return nil
		}),
	}
	c.Flags().StringVar(&to, "to", "", "write it to a file: .svg, .png or .dot")
	return q.flags(c)
}
