package work

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"time"

	"ironbark/internal/driver"
	"ironbark/internal/findings"
	"ironbark/internal/flow"
	"ironbark/internal/parallel"
	"ironbark/internal/sentence"
	"ironbark/internal/site"
)

// MemberState says whether a machine behind a front's port gets new connections. The zero MemberState is invalid.
type MemberState string

// The states of members.
const (
	MemberIn       MemberState = "in"        // it gets new connections
	MemberFailing  MemberState = "failing"   // it does not pass, and gets connections all the same: it is not taken out yet, or nobody passes
	MemberOut      MemberState = "out"       // it does not pass its test
	MemberDraining MemberState = "draining"  // it is to be stopped or removed
	MemberOff      MemberState = "not there" // it does not run
)

// Member is a machine behind a front's port, and how it is doing.
type Member struct {
	driver.Member
	State MemberState
	Since time.Time // zero where it is not known
	Why   string    // "" where it is in
}

// Gets reports whether the front leads new connections to the member.
func (m Member) Gets() bool { return m.State == MemberIn || m.State == MemberFailing }

// Members tests the machines behind a front's ports, and tells how each is doing. Cost: as long as the slowest test takes.
func (w *Work) Members(ctx context.Context, st *State, front string) ([]Member, error) {
	return w.members(ctx, st, front, true)
}

// members is Members. Without tests it goes by what the front goes by: where somebody watches, by the tests that were made.
func (w *Work) members(ctx context.Context, st *State, front string, test bool) ([]Member, error) {
	place, err := w.Site.Members()
	if errors.Is(err, site.ErrNoTests) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	outs, err := place.Ejected(ctx)
	if err != nil {
		return nil, err
	}
	var list []Member
	for _, d := range st.Plan.Doors {
		if d.Front == front {
			for _, m := range membersOf(st.Plan, d) {
				list = append(list, Member{Member: m})
			}
		}
	}
	test = test || !place.Watched()
	parallel.Waiting(len(list), func(i int) { list[i].judge(ctx, place, st.Report.Machines[list[i].Machine], outs, test) })
	for i, m := range list {
		passes := func(o Member) bool { return o.Service == m.Service && o.State == MemberIn }
		if m.State == MemberOut && !slices.ContainsFunc(list, passes) { // somebody is better than nobody
			list[i].State = MemberFailing
			list[i].Why += "; it gets connections, since nobody passes"
		}
	}
	return list, ctx.Err()
}

// judge tells how a member is doing.
func (m *Member) judge(ctx context.Context, place driver.MemberTester, is driver.Machine, outs []driver.EjectedMember, test bool) {
	out := outOf(outs, m.Member)
	m.State, m.Since = MemberIn, is.Ready
	if m.Since.IsZero() {
		m.Since = is.Since
	}
	switch {
	case is.State != driver.Running:
		m.State, m.Since, m.Why = MemberOff, is.Since, "it is "+string(is.State)
	case out != nil && out.Draining:
		m.State, m.Since, m.Why = MemberDraining, out.Since, out.Why
	case out != nil:
		m.State, m.Since, m.Why = MemberOut, out.Since, out.Why
	case test && m.At.IsValid():
		err := place.TestMember(ctx, m.Member)
		if err == nil {
			return
		}
		m.State, m.Since, m.Why = MemberFailing, time.Time{}, err.Error()
		if !place.Watched() { // it leads to members that listen, also where no test is asked for
			m.State = MemberOut
		}
	}
}

// membersOf are the machines behind a published port, and how they are tested: where the sentence says nothing, by
// a connection. At is invalid where that is not possible, over UDP.
func membersOf(plan *flow.Plan, d flow.Published) (list []driver.Member) {
	path, tested := "", false
	if said, err := sentence.Parse(d.Origin.Sentence); err == nil {
		if spread, ok := said.(sentence.Spread); ok && spread.Tested.Kind != 0 {
			path, tested = spread.Tested.Path, true
		}
	}
	for _, m := range d.To.Machines {
		one := plan.Machines[m]
		var at netip.Addr
		for _, i := range one.Interfaces {
			for _, a := range i.Addrs {
				if !at.IsValid() || a.Is4() && !at.Is4() {
					at = a
				}
			}
		}
		member := driver.Member{Front: d.Front, Service: d.Service, Machine: one.Name, Path: path, Tested: tested}
		if at.IsValid() && d.On < flow.UDPPort(0) {
			member.At = netip.AddrPortFrom(at, d.On.Port())
		}
		list = append(list, member)
	}
	return list
}

// Listening tells on what the machines of a state listen that run, and of which that is known.
func (st *State) Listening() findings.Listening {
	return func(machine string) (flow.Services, bool) {
		m := st.Report.Machines[machine]
		return m.Listens, m.State == driver.Running && !m.Listens.IsEmpty()
	}
}

// ListenerDigest tells what all machines listen on apart from any other such state.
func (st *State) ListenerDigest() (text []byte) {
	for _, name := range slices.Sorted(maps.Keys(st.Report.Machines)) {
		m := st.Report.Machines[name]
		text = fmt.Appendln(text, name, m.State == driver.Running, flow.ServiceRuns(m.Listens))
	}
	return text
}

// testedMembers are the members of the spreads of a plan that say how they are tested.
func testedMembers(plan *flow.Plan) (list []driver.Member) {
	for _, d := range plan.Doors {
		list = append(list, membersOf(plan, d)...)
	}
	return slices.DeleteFunc(list, func(m driver.Member) bool { return !m.Tested || !m.At.IsValid() })
}

// DrainTime is how long what goes on at a machine may take to end by itself before the machine is stopped or removed, where
// nobody says another time.
const DrainTime = 30 * time.Second

// drainLook is how long passes between two looks at what still goes on.
const drainLook = 200 * time.Millisecond

// Drain lets machines that are to be stopped or removed get no new connections by fronts, and waits until those that they
// have by fronts have ended, or until so much time has passed. tell is called before it waits. restore puts the machines
// back; it is to be called where they are not stopped in the end. Where no front leads to them nothing is done.
func (w *Work) Drain(ctx context.Context, machines []string, why string, upTo time.Duration, tell func(string)) (restore func(context.Context) error, err error) {
	restore = func(context.Context) error { return nil }
	place, err := w.Site.Members()
	if errors.Is(err, site.ErrNoTests) || len(machines) == 0 || upTo <= 0 {
		return restore, nil
	}
	if err != nil {
		return restore, err
	}
	st, err := w.Installed(ctx)
	if err != nil {
		return restore, err
	}
	now := w.Clock.Now()
	drained := runningBehindFronts(st, machines)
	if len(drained) == 0 {
		return restore, nil
	}
	for i := range drained {
		drained[i].Since, drained[i].Why, drained[i].Draining = now, why, true
	}
	outs, err := place.Ejected(ctx)
	if err != nil {
		return restore, err
	}
	others := slices.DeleteFunc(outs, func(o driver.EjectedMember) bool { return slices.ContainsFunc(drained, o.Same) })
	if err := place.SetEjected(ctx, slices.Concat(others, drained)); err != nil {
		return restore, err
	}
	restore = func(ctx context.Context) error { return w.undrain(ctx, place, machines) }
	return restore, w.awaitEnd(ctx, machines, frontAddrs(st.Plan, drained), now.Add(upTo), func(left int) {
		tell(fmt.Sprintf("no new connections by fronts; up to %s for the %d that are there to end", sentence.DurationOf(upTo), left))
	})
}

// runningBehindFronts are the places behind fronts of those of the machines that run.
func runningBehindFronts(st *State, machines []string) (list []driver.EjectedMember) {
	for _, d := range st.Plan.Doors {
		for _, m := range d.To.Machines {
			name := st.Plan.Machines[m].Name
			if slices.Contains(machines, name) && st.Report.Machines[name].State == driver.Running {
				list = append(list, driver.EjectedMember{Front: d.Front, Service: d.Service, Machine: name})
			}
		}
	}
	return list
}

// frontAddrs are the public addresses of the fronts that lead to members.
func frontAddrs(plan *flow.Plan, members []driver.EjectedMember) map[netip.Addr]bool {
	addrs := map[netip.Addr]bool{}
	for _, f := range plan.Fronts {
		if slices.ContainsFunc(members, func(o driver.EjectedMember) bool { return o.Front == f.Name }) {
			addrs[f.Public.Addr4], addrs[f.Public.Addr6] = true, true
		}
	}
	delete(addrs, netip.Addr{})
	return addrs
}

// awaitEnd waits until the sessions of machines by fronts have ended, or until a moment; tell hears once how many there are.
// Where nobody knows the sessions it does not wait.
func (w *Work) awaitEnd(ctx context.Context, machines []string, fronts map[netip.Addr]bool, end time.Time, tell func(left int)) error {
	for told := false; ; told = true {
		sessions, known, err := w.Site.Sessions(ctx)
		if err != nil || !known {
			return err
		}
		left := 0
		for _, s := range sessions {
			if slices.Contains(machines, s.Machine) && fronts[s.To] {
				left++
			}
		}
		if left == 0 || !w.Clock.Now().Before(end) {
			return nil
		}
		if !told {
			tell(left)
		}
		if err := w.Clock.Sleep(ctx, drainLook); err != nil {
			return err
		}
	}
}

// undrain lets machines get connections again that were taken out to be stopped.
func (w *Work) undrain(ctx context.Context, place driver.MemberTester, machines []string) error {
	outs, err := place.Ejected(ctx)
	if err != nil {
		return err
	}
	left := slices.DeleteFunc(slices.Clone(outs), func(o driver.EjectedMember) bool { return o.Draining && slices.Contains(machines, o.Machine) })
	if len(left) == len(outs) {
		return nil
	}
	return place.SetEjected(ctx, left)
}

// Undrain lets machines that were started get connections by fronts again.
func (w *Work) Undrain(ctx context.Context, machines []string) error {
	place, err := w.Site.Members()
	if err != nil {
		return nil // there is nobody to say it to
	}
	return w.undrain(ctx, place, machines)
}
