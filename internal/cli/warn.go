package cli

import (
	"context"
	"fmt"
	"os"
	"time"

	"ironbark/internal/cli/view"
	"ironbark/internal/work"
)

// warnings are how long before the end of what let a session in its terminal is told.
var warnings = []time.Duration{5 * time.Minute, time.Minute}

// nextWarning returns the next moment at which somebody is to be warned of an end, and
// false where none is left.
func nextWarning(now, end time.Time) (time.Time, bool) {
	for _, ahead := range warnings {
		if at := end.Add(-ahead); at.After(now) {
			return at, true
		}
	}
	return time.Time{}, false
}

// warn tells on the terminal of a session, five minutes and one minute ahead, that what let
// it in ends. An end that moved meanwhile is told when it is near. It returns when ctx ends,
// and where there is no terminal or the clock stands still, at once.
func (a *app) warn(ctx context.Context, w *work.Work, opening int64, machine string) {
	if opening <= 0 || a.print.ErrWidth == 0 || os.Getenv("IRONBARK_CLOCK") != "" {
		return
	}
	for {
		end, held := a.endOf(ctx, w, opening)
		at, more := nextWarning(a.clock.Now(), end)
		if !held || !more {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(at.Sub(a.clock.Now())):
		}
		if now, held := a.endOf(ctx, w, opening); held && now.Equal(end) {
			a.print.NoteInSession(fmt.Sprintf("ironbark: this session with %s ends in %s, at %s: ironbark extend %d for 1h", machine, view.Left(end, a.clock.Now()), view.Moment(end, a.clock.Now()), opening))
		}
	}
}

// endOf is the end of an opening that holds.
func (a *app) endOf(ctx context.Context, w *work.Work, id int64) (time.Time, bool) {
	r, err := w.Site.HeldOf(ctx, id)
	if err != nil {
		return time.Time{}, false
	}
	for _, o := range r.Openings {
		if o.ID == id && o.Active(a.clock.Now()) {
			return o.End(), true
		}
	}
	return time.Time{}, false
}
