// Package sitetest is the suite that every site must pass. It uses nothing but
// the Site interface.
package sitetest

import (
	"context"
	"io"
	"net"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/change"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/journal"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
	"ironbark/internal/site"
)

// Clock is a clock that the suite sets. It is safe for concurrent use.
type Clock struct {
	mu sync.Mutex
	at time.Time
}

// NewClock returns a clock that stands at a moment.
func NewClock(at time.Time) *Clock { return &Clock{at: at} }

// Now returns the moment that was set.
func (c *Clock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.at
}

// Set sets the moment.
func (c *Clock) Set(at time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.at = at
}

// Sleep moves the clock.
func (c *Clock) Sleep(_ context.Context, d time.Duration) error {
	c.Set(c.Now().Add(d))
	return nil
}

const nouns = `estate: saltmarsh
site: sim
people: {mara: {groups: [ops]}}
networks: {estuary: {space: [10.60.0.0/16], outside: true, subnets: {landing: {range: [10.60.1.0/24]}}}}
machines:
  gauge-1: {image: linux-web, size: c1m1, at: landing, address: auto}
  gauge-2: {image: linux-web, size: c1m1, at: landing, console: true, password: true}
`

// Run runs the suite. open opens one and the same site, as another process would,
// each time that it is called; a fresh one in each test.
func Run(t *testing.T, fresh func(t *testing.T, c *Clock) (open func() site.Site)) {
	start := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	for name, test := range map[string]func(*suite){
		"nothing is there and nothing is open at first": (*suite).empty,
		"what is made is reported, once":                (*suite).made,
		"one enacts at a time, on what was reviewed":    (*suite).exclusive,
		"an opening ends by itself, or early":           (*suite).openings,
		"nothing is opened on an unfinished site":       (*suite).unfinished,
		"the past is told as it was":                    (*suite).past,
		"the journal is whole":                          (*suite).journal,
		"machines start, stop and keep what they have":  (*suite).power,
		"a serial line is used if it is permitted":      (*suite).console,
		"a session comes about as packets do":           (*suite).dial,
		"a session ends with what lets it in":           (*suite).sessionEnds,
		"an image is what was uploaded":                 (*suite).upload,
	} {
		t.Run(name, func(t *testing.T) {
			c := NewClock(start)
			open := fresh(t, c)
			s := &suite{T: t, clock: c, open: open, site: open()}
			test(s)
		})
	}
}

type suite struct {
	*testing.T
	clock *Clock
	open  func() site.Site
	site  site.Site
}

func (s *suite) ctx() context.Context { return s.Context() }

func (s *suite) report() *site.Report {
	r, err := s.site.Report(s.ctx())
	require.NoError(s, err)
	return r
}

// enact makes all of the suite's estate with one rule.
func (s *suite) enact(rule string) {
	files := []estate.File{{Name: estate.FileName, Data: []byte(nouns)}, {Name: estate.RulesName, Data: []byte(rule + "\n")}}
	e, err := estate.Read(files[0], files[1])
	require.NoError(s, err)
	r := s.report()
	wanted, err := change.Wanted(e, r.Things, nil, nil)
	require.NoError(s, err)
	changes, err := change.Between(r.Things, wanted, nil)
	require.NoError(s, err)
	x, err := s.site.Begin(s.ctx(), "mara", r.Revision)
	require.NoError(s, err)
	for _, c := range changes {
		require.NoError(s, x.Do(s.ctx(), c))
		require.NoError(s, x.Do(s.ctx(), c), "a step that is done again changes nothing")
	}
	plan := flow.Compile(e, change.Assigned(s.report().Things))
	require.NoError(s, x.Finish(s.ctx(), plan.Rows(), files, "finished"))
	require.NoError(s, x.Close())
	s.clock.Set(s.clock.Now().Add(time.Minute))
}

// public is gauge-1's public address.
func (s *suite) public() (public netip.Addr) {
	for _, t := range s.report().Things {
		if t.ID() == "machine gauge-1" {
			public = t.Given.Addr4
		}
	}
	require.True(s, public.IsValid())
	return public
}

// probe sends a packet to gauge-1's public address.
func (s *suite) probe(service flow.Service) bool {
	public := s.public()
	fates, err := s.site.Probe(s.ctx(), site.Packet{Source: netip.MustParseAddr("198.51.100.7"), Target: public, Service: service})
	require.NoError(s, err)
	require.NotEmpty(s, fates)
	return fates[0].Open
}

func (s *suite) empty() {
	r := s.report()
	assert.Empty(s, r.Things)
	assert.Empty(s, r.Files)
	assert.Empty(s, r.Openings)
	assert.Nil(s, r.Unfinished)
	fates, err := s.site.Probe(s.ctx(), site.Packet{Source: netip.MustParseAddr("198.51.100.7"), Target: netip.MustParseAddr("203.0.113.10"), Service: 443})
	require.NoError(s, err)
	assert.False(s, fates[0].Open)
	assert.NotEmpty(s, s.site.Catalogue().Images)
	assert.NotEmpty(s, s.site.Callers())
}

func (s *suite) made() {
	s.enact("allow https from everywhere to gauge-1")
	r := s.report()
	machines := 0
	for _, t := range r.Things {
		if t.Kind == change.Machine {
			machines++
			assert.Equal(s, site.Running, r.Machines[t.Name].State)
		}
	}
	assert.Equal(s, 2, machines)
	assert.Len(s, r.Files, 2)
	assert.True(s, s.probe(443))
	assert.False(s, s.probe(22), "administrative")
	assert.False(s, s.probe(80), "by default")
	again, err := s.open().Report(s.ctx())
	require.NoError(s, err)
	assert.Equal(s, r.Things, again.Things, "another process sees the same")
}

func (s *suite) exclusive() {
	first, err := s.site.Begin(s.ctx(), "mara", s.report().Revision)
	require.NoError(s, err)
	other := s.open()
	_, err = other.Begin(s.ctx(), "ilse", s.report().Revision)
	busy := &site.Busy{}
	require.ErrorAs(s, err, &busy)
	require.NoError(s, first.Close())
	_, err = other.Begin(s.ctx(), "ilse", 99)
	require.ErrorIs(s, err, site.ErrChanged)
	second, err := other.Begin(s.ctx(), "ilse", s.report().Revision)
	require.NoError(s, err, "a broken-off enactment can be taken up")
	require.NoError(s, second.Close())
}

// granted is an opening of ssh to gauge-1 for an hour, and its tables.
func (s *suite) granted() (opening.Opening, func(opening.Opening) []flow.Row) {
	words, err := sentence.ParseArgs([]string{`open ssh to gauge-1 from 198.51.100.7 until 2026-11-23T10:00:00Z because "suite"`}, s.clock.Now())
	require.NoError(s, err)
	plan := s.report().Plan
	from, err := flow.ParseAddrRuns([]string{"198.51.100.7"})
	require.NoError(s, err)
	ssh, err := flow.ParseServiceRuns([]string{"tcp/22"})
	require.NoError(s, err)
	o := opening.Opening{
		Person: "mara", Words: words.(sentence.Open), Begin: s.clock.Now(), End: words.(sentence.Open).Until, Machines: []string{"gauge-1"}, From: from, Services: ssh,
	}
	return o, func(o opening.Opening) []flow.Row { return plan.RuleRows(o.Rule(plan)) }
}

func (s *suite) openings() {
	s.enact("allow https from everywhere to gauge-1")
	o, rows := s.granted()
	_, err := s.site.Open(s.ctx(), s.report().Revision+1, o, rows)
	require.ErrorIs(s, err, site.ErrChanged)
	require.False(s, s.probe(22))
	held, err := s.site.Open(s.ctx(), s.report().Revision, o, rows)
	require.NoError(s, err)
	assert.Positive(s, held.ID)
	assert.True(s, s.probe(22))
	s.clock.Set(o.End.Add(-time.Nanosecond))
	assert.True(s, s.probe(22))
	s.clock.Set(o.End)
	assert.False(s, s.probe(22), "at exactly its end it is over")
	s.clock.Set(o.Begin.Add(time.Minute))
	require.NoError(s, s.site.End(s.ctx(), "mara", "", held.ID))
	assert.False(s, s.probe(22))
	list, err := s.site.Openings(s.ctx())
	require.NoError(s, err)
	require.Len(s, list, 1)
	assert.Equal(s, "mara", list[0].EndedBy)
	require.NoError(s, s.site.End(s.ctx(), "mara", "", held.ID), "closing twice is no error")
}

func (s *suite) unfinished() {
	s.enact("allow https from everywhere to gauge-1")
	o, rows := s.granted()
	held, err := s.site.Open(s.ctx(), s.report().Revision, o, rows)
	require.NoError(s, err)
	x, err := s.site.Begin(s.ctx(), "mara", s.report().Revision)
	require.NoError(s, err)
	require.NoError(s, x.Close())
	require.NotNil(s, s.report().Unfinished)
	_, err = s.site.Open(s.ctx(), s.report().Revision, o, rows)
	require.ErrorIs(s, err, site.ErrUnfinished)
	require.NoError(s, s.site.End(s.ctx(), "mara", "", held.ID), "closing always works")
	assert.False(s, s.probe(22))
}

func (s *suite) past() {
	s.enact("allow https from everywhere to gauge-1")
	o, rows := s.granted()
	_, err := s.site.Open(s.ctx(), s.report().Revision, o, rows)
	require.NoError(s, err)
	want := s.report().Plan.Rows()
	s.clock.Set(s.clock.Now().Add(time.Minute))
	require.NoError(s, s.site.End(s.ctx(), "mara", "done", 1))
	var moments []site.Moment
	require.NoError(s, s.site.Past(s.ctx(), func(m site.Moment) (bool, error) {
		moments = append(moments, m)
		return true, nil
	}))
	require.GreaterOrEqual(s, len(moments), 3)
	opened, closed := moments[len(moments)-2], moments[len(moments)-1]
	assert.Equal(s, want, opened.Plan.Rows(), "the tables as they were while it was open")
	assert.Equal(s, s.report().Plan.Rows(), closed.Plan.Rows())
	assert.Len(s, opened.Files, 2)
	assert.Equal(s, "mara", opened.Person)
	require.Len(s, closed.Openings, 1)
	assert.False(s, closed.Openings[0].Ended.IsZero())
}

func (s *suite) journal() {
	s.enact("allow https from everywhere to gauge-1")
	o, rows := s.granted()
	_, err := s.site.Open(s.ctx(), s.report().Revision, o, rows)
	require.NoError(s, err)
	entries, head, err := s.site.Journal(s.ctx())
	require.NoError(s, err)
	require.NoError(s, journal.Verify(entries, head))
	actions := map[string]int{}
	for _, e := range entries {
		actions[e.Action]++
	}
	assert.Equal(s, 2, actions["enact"])
	assert.Positive(s, actions["make"])
	assert.Equal(s, 1, actions["open"])
}

func (s *suite) power() {
	s.enact("allow https from everywhere to gauge-1")
	before := s.report()
	m, err := s.site.Power(s.ctx(), "mara", "gauge-1", site.Power{Do: site.Stop, Grace: time.Minute})
	require.NoError(s, err)
	assert.Equal(s, site.Stopping, m.State)
	s.clock.Set(m.Ready)
	r := s.report()
	assert.Equal(s, site.Stopped, r.Machines["gauge-1"].State)
	assert.False(s, r.Machines["gauge-1"].Hard)
	assert.True(s, r.Machines["gauge-1"].Listens.IsEmpty())
	assert.Equal(s, before.Things, r.Things, "it keeps its addresses")
	again, err := s.site.Power(s.ctx(), "mara", "gauge-1", site.Power{Do: site.Stop})
	require.NoError(s, err, "stopping twice is no error")
	assert.Equal(s, site.Stopped, again.State)
	m, err = s.site.Power(s.ctx(), "mara", "gauge-1", site.Power{Do: site.Start})
	require.NoError(s, err)
	assert.Equal(s, site.Starting, m.State)
	s.clock.Set(m.Ready)
	assert.Equal(s, site.Running, s.report().Machines["gauge-1"].State)
	m, err = s.site.Power(s.ctx(), "mara", "gauge-1", site.Power{Do: site.Restart})
	require.NoError(s, err)
	assert.True(s, m.Hard, "without any grace it is switched off")
	s.clock.Set(m.Ready)
	r = s.report()
	assert.Equal(s, site.Running, r.Machines["gauge-1"].State)
	assert.False(s, r.Machines["gauge-1"].Listens.IsEmpty())
	none := &site.NoMachine{}
	_, err = s.site.Power(s.ctx(), "mara", "gauge-9", site.Power{Do: site.Start})
	require.ErrorAs(s, err, &none)
	boot, err := s.site.Boot(s.ctx(), "gauge-1")
	require.NoError(s, err)
	assert.Contains(s, boot.Log, "gauge-1")
	entries, head, err := s.site.Journal(s.ctx())
	require.NoError(s, err)
	require.NoError(s, journal.Verify(entries, head))
	assert.Equal(s, "restart", entries[len(entries)-1].Action)
}

func (s *suite) console() {
	s.enact("allow https from everywhere to gauge-1")
	assert.True(s, s.report().Machines["gauge-2"].Locked, "no password was ever set")
	require.NoError(s, s.site.Secure(s.ctx(), "mara", "gauge-2", "$2a$04$abcdefghijklmnopqrstuuKlzDJjLuyGwE9QcX7zcNmHpwFCoYs2G"))
	assert.False(s, s.report().Machines["gauge-2"].Locked)
	refused := &site.NoConsole{}
	_, err := s.site.Console(s.ctx(), "mara", "gauge-1")
	require.ErrorAs(s, err, &refused, "off by default")
	assert.NotEmpty(s, refused.Mend)
	line, err := s.site.Console(s.ctx(), "mara", "gauge-2")
	require.NoError(s, err)
	log := make([]byte, 64)
	n, err := line.Read(log)
	require.NoError(s, err)
	assert.NotZero(s, n)
	require.NoError(s, line.Close())
	entries, _, err := s.site.Journal(s.ctx())
	require.NoError(s, err)
	last := entries[len(entries)-2:]
	assert.Equal(s, []string{"console", "console"}, []string{last[0].Action, last[1].Action}, "its beginning and its end")
}

func (s *suite) dial() {
	s.enact("allow https from everywhere to gauge-1")
	from := s.site.Callers()[0]
	to := netip.AddrPortFrom(s.public(), 22)
	closed := &site.Unreachable{}
	_, err := s.site.Dial(s.ctx(), from, to)
	require.ErrorAs(s, err, &closed)
	assert.Equal(s, "administrative", closed.Reason)
	o, rows := s.granted()
	_, err = s.site.Open(s.ctx(), s.report().Revision, o, rows)
	require.NoError(s, err)
	c, err := s.site.Dial(s.ctx(), from, to)
	require.NoError(s, err)
	hello := make([]byte, 4)
	_, err = io.ReadFull(c, hello)
	require.NoError(s, err)
	assert.Equal(s, "SSH-", string(hello))
	require.NoError(s, c.Close())
	key, err := s.site.HostKey(s.ctx(), "gauge-1")
	require.NoError(s, err)
	assert.Contains(s, key, "ssh-")
	again, err := s.open().HostKey(s.ctx(), "gauge-1")
	require.NoError(s, err)
	assert.Equal(s, key, again, "it stays")
	m, err := s.site.Power(s.ctx(), "mara", "gauge-1", site.Power{Do: site.Stop, Grace: time.Minute})
	require.NoError(s, err)
	s.clock.Set(m.Ready)
	nobody := &site.Refused{}
	_, err = s.site.Dial(s.ctx(), from, to)
	require.ErrorAs(s, err, &nobody, "packets pass, and nothing listens")
}

// sessionEnds begins sessions and takes away, as another process, what let them in:
// each ends within a second.
func (s *suite) sessionEnds() {
	s.enact("allow https from everywhere to gauge-1")
	from, to := s.site.Callers()[0], netip.AddrPortFrom(s.public(), 22)
	begin := func() net.Conn {
		c, err := s.site.Dial(s.ctx(), from, to)
		require.NoError(s, err)
		_, err = io.ReadFull(c, make([]byte, 4))
		require.NoError(s, err)
		return c
	}
	ends := func(c net.Conn, why string) {
		require.NoError(s, c.SetReadDeadline(time.Now().Add(2*time.Second))) // a second, and one for a busy machine
		_, err := io.Copy(io.Discard, c)
		require.NoError(s, err, "%s: the session goes on", why)
		require.NoError(s, c.Close())
	}
	open := func() int64 {
		o, rows := s.granted()
		held, err := s.site.Open(s.ctx(), s.report().Revision, o, rows)
		require.NoError(s, err)
		return held.ID
	}
	other := s.open()
	id := open()
	c := begin()
	require.NoError(s, other.End(s.ctx(), "mara", "", id))
	ends(c, "its opening was closed")
	open()
	c = begin()
	s.clock.Set(s.clock.Now().Add(2 * time.Hour))
	ends(c, "its opening ended by itself")
	s.clock.Set(s.clock.Now().Add(-2 * time.Hour))
	open()
	c = begin()
	_, err := other.Power(s.ctx(), "mara", "gauge-1", site.Power{Do: site.Stop, Grace: time.Minute})
	require.NoError(s, err)
	ends(c, "its machine was stopped")
}

func (s *suite) upload() {
	x, err := s.site.Begin(s.ctx(), "mara", s.report().Revision)
	require.NoError(s, err)
	image := change.Thing{Kind: change.Image, Name: "gauge-os", Spec: change.Spec{File: "gauge-os.raw", Format: "raw", GB: 2}}
	torn := iotest.TimeoutReader(strings.NewReader("half of it"))
	require.Error(s, x.Upload(s.ctx(), change.Change{Verb: change.Make, Thing: image}, io.MultiReader(strings.NewReader("begun, "), torn)))
	assert.Empty(s, s.report().Things, "one that breaks off is no image")
	require.NoError(s, x.Upload(s.ctx(), change.Change{Verb: change.Make, Thing: image}, strings.NewReader("all of it")))
	require.NoError(s, x.Close())
	things := s.report().Things
	require.Len(s, things, 1)
	assert.Equal(s, "07630777646b9ad0ad5940c20f7703e5ba431d90dc8f191af6916bffca3e859c", things[0].Spec.Digest, "SHA-256")
	assert.Equal(s, 2, things[0].Spec.GB)
}
