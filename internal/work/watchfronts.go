package work

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"ironbark/internal/driver"
	"ironbark/internal/flow"
	"ironbark/internal/site"
)

// misses is how often in a row a member must fail its test to be taken out. One refused connection is enough: nothing listens there. A
// member that passes once is back in.
const misses = 2

// drainedFor is how long a member that passes its test stays out for draining: whoever drains one stops it then, or was
// killed.
const drainedFor = 10 * time.Minute

// WatchFronts tests the members of all spreads that say how, again and again until ctx ends, and
// takes out those that do not pass. What it goes by is read anew each time. What it said last holds when it ends. tell is
// called with what changes, and with what goes wrong.
func (w *Work) WatchFronts(ctx context.Context, every time.Duration, tell func(string)) error {
	place, err := w.Site.Members()
	if err == nil && !place.Watched() {
		err = site.ErrNoTests
	}
	if err != nil {
		return err
	}
	missed := map[memberName]int{}
	wrong := ""
	for {
		if err := w.watchOnce(ctx, place, missed, tell); ctx.Err() == nil {
			now := ""
			if err != nil {
				now = err.Error()
			}
			if now != wrong && now != "" { // the same is told once
				tell(now)
			}
			wrong = now
		}
		if err := w.Clock.Sleep(ctx, every); err != nil {
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

func (w *Work) watchOnce(ctx context.Context, place driver.MemberTester, missed map[memberName]int, tell func(string)) error {
	st, err := w.Installed(ctx)
	if err != nil {
		return err
	}
	outs, err := place.Outs(ctx)
	if err != nil {
		return err
	}
	members := testedMembers(st.Plan)
	failed := make([]error, len(members))
	var all sync.WaitGroup
	room := make(chan struct{}, 32)
	for i, m := range members {
		room <- struct{}{}
		all.Go(func() {
			failed[i] = place.TestMember(ctx, m)
			<-room
		})
	}
	all.Wait()
	if err := ctx.Err(); err != nil { // what was broken off tells nothing
		return err
	}
	now := w.Clock.Now()
	var out []driver.Out
	var told []string
	for i, m := range members {
		name := memberName{m.Front, m.Service, m.Machine}
		at := slices.IndexFunc(outs, func(o driver.Out) bool { return memberName{o.Front, o.Service, o.Machine} == name })
		what := fmt.Sprintf("%s of %s at %s", m.Machine, m.Front, m.Service)
		if at >= 0 && outs[at].Draining && failed[i] == nil && now.Sub(outs[at].Since) < drainedFor {
			out = append(out, outs[at])
			continue
		}
		if failed[i] == nil {
			if delete(missed, name); at >= 0 {
				told = append(told, what+passesAgain)
			}
			continue
		}
		missed[name]++
		switch {
		case at >= 0:
			out = append(out, outs[at])
		case missed[name] >= misses || errors.Is(failed[i], unix.ECONNREFUSED):
			out = append(out, driver.Out{Front: m.Front, Service: m.Service, Machine: m.Machine, Since: now, Why: failed[i].Error()})
			told = append(told, what+" gets no new connections: "+failed[i].Error())
		}
	}
	return w.setOut(ctx, place, out, told, tell)
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
