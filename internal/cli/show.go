package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ironbark/internal/change"
	"ironbark/internal/cli/view"
	"ironbark/internal/driver"
	"ironbark/internal/exposure"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

func (a *app) phrasing(st *work.State) *view.Phrasing { return view.NewPhrasing(st, a.clock.Now()) }

func (a *app) showCommand() *cobra.Command {
	show := &cobra.Command{
		Use: "show [KIND] [NAME]", Short: "Show what there is, or one thing and who gets to it",
		Example: "  ironbark show\n  ironbark show volume\n  ironbark show gauge-web-1",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) > 1 {
				return unknownKind(c, args[0])
			}
			return a.with(func(ctx context.Context, w *work.Work, args []string) error {
				st, err := w.Asked(ctx, false)
				if err != nil {
					return err
				}
				if len(args) == 1 {
					return a.showNamed(ctx, w, st, c, args[0])
				}
				return a.showThings(st, "", nil)
			})(c, args)
		},
	}
	for _, kind := range change.Kinds {
		show.AddCommand(a.showKindCommand(kind))
	}
	show.AddCommand(a.showPersonCommand(), a.showOfferCommand(),
		a.showWordsCommand("service", "List the estate's own names for ports", []string{"SERVICE", "PORTS"}),
		a.showWordsCommand("source", "List the names for addresses outside", []string{"SOURCE", "ADDRESSES"}),
		a.showWordsCommand("authority", "List the authorities whose certificates let people log in to gateways", []string{"AUTHORITY", "IS"}),
		a.showWordsCommand("recipient", "List who is told of entries of the journal", []string{"RECIPIENT", "IS"}),
		a.showWordsCommand("admin", "List what is administrative: closed until somebody opens it for a while", []string{"SERVICE", "IS"}),
		a.showWordsCommand("limit", "List the limits", []string{"LIMIT", "IS"}),
		a.showSentencesCommand("sentence", "List all sentences"),
		a.showSentencesCommand("permit", "List the permits", sentence.VerbPermit),
		a.showSentencesCommand("port", "List the published ports", sentence.VerbForward, sentence.VerbSpread),
		a.showSentencesCommand("guarantee", "List the guarantees", sentence.VerbNever, sentence.VerbAlways))
	return show
}

// showNamed shows the one thing of a name, whatever its kind.
func (a *app) showNamed(ctx context.Context, w *work.Work, st *work.State, c *cobra.Command, name string) error {
	var found []change.Resource
	for _, t := range st.Report.Resources {
		if t.Name == name {
			found = append(found, t)
		}
	}
	if _, planned := st.Plan.MachineByName(name); planned && len(found) == 0 {
		found = append(found, change.Resource{Kind: change.Machine, Name: name})
	}
	switch {
	case len(found) > 1:
		return usage("several things are called %s; say which: show %s %s or show %s %s", name, found[0].Kind, name, found[1].Kind, name)
	case len(found) == 0:
		if shown, err := a.showWord(ctx, w, st, name); shown || err != nil {
			return err
		}
		known := kinds(c)
		for _, t := range st.Report.Resources {
			known = append(known, t.Name)
		}
		if near, ok := sentence.Nearest(name, known); ok {
			return usage("nothing is called “%s”, and it is no kind of thing; did you mean “%s”?", name, near)
		}
		return usage("nothing is called “%s”, and it is no kind of thing; the kinds are %s", name, strings.Join(kinds(c), ", "))
	case found[0].Kind == change.Machine:
		return a.showMachine(ctx, w, st, &asking{}, name)
	}
	return a.showResource(ctx, w, st, found[0])
}

func (a *app) showKindCommand(kind change.Kind) *cobra.Command {
	q := &asking{}
	c := &cobra.Command{
		Use: string(kind) + " [NAME]", Short: fmt.Sprintf("List what there is of the kind %s, or show one", kind), ValidArgsFunction: a.completeNouns(string(kind)),
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			at, err := a.moment(q.at)
			if err != nil {
				return err
			}
			st, err := a.state(ctx, w, q, at)
			if err != nil {
				return err
			}
			switch {
			case len(args) == 0:
				return a.showThings(st, kind, nil)
			case kind == change.Machine && (len(args) > 1 || strings.ContainsAny(args[0], "=*?,")):
				names, err := machineSet(st.Estate, slices.Collect(maps.Keys(st.Report.Machines)), args)
				if err != nil {
					return err
				}
				return a.showThings(st, kind, names)
			case len(args) > 1:
				return usage("show %s takes one name", kind)
			case kind == change.Machine:
				return a.showMachine(ctx, w, st, q, args[0])
			}
			t, there := change.Find(st.Report.Resources, kind, args[0])
			if !there {
				return unknownName(string(kind), args[0], namesOf(st, kind))
			}
			return a.showResource(ctx, w, st, t)
		}),
	}
	if kind == change.Machine {
		c.Short = "List the machines, or show one: who gets in, by which sentence, and which sentences do nothing there"
		c.Example = "  ironbark show machine gauge-web-1\n  ironbark show machine role=web"
		return q.flags(c)
	}
	return c
}

func namesOf(st *work.State, kind change.Kind) (names []string) {
	for _, t := range st.Report.Resources {
		if t.Kind == kind {
			names = append(names, t.Name)
		}
	}
	return names
}

// showThings lists the things of one kind, or of all kinds; of some names alone, where there are any.
func (a *app) showThings(st *work.State, kind change.Kind, names []string) error {
	if names != nil {
		some, report := *st, *st.Report
		report.Resources = slices.DeleteFunc(slices.Clone(report.Resources), func(t change.Resource) bool { return !slices.Contains(names, t.Name) })
		some.Report, st = &report, &some
	}
	if a.json {
		docs := []view.ResourceDoc{}
		for _, t := range st.Report.Resources {
			if kind == "" || t.Kind == kind {
				docs = append(docs, view.ResourceJSON(t, st))
			}
		}
		return a.print.JSON(resourcesDoc{docs})
	}
	a.print.Resources(st, kind, a.phrasing(st))
	return nil
}

func (a *app) showMachine(ctx context.Context, w *work.Work, st *work.State, q *asking, name string) error {
	at, err := a.moment(q.at)
	if err != nil {
		return err
	}
	m, planned := st.Plan.MachineByName(name)
	resource, made := change.Find(st.Report.Resources, change.Machine, name)
	if !planned && !made {
		return unknownName("machine", name, append(st.Estate.NamesOf("machine"), namesOf(st, change.Machine)...))
	}
	shown := view.Machine{Name: name, Resource: resource, State: st.Report.Machines[name]}
	if made {
		for _, t := range st.Report.Resources {
			if t.Kind == change.Volume && t.Spec.Machine == name {
				shown.Volumes = append(shown.Volumes, t)
			}
		}
		if q.at == "" { // what it did in the past is not kept
			if shown.Boot, err = w.Site.Boot(ctx, name); err != nil {
				return err
			}
		}
	}
	if planned {
		v := exposure.NewView(st.Plan, at)
		shown.Reach, shown.Effects = v.Reach(m), append(work.Limiting(v.Effects(m), st, name), v.DoorEffects(m)...)
		shown.Calls = v.Calls().Reach(m)
		shown.Effects = append(shown.Effects, slices.DeleteFunc(v.Calls().Effects(m), func(e exposure.Effect) bool { return e.Origin.IsOpenNetwork() })...)
		slices.SortStableFunc(shown.Effects, func(a, b exposure.Effect) int { return a.Origin.Compare(b.Origin) })
	}
	if planned && q.at == "" {
		shown.Could = w.CouldAt(st, name)
	}
	if q.at == "" && !q.draft {
		shown.Counts, err = w.Site.Counts(ctx)
		if err != nil && !errors.Is(err, driver.ErrNoCounts) {
			return err
		}
	}
	if made && q.at == "" && !q.draft {
		traffic, err := w.Site.Traffic(ctx)
		if err != nil {
			return err
		}
		if one, there := traffic.Of(name); there {
			shown.Traffic = &one
		}
		list, _, err := w.Site.Sessions(ctx)
		if err != nil {
			return err
		}
		shown.Sessions = slices.DeleteFunc(list, func(s driver.Session) bool { return s.Machine != name })
	}
	ph := view.NewPhrasing(st, at)
	if a.json {
		return a.print.JSON(view.MachineJSON(shown, ph))
	}
	a.print.Machine(shown, ph)
	return nil
}

// showFront shows a front, and tests the machines behind its ports.
func (a *app) showFront(ctx context.Context, w *work.Work, st *work.State, t change.Resource) (err error) {
	f := view.FrontOf(t, st, a.clock.Now())
	if f.Members, err = w.Members(ctx, st, t.Name); err != nil {
		return err
	}
	ph := a.phrasing(st)
	if a.json {
		return a.print.JSON(view.FrontJSON(f, ph))
	}
	a.print.Front(f, ph)
	return nil
}

// showOfferCommand lists what the site offers.
func (a *app) showOfferCommand() *cobra.Command {
	return &cobra.Command{
		Use: "offer", Short: "List what the site offers: images, sizes, recipes and prices", Args: noArgs,
		RunE: a.with(func(_ context.Context, w *work.Work, _ []string) error {
			c := w.Site.Catalogue()
			if a.json {
				return a.print.JSON(view.OfferJSON(c))
			}
			a.print.Offer(c)
			return nil
		}),
	}
}
