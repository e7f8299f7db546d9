package work

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/exposure"
	"ironbark/internal/findings"
	"ironbark/internal/flow"
	"ironbark/internal/oracle"
	"ironbark/internal/sentence"
)

// TestAnEditOfLinesIsReviewedAsTheWholeIs draws estates and edits of their sentences, and compares what is told of the lines alone with a review of everything.
func TestAnEditOfLinesIsReviewedAsTheWholeIs(t *testing.T) {
	ctx := context.Background()
	quick, whole := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		first := oracle.Draw(t).WithoutHost()
		w, _, clean := begin(t, files(first))
		defer clean()
		for range 3 { // what is remembered of one enactment is known from the review of the next one
			second := files(first.Altered(t))
			before, err := w.Installed(ctx)
			require.NoError(t, err)
			lines, ok := w.reviewOfLines(before, second, false)
			if whole++; !ok {
				return
			}
			quick++
			w.AllFindings = true
			all, err := w.Review(ctx, second)
			w.AllFindings = false
			require.NoError(t, err)
			assert.Equal(t, inWords(all), inWords(lines))
			assert.True(t, flow.SameTables(all.after.Plan, lines.after.Plan))
			census := findings.NewCensus(findings.Side{Estate: all.Estate, Plan: all.after.Plan}, w.Clock.Now())
			kept := *lines.census
			assert.True(t, census.Until.IsZero() || !kept.Until.IsZero() && !kept.Until.After(census.Until), "it may hold for less long")
			kept.Until = census.Until
			assert.Equal(t, census, kept)
			if len(lines.Stopped()) > 0 {
				return
			}
			require.NoError(t, w.Enact(ctx, lines, nil))
			now, err := w.Installed(ctx)
			require.NoError(t, err)
			assert.True(t, flow.SameTables(now.Plan, lines.after.Plan), "what was told is what is installed")
			first.Text = string(second[0].Data) + "---\n" + string(second[1].Data)
		}
	})
	t.Logf("%d of %d edits were reviewed by their lines", quick, whole)
	assert.Greater(t, quick, whole/5)
}

// inWords is what a review tells, in words.
func inWords(r *Review) (list []string) {
	say := func(what string, value ...any) {
		list = append(list, what+" "+strings.TrimSpace(fmt.Sprintln(value...)))
	}
	for what, d := range map[string]exposure.Difference{"in": r.Exposure, "out": r.Outward} {
		for which, changes := range map[string]exposure.Changes{"opened": d.Opened, "closed": d.Closed, "moved": d.Moved, "gained": d.Gained, "lost": d.Lost} {
			for c := range changes.All() {
				say(what+which, c.Machine, c.Entry.Door.Kind, c.Entry.Door.Via, flow.ServiceRuns(c.Entry.Services), flow.AddrRuns(c.Entry.From), c.Entry.Until, c.Before)
			}
		}
	}
	for which, statements := range map[string][]sentence.Statement{"added": r.Added, "retracted": r.Retracted} {
		for _, st := range statements {
			say(which, st.Sentence, st.At)
		}
	}
	others := r.FindingsBefore
	for _, f := range r.Findings {
		if !f.New && f.Level < findings.Serious {
			others++
			continue
		}
		say("found", f)
	}
	say("others", others)
	for _, e := range r.Ending {
		say("ends", e.Opening.ID, e.Why, e.Narrowed, e.Lost)
	}
	for _, b := range r.Broken {
		say("broken", b.Guarantee.Sentence, b.Guarantee.Line)
	}
	say("rights", r.Rights)
	say("weakened", r.Weakened)
	say("notes", r.Notes, r.Stopped(), r.NoEffect, r.same, r.QuotaExceeded, r.Before, r.After)
	slices.Sort(list)
	return list
}
