package cli

import (
	"context"
	"iter"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ironbark/internal/cli/view"
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

func (a *app) reachCommand() *cobra.Command {
	q := &asking{}
	var from, to, service, since string
	var admin, used bool
	c := &cobra.Command{
		Use: "reach [TARGET]", Short: "List who can reach what, through which door, until when and why", Args: cobra.ArbitraryArgs,
		Long:    "List exactly what is open: who can reach what, through which door, until when and by which sentence.\nAn administrative service is marked with “!”. With --to internet, or any other name or address outside, list what\nmachines may call there.",
		Example: "  ironbark reach\n  ironbark reach gauge-web-1\n  ironbark reach --from internet --admin\n  ironbark reach --from role=web --to internet", ValidArgsFunction: a.completeNouns("machine"),
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			switch {
			case len(args) > 1:
				return usage("reach takes one target, and “%s” is more", strings.Join(args, " "))
			case len(args) == 1 && to != "":
				return usage("reach takes one target: %s, or --to %s", args[0], to)
			case len(args) == 1:
				to = args[0]
			}
			if used && (since != "" || q.at != "" || q.draft) {
				return usage("--used tells what passed until now; it goes with none of --since, --at and --draft")
			}
			if since != "" {
				return a.reachSince(ctx, w, since, from, to, service)
			}
			at, err := a.moment(q.at)
			if err != nil {
				return err
			}
			st, err := a.flows(ctx, w, q, at)
			if err != nil {
				return err
			}
			filter, outward, err := a.filter(w, st, from, to, service)
			if err != nil {
				return err
			}
			if outward && admin {
				return usage("--admin is about what comes to machines: nothing that they call outside is administrative")
			}
			open := a.openIn(st, at, to, outward)
			entries := func(yield func(exposure.Entry) bool) {
				for e := range open {
					if e, keep := filter(e); keep && (!admin || e.Administrative) && !yield(e) {
						return
					}
				}
			}
			ph := view.NewPhrasing(st, at)
			switch {
			case used:
				return a.reachUsed(ctx, w, slices.Collect(entries), ph)
			case a.json && outward:
				return a.print.CallsJSON(entries, ph, at)
			case a.json:
				return a.print.ReachJSON(entries, ph, at)
			case outward:
				a.print.Called(slices.Collect(entries), ph)
			default:
				a.print.Reach(slices.Collect(entries), ph)
			}
			return nil
		}),
	}
	c.Flags().StringVar(&from, "from", "", "only from these sources")
	c.Flags().StringVar(&to, "to", "", "only to these machines; internet, a source or an address: what machines may call there")
	c.Flags().StringVar(&service, "service", "", "only these services")
	c.Flags().BoolVar(&used, "used", false, "tell which sentences let anything in, how much, and when last")
	c.Flags().BoolVar(&admin, "admin", false, "only administrative services")
	c.Flags().StringVar(&since, "since", "", "tell when each administrative service was open, from a time or a length back until now")
	return q.flags(c)
}

// fewMachines is for how many machines that are named a view is made of them alone.
const fewMachines = 64

// openIn lists what is open in a state, as far as it can concern some targets: of few machines that are named it is worked out for them alone.
func (a *app) openIn(st *work.State, at time.Time, to string, outward bool) iter.Seq[exposure.Entry] {
	if outward {
		return exposure.NewView(st.Plan, at).Calls().ReachAll()
	}
	machines := a.machinesAlone(st, to)
	if len(machines) == 0 {
		return exposure.NewView(st.Plan, at).ReachAll()
	}
	v := exposure.NewViewOf(st.Plan, at, machines...)
	return func(yield func(exposure.Entry) bool) {
		for _, m := range machines {
			for _, e := range v.Reach(m) {
				if !yield(e) {
					return
				}
			}
		}
	}
}

// machinesAlone returns the machines that a target stands for, where it stands for few of them and for nothing else.
func (a *app) machinesAlone(st *work.State, to string) (machines []int32) {
	if to == "" {
		return nil
	}
	ask, err := a.question("why", []string{"any", "from", "everywhere", "to", to})
	if err != nil {
		return nil
	}
	for _, t := range exposure.Targets(st.Estate, st.Plan, ask.To) {
		if machines = append(machines, t.Machine); !t.IsMachine() || len(machines) > fewMachines {
			return nil
		}
	}
	return machines
}

// reachUsed tells what the sentences by which entries are open have let in.
func (a *app) reachUsed(ctx context.Context, w *work.Work, list []exposure.Entry, ph *view.Phrasing) error {
	counts, err := w.Site.Counts(ctx)
	if err != nil {
		return err
	}
	usedOf := view.UsedOf(list, counts)
	if a.json {
		return a.print.JSON(view.UsedJSON(usedOf, counts))
	}
	a.print.Used(usedOf, counts, ph)
	return nil
}

// reachSince tells when administrative services were open.
func (a *app) reachSince(ctx context.Context, w *work.Work, text, from, to, service string) error {
	since, err := a.since(text)
	if err != nil {
		return err
	}
	// A name may have stood for something then that is not there now, and the other way round.
	asked, unknown := 0, error(nil)
	intervals, err := w.Since(ctx, since, func(st *work.State) work.Keep {
		if from+to+service == "" {
			asked++
			return func(e exposure.Entry) (exposure.Entry, bool) { return e, true }
		}
		keep, outward, err := a.filter(w, st, from, to, service)
		if err == nil && outward {
			err = usage("--since tells of what comes to machines, and “%s” is outside", to)
		}
		if err != nil {
			unknown = err
			return func(e exposure.Entry) (exposure.Entry, bool) { return e, false }
		}
		asked++
		return keep
	})
	if err == nil && asked == 0 {
		err = unknown
	}
	if err != nil {
		return err
	}
	if a.json {
		return a.print.JSON(view.IntervalsJSON(intervals, since, a.clock.Now()))
	}
	a.print.Intervals(intervals, since, a.clock.Now())
	return nil
}

// filter cuts entries down to what was asked for. Its words are those of a question. Where that is about what machines call outside, the
// entries are to be of that, too.
func (a *app) filter(w *work.Work, st *work.State, from, to, service string) (keep func(exposure.Entry) (exposure.Entry, bool), outward bool, err error) {
	or := func(text, other string) string {
		if text == "" {
			return other
		}
		return text
	}
	console := service == sentence.ConsoleName
	if console && from != "" {
		return nil, false, usage("a console has no source: leave out --from")
	}
	asked := service
	if console {
		asked = "any"
	}
	ask, err := a.question("why", []string{or(asked, "any"), "from", or(from, "everywhere"), "to", or(to, "all")})
	if err != nil {
		return nil, false, err
	}
	if from == "" && st.Estate.CallsOutside(ask.To) {
		ask.From = sentence.Of(sentence.AllAtom())
	}
	if err := st.Estate.CheckSentence(ask); err != nil {
		return nil, false, err
	}
	if work.CallsOutside(st, ask) {
		return a.callsFilter(st, ask), true, nil
	}
	resolve := flow.NewResolver(st.Estate, st.Plan)
	services, group := resolve.Services(ask.Services), resolve.Group(ask.To)
	mine, err := w.FromMe(st, ask.From, group)
	if err != nil {
		return nil, false, err
	}
	sources := resolve.Source(mine)
	switch {
	case console:
		services = flow.ConsoleOnly
	case service == "" && from == "":
		services = services.Union(flow.ConsoleOnly)
	}
	targets := exposure.Targets(st.Estate, st.Plan, ask.To)
	if to != "" && len(targets) == 0 {
		return nil, false, wrong("“%s” stands for no machine, front or bastion here", to)
	}
	if from != "" && sources.IsEmpty() {
		return nil, false, wrong("“%s” stands for no address here", from)
	}
	return func(e exposure.Entry) (exposure.Entry, bool) {
		there := to == "" || slices.ContainsFunc(targets, func(t exposure.Target) bool { return t.Has(e.Door) })
		e.From, e.Services = e.From.Intersect(sources), e.Services.Intersect(services)
		return e, there && !e.From.IsEmpty() && !e.Services.IsEmpty()
	}, false, nil
}

// callsFilter cuts what machines call outside down to what was asked for.
func (a *app) callsFilter(st *work.State, ask sentence.Ask) func(exposure.Entry) (exposure.Entry, bool) {
	resolve := flow.NewResolver(st.Estate, st.Plan)
	services, callers, called := resolve.Services(ask.Services), resolve.Group(ask.From), resolve.Outside(ask.To)
	return func(e exposure.Entry) (exposure.Entry, bool) {
		e.From, e.Services = e.From.Intersect(called), e.Services.Intersect(services)
		return e, callers.Has(e.Door.Machine) && !e.From.IsEmpty() && !e.Services.IsEmpty()
	}
}
