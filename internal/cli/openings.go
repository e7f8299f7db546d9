package cli

import (
	"context"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"ironbark/internal/cli/view"
	"ironbark/internal/flow"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// openingsAsked says which openings are listed, and what of them.
type openingsAsked struct {
	all, used                   bool
	by, machine, service, since string
	most                        int // how many are listed; 0: all
}

// chooses reports whether some are asked for by what they are.
func (q *openingsAsked) chooses() bool { return q.by+q.machine+q.service+q.since != "" }

func (a *app) openingsCommand() *cobra.Command {
	q := &openingsAsked{}
	var could, watch bool
	c := &cobra.Command{
		Use: "openings", Short: "List what is open for a while, and until when", Args: noArgs,
		Long: "List what is open for a while, what will be and what waits for approval. With --could, what you may open: where, from\n" +
			"where, how long and with whose approval; and which machines cannot be opened now, and why.\n\n" +
			"--watch keeps the list on the terminal as it is: arrows choose one, c closes it, e extends it by an hour, q ends.\n" +
			"In a pipe it prints a line for each change, until it is interrupted.",
		RunE: a.with(func(ctx context.Context, w *work.Work, _ []string) error {
			switch {
			case could && (watch || *q != openingsAsked{}), watch && (q.all || q.used || q.since != ""):
				return usage("--could stands alone, and --watch goes with --by, --machine and --service")
			case could:
				return a.could(ctx, w)
			case watch:
				return a.watch(ctx, w, q)
			}
			if a.print.ToTerminal && !a.json {
				q.most = mostListed
			}
			l, err := a.openings(ctx, w, q)
			if err != nil {
				return err
			}
			edits, err := w.EditsThatWait(ctx, l.State)
			if err != nil {
				return err
			}
			if a.json {
				doc := openingsJSON(l)
				for _, q := range edits {
					doc.Edits = append(doc.Edits, editRequestJSON(q, l.State))
				}
				return a.print.JSON(doc)
			}
			if len(l.List) == 0 {
				a.print.Line("%s", noOpening(q))
				a.editsThatWait(edits, w, l.State)
				return nil
			}
			a.print.Openings(l)
			a.editsThatWait(edits, w, l.State)
			if l.Left > 0 {
				a.print.Note("… and %d more: --machine, --by and --service choose among them; a pipe and --json have all", l.Left)
			}
			for _, o := range l.List {
				if o.Active(l.Now) && o.Waits() && o.MayApprove(w.Person, l.State.Estate) {
					a.print.Note("request %d waits for you: ironbark approve %d, or ironbark decline %d because \"…\"", o.ID, o.ID, o.ID)
				}
			}
			return nil
		}),
	}
	c.Flags().BoolVar(&q.all, "all", false, "those that are over too")
	c.Flags().BoolVar(&could, "could", false, "what you may open, in place of what is open")
	c.Flags().BoolVar(&watch, "watch", false, "keep the list as it is, until q or an interrupt")
	c.Flags().BoolVar(&q.used, "used", false, "for how long each was asked, what it let in, and when last; where the site counts")
	c.Flags().StringVar(&q.by, "by", "", "only those of this person")
	c.Flags().StringVar(&q.machine, "machine", "", "only those to this machine")
	c.Flags().StringVar(&q.service, "service", "", "only those of one of these services")
	c.Flags().StringVar(&q.since, "since", "", "with --all: only those that were open since a time, or a length back from now")
	return c
}

// mostListed is how many openings are listed on a terminal.
const mostListed = 200

func noOpening(q *openingsAsked) string {
	if q.chooses() || q.all {
		return "No opening is like that."
	}
	return "Nothing is open for a while."
}

// openings reads the openings that are asked for.
func (a *app) openings(ctx context.Context, w *work.Work, q *openingsAsked) (l view.OpeningList, err error) {
	if l.State, err = w.Installed(ctx); err != nil {
		return l, err
	}
	l.Now = l.State.Clock(a.clock.Now())
	l.List = work.Active(l.State.Report.Openings, l.Now)
	if q.all {
		l.List, err = w.Site.Openings(ctx)
	} else {
		l.List, err = w.WithOwed(ctx, l.State, l.List)
	}
	if err != nil {
		return l, err
	}
	if q.used {
		if l.Counts, err = w.Site.Counts(ctx); err != nil {
			return l, err
		}
	}
	if l.List, err = a.chosen(l.State, l.List, q); err == nil && len(l.List) == 0 {
		err = knownNames(ctx, w, q.machine, q.by)
	}
	if err != nil {
		return l, err
	}
	if q.most > 0 && len(l.List) > q.most {
		l.Left = len(l.List) - q.most
		l.List = l.List[:q.most]
	}
	l.Overridden = work.Overridden(l.State, l.List, l.Now)
	return l, nil
}

func openingsJSON(l view.OpeningList) openingsDoc {
	docs := make([]openingDoc, 0, len(l.List))
	for _, o := range l.List {
		d := openingJSON(o, l.Now)
		if l.Overridden[o.ID] != "" {
			d.State = "overridden"
		}
		if l.Counts != nil {
			used := view.UsedByJSON(o, l.Counts)
			d.Used = &used
		}
		docs = append(docs, d)
	}
	return openingsDoc{l.Now.UTC(), docs, []editRequestDoc{}}
}

// chosen leaves those of a list of openings that are asked for.
func (a *app) chosen(st *work.State, list []opening.Opening, q *openingsAsked) (out []opening.Opening, err error) {
	if !q.chooses() {
		return list, nil
	}
	services := flow.AnyService.Union(flow.ConsoleOnly)
	if q.service != "" {
		s, err := sentence.ParseServices(q.service)
		if err != nil {
			return nil, wrong("--service: %v", err)
		}
		if services = flow.ServicesOf(st.Estate, s); services.IsEmpty() {
			return nil, wrong("there is no service “%s”", q.service)
		}
	}
	from := time.Time{}
	if q.since != "" {
		if from, err = a.past("--since", q.since); err != nil {
			return nil, err
		}
	}
	for _, o := range list {
		end := o.End()
		if !o.Ended.IsZero() && o.Ended.Before(end) {
			end = o.Ended
		}
		some := slices.ContainsFunc(o.Parts, func(p opening.Part) bool {
			return p.Services.Overlaps(services) && (q.machine == "" || slices.Contains(p.Machines, q.machine))
		})
		if some && (q.by == "" || o.Person == q.by) && (from.IsZero() || end.After(from)) {
			out = append(out, o)
		}
	}
	return out, nil
}
