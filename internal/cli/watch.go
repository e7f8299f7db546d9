package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"reflect"
	"slices"
	"strings"
	"time"

	"golang.org/x/term"

	"ironbark/internal/cli/view"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
	"ironbark/internal/site"
	"ironbark/internal/work"
)

// watchTime is how often a list is drawn anew, and looked at whether it changed.
const watchTime = time.Second

// watch keeps the list of openings as it is, until it is ended.
func (a *app) watch(ctx context.Context, w *work.Work, q *openingsAsked) error {
	if a.json || !a.terminal || !a.print.ToTerminal {
		return a.watchLines(ctx, w, q)
	}
	return a.watchScreen(ctx, w, q, a.in.(*os.File), a.print.Out.(*os.File)) // a terminal is one
}

// watchLines prints the list, and then a line for each change.
func (a *app) watchLines(ctx context.Context, w *work.Work, q *openingsAsked) error {
	ctx, stop := untilSignal(ctx)
	defer stop()
	var before view.OpeningList
	first := true
	for last := ""; ; {
		stamp, err := w.Site.Stamp(ctx)
		if err == nil && (first || stamp != last || turned(before, before.State.Clock(a.clock.Now()))) {
			var l view.OpeningList
			if l, err = a.openings(ctx, w, q); err == nil {
				err = a.watchedLines(l, before, first)
				before, last, first = l, stamp, false
			}
		}
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		if !goOn(ctx) {
			return nil
		}
	}
}

// turned reports whether any opening of a list has begun or ended by a moment.
func turned(l view.OpeningList, now time.Time) bool {
	return slices.ContainsFunc(l.List, func(o opening.Opening) bool { return o.StateAt(l.Now) != o.StateAt(now) })
}

// watchedLines prints a list, or how it differs from the one before.
func (a *app) watchedLines(l, before view.OpeningList, first bool) error {
	if a.json {
		if !first && sameList(openingsJSON(l), openingsJSON(before)) { // an end at the site comes before its record, and neither alters the other's list
			return nil
		}
		return a.print.JSONLine(openingsJSON(l))
	}
	if first {
		if len(l.List) == 0 {
			a.print.Line("Nothing is open for a while.")
			return nil
		}
		a.print.Openings(l)
		return nil
	}
	for _, o := range l.List {
		if what := became(o, l.Now, before); what != "" {
			a.print.Line("%s  %s  %d  %s, %s, by %s because %q", view.Moment(l.Now, l.Now), what, o.ID, o.Brief(),
				view.OpeningState(o, l.Now, l.Overridden[o.ID]), o.Person, o.Words.Because)
		}
	}
	for _, o := range before.List {
		if !slices.ContainsFunc(l.List, func(n opening.Opening) bool { return n.ID == o.ID }) {
			how := "closed"
			if !o.Active(l.Now) {
				how = "over"
			}
			a.print.Line("%s  %s  %d  %s", view.Moment(l.Now, l.Now), how, o.ID, o.Brief())
		}
	}
	return nil
}

// sameList reports whether two documents list the same, but for the time that is left.
func sameList(a, b openingsDoc) bool {
	return slices.EqualFunc(a.Openings, b.Openings, func(x, y openingDoc) bool {
		x.Left, y.Left = 0, 0
		return reflect.DeepEqual(x, y)
	})
}

// became tells in a word what became of an opening since a list; "" where nothing did.
func became(o opening.Opening, now time.Time, before view.OpeningList) string {
	var was opening.Opening // never open, where it was not there
	if i := slices.IndexFunc(before.List, func(b opening.Opening) bool { return b.ID == o.ID }); i >= 0 {
		was = before.List[i]
	}
	switch state := o.StateAt(now); {
	case was.ID != 0 && state == was.StateAt(before.Now):
		if was.Describe() != o.Describe() || len(was.Approvals) != len(o.Approvals) {
			return "changed"
		}
		return ""
	case state == opening.Waits:
		return "asked"
	case state == opening.Scheduled:
		return "scheduled"
	case state != opening.Over:
		return "opened"
	case o.Ended.IsZero(): // it is listed as long as it owes an account
		return "over"
	}
	return "closed"
}

// watching is the list on a terminal.
type watching struct {
	a      *app
	w      *work.Work
	q      *openingsAsked
	shown  view.Watched
	stamp  string
	chosen int64                 // by number, so that it stays the one as others come and go
	asked  func(context.Context) // what y does
}

func (a *app) watchScreen(ctx context.Context, w *work.Work, q *openingsAsked, in, out *os.File) (err error) {
	before, err := term.MakeRaw(int(in.Fd()))
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, term.Restore(int(in.Fd()), before)) }()
	ctx, stop := untilSignal(ctx)
	defer stop()
	x := &watching{a: a, w: w, q: q}
	w.Told = func(text string) { x.shown.Message = text }
	keys := make(chan string)
	go readKeys(in, keys)
	screen := a.print.EnterScreen()
	defer screen.Leave()
	tick := time.NewTicker(watchTime)
	defer tick.Stop()
	for {
		x.look(ctx)
		width, height, err := term.GetSize(int(out.Fd()))
		if err != nil || width == 0 || height == 0 { // a terminal that does not know
			width, height = 80, 24
		}
		screen.Draw(a.print.Watched(x.shown, width, height), width, height)
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		case key, more := <-keys:
			if !more || x.key(ctx, key) {
				return nil
			}
		}
	}
}

// readKeys hands over what is typed, key by key; arrows as up and down.
func readKeys(in io.Reader, keys chan<- string) {
	defer close(keys)
	buf := make([]byte, 64)
	for {
		n, err := in.Read(buf)
		if err != nil {
			return
		}
		for text := string(buf[:n]); text != ""; {
			key := text[:1]
			for seq, name := range map[string]string{"\x1b[A": "up", "\x1bOA": "up", "\x1b[B": "down", "\x1bOB": "down"} {
				if strings.HasPrefix(text, seq) {
					key = name
					text = text[len(seq)-1:]
				}
			}
			text = text[1:]
			keys <- key
		}
	}
}

// look reads the list where anything was written since, and lets go what has ended.
func (x *watching) look(ctx context.Context) {
	stamp, err := x.w.Site.Stamp(ctx)
	now := x.a.clock.Now()
	if err == nil && (stamp != x.stamp || x.shown.State == nil) {
		var l view.OpeningList
		if l, err = x.a.openings(ctx, x.w, x.q); err == nil {
			x.shown.OpeningList, x.shown.Name, x.stamp = l, l.State.Estate.Name, stamp
		}
	}
	x.shown.Trouble = ""
	if err != nil {
		x.shown.Trouble = err.Error()
		x.stamp = ""
	}
	if x.shown.State == nil {
		return
	}
	x.shown.Now = x.shown.State.Clock(now)
	x.shown.List = slices.DeleteFunc(slices.Clone(x.shown.List), func(o opening.Opening) bool { return !o.Active(x.shown.Now) && !o.Owes() })
	i := slices.IndexFunc(x.shown.List, func(o opening.Opening) bool { return o.ID == x.chosen })
	if i < 0 {
		i = min(x.shown.Selected, max(len(x.shown.List)-1, 0))
	}
	x.choose(i)
}

func (x *watching) choose(i int) {
	x.shown.Selected = max(min(i, len(x.shown.List)-1), 0)
	if len(x.shown.List) > 0 {
		x.chosen = x.shown.List[x.shown.Selected].ID
	}
}

// key does what a key stands for, and reports whether it ends the list.
func (x *watching) key(ctx context.Context, key string) (end bool) {
	asked := x.asked
	x.asked = nil
	switch {
	case key == "q" || key == "\x03" || key == "\x04":
		return true
	case asked != nil && key == "y":
		asked(ctx)
		return false
	case asked != nil:
		x.shown.Message = "nothing was done"
		return false
	case key == "up" || key == "k":
		x.choose(x.shown.Selected - 1)
	case key == "down" || key == "j":
		x.choose(x.shown.Selected + 1)
	case len(x.shown.List) == 0:
	case key == "c" || key == "e":
		o := x.shown.List[x.shown.Selected]
		what := o.Brief()
		if key == "c" {
			x.shown.Message = fmt.Sprintf("close %d, %s? y closes it", o.ID, what)
			x.asked = func(ctx context.Context) { x.close(ctx, o.ID) }
		} else {
			x.shown.Message = fmt.Sprintf("extend %d, %s, until %s? y extends it", o.ID, what, view.Moment(o.End().Add(time.Hour), x.shown.Now))
			x.asked = func(ctx context.Context) { x.extend(ctx, o) }
		}
		return false
	}
	x.shown.Message = ""
	return false
}

func (x *watching) close(ctx context.Context, id int64) {
	x.w.Site.ForClosing()
	c, err := x.w.CloseOne(ctx, id)
	unrecorded, later := errors.AsType[*site.UnrecordedError](err)
	switch {
	case later:
		x.shown.Message = unrecorded.Error() + "; " + view.Advice(unrecorded.Advice())
	case err != nil:
		x.shown.Message = "not closed: " + err.Error()
	case len(c.Openings) == 0:
		x.shown.Message = fmt.Sprintf("opening %d is closed already", id)
	default:
		x.shown.Message = fmt.Sprintf("closed opening %d", id)
		for _, s := range c.Sessions {
			x.shown.Message += "; ended the session " + view.Session(s, x.shown.Now)
		}
	}
}

func (x *watching) extend(ctx context.Context, o opening.Opening) {
	granted, err := x.w.Extend(ctx, o.ID, sentence.Open{Until: o.End().Add(time.Hour), Because: o.Words.Because})
	switch {
	case err != nil:
		x.shown.Message = "not extended: " + err.Error()
	case granted.Opening.Waits():
		x.shown.Message = fmt.Sprintf("request %d waits for %s of %s", granted.Opening.ID, view.Count(granted.Opening.Waiting.Needs, "approval"), strings.Join(granted.Opening.Waiting.From, " or "))
	default:
		x.shown.Message = fmt.Sprintf("extended opening %d until %s", o.ID, view.Moment(granted.Opening.End(), x.shown.Now))
	}
}
