package drivertest

import (
	"strings"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
)

// calls has a machine call an address outside.
func (s *suite) calls() {
	s.build()
	assert.True(s, s.call(443), "a network that says nothing is open outward")
	s.install("deny https from gauge-1 to 198.51.100.0/24")
	assert.False(s, s.call(443), "a deny is absolute")
	assert.True(s, s.call(80), "and about what it says")
	s.installClosed("allow https from everywhere to gauge-1")
	assert.False(s, s.call(443), "a closed network calls nothing, and what comes in is another matter")
	until := s.clock.Now().Add(s.clock.Length(time.Hour)).Truncate(time.Second).Add(time.Second)
	s.installClosed("allow https from gauge-1 to 198.51.100.0/24 until " + until.UTC().Format(time.RFC3339))
	assert.Len(s, s.observe().Plan.Outward, 1, "another reads what is installed")
	assert.False(s, s.call(80))
	assert.True(s, s.call(443))
	calls := func() bool { return s.call(443) }
	assert.True(s, s.justBefore(until, calls), "just before its end")
	assert.False(s, s.from(until, calls), "at its end")
}

// call has gauge-1 call a service of the client.
func (s *suite) call(service flow.Service) bool {
	t, ok := change.Find(s.observe().Resources, change.Machine, "gauge-1")
	require.True(s, ok)
	results, err := s.d.Probe(s.Context(), driver.Packet{Source: t.Spec.Inside["landing"][0], Target: client, Service: service})
	require.NoError(s, err)
	require.Len(s, results, 1)
	assert.Empty(s, results[0].Machine, "it gets to no machine of the estate")
	return results[0].Open
}

// installClosed installs rules for a network that is closed outward.
func (s *suite) installClosed(rules string) {
	files := FilesOf(s.image, rules)
	files[0].Data = []byte(strings.Replace(string(files[0].Data), "outside: true", "outside: true, outward: closed", 1))
	e, err := estate.Read(files[0], files[1:]...)
	require.NoError(s, err)
	o := s.observe()
	require.NoError(s, s.d.Install(s.Context(), flow.Compile(e, change.Assigned(o.Resources)), o.Mark))
}
