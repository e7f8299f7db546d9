package work

import (
	"cmp"
	"context"
	"maps"
	"reflect"
	"slices"
	"time"

	"ironbark/internal/estate"
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/opening"
	"ironbark/internal/site"
)

// ExposureInterval is a time during which some flows to an administrative service were open: each of them for the whole of it, and neither just before
// nor just after by the same cause.
type ExposureInterval struct {
	Begin time.Time // not before the time asked for
	End   time.Time // not included; zero: still open
	By    string    // who caused it: of an opening, who opened it
	Entry exposure.Entry
	State *State // in which they began to be open, for names

	cause cause
}

// cause is what lets flows in, and by which door.
type cause struct {
	at       string // machine or gateway
	kind     flow.DoorKind
	via      string
	service  flow.Service // where clients call, for doors of fronts and bastions
	family   flow.Family
	opening  int64
	sentence string // empty for openings: those change when they are extended
}

func (c cause) compare(o cause) int {
	return cmp.Or(cmp.Compare(c.opening, o.opening), cmp.Compare(c.kind, o.kind), cmp.Compare(c.via, o.via), cmp.Compare(c.service, o.service),
		cmp.Compare(c.family, o.family), cmp.Compare(c.sentence, o.sentence))
}

// compare orders intervals by machine, beginning, cause, end and flows.
func (s ExposureInterval) compare(o ExposureInterval) int {
	return cmp.Or(cmp.Compare(s.cause.at, o.cause.at), s.Begin.Compare(o.Begin), s.cause.compare(o.cause), s.End.Compare(o.End),
		s.Entry.From.Runs()[0].Lo.Compare(o.Entry.From.Runs()[0].Lo), cmp.Compare(s.Entry.Services.Runs()[0].Lo, o.Entry.Services.Runs()[0].Lo))
}

// of returns the spell of some flows of it.
func (s ExposureInterval) of(e exposure.Entry) ExposureInterval {
	s.Entry = e
	return s
}

// Keep cuts an entry down to what is asked for, and reports whether anything is left.
type Keep func(exposure.Entry) (exposure.Entry, bool)

// Since lists when each administrative service was open from a moment until now, by machine or gateway and then by time. keep returns what of
// a state is asked for. At each moment the flows of the intervals that contain it are exactly those that were open: where a set of sources
// shrinks or grows, the flows that are concerned have a spell of their own.
func (w *Work) Since(ctx context.Context, since time.Time, keep func(*State) Keep) ([]ExposureInterval, error) {
	h := &history{since: since, open: map[string]map[cause][]ExposureInterval{}, keep: keep}
	var last *State
	var lastOf site.Moment
	until := func(end time.Time) {
		if last == nil {
			return
		}
		moments := append([]time.Time{lastOf.At}, last.Plan.Turns(lastOf.At)...)
		for i, at := range moments {
			next := end
			if i+1 < len(moments) && moments[i+1].Before(end) {
				next = moments[i+1]
			}
			if at.Before(end) && next.After(since) {
				h.look(last, lastOf, at)
			}
		}
	}
	err := w.Site.History(ctx, since, func(m site.Moment) (bool, error) {
		until(m.At)
		var e *estate.Estate
		var err error
		if last != nil && sameFiles(m.Files, lastOf.Files) {
			e = last.Estate
		} else if e, err = enactedThen(m.Files); err != nil {
			return false, err
		}
		last, err = pastOf(m, e)
		lastOf = m
		return true, err
	})
	if err != nil {
		return nil, err
	}
	until(w.Clock.Now().Add(time.Nanosecond))
	return h.done(), nil
}

// sameFiles reports whether two lists of files are one, not only alike.
func sameFiles(a, b []estate.File) bool {
	return len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0])
}

// history joins what is open at one moment after the other into intervals.
type history struct {
	since time.Time
	open  map[string]map[cause][]ExposureInterval // by machine or gateway; disjoint in their flows
	list  []ExposureInterval
	keep  func(*State) Keep

	base *flow.Plan // at which it looked last
	at   time.Time  // and when
	held map[int64]opening.Opening
}

// look notes what is open from a moment on, and ends what is not any more. Of an unchanged plan it looks at those machines alone at which an opening or a rule has
// begun, ended or changed since it looked last.
func (h *history) look(st *State, m site.Moment, at time.Time) {
	changed, all := h.changed(st, m, at)
	keep := h.keep(st)
	if all {
		v := exposure.NewView(st.Plan, at)
		seen := map[string][]exposure.Entry{}
		for e := range v.ReachAll() {
			if e.Administrative { // nothing else is told, and it is few of all
				seen[machineOf(st, e)] = append(seen[machineOf(st, e)], e)
			}
		}
		for name := range h.open {
			if seen[name] == nil {
				seen[name] = []exposure.Entry{}
			}
		}
		for name, list := range seen {
			h.lookAt(st, keep, name, list, at, m.Person)
		}
	} else if len(changed) > 0 {
		v := exposure.NewViewOf(st.Plan, at, changed...)
		for _, one := range changed {
			h.lookAt(st, keep, st.Plan.Machines[one].Name, v.Reach(one), at, m.Person)
		}
	}
	h.base, h.at, h.held = m.Base, at, map[int64]opening.Opening{}
	for _, o := range m.Openings {
		h.held[o.ID] = o
	}
}

// changed lists the machines at which something may have changed since it looked last; all: it may have at any.
func (h *history) changed(st *State, m site.Moment, at time.Time) (machines []int32, all bool) {
	turned := func(t time.Time) bool { return !t.IsZero() && t.After(h.at) && !t.After(at) }
	if h.base != m.Base || slices.ContainsFunc(m.Base.Doors, func(d flow.Published) bool { return turned(d.Until) }) {
		return nil, true
	}
	these := map[int32]bool{}
	mark := func(rules []flow.Rule, which func(flow.Rule) bool) {
		for _, r := range rules {
			if which(r) {
				for _, one := range r.To.Machines {
					these[one] = true
				}
			}
		}
	}
	any := func(flow.Rule) bool { return true }
	mark(st.Plan.Rules, func(r flow.Rule) bool { return turned(r.Begin) || turned(r.Until) })
	left := maps.Clone(h.held)
	for _, o := range m.Openings {
		if was, known := left[o.ID]; !known || !reflect.DeepEqual(was, o) {
			mark(o.Rules(m.Base), any)
			if known {
				mark(was.Rules(m.Base), any)
			}
		}
		delete(left, o.ID)
	}
	for _, gone := range left {
		mark(gone.Rules(m.Base), any)
	}
	return slices.Sorted(maps.Keys(these)), false
}

// lookAt is look at one machine or gateway.
func (h *history) lookAt(st *State, keep Keep, name string, reach []exposure.Entry, at time.Time, who string) {
	now := map[cause][]exposure.Entry{}
	for _, e := range reach {
		if e, asked := keep(e); asked && e.Administrative {
			c := cause{name, e.Door.Kind, e.Door.Via, e.Door.Service, e.Door.Family, e.Opening, e.Origin.Sentence}
			if e.Opening > 0 {
				c.sentence = ""
			}
			now[c] = append(now[c], beyond(e, now[c])...) // two interfaces of a machine have a door each
		}
	}
	before, open := h.open[name], map[cause][]ExposureInterval{}
	for c, was := range before {
		for _, s := range was {
			for _, rest := range beyond(s.Entry, now[c]) {
				h.end(s.of(rest), at)
			}
			for _, e := range now[c] {
				if b := boxOf(e).Intersect(boxOf(s.Entry)); !b.IsEmpty() {
					both := with(e, b)
					both.Origin = s.Entry.Origin // as it began: an opening's sentence changes when it is extended
					open[c] = append(open[c], s.of(both))
				}
			}
		}
	}
	for c, list := range now {
		for _, e := range list {
			for _, rest := range beyond(e, entriesOf(before[c])) {
				open[c] = append(open[c], ExposureInterval{Begin: at, By: cmp.Or(opener(st, e.Opening), who), Entry: rest, State: st, cause: c})
			}
		}
		open[c] = joined(open[c])
	}
	if h.open[name] = open; len(open) == 0 {
		delete(h.open, name)
	}
}

// machineOf names the machine or the gateway to which an entry leads.
func machineOf(st *State, e exposure.Entry) string {
	if e.Door.Machine < 0 {
		return e.Door.Via
	}
	return st.Plan.Machines[e.Door.Machine].Name
}

// opener is who opened an opening; "" for none.
func opener(st *State, id int64) string {
	for _, o := range st.Report.Openings {
		if o.ID == id {
			return o.Person
		}
	}
	return ""
}

func (h *history) end(s ExposureInterval, at time.Time) {
	if s.End = at; at.IsZero() || at.After(h.since) {
		if s.Begin.Before(h.since) {
			s.Begin = h.since
		}
		h.list = append(h.list, s)
	}
}

func (h *history) done() []ExposureInterval {
	for _, open := range h.open {
		for _, list := range open {
			for _, s := range list {
				h.end(s, time.Time{})
			}
		}
	}
	slices.SortFunc(h.list, ExposureInterval.compare)
	return h.list
}
