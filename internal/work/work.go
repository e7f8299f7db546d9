package work

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/netip"
	"slices"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/cost"
	"ironbark/internal/driver"
	"ironbark/internal/estate"
	"ironbark/internal/exposure"
	"ironbark/internal/fault"
	"ironbark/internal/findings"
	"ironbark/internal/flow"
	"ironbark/internal/ledger"
	"ironbark/internal/opening"
	"ironbark/internal/rights"
	"ironbark/internal/sentence"
	"ironbark/internal/site"
	"ironbark/internal/sshkey"
)

// Work is one person's work on one estate.
type Work struct {
	Folder Folder
	Site   *site.Site
	Clock  driver.Clock
	Person string
	// Keyring has keys that are in no file that can be read.
	Keyring Keyring
	// Caller tells from which addresses the person comes; nil: nobody can tell.
	Caller *Caller
	// ServeOne runs a gateway of a bastion for one client, where none serves; nil: nobody does.
	ServeOne func(ctx context.Context, bastion string, from netip.Addr) (net.Conn, error)
	// Rotating are machines into which a key is put before they are altered.
	Rotating map[string]bool
	inside   map[string]string // the keys inside each machine, as they were last read
	resting  []netip.Addr      // inside addresses that are given last, as they were last read
	// Discard are the unmanaged resources that an enactment is to take away, by ID. It leaves all others.
	Discard map[string]bool
	// Told is called with what was found wrong and mended on the way, in words.
	Told func(text string)
	// Uploading returns what is told of each part of a file that is uploaded, and what is called when that is over; nil:
	// nobody wants to know.
	Uploading func(name string, size int64) (part io.Writer, done func())
	// Accepts reports whether the person has accepted the command of a recipient on this computer; nil: none.
	Accepts func(t estate.Recipient) bool
	// AllFindings has reviews list all findings, and not count those that were there before.
	AllFindings bool
	// Chosen are the machines whose passwords are chosen and not kept yet.
	Chosen []string
}

// State is an estate with what decides about its flows: as installed on the
// site, or as the files would have it.
type State struct {
	Report *site.Report
	Files  Files
	Estate *estate.Estate
	Plan   *flow.Plan // openings included
	Draft  bool       // of the files
	Differ bool       // files and site differ
	Alone  bool       // of the place alone: the record of what was decided cannot be read
	// OfFlows says that resources and machines were not read: see [Work.AskedOfFlows].
	OfFlows bool
}

// Clock returns the computer's own moment for the site's: what is listed and can be
// closed is told by the earlier of the two.
func (st *State) Clock(now time.Time) time.Time { return now.Add(-st.Report.Behind) }

// Installed reads the state back from the site. Its estate is the one that was
// last enacted; before the first enactment it is empty.
func (w *Work) Installed(ctx context.Context) (*State, error) { return w.installed(ctx, w.Site.Report) }

// installed is Installed for a report of more or less.
func (w *Work) installed(ctx context.Context, read func(context.Context) (*site.Report, error)) (*State, error) {
	r, err := w.trusted(ctx, read)
	if err != nil {
		return nil, err
	}
	e, err := r.Enacted()
	if err != nil {
		return nil, err
	}
	return &State{Report: r, Files: r.Files, Estate: e.AsOf(w.Clock.Now()), Plan: r.Plan}, nil
}

// judged is Installed with what a request is judged by, and some openings by number.
func (w *Work) judged(ctx context.Context, ids ...int64) (*State, error) {
	return w.installed(ctx, func(ctx context.Context) (*site.Report, error) { return w.Site.Judged(ctx, ids...) })
}

// Asked returns the state that a question is asked of.
func (w *Work) Asked(ctx context.Context, draft bool) (*State, error) {
	if !draft {
		return w.installedBeside(ctx, w.Site.Report)
	}
	files, err := w.Folder.Read()
	if err != nil {
		return nil, err
	}
	return w.drafted(ctx, files)
}

// AskedOfFlows is Asked for whoever asks about flows and nothing else: of resources and machines it has none. [Work.LookAt] adds the machines of an
// answer.
func (w *Work) AskedOfFlows(ctx context.Context) (*State, error) {
	st, err := w.installedBeside(ctx, w.Site.Flows)
	if err == nil {
		st.OfFlows = true
	}
	return st, err
}

// installedBeside is the installed state, for a report of more or less, beside the files as they stand.
func (w *Work) installedBeside(ctx context.Context, read func(context.Context) (*site.Report, error)) (*State, error) {
	files, err := w.Folder.Read()
	if err != nil {
		return nil, err
	}
	st, err := w.installed(ctx, read)
	if err == nil {
		st.Differ = st.Report.Unfinished != nil || !files.Equal(st.Report.Files)
	}
	return st, err
}

// drafted returns the state that files would lead to, with the openings that hold now.
func (w *Work) drafted(ctx context.Context, files Files) (*State, error) {
	r, err := w.Site.Report(ctx)
	if err != nil {
		return nil, err
	}
	e, err := files.Estate()
	if err != nil {
		return nil, err
	}
	w.inside, w.resting = r.Keys, r.Resting
	wanted, err := w.desired(e, r.Resources, w.sizes(e, r.Resources))
	if err != nil {
		return nil, err
	}
	after := w.draft(files, e, r, wanted)
	enacted, err := r.Enacted()
	if err != nil { // what holds by it is not known, so nothing is told as ending
		return after, nil
	}
	changes, err := change.Diff(r.Resources, wanted, w.Discard)
	if err != nil {
		return nil, err
	}
	before := &State{Report: r, Files: r.Files, Estate: enacted.AsOf(w.Clock.Now()), Plan: r.Plan}
	after.Plan = withoutEnded(after.Plan, endings(before, after, changes, w.Clock.Now()))
	return after, nil
}

// withoutEnded is a plan without what openings lose.
func withoutEnded(p *flow.Plan, ending []Ending) *flow.Plan {
	loses := map[int64]bool{}
	var left []flow.Rule
	for _, end := range ending {
		loses[end.Opening.ID] = true
		if end.Narrowed {
			left = append(left, end.Opening.Rules(p)...)
		}
	}
	return p.WithoutOpenings(func(id int64) bool { return loses[id] }).With(left...)
}

// wanted lists the resources that an estate asks for.
func (w *Work) desired(e *estate.Estate, has []change.Resource, own cost.Sizes) ([]change.Resource, error) {
	c := w.Site.Catalogue()
	list, err := change.Desired(e, has, own, func(image string) int { return c.MinDisk(image, own) }, w.resting...)
	keys := map[string]string{}
	for _, t := range has {
		if t.Kind == change.Machine {
			keys[t.Name] = t.Spec.Key
		}
	}
	for i, t := range list { // only of a machine whose keys change are those read that are inside it
		had, is := keys[t.Name]
		list[i].Rotates = t.Kind == change.Machine && is && had != t.Spec.Key && (w.Rotating[t.Name] || w.holds(e, t))
	}
	return list, err
}

// holds reports whether all keys that a machine is to have are inside it.
func (w *Work) holds(e *estate.Estate, t change.Resource) bool {
	return !slices.ContainsFunc(t.Spec.Keys(), func(name string) bool {
		key, known := e.Key(name)
		return !known || !sshkey.Among(w.inside[t.Name], key.Public)
	})
}

// sizes tells how large the site's images of the estate's own and its snapshots
// are, and how large those will be that the estate asks for.
func (w *Work) sizes(e *estate.Estate, has []change.Resource) cost.Sizes {
	own, gb := cost.Sizes{}, map[string]int{}
	for _, t := range has {
		gb[t.ID()] = t.Spec.GB
		if t.Kind == change.Image || t.Kind == change.Snapshot {
			own[t.Name] = t.Spec.GB
		}
	}
	c := w.Site.Catalogue()
	for _, s := range e.Snapshots {
		if own[s.Name] > 0 {
			continue
		}
		// Of what is there it is taken before anything is altered or removed.
		if own[s.Name] = max(gb[string(change.Volume)+" "+s.Volume], gb[string(change.Machine)+" "+s.Machine]); own[s.Name] > 0 {
			continue
		}
		if v, ok := e.Volume(s.Volume); ok {
			own[s.Name] = v.GB
		} else if m, ok := e.Machine(s.Machine); ok {
			own[s.Name] = c.Disk(m, own)
		}
	}
	return own
}

// meter tells what the price of a state hangs on.
func meter(r *site.Report, own cost.Sizes) cost.Usage {
	return cost.Usage{Own: own, Stopped: func(machine string) bool { return r.Machines[machine].State == driver.Stopped }}
}

// Bill tells what an installed estate costs.
func (w *Work) Bill(st *State) cost.Bill {
	own := w.sizes(st.Estate, st.Report.Resources)
	return w.Site.Catalogue().Bill(st.Estate, meter(st.Report, own)).With(w.strays(st.Estate, st.Report, own))
}

// draft is drafted for what is read already.
func (w *Work) draft(files Files, e *estate.Estate, r *site.Report, wanted []change.Resource) *State {
	plan := flow.Compile(e, assigned(r, change.Planned(r.Resources, wanted)))
	return &State{Report: r, Files: files, Estate: e.AsOf(w.Clock.Now()), Plan: withOpenings(plan, r.Openings, w.Clock.Now()), Draft: true, Differ: !files.Equal(r.Files)}
}

// assigned are the addresses of some resources, and those of the host that a report knows.
func assigned(r *site.Report, list []change.Resource) flow.Assigned {
	a := change.Assigned(list)
	a.Host = r.Host
	return a
}

// running reports of a machine whether it runs; the site's host does.
func running(machines map[string]driver.Machine) func(string) bool {
	return func(name string) bool { return name == estate.SiteHost || machines[name].State == driver.Running }
}

// withOpenings adds the rules of the openings that hold at a moment or later.
func withOpenings(p *flow.Plan, list []opening.Opening, at time.Time) *flow.Plan {
	var rules []flow.Rule
	for _, o := range list {
		if o.Active(at) {
			rules = append(rules, o.Rules(p)...)
		}
	}
	return p.With(rules...)
}

// Active returns the openings that hold at a moment; the list itself where all of them do.
func Active(list []opening.Opening, at time.Time) []opening.Opening {
	over := func(o opening.Opening) bool { return !o.Active(at) }
	if !slices.ContainsFunc(list, over) {
		return slices.Clip(list)
	}
	return slices.DeleteFunc(slices.Clone(list), over)
}

// Review is what an enactment of some files would do.
type Review struct {
	Files          Files
	Estate         *estate.Estate
	Basis          site.Basis // what it was worked out on
	FirstEnactment bool       // nothing was ever enacted
	NoEffect       bool       // nothing but words that change nothing: comments and order
	Changes        []change.Change
	Added          []sentence.Statement // sentences that are new
	Retracted      []sentence.Statement // sentences that were enacted and are not in the files any more
	Exposure       exposure.Difference
	Outward        exposure.Difference // what machines may call outside: where it tells of sources, read destinations
	Ending         []Ending            // openings that would end or lose something
	Findings       []findings.Judged
	FindingsBefore int // how many further ones there are, of those that were there before and are not serious
	Broken         []exposure.Broken
	Rights         rights.Difference
	Weakened       []exposure.Uncovered // what guarantees speak of no more
	Meanings       []change.Meaning     // words that stand for something else
	Freed          []Freed              // public addresses of the estate that are its no more
	QuotaExceeded  []string             // limits that would be exceeded
	Before         cost.Bill
	After          cost.Bill
	Limits         cost.Amounts

	Unfinished *ledger.Unfinished
	Drift      *Drift         // what is not as it was last enacted
	Notes      []fault.Advice // what a person should know besides
	Blocked    []fault.Advice // why some of it cannot be done; part of Notes

	before, after *State
	same          bool             // the tables stay as they are
	checked       bool             // the files passed every check
	census        *findings.Census // of what is after; nil: it was not taken

	onlyCloses bool     // nothing opens, nothing may newly be opened, and nothing is made or grows
	broken     []string // the guarantees that are newly broken
	overNewly  []string // the limits that are newly exceeded
}

// Ending is an opening that an enactment ends, or takes something from.
type Ending struct {
	Opening  opening.Opening // what is left of it; where it ends, as it was
	Why      string
	Narrowed bool           // something is left of it
	Lost     []opening.Loss // what it loses because no permit covers it; not told where it ends
}

// IsEmpty reports whether there is nothing to enact at all.
func (r *Review) IsEmpty() bool {
	return r.IsNoOp() && r.Files.Equal(r.before.Files)
}

// IsNoOp reports whether enacting would change nothing that anybody could notice.
func (r *Review) IsNoOp() bool {
	return r.NoEffect && r.Unfinished == nil && !r.FirstEnactment && len(r.before.Report.Network) == 0
}

// Stopped lists in words what keeps the review from being enacted: what it newly
// breaks or exceeds. What only closes is never stopped; but a guarantee that is newly said
// must hold.
func (r *Review) Stopped() (list []string) {
	for _, g := range r.broken {
		said := slices.ContainsFunc(r.Added, func(st sentence.Statement) bool { return st.Sentence.String() == g })
		if said || !r.onlyCloses {
			list = append(list, fmt.Sprintf("the guarantee “%s” would be broken", g))
		}
	}
	if r.onlyCloses {
		return list
	}
	return append(list, r.overNewly...)
}

// States returns both sides of the review.
func (r *Review) States() (before, after *State) { return r.before, r.after }

// At returns the state as it was installed at a moment that is past, from the journal.
func (w *Work) At(ctx context.Context, at time.Time) (*State, error) {
	last := site.Moment{}
	err := w.Site.History(ctx, at, func(m site.Moment) (bool, error) {
		if !m.At.After(at) {
			last = m
		}
		return false, nil
	})
	if err != nil {
		return nil, err
	}
	return past(last)
}

// past turns a moment of the journal into a state. How machines did then is not known.
func past(m site.Moment) (*State, error) {
	e, err := enactedThen(m.Files)
	if err != nil {
		return nil, err
	}
	return pastOf(m, e)
}

// enactedThen reads files that were enacted once.
func enactedThen(files Files) (*estate.Estate, error) {
	e, err := files.Enacted()
	if err != nil {
		return nil, fmt.Errorf("the files that were enacted then: %w", err)
	}
	if e == nil {
		e = &estate.Estate{}
	}
	return e, nil
}

// pastOf is past for files that are read.
func pastOf(m site.Moment, e *estate.Estate) (*State, error) {
	if m.Plan == nil {
		var err error
		if m.Plan, err = flow.FromRows(nil); err != nil {
			return nil, err
		}
	}
	r := &site.Report{Plan: m.Plan, Files: m.Files, Openings: m.Openings, Machines: map[string]driver.Machine{}}
	return &State{Report: r, Files: m.Files, Estate: e.AsOf(m.At), Plan: m.Plan}, nil
}
