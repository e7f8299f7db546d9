package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"ironbark/internal/cache"
	"ironbark/internal/cli/view"
	"ironbark/internal/exposure"
	"ironbark/internal/findings"
	"ironbark/internal/journal"
	"ironbark/internal/ledger"
	"ironbark/internal/work"
)

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
		Use: "acknowledge record|clock", Short: "Acknowledge a broken record, or accept a clock that went back",
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
	reach := exposure.NewView(st.Plan, now)
	if a.json {
		return errors.Join(a.print.JSON(view.StatusJSON(st, &work.Drift{}, slices.Collect(reach.ReachAll()), nil, nil, nil, now)), err)
	}
	a.print.Status(st, &work.Drift{}, view.Summarise(st, reach, nil, nil, now), now)
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
				a.print.NoteWrap("    ", view.Advice(told.Advice()))
			}
			now := a.clock.Now()
			drift := w.Drift(st)
			recipients, untold := w.Recipients(ctx, st.Estate)
			if untold != nil {
				a.print.NoteWrap(a.print.Bad("ironbark:")+" ", fmt.Sprintf("how far recipients were told cannot be read: %v", untold))
			}
			if a.json {
				return a.statusDocument(st, drift, recipients, now)
			}
			sum := a.summary(w, st, now)
			a.print.Status(st, drift, sum, now)
			a.print.Untold(recipients, now)
			if len(sum.Broken) > 0 {
				return errNo
			}
			return nil
		}),
	}
}

// statusDocument shows all that a status has, as JSON.
func (a *app) statusDocument(st *work.State, drift *work.Drift, recipients []work.Told, now time.Time) error {
	found := findings.Lint(st.Estate, st.Plan, now, st.Listening())
	broken := exposure.Guarantees(st.Estate, st.Plan, now)
	doc := view.StatusJSON(st, drift, slices.Collect(exposure.NewView(st.Plan, now).ReachAll()), found, broken, recipients, now)
	if err := a.print.JSON(doc); err != nil || len(broken) == 0 {
		return err
	}
	return errNo
}

// summary works out what a status tells of exposure and findings, or remembers it: it stays as it is until somebody changes something, or something
// begins or ends.
func (a *app) summary(w *work.Work, st *work.State, now time.Time) view.Summary {
	memory := cache.AnswerIn(filepath.Join(w.Folder.Dir, work.StateDir), "status")
	key := cache.Key(st.Files, st.Plan.Binary(), st.ListenerDigest())
	var sum view.Summary
	if memory.Get(key, now, &sum) {
		return sum
	}
	var found []findings.Finding
	var broken []exposure.Broken
	var all sync.WaitGroup
	all.Go(func() { found = findings.Lint(st.Estate, st.Plan, now, st.Listening()) })
	all.Go(func() { broken = exposure.Guarantees(st.Estate, st.Plan, now) })
	reach := exposure.NewView(st.Plan, now)
	reach.Prepare()
	all.Wait()
	sum = view.Summarise(st, reach, found, broken, now)
	if len(broken) == 0 {
		memory.Keep(key, now, view.HoldsUntil(st, now), sum)
	}
	return sum
}
