package cli

import (
	"context"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"ironbark/internal/cli/view"
	"ironbark/internal/exposure"
	"ironbark/internal/findings"
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
	return a.asked(ctx, w, q, at, func(ctx context.Context) (*work.State, error) { return w.Asked(ctx, q.draft) })
}

// flows is state for a question about flows and nothing else: resources and machines are not read.
func (a *app) flows(ctx context.Context, w *work.Work, q *asking, at time.Time) (*work.State, error) {
	if q.draft {
		return a.state(ctx, w, q, at)
	}
	return a.asked(ctx, w, q, at, w.AskedOfFlows)
}

func (a *app) asked(ctx context.Context, w *work.Work, q *asking, at time.Time, read func(context.Context) (*work.State, error)) (*work.State, error) {
	if q.at != "" && at.Before(a.clock.Now()) {
		if q.draft {
			return nil, usage("--draft asks the files as they are now, and --at %s is past", q.at)
		}
		return w.At(ctx, at)
	}
	st, err := read(ctx)
	if err == nil && st.Differ {
		if q.draft {
			a.print.Note("this is of the files; the site differs (ironbark review)")
		} else {
			a.print.Note("this is what is installed; the files differ (ironbark review, or --draft)")
		}
	}
	if err == nil && !q.draft {
		for _, one := range st.Report.Network {
			a.print.NoteWrap("caution: ", one.What+"; ironbark site restore puts it right")
		}
	}
	return st, err
}

func (a *app) whyCommand() *cobra.Command {
	q := &asking{}
	var file, to string
	c := &cobra.Command{
		Use: "why SERVICES from (SOURCE | PEOPLE via BASTION) to (TARGET | DESTINATION)", Short: "Tell whether a flow passes, and why",
		Long: "Tell whether flows pass, and why: which door they use, what decides about them, and what would open them. What\n" +
			"machines call outside is asked as “from MACHINES to internet”, or to an address or source.\n" +
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
			st, err := a.flows(ctx, w, q, at)
			if err != nil {
				return err
			}
			answer, err := answerOf(w, st, ask, at)
			if err != nil {
				return err
			}
			switch answer := answer.(type) {
			case flows:
				if st.OfFlows {
					err = w.LookAt(ctx, answer.Answer)
				}
			case forwarded:
				if !st.Draft && q.at == "" {
					err = w.LookAtGateway(answer.Forwarding)
				}
			}
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

func (a *app) findingsCommand() *cobra.Command {
	q := &asking{}
	var level, to, since string
	var all, fix bool
	opt := &editing{}
	c := &cobra.Command{
		Use: "findings", Short: "Check for likely mistakes", Args: noArgs,
		Long: "Check for likely mistakes: sentences that do nothing, exceptions that stand, machines that nobody can administer, and broken\n" +
			"guarantees; and for what needs upkeep: what ends soon, what nobody uses, what is for far more addresses than use it. Findings\n" +
			"of one kind are told together; --all tells each, and why it matters. --to FILE.sarif writes them with their lines for services\n" +
			"that show them beside a change. The score is 100 less what each kind of finding takes off it, which is told line by line;\n" +
			"--since tells how it came about. --fix retracts the sentences that do nothing or that nobody uses, as an edit with a review: it\n" +
			"opens nothing.\n\nExit status 3: a guarantee is broken, or there are findings at or above the level asked for with --fail-at.",
		RunE: a.with(func(ctx context.Context, w *work.Work, _ []string) error {
			switch others := all || level+to+q.at != ""; {
			case fix && (others || since != ""), since != "" && (others || q.draft):
				return usage("--fix and --since each stand alone")
			case !fix && opt.yes:
				return usage("--yes goes with --fix")
			case fix:
				opt.draft = q.draft
				return a.fix(ctx, w, opt)
			case since != "":
				return a.scoresSince(ctx, w, since)
			}
			at, err := a.moment(q.at)
			if err != nil {
				return err
			}
			least := map[string]findings.Level{"": findings.Serious + 1, "note": findings.Note, "caution": findings.Caution, "serious": findings.Serious}
			bar, known := least[level]
			if !known {
				return usage("--fail-at is note, caution or serious, not “%s”", level)
			}
			if to != "" && filepath.Ext(to) != ".sarif" {
				return usage("--to takes the name of a file that ends in .sarif, not “%s”", to)
			}
			st, err := a.state(ctx, w, q, at)
			if err != nil {
				return err
			}
			list := foundAt(st, at, findings.Facts{})
			if q.at == "" {
				if list, err = a.foundNow(ctx, w, st, at); err != nil {
					return err
				}
			}
			broken := exposure.Guarantees(st.Estate, st.Plan, at)
			if to != "" {
				if err := writeSARIF(to, w, list, broken); err != nil {
					return err
				}
			}
			if a.json {
				out := []brokenDoc{}
				for _, b := range broken {
					from, to := b.Ends()
					out = append(out, brokenDoc{b.Guarantee.Sentence, from, b.Flow.Service.String(), to})
				}
				err = a.print.JSON(findingsDoc{view.FindingsJSON(list), out, view.ScoreJSON(findings.ScoreOf(list, len(broken)))})
			} else {
				for _, b := range broken {
					a.print.Broken(b)
				}
				if all {
					a.print.EachFinding(list)
				} else {
					a.print.Findings(list, "ironbark findings --all")
				}
				if len(list)+len(broken) == 0 {
					a.print.Line("Nothing found.")
				}
				a.print.Score(findings.ScoreOf(list, len(broken)))
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
	c.Flags().BoolVar(&all, "all", false, "tell each finding by itself, and why it matters")
	c.Flags().StringVar(&to, "to", "", "write them to this file, FILE.sarif, as SARIF 2.1.0")
	c.Flags().StringVar(&since, "since", "", "tell how the score came about, from a time or a length back until now")
	c.Flags().BoolVar(&fix, "fix", false, "retract what only closes something or only tidies up, as an edit with a review")
	c.Flags().BoolVar(&opt.yes, "yes", false, "with --fix: enact without asking")
	c.Flags().StringVar(&level, "fail-at", "", "exit with 3 if anything is found at this level or above: note, caution, serious")
	return q.flags(c)
}
