package cli

import (
	"cmp"
	"context"
	"io"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"ironbark/internal/cli/view"
	"ironbark/internal/picture"
	"ironbark/internal/work"
)

// timelineDrawers write a time line as a file's ending says.
var timelineDrawers = map[string]func(s *picture.Scene, w io.Writer) error{".svg": (*picture.Scene).SVG, ".png": (*picture.Scene).PNG}

func (a *app) timelineCommand() *cobra.Command {
	var since, until, to string
	var ask work.TimelineAsk
	c := &cobra.Command{
		Use: "timeline", Short: "Draw what was open when: openings, exceptions, denies, and what others changed", Args: noArgs,
		Long: "Draw what was open when, machine by machine: openings, and when they were last used where the site counts; requests that\n" +
			"nobody approved; administrative services that sentences leave open; denies that began or ended; and what others changed.\n" +
			"It goes back a day and as far ahead as what is open now lasts. --to FILE.svg or FILE.png draws it into a file.",
		Example: "  ironbark timeline\n  ironbark timeline --since 14d --machine gauge-web-1\n  ironbark timeline --since 7d --to week.svg",
		RunE: a.with(func(ctx context.Context, w *work.Work, _ []string) error {
			draw, known := timelineDrawers[strings.ToLower(filepath.Ext(to))]
			if to != "" && !known {
				return usage("--to %s: a time line is written as .svg or .png", to)
			}
			if to != "" && a.json {
				return usage("--to draws, and --json tells: leave one of them out")
			}
			var err error
			if ask.Since, err = a.past("--since", since); err != nil {
				return err
			}
			if until != "" {
				if ask.Until, err = a.momentOf("--until", until); err != nil {
					return err
				}
				if !ask.Until.After(ask.Since) {
					return usage("--until %s is not after --since %s", until, since)
				}
			}
			st, line, err := w.Timeline(ctx, ask)
			if err != nil {
				return err
			}
			if len(line.Rows) == 0 {
				if err := knownNames(ctx, w, ask.Machine, ask.By); err != nil {
					return err
				}
			}
			name := cmp.Or(st.Estate.Name, filepath.Base(w.Folder.Dir)) + chosen(ask)
			switch {
			case to != "":
				scene := picture.LayOutTimeline(view.TimelineTitle(name, line), view.Plain(line))
				return a.draw(to, func(w io.Writer) error { return draw(scene, w) })
			case a.json:
				return a.print.JSON(view.TimelineJSON(line))
			default:
				a.print.Timeline(name, line)
			}
			return nil
		}),
	}
	c.Flags().StringVar(&since, "since", "1d", "from a time on, or a length back from now")
	c.Flags().StringVar(&until, "until", "", "up to a time, or a length from now")
	c.Flags().StringVar(&ask.Machine, "machine", "", "only what concerns this machine")
	c.Flags().StringVar(&ask.By, "by", "", "only what this person brought about")
	c.Flags().StringVar(&to, "to", "", "draw it into a file: .svg or .png")
	return c
}

// chosen tells in a title what was chosen, so that what is left out is not taken for what never happened.
func chosen(ask work.TimelineAsk) (words string) {
	if ask.Machine != "" {
		words += ", only machine " + ask.Machine
	}
	if ask.By != "" {
		words += ", only by " + ask.By
	}
	return words
}
