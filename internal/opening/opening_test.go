package opening_test

import (
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/flow"
	"ironbark/internal/opening"
	"ironbark/internal/oracle"
	"ironbark/internal/sentence"
)

const nouns = `estate: small
site: sim
sources: {office: [203.0.113.64/27]}
people: {mara: {groups: [ops]}, ilse: {groups: [leads]}, tom: {}}
networks:
  estuary: {space: [10.60.0.0/16], outside: true, subnets: {landing: {range: [10.60.1.0/24]}}}
  cellar: {space: [10.61.0.0/16], subnets: {vault: {range: [10.61.1.0/24]}}}
machines:
  web-1: {image: i, size: s, at: landing, address: auto}
  web-2: {image: i, size: s, at: landing, address: auto}
  store: {image: i, size: s, at: vault}
`

var rules = []string{
	"permit ops to open ssh to web-* from everywhere up to 4h",
	"permit ops to open ssh to all from office up to 1h",
	"permit leads to open rdp to web-1 from office up to 2h needing 1 approval from ops",
	"deny any from 203.0.113.64/28 to web-1",
}

func request(t *testing.T, w oracle.World, person, words string, active ...opening.Opening) (opening.Granted, error) {
	t.Helper()
	s, err := sentence.ParseArgs([]string{words}, oracle.Epoch)
	require.NoError(t, err)
	return opening.Judge(opening.Request{
		Person: person, Words: s.(sentence.Open), Now: oracle.Epoch, Estate: w.Estate, Plan: w.Plan(), Alike: active,
		Running: func(name string) bool { return name != "web-2" },
	})
}

// TestEveryRefusalTellsItsReasons asks for what must not be, and looks for each reason.
func TestEveryRefusalTellsItsReasons(t *testing.T) {
	for name, c := range map[string]struct {
		person, words string
		reasons       []string
		person6       bool // it is the person who may not
	}{
		"too long":          {"mara", `open ssh to web-1 from 198.51.100.7 for 5h because "x"`, []string{"it is up to 4h, and this is 5h"}, true},
		"wrong service":     {"mara", `open ssh, rdp to web-1 from 198.51.100.7 for 1h because "x"`, []string{"it is for ssh"}, true},
		"wider source":      {"mara", `open ssh to store from everywhere for 1h because "x"`, []string{"it is from office"}, true},
		"no permit at all":  {"tom", `open ssh to web-1 from 198.51.100.7 for 1h because "x"`, []string{"no permit lets tom open anything"}, true},
		"a stranger":        {"eve", `open ssh to web-1 from 198.51.100.7 for 1h because "x"`, []string{"there is no person “eve”"}, true},
		"not running":       {"mara", `open ssh to web-2 from 198.51.100.7 for 1h because "x"`, []string{"web-2 is not running"}, false},
		"no way in":         {"mara", `open ssh to store from 203.0.113.90 for 1h because "x"`, []string{"there is no way in to store"}, false},
		"denied":            {"mara", `open ssh to web-1 from 203.0.113.65 for 1h because "x"`, []string{"a deny keeps all of it out of web-1"}, false},
		"in the past":       {"mara", `open ssh to web-1 from 198.51.100.7 until 2026-11-23T08:00:00Z because "x"`, []string{"is not in the future"}, false},
		"nothing there":     {"mara", `open ssh to moor-* from 198.51.100.7 for 1h because "x"`, []string{"is no machine that is there"}, false},
		"several at a time": {"eve", `open ssh to web-2 from 203.0.113.90 for 1h because "x"`, []string{"web-2 is not running", "there is no person “eve”"}, true},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := request(t, oracle.WorldOf(nouns, rules...), c.person, c.words)
			refusal, ok := errors.AsType[*opening.RefusalError](err)
			require.True(t, ok, "%v", err)
			for _, reason := range c.reasons {
				assert.Contains(t, refusal.Error(), reason)
			}
			assert.Equal(t, c.person6, refusal.Person, refusal.Error())
		})
	}
}

// TestTheMendOfARefusalIsEnough says the permit that a refusal offers, at a whole second and at a moment between two.
func TestTheMendOfARefusalIsEnough(t *testing.T) {
	for _, at := range []time.Time{oracle.Epoch, oracle.Epoch.Add(400 * time.Millisecond)} {
		mendIsEnough(t, at)
	}
}

func mendIsEnough(t *testing.T, at time.Time) {
	ask := func(rules ...string) error {
		s, err := sentence.ParseArgs([]string{`open ssh to web-1 from 198.51.100.7 for 1h because "x"`}, at)
		require.NoError(t, err)
		w := oracle.WorldOf(nouns, rules...)
		_, err = opening.Judge(opening.Request{
			Person: "tom", Words: s.(sentence.Open), Now: at, Estate: w.Estate, Plan: w.Plan(), Running: func(string) bool { return true },
		})
		return err
	}
	refusal, ok := errors.AsType[*opening.RefusalError](ask(rules...))
	require.True(t, ok)
	require.Len(t, refusal.Reasons, 1)
	assert.Equal(t, "permit tom to open ssh to web-1 from 198.51.100.7 up to 1h", refusal.Reasons[0].Remedy.String())
	require.NoError(t, ask(refusal.Reasons[0].Remedy.String()))
}

func TestAGrantFreezesAndExtends(t *testing.T) {
	w := oracle.WorldOf(nouns, rules...)
	g, err := request(t, w, "mara", `open ssh to web-1 from office for 90m because "keys"`)
	require.NoError(t, err)
	assert.Equal(t, []string{"web-1"}, g.Opening.Machines())
	assert.Equal(t, oracle.Epoch.Add(90*time.Minute), g.Opening.End())
	assert.Equal(t, `open ssh to web-1 from office until 2026-11-23T10:30:00Z because "keys"`, g.Opening.Words.String())
	assert.Len(t, g.Notes, 1, "half of the office stays out by a deny, and that is told")
	assert.False(t, g.Extends)

	held := g.Opening
	held.ID, held.Begin, held.Parts[0].End = 3, oracle.Epoch.Add(-3*time.Hour), oracle.Epoch.Add(30*time.Minute)
	more, err := request(t, w, "mara", `open ssh to web-1 from office for 1h because "more"`, held)
	require.NoError(t, err)
	assert.True(t, more.Extends)
	assert.Equal(t, int64(3), more.Opening.ID)
	assert.Equal(t, held.Begin, more.Opening.Begin, "its length counts from its first beginning")
	_, err = request(t, w, "mara", `open ssh to web-1 from office for 2h because "more"`, held)
	require.ErrorContains(t, err, "this is 5h")
	less, err := request(t, w, "mara", `open ssh to web-1 from office for 10m because "less"`, held)
	require.NoError(t, err)
	assert.True(t, less.Extends && less.Shorter)
	assert.False(t, more.Shorter)
	held.Person = "tom"
	other, err := request(t, w, "mara", `open ssh to web-1 from office for 1h because "own"`, held)
	require.NoError(t, err)
	assert.False(t, other.Extends, "somebody else's opening is not extended")
}

func TestAnOpeningMustNotBreakAGuarantee(t *testing.T) {
	// The guarantee counts what stands, so the permit does not break it; an opening under the permit is no standing sentence either.
	w := oracle.WorldOf(nouns, append(rules, "never ssh from internet to web-1 standing")...)
	_, err := request(t, w, "mara", `open ssh to web-1 from 198.51.100.7 for 1h because "x"`)
	require.NoError(t, err)
	// One that counts everything forbids it, though the permit breaks it already: nothing more is opened against it.
	w = oracle.WorldOf(nouns, append(rules, "never ssh from 198.51.100.0/24 to web-1")...)
	_, err = request(t, w, "mara", `open ssh to web-1 from 198.51.100.7 for 1h because "x"`)
	require.ErrorContains(t, err, "it would break the guarantee “never ssh from 198.51.100.0/24 to web-1”: tcp/22 from 198.51.100.7 to web-1")
	_, err = request(t, w, "mara", `open ssh to web-1 from 203.0.113.90 for 1h because "x"`)
	require.NoError(t, err, "what it does not speak of is not its concern")
}

func TestAnOpeningTellsHowItStands(t *testing.T) {
	at := func(d time.Duration) time.Time { return oracle.Epoch.Add(d) }
	o := opening.Opening{Begin: at(time.Hour), Parts: []opening.Part{{Machines: []string{"web-2", "web-1"}, End: at(2 * time.Hour)}, {Machines: []string{"web-1"}, End: at(3 * time.Hour)}}}
	assert.Equal(t, opening.Scheduled, o.StateAt(at(0)))
	assert.Equal(t, opening.Open, o.StateAt(at(time.Hour)))
	assert.Equal(t, opening.Open, o.StateAt(at(3*time.Hour-1)), "it holds as long as its last part")
	assert.Equal(t, opening.Over, o.StateAt(at(3*time.Hour)))
	assert.True(t, o.Active(at(0)), "it is there from its record on, and can be closed")
	assert.Equal(t, []string{"web-1", "web-2"}, o.Machines())
	left := o.Without(func(machine string) bool { return machine == "web-1" })
	assert.Equal(t, []string{"web-2"}, left.Machines())
	assert.Len(t, left.Parts, 1)
	assert.Len(t, o.Parts[0].Machines, 2, "the first one stays as it is")
	o.Closing = true
	assert.Equal(t, opening.Closing, o.StateAt(at(time.Hour)))
	o.Ended = at(time.Hour)
	assert.Equal(t, opening.Over, o.StateAt(at(time.Hour)))
}

// TestThePermitThatAsksLeastIsTaken chooses among permits that all cover a request.
func TestThePermitThatAsksLeastIsTaken(t *testing.T) {
	const ask = `open ssh to web-1 from 198.51.100.7 for 1h because "x"`
	two := "permit ops to open ssh to all from everywhere up to 4h needing 2 approvals from leads, ops"
	one := "permit ops to open ssh to all from everywhere up to 4h needing 1 approval from leads"
	other := "permit ops to open ssh to web-1 from everywhere up to 4h needing 1 approval from leads"
	none := "permit ops to open ssh to web-1 from everywhere up to 1h"
	for _, c := range []struct {
		rules  []string
		needs  int
		permit string
	}{
		{[]string{two}, 2, two},
		{[]string{two, one}, 1, one},
		{[]string{one, two}, 1, one},
		{[]string{one, other}, 1, one}, // of those that ask alike the first
		{[]string{other, one}, 1, other},
		{[]string{two, none}, 0, none},
		{[]string{none, two}, 0, none},
	} {
		g, err := request(t, oracle.WorldOf(nouns, c.rules...), "mara", ask)
		require.NoError(t, err)
		assert.Equal(t, c.needs, g.Opening.Waiting.Needs, c.rules)
		assert.Equal(t, c.permit, g.Opening.Parts[0].Permit, c.rules)
		assert.Equal(t, c.needs > 0, g.Opening.Waits())
	}
}

// TestAnEmergencyOwesAnAccount asks for emergencies, one of which bars the next until its account is given.
func TestAnEmergencyOwesAnAccount(t *testing.T) {
	w := oracle.WorldOf(nouns, "permit ops to open ssh to all from everywhere up to 1h in emergency")
	_, err := request(t, w, "mara", `open ssh to web-1 from 198.51.100.7 for 1h because "x"`)
	refusal, ok := errors.AsType[*opening.RefusalError](err)
	require.True(t, ok)
	require.Len(t, refusal.Reasons, 1)
	assert.Contains(t, refusal.Reasons[0].What, "it is for emergencies")
	assert.Contains(t, refusal.Reasons[0].Remedy.String(), "in emergency because")

	g, err := request(t, w, "mara", `open ssh to web-1 from 198.51.100.7 for 1h in emergency because "x"`)
	require.NoError(t, err)
	assert.Equal(t, oracle.Epoch.Add(24*time.Hour), g.Opening.Account.Due)
	owed := func(now time.Time, ids ...int64) error {
		r := opening.Request{Person: "mara", Words: g.Opening.Words, Now: now, Estate: w.Estate, Plan: w.Plan(), Running: func(string) bool { return true }}
		r.Words.Until, r.Words.For = now.Add(time.Hour), sentence.Duration{}
		for _, id := range ids {
			o := g.Opening
			o.ID = id
			r.Owed = append(r.Owed, o)
		}
		_, err := opening.Judge(r)
		return err
	}
	require.NoError(t, owed(oracle.Epoch))
	require.ErrorContains(t, owed(oracle.Epoch, 7), "you owe an account of the emergency of opening 7")
	require.NotContains(t, owed(g.Opening.Account.Due, 7).Error(), "overdue", "it is due until then")
	require.ErrorContains(t, owed(g.Opening.Account.Due.Add(1), 7), "and it is overdue since 2026-11-24T09:00:00Z")
}

// TestEndsLieWithinBounds asks for ends at the edges of what may be.
func TestEndsLieWithinBounds(t *testing.T) {
	w := oracle.WorldOf(nouns, rules...)
	_, err := request(t, w, "mara", `open ssh to web-1 from 198.51.100.7 until 2026-11-23T09:00:00Z because "x"`)
	require.ErrorContains(t, err, "is not in the future")
	_, err = request(t, w, "mara", `open ssh to web-1 from 198.51.100.7 until 2026-11-23T09:00:01Z because "x"`)
	require.NoError(t, err)
	_, err = request(t, w, "mara", `open ssh to web-1 from 198.51.100.7 until 2026-11-23T13:00:00Z because "x"`)
	require.NoError(t, err, "as long as the permit lets it be")
	_, err = request(t, w, "mara", `open ssh to web-1 from 198.51.100.7 until 2026-11-23T13:00:01Z because "x"`)
	require.ErrorContains(t, err, "it is up to 4h")
	_, err = request(t, w, "mara", `open ssh to web-1 from 198.51.100.7 starting 2026-12-23T09:00:00Z for 1h because "x"`)
	require.NoError(t, err, "30 days ahead")
	_, err = request(t, w, "mara", `open ssh to web-1 from 198.51.100.7 starting 2026-12-23T09:00:01Z for 1h because "x"`)
	require.Error(t, err)
	w = oracle.WorldOf(nouns, "permit ops to open ssh to all from everywhere up to 4h until 2026-11-23T10:00:00Z")
	_, err = request(t, w, "mara", `open ssh to web-1 from 198.51.100.7 for 1h because "x"`)
	require.NoError(t, err, "as long as the permit holds")
	_, err = request(t, w, "mara", `open ssh to web-1 from 198.51.100.7 for 61m because "x"`)
	require.ErrorContains(t, err, "it ends at 2026-11-23T10:00:00Z, and this would last longer")
	for year, beyond := range map[int]bool{sentence.MaxYear: false, sentence.MaxYear + 1: true} {
		r := opening.Request{Person: "mara", Now: oracle.Epoch, Estate: w.Estate, Plan: w.Plan(), Running: func(string) bool { return true }}
		r.Words.Until = time.Date(year, 1, 1, 0, 0, 0, 0, time.UTC)
		_, err = opening.Judge(r)
		require.Error(t, err)
		assert.Equal(t, beyond, strings.Contains(err.Error(), "beyond the year 9999"))
	}
}

// TestWhatHindersAnOpening asks what speaks against one, whoever it were for.
func TestWhatHindersAnOpening(t *testing.T) {
	w := oracle.WorldOf(nouns, rules...)
	resolve := flow.NewResolver(w.Estate, w.Plan())
	hindered := func(machine, from string) (list []string) {
		set, err := sentence.ParseSource(from)
		require.NoError(t, err)
		part := opening.Part{Machines: []string{machine}, Services: flow.ServicesAt(22), From: resolve.Source(set)}
		r := opening.Request{Now: oracle.Epoch, Estate: w.Estate, Plan: w.Plan(), Running: func(name string) bool { return name != "web-2" }}
		for _, reason := range opening.Hindered(r, part, from) {
			list = append(list, reason.What)
		}
		return list
	}
	assert.Empty(t, hindered("web-1", "198.51.100.7"))
	assert.Equal(t, []string{"there is no way in to store from 203.0.113.90"}, hindered("store", "203.0.113.90"))
	assert.Equal(t, []string{"web-2 is not running"}, hindered("web-2", "198.51.100.7"))
	assert.Equal(t, []string{"a deny keeps all of it out of web-1: “deny any from 203.0.113.64/28 to web-1”"}, hindered("web-1", "203.0.113.65"))
}
