// Package ledgertest is the suite that every ledger must pass. It uses nothing but the
// Ledger interface.
package ledgertest

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/change"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/journal"
	"ironbark/internal/ledger"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
)

// Run runs the suite. fresh makes a ledger; open opens it as another process would, each
// time that it is called.
func Run(t *testing.T, fresh func(t *testing.T) (open func() ledger.Ledger)) {
	for name, test := range map[string]func(*suite){
		"nothing was decided at first":                   (*suite).empty,
		"a decision is kept, and what it was decided on": (*suite).decided,
		"what a decision was made on must still stand":   (*suite).refused,
		"an opening is kept in all that it is":           (*suite).openings,
		"few of many openings are found":                 (*suite).few,
		"an intent is kept with what it replaces":        (*suite).intents,
		"the journal has cursors and tells what changed": (*suite).entries,
		"what is looked for is found, and nothing else":  (*suite).found,
		"time does not go back":                          (*suite).clock,
		"a break is told until it is acknowledged":       (*suite).breaks,
		"a lock is had by one":                           (*suite).locks,
		"how far recipients were told is kept":           (*suite).deliveries,
		"many decide at once":                            (*suite).atOnce,
	} {
		t.Run(name, func(t *testing.T) {
			open := fresh(t)
			test(&suite{T: t, open: open, l: open(), at: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)})
		})
	}
}

func (s *suite) deliveries() {
	files := []estate.File{{Name: estate.FileName, Data: []byte("estate: tides")}}
	told := func() (list []string) {
		deliveries, err := s.l.Deliveries(s.Context())
		require.NoError(s, err)
		for _, d := range deliveries {
			list = append(list, fmt.Sprint(d.Recipient, " ", d.Seq, " ", d.Why))
		}
		return list
	}
	assert.Empty(s, told())
	s.write(ledger.Decision{Person: "mara", Action: "open", Text: "one"})
	s.write(ledger.Decision{Person: "mara", Action: "enact", Text: "two", Files: files, Recipients: []string{"desk", "watch"}})
	assert.Equal(s, []string{"desk 1 ", "watch 1 "}, told(), "they are told of the enactment that made them")
	at := s.at.Add(time.Second)
	require.NoError(s, s.l.Delivered(s.Context(), ledger.Delivery{Recipient: "desk", Seq: 2}))
	require.NoError(s, s.l.Delivered(s.Context(), ledger.Delivery{Recipient: "watch", Seq: 1, Failed: at, Why: "nobody listens", Tries: 3}))
	require.NoError(s, s.l.Delivered(s.Context(), ledger.Delivery{Recipient: "desk", Seq: 1, Failed: at, Why: "late"}), "another process may be late")
	require.NoError(s, s.l.Delivered(s.Context(), ledger.Delivery{Recipient: "nobody", Seq: 9}))
	assert.Equal(s, []string{"desk 2 ", "watch 1 nobody listens"}, told())
	list, err := s.l.Deliveries(s.Context())
	require.NoError(s, err)
	assert.True(s, list[1].Failed.Equal(at) && list[0].Failed.IsZero())
	assert.Equal(s, 3, list[1].Tries)
	s.write(ledger.Decision{Person: "mara", Action: "enact", Text: "three", Files: files, Recipients: []string{"desk", "pager"}})
	assert.Equal(s, []string{"desk 2 ", "pager 2 "}, told(), "what was told stays, and who is not told any more is forgotten")
	s.write(ledger.Decision{Person: "mara", Action: "close", Text: "four"})
	assert.Len(s, told(), 2)
}

type suite struct {
	*testing.T
	open func() ledger.Ledger
	l    ledger.Ledger
	at   time.Time
}

func (s *suite) state() *ledger.State {
	st, err := s.l.State(s.Context(), ledger.Everything)
	require.NoError(s, err)
	return st
}

// write writes what hangs on nothing.
func (s *suite) write(d ledger.Decision) ledger.Receipt {
	d.AnyRevision, d.Fence, d.At = true, -1, s.at
	r, err := s.l.Write(s.Context(), d)
	require.NoError(s, err)
	return r
}

func (s *suite) empty() {
	st := s.state()
	assert.Zero(s, st.Revision)
	assert.Empty(s, st.Estate)
	assert.Empty(s, st.Files)
	assert.Empty(s, st.Resources)
	assert.Empty(s, st.Openings)
	list, err := s.l.Journal(s.Context(), 0, 10)
	require.NoError(s, err)
	assert.Empty(s, list)
	found, err := s.l.CheckRecord(s.Context(), true)
	require.NoError(s, err)
	assert.Empty(s, found)
	next, err := s.l.NextOpening(s.Context())
	require.NoError(s, err)
	assert.Equal(s, int64(1), next)
}

func (s *suite) decided() {
	files := []estate.File{{Name: "estate.rules", Data: []byte("allow https from everywhere to all\n")}, {Name: "estate.yaml", Data: []byte("estate: saltmarsh\n")}}
	planned := []change.Change{{Verb: change.Make, Resource: change.Resource{Kind: change.Machine, Name: "gauge-1", Spec: change.Spec{Image: "linux-web"}}}}
	seen := int64(4)
	r := s.write(ledger.Decision{Person: "mara", Action: "enact", Text: "began", Begin: &ledger.Unfinished{Person: "mara", Since: s.at}, Planned: planned, Move: true})
	assert.Equal(s, int64(1), r.Revision)
	assert.Equal(s, int64(1), r.Head.Seq)
	st := s.state()
	assert.Equal(s, "mara", st.Unfinished.Person)
	assert.Equal(s, planned, st.Planned)
	resource := planned[0].Resource
	resource.Given.Wants4 = true
	plan, err := flow.FromRows([]flow.Row{{Key: "guard ", Body: `["tcp/22"]`}})
	require.NoError(s, err)
	s.write(ledger.Decision{Person: "mara", Action: "make", Text: "machine gauge-1", Put: []change.Resource{resource}})
	s.write(ledger.Decision{Person: "mara", Action: "enact", Text: "finished", Finish: true, Move: true, Plan: plan, Files: files, Seen: &seen})
	l := s.open()
	st, err = l.State(s.Context(), ledger.Everything)
	require.NoError(s, err)
	assert.Equal(s, files, st.Files)
	assert.Equal(s, []change.Resource{resource}, st.Resources)
	assert.Nil(s, st.Unfinished)
	assert.Empty(s, st.Planned)
	assert.Equal(s, seen, st.Seen)
	assert.Equal(s, int64(2), st.Revision)
	assert.Len(s, st.Estate, 32)
	rows, err := l.Plan(s.Context())
	require.NoError(s, err)
	assert.Equal(s, plan.Rows(), rows)
	s.write(ledger.Decision{Person: "mara", Action: "remove", Text: "machine gauge-1", Drop: []change.Resource{resource}})
	assert.Empty(s, s.state().Resources)
}

func (s *suite) refused() {
	write := func(d ledger.Decision) error {
		d.At, d.Person, d.Action = s.at, "mara", "try"
		_, err := s.l.Write(s.Context(), d)
		return err
	}
	require.ErrorIs(s, write(ledger.Decision{Revision: 7}), ledger.ErrChanged)
	require.NoError(s, write(ledger.Decision{Move: true, Cut: true}))
	require.ErrorIs(s, write(ledger.Decision{}), ledger.ErrChanged, "the zero decision is for a ledger in which nothing was decided")
	require.ErrorIs(s, write(ledger.Decision{Revision: 1}), ledger.ErrCut)
	require.NoError(s, write(ledger.Decision{Revision: 1, Fence: 1, Begin: &ledger.Unfinished{Person: "ilse", Since: s.at}}))
	require.ErrorIs(s, write(ledger.Decision{Revision: 1, Fence: 1, Finished: true}), ledger.ErrUnfinished)
	require.NoError(s, s.l.NoteBreaks(s.Context(), []journal.Break{{Seq: 1, Why: "is missing"}}))
	broken := &ledger.RecordError{}
	require.ErrorAs(s, write(ledger.Decision{Revision: 1, Fence: 1, Opens: true}), &broken)
	require.NoError(s, write(ledger.Decision{Revision: 1, Fence: 1}), "what opens nothing is recorded")
	list, err := s.l.Tail(s.Context(), 10)
	require.NoError(s, err)
	assert.Len(s, list, 3, "what was refused left nothing behind")
}

// found looks for entries by whom, what, where and when, and compares with looking at each.
func (s *suite) found() {
	people, actions := []string{"mara", "ilse"}, []string{"open", "make", "close"}
	texts := []string{"machine gauge-1: made", "machine gauge-11: made", "opening: 100% of gauge-1, gauge-2", "not-gauge-1 and a_b"}
	for i := range 60 {
		s.at = s.at.Add(time.Duration(i%3) * 400 * time.Millisecond)
		s.write(ledger.Decision{Person: people[i%2], Action: actions[i%3], Text: texts[i%len(texts)]})
	}
	o := s.opening(7) // its words name no machine that its parts do not
	s.write(ledger.Decision{Person: "mara", Action: "open", Text: "opening 7", Openings: []opening.Opening{o}, Move: true})
	all, err := s.l.Journal(s.Context(), 0, 1000)
	require.NoError(s, err)
	require.Len(s, all, 61)
	names := func(e journal.Entry, machine string) bool {
		return regexp.MustCompile(`(^|[^a-z0-9-])`+machine+`($|[^a-z0-9-])`).MatchString(e.Text) || e.Text == "opening 7" && slices.Contains(o.Machines(), machine)
	}
	for _, f := range []ledger.Filter{
		{},
		{Person: "mara"},
		{Person: "eve"},
		{Action: "open"},
		{Person: "ilse", Action: "close"},
		{Machine: "gauge-1"},
		{Machine: "gauge-2", Action: "open"},
		{Machine: "gauge"},
		{Text: "100%"},
		{Text: "a_b"},
		{Text: "a?b"},
		{Text: "made", Machine: "gauge-11"},
		{After: 40},
		{Last: 5},
		{Last: 3, Person: "mara", After: 10},
		{Since: all[20].At},
		{Until: all[20].At},
		{Since: all[10].At, Until: all[30].At, Machine: "gauge-1"},
		{Since: all[10].At.Add(time.Millisecond)},
	} {
		var want []int64
		for _, e := range all {
			if e.Seq > f.After && (f.Person == "" || e.Person == f.Person) && (f.Action == "" || e.Action == f.Action) && strings.Contains(e.Text, f.Text) &&
				(f.Machine == "" || names(e, f.Machine)) && (f.Since.IsZero() || !e.At.Before(f.Since)) && (f.Until.IsZero() || e.At.Before(f.Until)) {
				want = append(want, e.Seq)
			}
		}
		if f.Last > 0 {
			want = want[max(0, len(want)-f.Last):]
		}
		list, err := s.l.Find(s.Context(), f)
		require.NoError(s, err)
		var got []int64
		for _, e := range list {
			got = append(got, e.Seq)
		}
		assert.Equal(s, want, got, "%+v", f)
	}
}

// opening is one with all that an opening can have.
func (s *suite) opening(id int64) opening.Opening {
	words, err := sentence.ParseArgs([]string{`open ssh, https to gauge-1, gauge-2 from 198.51.100.7 until 2026-11-23T10:00:00Z because "suite"`}, s.at)
	require.NoError(s, err)
	from, err := flow.ParseAddrRuns([]string{"198.51.100.7"})
	require.NoError(s, err)
	ssh, err := flow.ParseServiceRuns([]string{"tcp/22"})
	require.NoError(s, err)
	part := opening.Part{Machines: []string{"gauge-1"}, Services: ssh, From: from, End: s.at.Add(time.Hour), Permit: "permit ops to open ssh to all from everywhere up to 4h"}
	other := part
	other.Machines, other.End = []string{"gauge-2"}, s.at.Add(30*time.Minute)
	return opening.Opening{
		ID: id, Person: "mara", Request: "open ssh, https to gauge-* from me for 1h because suite", Words: words.(sentence.Open), Begin: s.at.Add(10 * time.Minute),
		Parts:     []opening.Part{part, other},
		Approvals: []opening.Approval{{Person: "ilse", Request: "open ssh", At: s.at}}, Emergency: true, Account: opening.Account{Due: s.at.Add(24 * time.Hour)},
		Waiting: opening.Waiting{Needs: 2, From: []string{"leads", "tom"}, Length: time.Hour, Until: s.at.Add(2 * time.Hour)},
	}
}

func (s *suite) openings() {
	o := s.opening(1)
	s.write(ledger.Decision{Person: "mara", Action: "open", Text: "opening 1", Openings: []opening.Opening{o}})
	held := s.state().Openings
	require.Len(s, held, 1)
	held[0].Words, o.Words = sentence.Open{}, sentence.Open{} // their places in what was typed differ
	assert.Equal(s, o, held[0])
	next, err := s.l.NextOpening(s.Context())
	require.NoError(s, err)
	assert.Equal(s, int64(2), next)
	closed := s.opening(1)
	closed.Ended, closed.EndedBy, closed.Why = s.at.Add(time.Minute), "ilse", "no more"
	s.write(ledger.Decision{Person: "ilse", Action: "close", Text: "opening 1", Openings: []opening.Opening{closed}})
	assert.Empty(s, s.state().Openings)
	s.write(ledger.Decision{Person: "mara", Action: "open", Text: "opening 2", Openings: []opening.Opening{s.opening(2)}})
	s.at = s.at.Add(2 * time.Hour)
	s.write(ledger.Decision{Person: "mara", Action: "end", Text: "opening 2", Over: []int64{2}})
	assert.Empty(s, s.state().Openings, "what ended by itself is over once that is recorded")
	all, err := s.l.Openings(s.Context())
	require.NoError(s, err)
	require.Len(s, all, 2)
	assert.Equal(s, "ilse", all[0].EndedBy)
	assert.Zero(s, all[1].Ended)
}

// few asks for few of many openings.
func (s *suite) few() {
	o := s.opening(1)
	o.Parts, o.Waiting = o.Parts[:1], opening.Waiting{}
	for i, end := range []time.Duration{time.Hour, 2 * time.Hour, 3 * time.Hour, 4 * time.Hour} {
		one := o
		one.ID, one.Parts = int64(i+1), slices.Clone(o.Parts)
		one.Parts[0].End = s.at.Add(end + time.Microsecond)
		if one.ID == 4 {
			one.Person = "ilse"
		}
		s.write(ledger.Decision{Person: one.Person, Action: "open", Text: "one", Openings: []opening.Opening{one}, Intended: i == 2})
	}
	s.write(ledger.Decision{Person: "mara", Action: "open", Text: "of two parts", Openings: []opening.Opening{s.opening(5)}})
	numbers := func(list []opening.Opening) (ids []int64) {
		for _, o := range list {
			ids = append(ids, o.ID)
		}
		return ids
	}
	some := func(by time.Duration, ids ...int64) []int64 {
		st, err := s.l.State(s.Context(), ledger.Scope{Openings: ledger.Openings{Some: true, IDs: ids, By: s.at.Add(by)}})
		require.NoError(s, err)
		assert.Empty(s, st.Altered)
		return numbers(st.Openings)
	}
	assert.Equal(s, []int64{3}, some(0), "what is intended is always told")
	assert.Equal(s, []int64{2, 3, 5}, some(0, 2, 5, 99))
	assert.Equal(s, []int64{3, 5}, some(time.Hour), "the first lasts a little longer")
	assert.Equal(s, []int64{1, 3, 5}, some(time.Hour+time.Millisecond), "what ended by itself is told until that is recorded")
	s.write(ledger.Decision{Person: "mara", Action: "end", Text: "ended", Over: []int64{1, 3}})
	assert.Equal(s, []int64{3, 5}, some(time.Hour+time.Millisecond), "what became of an intent is not known")
	ahead := o
	ahead.ID, ahead.Words, ahead.Begin = 6, s.opening(6).Words, s.at.Add(time.Hour)
	ahead.Words.Starting, ahead.Parts = ahead.Begin, slices.Clone(o.Parts)
	ahead.Parts[0].End = s.at.Add(9 * time.Hour)
	s.write(ledger.Decision{Person: "mara", Action: "open", Text: "ahead of time", Openings: []opening.Opening{ahead}})
	assert.NotContains(s, some(time.Hour-time.Second), int64(6))
	assert.Contains(s, some(time.Hour), int64(6), "its beginning is to be recorded")
	assert.Equal(s, map[int64]bool{6: true}, s.state().Beginning)
	s.write(ledger.Decision{Person: "mara", Action: "begin", Text: "6", Begun: []int64{6}})
	assert.Empty(s, s.state().Beginning)
	alike := func(person string, p opening.Part) []int64 {
		list, err := s.l.Alike(s.Context(), person, p)
		require.NoError(s, err)
		return numbers(list)
	}
	part := o.Parts[0]
	part.End, part.Permit = s.at, ""
	assert.Equal(s, []int64{2, 3, 6}, alike("mara", part))
	assert.Equal(s, []int64{4}, alike("ilse", part))
	part.Machines = []string{"gauge-2"}
	assert.Empty(s, alike("mara", part))
}

func (s *suite) intents() {
	s.write(ledger.Decision{Person: "mara", Action: "open", Text: "1", Openings: []opening.Opening{s.opening(1)}, Intended: true})
	require.Contains(s, s.state().Intended, int64(1))
	assert.Nil(s, s.state().Intended[1].Before)
	s.write(ledger.Decision{Passed: []int64{1}})
	assert.Empty(s, s.state().Intended)
	longer := s.opening(1)
	longer.Parts[0].End = s.at.Add(2 * time.Hour)
	for range 2 { // the second time it replaces an intent
		s.write(ledger.Decision{Person: "mara", Action: "extend", Text: "1", Openings: []opening.Opening{longer}, Intended: true})
	}
	st := s.state()
	require.NotNil(s, st.Intended[1].Before)
	assert.True(s, st.Intended[1].Before.End().Equal(s.at.Add(time.Hour)))
	assert.True(s, st.Openings[0].End().Equal(s.at.Add(2*time.Hour)))
}

func (s *suite) entries() {
	plan, err := flow.FromRows([]flow.Row{{Key: "guard ", Body: `["tcp/22"]`}})
	require.NoError(s, err)
	files := []estate.File{{Name: "estate.yaml", Data: []byte("estate: saltmarsh\n")}}
	s.write(ledger.Decision{Person: "mara", Action: "enact", Text: "finished", Plan: plan, Files: files})
	s.write(ledger.Decision{Person: "mara", Action: "open", Text: "1", Openings: []opening.Opening{s.opening(1)}})
	for i := range 5 {
		s.write(ledger.Decision{Person: "mara", Action: "stop", Text: fmt.Sprint(i)})
	}
	list, err := s.l.Entries(s.Context(), 0, 2)
	require.NoError(s, err)
	require.Len(s, list, 2)
	assert.Contains(s, list[0].Plan.In, "guard ")
	assert.Equal(s, files, list[0].Files)
	require.Len(s, list[1].Openings, 1)
	assert.Nil(s, list[1].Plan)
	assert.Len(s, list[1].Openings[0].Parts, 2)
	rest, err := s.l.Journal(s.Context(), list[1].Seq, 100)
	require.NoError(s, err)
	require.Len(s, rest, 5)
	tail, err := s.l.Tail(s.Context(), 2)
	require.NoError(s, err)
	assert.Equal(s, rest[3:], tail)
	st := s.state()
	assert.Empty(s, journal.Breaks(list[1].Head(), rest, st.Head))
}

func (s *suite) clock() {
	s.write(ledger.Decision{Person: "mara", Action: "stop", Text: "now"})
	s.at = s.at.Add(-30 * time.Second)
	r := s.write(ledger.Decision{Person: "mara", Action: "stop", Text: "a little before", Opens: true})
	assert.True(s, r.At.Equal(s.at.Add(30*time.Second)), "it is stamped with the later of the two")
	s.at = s.at.Add(-time.Hour)
	_, err := s.l.Write(s.Context(), ledger.Decision{AnyRevision: true, Fence: -1, Opens: true, At: s.at, Person: "mara", Action: "open"})
	behind := &ledger.ClockError{}
	require.ErrorAs(s, err, &behind)
	s.write(ledger.Decision{Person: "mara", Action: "close", Text: "closing works"})
	s.write(ledger.Decision{Person: "mara", Action: "clock", Text: "accepted", AcceptClock: true})
	latest, err := s.l.Latest(s.Context())
	require.NoError(s, err)
	assert.True(s, latest.Equal(s.at))
	s.write(ledger.Decision{Person: "mara", Action: "open", Text: "works again", Opens: true})
}

func (s *suite) breaks() {
	s.write(ledger.Decision{Person: "mara", Action: "stop", Text: "1"})
	b := journal.Break{Seq: 9, Why: "is missing", Mark: "x"}
	for range 2 {
		require.NoError(s, s.l.NoteBreaks(s.Context(), []journal.Break{b}))
	}
	for _, whole := range []bool{true, false} {
		list, err := s.open().CheckRecord(s.Context(), whole)
		require.NoError(s, err)
		assert.Equal(s, []journal.Break{b}, list)
	}
	assert.Equal(s, []journal.Break{b}, s.state().Breaks)
	s.write(ledger.Decision{Person: "mara", Action: "break", Text: "seen", Acknowledge: []journal.Break{b}})
	require.NoError(s, s.l.NoteBreaks(s.Context(), []journal.Break{b}), "it is that very break")
	assert.Empty(s, s.state().Breaks)
	other := b
	other.Mark = "y"
	require.NoError(s, s.l.NoteBreaks(s.Context(), []journal.Break{other}))
	assert.Equal(s, []journal.Break{other}, s.state().Breaks)
}

func (s *suite) locks() {
	release, err := s.l.TryLock(s.Context(), ledger.Enacting)
	require.NoError(s, err)
	require.NotNil(s, release)
	other := s.open()
	busy, err := other.TryLock(s.Context(), ledger.Enacting)
	require.NoError(s, err)
	assert.Nil(s, busy)
	opening, err := other.Lock(s.Context(), ledger.Opening)
	require.NoError(s, err, "it is another lock")
	require.NoError(s, opening())
	ctx, cancel := context.WithTimeout(s.Context(), 30*time.Millisecond)
	defer cancel()
	_, err = other.Lock(ctx, ledger.Enacting)
	require.ErrorIs(s, err, context.DeadlineExceeded)
	require.NoError(s, release())
	again, err := other.Lock(s.Context(), ledger.Enacting)
	require.NoError(s, err)
	require.NoError(s, again())
}

func (s *suite) atOnce() {
	const writers, each = 4, 10
	done := make(chan error, writers)
	for range writers {
		l := s.open()
		go func() {
			var err error
			for range each {
				_, e := l.Write(s.Context(), ledger.Decision{AnyRevision: true, Fence: -1, At: s.at, Person: "mara", Action: "stop", Text: "at once", Move: true})
				if e != nil {
					err = e
				}
			}
			done <- err
		}()
	}
	for range writers {
		require.NoError(s, <-done)
	}
	assert.Equal(s, int64(writers*each), s.state().Revision)
	found, err := s.l.CheckRecord(s.Context(), true)
	require.NoError(s, err)
	assert.Empty(s, found)
}
