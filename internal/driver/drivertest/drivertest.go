// Package drivertest is the suite that every driver must pass. It uses nothing but the
// Driver interface.
package drivertest

import (
	"context"
	"io"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/journal"
)

// Clock is a clock that a test sets, or the real one, for which a test waits. It is safe
// for concurrent use.
type Clock struct {
	mu   sync.Mutex
	at   time.Time
	real bool
}

// NewClock returns a clock that stands at a moment.
func NewClock(at time.Time) *Clock { return &Clock{at: at} }

// RealClock returns the computer's clock. Lengths of time are 600 times shorter by it.
func RealClock() *Clock { return &Clock{real: true} }

// Now returns the moment that was set.
func (c *Clock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.real {
		return time.Now()
	}
	return c.at
}

// Length is how long a length of time is by this clock.
func (c *Clock) Length(d time.Duration) time.Duration {
	if c.real {
		return d / 600
	}
	return d
}

// Set sets the moment, or waits until it has come.
func (c *Clock) Set(at time.Time) {
	if c.real {
		time.Sleep(time.Until(at))
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.at = at
}

// Sleep moves the clock.
func (c *Clock) Sleep(_ context.Context, d time.Duration) error {
	c.Set(c.Now().Add(d))
	return nil
}

// Start is the moment at which the suites begin.
var Start = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

const nouns = `estate: saltmarsh
site: sim
people: {mara: {groups: [ops]}}
networks: {estuary: {space: [10.60.0.0/16], outside: true, subnets: {landing: {range: [10.60.1.0/24]}}}}
machines:
  gauge-1: {image: linux-web, size: c1m1, at: landing, address: auto}
  gauge-2: {image: linux-web, size: c1m1, at: landing, password: true}
fronts: {pier: {network: estuary, address: auto}}
`

// Files are those of the suites' estate, with rules.
func Files(rules string) []estate.File { return FilesOf("linux-web", rules) }

func readOf(image, rules string) (*estate.Estate, error) {
	files := FilesOf(image, rules)
	return estate.Read(files[0], files[1:]...)
}

// FilesOf is Files with machines of an image.
func FilesOf(image, rules string) []estate.File {
	data := []byte(strings.ReplaceAll(nouns, "linux-web", image))
	return []estate.File{{Name: estate.FileName, Data: data}, {Name: estate.RulesName, Data: []byte(rules + "\n")}}
}

// Run runs the suite. fresh makes a place; open opens it as another process would, each
// time that it is called.
func Run(t *testing.T, fresh func(t *testing.T, c *Clock) (open func() driver.Driver)) {
	RunWith(t, "linux-web", func() *Clock { return NewClock(Start) }, fresh)
}

// RunWith runs the suite with machines of an image, by a clock of its own in each test.
func RunWith(t *testing.T, image string, clock func() *Clock, fresh func(t *testing.T, c *Clock) (open func() driver.Driver)) {
	for name, test := range map[string]func(*suite){
		"nothing is there and nothing is open at first":   (*suite).empty,
		"a change that is done twice is done once":        (*suite).twice,
		"a plan is installed on the mark it was for":      (*suite).installed,
		"an opening passes from its beginning to its end": (*suite).passes,
		"what is shut stays shut":                         (*suite).shut,
		"an opening outlives another plan":                (*suite).beside,
		"the identity is kept":                            (*suite).identity,
		"machines start, stop and keep what they have":    (*suite).power,
		"a serial line is used if it is permitted":        (*suite).console,
		"a machine calls outside what it may":             (*suite).calls,
		"a session comes about as packets do":             (*suite).dial,
		"a session ends with what lets it in":             (*suite).sessionEnds,
		"what is drained keeps its sessions":              (*suite).drained,
		"an image is what was uploaded":                   (*suite).upload,
	} {
		t.Run(name, func(t *testing.T) {
			c := clock()
			open := fresh(t, c)
			test(&suite{T: t, image: image, clock: c, open: open, d: open()})
		})
	}
}

type suite struct {
	*testing.T
	image string
	clock *Clock
	open  func() driver.Driver
	d     driver.Driver
}

var client = netip.MustParseAddr("198.51.100.7")

func (s *suite) observe() *driver.Observation {
	scope := driver.Everything
	scope.Openings = []int64{1, 2, 7}
	o, err := s.d.Observe(s.Context(), scope)
	require.NoError(s, err)
	return o
}

func (s *suite) plan(rules string) *flow.Plan {
	e, err := readOf(s.image, rules)
	require.NoError(s, err)
	return flow.Compile(e, change.Assigned(s.observe().Resources))
}

func (s *suite) install(rules string) {
	require.NoError(s, s.d.Install(s.Context(), s.plan(rules), s.observe().Mark))
}

// build makes all of the suite's estate, twice, and installs one rule.
func (s *suite) build() {
	e, err := readOf(s.image, "")
	require.NoError(s, err)
	wanted, err := change.Desired(e, nil, nil, nil)
	require.NoError(s, err)
	changes, err := change.Diff(nil, wanted, nil)
	require.NoError(s, err)
	for _, c := range changes {
		for range 2 {
			_, err := s.d.Apply(s.Context(), c, nil)
			require.NoError(s, err)
		}
	}
	s.install("allow https from everywhere to gauge-1")
	s.wait(time.Minute)
	for _, name := range []string{"gauge-1", "gauge-2"} {
		s.becomes(name, driver.Running)
	}
}

// becomes waits, where time is real, until a machine is in a state.
func (s *suite) becomes(name string, state driver.State) {
	if s.clock.real {
		require.Eventually(s, func() bool { return s.observe().Machines[name].State == state }, 90*time.Second, 50*time.Millisecond, "machine %s is not %s", name, state)
	}
	require.Equal(s, state, s.observe().Machines[name].State)
}

// wait lets time pass.
func (s *suite) wait(d time.Duration) { s.clock.Set(s.clock.Now().Add(s.clock.Length(d))) }

// around asks just before a moment and from it on whether ssh passes.
func (s *suite) around(at time.Time, before, after bool, why string) {
	asks := func() bool { return s.probe(22) }
	assert.Equal(s, before, s.justBefore(at, asks), "just before "+why)
	assert.Equal(s, after, s.from(at, asks), "at "+why)
}

// answerTime is how long before a moment one begins to ask what is so just before it, where time is real and others keep the machine busy.
const answerTime = 6 * time.Second

// justBefore returns an answer that was there before a moment: the last one, where time is real and an answer takes its time.
func (s *suite) justBefore(at time.Time, asks func() bool) (answer bool) {
	if !s.clock.real {
		s.clock.Set(at.Add(-time.Nanosecond))
		return asks()
	}
	decided := false
	for s.clock.Set(at.Add(-answerTime)); ; {
		latest := asks()
		if !s.clock.Now().Before(at) {
			break
		}
		answer, decided = latest, true
		time.Sleep(50 * time.Millisecond)
	}
	require.True(s, decided, "no answer came in %s before the moment", answerTime)
	return answer
}

// from returns the answer from a moment on.
func (s *suite) from(at time.Time, asks func() bool) bool {
	if s.clock.real {
		at = at.Add(50 * time.Millisecond)
	}
	s.clock.Set(at)
	return asks()
}

// public is gauge-1's public address.
func (s *suite) public() netip.Addr {
	t, ok := change.Find(s.observe().Resources, change.Machine, "gauge-1")
	require.True(s, ok && t.Given.Addr4.IsValid())
	return t.Given.Addr4
}

// probe sends a packet to gauge-1's public address.
func (s *suite) probe(service flow.Service) bool {
	results, err := s.d.Probe(s.Context(), driver.Packet{Source: client, Target: s.public(), Service: service})
	require.NoError(s, err)
	require.NotEmpty(s, results)
	return results[0].Open
}

// passage is one of ssh to gauge-1 for an hour from now.
func (s *suite) passage(id int64) driver.Passage {
	from, err := flow.ParseAddrRuns([]string{client.String()})
	require.NoError(s, err)
	now := s.clock.Now()
	return driver.Passage{
		ID: id, Begin: now, Sentence: "open ssh to gauge-1 from 198.51.100.7",
		Parts: []driver.Part{{Machines: []string{"gauge-1"}, Services: flow.ServicesAt(flow.TCPPort(22)), From: from, End: now.Add(s.clock.Length(time.Hour))}},
	}
}

func (s *suite) pass(p driver.Passage) { require.NoError(s, s.d.Pass(s.Context(), p)) }

func (s *suite) empty() {
	o := s.observe()
	assert.Empty(s, o.Resources)
	assert.Empty(s, o.Plan.Rules)
	assert.Empty(s, o.Shut)
	assert.Zero(s, o.Identity)
	mark, err := s.d.Mark(s.Context())
	require.NoError(s, err)
	assert.Equal(s, o.Mark, mark)
	results, err := s.d.Probe(s.Context(), driver.Packet{Source: client, Target: netip.MustParseAddr("203.0.113.10"), Service: 443})
	require.NoError(s, err)
	assert.False(s, results[0].Open)
	addrs, err := s.d.ClientAddrs(s.Context())
	require.NoError(s, err)
	assert.NotEmpty(s, addrs)
}

func (s *suite) twice() {
	s.build()
	o := s.observe()
	assert.Len(s, o.Machines, 2)
	again, err := s.open().Observe(s.Context(), driver.Everything)
	require.NoError(s, err)
	assert.Equal(s, o.Resources, again.Resources, "another process sees the same")
	one, ok := change.Find(o.Resources, change.Machine, "gauge-2")
	require.True(s, ok)
	for range 2 {
		_, err := s.d.Apply(s.Context(), change.Change{Verb: change.Remove, Resource: one}, nil)
		require.NoError(s, err)
	}
	assert.NotContains(s, s.observe().Machines, "gauge-2")
}

func (s *suite) installed() {
	s.build()
	assert.True(s, s.probe(443))
	assert.False(s, s.probe(22), "administrative")
	assert.False(s, s.probe(80), "by default")
	plan, mark := s.plan("allow http from everywhere to gauge-1"), s.observe().Mark
	assert.Equal(s, s.plan("allow https from everywhere to gauge-1").Rows(), s.observe().Plan.Rows(), "it is read back as it was installed")
	require.NoError(s, s.d.Shut(s.Context(), s.clock.Now(), 99))
	require.ErrorIs(s, s.d.Install(s.Context(), plan, mark), driver.ErrMoved, "somebody changed it meanwhile")
	assert.True(s, s.probe(443))
	require.NoError(s, s.d.Install(s.Context(), plan, s.observe().Mark))
	assert.False(s, s.probe(443))
	assert.True(s, s.probe(80))
}

func (s *suite) passes() {
	s.build()
	p := s.passage(1)
	p.Begin = p.Begin.Add(s.clock.Length(10 * time.Minute))
	mark := s.observe().Mark
	s.pass(p)
	passing := s.observe().Mark
	assert.NotEqual(s, mark, passing)
	assert.False(s, s.probe(22), "its beginning lies ahead")
	s.around(p.Begin, false, true, "its beginning")
	assert.Equal(s, passing, s.observe().Mark, "a beginning that comes does not change the mark")
	p.Parts[0].End = p.Parts[0].End.Add(s.clock.Length(time.Hour))
	s.pass(p)
	s.clock.Set(p.Parts[0].End.Add(-s.clock.Length(30 * time.Minute)))
	assert.True(s, s.probe(22), "another of that number took its place")
	ends := []time.Time{}
	for _, r := range s.observe().Plan.Rules {
		if r.Opening == 1 {
			ends = append(ends, r.Until)
		}
	}
	require.Len(s, ends, 1)
	assert.True(s, ends[0].Equal(p.Parts[0].End), "its end is read back")
	s.around(p.Parts[0].End, true, false, "its end")
}

// Passing lists the openings that pass among some that are asked for.
func Passing(t testing.TB, d driver.Driver, ids ...int64) (list []int64) {
	o, err := d.Observe(t.Context(), driver.Scope{Plan: true, Some: true, Openings: ids, After: -1})
	require.NoError(t, err)
	for _, r := range o.Plan.Rules {
		if r.Kind == flow.Opening {
			list = append(list, r.Opening)
		}
	}
	return list
}

func (s *suite) shut() {
	s.build()
	s.pass(s.passage(1))
	s.pass(s.passage(2))
	require.True(s, s.probe(22))
	at := s.clock.Now()
	require.NoError(s, s.d.Shut(s.Context(), at, 1))
	assert.True(s, s.probe(22), "the other one holds")
	require.NoError(s, s.d.Shut(s.Context(), at, 1, 2, 7), "one that never passed too, and one twice")
	assert.False(s, s.probe(22))
	for _, id := range []int64{1, 7} {
		require.ErrorIs(s, s.open().Pass(s.Context(), s.passage(id)), driver.ErrShut)
	}
	assert.False(s, s.probe(22))
	assert.Len(s, s.observe().Shut, 3)
	assert.Equal(s, int64(7), s.observe().Highest)
	s.pass(s.passage(8))
	s.pass(s.passage(9))
	assert.Equal(s, []int64{9}, Passing(s, s.d, 9, 7), "of those that pass, the one that is asked for")
	assert.True(s, s.observe().Shut[2].Equal(at))
}

func (s *suite) beside() {
	s.build()
	s.pass(s.passage(1))
	s.install("allow http from everywhere to gauge-1")
	assert.True(s, s.probe(22))
	s.install("deny ssh from 198.51.100.0/24 to all")
	assert.False(s, s.probe(22), "a deny is above it")
	s.install("")
	require.NoError(s, s.d.Shut(s.Context(), s.clock.Now(), 1))
	s.install("allow http from everywhere to gauge-1")
	assert.False(s, s.probe(22), "what was shut comes back with no plan")
}

func (s *suite) identity() {
	id := driver.Identity{Estate: "saltmarsh", Head: journal.Head{Seq: 3, Hash: "c0ffee"}}
	require.NoError(s, s.d.Keep(s.Context(), id))
	o, err := s.open().Observe(s.Context(), driver.Scope{After: -1})
	require.NoError(s, err)
	assert.Equal(s, id, o.Identity)
	require.NoError(s, s.d.AcceptClock(s.Context()))
	assert.Equal(s, id, s.observe().Identity)
}

func (s *suite) power() {
	s.build()
	before := s.observe()
	m, _, err := s.d.Power(s.Context(), "gauge-1", driver.Power{Do: driver.Stop, Grace: time.Minute})
	require.NoError(s, err)
	s.clock.Set(m.Ready)
	o := s.observe()
	assert.Equal(s, driver.Stopped, o.Machines["gauge-1"].State)
	assert.False(s, o.Machines["gauge-1"].Forced)
	assert.True(s, o.Machines["gauge-1"].Listens.IsEmpty())
	assert.Equal(s, before.Resources, o.Resources, "it keeps its addresses")
	assert.Equal(s, before.Mark, o.Mark, "power concerns neither resources nor tables")
	again, _, err := s.d.Power(s.Context(), "gauge-1", driver.Power{Do: driver.Stop})
	require.NoError(s, err, "stopping twice is no error")
	assert.Equal(s, driver.Stopped, again.State)
	m, _, err = s.d.Power(s.Context(), "gauge-1", driver.Power{Do: driver.Start})
	require.NoError(s, err)
	s.clock.Set(later(m.Ready, s.clock.Now()))
	s.becomes("gauge-1", driver.Running)
	m, _, err = s.d.Power(s.Context(), "gauge-1", driver.Power{Do: driver.Restart})
	require.NoError(s, err)
	assert.True(s, m.Forced, "without any grace it is switched off")
	s.clock.Set(later(m.Ready, s.clock.Now()))
	s.becomes("gauge-1", driver.Running)
	assert.False(s, s.observe().Machines["gauge-1"].Listens.IsEmpty())
	none := &driver.NoMachineError{}
	_, _, err = s.d.Power(s.Context(), "gauge-9", driver.Power{Do: driver.Start})
	require.ErrorAs(s, err, &none)
	boot, err := s.d.Boot(s.Context(), "gauge-1")
	require.NoError(s, err)
	assert.Contains(s, boot.Log, "gauge-1")
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

func (s *suite) console() {
	s.build()
	assert.True(s, s.observe().Machines["gauge-2"].Locked, "no password was ever set")
	require.NoError(s, s.d.SetPasswordHash(s.Context(), "gauge-2", "$2a$04$abcdefghijklmnopqrstuuKlzDJjLuyGwE9QcX7zcNmHpwFCoYs2G"))
	assert.False(s, s.observe().Machines["gauge-2"].Locked)
	resource, _ := change.Find(s.observe().Resources, change.Machine, "gauge-2")
	for _, takes := range []bool{false, true} { // what is taken away is gone for good
		resource.Spec.Password = takes
		_, err := s.d.Apply(s.Context(), change.Change{Verb: change.Alter, Resource: resource}, nil)
		require.NoError(s, err)
	}
	assert.True(s, s.observe().Machines["gauge-2"].Locked)
	refused := &driver.NoConsoleError{}
	closed := func(machine string, by driver.ConsoleBy) {
		s.Helper()
		_, err := s.d.Console(s.Context(), machine, by)
		require.ErrorAs(s, err, &refused)
		assert.NotEmpty(s, refused.Advice().Commands())
	}
	at := s.clock.Now()
	part := driver.Part{Machines: []string{"gauge-2"}, Services: flow.ConsoleOnly, From: flow.ConsoleSource, End: at.Add(time.Hour)}
	for id, p := range map[int64]driver.Passage{
		1: {Begin: at, Parts: []driver.Part{part}},
		2: {Begin: at, Parts: []driver.Part{{Machines: []string{"gauge-2"}, Services: flow.AnyService, From: flow.AllAddrs, End: at.Add(time.Hour)}}},
		3: {Begin: at.Add(time.Hour), Parts: []driver.Part{{Machines: []string{"gauge-2"}, Services: flow.ConsoleOnly, From: flow.ConsoleSource, End: at.Add(2 * time.Hour)}}},
		4: {Begin: at.Add(-time.Hour), Parts: []driver.Part{{Machines: []string{"gauge-2"}, Services: flow.ConsoleOnly, From: flow.ConsoleSource, End: at}}},
	} {
		p.ID, p.Sentence = id, "open console to gauge-2"
		s.pass(p)
	}
	closed("gauge-2", driver.ConsoleBy{})
	closed("gauge-1", driver.ConsoleBy{Openings: []int64{1}})
	closed("gauge-2", driver.ConsoleBy{Openings: []int64{2, 3, 4, 5}}) // any is not of consoles, one begins later, one is over, one is none
	for _, by := range []driver.ConsoleBy{{Openings: []int64{4, 1}}, {Emergency: true}} {
		line, err := s.d.Console(s.Context(), "gauge-2", by)
		require.NoError(s, err)
		n, err := line.Read(make([]byte, 64))
		require.NoError(s, err)
		assert.NotZero(s, n)
		require.NoError(s, line.Close())
	}
	require.NoError(s, s.d.Shut(s.Context(), at, 1))
	closed("gauge-2", driver.ConsoleBy{Openings: []int64{1}})
}

func (s *suite) upload() {
	image := change.Change{Verb: change.Make, Resource: change.Resource{Kind: change.Image, Name: "gauge-os", Spec: change.Spec{File: "gauge-os.raw", Format: "raw", GB: 2}}}
	torn := iotest.TimeoutReader(strings.NewReader("half of it"))
	_, err := s.d.Apply(s.Context(), image, io.MultiReader(strings.NewReader("begun, "), torn))
	require.Error(s, err)
	assert.Empty(s, s.observe().Resources, "one that breaks off is no image")
	t, err := s.d.Apply(s.Context(), image, strings.NewReader("all of it"))
	require.NoError(s, err)
	assert.Equal(s, "07630777646b9ad0ad5940c20f7703e5ba431d90dc8f191af6916bffca3e859c", t.Spec.Digest, "SHA-256")
	assert.Equal(s, []change.Resource{t}, s.observe().Resources)
}
