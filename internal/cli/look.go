package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"ironbark/internal/cli/view"
	"ironbark/internal/exposure"
	"ironbark/internal/findings"
	"ironbark/internal/journal"
	"ironbark/internal/ledger"
	"ironbark/internal/work"
)

func (a *app) journalCommand() *cobra.Command {
	var last int
	c := &cobra.Command{
		Use: "journal", Short: "List what was done to the site, and check that the record is whole", Args: noArgs,
		Long: "List what was done to the site, by whom and when. The entries are chained by hash: one that is missing or was\naltered is told, with exit status 1.",
	}
	c.RunE = a.with(func(ctx context.Context, w *work.Work, _ []string) error {
		read := func() (list []journal.Entry, err error) {
			list, err = w.Site.Journal(ctx)
			return list, err
		}
		switch {
		case last > 0:
			read = func() ([]journal.Entry, error) { return w.Site.Tail(ctx, last) }
		case c.Flags().Changed("last"):
			return usage("--last is a number from 1, not %d", last)
		}
		shown, err := read()
		if err != nil {
			return err
		}
		broken, err := w.Site.CheckRecord(ctx, last == 0)
		if err != nil {
			return err
		}
		if a.json {
			list := make([]entryDoc, 0, len(shown))
			for _, e := range shown {
				list = append(list, entryDoc{e.Seq, e.At.UTC(), e.Person, e.Action, e.Text, e.Hash})
			}
			err = a.print.JSON(journalDoc{len(broken) == 0, breakTexts(broken), list})
		} else {
			var rows [][]string
			for _, e := range shown {
				rows = append(rows, []string{fmt.Sprint(e.Seq), e.At.UTC().Format("2006-01-02 15:04:05Z"), e.Person, e.Action, e.Text})
			}
			a.print.Table([]string{"NO", "AT", "BY", "DID", "WHAT"}, rows, 0)
			if len(broken) == 0 {
				told := fmt.Sprintf("%d entries, and the chain is whole", len(shown))
				if last > 0 {
					told = "the chain is whole since it was last looked at as a whole; ironbark journal looks at all of it"
				}
				a.print.Note("%s", told)
			}
		}
		if err == nil && len(broken) > 0 {
			err = &ledger.RecordError{Breaks: broken}
		}
		return err
	})
	c.Flags().IntVar(&last, "last", 0, "only so many of the latest entries")
	return c
}

func breakTexts(list []journal.Break) []string {
	texts := make([]string, len(list))
	for i, b := range list {
		texts[i] = b.String()
	}
	return texts
}

// acknowledgeCommand takes note of what kept anything from being opened.
func (a *app) acknowledgeCommand() *cobra.Command {
	return &cobra.Command{
		Use: "acknowledge record|clock", Short: "Take note of a broken record, or accept a clock that went back",
		Long: "Take note of a record that was found broken, or accept a clock that went back. Until then nothing is opened or\n" +
			"enacted, and closing works. A person of the estate can; the journal has it. The same break is told no more,\nand any other is.",
		Example: "  ironbark acknowledge record\n  ironbark acknowledge clock", ValidArgs: []string{"record", "clock"},
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			if len(args) != 1 || args[0] != "record" && args[0] != "clock" {
				return usage("acknowledge takes record or clock")
			}
			st, err := w.Installed(ctx)
			if err != nil {
				return err
			}
			if len(st.Estate.People) > 0 && !st.Estate.PersonKnown(w.Person) {
				return &work.UnknownPersonError{Person: w.Person}
			}
			if args[0] == "clock" {
				return a.acceptClock(ctx, w, st)
			}
			list, err := w.Site.Acknowledge(ctx, w.Person)
			if err != nil {
				return err
			}
			if a.json {
				return a.print.JSON(acknowledgedDoc{Acknowledged: breakTexts(list)})
			}
			for _, b := range list {
				a.print.Line("noted: %s", b)
			}
			if len(list) == 0 {
				a.print.Line("The record is whole, or its breaks are known.")
			}
			return nil
		}),
	}
}

// acceptClock accepts the computer's clock, where it went back.
func (a *app) acceptClock(ctx context.Context, w *work.Work, st *work.State) error {
	back := st.Report.Behind > 0
	if back {
		if err := w.Site.AcceptClock(ctx, w.Person); err != nil {
			return err
		}
	}
	now := st.Clock(a.clock.Now()).UTC()
	switch {
	case a.json:
		return a.print.JSON(acknowledgedDoc{Acknowledged: []string{}, ClockAccepted: &back, Now: &now})
	case back:
		a.print.Line("accepted: it is %s", now.Format(time.RFC3339))
	default:
		a.print.Line("The clock did not go back.")
	}
	return nil
}

// statusAlone shows what the place itself has, where the record cannot be read. That the
// record cannot be read is the command's error all the same.
func (a *app) statusAlone(ctx context.Context, w *work.Work, err error) error {
	st := w.PlaceAlone(ctx, err)
	if st == nil {
		return err
	}
	now := a.clock.Now()
	reach := exposure.NewView(st.Plan, now).ReachAll()
	if a.json {
		return errors.Join(a.print.JSON(view.StatusJSON(st, &work.Drift{}, slices.Collect(reach), nil, nil, now)), err)
	}
	a.print.Status(st, &work.Drift{}, reach, nil, nil, now)
	return err
}

func (a *app) statusCommand() *cobra.Command {
	return &cobra.Command{
		Use: "status", Short: "Show the estate on one screen", Args: noArgs,
		Long: "Show the estate on one screen: machines, what others changed, what is reachable and open for a while, findings.\n\nExit status 3: a guarantee is broken.",
		RunE: a.with(func(ctx context.Context, w *work.Work, _ []string) error {
			st, err := w.Asked(ctx, false)
			if err != nil {
				return a.statusAlone(ctx, w, err)
			}
			if broken, err := w.Site.CheckRecord(ctx, false); err != nil {
				return err
			} else if len(broken) > 0 {
				told := &ledger.RecordError{Breaks: broken}
				a.print.NoteWrap(a.print.Bad("ironbark:")+" ", told.Error())
				a.print.NoteWrap("    ", told.Hint())
			}
			now := a.clock.Now()
			reach := exposure.NewView(st.Plan, now).ReachAll()
			found := findings.Look(st.Estate, st.Plan, now)
			broken := exposure.Guarantees(st.Estate, st.Plan, now)
			drift := w.Drift(st)
			if a.json {
				if err := a.print.JSON(view.StatusJSON(st, drift, slices.Collect(reach), found, broken, now)); err != nil {
					return err
				}
			} else {
				a.print.Status(st, drift, reach, found, broken, now)
			}
			if len(broken) > 0 {
				return errNo
			}
			return nil
		}),
	}
}
