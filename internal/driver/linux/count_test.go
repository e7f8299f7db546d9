package linux

import (
	"context"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/driver/drivertest"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
)

// installRules makes the suites' estate of light machines, if it is not there, and installs its tables with some rules. It returns the estate.
func installRules(t *testing.T, s *Site, rules ...string) *estate.Estate {
	files := drivertest.FilesOf(lightImage, strings.Join(rules, "\n"))
	e, err := estate.Read(files[0], files[1])
	require.NoError(t, err)
	want, err := change.Desired(e, nil, nil, nil)
	require.NoError(t, err)
	for _, r := range want {
		_, err := s.Apply(t.Context(), change.Change{Verb: change.Make, Resource: r}, nil)
		require.NoError(t, err)
	}
	installAgain(t, s, e)
	return e
}

// installAgain installs the tables of an estate.
func installAgain(t *testing.T, s *Site, e *estate.Estate) {
	o, err := s.Observe(context.Background(), driver.Everything)
	require.NoError(t, err)
	require.NoError(t, s.Install(context.Background(), flow.Compile(e, change.Assigned(o.Resources)), o.Mark))
}

// TestWhatPassesIsCounted sends packets and holds what is counted to them, also over a new table.
func TestWhatPassesIsCounted(t *testing.T) {
	s := siteOf(t)
	web, feed := "allow https from everywhere to gauge-1", "allow http from 198.51.100.0/24 to gauge-1 until 2100-01-01T00:00:00Z"
	installRules(t, s, web, feed)
	send := func(service flow.Service) {
		got, err := s.Probe(t.Context(), driver.Packet{Source: netip.MustParseAddr("198.51.100.7"), Target: netip.MustParseAddr("203.0.113.10"), Service: service})
		require.NoError(t, err)
		require.True(t, got[0].Open, service)
	}
	count := func() map[string]driver.Count {
		time.Sleep(200 * time.Millisecond) // a connection that was closed has its last packets under way
		counts, err := s.Counts(t.Context())
		require.NoError(t, err)
		out := map[string]driver.Count{}
		for _, c := range counts.List {
			if len(c.Openings) > 0 {
				c.Sentence = "opening"
				assert.Equal(t, []int64{5}, c.Openings)
			}
			out[c.Sentence] = c
		}
		return out
	}
	assert.Empty(t, count())
	send(443)
	first := count()
	assert.Len(t, first, 1)
	assert.Positive(t, first[web].Packets)
	assert.Greater(t, first[web].Bytes, first[web].Packets*20)
	assert.True(t, first[web].After.Before(first[web].Before))

	now := time.Now()
	require.NoError(t, s.Pass(t.Context(), driver.Passage{ID: 5, Begin: now, Sentence: "open ssh to gauge-1", Parts: []driver.Part{{
		Machines: []string{"gauge-1"}, Services: flow.ServicesAt(22), From: flow.AddrsAt(netip.MustParseAddr("198.51.100.7")), End: now.Add(time.Minute),
	}}}))
	send(22)
	send(80)
	second := count()
	assert.Len(t, second, 3)
	assert.Equal(t, first[web], second[web], "it was not used again")
	assert.Positive(t, second[feed].Packets)
	assert.Positive(t, second["opening"].Packets)

	installRules(t, s, web) // what the table before it had counted is kept
	send(443)
	third := count()
	assert.Greater(t, third[web].Packets, second[web].Packets)
	assert.False(t, third[web].After.Before(second[web].Before))
	assert.Equal(t, second[feed], third[feed])
	assert.Equal(t, second["opening"], third["opening"])
	require.NoError(t, s.Shut(t.Context(), time.Now(), 5))
	assert.Equal(t, third, count())
}
