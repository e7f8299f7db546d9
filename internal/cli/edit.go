package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ironbark/internal/cli/view"
	"ironbark/internal/driver"
	"ironbark/internal/estate"
	"ironbark/internal/exposure"
	"ironbark/internal/findings"
	"ironbark/internal/ledger"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// editing are the options that commands share which edit the files.
type editing struct {
	yes, draft, withPending, weaken bool

	before   func() (undo func() error, err error) // done after the answer, when the files are written
	question string                                // in place of the usual one
	answer   string                                // what must be typed; "": yes
}

func (e *editing) flags(c *cobra.Command) *cobra.Command {
	c.Flags().BoolVar(&e.yes, "yes", false, "enact without asking")
	c.Flags().BoolVar(&e.draft, "draft", false, "only edit the files; review and enact take it from there")
	weakenFlag(c, &e.weaken)
	c.Flags().BoolVar(&e.withPending, "with-pending", false, "enact all edits that are pending along with this one")
	return c
}

// edit brings an edit of the files to its end: it prints the review of it, asks,
// writes and enacts it, and nothing but it. With --draft it only writes. told is what
// was edited, in a few words.
func (a *app) edit(ctx context.Context, w *work.Work, old, files work.Files, told string, opt *editing) error {
	e := work.Edit{Old: old, New: files}
	if opt.draft {
		return a.draft(ctx, w, e, told, opt)
	}
	if old.Equal(files) && w.Discard == nil && opt.before == nil && !opt.withPending {
		return a.saidAlready(ctx, w, files)
	}
	review := func() (*work.Review, error) { return w.ReviewEdit(ctx, e) }
	if opt.withPending {
		review = func() (*work.Review, error) { return w.Review(ctx, files) }
	}
	r, err := review()
	if err != nil {
		return err
	}
	if err := a.showReview(w, r); err != nil {
		return err
	}
	if len(r.Stopped()) > 0 {
		a.print.Note("\nnot done: %s; nothing was changed", r.Stopped()[0])
		return errNo
	}
	a.print.Note("")
	if err := a.confirmEdit(opt); err != nil {
		return err
	}
	if err := a.confirmWeaker(r, opt.yes, opt.weaken); err != nil {
		return err
	}
	written, beside, err := a.write(w, e, opt)
	if err != nil {
		return err
	}
	defer written.Done()
	err = a.enactEdit(ctx, w, e, r, func() {
		written.Done()
		a.print.Note("edited: %s", told)
	})
	if _, ok := errors.AsType[*work.NotBegunError](err); ok {
		return errors.Join(err, written.Undo(), beside())
	}
	return err
}

// saidAlready is the end of an edit that changes nothing in the files: it is in force, or what made it so is not enacted yet.
func (a *app) saidAlready(ctx context.Context, w *work.Work, files work.Files) error {
	r, err := w.Review(ctx, files)
	if err != nil {
		return err
	}
	if !r.IsEmpty() {
		return wrong("the files say so already, and are not enacted yet: ironbark review, ironbark enact")
	}
	a.print.Note("Nothing changes: it is so already.")
	return nil
}

// enactEdit enacts an edit that stands in the files. What only closes does not wait
// for anybody's enactment.
func (a *app) enactEdit(ctx context.Context, w *work.Work, e work.Edit, r *work.Review, begun func()) error {
	cut := func() error {
		if err := a.recordedLater(w.CutTo(ctx, e)); err != nil {
			return &work.NotBegunError{Why: err}
		}
		begun()
		a.print.Note("done: what it closes is closed at once; what else is to be done waits: ironbark status")
		return nil
	}
	if r.Unfinished != nil && w.ClosesOnly(r) {
		return cut()
	}
	err := a.enact(ctx, w, r, begun)
	_, busy := errors.AsType[*ledger.BusyError](err)
	_, clock := errors.AsType[*ledger.ClockError](err)
	_, record := errors.AsType[*ledger.RecordError](err)
	if (busy || clock || record) && w.ClosesOnly(r) {
		return cut()
	}
	return err
}

// draft puts an edit into the files, and no more.
func (a *app) draft(ctx context.Context, w *work.Work, e work.Edit, told string, opt *editing) error {
	r, err := w.Review(ctx, e.New)
	if err != nil {
		return err
	}
	brought := a.brought(ctx, w, e, r)
	written, _, err := a.write(w, e, opt)
	if err != nil {
		return err
	}
	written.Done()
	a.print.Note("edited: %s", told)
	a.print.Findings(brought, "ironbark findings --draft --all")
	a.print.Note("nothing is enacted yet: ironbark review, ironbark enact")
	return nil
}

// brought lists what an edit of the files brings about that is seldom meant.
func (a *app) brought(ctx context.Context, w *work.Work, e work.Edit, r *work.Review) (list []findings.Finding) {
	old := map[string]bool{}
	if before, err := w.Review(ctx, e.Old); err == nil {
		for _, f := range before.Findings {
			old[f.What()] = true
		}
	}
	for _, f := range r.Findings {
		if f.New && !old[f.What()] {
			list = append(list, f.Finding)
		}
	}
	return list
}

// write puts an edit into the files, and what goes with it beside them: beside takes
// that away again.
func (a *app) write(w *work.Work, e work.Edit, opt *editing) (written *work.Written, beside func() error, err error) {
	beside = func() error { return nil }
	if opt.before != nil {
		if beside, err = opt.before(); err != nil {
			return nil, nil, err
		}
	}
	if written, err = w.Folder.Apply(e); err != nil {
		return nil, nil, errors.Join(err, beside())
	}
	return written, beside, nil
}

func (a *app) confirmEdit(opt *editing) error {
	if opt.question == "" {
		return a.confirm(opt.yes, "Write this into the files and enact it?")
	}
	return a.confirmWord(opt.yes, opt.question, opt.answer)
}

// weakenFlag is the option that says yes to guarantees that speak of less.
func weakenFlag(c *cobra.Command, weaken *bool) {
	c.Flags().BoolVar(weaken, "weaken", false, "beside --yes: also where guarantees speak of less from then on")
}

// confirmWeaker asks for a yes of its own where guarantees speak of less, and a door is there.
func (a *app) confirmWeaker(r *work.Review, yes, weaken bool) error {
	if !slices.ContainsFunc(r.Weakened, func(u exposure.Uncovered) bool { return u.Door }) || yes && weaken {
		return nil
	}
	if yes || !a.terminal {
		a.print.Note("not done: guarantees would speak of less, and that wants a yes of its own: --yes --weaken; nothing was changed")
		return errUnconfirmed
	}
	return a.ask("Guarantees will speak of less (part 3). Is that meant? [yes/no]", "y", "yes")
}

func (a *app) showReview(w *work.Work, r *work.Review) error {
	before, after := a.reviewPhrasing(r)
	if a.json {
		doc := view.ReviewJSON(r, before, after)
		a.review = &doc
		return nil
	}
	a.print.Review(r, before, after)
	return nil
}

func (a *app) reviewPhrasing(r *work.Review) (before, after *view.Phrasing) {
	b, f := r.States()
	before, after = view.NewPhrasing(b, a.clock.Now()), view.NewPhrasing(f, a.clock.Now())
	before.Numbered(r.Meanings)
	after.Numbered(r.Meanings)
	return before, after
}

// machinesTime is how long an enactment waits for its machines.
const machinesTime = 10 * time.Minute

// enact does what a review told, with a line for each step. begun is called once it
// has begun.
func (a *app) enact(ctx context.Context, w *work.Work, r *work.Review, begun func()) error {
	a.continues() // an enactment that has begun is finished
	a.remember(w.Folder.Dir)
	tell := func(e work.Event) {
		if begun != nil {
			begun()
			begun = nil
		}
		if e.Failure != nil {
			a.print.Note("  %*d/%d  %s: %s %v", len(fmt.Sprint(e.Of)), e.Done, e.Of, e.Text, a.print.Bad("failed:"), e.Failure)
			return
		}
		a.print.Note("  %*d/%d  %s", len(fmt.Sprint(e.Of)), e.Done, e.Of, e.Text)
	}
	w.Uploading = func(name string, size int64) (io.Writer, func()) { return a.progress(name, 0, size) }
	restore, err := a.drained(ctx, w, r.Leaving(), "an enactment stops it or takes it away")
	if err != nil {
		return &work.NotBegunError{Why: errors.Join(err, restore())}
	}
	failed := errors.Join(w.Enact(ctx, r, tell), restore())
	if partly := (*work.PartlyDoneError)(nil); failed != nil && !errors.As(failed, &partly) {
		return failed
	}
	failed = errors.Join(failed, a.acceptEnacted(ctx, w, r))
	troubled := false
	err = w.Await(ctx, r, machinesTime, func(name string, m driver.Machine) {
		text := fmt.Sprintf("%s is %s", name, m.State)
		switch {
		case m.State == driver.Stuck:
			text = a.print.Bad(text) + ": ironbark console " + name + " --log shows why"
		case m.Failed != "":
			text += ", but its setup " + a.print.Bad(m.Failed+" failed") + ": ironbark show machine " + name
		}
		troubled = troubled || m.State == driver.Stuck || m.Failed != ""
		a.print.Note("       %s", text)
	})
	if err != nil {
		return err
	}
	if failed != nil {
		return failed
	}
	if pending, err := w.Pending(ctx, r.Files); err != nil || pending {
		a.print.Note("done: this is in force; other edits are pending (ironbark review, ironbark enact)")
	} else {
		a.print.Note("done: the site is as the files say")
	}
	if troubled {
		return errFailed
	}
	return nil
}

// readBoth reads the files, and what they say.
func readBoth(w *work.Work) (work.Files, *estate.Estate, error) {
	files, err := w.Folder.Read()
	if err != nil {
		return nil, nil, err
	}
	e, err := files.Estate()
	return files, e, err
}

// reviewed reviews the files as they are.
func reviewed(ctx context.Context, w *work.Work) (*work.Review, error) {
	files, err := w.Folder.Read()
	if err != nil {
		return nil, err
	}
	return w.Review(ctx, files)
}

func (a *app) reviewCommand() *cobra.Command {
	var match bool
	var proofs string
	b := &back{}
	c := &cobra.Command{
		Use: "review", Short: "Show what enacting the files would do", Args: noArgs,
		Long: "Review tells what enacting the files would do: what is made, altered and removed; the difference in\n" +
			"exposure; findings and guarantees; cost and quota. It changes nothing.\n\n" +
			"With --back-to it tells what going back to what was enacted at a moment would do; with --drop-drafts, which edits would\n" +
			"be given up. --proof writes the guarantees as questions that any SMT solver answers: unsat where one holds.\n\n" +
			"Exit status 3: something stops the enactment, or, with --must-match, site and files differ.",
		RunE: a.with(func(ctx context.Context, w *work.Work, _ []string) error {
			if b.wanted() {
				return a.reviewBack(ctx, w, b)
			}
			r, err := reviewed(ctx, w)
			if err != nil {
				return err
			}
			if proofs != "" {
				if err := a.writeProofs(r, proofs); err != nil {
					return err
				}
			}
			if r.IsEmpty() && !a.json {
				a.print.Line("Nothing to enact: the site is as the files say.")
				return nil
			}
			if err := a.showReview(w, r); err != nil {
				return err
			}
			if a.json {
				if err := a.print.JSON(a.review); err != nil {
					return err
				}
			}
			if err := a.told(r); err != nil || !match || r.IsNoOp() {
				return err
			}
			return errNo
		}),
	}
	b.flags(c)
	c.Flags().StringVar(&proofs, "proof", "", "write each guarantee into this folder in SMT-LIB, so that any solver can check it")
	c.Flags().BoolVar(&match, "must-match", false, "exit with 3 if the site is not as the files say")
	return c
}

// told tells what stops a review from being enacted.
func (a *app) told(r *work.Review) error {
	if stopped := r.Stopped(); len(stopped) > 0 {
		a.print.Note("\nthis cannot be enacted: %s", strings.Join(stopped, "; "))
		return errNo
	}
	return nil
}

func (a *app) enactCommand() *cobra.Command {
	var yes, weaken bool
	var request string
	b := &back{}
	c := &cobra.Command{
		Use: "enact", Short: "Make the site as the files say", Args: noArgs,
		Long: "Make the site as the files say. With --back-to the files go back to what was enacted at a moment, which is an edit like\n" +
			"any other: other edits stay pending. With --drop-drafts the edits that are pending are given up, and nothing else.\n" +
			"Where the estate asks for it (edits: in estate.yaml), what opens anything, weakens a guarantee or gives rights waits for the\n" +
			"approval of others, with exit status 5; --request enacts it then.",
		RunE: a.with(func(ctx context.Context, w *work.Work, _ []string) error {
			switch {
			case b.wanted() && request != "":
				return usage("--request stands alone: it is one edit")
			case request != "":
				return a.enactAsked(ctx, w, request, &editing{yes: yes, weaken: weaken})
			case b.wanted():
				return a.goBack(ctx, w, b, &editing{yes: yes, weaken: weaken})
			}
			r, err := reviewed(ctx, w)
			if err != nil {
				return err
			}
			if r.IsEmpty() {
				a.print.Line("Nothing to enact: the site is as the files say.")
				return nil
			}
			if err := a.showReview(w, r); err != nil {
				return err
			}
			if stopped := r.Stopped(); len(stopped) > 0 {
				a.print.Note("\nnot done: %s; nothing was changed", strings.Join(stopped, "; "))
				return errNo
			}
			a.print.Note("")
			if err := a.confirm(yes, "Enact this?"); err != nil {
				return err
			}
			if err := a.confirmWeaker(r, yes, weaken); err != nil {
				return err
			}
			return a.enact(ctx, w, r, nil)
		}),
	}
	c.Flags().BoolVar(&yes, "yes", false, "enact without asking")
	c.Flags().StringVar(&request, "request", "", "enact this edit that was asked for and approved, such as e41, and nothing else")
	a.drainFlag(c)
	weakenFlag(c, &weaken)
	b.flags(c)
	return c
}

var stateShort = map[sentence.Verb]string{
	sentence.VerbAllow: "Allow a service to be reached, or machines to call one outside", sentence.VerbDeny: "Block flows, inward or outward, whatever else allows them",
	sentence.VerbForward: "Publish one machine at a port of a front", sentence.VerbSpread: "Publish several machines at a port of a front",
	sentence.VerbRoute: "Let people reach machines through a bastion", sentence.VerbPermit: "Let people open services for a while",
	sentence.VerbNever: "Guarantee that something stays closed", sentence.VerbAlways: "Guarantee that something stays open",
}

var stateExample = map[sentence.Verb]string{
	sentence.VerbAllow:   "allow https from everywhere to gauge-web-1\n  ironbark allow https from role=web to internet",
	sentence.VerbDeny:    "deny any from 192.0.2.0/24 to all because \"abuse report 17\"",
	sentence.VerbForward: "forward pier tcp/8022 to gauge-web-1 on ssh",
	sentence.VerbSpread:  "spread pier https over role=web on https from everywhere tested by http /healthz",
	sentence.VerbRoute:   "route ssh, rdp to all via beacon for ops",
	sentence.VerbPermit:  "permit ops to open ssh to 'gauge-*' from everywhere up to 4h",
	sentence.VerbNever:   "never ssh, rdp from internet to all standing",
	sentence.VerbAlways:  "always https from office to pier",
}

// stateCommand is the command that states sentences of one verb.
func (a *app) stateCommand(v sentence.Verb) *cobra.Command {
	opt := &editing{}
	c := &cobra.Command{
		Use: v.String() + " …", Short: stateShort[v], Example: "  ironbark " + stateExample[v],
		Long:              stateShort[v] + ".\n\nThe words are one sentence of the language; docs/language.md tells it.",
		ValidArgsFunction: a.completeSentence,
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			s, err := a.typed(v.String(), args)
			if err != nil {
				return err
			}
			if v == sentence.VerbDeny {
				w.Site.ForClosing()
			}
			old, err := w.Folder.Read()
			if err != nil {
				return err
			}
			files, list, err := w.State(ctx, old, s)
			if err != nil {
				if old, files, list, err = w.StateEnacted(ctx, old, s, err); err != nil {
					return err
				}
			}
			var told []string
			for _, one := range list {
				told = append(told, one.String())
			}
			if err := a.edit(ctx, w, old, files, "said “"+strings.Join(told, "”, “")+"”", opt); err != nil || opt.draft || a.json {
				return err
			}
			a.nextAfterSaying(ctx, w, list[0])
			return nil
		}),
	}
	return opt.flags(c)
}

// lineNumber reports whether a word is a line: 7, or team.rules:7.
func lineNumber(word string) bool {
	_, err := strconv.Atoi(word[strings.LastIndex(word, ":")+1:])
	return err == nil
}

func (a *app) retractCommand() *cobra.Command {
	opt := &editing{}
	c := &cobra.Command{
		Use: "retract SENTENCE|LINE", Short: "Retract a sentence",
		Long:    "Retract a sentence: by its words, or by the line it stands on in estate.rules (or FILE:LINE).",
		Example: "  ironbark retract allow https from everywhere to gauge-web-1\n  ironbark retract 7",
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			if len(args) == 0 {
				return usage("retract needs a sentence or the line that it stands on")
			}
			w.Site.ForClosing()
			old, err := w.Folder.Read()
			if err != nil {
				return err
			}
			files, s, err := old.Retract(args)
			if err == nil && len(args) == 1 && lineNumber(args[0]) {
				err = w.CheckLine(ctx, old, s)
			}
			if err != nil {
				return err
			}
			return a.edit(ctx, w, old, files, fmt.Sprintf("took back “%s”", s.Sentence), opt)
		}),
	}
	return opt.flags(c)
}
