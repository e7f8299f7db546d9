package work

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"golang.org/x/sys/unix"

	"ironbark/internal/driver"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/parallel"
	"ironbark/internal/site"
)

// misses is how often in a row a member must fail its test to be taken out, where its front says nothing else. One refused connection is
// enough: nothing listens there. A member that passes once is back in.
const misses = 2

// drainedFor is how long a member that passes its test stays out for draining: whoever drains one stops it then, or was
// killed.
const drainedFor = 10 * time.Minute

// WatchFronts tests the members of all spreads that say how, again and again until ctx ends, and takes out those that do not pass. every is
// the time between two tests where a front has none of its own. It reads the state of the site each time. Members keep their last state when
// it ends. tell is called with what changes, and with what goes wrong.
func (w *Work) WatchFronts(ctx context.Context, every time.Duration, tell func(string)) error {
	place, err := w.Site.Members()
	if err == nil && !place.Watched() {
		err = site.ErrNoTests
	}
	if err != nil {
		return err
	}
	watch := frontWatch{w: w, place: place, every: every, missed: map[memberName]int{}, tested: map[string]time.Time{}}
	wrong := ""
	for {
		next, err := watch.once(ctx, tell)
		if ctx.Err() == nil {
			now := ""
			if err != nil {
				now = err.Error()
			}
			if now != wrong && now != "" { // the same is told once
				tell(now)
			}
			wrong = now
		}
		if err := w.Clock.Sleep(ctx, next); err != nil {
			return nil // it is told to end
		}
	}
}

// memberName tells members apart.
type memberName struct {
	front   string
	service flow.Service
	machine string
}

// frontWatch is what a watch remembers between two looks.
type frontWatch struct {
	w      *Work
	place  driver.MemberTester
	every  time.Duration
	missed map[memberName]int
	tested map[string]time.Time // when the members of each front were last tested
	lines  lines                // that members cause
}

// memberChange is what changes of a member.
type memberChange struct{ machine, text string }

// changeOfMember puts a change of a member into words.
func changeOfMember(m driver.Member, what string) memberChange {
	return memberChange{m.Machine, fmt.Sprintf("%s of %s at %s%s", m.Machine, m.Front, m.Service, what)}
}

// leastPause is the shortest time between two looks.
const leastPause = 100 * time.Millisecond

// tests are how the members of each front are tested.
func (f *frontWatch) tests(e *estate.Estate, members []driver.Member) map[string]estate.FrontTest {
	tests := map[string]estate.FrontTest{}
	for _, m := range members {
		tests[m.Front] = estate.FrontTest{Every: f.every, Failures: misses}
	}
	for _, one := range e.Fronts {
		tests[one.Name] = estate.FrontTest{Every: cmp.Or(one.Test.Every, f.every), Failures: cmp.Or(one.Test.Failures, misses)}
	}
	return tests
}

// once tests the members whose time has come, and returns how long it is until that of others comes.
func (f *frontWatch) once(ctx context.Context, tell func(string)) (next time.Duration, err error) {
	next = f.every
	st, err := f.w.Installed(ctx)
	if err != nil {
		return next, err
	}
	outs, err := f.place.Ejected(ctx)
	if err != nil {
		return next, err
	}
	began := f.w.Clock.Now()
	members := testedMembers(st.Plan)
	tests := f.tests(st.Estate, members)
	due := map[string]bool{}
	for name, test := range tests {
		left := f.tested[name].Add(test.Every).Sub(began)
		due[name] = left <= 0 || left > estate.MostTestEvery+f.every // the clock went back
	}
	failed := make([]error, len(members))
	parallel.Waiting(len(members), func(i int) {
		if due[members[i].Front] {
			failed[i] = f.place.TestMember(ctx, members[i])
		}
	})
	if err := ctx.Err(); err != nil { // a test that was broken off says nothing of the member
		return next, err
	}
	now := f.w.Clock.Now()
	var out []driver.EjectedMember
	var changed []memberChange
	for i, m := range members {
		was := outOf(outs, m)
		if due[m.Front] {
			text := ""
			f.tested[m.Front] = began
			if was, text = f.judge(m, was, failed[i], tests[m.Front].Failures, now); text != "" {
				changed = append(changed, changeOfMember(m, text))
			}
		}
		if was != nil {
			out = append(out, *was)
		}
		next = min(next, max(f.tested[m.Front].Add(tests[m.Front].Every).Sub(now), leastPause))
	}
	return next, f.w.setOut(ctx, f.place, out, st.Estate, changed, &f.lines, tell)
}

// outOf finds a member among those that are out; nil where it is in.
func outOf(outs []driver.EjectedMember, m driver.Member) *driver.EjectedMember {
	if at := slices.IndexFunc(outs, driver.EjectedMember{Front: m.Front, Service: m.Service, Machine: m.Machine}.Same); at >= 0 {
		return &outs[at]
	}
	return nil
}

// judge says whether a member is out after a test, and what changes by that. was is how it was out before; nil where it was in.
func (f *frontWatch) judge(m driver.Member, was *driver.EjectedMember, failed error, failures int, now time.Time) (out *driver.EjectedMember, changed string) {
	name := memberName{m.Front, m.Service, m.Machine}
	if failed == nil {
		delete(f.missed, name)
		switch {
		case was == nil:
			return nil, ""
		case was.Draining && now.Sub(was.Since) < drainedFor:
			return was, ""
		}
		return nil, passesAgain
	}
	f.missed[name]++
	if was != nil || f.missed[name] < failures && !errors.Is(failed, unix.ECONNREFUSED) {
		return was, ""
	}
	return &driver.EjectedMember{Front: m.Front, Service: m.Service, Machine: m.Machine, Since: now, Why: failed.Error()}, " gets no new connections: " + failed.Error()
}

// passesAgain is what is reported of a member that is back in.
const passesAgain = " passes its test, and gets connections again"

// setOut takes members out, and puts all others back in. It reports what changed, and records it, within the limits of lines.
func (w *Work) setOut(ctx context.Context, place driver.MemberTester, out []driver.EjectedMember, e *estate.Estate, changed []memberChange, lines *lines, tell func(string)) error {
	if err := place.SetEjected(ctx, out); err != nil {
		return err
	}
	for _, one := range changed {
		if err := lines.note(ctx, w, e, one.machine, "spread", one.text, tell); err != nil {
			return err
		}
	}
	return nil
}

// retestTime is how long a machine that was just started may take to pass the tests of its members.
const retestTime = 3 * time.Second

// Retest tests anew the members that some machines are, which were just started, and puts those back in that pass. Others stay out until
// whoever watches the fronts finds that they pass. Where none of them is out nothing is done.
func (w *Work) Retest(ctx context.Context, machines []string, tell func(string)) error {
	return w.retest(ctx, machines, &lines{}, tell)
}

// retest is Retest within limits of lines.
func (w *Work) retest(ctx context.Context, machines []string, lines *lines, tell func(string)) error {
	place, err := w.Site.Members()
	if errors.Is(err, site.ErrNoTests) {
		return nil
	}
	if err != nil {
		return err
	}
	outs, err := place.Ejected(ctx)
	theirs := func(o driver.EjectedMember) bool { return !o.Draining && slices.Contains(machines, o.Machine) }
	waiting := map[memberName]bool{}
	for _, o := range outs {
		if theirs(o) {
			waiting[memberName{o.Front, o.Service, o.Machine}] = true
		}
	}
	if err != nil || len(waiting) == 0 {
		return err
	}
	st, err := w.Installed(ctx)
	if err != nil {
		return err
	}
	members := slices.DeleteFunc(testedMembers(st.Plan), func(m driver.Member) bool { return !waiting[memberName{m.Front, m.Service, m.Machine}] })
	back := map[memberName]bool{}
	for end := w.Clock.Now().Add(retestTime); ; {
		members = slices.DeleteFunc(members, func(m driver.Member) bool {
			passes := place.TestMember(ctx, m) == nil
			if passes {
				back[memberName{m.Front, m.Service, m.Machine}] = true
			}
			return passes
		})
		if len(members) == 0 || !w.Clock.Now().Before(end) || w.Clock.Sleep(ctx, 200*time.Millisecond) != nil {
			break
		}
	}
	if outs, err = place.Ejected(ctx); err != nil { // whoever watches may have changed them meanwhile
		return err
	}
	var left []driver.EjectedMember
	var changed []memberChange
	for _, o := range outs {
		if theirs(o) && back[memberName{o.Front, o.Service, o.Machine}] {
			changed = append(changed, changeOfMember(driver.Member{Front: o.Front, Service: o.Service, Machine: o.Machine}, passesAgain))
		} else {
			left = append(left, o)
		}
	}
	if len(changed) == 0 {
		return nil
	}
	return w.setOut(ctx, place, left, st.Estate, changed, lines, tell)
}
