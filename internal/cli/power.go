package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ironbark/internal/driver"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// defaultGrace is how long a clean stop may take before a hard one.
const defaultGrace = 30 * time.Second

func (a *app) startCommand() *cobra.Command {
	return a.powerCommand(driver.Start, "Start machines", "Start machines. They have the addresses that they had, and are reachable as the tables say.")
}

func (a *app) stopCommand() *cobra.Command {
	return a.powerCommand(driver.Stop, "Stop machines", "Stop machines: cleanly, and hard after the grace time. They keep their addresses, and cost only their disks.")
}

func (a *app) restartCommand() *cobra.Command {
	return a.powerCommand(driver.Restart, "Stop machines and start them again", "Stop machines and start them again. With --setup their first boot is run once more.")
}

func (a *app) powerCommand(do driver.PowerVerb, short, long string) *cobra.Command {
	act := driver.Power{Do: do, Grace: defaultGrace}
	var yes bool
	c := &cobra.Command{
		Use: string(do) + " MACHINE…", Short: short, Long: long + "\nThey are named as in sentences: names, patterns in quotes ('gauge-*'), TAG=VALUE, subnets, all, and except.",
		Example: "  ironbark " + string(do) + " gauge-web-1\n  ironbark " + string(do) + " role=web except gauge-web-2", ValidArgsFunction: a.completeNouns("machine"),
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			names, err := machinesNamed(ctx, w, args)
			if err != nil {
				return err
			}
			if len(names) > 1 && do != driver.Start {
				if err := a.confirm(yes, fmt.Sprintf("%s %d machines: %s?", strings.ToUpper(string(do[0]))+string(do[1:]), len(names), strings.Join(names, ", "))); err != nil {
					return err
				}
			}
			if act.Setup {
				if err := a.oldSetup(ctx, w, names, yes); err != nil {
					return err
				}
			}
			return a.power(ctx, w, names, act)
		}),
	}
	if do != driver.Start {
		a.drainFlag(c)
		c.Flags().Var((*lasting)(&act.Grace), "grace", "how long a clean stop may take before a hard one")
		c.Flags().BoolVar(&yes, "yes", false, "do several machines without asking")
	}
	if do == driver.Restart {
		c.Flags().BoolVar(&act.Setup, "setup", false, "run the first boot again")
	}
	return c
}

// oldSetup tells of machines whose setup the files have otherwise by now: what runs again is
// the setup that was enacted, and whether that is meant is asked.
func (a *app) oldSetup(ctx context.Context, w *work.Work, names []string, yes bool) error {
	changed, err := w.SetupChanged(ctx, names)
	if err != nil || len(changed) == 0 {
		return err
	}
	for _, text := range changed {
		a.print.NoteWrap("changed  ", text)
	}
	a.print.Note("what would run again is the setup that was enacted; ironbark enact takes the new one")
	return a.confirm(yes, "Run the old setup again?")
}

// machinesNamed finds the machines of the site that words name.
func machinesNamed(ctx context.Context, w *work.Work, args []string) (names []string, err error) {
	st, err := w.Installed(ctx)
	if err != nil {
		return nil, err
	}
	known := slices.Sorted(maps.Keys(st.Report.Machines))
	if names, err = machineSet(st.Estate, known, args); err != nil {
		return nil, err
	}
	names = slices.DeleteFunc(names, func(name string) bool { return !slices.Contains(known, name) })
	if len(names) == 0 {
		return nil, wrong("none of these machines is on the site yet")
	}
	return names, nil
}

// powered is what became of one machine, for programs.
type powered struct {
	Machine string       `json:"machine"`
	State   driver.State `json:"state"`
	Hard    bool         `json:"hard"`
	Failed  string       `json:"setupFailed,omitempty"`
}

// power does the same to several machines and waits until each is as it will be.
func (a *app) power(ctx context.Context, w *work.Work, names []string, act driver.Power) (err error) {
	restore := func() error { return w.Undrain(ctx, names) } // of a stop that was broken off
	if act.Do != driver.Start {
		if restore, err = a.drained(ctx, w, names, fmt.Sprintf("%s asked for a %s", w.Person, act.Do)); err != nil {
			return errors.Join(err, restore())
		}
	}
	defer func() { err = errors.Join(err, restore()) }()
	defer a.waitingFor("%s to %s", sentence.Few(names), act.Do)()
	for _, name := range names {
		if _, err := w.Power(ctx, name, act); err != nil {
			return fmt.Errorf("%s %s: %w", act.Do, name, err)
		}
	}
	if err := a.settle(ctx, w, names, act); err != nil || act.Do == driver.Stop {
		return err
	}
	return w.Retest(ctx, names, func(text string) { a.print.NoteWrap("  ", text) })
}

// lasting is the value of an option that says how long something lasts: never less than nothing.
type lasting time.Duration

func (l *lasting) String() string { return time.Duration(*l).String() }

// Type is what help calls such a value.
func (l *lasting) Type() string { return "duration" }

// Set reads a value as [time.ParseDuration] does.
func (l *lasting) Set(text string) error {
	d, err := time.ParseDuration(text)
	if err == nil && d < 0 {
		err = errors.New("it cannot be less than nothing")
	}
	if err == nil {
		*l = lasting(d)
	}
	return err
}

// drainFlag is the option that says how long what goes on by fronts may take to end.
func (a *app) drainFlag(c *cobra.Command) {
	c.Flags().Var((*lasting)(&a.drain), "drain", "how long connections by fronts may take to end before it is done; 0: they are cut")
}

// drained lets machines that are to go get no new connections by fronts, and waits for those that they have. restore
// puts them back.
func (a *app) drained(ctx context.Context, w *work.Work, machines []string, why string) (restore func() error, err error) {
	back, err := w.Drain(ctx, machines, why, a.drain, func(text string) { a.print.NoteWrap("draining  ", strings.Join(machines, ", ")+": "+text) })
	return func() error { return back(context.WithoutCancel(ctx)) }, err
}

// settle waits until machines are as they will be, and tells of each.
func (a *app) settle(ctx context.Context, w *work.Work, names []string, act driver.Power) error {
	done := []powered{}
	err := w.Settle(ctx, names, machinesTime+act.Grace, func(name string, m driver.Machine) {
		done = append(done, powered{name, m.State, m.Forced, m.Failed})
		if a.json {
			return
		}
		text := fmt.Sprintf("%s is %s", name, m.State)
		if act.Do == driver.Restart && m.State == driver.Running {
			text = name + " was restarted"
			if act.Setup && m.Failed == "" {
				text += ", and its setup ran again"
			}
		}
		if m.Forced {
			text += a.print.Bad(fmt.Sprintf("; it did not stop within %s and was switched off", sentence.DurationOf(act.Grace)))
		}
		if m.Failed != "" {
			text += a.print.Bad("; its setup " + m.Failed + " failed: ironbark show machine " + name)
		}
		if m.State == driver.Stuck {
			text = a.print.Bad(text) + ": ironbark console " + name + " shows why"
		}
		a.print.Line("%s", text)
	})
	if err != nil {
		return err
	}
	if a.json {
		if err := a.print.JSON(powerDoc{done}); err != nil {
			return err
		}
	}
	if slices.ContainsFunc(done, func(p powered) bool { return p.State == driver.Stuck || p.Failed != "" }) {
		return errFailed
	}
	return nil
}
