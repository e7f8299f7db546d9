package findings

import (
	"slices"
	"sync"
	"time"

	"ironbark/internal/estate"
	"ironbark/internal/sentence"
)

// Census is what is found of most sentences of a state: of those of which nothing hangs on other sentences. With it an edit of a few is judged without
// looking at all others again.
type Census struct {
	Sentences int       // how many the state has in all
	Below     int       // how many findings below Serious
	Serious   []Finding // the others, in the order of the files
	Until     time.Time // it holds before this moment; zero: for good
}

// NewCensus looks over a state. Cost: that of [Lint].
func NewCensus(of Side, at time.Time) (c Census) {
	all := of.Estate.Sentences()
	c.Sentences = len(all)
	var list []sentence.Statement
	for _, st := range all {
		if !hangsOnOthers(st.Sentence) {
			list = append(list, st)
		}
		c.ends(st.Sentence, at)
	}
	c.add(slices.Concat(newLooker(of, at, nil).each(list)...))
	return c
}

// ends has the census hold no longer than until a sentence ends.
func (c *Census) ends(s sentence.Sentence, at time.Time) {
	if end := sentence.EndOf(s); end.After(at) && (c.Until.IsZero() || end.Before(c.Until)) {
		c.Until = end
	}
}

func (c *Census) add(list []Finding) {
	for _, f := range list {
		if f.Level == Serious {
			c.Serious = append(c.Serious, f)
		} else {
			c.Below++
		}
	}
}

// Edited is what is found of a state that differs from another one in some sentences, none of which makes a door.
type Edited struct {
	Told   []Judged // what is new, and all that is serious, in the order of [Lint]
	Others int      // how many others are found, all of them before, too
	Census Census   // of the later state
}

// Judged is a finding, and whether it was not there before.
type Judged struct {
	Finding
	New bool
}

// LintEdited is [LintBoth] for states that differ in some sentences, where the census of the earlier one was taken. Cost: linear in the machines, the doors, the permits and the
// rules; of other sentences only those that differ are looked at.
func (c Census) LintEdited(before, after Side, d *estate.Delta, at time.Time, listens Listening) (x Edited) {
	l, m := newLooker(before, at, listens), newLooker(after, at, listens)
	was, is := parts{edited: l.all(d.Out)}, parts{edited: m.all(d.In)}
	doors := []sentence.Verb{sentence.VerbForward, sentence.VerbSpread}
	lets, besides := hangsOn(after.Estate, d)
	var both sync.WaitGroup
	if lets { // some door may have become useless, or is that no more
		both.Go(func() { was.doors = l.all(before.Estate.SentencesOf(doors...)) })
	}
	is.doors = m.all(after.Estate.SentencesOf(doors...))
	both.Wait()
	if !lets {
		was.doors = is.doors
	}
	was.besides = l.besides()
	if is.besides = was.besides; besides {
		is.besides = m.besides()
	}

	stay, below := c.without(was.edited)
	for i := range stay {
		stay[i].At.Line = d.Moved(stay[i].At.File, stay[i].At.Line)
	}
	x.Census = Census{Sentences: c.Sentences + len(d.In) - len(d.Out), Below: below, Serious: stay, Until: c.Until}
	x.Census.add(is.edited)
	slices.SortStableFunc(x.Census.Serious, byPlace)
	for _, st := range d.In {
		x.Census.ends(st.Sentence, at)
	}

	known := map[string]bool{}
	for _, f := range slices.Concat(was.edited, was.doors, was.besides) {
		known[f.What()] = true
	}
	x.Others = below
	for _, f := range stay {
		x.Told = append(x.Told, Judged{f, false})
	}
	x.tell(slices.Concat(is.edited, is.doors), known)
	slices.SortStableFunc(x.Told, func(a, b Judged) int { return byPlace(a.Finding, b.Finding) })
	x.tell(is.besides, known)
	return x
}

// without returns what is left of the serious findings without some of them, and of the others how many are.
func (c Census) without(list []Finding) (serious []Finding, below int) {
	less := map[identity]int{}
	below = c.Below
	for _, f := range list {
		if f.Level < Serious {
			below--
		}
		less[f.identity()]++
	}
	for _, f := range c.Serious {
		if less[f.identity()] > 0 {
			less[f.identity()]--
			continue
		}
		serious = append(serious, f)
	}
	return serious, below
}

// tell adds findings: those that are new or serious by themselves, and of the others how many there are.
func (x *Edited) tell(list []Finding, known map[string]bool) {
	for _, f := range list {
		if isNew := !known[f.What()]; isNew || f.Level == Serious {
			x.Told = append(x.Told, Judged{f, isNew})
		} else {
			x.Others++
		}
	}
}

// parts are findings of the parts of a state in which an edit of sentences may change what is found.
type parts struct{ edited, doors, besides []Finding }

// hangsOn tells whether an edit may change what is found of doors, which hangs on what sentences let in, and what is found besides sentences, which hangs on what
// is administered how, and on calls outside.
func hangsOn(e *estate.Estate, d *estate.Delta) (doors, besides bool) {
	for _, st := range slices.Concat(d.Out, d.In) {
		switch s := st.Sentence.(type) {
		case sentence.Permit, sentence.Route:
			return true, true
		case sentence.Allow:
			doors, besides = true, besides || s.Standing || e.CallsOutside(s.To)
		case sentence.Deny:
			besides = besides || e.CallsOutside(s.To)
		}
	}
	return doors, besides
}

// all returns what is found of some sentences.
func (l *looker) all(list []sentence.Statement) []Finding { return slices.Concat(l.each(list)...) }

// byPlace orders findings of sentences as their files have them.
func byPlace(a, b Finding) int { return a.At.Compare(b.At) }
