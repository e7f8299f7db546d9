package linux

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/driver"
	"ironbark/internal/driver/drivertest"
	"ironbark/internal/estate"
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
	"ironbark/internal/oracle"
	"ironbark/internal/sentence"
)

// TestTheKernelSaysWhatTheAnalysisSays builds random estates with openings in namespaces, and
// sends real packets: TCP, UDP and ping, of both families, from outside and inside, to
// every door. The kernel, the analysis and the slow oracle must agree on every one.
// IRONBARK_TRUTH sets how many packets are sent.
func TestTheKernelSaysWhatTheAnalysisSays(t *testing.T) {
	needRoot(t)
	wanted := 2000
	if n, err := strconv.Atoi(os.Getenv("IRONBARK_TRUTH")); err == nil {
		wanted = n
	}
	sent, open := 0, 0
	for seed := 1; sent < wanted; seed++ {
		w := rapid.Custom(oracle.Draw).Example(seed)
		moment := []time.Duration{time.Minute, 21 * time.Minute, 61 * time.Minute, 3 * time.Hour}[seed%4]
		n, passed := judgeInKernel(t, w, oracle.Epoch.Add(moment), min(120, wanted-sent), seed)
		sent, open = sent+n, open+passed
	}
	t.Logf("%d packets, %d open", sent, open)
	require.Greater(t, open, wanted/50)
}

// shifted returns a plan all of whose moments lie elsewhere by a length of time.
func shifted(p *flow.Plan, by time.Duration) *flow.Plan {
	move := func(t *time.Time) {
		if !t.IsZero() {
			*t = t.Add(by)
		}
	}
	q := p.With()
	q.Outward = slices.Clone(q.Outward)
	for _, list := range [][]flow.Rule{q.Rules, q.Outward} {
		for i := range list {
			move(&list[i].Begin)
			move(&list[i].Until)
		}
	}
	for i := range q.Doors { // of a plan that nobody else has
		move(&q.Doors[i].Until)
	}
	return q
}

// waysOf are numbers for a plan's published ports.
func waysOf(plan *flow.Plan) Ways {
	w, err := Ways{}.For(plan)
	if err != nil {
		panic(err)
	}
	return w
}

// built is a random estate in the kernel.
type built struct {
	s     *Site
	plan  *flow.Plan // openings included
	owner map[netip.Addr]string
	links []link
	open  []opened
	c     *filterConn
	by    time.Duration // how much later than the kernel's clock its moments are written
}

// build builds an estate as if now were a moment.
func build(t *testing.T, w oracle.World, moment time.Time) *built {
	b := &built{s: New(t.TempDir(), drivertest.RealClock()), owner: map[netip.Addr]string{}}
	t.Cleanup(func() { require.NoError(t, b.s.RemoveEverything()) })
	b.by = -(-time.Until(moment)).Truncate(time.Second)
	b.plan = shifted(w.Plan(), -b.by)
	require.NoError(t, b.s.build())
	addrs := map[string][]netip.Addr{}
	for _, m := range b.plan.Machines {
		for _, i := range m.Interfaces {
			addrs[m.Name] = append(addrs[m.Name], i.Addrs...)
			for _, a := range i.Addrs {
				if !m.IsSiteHost() { // it is where calls outside go
					b.owner[a] = m.Name
				}
			}
		}
		if m.IsSiteHost() {
			continue
		}
		require.NoError(t, b.s.joinMachine(m.Name, addrs[m.Name], true))
	}
	require.NoError(t, b.s.routeSpaces(b.plan))
	var err error
	linked := maps.Clone(addrs)
	delete(linked, estate.SiteHost)
	b.links, err = b.s.links(linked, nil)
	require.NoError(t, err)
	var passing []driver.Passage
	for _, o := range w.Openings {
		p := driver.Passage{ID: o.ID, Begin: o.Begin.Add(-b.by)}
		for _, part := range o.Parts {
			p.Parts = append(p.Parts, driver.Part{Machines: part.Machines, Services: part.Services, From: part.From, End: part.End.Add(-b.by)})
		}
		passing = append(passing, p)
	}
	last := uint32(0)
	for name, to := range addrs {
		if boxes := openings(passing, name); len(boxes) > 0 {
			for _, a := range to {
				b.open = append(b.open, newOpened(a, boxes, &last))
			}
		}
	}
	var done func()
	b.c, done, err = b.s.conn()
	require.NoError(t, err)
	t.Cleanup(done)
	b.install(t, b.plan)
	return b
}

// install puts a plan in place; openings stay.
func (b *built) install(t *testing.T, plan *flow.Plan) {
	require.NoError(t, install(b.c, NewTable(plan, nil, waysOf(plan)), b.links, b.open, nil, time.Now()))
}

// namespace is that from which a source sends.
func (b *built) namespace(source netip.Addr) string {
	if m := b.owner[source]; m != "" {
		return b.s.prefix + "-" + m
	}
	return b.s.prefix + ".probe"
}

// gets sends a packet and tells whether it gets where it is sent.
func (b *built) gets(p driver.Packet, want bool) (got bool, err error) {
	for end := time.Now().Add(5 * slow()); ; { // an emulated machine may be too slow to answer at once
		if got, err = b.tried(p, want); got == want || !want || err != nil || time.Now().After(end) {
			return got, err
		}
	}
}

func (b *built) tried(p driver.Packet, want bool) (bool, error) {
	if b.owner[p.Source] != "" && b.plan.Internet().Contains(flow.PointOf(p.Target)) {
		return b.s.leaves(context.Background(), b.namespace(p.Source), p, want)
	}
	return gets(context.Background(), b.namespace(p.Source), p, want)
}

// saysOf is what the analysis says of a packet; ok is false where a spread has members that
// are not alike, of which the kernel chooses one.
func saysOf(view *exposure.View, p driver.Packet) (open, ok bool) {
	ok = true
	for k, part := range view.Ask(span.One(p.Service), span.One(flow.PointOf(p.Source)), exposure.Target{Machine: -1, Address: p.Target}) {
		ok = ok && (k == 0 || part.Open == open)
		open = part.Open
	}
	return open, ok
}

// judgeInKernel builds one estate as if now were a moment, sends packets, and tells how many
// there were and how many got through.
func judgeInKernel(t *testing.T, w oracle.World, moment time.Time, count, seed int) (sent, passed int) {
	var failed bool
	t.Run(fmt.Sprint("seed=", seed), func(t *testing.T) {
		b := build(t, w, moment)
		sent, passed = b.judge(t, w, moment, count, seed)
		failed = t.Failed()
	})
	require.False(t, failed)
	return sent, passed
}

func (b *built) judge(t *testing.T, w oracle.World, moment time.Time, count, seed int) (sent, passed int) {
	packets := drawPackets(w, b.plan, count, seed)
	view := exposure.NewView(b.plan, time.Now())
	var mu sync.Mutex
	var all sync.WaitGroup
	room := make(chan struct{}, 32)
	for _, p := range packets {
		want, ok := saysOf(view, p)
		if !ok {
			continue
		}
		for _, v := range w.Ask(p.Source, p.Target, p.Service, moment) {
			require.Equal(t, v.Open, want, "the oracle: %v", p)
		}
		all.Go(func() {
			room <- struct{}{}
			defer func() { <-room }()
			got, err := b.gets(p, want)
			mu.Lock()
			defer mu.Unlock()
			assert.NoError(t, err, "%v", p)
			assert.Equal(t, want, got, "%v to %v %v at %v, seed %d, in\n%s", p.Source, p.Target, p.Service, moment, seed, w.Text)
			sent++
			if want {
				passed++
			}
		})
	}
	all.Wait()
	return sent, passed
}

// drawPackets draws packets that can be sent, half of them where something may be open.
func drawPackets(w oracle.World, plan *flow.Plan, count, seed int) (list []driver.Packet) {
	r := rand.New(rand.NewPCG(uint64(seed), 7))
	sources, services := w.Interesting()
	var targets []netip.Addr
	own := map[netip.Addr]string{}
	for _, m := range plan.Machines {
		for _, i := range m.Interfaces {
			for _, a := range i.Addrs {
				targets, own[a] = append(targets, a), m.Name
			}
		}
		if a := m.Public.Addr4; a.IsValid() {
			targets = append(targets, a)
		}
		sources = append(sources, targets[len(targets)-1])
	}
	for _, f := range plan.Fronts {
		for _, family := range sentence.Families {
			if a := f.Public.Addr(family); a.IsValid() {
				targets = append(targets, a, a)
			}
		}
	}
	for tries := 0; len(list) < count && tries < 200*count; tries++ {
		p := driver.Packet{Source: sources[r.IntN(len(sources))], Target: targets[r.IntN(len(targets))], Service: services[r.IntN(len(services))]}
		if len(plan.Doors) > 0 && r.IntN(4) == 0 {
			p.Service = plan.Doors[r.IntN(len(plan.Doors))].Service
		}
		if len(plan.Rules) > 0 && r.IntN(2) == 0 { // where a rule speaks
			rule := plan.Rules[r.IntN(len(plan.Rules))]
			if runs := rule.From.Runs(); len(runs) > 0 {
				p.Source = runs[r.IntN(len(runs))].Lo.Addr()
			}
			if runs := rule.Services.Runs(); len(runs) > 0 {
				p.Service = runs[r.IntN(len(runs))].Lo
			}
		}
		if r.IntN(4) == 0 { // a machine calls outside, where a rule speaks if there is one
			p.Source, p.Target = targets[r.IntN(len(targets))], sources[r.IntN(len(sources))]
			if len(plan.Outward) > 0 {
				rule := plan.Outward[r.IntN(len(plan.Outward))]
				p.Target, p.Service = rule.From.Runs()[r.IntN(len(rule.From.Runs()))].Lo.Addr(), rule.Services.Runs()[r.IntN(len(rule.Services.Runs()))].Lo
			}
			if own[p.Source] == "" || !plan.Internet().Contains(flow.PointOf(p.Target)) {
				continue
			}
		}
		if sendable(plan, p, own) {
			list = append(list, p)
		}
	}
	return list
}

// sendable reports whether such a packet can be sent, and stays one on its way.
func sendable(plan *flow.Plan, p driver.Packet, own map[netip.Addr]string) bool {
	bad := func(a netip.Addr) bool {
		return !a.IsGlobalUnicast() || a.Is4() && (a.As4()[0] == 0 || a.As4()[0] >= 240)
	}
	switch {
	case p.Source.Is4() != p.Target.Is4(), bad(p.Source), bad(p.Target), plan.Own().Contains(flow.PointOf(p.Source)):
		return false
	case p.Service == flow.Other, p.Service < flow.Ping && p.Service.Port() == 0:
		return false
	case own[p.Source] != "" && own[p.Source] == own[p.Target]: // it never leaves the machine
		return false
	}
	for _, d := range plan.Doors {
		if d.Service == p.Service && (protocol(d.On) != protocol(d.Service) || d.On < flow.Ping && d.On.Port() == 0) {
			return false // the kernel has no such doors
		}
	}
	return true
}
