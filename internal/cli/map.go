package cli

import (
	"bytes"
	"context"
	"io"
	"io/fs"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"ironbark/internal/cache"
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

// draw draws into a file, whole or not at all.
func (a *app) draw(to string, draw func(io.Writer) error) error {
	if err := writeWhole(to, 0o644, draw); err != nil {
		return err
	}
	a.print.Note("drew %s", to)
	return nil
}

// writeWhole writes a file whole or not at all.
func writeWhole(path string, mode fs.FileMode, write func(io.Writer) error) error {
	var b bytes.Buffer
	if err := write(&b); err != nil {
		return err
	}
	return work.WriteFile(path, b.Bytes(), mode)
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
			m := a.mapOf(w, st, at)
			switch {
			case to != "":
				draw, ok := drawers[strings.ToLower(filepath.Ext(to))]
				if !ok {
					return usage("--to %s: a map is written as .svg, .png or .dot", to)
				}
				return a.draw(to, func(w io.Writer) error { return draw(w, m) })
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

// mapOf makes the map of a state. What is let in is remembered: it stays as it is until somebody changes something. Where it tells how much time is left it is
// worked out anew.
func (a *app) mapOf(w *work.Work, st *work.State, at time.Time) picture.Map {
	memory := cache.AnswerIn(filepath.Join(w.Folder.Dir, work.StateDir), "map")
	var open *exposure.View
	var beside sync.WaitGroup
	beside.Go(func() { open = exposure.NewView(st.Plan, at) })
	ph, key := view.NewPhrasing(st, at), cache.Key(st.Files, st.Plan.Binary())
	var in map[int32]view.LetIn
	remembered := memory.Get(key, at, &in)
	if beside.Wait(); !remembered {
		in = view.LetInByClass(open, ph)
		if view.HoldsUntil(st, at).IsZero() {
			memory.Keep(key, at, time.Time{}, in)
		}
	}
	return view.MapOf(st, open, in, ph)
}
