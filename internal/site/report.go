package site

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/journal"
	"ironbark/internal/ledger"
	"ironbark/internal/opening"
)

// Basis is what a decision is made on.
type Basis struct {
	Revision int64  // of the ledger
	Mark     string // of the place
}

// Report is what was decided and what is there, joined.
type Report struct {
	Basis
	Resources  []change.Resource
	Machines   map[string]driver.Machine // by name
	Plan       *flow.Plan                // as installed, openings included
	Compiled   string                    // the plan without openings in binary, where the place keeps it so: see [driver.Observation]
	Openings   []opening.Opening         // those that may not be over yet, by number
	Files      []estate.File             // as last enacted; none where nothing ever was
	Unfinished *ledger.Unfinished
	Gone       []change.Resource        // enacted, and not there any more
	Outside    []driver.OutOfBandChange // what was done to the place since the last enactment, and not by Ironbark
	Keys       map[string]string        // the public key inside each machine
	Resting    []netip.Addr             // inside addresses that were given up a short while ago
	Host       []netip.Addr             // the addresses of the host on which the place runs: see [driver.Observation]
	Network    []driver.Alteration      // what else decides about packets and is not as the place makes it
	Behind     time.Duration            // how far the clock went back, as [Site.Now] tells
	Altered    map[int64]string         // openings that are not as they were recorded, and how

	enacted enacted
	base    []flow.Row
}

// Interrupted lists the machines that are stopped and that nobody stopped, by name.
func (r *Report) Interrupted() (names []string) {
	for name, m := range r.Machines {
		if m.Interrupted {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// enacted is what files that were enacted say, or why they cannot be read.
type enacted struct {
	estate *estate.Estate
	err    error
}

// Enacted returns what the files say that were last enacted; an empty estate where there are none.
func (r *Report) Enacted() (*estate.Estate, error) {
	if r.enacted.err != nil {
		return nil, fmt.Errorf("the files that were last enacted: %w", r.enacted.err)
	}
	if r.enacted.estate == nil {
		return &estate.Estate{}, nil
	}
	return r.enacted.estate, nil
}

// BasePlan returns the plan without openings.
func (r *Report) BasePlan() *flow.Plan {
	return r.Plan.WithoutOpenings(func(int64) bool { return true })
}

// Base returns the rows of the tables without those of openings.
func (r *Report) Base() []flow.Row {
	if r.base == nil {
		r.base = r.BasePlan().Rows()
	}
	return r.base
}

// Enacted returns what the files say that were last enacted; an empty estate where there are none.
func (s *Site) Enacted(ctx context.Context) (*estate.Estate, error) {
	st, err := s.ledger.State(ctx, ledger.Scope{Files: true, Openings: s.some()})
	if err != nil {
		return nil, err
	}
	if len(st.Files) == 0 {
		return &estate.Estate{}, nil
	}
	r := &Report{enacted: s.readEnacted(st.Files)}
	return r.Enacted()
}

// Report tells what was decided and what is there. What was begun by a process that died
// is completed or taken back first, where that can be done; what was closed and could
// not be recorded is recorded.
func (s *Site) Report(ctx context.Context) (*Report, error) {
	return s.read(ctx, ledger.Everything, driver.Everything)
}

// Judged is Report without resources and machines: what a request is judged by. Of the
// openings it has those alone that are asked for by number, and such as came to something
// that is not recorded yet. Cost: does not hang on how many there are besides.
func (s *Site) Judged(ctx context.Context, ids ...int64) (*Report, error) {
	return s.read(ctx, ledger.Scope{Files: true, Openings: s.some(ids...)}, driver.Scope{Plan: true, Some: true})
}

// Flows is Report without resources and machines: what a question about flows is answered by.
func (s *Site) Flows(ctx context.Context) (*Report, error) {
	return s.read(ctx, ledger.Scope{Files: true}, driver.Scope{Plan: true})
}

// Held is Report of the openings alone. Cost: that of those that hold.
func (s *Site) Held(ctx context.Context) (*Report, error) {
	return s.read(ctx, ledger.Scope{}, driver.Scope{})
}

// HeldOf is Held for some openings by number. Cost: does not hang on how many there are besides.
func (s *Site) HeldOf(ctx context.Context, ids ...int64) (*Report, error) {
	return s.read(ctx, ledger.Scope{Openings: s.some(ids...)}, driver.Scope{Some: true})
}

// some are some openings, and those that something is still to be recorded of.
func (s *Site) some(ids ...int64) ledger.Openings {
	return ledger.Openings{Some: true, IDs: ids, By: s.clock.Now()}
}

// Alike lists the openings of a person that hold and let the same flows pass as a part does,
// whatever their ends. Cost: does not hang on how many there are besides.
func (s *Site) Alike(ctx context.Context, person string, p opening.Part) ([]opening.Opening, error) {
	list, err := s.ledger.Alike(ctx, person, p)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	scope := driver.Scope{After: -1, Some: true}
	for _, o := range list {
		scope.Openings = append(scope.Openings, o.ID)
	}
	o, err := s.driver.Observe(ctx, scope)
	if err != nil {
		return nil, err
	}
	withShut(list, o)
	return list, nil
}

// withShut marks those openings as ended that were shut and are not recorded as such yet.
func withShut(list []opening.Opening, o *driver.Observation) {
	for i := range list {
		if at, shut := o.Shut[list[i].ID]; shut && list[i].Ended.IsZero() {
			list[i].Ended = at
		}
	}
}

// Machines tells how some machines are doing, those that are there; of others, too, where it is asked for many.
func (s *Site) Machines(ctx context.Context, names ...string) (map[string]driver.Machine, error) {
	scope := driver.Scope{Machines: names, After: -1}
	if len(names) > mostByName {
		scope = driver.Scope{Resources: true, After: -1}
	}
	o, err := s.driver.Observe(ctx, scope)
	if err != nil {
		return nil, err
	}
	return o.Machines, nil
}

// mostByName is how many machines are asked for by name: for more of them all are read at once.
const mostByName = 50

func (s *Site) read(ctx context.Context, decided ledger.Scope, there driver.Scope) (*Report, error) {
	for {
		st, o, e, err := s.look(ctx, decided, there)
		if err != nil {
			return nil, err
		}
		if len(st.Intended) > 0 && !there.Plan { // what became of them is seen in the tables
			there.Plan = true
			continue
		}
		again, err := s.recover(ctx, st, o)
		if err != nil {
			return nil, err
		}
		if !again {
			r, err := s.join(ctx, st, o, there)
			if r != nil {
				r.enacted = e
			}
			if err == nil && len(r.Altered) > 0 {
				// What the place has more may have been decided after the ledger was read.
				fresh, err := s.ledger.State(ctx, ledger.Scope{Openings: s.some()})
				if err != nil {
					return nil, err
				}
				if fresh.Revision != st.Revision {
					continue
				}
			}
			return r, err
		}
	}
}

// look reads both sides. The ledger comes first: what the place has more was decided later.
// What is large of the ledger is read beside the place, where nothing goes on meanwhile.
func (s *Site) look(ctx context.Context, decided ledger.Scope, scope driver.Scope) (*ledger.State, *driver.Observation, enacted, error) {
	st, err := s.ledger.State(ctx, ledger.Scope{Openings: decided.Openings})
	if err != nil {
		return nil, nil, enacted{}, err
	}
	scope.After = -1
	if scope.Resources {
		scope.After = st.Seen
	}
	for _, o := range st.Openings {
		scope.Openings = append(scope.Openings, o.ID)
	}
	if !decided.Resources && !decided.Files {
		o, err := s.driver.Observe(ctx, scope)
		return st, o, enacted{}, err
	}
	var whole *ledger.State
	var e enacted
	var o *driver.Observation
	var err1, err2 error
	var both sync.WaitGroup
	both.Go(func() {
		if whole, err1 = s.ledger.State(ctx, ledger.Scope{Resources: decided.Resources, Files: decided.Files, Openings: s.some()}); err1 == nil {
			e = s.readEnacted(whole.Files)
		}
	})
	if st.Unfinished != nil {
		both.Wait()
	}
	o, err2 = s.driver.Observe(ctx, scope)
	both.Wait()
	switch {
	case errors.Join(err1, err2) != nil:
		return nil, nil, enacted{}, errors.Join(err1, err2)
	case whole.Revision != st.Revision, whole.Unfinished != nil && st.Unfinished == nil: // somebody has written meanwhile
		scope.Openings = nil
		return s.look(ctx, decided, scope)
	}
	whole.Openings, whole.Intended, whole.Altered, whole.Beginning = st.Openings, st.Intended, st.Altered, st.Beginning
	return whole, o, e, nil
}

func (s *Site) join(ctx context.Context, st *ledger.State, o *driver.Observation, there driver.Scope) (*Report, error) {
	_, behind := journal.Later(s.clock.Now(), st.Latest)
	r := &Report{
		Basis: Basis{st.Revision, o.Mark}, Machines: o.Machines, Plan: o.Plan, Compiled: o.Compiled, Openings: st.Openings, Files: st.Files, Unfinished: st.Unfinished,
		Outside: o.Outside, Keys: o.Keys, Resting: o.Resting, Host: o.Host, Network: o.Network, Behind: max(behind, o.Behind),
	}
	withShut(r.Openings, o)
	if !there.Plan {
		return r, nil
	}
	now := s.clock.Now().Add(-r.Behind)
	r.Altered = alterations(st, o, now)
	if r.Behind > 0 && !o.Steady {
		r.Plan = r.Plan.WithoutOpenings(func(int64) bool { return true })
	}
	if !there.Resources {
		return r, nil
	}
	enacted, _ := settled(st, o.Resources)
	r.Resources, r.Gone = compare(enacted, o.Resources)
	if o.Records || r.Unfinished != nil {
		return r, nil
	}
	return r, s.unseen(ctx, r)
}

// compare tells of each resource that is there whether it is as it was enacted, and
// lists those that are gone.
func compare(enacted, there []change.Resource) (list, gone []change.Resource) {
	left := placesOf(enacted)
	list = slices.Clone(there)
	for i := range list {
		t := &list[i]
		id := nameOf(t)
		was, known := left[id]
		t.Unmanaged, t.LastEnacted = !known, nil
		if known && !enacted[was].Spec.Equal(t.Spec) {
			t.LastEnacted = &enacted[was].Spec
		}
		delete(left, id)
	}
	for _, i := range slices.Sorted(maps.Values(left)) {
		gone = append(gone, enacted[i])
	}
	slices.SortStableFunc(gone, func(a, b change.Resource) int { return strings.Compare(a.ID(), b.ID()) })
	return list, gone
}

// resourceName tells a resource apart from all others.
type resourceName struct {
	kind change.Kind
	name string
}

func nameOf(t *change.Resource) resourceName { return resourceName{t.Kind, t.Name} }

// placesOf finds resources by name.
func placesOf(list []change.Resource) map[resourceName]int {
	places := make(map[resourceName]int, len(list))
	for i := range list {
		places[nameOf(&list[i])] = i
	}
	return places
}

// settled returns what was enacted: as it was recorded, and of an enactment that
// is unfinished what it planned and what is there by now. Those are the second result.
func settled(st *ledger.State, there []change.Resource) (enacted []change.Resource, done []change.Change) {
	if len(st.Planned) == 0 {
		return st.Resources, nil
	}
	enacted = slices.Clone(st.Resources)
	places, have, gone := placesOf(enacted), placesOf(there), map[int]bool{}
	for _, c := range st.Planned {
		id := nameOf(&c.Resource)
		was, known := places[id]
		i, present := have[id]
		switch {
		case c.Verb == change.Remove && known && !present:
			delete(places, id)
			gone[was] = true
			done = append(done, c)
		case c.Verb != change.Remove && present && there[i].Spec.Is(c.Resource.Spec) && !(known && enacted[was].Spec.Equal(there[i].Spec)):
			if !known {
				was = len(enacted)
				places[id] = was
				enacted = append(enacted, change.Resource{})
			}
			enacted[was], c.Resource = there[i], there[i]
			done = append(done, c)
		}
	}
	var left []change.Resource
	for i, t := range enacted {
		if !gone[i] {
			left = append(left, t)
		}
	}
	return left, done
}

// unseen tells what others did to the tables where the place has no record of that: the
// difference between what was installed and what is.
func (s *Site) unseen(ctx context.Context, r *Report) error {
	want, err := s.ledger.Plan(ctx)
	if err != nil {
		return err
	}
	in, out := difference(r.Base(), want), difference(want, r.Base())
	if len(in)+len(out) > 0 {
		r.Outside = []driver.OutOfBandChange{{What: "the tables were altered", In: in, Out: out}}
	}
	return nil
}

// difference returns the rows of a that b does not have.
func difference(a, b []flow.Row) (rows []flow.Row) {
	have := make(map[flow.Row]bool, len(b))
	for _, r := range b {
		have[r] = true
	}
	for _, r := range a {
		if !have[r] {
			rows = append(rows, r)
		}
	}
	return rows
}

// alterations tells which openings that hold are not as they were recorded: in the
// ledger, or at the place, where one may be that the ledger does not know.
func alterations(st *ledger.State, o *driver.Observation, now time.Time) map[int64]string {
	out := map[int64]string{}
	held := make(map[int64]*opening.Opening, len(st.Openings))
	for i := range st.Openings {
		one := &st.Openings[i]
		held[one.ID] = one
		if why := st.Altered[one.ID]; why != "" && one.Active(now) {
			out[one.ID] = why
		}
	}
	for id, one := range held {
		if one.Ended.IsZero() && !one.Waits() && now.Before(one.End()) && id > o.Highest && out[id] == "" {
			out[id] = "this site never let it pass: it is another one than that of the record, or begins anew"
		}
	}
	for _, r := range o.Plan.Rules {
		if r.Kind != flow.Opening || !flow.Active(r.Until, now) || out[r.Opening] != "" {
			continue
		}
		one, known := held[r.Opening]
		switch {
		case !known || !one.Active(now):
			out[r.Opening] = "the site lets it pass, and the record has no such opening that holds"
		case !slices.ContainsFunc(one.Parts, func(p opening.Part) bool { return p.End.Equal(r.Until) }):
			out[r.Opening] = fmt.Sprintf("it ends at %s, and the tables were altered to “%s”", utc(one.End()), ruleEnd(r))
		}
	}
	for id := range st.Intended { // of these it is not known yet how they are
		delete(out, id)
	}
	return out
}

func utc(t time.Time) string { return t.UTC().Format(time.RFC3339) }

func ruleEnd(r flow.Rule) string {
	if r.Until.IsZero() {
		return ""
	}
	return r.Until.UTC().Format(time.RFC3339Nano)
}

// Place tells what is there, of the place alone: for whoever must close something while
// the ledger cannot be read. Its openings are those that the place lets pass; who asked
// for them is not known.
func (s *Site) Place(ctx context.Context) (*Report, error) {
	scope := driver.Everything
	scope.After = -1
	o, err := s.driver.Observe(ctx, scope)
	if err != nil {
		return nil, err
	}
	r := &Report{Basis: Basis{Mark: o.Mark}, Resources: o.Resources, Machines: o.Machines, Plan: o.Plan, Keys: o.Keys, Resting: o.Resting, Host: o.Host, Network: o.Network, Behind: o.Behind, Altered: map[int64]string{}}
	r.Openings = passing(o.Plan)
	return r, nil
}
