package work

import (
	"fmt"
	"slices"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/estate"
	"ironbark/internal/exposure"
	"ironbark/internal/fault"
	"ironbark/internal/flow"
	"ironbark/internal/sshkey"
)

// newlyWrong lists the guarantees that a review newly breaks, and the limits that it newly
// exceeds.
func (r *Review) newlyWrong(now time.Time, edit bool) (broken, over []string) {
	known := map[string]bool{}
	for _, b := range exposure.Guarantees(r.before.Estate, r.before.Plan, now) {
		known[b.Guarantee.Sentence] = true
	}
	for _, b := range r.Broken {
		if !known[b.Guarantee.Sentence] {
			broken = append(broken, b.Guarantee.Sentence)
		}
	}
	was := r.Before.Used.Over(r.Limits)
	for _, limit := range r.QuotaExceeded {
		if !edit || !slices.Contains(was, limit) { // what failed before is in the bill, and is not there
			over = append(over, limit)
		}
	}
	return broken, over
}

// opensNothing reports whether nothing is open or may be opened after the review that
// was not, or not for as long, nobody may more, nothing is made that could, and no guarantee
// speaks of less.
func (r *Review) opensNothing(now time.Time) bool {
	grows := func(c change.Change) bool { return c.Verb == change.Make || c.Verb == change.Alter }
	return !slices.ContainsFunc(r.Changes, grows) && r.letsNothingMore(now)
}

// letsNothingMore is opensNothing of whatever is made.
func (r *Review) letsNothingMore(now time.Time) bool {
	if newlyTrusted(r.before.Estate, r.Estate) {
		return false
	}
	could := exposure.Compare(
		exposure.NewView(exposure.WithPermits(r.before.Estate, r.before.Plan), now),
		exposure.NewView(exposure.WithPermits(r.Estate, r.after.Plan), now))
	for _, d := range []exposure.Difference{r.Exposure, r.Outward, could} {
		later := func(c exposure.Change) bool {
			return !c.Before.IsZero() && (c.Entry.Until.IsZero() || c.Entry.Until.After(c.Before))
		}
		if !d.Opened.IsEmpty() || !d.Gained.IsEmpty() || d.Moved.Any(later) {
			return false
		}
	}
	return len(r.Rights.Gained)+len(r.Weakened) == 0
}

// newlyTrusted reports whether b takes a key for somebody that a did not take for them, or takes one for longer.
func newlyTrusted(a, b *estate.Estate) bool {
	until := map[string]time.Time{} // of the keys that a takes
	for _, p := range a.People {
		for _, k := range p.Keys {
			until[p.Name+" "+sshkey.Fingerprint(k)] = p.Ends[k]
		}
	}
	for _, k := range a.Keys {
		until["key "+k.Name] = k.Until
	}
	return len(newAuthorities(a, b)) > 0 ||
		slices.ContainsFunc(b.People, func(p estate.Person) bool {
			return slices.ContainsFunc(p.Keys, func(k string) bool {
				end, taken := until[p.Name+" "+sshkey.Fingerprint(k)]
				return !taken || !flow.Lasts(end, p.Ends[k])
			})
		}) ||
		slices.ContainsFunc(b.Keys, func(k estate.Key) bool { return !flow.Lasts(until["key "+k.Name], k.Until) }) // of machines; a new one opens none yet
}

// newAuthorities names the authorities of b whose certificates a does not take.
func newAuthorities(a, b *estate.Estate) (names []string) {
	for _, o := range b.Authorities {
		if !slices.ContainsFunc(a.Authorities, func(known estate.Authority) bool { return sshkey.Same(known.Public, o.Public) }) {
			names = append(names, o.Name)
		}
	}
	return names
}

// trustNotes tells how far authorities are trusted that are new. Nothing else of a review does:
// they open no door.
func trustNotes(a, b *estate.Estate) (list []fault.Advice) {
	for _, name := range newAuthorities(a, b) {
		list = append(list, fault.Say(fmt.Sprintf("whoever has the private half of authority %s may log in to gateways as anybody whom a route lets through", name)))
	}
	return list
}

// touched lists by ID the resources that two estates ask for differently.
func (w *Work) touched(a, b *estate.Estate, has []change.Resource) (map[string]bool, error) {
	before, err := w.asked(a, has)
	if err != nil {
		return nil, err
	}
	after, err := w.asked(b, has)
	if err != nil {
		return nil, err
	}
	ids := map[string]bool{}
	for id, spec := range after {
		if old, there := before[id]; !there || !old.Equal(spec) {
			ids[id] = true
		}
	}
	for id := range before {
		if _, there := after[id]; !there {
			ids[id] = true
		}
	}
	return ids, nil
}

// asked lists by ID what an estate asks of each resource.
func (w *Work) asked(e *estate.Estate, has []change.Resource) (map[string]change.Spec, error) {
	list, err := w.desired(e, has, w.sizes(e, has))
	if err != nil {
		return nil, err
	}
	specs := make(map[string]change.Spec, len(list))
	for _, t := range list {
		specs[t.ID()] = t.Spec
	}
	return specs, nil
}
