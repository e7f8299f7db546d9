package work

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/estate"
)

// TestAMachineCausesSoManyLinesAnHour draws lines at any times, also from a clock that goes back. In no hour are more than a machine's limit
// written, one that says that more are left out, and one that says how many were; all that is left out is counted.
func TestAMachineCausesSoManyLinesAnHour(t *testing.T) {
	e, err := estate.Read(estate.File{Name: estate.FileName, Data: []byte(`estate: tides
site: sim
networks: {estuary: {space: 10.60.0.0/16, subnets: {landing: {range: 10.60.1.0/24}}}}
limits: {sizes: {c1m1: {log: 3, bytes: 1000000}}}
machines:
  gauge-1: {image: light, size: c1m1, at: landing, limits: {bytes: 2000000}}
  gauge-2: {image: light, size: c2m4, at: landing}
`)}, estate.File{Name: estate.RulesName})
	require.NoError(t, err)
	rapid.Check(t, func(t *rapid.T) {
		var l lines
		now := time.Date(2030, 1, 1, 0, 0, 0, 0, time.UTC)
		began, written := map[string]time.Time{}, map[string]int{}
		for range rapid.IntRange(1, 300).Draw(t, "lines") {
			now = now.Add(time.Duration(rapid.IntRange(-10, 1000).Draw(t, "seconds")) * time.Second)
			name := rapid.SampledFrom([]string{"gauge-1", "gauge-2", "removed", ""}).Draw(t, "machine")
			list := l.admitted(e, name, "line", now)
			limit := map[string]int{"gauge-1": 3, "gauge-2": estate.DefaultLog}[name]
			if limit == 0 {
				assert.Equal(t, []string{"line"}, list, "no machine of the estate")
				continue
			}
			if b, ok := began[name]; !ok || now.Before(b) || now.Sub(b) >= time.Hour {
				began[name], written[name] = now, 0
			}
			text := strings.Join(list, "\n")
			if written[name]++; written[name] <= limit {
				assert.Contains(t, list, "line")
			} else {
				assert.Empty(t, list)
			}
			assert.Equal(t, written[name] == limit, strings.Contains(text, "more lines are not recorded before"), text)
			assert.Equal(t, written[name] >= limit, l.full(e, name, now))
		}
	})
}
