package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ironbark/internal/cli/view"
	"ironbark/internal/driver"
	"ironbark/internal/exposure"
	"ironbark/internal/findings"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// asking are the options that questions share.
type asking struct {
	at    string
	draft bool
}

func (q *asking) flags(c *cobra.Command) *cobra.Command {
	c.Flags().StringVar(&q.at, "at", "", "ask for another moment: a time, or a length from now")
	c.Flags().BoolVar(&q.draft, "draft", false, "ask the files as they are, not what is installed")
	return c
}

// state reads what a question is asked of, and says so where site and files
// differ. For a moment that is past it is what the journal tells.
func (a *app) state(ctx context.Context, w *work.Work, q *asking, at time.Time) (*work.State, error) {
	if q.at != "" && at.Before(a.clock.Now()) {
		if q.draft {
			return nil, usage("--draft asks the files as they are now, and --at %s is past", q.at)
		}
		return w.At(ctx, at)
	}
	st, err := w.Asked(ctx, q.draft)
	if err == nil && st.Differ {
		if q.draft {
			a.print.Note("this is of the files; the site differs (ironbark review)")
		} else {
			a.print.Note("this is what is installed; the files differ (ironbark review, or --draft)")
		}
	}
	return st, err
}

func (a *app) whyCommand() *cobra.Command {
	q := &asking{}
	var file, to string
	c := &cobra.Command{
		Use: "why SERVICES from (SOURCE | PEOPLE via BASTION) to TARGET", Short: "Tell whether a flow passes, and why",
		Long: "Tell whether flows pass, and why: which door they use, what decides about them, and what would open them.\n" +
			"With --file, answer many questions, one a line, one JSON document a line. Lines that begin with “open:” or “closed:”\n" +
			"are expectations, such as “closed: ssh from internet to all”: those that are not met are told, and nothing else\n" +
			"counts. --to FILE.xml writes them as JUnit XML too.\n\nExit status 3: closed, or some of it; of expectations: one is not met.",
		Example: "  ironbark why ssh from 198.51.100.7 to gauge-web-1\n  ironbark why any from internet to all\n  ironbark why ssh from mara via beacon to gauge-web-1", ValidArgsFunction: a.completeSentence,
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			at, err := a.moment(q.at)
			if err != nil {
				return err
			}
			if file != "" {
				return a.whyMany(ctx, w, q, file, to, args)
			}
			if to != "" {
				return usage("--to goes with --file: it tells which expectations were met")
			}
			ask, err := a.question("why", args)
			if err != nil {
				return err
			}
			st, err := a.state(ctx, w, q, at)
			if err != nil {
				return err
			}
			answer, err := answerOf(w, st, ask, at)
			if err != nil {
				return err
			}
			ph := view.NewPhrasing(st, at)
			if a.json {
				err = a.print.JSON(answer.document(ph, w.Person, at))
			} else {
				answer.print(a.print, ph, w.Person)
			}
			if err == nil && answer.verdict() != "open" {
				return errNo
			}
			return err
		}),
	}
	c.Flags().StringVar(&file, "file", "", "a file of questions or expectations; - for standard input")
	c.Flags().StringVar(&to, "to", "", "write which expectations were met to this file, as JUnit XML")
	return q.flags(c)
}

func (a *app) question(verb string, args []string) (sentence.Ask, error) {
	s, err := a.typed(verb, args)
	if err != nil {
		return sentence.Ask{}, err
	}
	return s.(sentence.Ask), nil
}

func (a *app) probeCommand() *cobra.Command {
	return &cobra.Command{
		Use: "probe SERVICE from ADDRESS to TARGET", Short: "Send a packet and tell what became of it",
		Long: "Send one packet through what is installed on the site, and tell what became of it. Unlike why, this uses\n" +
			"nothing of the analysis. Where several addresses lead there, each gets one.\n\nExit status 3: a packet did not get through, or nothing answers.",
		Example: "  ironbark probe ssh from me to gauge-web-1", ValidArgsFunction: a.completeSentence,
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			ask, err := a.question("probe", args)
			if err != nil {
				return err
			}
			st, err := w.Installed(ctx)
			if err != nil {
				return err
			}
			answer, err := w.Ask(st, ask, a.clock.Now())
			if err != nil {
				return err
			}
			return a.probe(ctx, w, answer)
		}),
	}
}

// probe sends a packet from each single source to each address of the targets.
func (a *app) probe(ctx context.Context, w *work.Work, q *work.Answer) error {
	if q.Outward {
		return a.probeOutward(ctx, w, q)
	}
	list := []packetDoc{}
	answered := 0
	for _, source := range q.From.Runs() {
		from := source.Lo.Addr()
		if source.Lo != source.Hi {
			return usage("a packet has one source address, and “%s” is more", q.Ask.From)
		}
		for _, service := range q.Service.Runs() {
			if service.Lo != service.Hi {
				return usage("a packet is for one port, and “%s” is more", q.Ask.Services)
			}
			for _, d := range q.Calls(from) {
				fates, err := w.Site.Probe(ctx, driver.Packet{Source: from, Target: d.Address, Service: d.Calls(service.Lo)})
				if err != nil {
					return err
				}
				for _, f := range fates {
					called := d.Calls(service.Lo)
					sees, why := q.Sees(d, called, f.Open, f.Machine)
					if sees == "an answer" {
						answered++
					}
					list = append(list, packetDoc{from.String(), d.Address.String(), called.String(), f.Open, f.Machine, f.Reason, f.By, sees, why})
				}
			}
		}
	}
	if err := a.packets(list, "there is no address of the target to send a packet to"); err != nil {
		return err
	}
	if answered == 0 || answered < len(list) {
		return errNo
	}
	return nil
}

// probeOutward sends a packet from each machine asked about to the one address outside.
func (a *app) probeOutward(ctx context.Context, w *work.Work, q *work.Answer) error {
	to := q.From.Runs()[0].Lo
	if runs := q.From.Runs(); len(runs) > 1 || runs[0].Lo != runs[0].Hi {
		return usage("a packet goes to one address, and “%s” is more", q.Ask.To)
	}
	list := []packetDoc{}
	open := 0
	for _, service := range q.Service.Runs() {
		if service.Lo != service.Hi {
			return usage("a packet is for one port, and “%s” is more", q.Ask.Services)
		}
		for _, from := range q.Callers(to) {
			fates, err := w.Site.Probe(ctx, driver.Packet{Source: from, Target: to.Addr(), Service: service.Lo})
			if err != nil {
				return err
			}
			for _, f := range fates {
				if f.Open {
					open++
				}
				list = append(list, packetDoc{from.String(), to.Addr().String(), service.Lo.String(), f.Open, "", f.Reason, f.By, "", ""})
			}
		}
	}
	if err := a.packets(list, "no machine of these has an address of that family to call from"); err != nil {
		return err
	}
	if open == 0 || open < len(list) {
		return errNo
	}
	return nil
}

// packets tells what became of packets.
func (a *app) packets(list []packetDoc, none string) error {
	if a.json {
		return a.print.JSON(probesDoc{list})
	}
	for _, s := range list {
		word, text := "closed", fmt.Sprintf("%s from %s to %s", s.Service, s.Source, s.Address)
		if s.Open {
			word = a.print.Open("open")
		}
		if s.Machine != "" {
			text += ", arrived at " + s.Machine
		}
		text += ": " + s.Reason
		if s.By != "" {
			text += " “" + s.By + "”"
		}
		a.print.Wrap(word+"  ", text)
		if s.Silent != "" {
			a.print.Wrap("        ", fmt.Sprintf("%s it sees %s: %s", a.print.Bad("but nothing answers:"), s.Sees, s.Silent))
		}
	}
	if len(list) == 0 {
		a.print.Line("closed  %s", none)
	}
	return nil
}

func (a *app) reachCommand() *cobra.Command {
	q := &asking{}
	var from, to, service, since string
	var admin, used bool
	c := &cobra.Command{
		Use: "reach [TARGET]", Short: "List who can reach what, through which door, until when and why", Args: cobra.ArbitraryArgs,
		Long:    "List exactly what is open: who can reach what, through which door, until when and by which sentence.\nAn administrative service is marked with “!”.",
		Example: "  ironbark reach\n  ironbark reach gauge-web-1\n  ironbark reach --from internet --admin", ValidArgsFunction: a.completeNouns("machine"),
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
			st, err := a.state(ctx, w, q, at)
			if err != nil {
				return err
			}
			filter, outward, err := a.filter(w, st, from, to, service)
			if err != nil {
				return err
			}
			of := exposure.NewView(st.Plan, at)
			if outward {
				if of = of.Calls(); admin {
					return usage("--admin is about what comes to machines: nothing that they call outside is administrative")
				}
			}
			var list []exposure.Entry
			for e := range of.ReachAll() {
				if e, keep := filter(e); keep && (!admin || e.Administrative) {
					list = append(list, e)
				}
			}
			ph := view.NewPhrasing(st, at)
			switch {
			case used:
				return a.reachUsed(ctx, w, list, ph)
			case a.json && outward:
				return a.print.JSON(view.CallsJSON(list, ph, at))
			case a.json:
				return a.print.JSON(view.ReachJSON(list, ph, at))
			case outward:
				a.print.Called(list, ph)
			default:
				a.print.Reach(list, ph)
			}
			return nil
		}),
	}
	c.Flags().StringVar(&from, "from", "", "only from these sources")
	c.Flags().StringVar(&to, "to", "", "only to these machines")
	c.Flags().StringVar(&service, "service", "", "only these services")
	c.Flags().BoolVar(&used, "used", false, "tell which sentences let anything in, how much, and when last")
	c.Flags().BoolVar(&admin, "admin", false, "only administrative services")
	c.Flags().StringVar(&since, "since", "", "tell when each administrative service was open, from a time or a length back until now")
	return q.flags(c)
}

// reachUsed tells what the sentences by which entries are open have let in.
func (a *app) reachUsed(ctx context.Context, w *work.Work, list []exposure.Entry, ph *view.Phrasing) error {
	counts, err := w.Site.Counts(ctx)
	if err != nil {
		return err
	}
	usedOf := view.UsedOf(list, counts)
	if a.json {
		return a.print.JSON(view.UsedJSON(usedOf, counts.Since))
	}
	a.print.Used(usedOf, counts.Since, ph)
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
	spells, err := w.Since(ctx, since, func(st *work.State) work.Keep {
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
		return a.print.JSON(view.SpellsJSON(spells, since, a.clock.Now()))
	}
	a.print.Spells(spells, since, a.clock.Now())
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
	ask, err := a.question("why", []string{or(service, "any"), "from", or(from, "everywhere"), "to", or(to, "all")})
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
	targets := exposure.Targets(st.Estate, st.Plan, ask.To)
	if to != "" && len(targets) == 0 {
		return nil, false, wrong("“%s” stands for no machine, front or bastion here", to)
	}
	if from != "" && sources.IsEmpty() {
		return nil, false, wrong("“%s” stands for no address here", from)
	}
	return func(e exposure.Entry) (exposure.Entry, bool) {
		e.From, e.Services = e.From.Intersect(sources), e.Services.Intersect(services)
		there := to == "" || slices.ContainsFunc(targets, func(t exposure.Target) bool { return t.Has(e.Door) })
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

func (a *app) findingsCommand() *cobra.Command {
	q := &asking{}
	var level string
	c := &cobra.Command{
		Use: "findings", Short: "Look for what is seldom meant", Args: noArgs,
		Long: "Look for sentences that do nothing, exceptions that stand, machines that nobody can administer, and broken\n" +
			"guarantees.\n\nExit status 3: a guarantee is broken, or there are findings at or above the level asked for with --fail-at.",
		RunE: a.with(func(ctx context.Context, w *work.Work, _ []string) error {
			at, err := a.moment(q.at)
			if err != nil {
				return err
			}
			least := map[string]findings.Level{"": findings.Serious + 1, "note": findings.Note, "caution": findings.Caution, "serious": findings.Serious}
			bar, known := least[level]
			if !known {
				return usage("--fail-at is note, caution or serious, not “%s”", level)
			}
			st, err := a.state(ctx, w, q, at)
			if err != nil {
				return err
			}
			list := findings.Look(st.Estate, st.Plan, at, st.Listening())
			broken := exposure.Guarantees(st.Estate, st.Plan, at)
			if a.json {
				out := []brokenDoc{}
				for _, b := range broken {
					from, to := b.Ends()
					out = append(out, brokenDoc{b.Guarantee.Sentence, from, b.Flow.Service.String(), to})
				}
				err = a.print.JSON(findingsDoc{view.FindingsJSON(list), out})
			} else {
				for _, b := range broken {
					a.print.Broken(b)
				}
				a.print.Findings(list)
				if len(list)+len(broken) == 0 {
					a.print.Line("Nothing found.")
				}
			}
			for _, f := range list {
				if f.Level >= bar {
					return errNo
				}
			}
			if err == nil && len(broken) > 0 {
				return errNo
			}
			return err
		}),
	}
	c.Flags().StringVar(&level, "fail-at", "", "exit with 3 if anything is found at this level or above: note, caution, serious")
	return q.flags(c)
}
