package cli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestWarningsComeFiveMinutesAndOneMinuteAhead(t *testing.T) {
	now := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	for left, want := range map[time.Duration]time.Duration{time.Hour: 55 * time.Minute, 5 * time.Minute: 4 * time.Minute, 90 * time.Second: 30 * time.Second} {
		at, more := nextWarning(now, now.Add(left))
		assert.True(t, more)
		assert.Equal(t, want, at.Sub(now), left)
	}
	_, more := nextWarning(now, now.Add(time.Minute))
	assert.False(t, more, "the last one has been")
}
