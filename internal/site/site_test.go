package site_test

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/change"
	"ironbark/internal/cost"
	"ironbark/internal/driver"
	"ironbark/internal/driver/drivertest"
	"ironbark/internal/driver/linux"
	"ironbark/internal/driver/memory"
	"ironbark/internal/driver/sim"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/ledger"
	"ironbark/internal/ledger/sqlite"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
	"ironbark/internal/site"
)

// both runs a test on the stand-in cloud and on the place in memory.
func both(t *testing.T, test func(*suite)) { on(t, test, "sim", "memory") }

func on(t *testing.T, test func(*suite), places ...string) {
	for _, name := range places {
		t.Run(name, func(t *testing.T) { test(newSuite(t, name)) })
	}
}

func newSuite(t *testing.T, name string) *suite {
	s := &suite{T: t, image: "linux-web", clock: drivertest.NewClock(drivertest.Start), dir: filepath.Join(t.TempDir(), "state")}
	place := memory.New(s.clock, cost.Catalogue{})
	s.place = func() driver.Driver { return place }
	switch name {
	case "linux":
		if os.Getuid() != 0 {
			t.Skip("network namespaces and the packet filter need root")
		}
		s.clock, s.image = drivertest.RealClock(), "light"
		s.place = func() driver.Driver {
			d := linux.New(s.dir, s.clock)
			t.Cleanup(func() { require.NoError(t, d.Close()) })
			return d
		}
		t.Cleanup(func() { require.NoError(t, linux.New(s.dir, s.clock).RemoveEverything()) })
	case "sim":
		s.place = func() driver.Driver {
			d := sim.New(s.dir, s.clock, sim.Faults{})
			t.Cleanup(func() { require.NoError(t, d.Close()) })
			return d
		}
	}
	s.ledger = func() ledger.Ledger {
		l := sqlite.New(s.dir, sqlite.Options{})
		t.Cleanup(func() { require.NoError(t, l.Close()) })
		return l
	}
	s.site = s.open()
	return s
}

type suite struct {
	*testing.T
	image  string // of its machines
	clock  *drivertest.Clock
	dir    string
	place  func() driver.Driver
	ledger func() ledger.Ledger
	site   *site.Site
}

// open opens the site as another process would.
func (s *suite) open() *site.Site { return site.New(s.ledger(), s.place(), s.clock) }

func (s *suite) report() *site.Report {
	r, err := s.site.Report(s.Context())
	require.NoError(s, err)
	return r
}

// planned works out the changes to the suites' estate, and the plan with a rule.
func (s *suite) planned(rule string) (*estate.Estate, []change.Change) {
	files := drivertest.FilesOf(s.image, rule)
	e, err := estate.Read(files[0], files[1])
	require.NoError(s, err)
	has := s.report().Resources
	wanted, err := change.Desired(e, has, nil, nil)
	require.NoError(s, err)
	changes, err := change.Diff(has, wanted, nil)
	require.NoError(s, err)
	return e, changes
}

// enact makes all of the suites' estate with one rule, by a site that may die on the way.
func (s *suite) enact(by *site.Site, rule string) error {
	e, changes := s.planned(rule)
	x, err := by.Begin(s.Context(), "mara", s.report().Basis, changes)
	if err != nil {
		return err
	}
	defer x.Close()
	for _, c := range changes {
		if err := x.Do(s.Context(), c, nil); err != nil {
			return err
		}
	}
	report := s.report()
	plan := flow.Compile(e, change.Assigned(report.Resources))
	return x.Finish(s.Context(), report.Basis, plan, drivertest.FilesOf(s.image, rule), nil, "finished")
}

const rule = "allow https from everywhere to gauge-1"

func (s *suite) enacted() {
	require.NoError(s, s.enact(s.site, rule))
	s.clock.Set(s.clock.Now().Add(s.clock.Length(time.Minute)))
}

// granted is an opening of ssh to gauge-1 for a time.
func (s *suite) granted(d time.Duration) opening.Opening {
	words, err := sentence.ParseArgs([]string{`open ssh to gauge-1 from 198.51.100.7 for 1h because "suite"`}, s.clock.Now())
	require.NoError(s, err)
	from, err := flow.ParseAddrRuns([]string{"198.51.100.7"})
	require.NoError(s, err)
	return opening.Opening{
		Person: "mara", Words: words.(sentence.Open), Begin: s.clock.Now(),
		Parts: []opening.Part{{Machines: []string{"gauge-1"}, From: from, Services: flow.ServicesAt(flow.TCPPort(22)), End: s.clock.Now().Add(d)}},
	}
}

// passes reports whether ssh gets to gauge-1's public address.
func (s *suite) passes() bool {
	t, ok := change.Find(s.report().Resources, change.Machine, "gauge-1")
	require.True(s, ok)
	results, err := s.site.Probe(s.Context(), driver.Packet{Source: s.granted(0).Parts[0].From.Runs()[0].Lo.Addr(), Target: t.Given.Addr4, Service: flow.TCPPort(22)})
	require.NoError(s, err)
	return results[0].Open
}

func TestOneEnactsAtATime(t *testing.T) {
	both(t, func(s *suite) {
		s.enacted()
		r := s.report()
		assert.Len(s, r.Files, 2)
		assert.Nil(s, r.Unfinished)
		assert.Empty(s, r.Gone)
		first, err := s.site.Begin(s.Context(), "mara", r.Basis, nil)
		require.NoError(s, err)
		other := s.open()
		busy := &ledger.BusyError{}
		_, err = other.Begin(s.Context(), "ilse", s.report().Basis, nil)
		require.ErrorAs(s, err, &busy)
		require.NoError(s, first.Close())
		_, err = other.Begin(s.Context(), "ilse", r.Basis, nil)
		require.ErrorIs(s, err, ledger.ErrChanged)
		_, err = other.Open(s.Context(), s.report().Basis, s.granted(time.Hour))
		require.ErrorIs(s, err, ledger.ErrUnfinished)
		second, err := other.Begin(s.Context(), "ilse", s.report().Basis, nil)
		require.NoError(s, err, "one that was broken off is taken up")
		require.NoError(s, second.Close())
	})
}

func TestAnOpeningEndsByItselfOrEarly(t *testing.T) {
	both(t, func(s *suite) {
		s.enacted()
		r := s.report()
		o, err := s.site.Open(s.Context(), r.Basis, s.granted(time.Hour))
		require.NoError(s, err)
		assert.Equal(s, int64(1), o.ID)
		assert.True(s, s.passes())
		_, err = s.site.Open(s.Context(), r.Basis, s.granted(time.Hour))
		require.ErrorIs(s, err, ledger.ErrChanged)
		s.clock.Set(o.End().Add(-1))
		assert.True(s, s.passes())
		s.clock.Set(o.End().Add(-time.Minute))
		require.NoError(s, s.open().End(s.Context(), "ilse", "", o.ID))
		assert.False(s, s.passes())
		list, err := s.site.Openings(s.Context())
		require.NoError(s, err)
		require.Len(s, list, 1)
		assert.Equal(s, "ilse", list[0].EndedBy)
		require.NoError(s, s.site.End(s.Context(), "mara", "", o.ID), "closing twice is no error")
		o.Parts[0].End = o.Parts[0].End.Add(time.Hour)
		not := &site.NotOpenedError{}
		_, err = s.site.Open(s.Context(), s.report().Basis, o)
		require.ErrorAs(s, err, &not, "what was closed is not extended")
		require.NoError(s, not.Back)
		assert.False(s, s.passes())
	})
}

func TestHistoryIsToldAsItWas(t *testing.T) {
	both(t, func(s *suite) {
		s.enacted()
		o, err := s.site.Open(s.Context(), s.report().Basis, s.granted(time.Hour))
		require.NoError(s, err)
		want := s.report().Plan.Rows()
		s.clock.Set(s.clock.Now().Add(time.Minute))
		require.NoError(s, s.site.End(s.Context(), "mara", "done", o.ID))
		var moments []site.Moment
		require.NoError(s, s.site.History(s.Context(), time.Time{}, func(m site.Moment) (bool, error) {
			moments = append(moments, m)
			return true, nil
		}))
		require.GreaterOrEqual(s, len(moments), 3)
		opened, closed := moments[len(moments)-2], moments[len(moments)-1]
		assert.Equal(s, want, opened.Plan.Rows(), "the tables as they were while it was open")
		assert.Equal(s, s.report().Plan.Rows(), closed.Plan.Rows())
		assert.Len(s, opened.Files, 2)
		assert.Len(s, opened.Openings, 1)
		assert.Empty(s, closed.Openings, "what was over is in none of it")
		found, err := s.site.CheckRecord(s.Context(), true)
		require.NoError(s, err)
		assert.Empty(s, found)
	})
}

// TestWhatOthersDidToThePlaceIsTold installs something behind the ledger's back.
func TestWhatOthersDidToThePlaceIsTold(t *testing.T) {
	both(t, func(s *suite) {
		s.enacted()
		require.Empty(s, s.report().Outside)
		one, ok := change.Find(s.report().Resources, change.Machine, "gauge-2")
		require.True(s, ok)
		d := s.place()
		_, err := d.Apply(s.Context(), change.Change{Verb: change.Remove, Resource: one}, nil)
		require.NoError(s, err)
		one.Name = "stranger"
		_, err = d.Apply(s.Context(), change.Change{Verb: change.Make, Resource: one}, nil)
		require.NoError(s, err)
		o := s.granted(time.Hour)
		require.NoError(s, d.Pass(s.Context(), driver.Passage{ID: 9, Begin: o.Begin, Parts: []driver.Part{{Machines: o.Parts[0].Machines, Services: o.Parts[0].Services, From: o.Parts[0].From, End: o.Parts[0].End}}}))
		r := s.report()
		require.Len(s, r.Gone, 1)
		assert.Equal(s, "gauge-2", r.Gone[0].Name)
		stranger, ok := change.Find(r.Resources, change.Machine, "stranger")
		require.True(s, ok && stranger.Unmanaged)
		assert.Contains(s, r.Altered[9], "the record has no such opening")
		require.NoError(s, d.Install(s.Context(), flow.Compile(&estate.Estate{}, flow.Assigned{}), r.Mark))
		if _, records := d.(*sim.Site); !records {
			require.Len(s, s.report().Outside, 1, "where the place has no record of it, the difference tells")
		}
	})
}

// TestARecordThatIsGoneIsToldByThePlace loses the ledger, its end, and the place.
func TestARecordThatIsGoneIsToldByThePlace(t *testing.T) {
	both(t, func(s *suite) {
		s.enacted()
		place := s.place
		dir := s.dir
		s.dir = filepath.Join(s.TempDir(), "fresh")
		s.place = func() driver.Driver { return place() }
		kept := site.New(s.ledger(), s.driverOf(dir, place), s.clock)
		found, err := kept.CheckRecord(s.Context(), false)
		require.NoError(s, err)
		require.Len(s, found, 1)
		assert.Contains(s, found[0].Why, "the whole record is empty")
		broken := &ledger.RecordError{}
		_, err = kept.Begin(s.Context(), "mara", must(kept.Report(s.Context())).Basis, nil)
		require.ErrorAs(s, err, &broken)
		_, err = kept.Acknowledge(s.Context(), "mara")
		require.NoError(s, err)
		found, err = kept.CheckRecord(s.Context(), true)
		require.NoError(s, err)
		assert.Empty(s, found)
		x, err := kept.Begin(s.Context(), "mara", must(kept.Report(s.Context())).Basis, nil)
		require.NoError(s, err)
		require.NoError(s, x.Close())
	})
}

func must(r *site.Report, err error) *site.Report {
	if err != nil {
		panic(err)
	}
	return r
}

// driverOf opens the place whose state is in a folder.
func (s *suite) driverOf(dir string, place func() driver.Driver) driver.Driver {
	if _, ok := place().(*sim.Site); !ok {
		return place()
	}
	d := sim.New(dir, s.clock, sim.Faults{})
	s.Cleanup(func() { require.NoError(s, d.Close()) })
	return d
}

var errKilled = errors.New("killed")

// TestKilledAtEveryBoundary breaks each kind of step off before and after every write
// of the ledger and of the driver, as if the process were gone. What the next process
// finds is less open, or what was meant, and both sides agree.
func TestKilledAtEveryBoundary(t *testing.T) {
	steps := map[string]struct {
		before func(s *suite)
		do     func(s *suite, by *site.Site) error
		after  func(s *suite)
	}{
		"open": {(*suite).enacted, func(s *suite, by *site.Site) error {
			_, err := by.Open(s.Context(), s.report().Basis, s.granted(time.Hour))
			return err
		}, func(s *suite) { s.agree(1) }},
		"extend": {func(s *suite) {
			s.enacted()
			_, err := s.site.Open(s.Context(), s.report().Basis, s.granted(time.Hour))
			require.NoError(s, err)
		}, func(s *suite, by *site.Site) error {
			longer := s.granted(2 * time.Hour)
			longer.ID = 1
			_, err := by.Open(s.Context(), s.report().Basis, longer)
			return err
		}, func(s *suite) {
			s.agree(1)
			assert.True(s, s.passes(), "it holds as it did, or longer")
		}},
		"close": {func(s *suite) {
			s.enacted()
			_, err := s.site.Open(s.Context(), s.report().Basis, s.granted(time.Hour))
			require.NoError(s, err)
		}, func(s *suite, by *site.Site) error { return by.End(s.Context(), "mara", "", 1) }, func(s *suite) { s.agree(1) }},
		"enact": {func(*suite) {}, func(s *suite, by *site.Site) error { return s.enact(by, rule) }, func(s *suite) {
			if r := s.report(); r.Unfinished != nil || len(r.Files) == 0 {
				for _, t := range r.Resources {
					assert.False(s, t.Unmanaged, "%s was made by ironbark", t.ID())
				}
				require.NoError(s, s.enact(s.site, rule))
			}
			r := s.report()
			assert.Nil(s, r.Unfinished)
			assert.Empty(s, r.Outside)
			_, left := s.planned(rule)
			assert.Empty(s, left)
		}},
		"cut": {func(s *suite) {
			s.enacted()
			_, err := s.site.Open(s.Context(), s.report().Basis, s.granted(time.Hour))
			require.NoError(s, err)
		}, func(s *suite, by *site.Site) error {
			e, _ := s.planned("")
			return by.Cut(s.Context(), "mara", s.report().Basis, flow.Compile(e, change.Assigned(s.report().Resources)), drivertest.FilesOf(s.image, ""), nil, "closed")
		}, func(s *suite) { s.agree(1) }},
	}
	for name, step := range steps {
		t.Run(name, func(t *testing.T) {
			on(t, func(s *suite) {
				for n := 0; ; n++ {
					one := newSuite(s.T, filepath.Base(s.Name()))
					step.before(one)
					k := &killer{after: n}
					err := step.do(one, site.New(&killedLedger{one.ledger(), k}, &killedDriver{one.place(), k}, one.clock))
					if !k.dead {
						require.NoError(s, err)
						assert.Greater(s, n, 1)
						return
					}
					if name == "close" || filepath.Base(s.Name()) != "linux" { // for what was closed is given a moment to be recorded
						one.clock.Set(one.clock.Now().Add(3 * time.Second))
					}
					one.site = one.open()
					step.after(one)
					found, err := one.site.CheckRecord(s.Context(), true)
					require.NoError(s, err)
					assert.Empty(s, found, "killed after %d", n)
				}
			}, "sim", "memory", "linux")
		})
	}
}

// agree requires that the record and the place say the same of an opening.
func (s *suite) agree(id int64) {
	r := s.report()
	recorded := false
	for _, o := range r.Openings {
		recorded = recorded || o.ID == id && o.Active(s.clock.Now())
	}
	assert.Equal(s, recorded, s.passes(), "an opening is recorded just as it passes")
	assert.Empty(s, r.Altered)
	st, err := s.ledger().State(s.Context(), ledger.Everything)
	require.NoError(s, err)
	assert.Empty(s, st.Intended)
}
