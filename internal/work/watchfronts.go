package work

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"ironbark/internal/driver"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/site"
)

// misses is how often in a row a member must fail its test to be taken out, where its front says nothing else. One refused connection is
// enough: nothing listens there. A member that passes once is back in.
const misses = 2

// drainedFor is how long a member that passes its test stays out for draining: whoever drains one stops it then, or was
// killed.
const drainedFor = 10 * time.Minute

// WatchFronts tests the members of all spreads that say how, again and again until ctx ends, and takes out those that do not pass. every is
// the time between two tests where a front has none of its own. What it goes by is read anew each time. The last state of members stays when
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
}

// leastPause is the shortest time between two looks.
const leastPause = 100 * time.Millisecond

// testOf is how the members of a front are tested.
func (f *frontWatch) testOf(e *estate.Estate, front string) estate.FrontTest {
	test := estate.FrontTest{Every: f.every, Failures: misses}
	for _, one := range e.Fronts {
		if one.Name == front {
			test.Every, test.Failures = cmp.Or(one.Test.Every, test.Every), cmp.Or(one.Test.Failures, test.Failures)
		}
	}
	return test
}

// once tests the members whose time has come, and returns how long it is until that of others comes.
func (f *frontWatch) once(ctx context.Context, tell func(string)) (next time.Duration, err error) {
	next = f.every
	st, err := f.w.Installed(ctx)
	if err != nil {
		return next, err
	}
	outs, err := f.place.Outs(ctx)
	if err != nil {
		return next, err
	}
	began := f.w.Clock.Now()
	due := map[string]bool{}
	members := testedMembers(st.Plan)
	for _, m := range members {
		left := f.tested[m.Front].Add(f.testOf(st.Estate, m.Front).Every).Sub(began)
		due[m.Front] = left <= 0 || left > estate.MostTestEvery+f.every // the clock went back
	}
	failed := f.test(ctx, members, due)
	if err := ctx.Err(); err != nil { // what was broken off tells nothing
		return next, err
	}
	now := f.w.Clock.Now()
	var out []driver.Out
	var told []string
	for i, m := range members {
		name := memberName{m.Front, m.Service, m.Machine}
		test := f.testOf(st.Estate, m.Front)
		if due[m.Front] {
			f.tested[m.Front] = began
		}
		next = min(next, max(f.tested[m.Front].Add(test.Every).Sub(now), leastPause))
		at := slices.IndexFunc(outs, func(o driver.Out) bool { return memberName{o.Front, o.Service, o.Machine} == name })
		if !due[m.Front] {
			if at >= 0 {
				out = append(out, outs[at])
			}
			continue
		}
		what := fmt.Sprintf("%s of %s at %s", m.Machine, m.Front, m.Service)
		if at >= 0 && outs[at].Draining && failed[i] == nil && now.Sub(outs[at].Since) < drainedFor {
			out = append(out, outs[at])
			continue
		}
		if failed[i] == nil {
			if delete(f.missed, name); at >= 0 {
				told = append(told, what+passesAgain)
			}
			continue
		}
		f.missed[name]++
		switch {
		case at >= 0:
			out = append(out, outs[at])
		case f.missed[name] >= test.Failures || errors.Is(failed[i], unix.ECONNREFUSED):
			out = append(out, driver.Out{Front: m.Front, Service: m.Service, Machine: m.Machine, Since: now, Why: failed[i].Error()})
			told = append(told, what+" gets no new connections: "+failed[i].Error())
		}
	}
	return next, f.w.setOut(ctx, f.place, out, told, tell)
}

// test tests the members of the fronts whose time has come.
func (f *frontWatch) test(ctx context.Context, members []driver.Member, due map[string]bool) []error {
	failed := make([]error, len(members))
	var all sync.WaitGroup
	room := make(chan struct{}, 32)
	for i, m := range members {
		if !due[m.Front] {
			continue
		}
		room <- struct{}{}
		all.Go(func() {
			failed[i] = f.place.TestMember(ctx, m)
			<-room
		})
	}
	all.Wait()
	return failed
}

// passesAgain is what is reported of a member that is back in.
const passesAgain = " passes its test, and gets connections again"

// setOut takes members out, and puts all others back in. It reports what changed, and records it.
func (w *Work) setOut(ctx context.Context, place driver.MemberTester, out []driver.Out, changed []string, tell func(string)) error {
	if err := place.SetOut(ctx, out); err != nil {
		return err
	}
	for _, text := range changed {
		tell(text)
		if err := w.Site.NoteMember(ctx, w.Person, text); err != nil {
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
	place, err := w.Site.Members()
	if errors.Is(err, site.ErrNoTests) {
		return nil
	}
	if err != nil {
		return err
	}
	outs, err := place.Outs(ctx)
	theirs := func(o driver.Out) bool { return !o.Draining && slices.Contains(machines, o.Machine) }
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
	if outs, err = place.Outs(ctx); err != nil { // whoever watches may have changed them meanwhile
		return err
	}
	var left []driver.Out
	var texts []string
	for _, o := range outs {
		if theirs(o) && back[memberName{o.Front, o.Service, o.Machine}] {
			texts = append(texts, fmt.Sprintf("%s of %s at %s", o.Machine, o.Front, o.Service)+passesAgain)
		} else {
			left = append(left, o)
		}
	}
	if len(texts) == 0 {
		return nil
	}
	return w.setOut(ctx, place, left, texts, tell)
}
