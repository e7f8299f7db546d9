package work

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"ironbark/internal/opening"
	"ironbark/internal/sentence"
	"ironbark/internal/site"
)

// trusted reads a report, and shuts the openings of which nobody can tell that they should be open:
// those whose end was altered in the store or in the tables, and those that have more
// time left than their permit allows, because they were opened under a clock that ran
// ahead. It tells of each. Where they cannot be shut the report stays as it is.
func (w *Work) trusted(ctx context.Context, read func(context.Context) (*site.Report, error)) (*site.Report, error) {
	r, err := read(ctx)
	if err != nil {
		return nil, err
	}
	why := doubtful(r, w.Clock.Now().Add(-r.Behind))
	if len(why) == 0 {
		return r, nil
	}
	for _, id := range slices.Sorted(maps.Keys(why)) {
		text := why[id]
		err := w.Site.End(ctx, w.Person, text, id)
		if unrecorded, ok := errors.AsType[*site.UnrecordedError](err); ok {
			text += fmt.Sprintf("; it was shut, and that could not be recorded: %v", unrecorded.Why)
		} else if err != nil {
			text += fmt.Sprintf("; it could not be shut: %v", err)
		} else {
			text += "; it was shut"
		}
		if w.Told != nil {
			w.Told(fmt.Sprintf("opening %d: %s", id, text))
		}
	}
	return read(ctx)
}

// doubtful lists such openings by number, and why. clock is the computer's own.
func doubtful(r *site.Report, clock time.Time) map[int64]string {
	why := map[int64]string{}
	for id, text := range r.Altered {
		why[id] = text
	}
	if r.Behind == 0 {
		return why
	}
	for _, o := range r.Openings {
		if !o.Ended.IsZero() || o.Waits() {
			continue
		}
		from := clock
		if !o.Words.Starting.IsZero() && o.Begin.After(clock) { // a window that was asked for ahead of time
			from = o.Begin
		}
		for _, p := range o.Parts {
			if limit, ok := permitted(p); ok && p.End.Sub(from) > limit {
				why[o.ID] = fmt.Sprintf("it has %s left, and its permit allows %s: it was opened under a clock that ran ahead", sentence.DurationOf(p.End.Sub(from)), sentence.DurationOf(limit))
			}
		}
	}
	return why
}

// permitted is the longest time that the permit of a part allows.
func permitted(p opening.Part) (time.Duration, bool) {
	s, err := sentence.ParseArgs([]string{p.Permit}, fileTime)
	m, ok := s.(sentence.Permit)
	return m.UpTo.Length(), err == nil && ok
}
