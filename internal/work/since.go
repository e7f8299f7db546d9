package work

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/site"
)

// Spell is a time during which an administrative service was open.
type Spell struct {
	Begin time.Time // what is before the time asked for begins with it
	End   time.Time // zero: still open
	By    string    // who brought it about: of an opening, who opened it
	Entry exposure.Entry
	State *State // in which it was open, for names

	key string // what it is told apart by
}

// Keep cuts an entry down to what is asked for, and reports whether anything is left.
type Keep func(exposure.Entry) (exposure.Entry, bool)

// Since lists when each administrative service was open from a moment until now, by
// machine or gateway and then by time. keep returns what of a state is asked for.
//
// A spell goes on while the same sentence, or opening, lets the same service through the same
// door. Whatever else goes on meanwhile does not concern it.
func (w *Work) Since(ctx context.Context, since time.Time, keep func(*State) Keep) ([]Spell, error) {
	now := w.Clock.Now()
	h := &history{since: since, open: map[string]*Spell{}, keep: keep}
	var last *State
	var by string
	var from time.Time
	until := func(end time.Time) {
		if last == nil {
			return
		}
		moments := append([]time.Time{from}, last.Plan.Turns(from)...)
		for i, at := range moments {
			next := end
			if i+1 < len(moments) && moments[i+1].Before(end) {
				next = moments[i+1]
			}
			if at.Before(end) && next.After(since) {
				h.look(last, at, by)
			}
		}
	}
	err := w.Site.History(ctx, func(m site.Moment) (bool, error) {
		until(m.At)
		st, err := past(m)
		if err != nil {
			return false, err
		}
		last, by, from = st, m.Person, m.At
		return true, nil
	})
	if err != nil {
		return nil, err
	}
	until(now.Add(time.Nanosecond))
	return h.done(), nil
}

// history joins what is open at one moment after the other into spells.
type history struct {
	since time.Time
	open  map[string]*Spell
	list  []Spell
	keep  func(*State) Keep
}

// look notes what is open from a moment on, and ends what is not any more.
func (h *history) look(st *State, at time.Time, who string) {
	seen := map[string]bool{}
	keep := h.keep(st)
	for e := range exposure.NewView(st.Plan, at).ReachAll() {
		e, asked := keep(e)
		if !asked || !e.Administrative {
			continue
		}
		by := e.Origin.Sentence
		if e.Opening > 0 { // its sentence changes when it is extended
			by = ""
		}
		key := fmt.Sprint(machineOf(st, e), e.Door.Kind, e.Door.Via, e.Door.V4, e.Opening, by, flow.ServiceRuns(e.Services))
		if seen[key] = true; h.open[key] != nil {
			h.open[key].Entry.From = h.open[key].Entry.From.Union(e.From)
			continue
		}
		h.open[key] = &Spell{Begin: at, By: cmp.Or(opener(st, e.Opening), who), Entry: e, State: st, key: key}
	}
	for key, s := range h.open {
		if !seen[key] {
			h.end(s, at)
			delete(h.open, key)
		}
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

func (h *history) end(s *Spell, at time.Time) {
	if s.End = at; at.IsZero() || at.After(h.since) {
		if s.Begin.Before(h.since) {
			s.Begin = h.since
		}
		h.list = append(h.list, *s)
	}
}

func (h *history) done() []Spell {
	for _, s := range h.open {
		h.end(s, time.Time{})
	}
	name := func(s Spell) string { return machineOf(s.State, s.Entry) }
	slices.SortStableFunc(h.list, func(a, b Spell) int {
		return cmp.Or(cmp.Compare(name(a), name(b)), a.Begin.Compare(b.Begin), cmp.Compare(a.Entry.Opening, b.Entry.Opening), cmp.Compare(a.key, b.key))
	})
	return h.list
}
