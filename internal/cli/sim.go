package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ironbark/internal/change"
	"ironbark/internal/driver/sim"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// simCommand plays with the stand-in cloud: faults, and a meddler.
func (a *app) simCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "sim", Short: "Play with the stand-in cloud: faults, and somebody who meddles",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return c.Help()
			}
			return unknownKind(c, args[0])
		},
	}
	c.AddCommand(a.simFaultsCommand(), a.simMeddleCommand(), a.simSTUNCommand(), a.simListenCommand())
	return c
}

func (a *app) simFaultsCommand() *cobra.Command {
	return &cobra.Command{
		Use: "faults [none | FAULT…]", Short: "Tell the stand-in cloud what to do wrong from now on",
		Long: "Tell the stand-in cloud what to do wrong from now on; none takes all of it back, and without words it is listed.\n\n  " +
			strings.Join(sim.FaultWords, "\n  ") + "\n\nSteps are counted in each command: the beginning of an enactment is 1.",
		Example: "  ironbark sim faults room=2\n  ironbark sim faults fail=3 late=500ms\n  ironbark sim faults none",
		RunE: a.withSim(func(_ context.Context, _ *work.Work, args []string) error {
			if len(args) > 0 {
				if slices.Equal(args, []string{none}) {
					args = nil
				}
				f, err := sim.ParseFaults(args)
				if err != nil {
					return usage("%v", err)
				}
				if err := a.sim.KeepFaults(f); err != nil {
					return err
				}
			}
			words := a.sim.Faults().Words()
			if a.json {
				return a.print.JSON(faultsDoc{append([]string{}, words...)})
			}
			if len(words) == 0 {
				a.print.Line("The stand-in cloud does nothing wrong.")
			}
			for _, w := range words {
				a.print.Line("%s", w)
			}
			return nil
		}),
	}
}

// meddler is who the site's own record says it was.
const meddler = "somebody"

func (a *app) simMeddleCommand() *cobra.Command {
	var image, size, at string
	c := &cobra.Command{
		Use:   "meddle (open SERVICES to TARGET from SOURCE | call SERVICES from MACHINES to DESTINATION | close TARGET | make machine NAME | alter machine NAME | remove KIND NAME)",
		Short: "Change the site behind ironbark's back, as somebody might",
		Example: "  ironbark sim meddle open ssh to gauge-web-1 from everywhere\n  ironbark sim meddle alter machine gauge-web-1 --size c4m8\n" +
			"  ironbark sim meddle make machine stray-1 --subnet landing\n  ironbark sim meddle remove machine gauge-web-2",
		RunE: a.withSim(func(ctx context.Context, w *work.Work, args []string) error {
			st, err := w.Installed(ctx)
			if err != nil {
				return err
			}
			if len(args) < 2 {
				return usage("say what is to be done: ironbark sim meddle --help")
			}
			what := strings.Join(args, " ")
			switch args[0] {
			case "open":
				err = a.meddleOpen(ctx, w, st, args[1:], what)
			case "call":
				err = a.meddleCall(ctx, st, args[1:], what)
			case "close":
				err = a.meddleClose(ctx, st, args[1], what)
			case "make", "alter", "remove":
				if len(args) != 3 {
					return usage("%s takes a kind and a name", args[0])
				}
				err = a.meddleThing(ctx, st, args[0], args[1], args[2], what, change.Spec{Image: image, Size: size, Subnets: nonEmpty(at)})
			default:
				return usage("a meddler can open, call, close, make, alter and remove; not “%s”", args[0])
			}
			if err == nil {
				a.print.Line("done, and ironbark's journal knows nothing of it: %s", what)
			}
			return err
		}),
	}
	c.Flags().StringVar(&image, "image", "", "of a machine that is made")
	c.Flags().StringVar(&size, "size", "", "of a machine")
	c.Flags().StringVar(&at, "subnet", "", "the subnet of a machine that is made")
	return c
}

func nonEmpty(word string) []string {
	if word == "" {
		return nil
	}
	return []string{word}
}

// meddleOpen puts a rule into the tables that lets services in.
func (a *app) meddleOpen(ctx context.Context, w *work.Work, st *work.State, words []string, what string) error {
	s, err := sentence.ParseArgs(append(append([]string{"open"}, words...), "for", "1h", "because", "meddled"), a.now())
	if err != nil {
		return err
	}
	open := s.(sentence.Open)
	if err := st.Estate.CheckSentence(open); err != nil {
		return err
	}
	resolve := flow.NewResolver(st.Estate, st.Plan)
	to := resolve.Group(open.To)
	from, err := w.FromMe(st, open.From, to)
	if err != nil {
		return err
	}
	rule := flow.Rule{
		Kind: flow.Standing, From: resolve.Source(from), To: to, Services: resolve.Services(open.Services),
		Origin: flow.Origin{Sentence: fmt.Sprintf("open %s to %s from %s, done by somebody without ironbark at %s", open.Services, open.To, from, a.clock.Now().UTC().Format(time.RFC3339))},
	}
	return a.sim.ChangeTablesOutOfBand(ctx, meddler, what, st.Plan.RuleRows(rule), nil)
}

// meddleCall puts a rule into the tables that lets machines call services outside.
func (a *app) meddleCall(ctx context.Context, st *work.State, words []string, what string) error {
	s, err := sentence.ParseArgs(append([]string{"allow"}, words...), a.now())
	if err != nil {
		return err
	}
	allow := s.(sentence.Allow)
	if err := st.Estate.CheckSentence(allow); err != nil {
		return err
	}
	resolve := flow.NewResolver(st.Estate, st.Plan)
	called, callers, outward := resolve.Speaks(allow.From, allow.To)
	if !outward {
		return usage("“%s” is not outside: a meddler opens what comes to machines", allow.To)
	}
	rule := flow.Rule{
		Kind: flow.Allow, From: called, To: callers, Services: resolve.Services(allow.Services),
		Origin: flow.Origin{Sentence: fmt.Sprintf("%s, done by somebody without ironbark at %s", allow, a.clock.Now().UTC().Format(time.RFC3339))},
	}
	return a.sim.ChangeTablesOutOfBand(ctx, meddler, what, st.Plan.CallRows(rule), nil)
}

// meddleClose takes the rules that let anything into a machine out of the tables.
func (a *app) meddleClose(ctx context.Context, st *work.State, target, what string) error {
	m, ok := st.Plan.MachineByName(target)
	if !ok {
		return unknownName("machine", target, st.Estate.NamesOf("machine"))
	}
	var rules []flow.Rule
	for _, r := range st.Plan.Rules {
		if r.Kind != flow.Deny && r.Opening == 0 && r.To.Has(m) {
			rules = append(rules, r)
		}
	}
	var out []flow.Row
	for _, row := range st.Plan.RuleRows(rules...) {
		if strings.HasPrefix(row.Key, "rule ") {
			out = append(out, row)
		}
	}
	if len(out) == 0 {
		return wrong("no rule lets anything into %s", target)
	}
	return a.sim.ChangeTablesOutOfBand(ctx, meddler, what, nil, out)
}

func (a *app) meddleThing(ctx context.Context, st *work.State, verb, kind, name, what string, want change.Spec) error {
	if bad := sentence.ValidName(name); bad != nil {
		return usage("“%s” is no name: %s", name, bad)
	}
	t, there := change.Find(st.Report.Resources, change.Kind(kind), name)
	switch {
	case verb == "make" && there:
		return wrong("%s %s is there already", kind, name)
	case verb != "make" && !there:
		return unknownName(kind, name, namesOf(st, change.Kind(kind)))
	case verb == "remove":
		return a.sim.ChangeResourceOutOfBand(ctx, meddler, what, t, true)
	case kind != "machine":
		return usage("a meddler makes and alters machines alone")
	case verb == "alter":
		if want.Size == "" {
			return usage("say what is altered: --size")
		}
		t.Spec.Size = want.Size
		return a.sim.ChangeResourceOutOfBand(ctx, meddler, what, t, false)
	}
	if len(want.Subnets) == 0 {
		return usage("say where it stands: --subnet SUBNET")
	}
	if _, ok := st.Estate.Subnet(want.Subnets[0]); !ok {
		return unknownName("subnet", want.Subnets[0], st.Estate.NamesOf("subnet"))
	}
	t, err := work.MachineAt(st, name, want, a.sim.Catalogue())
	if err != nil {
		return err
	}
	return a.sim.ChangeResourceOutOfBand(ctx, meddler, what, t, false)
}
