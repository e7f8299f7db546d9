package work

import (
	"context"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/driver/sim"
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/ledger"
	"ironbark/internal/ledger/sqlite"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
	"ironbark/internal/site"
)

// TestOnlyApprovalLetsARequestPass does anything at all to requests and openings: machines and people come and go, permits and denies change,
// they are narrowed, extended, shortened, approved, declined and restored while time passes. After each act nothing passes but what was granted
// at once, or approved.
func TestOnlyApprovalLetsARequestPass(t *testing.T) {
	did := map[string]int{}
	rapid.Check(t, func(t *rapid.T) {
		dir, err := os.MkdirTemp(fast, "ironbark-requests-")
		require.NoError(t, err)
		defer os.RemoveAll(dir)
		clock := &testClock{time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)}
		place := sim.New(filepath.Join(dir, StateDir), clock, sim.Faults{})
		defer place.Close()
		record := sqlite.New(filepath.Join(dir, StateDir), sqlite.Options{})
		defer record.Close()
		m := requests{t: t, place: place, record: record, clock: clock, dir: dir, granted: map[int64]bool{}, did: did}
		m.enact()
		for range rapid.IntRange(10, 20).Draw(t, "acts") {
			clock.at = clock.at.Add(time.Second) // so that what packets did before is history
			m.act()
			m.holds()
		}
		m.remembers()
	})
	t.Log(did)
	for _, act := range []string{"asked", "approved", "enacted", "narrowed", "enacted while one waits for several", "passed"} {
		require.Positive(t, did[act], act)
	}
}

type requests struct {
	t       *rapid.T
	place   driver.Driver
	record  ledger.Ledger
	clock   *testClock
	dir     string
	granted map[int64]bool // opened without approval, or approved
	did     map[string]int
	walked  []walked
}

// walked is which of the drawn sources reached ssh of which machines at a time.
type walked struct {
	at   time.Time
	open map[string]bool
}

func (m *requests) as(who string) *Work {
	return &Work{Folder: Folder{m.dir}, Site: site.New(m.record, m.place, m.clock), Clock: m.clock, Person: who}
}

// enact enacts drawn files: with either machine, with or without the people, permits and denies.
func (m *requests) enact() {
	nouns, rules := twoMachines, wideRules
	if m.did["asked"] > 0 {
		if rapid.IntRange(0, 2).Draw(m.t, "a machine less") == 0 {
			nouns = strings.Replace(nouns, "  m-2: {image: linux-web, size: c1m1, at: landing, address: auto}\n", "", 1)
		}
		if rapid.IntRange(0, 5).Draw(m.t, "a person less") == 0 {
			nouns = strings.Replace(nouns, "tom: {groups: [crew]}, ", "", 1)
			rules = strings.Replace(rules, "permit crew", "permit leads", 1)
		}
		if rapid.IntRange(0, 4).Draw(m.t, "a deny") == 0 {
			rules += "deny ssh from 198.51.100.0/29 to m-1\n"
		}
		if until := m.clock.at.Add(30 * time.Minute).UTC().Format(time.RFC3339); rapid.IntRange(0, 2).Draw(m.t, "a standing rule") == 0 {
			rules += "allow ssh from 198.51.100." + rapid.SampledFrom([]string{"0/28", "4/30", "8/29"}).Draw(m.t, "standing from") + " to all standing until " + until + " because \"drawn\"\n"
		}
		if rapid.IntRange(0, 4).Draw(m.t, "a narrower permit") == 0 {
			rules = strings.ReplaceAll(rules, "permit crew to open ssh to all", "permit crew to open ssh to m-1")
		}
	}
	ctx, w := context.Background(), m.as("ilse")
	if st, err := w.Held(ctx); err == nil {
		for _, o := range st.Report.Openings {
			if o.Waits() && o.Active(m.clock.at) && len(o.Machines()) > 1 {
				m.did["enacted while one waits for several"]++
			}
		}
	}
	r, err := w.Review(ctx, bothFiles(nouns, rules))
	require.NoError(m.t, err)
	if err := w.Enact(ctx, r, nil); err == nil {
		m.did["enacted"]++
		_ = w.Await(ctx, r, time.Minute, func(string, driver.Machine) {})
	}
}

// one draws one of the openings that there are, with whose it is, and one of those that wait; 0 where there is none.
func (m *requests) one() (id int64, owner string, waits int64) {
	report, err := m.as("ilse").Site.Report(context.Background())
	require.NoError(m.t, err)
	list := Active(report.Openings, m.clock.at)
	if len(list) == 0 {
		return 0, "mara", 0
	}
	o := list[rapid.IntRange(0, len(list)-1).Draw(m.t, "opening")]
	for _, w := range list {
		if w.Waits() && (waits == 0 || rapid.Bool().Draw(m.t, "this one")) {
			waits = w.ID
		}
	}
	return o.ID, o.Person, waits
}

// act does one thing; what is refused is refused.
func (m *requests) act() {
	ctx := context.Background()
	id, owner, waits := m.one()
	length := time.Duration(rapid.IntRange(1, 4).Draw(m.t, "half hours")) * 30 * time.Minute
	switch do := rapid.SampledFrom([]string{"ask", "ask", "ask", "open", "approve", "approve", "decline", "narrow", "extend", "shorten", "close", "enact", "enact", "enact", "restore", "wait"}).Draw(m.t, "act"); do {
	case "ask", "open":
		who := map[string]string{"ask": "tom", "open": "mara"}[do]
		text := "open ssh to " + rapid.SampledFrom([]string{"all", "all", "all", "m-1", "m-2"}).Draw(m.t, "to") + " from " +
			rapid.SampledFrom([]string{"198.51.100.0/28", "198.51.100.0/28", "198.51.100.4/30", "198.51.100.4"}).Draw(m.t, "from") + " "
		if rapid.IntRange(0, 3).Draw(m.t, "later") == 0 {
			text += "starting " + m.clock.at.Add(time.Hour).UTC().Format(time.RFC3339) + " "
		}
		s, err := sentence.ParseArgs([]string{text + "for " + sentence.DurationOf(length).String() + ` because "drawn"`}, m.clock.at)
		require.NoError(m.t, err)
		if g, err := m.as(who).Open(ctx, s.(sentence.Open)); err == nil && g.Opening.Waits() {
			m.did["asked"]++
		} else if err == nil {
			m.granted[g.Opening.ID] = true
		}
	case "approve":
		g, err := m.as(rapid.SampledFrom([]string{"ilse", "lena"}).Draw(m.t, "lead")).Approve(ctx, waits)
		if err == nil && !g.Opening.Waits() {
			m.did["approved"]++
			m.granted[g.Opening.ID] = true
		}
	case "decline":
		_, _ = m.as("lena").Decline(ctx, waits, "drawn")
	case "narrow":
		s, err := sentence.ParseArgs([]string{`open ssh to m-1 from 198.51.100.4 for 1h because "drawn"`}, m.clock.at)
		require.NoError(m.t, err)
		words := s.(sentence.Open)
		if _, err := m.as(owner).Narrow(ctx, id, Narrower{To: words.To, From: words.From}); err == nil {
			m.did["narrowed"]++
		}
	case "extend":
		d, err := sentence.ParseDuration(sentence.DurationOf(length).String())
		require.NoError(m.t, err)
		if g, err := m.as(owner).Extend(ctx, id, sentence.Open{For: d}); err == nil && !g.Opening.Waits() && owner == "mara" {
			m.granted[g.Opening.ID] = true
		}
	case "shorten":
		_, _ = m.as(owner).Narrow(ctx, id, Narrower{End: m.clock.at.Add(length / 2)})
	case "close":
		st, err := m.as("mara").HeldOf(ctx, id)
		require.NoError(m.t, err)
		_, _ = m.as("mara").Close(ctx, st, func(o opening.Opening) bool { return o.ID == id })
	case "enact":
		m.enact()
	case "restore":
		w := m.as("ilse")
		r, err := w.Restore(ctx)
		require.NoError(m.t, err)
		if r != nil && !r.IsNoOp() {
			_ = w.Enact(ctx, r, nil)
		}
	case "wait":
		m.clock.at = m.clock.at.Add(length)
	}
}

// holds asserts that what passes was granted, and that the site's report says so.
func (m *requests) holds() {
	o, err := m.place.Observe(context.Background(), driver.Scope{Plan: true, After: -1})
	require.NoError(m.t, err)
	for _, r := range o.Plan.Rules {
		if r.Kind == flow.Opening {
			require.True(m.t, m.granted[r.Opening], "opening %d passes, and nobody approved it", r.Opening)
		}
	}
	report, err := m.as("ilse").Site.Report(context.Background())
	require.NoError(m.t, err)
	for _, one := range report.Openings {
		require.False(m.t, one.Waits() && m.granted[one.ID] && one.Active(m.clock.at), "opening %d was approved, and waits", one.ID)
	}
	require.Empty(m.t, report.Altered)
	m.walk()
}

// drawnSources have each their own part of the sources that are drawn.
var drawnSources = []string{"198.51.100.1", "198.51.100.4", "198.51.100.5", "198.51.100.9", "198.51.100.99"}

// walk walks a packet from each of the drawn sources to each machine.
func (m *requests) walk() {
	ctx := context.Background()
	o, err := m.place.Observe(ctx, driver.Scope{Resources: true})
	require.NoError(m.t, err)
	now := walked{m.clock.at, map[string]bool{}}
	for _, t := range o.Resources {
		for _, from := range drawnSources {
			if t.Kind == change.Machine && t.Given.Addr4.IsValid() {
				results, err := m.place.Probe(ctx, driver.Packet{Source: netip.MustParseAddr(from), Target: t.Given.Addr4, Service: 22})
				require.NoError(m.t, err)
				now.open[t.Name+" from "+from] = slices.ContainsFunc(results, func(r driver.ProbeResult) bool { return r.Open })
			}
		}
	}
	m.walked = append(m.walked, now)
}

// remembers asserts that the history has open at each of the times what packets could do then, and nothing else.
func (m *requests) remembers() {
	all := func(*State) Keep { return func(e exposure.Entry) (exposure.Entry, bool) { return e, true } }
	intervals, err := m.as("mara").Since(context.Background(), m.walked[0].at.Add(-time.Hour), all)
	require.NoError(m.t, err)
	for _, then := range m.walked {
		open := map[string]int{}
		for _, s := range intervals {
			if then.at.Before(s.Begin) || !s.End.IsZero() && !then.at.Before(s.End) || s.Entry.Door.Kind != flow.DoorDirect {
				continue
			}
			for _, from := range drawnSources {
				if s.Entry.From.Contains(flow.PointOf(netip.MustParseAddr(from))) && s.Entry.Services.Contains(22) {
					open[s.cause.at+" from "+from]++
				}
			}
		}
		for what, passed := range then.open {
			want := 0
			if passed {
				want = 1
				m.did["passed"]++
			}
			require.Equal(m.t, want, open[what], "%s at %s: one spell, where a packet passed", what, then.at)
			delete(open, what)
		}
		require.Empty(m.t, open)
	}
}
