package work

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ironbark/internal/estate"
)

// drifting is something that is not as it was enacted, and since when: it came about between two looks.
type drifting struct {
	after, before time.Time // it came about after the first look, and not after the second; after is zero for the first look of all
	drift
}

// drift is a kind of drift, and the machine that caused it; empty where no machine did.
type drift struct {
	kind    estate.Repair
	machine string
}

// Follow looks at the site again and again until ctx ends. It reports what drifts from what was enacted, repairs the kinds that the estate
// names, and notes in the journal how long each drift lasted. At each look it ends the connections that may pass no longer. restore makes
// all as it was enacted; tell is called with what changes, and with what goes wrong.
func (w *Work) Follow(ctx context.Context, every time.Duration, restore func(context.Context, *Review) error, tell func(string)) error {
	f := &follower{w: w, restore: restore, tell: tell, open: map[string]drifting{}, much: map[string]bool{}, waits: map[string]bool{}}
	wrong := ""
	for {
		err := f.look(ctx)
		if ctx.Err() != nil {
			return nil // it is told to end
		}
		now := ""
		if err != nil {
			now = err.Error()
		}
		if now != wrong && now != "" { // the same is reported once
			tell(now)
		}
		wrong = now
		if w.Clock.Sleep(ctx, every) != nil {
			return nil
		}
	}
}

type follower struct {
	w       *Work
	restore func(context.Context, *Review) error
	tell    func(string)
	last    time.Time // of the look before
	open    map[string]drifting
	much    map[string]bool // which machines had much of their connections at the last look; "": the site
	lines   lines           // that machines cause
	waits   map[string]bool // machines that were reported as not started
}

// look is one look, with what follows from it.
func (f *follower) look(ctx context.Context) error {
	w := f.w
	if _, _, err := w.Site.Sessions(ctx); err != nil { // a place that lists them ends those that are over
		return err
	}
	st, err := w.Installed(ctx)
	if err != nil {
		return err
	}
	if err := f.alert(ctx, st.Estate); err != nil {
		return err
	}
	now := w.Clock.Now()
	found := driftsOf(st, w.Drift(st))
	for what, one := range found {
		if _, known := f.open[what]; !known {
			f.open[what] = drifting{f.last, now, one}
			if !f.lines.full(st.Estate, one.machine, now) {
				f.tell(what)
			}
		}
	}
	failed := f.repair(ctx, st, found)
	if len(found) > 0 {
		if after, err := w.Installed(ctx); err == nil {
			st, found = after, driftsOf(after, w.Drift(after))
		}
	}
	for _, what := range slices.Sorted(maps.Keys(f.open)) {
		if _, still := found[what]; still {
			continue
		}
		one := f.open[what]
		delete(f.open, what)
		text := fmt.Sprintf("%s: it came about %s and was over by %s", what, between(one.after, one.before), w.Clock.Now().UTC().Format(time.RFC3339))
		if err := f.lines.note(ctx, w, st.Estate, one.machine, "drift", text, f.tell); err != nil {
			failed = errors.Join(failed, err)
		}
	}
	f.last = now
	return failed
}

// alert records machines, and the site, that have begun to use most of the connections that they may have. The journal notifies recipients.
// A machine is recorded again only after it has had fewer.
func (f *follower) alert(ctx context.Context, e *estate.Estate) error {
	list, err := f.w.takes(ctx)
	if err != nil {
		return err
	}
	for _, t := range list {
		if t.Much() && !f.much[t.Machine] {
			if err := f.lines.note(ctx, f.w, e, t.Machine, "connections", t.String(), f.tell); err != nil {
				return err
			}
		}
		f.much[t.Machine] = t.Much()
	}
	return nil
}

// between says when something came about that two looks enclose.
func between(after, before time.Time) string {
	if after.IsZero() {
		return "before " + before.UTC().Format(time.RFC3339)
	}
	return fmt.Sprintf("between %s and %s", after.UTC().Format(time.RFC3339), before.UTC().Format(time.RFC3339))
}

// driftsOf lists in words what drifts, each with its kind.
func driftsOf(st *State, d *Drift) map[string]drift {
	out := map[string]drift{}
	for _, a := range d.Network {
		out[a.What] = drift{kind: estate.RepairNetwork}
	}
	for _, t := range d.Resources {
		if !t.Resource.Unmanaged {
			out[t.String()] = drift{kind: estate.RepairResources}
		}
	}
	if !d.Exposure.IsEmpty() || !d.Outward.IsEmpty() {
		out["the tables are not as they were enacted"] = drift{kind: estate.RepairNetwork}
	}
	for _, name := range st.Report.Interrupted() {
		out["machine "+name+" stopped by itself"] = drift{estate.RepairMachines, name}
	}
	return out
}

// repair puts right what the estate names. A restoration makes all of the network and the resources as they were enacted, so it is done
// where each kind of both that drifts is named.
func (f *follower) repair(ctx context.Context, st *State, found map[string]drift) (err error) {
	restores, starts, forbidden := false, false, false
	for _, one := range found {
		named := slices.Contains(st.Estate.Repair, one.kind)
		if one.kind == estate.RepairMachines {
			starts = named
		} else {
			restores, forbidden = true, forbidden || !named
		}
	}
	if restores && !forbidden {
		r, failed := f.w.Restore(ctx)
		if failed == nil && r != nil && !r.IsNoOp() {
			failed = f.restore(ctx, r)
		}
		err = failed
	}
	if starts {
		started, failed := f.w.StartInterrupted(ctx, func(machine string) bool { return f.mayStart(st.Estate, machine) })
		if len(started) > 0 {
			f.tell("started " + strings.Join(started, ", "))
			failed = errors.Join(failed, f.w.retest(ctx, started, &f.lines, f.tell))
		}
		err = errors.Join(err, failed)
	}
	return err
}

// mayStart reports whether a machine that stopped by itself is started. One that has caused as many lines as it may is not, until its hour is
// over; that is reported once.
func (f *follower) mayStart(e *estate.Estate, machine string) bool {
	full := f.lines.full(e, machine, f.w.Clock.Now())
	if full && !f.waits[machine] {
		f.tell("machine " + machine + " is not started: it has caused as many lines of the journal as its limit permits in an hour")
	}
	f.waits[machine] = full
	return !full
}
