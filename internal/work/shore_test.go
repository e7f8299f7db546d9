package work

import (
	"errors"
	"maps"
	"slices"
	"time"

	"ironbark/internal/driver"
	"ironbark/internal/ledger"
	"ironbark/internal/opening"
	"ironbark/internal/site"
)

// wish is one thing that somebody does.
type wish struct {
	do      string // open, emergency, extend, shorten, close, close all, approve, decline, enact, wait
	who     string
	machine string
	ahead   time.Duration // before it begins
	length  time.Duration
	id      int64
	narrow  bool // enact the narrow rules
}

// outcome is what a wish came to.
type outcome struct {
	id       int64
	end      time.Time
	waits    bool
	ids      []int64 // that were closed
	err      error
	moments  []time.Time // that the clock showed meanwhile
	from, to int         // steps of all people
}

// shoreState is the model: what there is if one thing is done after the other.
type shoreState struct {
	held   map[int64]heldOne
	gone   map[int64]bool   // closed by somebody
	owed   map[int64]string // who owes an account of an emergency
	narrow bool
}

type heldOne struct {
	who, machine string
	begin, end   time.Time
	length       time.Duration // of a request
	starting     time.Time     // of one that was asked for ahead of time
	waits, emerg bool
	shortened    int // the step at which somebody was told so
}

func (s shoreState) clone() shoreState {
	return shoreState{maps.Clone(s.held), maps.Clone(s.gone), maps.Clone(s.owed), s.narrow}
}

func (s shoreState) active(id int64, now time.Time) (heldOne, bool) {
	h, known := s.held[id]
	return h, known && now.Before(h.end)
}

var groups = map[string][]string{"mara": {"ops"}, "ilse": {"ops", "leads"}, "tom": {"crew"}, "lena": {"leads"}}

func in(who, group string) bool { return slices.Contains(groups[who], group) }

// may tells whether somebody may open a machine for a length, and whether that needs approval.
func (s shoreState) may(who, machine string, length time.Duration, emergency bool) (may, approval bool) {
	ops := in(who, "ops") && length <= 3*time.Hour && (!s.narrow || machine == "m-1")
	switch {
	case emergency:
		return ops && !s.narrow, false
	case ops:
		return true, false
	}
	return in(who, "crew") && length <= 2*time.Hour && !s.narrow, true
}

// after tells what a wish comes to at a moment, if nothing else is done meanwhile; ok is false
// where its outcome is another one. What is there is looked at then or later.
func (s shoreState) after(w wish, o outcome, now, seen time.Time) (next shoreState, ok bool) {
	next = s.clone()
	h, active := s.active(w.id, now)
	refused := o.err != nil
	switch w.do {
	case "open", "emergency":
		emergency := w.do == "emergency"
		may, approval := s.may(w.who, w.machine, w.length, emergency)
		begin := now
		if w.ahead > 0 {
			begin = o.moments[0].Add(w.ahead)
		}
		end := begin.Add(w.length)
		same, mine := int64(0), heldOne{}
		for id, one := range s.held {
			if _, active := s.active(id, seen); active && one.who == w.who && one.machine == w.machine && one.emerg == emergency && (one.waits || w.ahead == 0 && !one.begin.After(now)) {
				same, mine = id, one
			}
		}
		for id, who := range s.owed {
			may = may && !(emergency && who == w.who && id != same)
		}
		switch {
		case !may, w.ahead > 0 && !begin.After(now), mine.waits, same > 0 && end.Sub(mine.begin) > 3*time.Hour:
			return next, refused
		case refused, o.waits != approval, same > 0 && !approval && same != o.id:
			return next, false
		}
		if _, known := s.held[o.id]; known && (same == 0 || approval) {
			return next, false
		}
		one := heldOne{who: w.who, machine: w.machine, begin: begin, end: end, waits: approval, emerg: emergency, length: w.length}
		if w.ahead > 0 {
			one.starting = begin
		}
		if same > 0 && !approval {
			one.begin = mine.begin
		}
		if approval {
			one.end = now.Add(opening.LapseTime)
		}
		if emergency {
			next.owed[o.id] = w.who
		}
		next.held[o.id] = one
		return next, o.end.Equal(one.end)
	case "extend":
		end := now.Add(w.length)
		if !active || h.waits || h.who != w.who || h.begin.After(now) || end.Before(h.end) || end.Sub(h.begin) > 3*time.Hour {
			return next, refused
		}
		switch may, approval := s.may(w.who, h.machine, end.Sub(h.begin), h.emerg); {
		case !may:
			return next, refused
		case approval: // it goes on until its own end, and the rest waits
			h.waits, h.end, h.length = true, now.Add(opening.LapseTime), w.length
			next.held[o.id] = h
			return next, !refused && o.waits && o.end.Equal(h.end) && o.id != w.id
		}
		h.end = end
	case "shorten":
		end := o.moments[0].Add(w.length)
		same := !refused && end.Equal(h.end) && o.from <= h.shortened // of two who shorten to the same at once, both are told so
		if !active || !end.After(now) || h.waits || h.who != w.who && !in(w.who, "leads") || !end.Before(h.end) && !same {
			return next, refused
		}
		h.end, h.shortened = end, o.to
	case "close", "close all":
		var want []int64
		for id, one := range s.held {
			if _, active := s.active(id, now); active && (w.do == "close all" || id == w.id) {
				if want = append(want, id); one.who != w.who && !in(w.who, "leads") {
					return next, refused
				}
			}
		}
		for _, id := range want {
			delete(next.held, id)
			next.gone[id] = true
		}
		for _, id := range o.ids { // of two who close the same at once, both are told that it is closed
			if !slices.Contains(want, id) && !s.gone[id] {
				return next, false
			}
		}
		return next, !refused && !slices.ContainsFunc(want, func(id int64) bool { return !slices.Contains(o.ids, id) })
	case "approve":
		if !active || !h.waits || h.who == w.who || !in(w.who, "leads") {
			return next, refused
		}
		if may, _ := s.may(h.who, h.machine, h.length, false); !may {
			return next, refused
		}
		h.waits, h.begin, h.end = false, now, now.Add(h.length)
		if !h.starting.IsZero() { // the window stays where it was asked for
			h.end = h.starting.Add(h.length)
		}
		if h.starting.After(now) {
			h.begin = h.starting
		}
		if !h.end.After(now) {
			return next, refused
		}
	case "decline":
		if !active || !h.waits || h.who == w.who || !in(w.who, "leads") {
			return next, refused
		}
		delete(next.held, w.id)
		next.gone[w.id] = true
		return next, !refused
	case "enact":
		next.narrow = w.narrow
		for id, one := range s.held {
			may, _ := next.may(one.who, one.machine, 0, one.emerg)
			if !may {
				delete(next.held, id)
				next.gone[id] = true
			}
		}
		return next, !refused
	case "wait":
		return next, true
	}
	next.held[w.id] = h
	return next, !refused && o.id == w.id && o.waits == h.waits && o.end.Equal(h.end)
}

// passing tells why what somebody was refused for does not tell of the state: something else
// went on, and they are to try again.
func passing(err error) bool {
	unopened := (*site.NotOpenedError)(nil)
	notBegun := (*NotBegunError)(nil)
	return errors.Is(err, ledger.ErrUnfinished) || errors.Is(err, ledger.ErrChanged) || errors.As(err, &notBegun) ||
		errors.As(err, &unopened) && unopened.Back == nil && errors.Is(err, driver.ErrShut)
}

// explained looks for an order of what was done, each at a moment between its beginning and its end,
// that comes to what is there now.
func explained(s shoreState, wishes []wish, outcomes []outcome, left []int, is func(shoreState) bool) bool {
	if len(left) == 0 {
		return is(s)
	}
	for i, at := range left {
		if slices.ContainsFunc(left, func(other int) bool { return outcomes[other].to < outcomes[at].from }) {
			continue // that one was over before this one began
		}
		rest := slices.Delete(slices.Clone(left), i, i+1)
		late := !outcomes[at].end.IsZero() && !outcomes[at].end.After(outcomes[at].moments[len(outcomes[at].moments)-1])
		if passing(outcomes[at].err) || late { // what was over before it was told is as nothing
			if explained(s, wishes, outcomes, rest, is) {
				return true
			}
			if !late {
				continue
			}
		}
		for i, now := range outcomes[at].moments {
			for _, seen := range outcomes[at].moments[i:] {
				if next, ok := s.after(wishes[at], outcomes[at], now, seen); ok && explained(next, wishes, outcomes, rest, is) {
					return true
				}
			}
		}
	}
	return false
}
