package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestWhatRefusesOpensNothing answers the question for a reason in the ways in which people say no.
func TestWhatRefusesOpensNothing(t *testing.T) {
	for _, no := range []string{"", "no", "No", "NO.", "n", "N", "q", "Q", "nope", "not", "never!", "quit", "exit", "cancel", ":q", "y", "x"} {
		assert.True(t, refuses(no), no)
	}
	for _, yes := range []string{"yes", "rotate keys", "no disk space left", "ok", "nightly check"} {
		assert.False(t, refuses(yes), yes)
	}
}
