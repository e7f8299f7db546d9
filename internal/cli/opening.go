package cli

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ironbark/internal/cli/view"
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
	"ironbark/internal/site"
	"ironbark/internal/work"
)

func (a *app) openCommand() *cobra.Command {
	var account string
	c := &cobra.Command{
		Use: "open SERVICES to TARGET from SOURCE [starting TIME] for LENGTH because REASON", Short: "Open services for a while",
		Long: "Open services for a while. A permit must cover the person, the services, the machines, the whole source and\n" +
			"the length. The opening ends on time by itself, whether or not any part of ironbark runs; with starting it begins\n" +
			"so, too, and is judged again at every enactment until then. Where the permit needs approvals the request waits.\n\n" +
			"Exit status 3: refused; 6: this person may not.",
		Example: "  ironbark open ssh to gauge-web-1 from me for 1h because \"rotate keys\"", ValidArgsFunction: a.completeSentence,
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			args, err := a.completed(ctx, w, args)
			if err != nil {
				return err
			}
			s, err := a.typed("open", args)
			if err != nil {
				return err
			}
			if err := accountShows(account); err != nil {
				return err
			}
			if account != "" && !s.(sentence.Open).Emergency {
				return usage("--account is for an emergency: … in emergency because …")
			}
			granted, err := w.Open(ctx, s.(sentence.Open))
			if err != nil {
				return err
			}
			if account != "" {
				if granted.Opening, err = w.Account(ctx, granted.Opening.ID, account); err != nil {
					return err
				}
			}
			if a.json {
				return a.print.JSON(openedDoc{openingJSON(granted.Opening, a.clock.Now()), granted.Notes, doorsOf(granted)})
			}
			a.granted(w, granted)
			return nil
		}),
	}
	c.Flags().StringVar(&account, "account", "", "in an emergency: what happened and what is done, so that no account is owed")
	return c
}

// granted tells what came of a request that is not refused.
func (a *app) granted(w *work.Work, g opening.Granted) {
	o, now, indent := g.Opening, a.clock.Now(), "        "
	scheduled := o.StateAt(now) == opening.Scheduled
	switch {
	case o.Waits():
		a.waits(o)
		return
	case scheduled:
		indent = "           "
		a.print.Wrap("will open  ", o.Brief())
		a.print.Line("%sfrom %s until %s; both are installed by then, whatever runs", indent, view.Moment(o.Begin, now), view.Moment(o.End(), now))
	case g.Shorter:
		a.openUntil(a.print.Open("shortened"), o)
	case g.Extends:
		a.openUntil(a.print.Open("extended"), o)
	default:
		a.openUntil(a.print.Open("opened"), o)
	}
	a.print.Line("%sopening %d, by “%s”", indent, o.ID, strings.Join(o.Permits(), "” and “"))
	if !scheduled {
		a.reached(w, g.Reached, o)
	}
	for _, n := range g.Notes {
		a.print.Wrap(indent+"but ", n)
	}
	if o.Owes() {
		a.print.Wrap(indent+a.print.Bad("emergency")+"  ", fmt.Sprintf("an account of it is owed by %s: ironbark account %d \"what happened, and what was done\"", view.Moment(o.Account.Due, now), o.ID))
	}
}

// openingDone tells what was done with an opening, in a line or as a document.
func (a *app) openingDone(o opening.Opening, format string, args ...any) error {
	if a.json {
		return a.print.JSON(openingJSON(o, a.clock.Now()))
	}
	a.print.Line(format, args...)
	return nil
}

// accountShows refuses an account that would act on the terminal of whoever reads it.
func accountShows(text string) error {
	if problem := sentence.ReasonProblem(text); text != "" && problem != "" {
		return usage("the account %s", problem)
	}
	return nil
}

func (a *app) accountCommand() *cobra.Command {
	return &cobra.Command{
		Use: "account NUMBER TEXT", Short: "Explain an emergency afterwards",
		Long: "Give the account of an opening that was asked for in an emergency: what happened, and what was done. Until then\n" +
			"the same person opens nothing else in an emergency. It is kept in the journal.",
		Example: "  ironbark account 3 \"the archive's disk was full; old charts were removed\"",
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			if len(args) < 2 {
				return usage("account takes an opening's number and what happened")
			}
			id, err := requestNumber(args)
			if err != nil {
				return err
			}
			text := strings.TrimSpace(strings.Join(args[1:], " "))
			if text == "" {
				return usage("the account is empty: tell what happened, and what was done")
			}
			if err := accountShows(text); err != nil {
				return err
			}
			o, err := w.Account(ctx, id, text)
			if err != nil {
				return err
			}
			return a.openingDone(o, "kept  the account of opening %d", o.ID)
		}),
	}
}

// mostReached is how many doors are told one by one.
const mostReached = 5

// reached tells by which doors and addresses an opening can be used, and how to connect.
func (a *app) reached(w *work.Work, list []exposure.Part, o opening.Opening) {
	if machines := o.Machines(); o.Words.Services.Console() {
		a.print.Line("        ironbark console %s", machines[0])
		return
	}
	var told []string
	for _, p := range list {
		door, at := p.Door.Kind.String(), ""
		if p.Door.Via != "" {
			door += " " + p.Door.Via
		}
		if p.Door.Address.IsValid() {
			at = p.Door.Address.String()
			if p.Door.Translated() {
				at = fmt.Sprintf("%s %s", at, p.Door.Service)
			}
		}
		if text := strings.TrimSpace(fmt.Sprintf("%s, %s", at, door)); at != "" && !slices.Contains(told, text) {
			told = append(told, text)
		}
	}
	for i, text := range told {
		if i == mostReached {
			a.print.Line("        … and %d more: ironbark reach", len(told)-mostReached)
			break
		}
		a.print.Line("        at %s", text)
	}
	ssh := slices.ContainsFunc(list, func(p exposure.Part) bool {
		mine := slices.ContainsFunc(w.Caller.Known(), func(c netip.Addr) bool { return p.From.Contains(flow.PointOf(c)) })
		return mine && p.Arrives.Contains(flow.TCPPort(22))
	})
	if machines := o.Machines(); ssh && len(machines) == 1 {
		a.print.Line("        ironbark connect %s", machines[0])
	}
}

// doorsOf are the doors by which an opening can be used, as programs read them.
func doorsOf(g opening.Granted) []doorDoc {
	list := []doorDoc{}
	for _, p := range g.Reached {
		d := doorDoc{Door: p.Door.Kind.String(), Via: p.Door.Via, Service: strings.Join(flow.ServiceRuns(p.Arrives), ",")}
		if p.Door.Translated() {
			d.Called = p.Door.Service.String()
		}
		if p.Door.Address.IsValid() {
			d.Address = p.Door.Address.String()
		}
		if !slices.Contains(list, d) {
			list = append(list, d)
		}
	}
	return list
}

// waits tells what a request waits for.
func (a *app) waits(o opening.Opening) {
	a.print.Wrap("waits   ", o.Brief())
	a.print.Line("        request %d, for %s of %s; nothing is open yet", o.ID, view.Count(o.Waiting.Needs-len(o.Approvals), "approval"), strings.Join(o.Waiting.From, " or "))
	a.print.Line("        it lapses at %s; they say: ironbark approve %d", view.Moment(o.End(), a.clock.Now()), o.ID)
}

type openingDoc struct {
	ID         int64      `json:"id"`
	Person     string     `json:"person"`
	Sentence   string     `json:"sentence"`
	Machines   []string   `json:"machines"`
	Services   string     `json:"services"`
	From       string     `json:"from"`
	Begin      time.Time  `json:"begin"`
	End        time.Time  `json:"end"`
	Left       int64      `json:"left"`
	State      string     `json:"state"`
	Because    string     `json:"because"`
	Permit     string     `json:"permit"`
	Ended      *time.Time `json:"ended,omitempty"`
	EndedBy    string     `json:"endedBy,omitempty"`
	Emergency  bool       `json:"emergency,omitempty"`
	AccountDue *time.Time `json:"accountDue,omitempty"`
	Account    string     `json:"account,omitempty"`
	Approvals  []string   `json:"approvals,omitempty"` // who approved it
	Needs      int        `json:"needs,omitempty"`     // how many approvals it waits for in all
	Parts      []partDoc  `json:"parts"`

	Used *view.CountDoc `json:"used,omitempty"` // where it was asked for
}

// partDoc is what of an opening one permit covers, in numbers.
type partDoc struct {
	Machines []string  `json:"machines"`
	Services []string  `json:"services"`
	From     []string  `json:"from"`
	End      time.Time `json:"end"`
	Permit   string    `json:"permit"`
}

func openingJSON(o opening.Opening, now time.Time) openingDoc {
	d := openingDoc{
		ID: o.ID, Person: o.Person, Sentence: o.Words.String(), Machines: o.Machines(), Services: o.Words.Services.String(), From: o.Words.From.String(),
		Begin: o.Begin.UTC(), End: o.End().UTC(), State: "over", Because: o.Words.Because, Permit: strings.Join(o.Permits(), "; "), EndedBy: o.EndedBy,
	}
	for _, p := range o.Parts {
		d.Parts = append(d.Parts, partDoc{p.Machines, flow.ServiceRuns(p.Services), view.SourceRuns(p.From), p.End.UTC(), p.Permit})
	}
	if o.Active(now) {
		d.State, d.Left = string(o.StateAt(now)), int64(o.End().Sub(now).Seconds())
	}
	d.Needs = o.Waiting.Needs
	for _, one := range o.Approvals {
		d.Approvals = append(d.Approvals, one.Person)
	}
	d.Emergency, d.Account = o.Emergency, o.Account.Text
	if o.Owes() {
		d.AccountDue = &o.Account.Due
	}
	if !o.Ended.IsZero() {
		d.State, d.Ended = "closed", &o.Ended
	}
	return d
}

func (a *app) closeCommand() *cobra.Command {
	var all bool
	c := &cobra.Command{
		Use: "close NUMBER|MACHINE|--all", Short: "Close openings before their end",
		Long: "Close openings before their end: one by its number, all of a machine, or all there are. Its owner can, and a\nmember of the group leads: where that is empty, whoever the estate knows.",
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			w.Site.ForClosing()
			c, err := a.toClose(ctx, w, args, all)
			if err != nil {
				return err
			}
			closed, err := w.Close(ctx, c.held, c.which)
			if err = a.recordedLater(err); err != nil {
				return err
			}
			if a.json {
				return a.print.JSON(a.closedJSON(ctx, w, closed))
			}
			for _, o := range closed.Openings {
				a.print.Line("closed  opening %d: %s", o.ID, o.Brief())
			}
			for _, s := range closed.Sessions {
				a.print.Line("ended   the session %s", view.Session(s, a.clock.Now()))
			}
			// It is closed, whether or not this can be said.
			if st, outlets, err := w.Outlets(ctx, closed.Openings); err == nil && len(outlets) > 0 {
				a.print.Outlets("note    ", outlets, view.NewPhrasing(st, a.clock.Now()))
			}
			if len(closed.Openings) == 0 {
				a.print.Line("Nothing was open %s.", c.what)
			} else if all && closed.Known && len(closed.Sessions) == 0 {
				a.print.Line("No session went on by them.")
			}
			return nil
		}),
	}
	c.Flags().BoolVar(&all, "all", false, "close every opening of the estate")
	c.ValidArgsFunction = a.completeOpenings
	return c
}

func (a *app) closedJSON(ctx context.Context, w *work.Work, c work.Closed) closedDoc {
	doc := closedDoc{Closed: []openingDoc{}}
	for _, o := range c.Openings {
		doc.Closed = append(doc.Closed, openingJSON(o, a.clock.Now()))
	}
	if c.Known || len(c.Openings) == 0 {
		doc.Sessions = &[]view.SessionDoc{}
	}
	for _, s := range c.Sessions {
		*doc.Sessions = append(*doc.Sessions, view.SessionJSON(s))
	}
	if st, outlets, err := w.Outlets(ctx, c.Openings); err == nil && len(outlets) > 0 {
		doc.Outward = view.OutletsJSON(outlets, st.Plan)
	}
	return doc
}

// closing is which openings are to be closed, and how that is said.
type closing struct {
	held  *work.State
	which func(opening.Opening) bool
	what  string
}

// toClose tells which openings the words mean.
func (a *app) toClose(ctx context.Context, w *work.Work, args []string, all bool) (c closing, err error) {
	switch {
	case all && len(args) > 0:
		return c, usage("close takes either --all or one word")
	case all:
		c = closing{which: func(opening.Opening) bool { return true }, what: "for a while"}
		c.held, err = w.Held(ctx)
		return c, err
	case len(args) != 1:
		return c, usage("close takes the number of an opening, a machine, or --all; what is not open for a while is closed by deny, or by retract")
	}
	if id, err := strconv.ParseInt(args[0], 10, 64); err == nil {
		return a.oneToClose(ctx, w, id)
	}
	c = closing{which: func(o opening.Opening) bool { return slices.Contains(o.Machines(), args[0]) }, what: "for a while on " + args[0]}
	if c.held, err = w.Held(ctx); err != nil || slices.ContainsFunc(c.held.Report.Openings, c.which) {
		return c, err
	}
	st, err := w.Installed(ctx)
	if err != nil {
		return c, err
	}
	if _, ok := st.Plan.MachineByName(args[0]); !ok {
		var names []string
		for _, m := range st.Plan.Machines {
			names = append(names, m.Name)
		}
		return c, unknownName("machine", args[0], names)
	}
	return c, nil
}

func (a *app) oneToClose(ctx context.Context, w *work.Work, id int64) (c closing, err error) {
	c = closing{which: func(o opening.Opening) bool { return o.ID == id }, what: "any more under that number"}
	if c.held, err = w.HeldOf(ctx, id); err != nil || slices.ContainsFunc(c.held.Report.Openings, c.which) {
		return c, err
	}
	every, err := w.Site.Openings(ctx)
	if err != nil && !c.held.Alone {
		return c, err
	}
	if !slices.ContainsFunc(every, c.which) {
		return c, usage("there is no opening %d; ironbark openings lists them", id)
	}
	return c, nil
}

// recordedLater tells that something was closed and is not recorded yet, and returns any
// other error.
func (a *app) recordedLater(err error) error {
	unrecorded, ok := errors.AsType[*site.UnrecordedError](err)
	if !ok {
		return err
	}
	a.print.NoteWrap(a.print.Bad("closed, not recorded")+": ", unrecorded.Why.Error())
	a.print.NoteWrap("    ", view.Advice(unrecorded.Advice()))
	return nil
}
