package opening_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/opening"
	"ironbark/internal/oracle"
	"ironbark/internal/sentence"
)

const approvable = `permit ops to open rdp to all from everywhere up to 2h needing 2 approvals from leads, tom`

// people are those who ask and approve.
const people = `estate: small
site: sim
people: {mara: {groups: [ops, leads]}, ilse: {groups: [leads]}, tom: {}, dan: {}}
networks: {estuary: {space: [10.60.0.0/16], outside: true, subnets: {landing: {range: [10.60.1.0/24]}}}}
machines: {web-1: {image: i, size: s, at: landing, address: auto}, web-2: {image: i, size: s, at: landing, address: auto}}
`

// decide judges a request that waits once more, with approvals of some people.
func decide(w oracle.World, o opening.Opening, at time.Time, by ...string) (opening.Granted, error) {
	for _, p := range by {
		o.Approvals = append(o.Approvals, opening.Approval{Person: p, At: at})
	}
	return opening.Approved(opening.Request{
		Person: o.Person, Words: o.Words, Now: at, Estate: w.Estate, Plan: w.Plan(), Running: func(string) bool { return true },
	}, o)
}

func TestARequestWaitsForItsApprovals(t *testing.T) {
	w := oracle.WorldOf(people, approvable)
	at := func(d time.Duration) time.Time { return oracle.Epoch.Add(d) }
	s, err := sentence.ParseArgs([]string{`open rdp to all from 198.51.100.7 for 1h because "x"`}, oracle.Epoch)
	require.NoError(t, err)
	asked := opening.Request{Person: "mara", Words: s.(sentence.Open), Now: oracle.Epoch, Estate: w.Estate, Plan: w.Plan(), Running: func(string) bool { return true }}
	g, err := opening.Judge(asked)
	require.NoError(t, err)
	o := g.Opening
	o.ID = 1
	assert.True(t, o.Waits())
	assert.Empty(t, o.Rules(w.Plan()), "nothing of it passes")
	assert.Equal(t, opening.Waits, o.StateAt(at(0)))
	assert.Equal(t, opening.Over, o.StateAt(at(time.Hour)), "it lapses")
	for person, may := range map[string]bool{"mara": false, "ilse": true, "tom": true, "dan": false, "eve": false} {
		assert.Equal(t, may, o.MayApprove(person, w.Estate), person)
	}
	once := o
	once.Approvals = []opening.Approval{{Person: "ilse"}}
	assert.False(t, once.MayApprove("ilse", w.Estate), "each once")
	assert.True(t, once.MayApprove("tom", w.Estate))
	asked.Alike = []opening.Opening{o}
	_, err = opening.Judge(asked)
	require.ErrorContains(t, err, "waits for approval already")

	// Too few, of oneself, or of people who may not: it waits on.
	for _, by := range [][]string{nil, {"ilse"}, {"ilse", "mara"}, {"ilse", "dan"}} {
		g, err = decide(w, o, at(20*time.Minute), by...)
		require.NoError(t, err)
		assert.True(t, g.Opening.Waits(), "%v", by)
	}
	// Its time begins with the last approval.
	g, err = decide(w, o, at(20*time.Minute), "ilse", "tom")
	require.NoError(t, err)
	assert.False(t, g.Opening.Waits())
	assert.Equal(t, at(20*time.Minute), g.Opening.Begin)
	assert.Equal(t, at(80*time.Minute), g.Opening.End())
	assert.Len(t, g.Opening.Rules(w.Plan()), 1)

	// What has changed meanwhile counts: it only ever becomes narrower.
	narrower := oracle.WorldOf(people[:len(people)-len(`, web-2: {image: i, size: s, at: landing, address: auto}}`)-1]+"}\n", approvable)
	g, err = decide(narrower, o, at(20*time.Minute), "ilse", "tom")
	require.NoError(t, err)
	assert.Equal(t, []string{"web-1"}, g.Opening.Machines())
	for name, c := range map[string]struct {
		rules []string
		want  string
	}{
		"the permit is gone":      {nil, "no permit covers it any more"},
		"it needs more by now":    {[]string{"permit ops to open rdp to all from everywhere up to 2h needing 3 approvals from leads, tom, dan"}, "it needs 3 approvals of its own people, and has 2"},
		"it is for others by now": {[]string{"permit ops to open rdp to all from everywhere up to 2h needing 2 approvals from dan, leads"}, "and has 1"},
		"it is shorter by now":    {[]string{"permit ops to open rdp to all from everywhere up to 30m needing 2 approvals from leads, tom"}, "it is up to 30m"},
		"a deny":                  {[]string{approvable, "deny rdp from 198.51.100.0/24 to all"}, "a deny keeps all of it out"},
		"a guarantee":             {[]string{approvable, "never rdp from 198.51.100.7 to web-2"}, "it would break the guarantee"},
	} {
		_, err = decide(oracle.WorldOf(people, c.rules...), o, at(20*time.Minute), "ilse", "tom")
		require.ErrorContains(t, err, c.want, name)
	}
	// A permit that needs none by now is enough.
	g, err = decide(oracle.WorldOf(people, "permit ops to open any to all from everywhere up to 2h"), o, at(0), "ilse", "tom")
	require.NoError(t, err)
	assert.False(t, g.Opening.Waits())
}

// TestARequestThatSaysItsEndKeepsIt approves a request that named its end, and one that named its length.
func TestARequestThatSaysItsEndKeepsIt(t *testing.T) {
	w := oracle.WorldOf(people, approvable)
	for words, c := range map[string]struct {
		until  time.Time
		length time.Duration
		end    time.Time // when it is approved twenty minutes later
	}{
		`open rdp to web-1 from 198.51.100.7 until 2026-11-23T10:30:00Z because "x"`: {oracle.Epoch.Add(90 * time.Minute), 0, oracle.Epoch.Add(90 * time.Minute)},
		`open rdp to web-1 from 198.51.100.7 for 1h because "x"`:                     {time.Time{}, time.Hour, oracle.Epoch.Add(80 * time.Minute)},
	} {
		s, err := sentence.ParseArgs([]string{words}, oracle.Epoch)
		require.NoError(t, err)
		g, err := opening.Judge(opening.Request{Person: "mara", Words: s.(sentence.Open), Now: oracle.Epoch, Estate: w.Estate, Plan: w.Plan(), Running: func(string) bool { return true }})
		require.NoError(t, err)
		require.True(t, g.Opening.Waits())
		assert.Equal(t, c.until, g.Opening.Waiting.Until, words)
		assert.Equal(t, c.length, g.Opening.Waiting.Length, words)
		g, err = decide(w, g.Opening, oracle.Epoch.Add(20*time.Minute), "ilse", "tom")
		require.NoError(t, err)
		assert.False(t, g.Opening.Waits())
		assert.Equal(t, c.end, g.Opening.End(), words)
	}
}
