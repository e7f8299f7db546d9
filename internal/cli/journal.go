package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ironbark/internal/journal"
	"ironbark/internal/ledger"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// listing are the options of journal.
type listing struct {
	last                                  int
	by, did, machine, about, since, until string
	lines, follow                         bool
}

func (a *app) journalCommand() *cobra.Command {
	o := &listing{}
	var anchor string
	c := &cobra.Command{
		Use: "journal", Short: "List what was done to the site, and check that the record is whole", Args: noArgs,
		Long: "List what was done to the site, by whom and when. The entries are chained by hash: one that is missing or was\n" +
			"altered is told, with exit status 1. Of some entries only, by whom, what and when, together; --lines prints a JSON\n" +
			"document a line, --follow goes on with what is done from now on. --anchor FILE holds it against a log in which\n" +
			"somebody else keeps what they were told of it: entries that were altered, put in place of others or cut off at the end\n" +
			"are told, with exit status 1.",
		Example: "  ironbark journal --by mara --did open --since 7d\n  ironbark journal --machine gauge-web-1 --last 20",
	}
	c.RunE = a.with(func(ctx context.Context, w *work.Work, _ []string) error {
		if c.Flags().Changed("last") && o.last < 1 {
			return usage("--last is a number from 1, not %d", o.last)
		}
		f, err := a.journalFilter(o)
		if err != nil {
			return err
		}
		if anchor != "" {
			if f != (ledger.Filter{}) || o.lines || o.follow {
				return usage("--anchor stands alone: it is about the whole journal")
			}
			return a.anchor(ctx, w, anchor)
		}
		if o.follow {
			if err := knownNames(ctx, w, o.machine, o.by); err != nil {
				return err
			}
			return a.followJournal(ctx, w, f)
		}
		shown, err := w.Site.Find(ctx, f)
		if err == nil && len(shown) == 0 {
			err = knownNames(ctx, w, o.machine, o.by)
		}
		if err != nil {
			return err
		}
		if o.lines {
			for _, e := range shown {
				if err := a.print.JSONLine(entryOf(e)); err != nil {
					return err
				}
			}
			return nil
		}
		return a.tellJournal(ctx, w, shown, f == ledger.Filter{})
	})
	c.Flags().IntVar(&o.last, "last", 0, "only so many of the latest entries")
	c.Flags().StringVar(&o.by, "by", "", "only what this person did")
	c.Flags().StringVar(&o.did, "did", "", "only entries of this kind: open, extend, narrow, close, ask, approve, decline, enact, make …")
	c.Flags().StringVar(&o.machine, "machine", "", "only what concerns this machine")
	c.Flags().StringVar(&o.about, "about", "", "only entries in which these words stand, such as a sentence")
	c.Flags().StringVar(&o.since, "since", "", "from a time on, or a length back from now")
	c.Flags().StringVar(&o.until, "until", "", "up to a time, or a length back from now")
	c.Flags().StringVar(&anchor, "anchor", "", "compare the journal with this log of what others were told of it")
	c.Flags().BoolVar(&o.lines, "lines", false, "a JSON document a line")
	c.Flags().BoolVar(&o.follow, "follow", false, "go on with what is done from now on, until interrupted")
	return c
}

func (a *app) journalFilter(o *listing) (f ledger.Filter, err error) {
	f = ledger.Filter{Person: o.by, Action: o.did, Machine: o.machine, Text: o.about, Last: o.last}
	if o.did != "" && !slices.Contains(journal.Kinds, o.did) {
		if near, ok := sentence.Nearest(o.did, journal.Kinds); ok {
			return f, usage("no entry is of the kind “%s”; did you mean “%s”?", o.did, near)
		}
		return f, usage("no entry is of the kind “%s”; the kinds are %s", o.did, strings.Join(journal.Kinds, ", "))
	}
	if o.machine != "" && sentence.ValidName(o.machine) != nil {
		return f, usage("“%s” is no name of a machine", o.machine)
	}
	if o.since != "" {
		if f.Since, err = a.past("--since", o.since); err != nil {
			return f, err
		}
	}
	if o.until != "" {
		f.Until, err = a.past("--until", o.until)
	}
	return f, err
}

func entryOf(e journal.Entry) entryDoc {
	return entryDoc{e.Seq, e.At.UTC(), e.Person, e.Action, e.Text, e.Hash}
}

func entryCells(e journal.Entry) []string {
	return []string{fmt.Sprint(e.Seq), e.At.UTC().Format("2006-01-02 15:04:05Z"), e.Person, e.Action, e.Text}
}

// tellJournal prints entries, and whether the record is whole.
func (a *app) tellJournal(ctx context.Context, w *work.Work, shown []journal.Entry, whole bool) error {
	broken, err := w.Site.CheckRecord(ctx, whole)
	if err != nil {
		return err
	}
	if a.json {
		list := make([]entryDoc, 0, len(shown))
		for _, e := range shown {
			list = append(list, entryOf(e))
		}
		err = a.print.JSON(journalDoc{len(broken) == 0, breakTexts(broken), list})
	} else {
		var rows [][]string
		for _, e := range shown {
			rows = append(rows, entryCells(e))
		}
		a.print.Table([]string{"NO", "AT", "BY", "DID", "WHAT"}, rows, 0)
		if len(shown) == 0 {
			a.print.Line("No entry is like that.")
		}
		if len(broken) == 0 {
			told := fmt.Sprintf("%d entries, and the chain is whole", len(shown))
			if !whole {
				told = "the chain is whole since it was last looked at as a whole; ironbark journal looks at all of it"
			}
			a.print.Note("%s", told)
		}
	}
	if err == nil && len(broken) > 0 {
		err = &ledger.RecordError{Breaks: broken}
	}
	return err
}

// followTime is how often it is looked whether anything was done.
const followTime = 300 * time.Millisecond

// goOn waits until it is time to look again; false where it ends.
func goOn(ctx context.Context) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(followTime):
		return true
	}
}

// followJournal prints entries as they are made, a line each, until it is interrupted.
func (a *app) followJournal(ctx context.Context, w *work.Work, f ledger.Filter) error {
	ctx, stop := untilSignal(ctx)
	defer stop()
	first := f
	if first.Last == 0 && f.Since.IsZero() { // only what is new
		first.Last = 1
		latest, err := w.Site.Tail(ctx, 1)
		if err != nil {
			return err
		}
		if len(latest) > 0 {
			f.After = latest[0].Seq
		}
		first.After = f.After
	}
	for ; ; first = f {
		entries, err := w.Site.Find(ctx, first)
		if err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return err
		}
		for _, e := range entries {
			f.After, f.Last = e.Seq, 0
			if a.json {
				err = a.print.JSONLine(entryOf(e))
			} else {
				c := entryCells(e)
				a.print.Line("%s  %s  %s  %s  %s", c[0], c[1], c[2], c[3], c[4])
			}
			if err != nil {
				return err
			}
		}
		if !goOn(ctx) {
			return nil
		}
	}
}
